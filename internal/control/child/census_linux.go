package child

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// Processes looks at the processes of a machine, for all its servers. It is safe for concurrent use.
//
// What one look finds is for every server that asked before the look began, and for none that asked after: whether
// somebody else works in a folder is asked before files are moved, and an answer from before the question would be
// worth nothing.
type Processes struct {
	proc  procfs
	looks shared[[]resident]
	read  *reader          // of the look under way, and there is one at a time
	known map[int]resident // by number, likewise
	most  int              // how many of the known have a file kept open
}

// Machine looks at the processes of the machine that this program runs on.
var Machine = sync.OnceValue(func() *Processes {
	p := NewProcesses("/proc")
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) == nil {
		p.most = int(min(limit.Cur/4, mostKept))
	}
	return p
})

// mostKept bounds how many files are kept open to look at known processes again with one call instead of three.
const mostKept = 16_384

// NewProcesses looks at the processes that the kernel, or something in its place, tells of in a folder (proc(5)).
func NewProcesses(proc string) *Processes {
	p := procfs(proc)
	return &Processes{proc: p, read: &reader{proc: p, buf: make([]byte, 64<<10)}}
}

// shared answers a question for several who ask at the same time.
type shared[T any] struct {
	mu   sync.Mutex
	last *answer[T] // that was begun last, or waits for the one before to end
}

type answer[T any] struct {
	begun, done chan struct{}
	value       T
	err         error
}

// ask joins an answer that has not begun, or has one begun once the one under way has ended. The context bounds the
// waiting only.
func (s *shared[T]) ask(ctx context.Context, find func() (T, error)) (value T, err error) {
	s.mu.Lock()
	a := s.last
	if a == nil || isClosed(a.begun) {
		before := a
		a = &answer[T]{begun: make(chan struct{}), done: make(chan struct{})}
		s.last = a
		go func() {
			if before != nil {
				<-before.done
			}
			s.mu.Lock()
			close(a.begun)
			s.mu.Unlock()
			a.value, a.err = find()
			close(a.done)
		}()
	}
	s.mu.Unlock()
	select {
	case <-a.done:
		return a.value, a.err
	case <-ctx.Done():
		return value, ctx.Err()
	}
}

func isClosed(c chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

// resident is a process with what it has to do with servers and folders.
type resident struct {
	pid    int
	hidden bool  // it may not be looked into
	unread error // its environment cannot be read, and nobody knows why

	cwd  string
	args []string // none: a thread of the kernel, or one that is ending
	open []handle
	// What its environment says: the values of markName, formerName and runName.
	server, former, run string

	// ran is how long and how often its one thread had run, as the kernel tells, when all this was read; "" when it has
	// several threads, or was running then. kept is the open file that tells it, 0 for none.
	ran  string
	kept int
}

// handle is a file that a process has open.
type handle struct{ number, target string }

// Look looks at all processes but its own.
//
// Of a process with one thread that has not run since an earlier look (proc(5), /proc/PID/schedstat) what was read then
// is used: only by running can it open a file, enter a folder or become another program. Where its folder and its files
// are is read each time, since somebody else may have moved them. On a machine with thousands of processes nearly all
// of them sleep.
func (p *Processes) Look(ctx context.Context) ([]resident, error) {
	return p.looks.ask(ctx, func() ([]resident, error) {
		all, err := p.proc.all()
		if err != nil {
			return nil, err
		}
		r := p.read
		out, known := make([]resident, 0, len(all)), make(map[int]resident, len(all))
		kept := 0
		for _, pid := range all {
			if pid == os.Getpid() {
				continue
			}
			one, there := p.known[pid]
			if there = there && string(r.ran(pid, one.kept)) == one.ran && r.relink(&one); there {
				delete(p.known, pid)
			} else {
				ran := r.slept(pid)
				if one, err = r.resident(pid); err != nil {
					continue // it has gone
				}
				one.ran = ran
			}
			if one.ran != "" {
				if one.kept == 0 && kept < p.most {
					one.kept = r.keep(pid)
				}
				kept += min(one.kept, 1)
				known[pid] = one
			}
			out = append(out, one)
		}
		for _, one := range p.known { // what has gone, has run or has another number's file
			if one.kept != 0 {
				_ = unix.Close(one.kept) // only read
			}
		}
		p.known = known
		return out, nil
	})
}

// reader reads what the kernel tells of many processes, with few calls and one buffer. It is for one goroutine.
type reader struct {
	proc procfs
	buf  []byte
}

func (r *reader) path(pid int, name string) string {
	return string(r.proc) + "/" + strconv.Itoa(pid) + "/" + name
}

// link reads a link; what it gives is good until the next call.
func (r *reader) link(dir int, name string) ([]byte, error) {
	n, err := unix.Readlinkat(dir, name, r.buf)
	return r.buf[:max(n, 0)], err
}

// file reads a file; what it gives is good until the next call.
func (r *reader) file(name string) ([]byte, error) {
	fd, err := unix.Open(name, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd) //nolint:errcheck // only read
	for at := 0; ; {
		if at == len(r.buf) {
			r.buf = append(r.buf, make([]byte, len(r.buf))...)
		}
		n, err := unix.Read(fd, r.buf[at:])
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return r.buf[:at], err
		}
		at += n
	}
}

