// Command testrun runs tests. Their temporary files are in memory where there is enough of it, they share one
// PostgreSQL, and it fails when the run changed mode or owner of one of the machine's own folders.
//
// Usage: go run ./scripts/testrun [-alone] COMMAND ...
//
// With -alone there is no PostgreSQL: what it runs starts its own.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"syscall"

	"reshard/internal/records/recordstest"
	"reshard/internal/testdir"
)

func main() {
	args := os.Args[1:]
	alone := len(args) > 0 && args[0] == "-alone"
	if alone {
		args = args[1:]
	}
	if len(args) == 0 {
		fmt.Fprintln(os.Stderr, "usage: testrun [-alone] COMMAND ...")
		os.Exit(2)
	}
	err := run(args, alone)
	if failed, only := err.(*exec.ExitError); only { //nolint:errorlint // its own output tells
		os.Exit(max(1, failed.ExitCode()))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "tests:", err)
		os.Exit(1)
	}
}

// enough is how much memory temporary files may take, in bytes. What is tested does not depend on the disk, and is
// synced thousands of times.
const enough = 8 << 30

func run(args []string, alone bool) (err error) {
	if err := testdir.SharedMemory(); err != nil {
		return err
	}
	check := testdir.Watch()
	defer func() {
		if cerr := check(); cerr != nil {
			err = errors.Join(err, fmt.Errorf("the tests changed what is not theirs: %w", cerr))
		}
	}()
	var disk syscall.Statfs_t
	if syscall.Statfs("/dev/shm", &disk) == nil && disk.Bavail*uint64(disk.Bsize) >= enough {
		if err := os.Setenv("TMPDIR", "/dev/shm"); err != nil {
			return err
		}
	}
	temp, err := testdir.New("reshard-run-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(temp)) }()
	if err := os.Setenv("TMPDIR", temp); err != nil {
		return err
	}
	if !alone {
		stop, err := shared(filepath.Join(temp, "postgres"))
		if err != nil {
			return err
		}
		defer stop()
	}
	// Ctrl-C reaches the command as well; this waits for its end, to tidy up after it.
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() {
		for s := range signals {
			if s == syscall.SIGTERM {
				_ = cmd.Process.Signal(s)
			}
		}
	}()
	return cmd.Wait()
}

// shared starts the PostgreSQL of the run and tells the tests its address.
func shared(dir string) (stop func(), err error) {
	admin, end, err := recordstest.Run(context.Background(), dir)
	if err == nil {
		err = os.Setenv(recordstest.Shared, admin)
	}
	if err != nil {
		return nil, err
	}
	return func() { _ = end() }, nil
}
