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
	// Whole before it has its name, and never over another: two services may begin at once.
	temp := file + "." + drawn
	if err := os.WriteFile(temp, []byte(drawn), 0o600); err != nil {
		return "", fault.Wrap(fault.Refused, "write", file, err)
	}
	err = os.Link(temp, file)
	if err = errors.Join(err, os.Remove(temp)); err != nil && !errors.Is(err, os.ErrExist) {
		return "", fault.Wrap(fault.Refused, "write", file, err)
	}
	known, err = os.ReadFile(file)
	if err == nil && len(known) < 16 {
		return "", fault.New(fault.Damaged, "read", file, "it does not hold the data folder's identity").
			With("Bring the file back from a copy of the data folder. When there is none, and all its servers are " +
				"stopped, remove it and begin with reshard serve --move-here.")
	}
	return string(known), fault.Wrap(fault.Refused, "read", file, err)
}
