package service

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"reshard/internal/core/fault"
)

// folderLock is the lock of the data folder. The system takes it from a process that
// ends, however that ends: that it is free shows that no service of this folder lives.
type folderLock struct {
	file string
	mu   sync.Mutex
	held *os.File
}

// alone takes the lock, if it is free, and reports whether this service holds it.
func (l *folderLock) alone() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held != nil {
		return true
	}
	f, err := os.OpenFile(l.file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return false
	}
	if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		_ = f.Close() // another service holds it
		return false
	}
	l.held = f
	return true
}

func (l *folderLock) release() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held == nil {
		return nil
	}
	err := l.held.Close()
	l.held = nil
	return err
}

// identityOf is what a data folder is known by, wherever it stands: a name that is drawn
// when a service first works in it. Game servers carry it.
func identityOf(data string) (string, error) {
	file := filepath.Join(data, "identity")
	known, err := os.ReadFile(file)
	if err == nil && len(known) >= 16 {
		return string(known), nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", fault.Wrap(fault.Refused, "read", file, err)
	}
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	drawn := hex.EncodeToString(b[:])
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) { // another service has drawn one at this moment, or a crash left it empty
		if err := os.WriteFile(file+".new", []byte(drawn), 0o600); err != nil {
			return "", fault.Wrap(fault.Refused, "write", file, err)
		}
		if again, err := os.ReadFile(file); err == nil && len(again) >= 16 {
			return string(again), os.Remove(file + ".new")
		}
		return drawn, fault.Wrap(fault.Refused, "write", file, os.Rename(file+".new", file))
	}
	if err != nil {
		return "", fault.Wrap(fault.Refused, "write", file, err)
	}
	_, err = f.WriteString(drawn)
	return drawn, fault.Wrap(fault.Internal, "write", file, errors.Join(err, f.Sync(), f.Close()))
}
