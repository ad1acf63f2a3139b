// Package hostfs is a file tree on a host. An FS is a concrete type over a small
// Driver: path rules, limits of time, atomic writes, and what an error means stand here
// once; a driver (packages local and memory now) only does what it is told.
package hostfs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// Patience is how long one call of a driver may take, and how long reading or writing
// may stand still.
const Patience = 30 * time.Second

// FS is a file tree on a host. It is safe for concurrent use.
//
// Its errors are *fault.Error with the operation and the path. Code NotFound matches
// fs.ErrNotExist. After Unreachable, TooSlow or Interrupted what was asked for may have
// happened; fault.Passing tells which of them are worth trying again.
type FS struct {
	driver Driver
	name   string
	// Patience is the limit for one call; see the constant of that name.
	Patience time.Duration
	// May is asked right before anything is renamed or removed: a service that stood still may have lost its lease
	// since it began the act that this belongs to. nil: it always may.
	May func() error

	pages    map[string]Page // by name; see AddPage
	archives Archives        // nil: none; see AddArchives

	recall     sync.Mutex // held for moments only
	recalled   []string   // folders that the last observation has listed
	atomically *bool      // whether a rename replaces a file, once that is known
}

// New makes a place over a driver; name is used in messages.
func New(name string, d Driver) *FS { return &FS{driver: d, name: name, Patience: Patience} }

// String gives the place's name.
func (p *FS) String() string { return "place " + p.name }

// Driver gives what the place is made over: to make another place with the same.
func (p *FS) Driver() Driver { return p.driver }

// Capabilities says what the host can do.
func (p *FS) Capabilities(ctx context.Context) (capability.Set, error) {
	ctx, done := p.bounded(ctx)
	defer done()
	s, err := p.driver.Capabilities(ctx)
	s.UnpackFiles = p.archives != nil
	return s, p.wrap(ctx, "ask what can be done at", ".", err)
}

var errTooSlow = fault.New(fault.TooSlow, "", "", "the host did not answer in time")

// bounded gives a context for one call.
func (p *FS) bounded(ctx context.Context) (context.Context, func()) {
	return context.WithTimeoutCause(ctx, p.Patience, errTooSlow)
}

// rolling gives a context for a stream, which ends when touch has not been called for
// the place's patience.
func (p *FS) rolling(ctx context.Context) (rolled context.Context, touch, done func()) {
	return rollingFor(ctx, func() time.Duration { return p.Patience })
}

// rollingFor does so with a patience that may change.
func rollingFor(ctx context.Context, patience func() time.Duration) (rolled context.Context, touch, done func()) {
	rolled, cancel := context.WithCancelCause(ctx)
	timer := time.AfterFunc(patience(), func() { cancel(errTooSlow) })
	return rolled, func() { timer.Reset(patience()) }, func() { timer.Stop(); cancel(nil) }
}

// wrap gives a driver's error its class, operation and path: here, once.
func (p *FS) wrap(ctx context.Context, op, name string, err error) error {
	if err == nil {
		return nil
	}
	if cause := context.Cause(ctx); cause != nil && errors.Is(err, ctx.Err()) {
		err = cause // why it ended, not only that it did
	}
	return fault.Wrap(classOf(err), op, path.Join(p.name, name), err)
}

// classOf is the class of an error that carries none itself.
func classOf(err error) fault.Code {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fault.NotFound
	case errors.Is(err, fs.ErrExist):
		return fault.Exists
	case errors.Is(err, fs.ErrPermission):
		return fault.Refused
	}
	return fault.Internal
}

func check(op string, names ...string) error {
	for _, n := range names {
		if !fs.ValidPath(n) || strings.ContainsRune(n, 0) {
			return fault.New(fault.Invalid, op, n, "not a path below the root")
		}
	}
	return nil
}

// Stat looks at a name without following it, if it is a link.
func (p *FS) Stat(ctx context.Context, name string) (Info, error) {
	if err := check("look at", name); err != nil {
		return Info{}, err
	}
	if page, ok := p.pages[name]; ok {
		data, err := p.readPage(ctx, page, name)
		return infoOfPage(name, data), err
	}
	ctx, done := p.bounded(ctx)
	defer done()
	info, err := p.driver.Stat(ctx, name)
	return info, p.wrap(ctx, "look at", name, err)
}

