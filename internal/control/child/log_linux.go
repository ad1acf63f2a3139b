package child

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
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

// logFile is the server's own log, "" when it has none.
func (c *Child) logFile() string {
	if c.spec.LogFile == "" {
		return ""
	}
	return filepath.Join(c.spec.Command.Dir, c.spec.LogFile)
}

// markLog notes how the server's own log file stands before a run.
func (c *Child) markLog(run string) error {
	if c.spec.LogFile == "" {
		return nil
	}
	data, err := json.Marshal(lookAtLog(c.logFile()))
	if err != nil {
		return err
	}
	return os.WriteFile(c.runFile(run, ".from"), data, 0o600)
}

func lookAtLog(name string) logMark {
	var st unix.Statx_t
	if unix.Statx(unix.AT_FDCWD, name, 0, unix.STATX_INO|unix.STATX_SIZE|unix.STATX_BTIME, &st) != nil {
		return logMark{}
	}
	mark := logMark{Inode: st.Ino, Size: int64(st.Size)}
	if st.Mask&unix.STATX_BTIME != 0 {
		mark.Born = st.Btime.Sec*1e9 + int64(st.Btime.Nsec)
	}
	if f, err := os.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0); err == nil {
		head := make([]byte, min(logHead, mark.Size))
		n, _ := f.ReadAt(head, 0) // a file that shrinks meanwhile has a shorter head
		mark.Head = head[:n]
		_ = f.Close() // only read
	}
	return mark
}

// grown reports whether a file is the one that was marked, with more in it.
func (m logMark) grown(now logMark) bool {
	return now.Inode == m.Inode && now.Born == m.Born && now.Size >= m.Size && bytes.HasPrefix(now.Head, m.Head)
}

// runLog gives the file that holds a run's log and where the run begins in it. A
// server that begins its log anew (another file, or a shorter one) begins at 0.
func (c *Child) runLog(run string) (name string, base int64) {
	own := c.logFile()
	if own == "" {
		return c.runFile(run, ".log"), 0
	}
	var mark logMark
	data, err := os.ReadFile(c.runFile(run, ".from"))
	if err != nil {
		data, err = os.ReadFile(c.runFile(run, ".log.from")) // as builds before named it
	}
	if err != nil || json.Unmarshal(data, &mark) != nil {
		return own, 0
	}
	if mark.grown(lookAtLog(own)) {
		return own, mark.Size
	}
	return own, 0
}
