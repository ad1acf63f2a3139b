// Package memory is a host's files in memory: the driver against which everything that
// works on files is tried first. It can be told to fail, to lose answers and to go away.
package memory

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
)

// Files is a tree in memory. The zero value is not usable; New makes one.
type Files struct {
	// Can is what it says that it can do. Without Exclusive, Owners or Modes it really
	// cannot.
	Can capability.Set
	// Before is asked before each call has an effect, and After once it has had it: an
	// error is what the caller gets instead. Both may block. nil: no trouble.
	Before, After func(op, name string) error
	// Account is who makes things.
	Account string

	*disk
}

// disk is what several views of one tree share.
type disk struct {
	mu    sync.Mutex
	nodes map[string]*node // by name; "." is the root
	used  int64
	room  int64 // how many bytes there are in all; 0: no end
}

type node struct {
	info hostfs.Info
	data []byte
}

// All is what a tree in memory can do when nothing is taken from it.
var All = func() capability.Set {
	all := capability.All()
	all.TimePrecision, all.Pace = time.Nanosecond, time.Millisecond
	return all
}()

// New makes an empty tree.
func New() *Files {
	root := &node{info: hostfs.Info{Named: ".", Modes: fs.ModeDir | 0o755, Account: "keeper"}}
	return &Files{Can: All, Account: "keeper", disk: &disk{nodes: map[string]*node{".": root}}}
}

// Behind gives another view of the same tree, as a program on the host itself has it:
// nothing is in its way.
func (f *Files) Behind() *Files {
	return &Files{Can: f.Can, Account: f.Account, disk: f.disk}
}

// Put writes a file as a program on the host does, with the folders above it.
func (f *Files) Put(name string, data []byte) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		if _, there := f.nodes[dir]; !there {
			f.nodes[dir] = &node{
				info: hostfs.Info{Named: path.Base(dir), Modes: fs.ModeDir | 0o755, Modified: now, Account: f.Account},
			}
		}
	}
	f.nodes[name] = &node{
		info: hostfs.Info{
			Named:    path.Base(name),
			Bytes:    int64(len(data)),
			Modes:    0o644,
			Modified: now,
			Account:  f.Account,
		},
		data: data,
	}
	f.used += int64(len(data))
}

// Load puts a copy of a tree in place of what there is, with its times.
func (f *Files) Load(from fs.FS) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.nodes, f.used = map[string]*node{}, 0
	return fs.WalkDir(from, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		n := &node{
			info: hostfs.Info{Named: path.Base(name), Modes: info.Mode(), Modified: info.ModTime(), Account: f.Account},
		}
		if !d.IsDir() {
			if n.data, err = fs.ReadFile(from, name); err != nil {
				return err
			}
			n.info.Bytes = int64(len(n.data))
			f.used += n.info.Bytes
		}
		f.nodes[name] = n
		return nil
	})
}

// Chown gives a file or folder to somebody, as root does on the host.
func (f *Files) Chown(name, account string, mode fs.FileMode) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n := f.nodes[name]
	n.info.Account, n.info.Modes = account, n.info.Modes&fs.ModeDir|mode
}

// Fill leaves so much room, for all views of the tree.
func (f *Files) Fill(left int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.room = max(1, f.used+left)
}

// Fits reports whether there is room for so many bytes.
func (f *Files) Fits(bytes int64) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.room == 0 || f.used+bytes <= f.room
}

// Clone gives another tree with the same content, which shares no node with this one.
func (f *Files) Clone() *Files {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := New()
	out.Can, out.Account, out.room, out.used = f.Can, f.Account, f.room, f.used
	for name, n := range f.nodes {
		c := *n // bytes are never changed in place
		out.nodes[name] = &c
	}
	return out
}

// Content gives every file's bytes by name, but for what skip holds true of.
func (f *Files) Content(skip func(name string) bool) map[string]string {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := map[string]string{}
	for name, n := range f.nodes {
		if !n.info.IsDir() && !skip(name) {
			out[name] = string(n.data)
		}
	}
	return out
}