// List gives all names in a folder, in order, or an error.
func (p *FS) List(ctx context.Context, name string) ([]fs.DirEntry, error) {
	if err := check("list", name); err != nil {
		return nil, err
	}
	ctx, done := p.bounded(ctx)
	defer done()
	entries, err := p.driver.List(ctx, name)
	if err == nil {
		err = plausible(name, entries)
	}
	if err != nil {
		return nil, p.wrap(ctx, "list", name, err)
	}
	return entries, nil
}

// longestPath is how long a path below a root may be, in bytes: PATH_MAX of Linux (limits.h).
const longestPath = 4096

// plausible is an error when a host lists what no folder has: names that lead elsewhere, or folders within folders
// without an end.
func plausible(folder string, entries []fs.DirEntry) error {
	for _, e := range entries {
		name := e.Name()
		switch {
		case name == "." || !fs.ValidPath(name) || strings.ContainsAny(name, "/\x00"):
			return fault.New(fault.Misbehaving, "", "", "it lists %q, which is not a valid name", name)
		case len(folder)+1+len(name) > longestPath:
			return fault.New(fault.Misbehaving, "", "", "it lists a path of more than %d bytes", longestPath)
		}
	}
	return nil
}

// Exists reports whether a name is there, as a file or a folder. That it is not is said
// only when the folder that would hold it was listed whole, or is itself shown in the
// same way not to be there: a host that loses an answer, or gives half a list, proves
// nothing by it.
func (p *FS) Exists(ctx context.Context, name string) (bool, error) {
	_, err := p.Stat(ctx, name)
	if err == nil || !errors.Is(err, fs.ErrNotExist) {
		return err == nil, err
	}
	if name == "." {
		return false, fault.New(fault.Unreachable, "look at", p.name, "its root is not there")
	}
	entries, lerr := p.List(ctx, path.Dir(name))
	switch {
	case errors.Is(lerr, fs.ErrNotExist), fault.CodeOf(lerr) == fault.Invalid:
		return p.absentAbove(ctx, path.Dir(name))
	case lerr != nil:
		return false, lerr
	}
	if slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == path.Base(name) }) {
		return true, nil // it has come meanwhile, or the host contradicts itself: it is not absent
	}
	return false, nil
}

// absentAbove shows that a folder is not there, for something below it: nothing is, or
// a file stands in its place.
func (p *FS) absentAbove(ctx context.Context, dir string) (bool, error) {
	there, err := p.Exists(ctx, dir)
	if err != nil || !there {
		return false, err
	}
	info, err := p.Stat(ctx, dir)
	if err == nil && info.IsDir() {
		err = fault.New(fault.Unreachable, "look at", path.Join(p.name, dir),
			"the host says that it is there and that it is not")
	}
	return false, err
}

// ReadFile reads a whole file of at most limit bytes.
func (p *FS) ReadFile(ctx context.Context, name string, limit int64) ([]byte, error) {
	f, err := p.open(ctx, "read", name, func(err error) error { return err })
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		return nil, fault.New(fault.TooLarge, "read", path.Join(p.name, name), "more than %d bytes", limit)
	}
	return data, err
}

// MkdirAll makes a folder and those above it. Those that are made get the attributes.
func (p *FS) MkdirAll(ctx context.Context, name string, a Attributes) error {
	info, err := p.Stat(ctx, name)
	switch {
	case err == nil && info.IsDir():
		return nil
	case err == nil:
		return fault.New(fault.Exists, "make folder", path.Join(p.name, name), "a file of that name is in the way")
	case !errors.Is(err, fs.ErrNotExist) || name == ".":
		return err
	}
	if err := p.MkdirAll(ctx, path.Dir(name), a); err != nil {
		return err
	}
	_, err = p.Mkdir(ctx, name, a)
	return err
}

// Mkdir makes a folder in one that is there, and reports whether it did. One that is there
// already is left as it is.
func (p *FS) Mkdir(ctx context.Context, name string, a Attributes) (made bool, err error) {
	if err := check("make folder", name); err != nil {
		return false, err
	}
	ctx, done := p.bounded(ctx)
	defer done()
	err = p.driver.Mkdir(ctx, name)
	if errors.Is(err, fs.ErrExist) {
		return false, nil
	}
	if err == nil && a != (Attributes{}) {
		err = p.driver.Set(ctx, name, a)
	}
	return err == nil, p.wrap(ctx, "make folder", name, err)
}

