package executor

import (
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/vault"
)

// seenFile is a file as a first pass has found and stored it.
type seenFile struct {
	size     int64
	modified time.Time
	chunks   []vault.Chunk
	sum      string
}

// settled is how old a file's last change must be for its size and time to tell that
// it has not changed since: clocks of file systems are coarse.
const settled = 3 * time.Second

// copyWorld stores a world of a server in the vault. A first pass, made while people
// play, may find half written files: what it stores is only a head start.
func (r *Runner) copyWorld(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	h, err := r.hands(step)
	if err != nil {
		return nil, err
	}
	begun := r.Now()
	tree, settled := h.Files.Observe(ctx)
	found, err := world.ByName(tree, step.Dir, step.World, h.Profile)
	if err = settled(err); err != nil {
		return nil, err
	}
	entries, err := world.Parts(tree, found)
	if err = settled(err); err != nil {
		return nil, err
	}
	var read atomic.Int64
	files, total := r.copySources(tree, entries, &read)
	r.report(func(p *plan.Progress) { p.TotalBytes, p.TotalFiles, p.Bytes, p.Files = total, len(files), 0, 0 })
	c, err := r.Vault.Store(ctx, files, func() { r.trace(n, step, "halfway") })
	detail := &Detail{
		Copy:   c.ID,
		Bytes:  c.Bytes,
		Files:  len(c.Files),
		Read:   read.Load(),
		TookMS: r.Now().Sub(begun).Milliseconds(),
	}
	if step.Pass {
		if err != nil && ctx.Err() == nil && settled(nil) == nil {
			// it was written to meanwhile; the last pass is strict
			return &Detail{Read: read.Load(), TookMS: detail.TookMS}, nil
		}
		if err == nil {
			r.remember(entries, c, begun)
		}
		return detail, settled(err)
	}
	if err = settled(err); err != nil {
		return nil, err
	}
	w, err := world.Read(tree, found)
	if err = settled(err); err != nil {
		return nil, err
	}
	w.Locks = nil // it was held or closed when it was copied
	w.Warnings = slices.DeleteFunc(w.Warnings,
		func(s string) bool { return strings.Contains(s, "the world may be open in the game") })
	kctx, done := context.WithTimeout(ctx, askPatience)
	defer done()
	return detail, r.Keep(kctx, c, w, step.Server)
}

// copySources makes the vault's sources of a world's files; those that a first pass
// has stored and that have not changed since are not read again.
func (r *Runner) copySources(tree fs.FS, entries []world.Entry, read *atomic.Int64) (out []vault.Source, total int64) {
	for _, e := range entries {
		src := vault.Source{Part: e.Part, Path: e.Path, Modified: e.ModTime}
		if !e.Dir {
			total += e.Size
			if s, ok := r.seen[e.Source]; ok && s.size == e.Size && s.modified.Equal(e.ModTime) {
				src.Known, src.Sum = s.chunks, s.sum
			}
			src.Open = func() (io.ReadCloser, error) {
				f, err := tree.Open(e.Source)
				if err != nil {
					return nil, err
				}
				return &counted{File: f, r: r, read: read}, nil
			}
		}
		out = append(out, src)
	}
	return out, total
}

// counted tells how much of a file has been read.
type counted struct {
	fs.File
	r    *Runner
	read *atomic.Int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.File.Read(p)
	done := c.read.Add(int64(n))
	c.r.copied(done)
	return n, err
}

// copied reports bytes that were read; several files are read at a time.
func (r *Runner) copied(bytes int64) {
	r.reporting.Lock()
	defer r.reporting.Unlock()
	r.report(func(p *plan.Progress) { p.Bytes = max(p.Bytes, bytes) })
}

func (r *Runner) remember(entries []world.Entry, c vault.Copy, begun time.Time) {
	stored := map[string]vault.File{}
	for _, f := range c.Files {
		stored[f.Part+"\x00"+f.Path] = f
	}
	r.seen = map[string]seenFile{}
	for _, e := range entries {
		if f, ok := stored[e.Part+"\x00"+e.Path]; ok && !e.Dir && e.ModTime.Before(begun.Add(-settled)) {
			r.seen[e.Source] = seenFile{size: e.Size, modified: e.ModTime, chunks: f.Chunks, sum: f.Sum}
		}
	}
}

// copyOf is the copy that a step works with: its own, or the one that was made.
func (r *Runner) copyOf(step plan.Step) (string, error) {
	if step.Copy != "" {
		return step.Copy, nil
	}
	for n, s := range r.job.Plan.Steps {
		var d Detail
		if s.Kind == plan.Copy && !s.Pass && json.Unmarshal(r.job.Steps[n].Left, &d) == nil && d.Copy != "" {
			return d.Copy, nil
		}
	}
	return "", fault.New(fault.Internal, "find copy for", r.job.Plan.World, "no step has made one")
}
