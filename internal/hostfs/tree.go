package hostfs

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"sync"

	"reshard/internal/core/fault"
)

// At gives the place's files to read while ctx lasts. It goes through the same checks,
// limits and error classes as everything else, and its FileInfos are Infos.
func (p *FS) At(ctx context.Context) fs.FS { return tree{p: p, ctx: ctx} }

// Observe gives the same, with a function that tells afterwards whether all that was asked
// for was answered: it gives the failure of the host if there was one, else err. Much
// that reads a tree takes what does not read for damage in it, or for missing, and goes
// on; what was concluded from a host that did not answer is worth nothing.
func (p *FS) Observe(ctx context.Context) (files fs.FS, settled func(err error) error) {
	var mu sync.Mutex
	var first error
	note := func(err error) {
		if code := fault.Ended(err); !fault.Passing(err) && code != fault.Interrupted {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if first == nil {
			first = err
		}
	}
	out := tree{p: p, ctx: ctx, note: note}
	if _, ok := p.driver.(Distant); ok {
		out.seen = p.glimpse(ctx)
	}
	return out, func(err error) error {
		mu.Lock()
		defer mu.Unlock()
		if first != nil {
			return first
		}
		return err
	}
}

// tree is a place's read side with a context: fs.FS has no way to give one with a call.
type tree struct {
	p    *FS
	ctx  context.Context
	note func(error) // told of each error; may be nil
	// seen is what one observation has listed of a host on which each question costs; nil
	// elsewhere, and where things are looked at while they change.
	seen *glimpse
}

func (t tree) noted(err error) error {
	if err != nil && t.note != nil {
		t.note(err)
	}
	return err
}

func (t tree) Stat(name string) (fs.FileInfo, error) {
	info, err := t.stat(name)
	if err != nil {
		return nil, t.noted(err)
	}
	return info, nil
}

func (t tree) stat(name string) (Info, error) {
	if _, page := t.p.pages[name]; t.seen != nil && name != "." && !page && check("look at", name) == nil {
		return t.seen.stat(t.ctx, name)
	}
	return t.p.Stat(t.ctx, name)
}

func (t tree) ReadDir(name string) ([]fs.DirEntry, error) {
	if t.seen != nil && check("list", name) == nil {
		entries, err := t.seen.list(t.ctx, name)
		return slices.Clone(entries), t.noted(err)
	}
	entries, err := t.p.List(t.ctx, name)
	return entries, t.noted(err)
}

func (t tree) Open(name string) (fs.File, error) {
	if page, ok := t.p.pages[name]; ok {
		f, err := t.p.openPage(t.ctx, page, name)
		return f, t.noted(err)
	}
	if t.seen != nil && name != "." && check("open", name) == nil {
		info, err := t.seen.stat(t.ctx, name)
		switch {
		case err != nil:
			return nil, t.noted(err)
		case info.IsDir():
			return &folder{tree: t, name: name, info: info}, nil
		case info.Modes.IsRegular():
			f, err := t.p.openBy(t.ctx, "open", name, t.noted, func(ctx context.Context) (Content, error) {
				return t.p.driver.(Distant).OpenSeen(ctx, name, info)
			})
			return f, t.noted(err)
		}
	}
	f, err := t.p.open(t.ctx, "open", name, t.noted)
	if fault.CodeOf(err) != fault.Invalid || check("open", name) != nil {
		return f, t.noted(err)
	}
	info, serr := t.p.Stat(t.ctx, name)
	if serr != nil || !info.IsDir() {
		return nil, t.noted(errors.Join(err, serr))
	}
	return &folder{tree: t, name: name, info: info}, nil
}

// OpenSeen opens a file of which its size is known, in bytes: nothing is asked about it where each
// question costs.
func (p *FS) OpenSeen(ctx context.Context, name string, size int64) (fs.File, error) {
	d, ok := p.driver.(Distant)
	if !ok {
		return p.At(ctx).Open(name)
	}
	return p.openBy(ctx, "open", name, func(err error) error { return err },
		func(ctx context.Context) (Content, error) {
			return d.OpenSeen(ctx, name, Info{Named: path.Base(name), Bytes: size, Modes: 0o644})
		})
}

// open opens a file that is read within the place's patience; noted is given each error.
func (p *FS) open(ctx context.Context, op, name string, noted func(error) error) (fs.File, error) {
	return p.openBy(ctx, op, name, noted, func(ctx context.Context) (Content, error) {
		return p.driver.Open(ctx, name)
	})
}

func (p *FS) openBy(ctx context.Context, op, name string, noted func(error) error,
	open func(context.Context) (Content, error),
) (fs.File, error) {
	if err := check(op, name); err != nil {
		return nil, err
	}
	if page, ok := p.pages[name]; ok {
		return p.openPage(ctx, page, name)
	}
	rctx, touch, done := p.rolling(ctx)
	c, err := open(rctx)
	if err != nil {
		err = p.wrap(rctx, op, name, err)
		done()
		return nil, err
	}
	return &file{Content: c, place: p, ctx: rctx, touch: touch, done: done, name: name, noted: noted}, nil
}

type file struct {
	Content
	place       *FS
	ctx         context.Context
	touch, done func()
	name        string
	noted       func(error) error
}

func (f *file) Stat() (fs.FileInfo, error) {
	info, err := f.Content.Stat()
	return info, f.place.wrap(f.ctx, "look at", f.name, err)
}

func (f *file) Read(p []byte) (int, error) {
	f.touch()
	n, err := f.Content.Read(p)
	if err == io.EOF { //nolint:errorlint // readers give it as it is
		return n, err
	}
	return n, f.noted(f.place.wrap(f.ctx, "read", f.name, err))
}

func (f *file) Close() error {
	defer f.done()
	return f.place.wrap(f.ctx, "close", f.name, f.Content.Close())
}

func (f *file) ReadAt(p []byte, offset int64) (int, error) {
	f.touch()
	n, err := f.Content.ReadAt(p, offset)
	if err == io.EOF { //nolint:errorlint // readers give it as it is
		return n, err
	}
	return n, f.noted(f.place.wrap(f.ctx, "read", f.name, err))
}

// folder is an open folder, for those who open before they list.
type folder struct {
	tree    tree
	name    string
	info    Info
	entries []fs.DirEntry
	listed  bool
	at      int
}

func (f *folder) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *folder) Close() error               { return nil }
func (f *folder) Read([]byte) (int, error) {
	return 0, fault.New(fault.Invalid, "read", path.Join(f.tree.p.name, f.name), "it is a folder")
}

func (f *folder) ReadDir(n int) ([]fs.DirEntry, error) {
	if !f.listed {
		entries, err := f.tree.ReadDir(f.name)
		if err != nil {
			return nil, err
		}
		f.entries, f.listed = entries, true
	}
	rest := f.entries[f.at:]
	switch {
	case n <= 0:
	case len(rest) == 0:
		return nil, io.EOF
	case len(rest) > n:
		rest = rest[:n]
	}
	f.at += len(rest)
	return rest, nil
}