// Set sets attributes of a file or a folder; what is zero in them stays as it is.
func (p *FS) Set(ctx context.Context, name string, a Attributes) error {
	if err := check("change", name); err != nil {
		return err
	}
	ctx, done := p.bounded(ctx)
	defer done()
	return p.wrap(ctx, "change", name, p.driver.Set(ctx, name, a))
}

// Write writes a new file from a reader, with its attributes; the folder must exist. It
// is for staging: the file may be left half written on error.
func (p *FS) Write(ctx context.Context, name string, from io.Reader, a Attributes) (n int64, err error) {
	return p.write(ctx, name, from, a, func(ctx context.Context) (io.WriteCloser, error) {
		return p.driver.Create(ctx, name)
	})
}

// WriteHasty is Write for one of many files: whether all of it has arrived is for the caller to see, by its
// size. Hosts that tell at once are asked all the same.
func (p *FS) WriteHasty(ctx context.Context, name string, from io.Reader, a Attributes) (n int64, err error) {
	return p.write(ctx, name, from, a, func(ctx context.Context) (io.WriteCloser, error) {
		if h, ok := p.driver.(Hasty); ok {
			return h.CreateHasty(ctx, name)
		}
		return p.driver.Create(ctx, name)
	})
}

func (p *FS) write(ctx context.Context, name string, from io.Reader, a Attributes,
	open func(context.Context) (io.WriteCloser, error),
) (n int64, err error) {
	if err := check("write", name); err != nil {
		return 0, err
	}
	rctx, touch, done := p.rolling(ctx)
	defer done()
	w, err := open(rctx)
	if err != nil {
		return 0, p.wrap(rctx, "write", name, err)
	}
	n, err = io.Copy(touching{w, touch}, from)
	if err = errors.Join(err, w.Close()); err != nil {
		return n, p.wrap(rctx, "write", name, err)
	}
	if a != (Attributes{}) {
		touch()
		err = p.driver.Set(rctx, name, a)
	}
	return n, p.wrap(rctx, "write", name, err)
}

// Append goes on writing a file of which at bytes are there and are right, as Write does.
// Unsupported: the host's files can only be written from their beginning.
func (p *FS) Append(ctx context.Context, name string, at int64, from io.Reader, a Attributes) (n int64, err error) {
	d, ok := p.driver.(Appender)
	if !ok {
		return 0, fault.New(fault.Unsupported, "go on with", path.Join(p.name, name),
			"files of this host are written from their beginning")
	}
	return p.write(ctx, name, from, a, func(ctx context.Context) (io.WriteCloser, error) {
		return d.Append(ctx, name, at)
	})
}

type touching struct {
	w     io.Writer
	touch func()
}

func (t touching) Write(p []byte) (int, error) {
	t.touch()
	return t.w.Write(p)
}

// temporary is the name beside a file from which its content is replaced. It does not
// grow with the file's name, which may be as long as the host allows.
func temporary(name string) string {
	sum := sha256.Sum256([]byte(path.Base(name)))
	return path.Join(path.Dir(name), TemporaryPrefix+hex.EncodeToString(sum[:8]))
}

// TemporaryPrefix begins the name of every temporary file.
const TemporaryPrefix = ".reshard-new-"

