package fleet

import (
	"context"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/host"
	"reshard/internal/observe"
	"reshard/internal/records"
)

// eyes look for signs of a server that only people can start and stop: in its files, and at its port.
type eyes struct {
	fl      *Fleet
	rec     records.Server
	seen    *observe.Observer
	host    host.Elsewhere // nil: the network tells nothing
	logFile string         // from the root; "" when none can be read

	mu     sync.Mutex // held for moments only
	latest []byte
	// writing is held by the one who records latest.
	writing sync.Mutex
}

// newEyes gives eyes for a server; absolute names of a log are outside of what its files show.
func (fl *Fleet) newEyes(rec records.Server, seen *observe.Observer, h *openHost) *eyes {
	e := &eyes{fl: fl, rec: rec, seen: seen, latest: rec.Asked}
	e.host, _ = h.Driver.(host.Elsewhere)
	if file := logFile(rec, seen.Profile); fs.ValidPath(file) {
		e.logFile = file
	}
	return e
}

// Signs implements control.Eyes.
func (e *eyes) Signs(ctx context.Context, like control.Signs) (control.Signs, error) {
	files, settled := e.seen.Files.Observe(ctx)
	out := control.Signs{Log: -1, World: like.World, Port: like.Port, Looked: like.Looked, Around: like.Around}
	if !like.Looked && like.Port == 0 {
		heads, err := server.ReadHeads(files, e.seen.Profile, e.seen.Machine)
		if err != nil {
			return out, settled(err)
		}
		if n, err := strconv.ParseUint(portOf(e.seen, &heads), 10, 16); err == nil {
			out.Port = int(n)
		}
		if w := heads.State; w.Active != "" && e.seen.Profile.World.Shape == game.ShapeFolder {
			out.Looked, out.World = len(e.seen.Profile.World.Locks) > 0, path.Join(w.WorldsFolder, w.Active)
		}
	}
	var all sync.WaitGroup // each costs some round trips
	all.Go(func() { out.Port, out.Listens = e.listens(ctx, out.Port) })
	all.Go(func() { out.Log = e.logSize(files) })
	if out.World != "" {
		out.Locked = out.Looked && e.locked(files, out.World)
		out.Written = lastWritten(files, out.World)
	}
	if out.Around && out.World != "" {
		out.Near = e.locksNear(files, out.World)
	}
	all.Wait()
	if err := settled(nil); err != nil {
		return control.Signs{Log: -1}, err
	}
	return out, nil
}

// listens gives the port again when it can be told whether something takes connections there, else 0.
func (e *eyes) listens(ctx context.Context, port int) (known int, listens bool) {
	if port == 0 || e.host == nil {
		return 0, false
	}
	listens, told := e.host.Listens(ctx, uint16(port))
	if !told {
		return 0, false
	}
	return port, listens
}

// logSize is the size of the log file; 0 where the next run begins it, -1 where there is none to read.
func (e *eyes) logSize(files fs.FS) int64 {
	if e.logFile == "" {
		return -1
	}
	info, err := fs.Stat(files, e.logFile)
	if err != nil {
		return 0
	}
	return info.Size()
}

// lastWritten is the latest time of a file right in a world's folder, the listing of which tells of its lock too;
// zero when that cannot be told.
func lastWritten(files fs.FS, world string) (last time.Time) {
	entries, err := fs.ReadDir(files, world)
	if err != nil {
		return last // it is looked again
	}
	for _, entry := range entries {
		if info, err := entry.Info(); err == nil && info.Mode().IsRegular() && info.ModTime().After(last) {
			last = info.ModTime()
		}
	}
	return last
}

// locked reports whether the game's lock is in a world.
func (e *eyes) locked(files fs.FS, world string) bool {
	return slices.ContainsFunc(e.seen.Profile.World.Locks, func(pattern string) bool {
		found, _ := fs.Glob(files, path.Join(world, pattern)) // Lint has checked the pattern
		return len(found) > 0
	})
}

// mostNear bounds the worlds in which a lock is looked for beside the active one.
const mostNear = 50

// locksNear gives the game's locks in the worlds beside one, with their times.
func (e *eyes) locksNear(files fs.FS, active string) map[string]time.Time {
	out := map[string]time.Time{}
	entries, err := fs.ReadDir(files, path.Dir(active))
	if err != nil {
		return out // it is looked again
	}
	looked := 0
	for _, entry := range entries {
		world := path.Join(path.Dir(active), entry.Name())
		if world == active || !entry.IsDir() || !server.TakesName(e.seen.Profile, entry, "") || looked == mostNear {
			continue
		}
		looked++
		for _, pattern := range e.seen.Profile.World.Locks {
			found, _ := fs.Glob(files, path.Join(world, pattern)) // Lint has checked the pattern
			for _, file := range found {
				if info, err := fs.Stat(files, file); err == nil {
					out[file] = info.ModTime()
				}
			}
		}
	}
	return out
}

// ReadLog implements control.Eyes.
func (e *eyes) ReadLog(ctx context.Context, p []byte, offset int64) (int, error) {
	if e.logFile == "" {
		return 0, ctx.Err()
	}
	f, err := e.seen.Files.At(ctx).Open(e.logFile)
	if err != nil {
		return 0, err
	}
	defer f.Close() //nolint:errcheck // only read
	info, err := f.Stat()
	if err != nil || info.Size() <= offset {
		return 0, err
	}
	p = p[:min(int64(len(p)), info.Size()-offset)]
	return f.(interface {
		ReadAt(p []byte, at int64) (int, error)
	}).ReadAt(p, offset)
}

// Says implements control.Eyes.
func (e *eyes) Says(ctx context.Context, done control.Asked, from int64) bool {
	want := e.seen.Profile.Server.Console.Ready
	if done == control.AskedToStop {
		want = e.seen.Profile.Server.Console.Stop.Expect
	}
	var text strings.Builder
	buf := make([]byte, 32<<10)
	for text.Len() < 1<<20 {
		n, err := e.ReadLog(ctx, buf, from)
		if err != nil || n == 0 {
			break
		}
		text.Write(buf[:n])
		from += int64(n)
	}
	return slices.ContainsFunc(strings.Split(text.String(), "\n"), func(line string) bool {
		_, ok := want.Find(strings.TrimSpace(line))
		return ok
	})
}

// Kept implements control.Eyes.
func (e *eyes) Kept() []byte { return e.rec.Asked }

// Keep implements control.Eyes: what is kept last is what is recorded in the end.
func (e *eyes) Keep(raw []byte) (write func()) {
	e.fl.Poke(e.rec.Name) // what is known of it has changed
	e.mu.Lock()
	e.latest = raw
	e.mu.Unlock()
	return e.write
}

func (e *eyes) write() {
	e.writing.Lock()
	defer e.writing.Unlock()
	e.mu.Lock()
	now := e.latest
	e.mu.Unlock()
	ctx, done := context.WithTimeout(context.Background(), 10*time.Second)
	defer done()
	if err := e.fl.records.KeepAsked(ctx, e.rec.ID, now); err != nil {
		e.fl.log.Warn("what a person was asked to do is not recorded", "server", e.rec.Name, "error", err)
	}
}
