package local

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"github.com/fsnotify/fsnotify"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
)

// shareOfWatches is the part of the watches of this account that are used: others need
// some, too.
const shareOfWatches = 4

// watcher is one connection to the kernel for all folders that are watched: an account has
// few connections, and many watches (inotify(7)).
type watcher struct {
	mu      sync.Mutex
	notify  *fsnotify.Watcher
	err     error // why there is none
	most    int
	watched map[string]map[*watch]bool // by folder
}

type watch struct{ changed func() }

var shared = sync.OnceValue(func() *watcher {
	w := &watcher{watched: map[string]map[*watch]bool{}, most: mostWatches("/proc/sys/fs/inotify/max_user_watches")}
	if w.notify, w.err = fsnotify.NewWatcher(); w.err == nil {
		go w.tell()
	}
	return w
})

// mostWatches is how many folders may be watched; a few where the kernel does not say.
func mostWatches(limit string) int {
	data, err := os.ReadFile(limit)
	n, perr := strconv.Atoi(strings.TrimSpace(string(data)))
	if err != nil || perr != nil {
		return 1024
	}
	return n / shareOfWatches
}

func (w *watcher) tell() {
	for {
		select {
		case e, open := <-w.notify.Events:
			if !open {
				return
			}
			if e.Op != fsnotify.Chmod {
				w.changed(filepath.Dir(e.Name))
				w.changed(e.Name) // of a folder that is gone itself
			}
		case _, open := <-w.notify.Errors: // an overflow: anything may have changed
			if !open {
				return
			}
			w.changedAll()
		}
	}
}

func (w *watcher) changed(folder string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for one := range w.watched[folder] {
		one.changed()
	}
}

func (w *watcher) changedAll() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, all := range w.watched {
		for one := range all {
			one.changed()
		}
	}
}

func (w *watcher) add(folder string, one *watch) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case w.err != nil:
		return fault.New(fault.Unsupported, "watch", folder, "the system has no room for it: %v", w.err)
	case w.watched[folder] == nil && len(w.watched) >= w.most:
		return fault.New(fault.Unsupported, "watch", folder, "%d folders are watched already", len(w.watched))
	case w.watched[folder] == nil:
		err := w.notify.Add(folder)
		if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EMFILE) {
			return fault.New(fault.Unsupported, "watch", folder, "the system has no room for it: %v", err)
		}
		if err != nil {
			return class(err)
		}
		w.watched[folder] = map[*watch]bool{}
	}
	w.watched[folder][one] = true
	return nil
}

func (w *watcher) remove(folder string, one *watch) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.watched[folder], one)
	if all, ok := w.watched[folder]; ok && len(all) == 0 {
		delete(w.watched, folder)
		_ = w.notify.Remove(folder) // it may be gone, and its watch with it
	}
}

// Watch implements hostfs.Notifier.
func (f *Files) Watch(ctx context.Context, folders []string, changed func()) (cancel func(), err error) {
	w, one := shared(), &watch{changed: changed}
	var added []string
	cancel = sync.OnceFunc(func() {
		for _, folder := range added {
			w.remove(folder, one)
		}
	})
	for _, name := range folders {
		info, err := f.Stat(ctx, name)
		if errors.Is(err, os.ErrNotExist) {
			continue // it is told when it is made, by the folder that it is made in
		}
		if err == nil && !info.IsDir() {
			err = fault.New(fault.Invalid, "watch", name, "it is no folder")
		}
		folder := filepath.Join(f.root.Name(), filepath.FromSlash(filename.Decode(name)))
		if err == nil {
			err = w.add(folder, one)
		}
		if err != nil {
			cancel()
			return nil, err
		}
		added = append(added, folder)
	}
	return cancel, nil
}