// Prepare writes what Commit puts in a file's place, to a temporary file beside it:
// with the file's account and modes, synced. A crash leaves the temporary file, which
// the next Prepare writes over and Forget removes.
func (p *FS) Prepare(ctx context.Context, name string, data []byte) error {
	if err := check("prepare", name); err != nil {
		return err
	}
	if _, ok := p.pages[name]; ok {
		return nil // it is written in its place
	}
	like, err := p.Stat(ctx, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	can, err := p.Capabilities(ctx)
	if err != nil {
		return err
	}
	p.recall.Lock()
	p.atomically = &can.AtomicReplace
	p.recall.Unlock()
	temp := temporary(name)
	if err := p.Forget(ctx, name); err != nil { // one of an earlier try may not be written over
		return err
	}
	if _, err := p.Write(ctx, temp, bytes.NewReader(data), like.Likeness(can)); err != nil {
		return err
	}
	return p.sync(ctx, "prepare", temp)
}

// Likeness is what makes another file belong to whom this one does, as far as a host
// can.
func (i Info) Likeness(can capability.Set) Attributes {
	var a Attributes
	if can.Owners {
		a.Account = i.Account
	}
	if can.Modes {
		a.Mode = i.Modes.Perm()
	}
	return a
}

// Commit puts what Prepare wrote in a file's place, in one act, and reads it back. After
// a crash the file is whole, the old one or the new one.
func (p *FS) Commit(ctx context.Context, name string, data []byte) error {
	if err := check("replace", name); err != nil {
		return err
	}
	if page, ok := p.pages[name]; ok {
		if err := p.writePage(ctx, page, name, data); err != nil {
			return err
		}
		return p.readsBack(ctx, name, data)
	}
	atomically, err := p.replaces(ctx)
	if err != nil {
		return err
	}
	if atomically {
		err = p.rename(ctx, "replace", temporary(name), name, true)
	} else {
		err = p.replaceInTwo(ctx, name)
	}
	if err != nil {
		return err
	}
	synced := make(chan error, 1)
	go func() {
		synced <- fault.Safely(func() error { return p.sync(ctx, "replace", path.Dir(name)) })
	}()
	err = p.readsBack(ctx, name, data)
	if serr := <-synced; serr != nil {
		return serr
	}
	return err
}

// readsBack is Damaged for a file that does not hold what was written.
func (p *FS) readsBack(ctx context.Context, name string, data []byte) error {
	back, err := p.readBack(ctx, name, len(data))
	if err == nil && !bytes.Equal(back, data) {
		err = fault.New(fault.Damaged, "replace", path.Join(p.name, name),
			"reads back differently from what was written")
	}
	return err
}

// readBack reads a file that was put in its place a moment ago: nothing is asked about it before.
func (p *FS) readBack(ctx context.Context, name string, bytes int) ([]byte, error) {
	d, ok := p.driver.(Distant)
	if _, page := p.pages[name]; !ok || page {
		return p.ReadFile(ctx, name, int64(bytes)+1)
	}
	f, err := p.openBy(ctx, "read", name, func(err error) error { return err },
		func(ctx context.Context) (Content, error) {
			return d.OpenSeen(ctx, name, Info{Named: path.Base(name), Bytes: int64(bytes) + 1})
		})
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	return io.ReadAll(f)
}

// replaces reports whether a rename replaces a file there, which is asked once.
func (p *FS) replaces(ctx context.Context) (bool, error) {
	p.recall.Lock()
	known := p.atomically
	p.recall.Unlock()
	if known != nil {
		return *known, nil
	}
	can, err := p.Capabilities(ctx)
	if err != nil {
		return false, err
	}
	p.recall.Lock()
	defer p.recall.Unlock()
	p.atomically = &can.AtomicReplace
	return can.AtomicReplace, nil
}

func (p *FS) rename(ctx context.Context, op, from, to string, replace bool) error {
	if err := p.may(); err != nil {
		return err
	}
	ctx, done := p.bounded(ctx)
	defer done()
	return p.wrap(ctx, op, from, p.driver.Rename(ctx, from, to, replace))
}

func (p *FS) may() error {
	if p.May == nil {
		return nil
	}
	return p.May()
}

// former is the name beside a file under which it stands while it is replaced in two renames.
func former(name string) string {
	return path.Join(path.Dir(name), FormerPrefix+strings.TrimPrefix(path.Base(temporary(name)), TemporaryPrefix))
}

// FormerPrefix begins the name of a file that is on its way out of its place.
const FormerPrefix = ".reshard-old-"

// replaceInTwo puts what Prepare wrote in a file's place where a rename does not replace: the
// file is renamed away first. A crash in between leaves the file under its former name, which
// Mend finds.
func (p *FS) replaceInTwo(ctx context.Context, name string) error {
	if _, err := p.Stat(ctx, temporary(name)); err != nil {
		return err
	}
	info, err := p.Stat(ctx, name)
	switch {
	case err == nil && info.IsDir():
		return fault.New(fault.Exists, "replace", path.Join(p.name, name), "it is a folder")
	case err == nil:
		// A former one beside the file itself was replaced by it, and only not removed.
		if err := p.removeIfThere(ctx, "replace", former(name)); err != nil {
			return err
		}
		if err := p.rename(ctx, "replace", name, former(name), false); err != nil {
			return err
		}
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := p.rename(ctx, "replace", temporary(name), name, false); err != nil {
		return errors.Join(err, p.Mend(ctx, name))
	}
	return p.removeIfThere(ctx, "replace", former(name))
}

// Mend brings a file back that a crash left between the two renames of a replace: as it was
// before. It does nothing for a file that is there, and on hosts that replace in one act.
func (p *FS) Mend(ctx context.Context, name string) error {
	if _, ok := p.pages[name]; ok {
		return nil
	}
	atomically, err := p.replaces(ctx)
	if err != nil || atomically {
		return err
	}
	there, err := p.Exists(ctx, name)
	if err != nil || there {
		return err
	}
	there, err = p.Exists(ctx, former(name))
	if err != nil || !there {
		return err
	}
	return p.rename(ctx, "mend", former(name), name, false)
}

func (p *FS) removeIfThere(ctx context.Context, op, name string) error {
	ctx, done := p.bounded(ctx)
	defer done()
	err := p.driver.Remove(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return p.wrap(ctx, op, name, err)
}

// Forget removes what Prepare wrote for a file, if it is there.
func (p *FS) Forget(ctx context.Context, name string) error {
	if err := check("forget", name); err != nil {
		return err
	}
	if _, ok := p.pages[name]; ok {
		return nil
	}
	return p.removeIfThere(ctx, "forget", temporary(name))
}

// Replace writes a file's whole content: Prepare and Commit. On an error the temporary
// file is removed, if the host lets that be done.
func (p *FS) Replace(ctx context.Context, name string, data []byte) error {
	err := p.Prepare(ctx, name, data)
	if err == nil {
		err = p.Commit(ctx, name, data)
	}
	if err != nil {
		_ = p.Forget(ctx, name) // the first error is the one to tell
	}
	return err
}

func (p *FS) sync(ctx context.Context, op string, names ...string) error {
	ctx, done := p.bounded(ctx)
	defer done()
	return p.wrap(ctx, op, names[0], p.driver.Sync(ctx, slices.Compact(names)...))
}

// Move renames a file or folder to a name that is not taken, and makes that survive a
// power cut. NotFound and Exists say that nothing was done by this call; an earlier one
// may have done it.
func (p *FS) Move(ctx context.Context, from, to string) error {
	if err := errors.Join(check("move", from, to), p.may()); err != nil {
		return err
	}
	bctx, done := p.bounded(ctx)
	defer done()
	m, synced := p.driver.(Mover)
	move := func() error { return p.driver.Rename(bctx, from, to, false) }
	if synced {
		move = func() error { return m.Move(bctx, from, to) }
	}
	if err := move(); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return fault.New(fault.Exists, "move", path.Join(p.name, from), "%s is there already", to)
		}
		return p.wrap(bctx, "move", from, err)
	}
	if synced {
		return nil
	}
	return p.sync(ctx, "move", path.Dir(from), path.Dir(to))
}

// Reserve is the file in a working folder that holds room for a switch.
const Reserve = "reserve"

// Discard removes a tree that Reshard itself staged, room that it holds, or a working folder
// that is on its way out. It refuses any name outside a working folder's "staged" and Reserve
// or one that is not called "going-…", so that no world that was ever live can be removed by it
// before it has been renamed so.
func (p *FS) Discard(ctx context.Context, name string) error {
	if err := check("discard", name); err != nil {
		return err
	}
	parts := strings.Split(name, "/")
	staged := false
	for i, s := range parts {
		if s != plan.WorkFolder {
			continue
		}
		staged = staged || (len(parts) > i+2 && (parts[i+2] == "staged" || parts[i+2] == Reserve)) ||
			(len(parts) > i+1 && strings.HasPrefix(parts[i+1], "going-"))
	}
	if !staged {
		return fault.New(fault.Internal, "discard", name, "not a staging folder of Reshard, nor one that is going")
	}
	info, err := p.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		if there, err := p.Exists(ctx, name); err != nil || !there { // only a whole list shows that
			return err
		}
		info, err = p.Stat(ctx, name)
	}
	if err != nil {
		return err
	}
	return p.remove(ctx, name, info.IsDir())
}