// do runs one call: the hooks and the lock are here.
func (f *Files) do(ctx context.Context, op, name string, act func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if f.Before != nil {
		if err := f.Before(op, name); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil { // it may have waited
		return err
	}
	f.mu.Lock()
	err := act()
	f.mu.Unlock()
	if err == nil && f.After != nil {
		err = f.After(op, name)
	}
	return err
}

func (f *Files) find(name string) (*node, error) {
	if n, ok := f.nodes[f.as(name)]; ok {
		return n, nil
	}
	return nil, fs.ErrNotExist
}

// as gives the name under which something stands: where capitals do not count another spelling
// finds it, too. f.mu is held.
func (f *Files) as(name string) string {
	if f.Can.ExactCase || name == "." {
		return name
	}
	dir := f.as(path.Dir(name))
	own := path.Join(dir, path.Base(name))
	for other := range f.nodes {
		if path.Dir(other) == dir && strings.EqualFold(path.Base(other), path.Base(name)) {
			return other
		}
	}
	return own
}

// parent finds the folder that holds a name, or is to hold it.
func (f *Files) parent(name string) (*node, error) {
	if len(path.Base(name)) > 255 {
		return nil, fault.New(fault.Invalid, "", "", "a name of more than 255 bytes")
	}
	n, err := f.find(path.Dir(name))
	if err == nil && !n.info.IsDir() {
		err = fs.ErrNotExist
	}
	return n, err
}

// Capabilities implements hostfs.Driver.
func (f *Files) Capabilities(ctx context.Context) (capability.Set, error) { return f.Can, ctx.Err() }

// Stat implements hostfs.Reader.
func (f *Files) Stat(ctx context.Context, name string) (info hostfs.Info, err error) {
	err = f.do(ctx, "stat", name, func() error {
		n, err := f.find(name)
		if err == nil {
			info = n.info
		}
		return err
	})
	return info, err
}

// List implements hostfs.Reader.
func (f *Files) List(ctx context.Context, name string) (out []fs.DirEntry, err error) {
	err = f.do(ctx, "list", name, func() error {
		n, err := f.find(name)
		if err != nil {
			return err
		}
		if !n.info.IsDir() {
			return fault.New(fault.Invalid, "", "", "it is no folder")
		}
		for other, n := range f.nodes {
			if other != "." && path.Dir(other) == name {
				out = append(out, fs.FileInfoToDirEntry(n.info))
			}
		}
		slices.SortFunc(out, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
		return nil
	})
	return out, err
}

// reading is an open file. It goes on giving what the file held when it was opened.
type reading struct {
	*bytes.Reader
	f    *Files
	ctx  context.Context
	name string
	info hostfs.Info
}

func (r *reading) Read(p []byte) (n int, err error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	if r.f.Before != nil {
		if err := r.f.Before("read", r.name); err != nil {
			return 0, err
		}
	}
	return r.Reader.Read(p)
}

func (r *reading) ReadAt(p []byte, at int64) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.ReadAt(p, at)
}

func (r *reading) Stat() (hostfs.Info, error) { return r.info, nil }
func (r *reading) Close() error               { return nil }

// Open implements hostfs.Reader.
func (f *Files) Open(ctx context.Context, name string) (c hostfs.Content, err error) {
	err = f.do(ctx, "open", name, func() error {
		n, err := f.find(name)
		if err == nil && !n.info.Modes.IsRegular() {
			err = fault.New(fault.Invalid, "", "", "it is no regular file")
		}
		if err == nil {
			c = &reading{Reader: bytes.NewReader(n.data), f: f, ctx: ctx, name: name, info: n.info}
		}
		return err
	})
	return c, err
}

// writing is a file that is being written: what has come is there at once.
type writing struct {
	f    *Files
	ctx  context.Context
	name string
	node *node
}

func (w *writing) Write(p []byte) (int, error) {
	taken := len(p)
	arrived := false
	err := w.f.do(w.ctx, "write", w.name, func() error {
		arrived = true
		if room := w.f.room; room > 0 && w.f.used+int64(taken) > room {
			taken = int(max(0, room-w.f.used))
		}
		w.add(p[:taken])
		if taken < len(p) {
			return fault.New(fault.NoSpace, "", "", "the disk is full")
		}
		return nil
	})
	if err != nil && !arrived {
		w.f.mu.Lock()
		w.add(p[:len(p)/2]) // half of it arrives
		w.f.mu.Unlock()
	}
	if err != nil {
		taken = 0 // how much arrived nobody can tell
	}
	return taken, err
}

func (w *writing) add(p []byte) {
	w.node.data = append(slices.Clip(w.node.data), p...)
	w.node.info.Bytes, w.node.info.Modified = int64(len(w.node.data)), time.Now()
	w.f.used += int64(len(p))
}

func (w *writing) Close() error {
	return w.f.do(w.ctx, "close", w.name, func() error { return nil })
}

// Create implements hostfs.Writer.
func (f *Files) Create(ctx context.Context, name string) (out io.WriteCloser, err error) {
	err = f.do(ctx, "create", name, func() error {
		dir, err := f.parent(name)
		if err != nil {
			return err
		}
		n, there := f.nodes[name]
		switch {
		case !there:
			n = &node{info: hostfs.Info{Named: path.Base(name), Modes: 0o644, Account: f.Account}}
			f.nodes[name] = n
			dir.info.Modified = time.Now()
		case n.info.IsDir():
			return fs.ErrExist
		}
		f.used -= n.info.Bytes
		n.data, n.info.Bytes, n.info.Modified = nil, 0, time.Now()
		out = &writing{f: f, ctx: ctx, name: name, node: n}
		return nil
	})
	return out, err
}

// Mkdir implements hostfs.Writer.
func (f *Files) Mkdir(ctx context.Context, name string) error {
	return f.do(ctx, "mkdir", name, func() error {
		dir, err := f.parent(name)
		if err != nil {
			return err
		}
		name := f.as(name)
		if _, there := f.nodes[name]; there {
			return fs.ErrExist
		}
		now := time.Now()
		f.nodes[name] = &node{
			info: hostfs.Info{Named: path.Base(name), Modes: fs.ModeDir | 0o755, Modified: now, Account: f.Account},
		}
		dir.info.Modified = now
		return nil
	})
}

// Rename implements hostfs.Writer.
func (f *Files) Rename(ctx context.Context, from, to string, replace bool) error {
	if !f.Can.Exclusive && !replace {
		if _, err := f.Stat(ctx, to); err == nil {
			return fs.ErrExist
		}
		replace = true
	}
	return f.do(ctx, "rename", from, func() error {
		n, err := f.find(from)
		if err != nil {
			return err
		}
		dir, err := f.parent(to)
		if err != nil {
			return err
		}
		old, there := f.nodes[f.as(to)]
		from, to := f.as(from), path.Join(f.as(path.Dir(to)), path.Base(to))
		switch {
		case n.info.IsDir() && !f.Can.RenameFolders:
			return fault.New(fault.Unsupported, "", "", "folders cannot be renamed there")
		case there && (!replace || old.info.IsDir() || n.info.IsDir()):
			return fs.ErrExist
		case to == from || strings.HasPrefix(to, from+"/"):
			return fault.New(fault.Invalid, "", "", "a folder cannot be moved into itself")
		case there:
			f.used -= old.info.Bytes
		}
		delete(f.nodes, from)
		n.info.Named = path.Base(to)
		f.nodes[to] = n
		for name, below := range maps.Clone(f.nodes) {
			if rest, ok := strings.CutPrefix(name, from+"/"); ok {
				delete(f.nodes, name)
				f.nodes[to+"/"+rest] = below
			}
		}
		dir.info.Modified = time.Now()
		return nil
	})
}

// Remove implements hostfs.Writer.
func (f *Files) Remove(ctx context.Context, name string) error {
	return f.do(ctx, "remove", name, func() error {
		n, err := f.find(name)
		if err != nil {
			return err
		}
		name := f.as(name)
		for other := range f.nodes {
			if strings.HasPrefix(other, name+"/") {
				return fault.New(fault.NotEmpty, "", "", "the folder is not empty")
			}
		}
		f.used -= n.info.Bytes
		delete(f.nodes, name)
		return nil
	})
}

// Set implements hostfs.Writer.
func (f *Files) Set(ctx context.Context, name string, a hostfs.Attributes) error {
	return f.do(ctx, "set", name, func() error {
		n, err := f.find(name)
		if err != nil {
			return err
		}
		if (a.Account != "" && !f.Can.Owners) || (a.Mode != 0 && !f.Can.Modes) {
			return fs.ErrPermission
		}
		if a.Account != "" {
			n.info.Account = a.Account
		}
		if a.Mode != 0 {
			n.info.Modes = n.info.Modes&fs.ModeDir | a.Mode.Perm()
		}
		if !a.Modified.IsZero() {
			n.info.Modified = a.Modified.Truncate(max(1, f.Can.TimePrecision))
		}
		return nil
	})
}

// Sync implements hostfs.Writer: there is nothing that a power cut would spare.
func (f *Files) Sync(ctx context.Context, names ...string) error {
	return f.do(ctx, "sync", names[0], func() error {
		for _, name := range names {
			if _, err := f.find(name); err != nil {
				return err
			}
		}
		return nil
	})
}

// Space implements hostfs.Spacer.
func (f *Files) Space(ctx context.Context, name string) (free int64, filesystem string, err error) {
	err = f.do(ctx, "space", name, func() error {
		if !f.Can.FreeSpace {
			return fault.New(fault.Unsupported, "", "", "it does not tell")
		}
		if free = 1 << 50; f.room > 0 {
			free = f.room - f.used
		}
		return nil
	})
	return free, fmt.Sprintf("%p", f), err
}

// MayWrite implements hostfs.Judge: to its owner, and to everybody where the modes say so.
func (f *Files) MayWrite(account string, i hostfs.Info) (may, known bool) {
	if account == i.Account {
		return i.Modes&0o200 != 0, true
	}
	return i.Modes&0o002 != 0, true
}
