package sftp

import "sync"

// failure keeps the first error of those who work at once.
type failure struct {
	mu  sync.Mutex
	err error
}

func (f *failure) set(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.err == nil {
		f.err = err
	}
}

func (f *failure) get() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.err
}