func (p *FS) remove(ctx context.Context, name string, folder bool) error {
	if folder {
		entries, err := p.List(ctx, name)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if err := p.remove(ctx, path.Join(name, e.Name()), e.IsDir()); err != nil {
				return err
			}
		}
	}
	if err := p.may(); err != nil {
		return err
	}
	ctx, done := p.bounded(ctx)
	defer done()
	return p.wrap(ctx, "discard", name, p.driver.Remove(ctx, name))
}

// Unpack has the host unpack a tar stream with so many bytes of files, and hash what is below a
// folder then; see Unpacker.
func (p *FS) Unpack(ctx context.Context, from io.Reader, below string, bytes int64) (map[string][]byte, error) {
	u, ok := p.driver.(Unpacker)
	if !ok {
		return nil, fault.New(fault.Unsupported, "unpack at", p.name, "the host has no way to do this")
	}
	if below != "" {
		if err := check("unpack at", below); err != nil {
			return nil, err
		}
	}
	var more atomic.Int64 // once all is sent: the host hashes it, and tells nothing meanwhile
	rctx, touch, done := rollingFor(ctx, func() time.Duration { return p.Patience + time.Duration(more.Load()) })
	defer done()
	sent := touchedReader{from, touch, func() { more.Store(int64(hashing(bytes))) }}
	out, err := u.Unpack(rctx, sent, below)
	return out, p.wrap(rctx, "unpack at", ".", err)
}

