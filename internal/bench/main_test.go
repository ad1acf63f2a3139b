package bench

import (
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"reshard/internal/testdir"
)

// tiny shrinks every benchmark to a trial of seconds and kilobytes, which shows only that it still works.
var tiny = os.Getenv("RESHARD_BENCH") == "tiny"

// size is how large something is: in a measurement, and in a trial.
func size(full, trial int) int {
	if tiny {
		return trial
	}
	return full
}

// rounds is how often each measurement is repeated.
var rounds = size(3, 1)

// programs builds the service and the stand-ins once and gives their folder.
var programs = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(base, "bin")
	out, err := exec.Command("go", "build", "-o", dir+"/", "reshard/cmd/...").CombinedOutput()
	if err != nil {
		log.Printf("%s", out)
	}
	return dir, err
})

// base is a folder for what all benchmarks share.
var base string

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	alone := testdir.Watch()
	var err error
	if base, err = testdir.New("reshard-bench-"); err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(base) //nolint:errcheck // a temporary folder
	code := m.Run()
	if err := alone(); err != nil {
		log.Print(err)
		return 1
	}
	return code
}
