package hostfs

import (
	"context"
	"io/fs"
	"path"
	"sync"

	"reshard/internal/core/fault"
)

// glimpse is what one observation has listed. A name is answered from the listing of its
// folder, so that many names cost one question; what is listed is the state of that moment.
type glimpse struct {
	p  *FS
	mu sync.Mutex // held for moments only
	of map[string]*listing
}

type listing struct {
	once    sync.Once
	entries []fs.DirEntry
	names   map[string]Info
	err     error
}

// mostRecalled bounds the folders that an observation asks for at once, since the one before
// has asked for them.
const mostRecalled = 24

// glimpse begins an observation. The folders that the last one listed are asked for at once:
// the next is likely to want the same, and a round trip is all that it costs.
func (p *FS) glimpse(ctx context.Context) *glimpse {
	g := &glimpse{p: p, of: map[string]*listing{}}
	p.recall.Lock()
	dirs := p.recalled
	p.recalled = nil
	p.recall.Unlock()
	if d, ok := p.driver.(Distant); ok {
		dirs = dirs[:min(len(dirs), d.Ahead())]
	}
	for _, dir := range dirs {
		go func() {
			_ = fault.Safely(func() error {
				_, err := g.list(ctx, dir)
				return err // whoever wants it is told
			})
		}()
	}
	return g
}

// remember keeps which folders an observation wants.
func (p *FS) remember(dir string) {
	p.recall.Lock()
	defer p.recall.Unlock()
	if len(p.recalled) < mostRecalled {
		p.recalled = append(p.recalled, dir)
	}
}

func (g *glimpse) folder(name string) (l *listing, first bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	l, ok := g.of[name]
	if !ok {
		l = &listing{}
		g.of[name] = l
	}
	return l, !ok
}

func (g *glimpse) list(ctx context.Context, name string) ([]fs.DirEntry, error) {
	l, first := g.folder(name)
	if first {
		g.p.remember(name)
	}
	l.once.Do(func() {
		if l.entries, l.err = g.p.List(ctx, name); l.err != nil {
			return
		}
		l.names = make(map[string]Info, len(l.entries))
		for _, e := range l.entries {
			if info, err := e.Info(); err == nil {
				if own, err := InfoOf(info); err == nil {
					l.names[e.Name()] = own
				}
			}
		}
	})
	return l.entries, l.err
}

// stat answers from the listing of the folder that would hold the name. A folder that is not
// there, or is none, holds nothing.
func (g *glimpse) stat(ctx context.Context, name string) (Info, error) {
	_, err := g.list(ctx, path.Dir(name))
	if err != nil {
		if c := fault.CodeOf(err); c == fault.Invalid || c == fault.NotFound {
			err = fault.New(fault.NotFound, "look at", path.Join(g.p.name, name), "file does not exist")
		}
		return Info{}, err
	}
	l, _ := g.folder(path.Dir(name))
	if info, ok := l.names[path.Base(name)]; ok {
		return info, nil
	}
	return Info{}, fault.New(fault.NotFound, "look at", path.Join(g.p.name, name), "file does not exist")
}