// CopyThere has the host copy files; see Copier.
func (p *FS) CopyThere(ctx context.Context, files []Copying, copied func(i int, whole bool)) error {
	c, ok := p.driver.(Copier)
	if !ok {
		return fault.New(fault.Unsupported, "copy at", p.name, "the host has no way to do this")
	}
	for _, f := range files {
		if err := check("copy", f.From, f.To); err != nil {
			return err
		}
	}
	rctx, touch, done := p.rolling(ctx)
	defer done()
	err := c.CopyThere(rctx, files, func(i int, whole bool) {
		touch()
		copied(i, whole)
	})
	return p.wrap(rctx, "copy at", ".", err)
}

type touchedReader struct {
	from  io.Reader
	touch func()
	// ended is called once when all has been read: what the host does then takes its time.
	ended func()
}

func (t touchedReader) Read(p []byte) (int, error) {
	t.touch()
	n, err := t.from.Read(p)
	if err != nil {
		t.ended()
	}
	t.touch()
	return n, err
}

// slowestHash is the least that a host is taken to hash in a second, in bytes.
const slowestHash = 4 << 20

// hashing is how long the hashing of so many bytes may take.
func hashing(bytes int64) time.Duration { return time.Duration(bytes/slowestHash) * time.Second }

// Hash has the host hash files, which have so many bytes in all; see Hasher.
func (p *FS) Hash(ctx context.Context, names []string, bytes int64) (map[string][]byte, error) {
	h, ok := p.driver.(Hasher)
	if !ok {
		return nil, fault.New(fault.Unsupported, "hash at", p.name, "the host has no way to do this")
	}
	if err := check("hash", names...); err != nil {
		return nil, err
	}
	ctx, done := context.WithTimeoutCause(ctx, p.Patience+hashing(bytes), errTooSlow)
	defer done()
	out, err := h.Hash(ctx, names)
	return out, p.wrap(ctx, "hash at", ".", err)
}

// Snapshot takes a database as it stands at one moment; see Snapshotter. It may take as long as copying
// it over takes.
func (p *FS) Snapshot(ctx context.Context, name string) (io.ReadCloser, error) {
	s, ok := p.driver.(Snapshotter)
	if !ok {
		return nil, fault.New(fault.Unsupported, "take a database at", p.name, "the host has no way to do this")
	}
	if err := check("take", name); err != nil {
		return nil, err
	}
	f, err := s.Snapshot(ctx, name)
	return f, p.wrap(ctx, "take", name, err)
}