// relink reads again where the folder and the files of a process are; false when that cannot be read any more. What
// earlier looks have handed out stays as it is.
func (r *reader) relink(one *resident) bool {
	if one.hidden || len(one.args) == 0 {
		return true
	}
	cwd, err := r.link(unix.AT_FDCWD, r.path(one.pid, "cwd"))
	if err != nil {
		return false
	}
	if string(cwd) != one.cwd {
		one.cwd = string(cwd)
	}
	shared := true
	for i, h := range one.open {
		target, err := r.link(unix.AT_FDCWD, r.path(one.pid, "fd/"+h.number))
		if err != nil {
			return false
		}
		if string(target) == h.target {
			continue
		}
		if shared {
			one.open, shared = slices.Clone(one.open), false
		}
		one.open[i].target = string(target)
	}
	return true
}

// slept tells how long and how often the one thread of a process has run that is not running now; "" for any other.
// What a thread has run in the time slice that it is in may not have been added yet, so it has to be seen asleep:
// between two readings that agree.
func (r *reader) slept(pid int) string {
	ran := string(r.ran(pid, 0))
	const threads = 17 // of the fields from the state on
	fields, err := r.proc.stat(pid)
	if err != nil || fields[0] == "R" || fields[threads] != "1" || string(r.ran(pid, 0)) != ran {
		return ""
	}
	return ran
}

// keep opens the file that tells how much a process has run; 0 when it cannot.
func (r *reader) keep(pid int) int {
	fd, err := unix.Open(r.path(pid, "schedstat"), unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0
	}
	return fd
}

// ran is what the kernel tells of how long and how often the first thread of a process has run, nothing if it cannot be
// read: out of a file that was kept, or 0. It comes in one piece, and is good until the next call.
func (r *reader) ran(pid, kept int) []byte {
	fd := kept
	if fd == 0 {
		if fd = r.keep(pid); fd == 0 {
			return nil
		}
		defer unix.Close(fd) //nolint:errcheck // only read
	}
	n, err := unix.Pread(fd, r.buf, 0)
	if err != nil {
		return nil
	}
	return r.buf[:n]
}

// resident looks at one process. An error means that it has gone.
func (r *reader) resident(pid int) (out resident, err error) {
	out.pid = pid
	env, err := r.file(r.path(pid, "environ"))
	switch {
	case gone(err):
		return out, err
	case errors.Is(err, fs.ErrPermission): // what another account has started is none of the service's
	case err != nil:
		out.unread = err
	case bytes.Contains(env, []byte(markPrefix)):
		out.readMarks(env)
	}
	cwd, err := r.link(unix.AT_FDCWD, r.path(pid, "cwd"))
	if err == nil {
		out.cwd = string(cwd)
		var line []byte
		if line, err = r.file(r.path(pid, "cmdline")); err == nil && len(line) > 0 {
			out.args = strings.Split(string(bytes.TrimSuffix(line, []byte{0})), "\x00")
			out.open, err = r.handles(pid)
		}
	}
	if errors.Is(err, fs.ErrPermission) {
		out.hidden, err = true, nil
	}
	return out, err
}

func (r *resident) readMarks(env []byte) {
	for kv := range bytes.SplitSeq(env, []byte{0}) {
		name, value, _ := strings.Cut(string(kv), "=")
		switch name {
		case markName:
			r.server = value
		case formerName:
			r.former = value
		case runName:
			r.run = value
		}
	}
}

// handles lists the files that a process has open, without terminals, pipes and the like.
func (r *reader) handles(pid int) (out []handle, err error) {
	dir, err := unix.Open(r.path(pid, "fd"), unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(dir) //nolint:errcheck // only read
	var names []string
	for {
		n, err := unix.Getdents(dir, r.buf)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			break
		}
		_, _, names = unix.ParseDirent(r.buf[:n], -1, names)
	}
	for _, name := range names {
		target, err := r.link(dir, name)
		if err != nil || len(target) == 0 || target[0] != '/' || bytes.HasPrefix(target, []byte("/dev/pts/")) ||
			string(target) == os.DevNull {
			continue
		}
		out = append(out, handle{name, string(target)})
	}
	return out, nil
}
