package child

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"

	"golang.org/x/sys/unix"

	"reshard/internal/core/fault"
)

// logMark tells where a run begins in a log file that servers share over runs, and
// which file it was: a number of a file is given again once the file is gone, so
// its birth and how it begins are kept too.
type logMark struct {
	Inode uint64 `json:"inode"`
	Born  int64  `json:"born"` // nanoseconds; 0 where the file system does not tell
	Size  int64  `json:"size"`
	Head  []byte `json:"head"` // at most logHead bytes
}

const logHead = 512

// markLog notes how the server's own log file stands before a run.
func (c *Child) markLog(run string) error {
	if c.spec.LogFile == "" {
		return nil
	}
	data, err := json.Marshal(c.lookAtLog())
	if err != nil {
		return err
	}
	return os.WriteFile(c.runFile(run, ".from"), data, 0o600)
}

// openLog opens the log that the server writes itself: a regular file inside its folder. What
// is a link out of the folder, or a pipe, is whatever somebody has put there: it is neither
// followed nor waited for.
func (c *Child) openLog() (*os.File, error) {
	root, err := os.OpenRoot(c.spec.Command.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close() //nolint:errcheck // only a handle
	f, err := root.OpenFile(c.spec.LogFile, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fault.New(fault.Invalid, "read", c.spec.LogFile, "it is no regular file")
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (c *Child) lookAtLog() logMark {
	f, err := c.openLog()
	if err != nil {
		return logMark{}
	}
	defer f.Close() //nolint:errcheck // only read
	var st unix.Statx_t
	if unix.Statx(int(f.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_INO|unix.STATX_SIZE|unix.STATX_BTIME, &st) != nil {
		return logMark{}
	}
	mark := logMark{Inode: st.Ino, Size: int64(st.Size)}
	if st.Mask&unix.STATX_BTIME != 0 {
		mark.Born = st.Btime.Sec*1e9 + int64(st.Btime.Nsec)
	}
	head := make([]byte, min(logHead, mark.Size))
	n, _ := f.ReadAt(head, 0) // a file that shrinks meanwhile has a shorter head
	mark.Head = head[:n]
	return mark
}

// grown reports whether a file is the one that was marked, with more in it.
func (m logMark) grown(now logMark) bool {
	return now.Inode == m.Inode && now.Born == m.Born && now.Size >= m.Size && bytes.HasPrefix(now.Head, m.Head)
}

// openRunLog opens the file that holds a run's log.
func (c *Child) openRunLog(run string) (*os.File, error) {
	if c.spec.LogFile != "" {
		return c.openLog()
	}
	return os.Open(c.runFile(run, ".log"))
}

// leastRoom is how much room a log needs to be written on, in bytes.
const leastRoom = 64 << 10

// Deaf implements control.Hearer.
func (c *Child) Deaf(context.Context) error {
	dir, whose := c.spec.State, "the service's data folder"
	if c.spec.LogFile != "" {
		dir, whose = c.spec.Command.Dir, "its folder"
	}
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil || st.Bavail*uint64(st.Bsize) >= leastRoom {
		return nil //nolint:nilerr // then nothing says that it cannot be heard
	}
	return fault.New(fault.StateUnknown, "hear", c.spec.Command.Dir,
		"it runs, and whether it is ready cannot be heard: no room is left for its log on the disk of %s", whose).
		With("Free space there.")
}

// mostPrinted is how much of the end of what a run has printed is told, in bytes.
const mostPrinted = 16 << 10

// Printed implements control.Printer: a server that writes a log of its own may say on its output why it does not
// start.
func (c *Child) Printed(_ context.Context, run string) (string, error) {
	if c.spec.LogFile == "" {
		return "", nil // that is its log
	}
	f, err := os.Open(c.runFile(run, ".log"))
	if err != nil {
		return "", err
	}
	defer f.Close() //nolint:errcheck // only read
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	buf := make([]byte, min(mostPrinted, info.Size()))
	n, err := f.ReadAt(buf, info.Size()-int64(len(buf)))
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return string(buf[:n]), err
}

// runBegins gives where a run begins in its log. A server that begins its log anew (another
// file, or a shorter one) begins at 0.
func (c *Child) runBegins(run string) int64 {
	if c.spec.LogFile == "" {
		return 0
	}
	var mark logMark
	data, err := os.ReadFile(c.runFile(run, ".from"))
	if err != nil {
		data, err = os.ReadFile(c.runFile(run, ".log.from")) // as builds before named it
	}
	if err != nil || json.Unmarshal(data, &mark) != nil {
		return 0
	}
	if mark.grown(c.lookAtLog()) {
		return mark.Size
	}
	return 0
}