// SyncAll makes everything written so far survive a power cut, where the host can do
// that for all at once.
func (p *FS) SyncAll(ctx context.Context) error {
	s, ok := p.driver.(SyncAller)
	if !ok {
		return nil
	}
	// What a disk still has to write after staging may take minutes.
	ctx, done := context.WithTimeoutCause(ctx, 20*p.Patience, errTooSlow)
	defer done()
	return p.wrap(ctx, "sync", ".", s.SyncAll(ctx))
}

// Free tells how many bytes are free where a name is, or -1 when the host does not say.
func (p *FS) Free(ctx context.Context, name string) int64 {
	if free, _, err := p.space(ctx, name); err == nil {
		return free
	}
	return -1
}

func (p *FS) space(ctx context.Context, name string) (free int64, filesystem string, err error) {
	s, ok := p.driver.(Spacer)
	if !ok {
		return 0, "", fault.New(fault.Unsupported, "look for room at", p.name, "the host does not tell")
	}
	ctx, done := p.bounded(ctx)
	defer done()
	free, filesystem, err = s.Space(ctx, name)
	return free, filesystem, p.wrap(ctx, "look for room at", name, err)
}

// SameFilesystem reports whether names can be renamed into each other's folders. A host
// that does not say is given the benefit of the doubt: staging tries a rename before
// anything is stopped.
func (p *FS) SameFilesystem(ctx context.Context, a, b string) bool {
	_, x, errX := p.space(ctx, a)
	_, y, errY := p.space(ctx, b)
	return errX != nil || errY != nil || x == y
}

// Watch has changed called when something changes in some folders. Unsupported: the host
// does not tell of changes, or has no room for one more who wants to know.
func (p *FS) Watch(ctx context.Context, folders []string, changed func()) (cancel func(), err error) {
	n, ok := p.driver.(Notifier)
	if !ok {
		return nil, fault.New(fault.Unsupported, "watch", p.name, "the host does not tell when something changes")
	}
	for _, name := range folders {
		if err := check("watch", name); err != nil {
			return nil, err
		}
	}
	bctx, done := p.bounded(ctx)
	defer done()
	cancel, err = n.Watch(bctx, folders, changed)
	if err != nil {
		return nil, p.wrap(bctx, "watch", p.name, err)
	}
	return cancel, nil
}

// Standing reports whether the place is still what its address names. A driver that
// cannot tell is taken at its word.
func (p *FS) Standing(ctx context.Context) (bool, error) {
	d, ok := p.driver.(Stander)
	if !ok {
		return true, nil
	}
	ctx, done := p.bounded(ctx)
	defer done()
	stands, err := d.Standing(ctx)
	return stands, p.wrap(ctx, "look at", ".", err)
}

// Distant reports whether each question costs, as on a host far away.
func (p *FS) Distant() bool {
	_, ok := p.driver.(Distant)
	return ok
}

// MayWrite reports whether an account of the host may write to a file or folder; known
// is false when that cannot be told.
func (p *FS) MayWrite(account string, i Info) (may, known bool) {
	j, ok := p.driver.(Judge)
	if !ok || account == "" {
		return false, false
	}
	return j.MayWrite(account, i)
}

// Numbers gives the numbers of an account "uid:gid"; 0 and 0 for one of another form.
func Numbers(account string) (uid, gid int) {
	u, g, _ := strings.Cut(account, ":")
	uid, err := strconv.Atoi(u)
	gid, gerr := strconv.Atoi(g)
	if err != nil || gerr != nil {
		return 0, 0
	}
	return uid, gid
}

// SameOwner reports whether two accounts, as a host names them, are one owner; groups do
// not count. An account that is not known is nobody's.
func SameOwner(a, b string) bool {
	x, _, _ := strings.Cut(a, ":")
	y, _, _ := strings.Cut(b, ":")
	return x == y && x != ""
}

// InfoOf gives a host's own account of a file, from what At gives.
func InfoOf(i fs.FileInfo) (Info, error) {
	if own, ok := i.(Info); ok {
		return own, nil
	}
	return Info{}, fmt.Errorf("%T is not what a host told", i)
}
