// Package testdir gives tests folders that other accounts can reach, and checks that a run of
// tests leaves the machine's own folders alone.
//
// PostgreSQL refuses to run as root, and some games of the tests run as another account. Both
// must get through every folder above theirs. A test may open only folders that it made itself:
// a test that set the mode of /dev/shm to 0755 broke PostgreSQL on the whole machine.
package testdir

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// New makes a temporary folder that other accounts can reach. Its caller removes it.
func New(pattern string) (string, error) {
	dir, err := os.MkdirTemp("", pattern)
	if err != nil {
		return "", err
	}
	return dir, Open(dir)
}

// Open lets other accounts reach a folder below os.TempDir. It changes that folder and those
// between it and os.TempDir, never os.TempDir itself or anything above: where these are closed,
// the error names the folder and says what to do.
func Open(dir string) error {
	root, err := filepath.EvalSymlinks(os.TempDir())
	if err != nil {
		return err
	}
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(real, root+"/") {
		return fmt.Errorf("%s is not below %s: a test opens only folders that it made", dir, root)
	}
	for ; real != root; real = filepath.Dir(real) {
		if err := os.Chmod(real, 0o755); err != nil {
			return err
		}
	}
	for ; ; root = filepath.Dir(root) {
		info, err := os.Stat(root)
		if err != nil {
			return err
		}
		if info.Mode()&0o001 == 0 {
			return fmt.Errorf("other accounts cannot reach %s: its mode is %04o. Set TMPDIR to a folder they can "+
				"reach, such as /tmp", root, info.Mode().Perm())
		}
		if root == "/" {
			return nil
		}
	}
}

// owned are the machine's own files and folders that no test may change.
func owned() []string {
	out := []string{"/", "/tmp", "/var/tmp", "/dev", "/dev/shm", "/etc", "/etc/passwd", "/etc/group", "/etc/shadow",
		os.TempDir()}
	if home, err := os.UserHomeDir(); err == nil {
		out = append(out, home)
	}
	return out
}

// Watch notes mode and owner of the machine's own folders. The function that it gives compares
// them with what is there then, and names each that differs.
func Watch() (check func() error) { return watch(owned()) }

func watch(names []string) func() error {
	before := map[string]string{}
	for _, name := range names {
		before[name] = stands(name)
	}
	return func() (err error) {
		for _, name := range names {
			if now := stands(name); now != before[name] {
				err = errors.Join(err, fmt.Errorf("%s was %s before the tests and is %s now", name, before[name], now))
			}
		}
		return err
	}
}

func stands(name string) string {
	info, err := os.Stat(name)
	if err != nil {
		return "missing"
	}
	st := info.Sys().(*syscall.Stat_t)
	return fmt.Sprintf("mode %04o, owner %d:%d", st.Mode&0o7777, st.Uid, st.Gid)
}

// SharedMemory reports a /dev/shm that other accounts cannot write to. PostgreSQL runs as its own
// account and keeps shared memory there.
func SharedMemory() error {
	info, err := os.Stat("/dev/shm")
	if err != nil {
		return nil //nolint:nilerr // then PostgreSQL does not use it
	}
	if mode := info.Sys().(*syscall.Stat_t).Mode & 0o7777; mode != 0o1777 {
		return fmt.Errorf("/dev/shm has mode %04o, not 1777: PostgreSQL cannot share memory there. "+
			"As root, run: chmod 1777 /dev/shm", mode)
	}
	return nil
}
