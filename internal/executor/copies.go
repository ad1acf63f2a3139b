package executor

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/hostfs"
	"reshard/internal/vault"
)

// seenFile is a file as a first pass has found and stored it.
type seenFile struct {
	size     int64
	modified time.Time
	chunks   []vault.Chunk
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
				src.Known = s.chunks
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
	stored := map[string][]vault.Chunk{}
	for _, f := range c.Files {
		stored[f.Part+"\x00"+f.Path] = f.Chunks
	}
	r.seen = map[string]seenFile{}
	for _, e := range entries {
		if chunks, ok := stored[e.Part+"\x00"+e.Path]; ok && !e.Dir && e.ModTime.Before(begun.Add(-settled)) {
			r.seen[e.Source] = seenFile{size: e.Size, modified: e.ModTime, chunks: chunks}
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
		if s.Kind == plan.Copy && !s.Pass && json.Unmarshal(r.job.Steps[n].Detail, &d) == nil && d.Copy != "" {
			return d.Copy, nil
		}
	}
	return "", fault.New(fault.Internal, "find copy for", r.job.Plan.World, "no step has made one")
}

// tell says a line of the profile at the console and waits for its answer.
func (r *Runner) tell(ctx context.Context, step plan.Step, what, name string) error {
	h, err := r.hands(step)
	if err != nil {
		return err
	}
	console := h.Profile.Server.Console
	exchange, ok := map[string]game.Exchange{
		"hold": console.Hold, "flush": console.Flush, "release": console.Release, "load": console.Load,
		"save": h.Profile.Server.NewWorld.Save,
	}[what]
	if !ok || exchange.Say == "" {
		return fault.New(fault.Internal, "say "+what+" to", step.Server, "the game has no such line")
	}
	return h.Control.Tell(ctx, exchange.Filled(h.Profile.World, name), h.Profile.Server.Waits.Stop)
}

// untell takes back what was said: what was held is let go, and the world that was
// left is loaded again.
func (r *Runner) untell(ctx context.Context, step plan.Step) error {
	h, err := r.hands(step)
	if err != nil {
		return err
	}
	st := h.Control.Status(ctx)
	if err := st.Err("go back on", r.job.Plan.Server); err != nil {
		return err
	}
	switch {
	case step.Tell == "hold" && st.State == life.Running:
		return r.tell(ctx, step, "release", step.World)
	case step.Tell == "load" && st.State == life.Stopped:
		_, err := h.Control.Start(ctx) // the settings name the former world again
		return err
	case step.Tell == "load":
		if st.Opened != "" && st.Opened != step.World && st.Opened != h.Profile.World.FileName(step.World) {
			return nil // it never went over
		}
		return r.tell(ctx, step, "load", step.Back)
	}
	return nil
}

// openedEdits fills in the name of the world that the running server has opened.
func (r *Runner) openedEdits(ctx context.Context, step plan.Step) (plan.Step, string, error) {
	if !isOpened(step) {
		return step, "", nil
	}
	st := r.Control.Status(ctx)
	if err := st.Err("ask for the world of", r.job.Plan.Server); err != nil {
		return step, "", err
	}
	opened := st.Opened
	if opened == "" {
		return step, "", fault.New(fault.NotProven, "write", step.File,
			"the server has not told which world it has made")
	}
	step.Edits = slices.Clone(step.Edits)
	for i, e := range step.Edits {
		if e.Opened != "" {
			step.Edits[i].Value = server.ValueFor(server.Given{Writes: e.Opened, Value: e.Was}, r.job.Plan.Worlds,
				opened, r.Profile)
		}
	}
	return step, opened, nil
}

// isOpened reports whether a write needs to know which world the server has opened.
func isOpened(step plan.Step) bool {
	return slices.ContainsFunc(step.Edits, func(e plan.Edit) bool { return e.Opened != "" })
}

// folder is the name of the world that should run.
func (r *Runner) folder(ctx context.Context) string {
	e := r.job.Plan.Expect
	if !e.Own {
		return e.Folder
	}
	for n := range r.job.Plan.Steps {
		var d Detail
		if json.Unmarshal(r.job.Steps[n].Detail, &d) == nil && d.Opened != "" {
			return d.Opened
		}
	}
	return r.Control.Status(ctx).Opened
}

// made lists what the server has made as the new world that was asked for.
func (r *Runner) made(ctx context.Context) ([]string, error) {
	e := r.job.Plan.Expect
	name := r.folder(ctx)
	if !e.Fresh || name == "" {
		return nil, nil
	}
	names, err := r.inWorlds(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, made := range (server.State{Folders: names}).Taken(r.Profile, name) {
		if !slices.ContainsFunc(e.Folders, func(was string) bool { return r.worldName(was) == r.worldName(made) }) {
			out = append(out, made)
		}
	}
	return out, nil
}

// timeMark is the file whose time tells when a new world can have been made at the
// earliest, by the clock of the host's own file system.
func (r *Runner) timeMark() string { return path.Join(r.job.Plan.Work, "before-start") }

func (r *Runner) markTime(ctx context.Context) error {
	there, err := r.Files.Exists(ctx, r.timeMark())
	if err != nil || there {
		return err
	}
	if err := r.Files.MkdirAll(ctx, r.job.Plan.Work, hostfs.Attributes{}); err != nil {
		return err
	}
	_, err = r.Files.Write(ctx, r.timeMark(), strings.NewReader(
		"what is older than this was there before the server made a new world\n"), hostfs.Attributes{})
	return err
}

// madeSince counts the files of a world, and those that are older than the mark.
func (p *prover) madeSince(name string) (files, older int, err error) {
	mark, err := fs.Stat(p.files, p.r.timeMark())
	if err != nil {
		return 0, 0, err
	}
	found, err := world.ByName(p.files, p.r.job.Plan.Worlds, name, p.r.Profile)
	if err != nil {
		return 0, 0, err
	}
	entries, err := world.Parts(p.files, found)
	for _, e := range entries {
		if !e.Dir {
			files++
			if e.ModTime.Before(mark.ModTime()) {
				older++
			}
		}
	}
	if err == nil && files == 0 {
		err = errors.New("it has no files")
	}
	return files, older, err
}
