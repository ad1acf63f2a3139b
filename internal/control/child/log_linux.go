package child

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"reshard/internal/core/fault"
)

// logMark tells where a run begins in a log file that servers share over runs, and
// which file it was: a number of a file is given again once the file is gone, so
// its birth, and how it begins and ends, are kept too.
type logMark struct {
	Inode   uint64 `json:"inode"`
	Born    int64  `json:"born"` // nanoseconds; 0 where the file system does not tell
	Size    int64  `json:"size"`
	Changed int64  `json:"changed,omitempty"` // nanoseconds; 0: a build before did not note it
	Head    []byte `json:"head"`              // at most logHead bytes
	Tail    []byte `json:"tail,omitempty"`    // likewise; none: a build before did not note it
}

const logHead = 512

// logStill is how long a log that was written to, and has the size that it had, has to stand still before it is
// taken for one that was begun anew and says the same again. A start script may only have touched it.
const logStill = 10 * time.Second

// markLog notes how the server's own log file stands before a run.
func (c *Child) markLog(run string) error {
	if c.spec.LogFile == "" {
		return nil
	}
	data, err := json.Marshal(c.lookAtLog(-1))
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

// lookAtLog tells how the server's own log stands; its tail is what stands before end, -1: at its end.
func (c *Child) lookAtLog(end int64) logMark {
	f, err := c.openLog()
	if err != nil {
		return logMark{}
	}
	defer f.Close() //nolint:errcheck // only read
	var st unix.Statx_t
	want := unix.STATX_INO | unix.STATX_SIZE | unix.STATX_BTIME | unix.STATX_MTIME
	if unix.Statx(int(f.Fd()), "", unix.AT_EMPTY_PATH, want, &st) != nil {
		return logMark{}
	}
	mark := logMark{Inode: st.Ino, Size: int64(st.Size), Changed: st.Mtime.Sec*1e9 + int64(st.Mtime.Nsec)}
	if st.Mask&unix.STATX_BTIME != 0 {
		mark.Born = st.Btime.Sec*1e9 + int64(st.Btime.Nsec)
	}
	part := func(from, to int64) []byte { // a file that shrinks meanwhile gives less
		buf := make([]byte, max(0, to-from))
		n, _ := f.ReadAt(buf, from)
		return buf[:n]
	}
	mark.Head = part(0, min(logHead, mark.Size))
	if end < 0 || end > mark.Size {
		end = mark.Size
	}
	mark.Tail = part(max(0, end-logHead), end)
	return mark
}

// grown reports whether a file is the one that was marked, with more in it; its tail is what stands before m.Size.
func (m logMark) grown(now logMark) bool {
	same := now.Inode == m.Inode && now.Born == m.Born && now.Size >= m.Size && bytes.HasPrefix(now.Head, m.Head) &&
		(len(m.Tail) == 0 || bytes.Equal(now.Tail, m.Tail))
	again := now.Size == m.Size && m.Size > 0 && m.Changed != 0 && now.Changed != m.Changed
	return same && (!again || time.Since(time.Unix(0, now.Changed)) < logStill)
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

// span gives where a run begins in its log, and where it ends: -1, nowhere yet. ok is false when what it had written
// is gone. A server that begins its log anew (another file, or a shorter one) begins at 0.
func (c *Child) span(run string) (from, to int64, ok bool) {
	if c.spec.LogFile == "" {
		return 0, -1, true
	}
	mark, known := c.stood(run)
	next := c.after(run)
	if _, err := os.Stat(c.runFile(run, ".exit")); next != "" && err == nil { // what stands in it since is another's
		end, _ := c.stood(next)
		if end.Size == 0 || !end.grown(c.lookAtLog(end.Size)) {
			return 0, 0, false
		}
		if now := c.lookAtLog(mark.Size); known && mark.Size <= end.Size && mark.grown(now) {
			from = mark.Size
		}
		return from, end.Size, true
	}
	now := c.lookAtLog(mark.Size)
	switch {
	case !known:
	case mark.grown(now):
		return mark.Size, -1, true
	case now.Inode != 0 && now.Size < mark.Size: // once it has grown again, that would not be seen any more
		if data, err := json.Marshal(logMark{Inode: now.Inode, Born: now.Born}); err == nil {
			_ = os.WriteFile(c.runFile(run, ".from"), data, 0o600) // else it is seen again
		}
	}
	return 0, -1, true
}

// stood gives how the log stood before a run.
func (c *Child) stood(run string) (mark logMark, ok bool) {
	data, err := os.ReadFile(c.runFile(run, ".from"))
	if err != nil {
		data, err = os.ReadFile(c.runFile(run, ".log.from")) // as builds before named it
	}
	return mark, err == nil && json.Unmarshal(data, &mark) == nil
}

// after gives the run that was begun next after one, "" when it is the last. Runs are named after the time.
func (c *Child) after(run string) (next string) {
	entries, err := os.ReadDir(filepath.Dir(c.runFile(run, ".from")))
	if err != nil {
		return ""
	}
	for _, e := range entries {
		name, isMark := strings.CutSuffix(e.Name(), ".from")
		if name = strings.TrimSuffix(name, ".log"); isMark && name > run && (next == "" || name < next) {
			next = name
		}
	}
	return next
}
