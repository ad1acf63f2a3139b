package executor

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/vault"
)

// Known is a file as it has been stored: what has the same size and time is not read again.
type Known struct {
	Size     int64
	Modified time.Time
	Chunks   []vault.Chunk
	Sum      string
}

// FileKey names a file of a world, for maps of what is known of them.
func FileKey(part, name string) string { return part + "\x00" + name }

// Copied is a world of a server as a copy step has stored it.
type Copied struct {
	Copy   vault.Copy
	Facts  world.Facts
	Server string // the plan's own is ""
	World  string
	Safety bool
	Detail Detail
	// Known are those of its files, by FileKey, that size and time will tell again.
	Known map[string]Known
	// ReadWhole says that this changeover has read all of it, and taken none as known from an earlier one.
	ReadWhole bool
}

// settled is how old a file's last change must be for its size and time to tell that
// it has not changed since: clocks of file systems are coarse.
const settled = 3 * time.Second

// apart is how much the clock of another machine may differ from this one's before what it says of
// times tells nothing.
const apart = time.Hour

// mostPasses is how often a world that changes while it is copied is looked at again, and stillFor how
// long it must have stood still for two looks to agree.
const (
	mostPasses = 6
	stillFor   = 2 * time.Second
	// heldFor is how long a world that is held, or was saved, is at least looked at.
	heldFor = 250 * time.Millisecond
)

// longestHold is how long a server's writes are held for a copy.
const longestHold = 2 * time.Minute

// worthIt is how many bytes there must be to read for a head start to make the last pass shorter.
const worthIt = 1 << 20

// copyWorld stores a world of a server in the vault. A first pass, made while people
// play, may find half written files: what it stores is only a head start.
func (r *Runner) copyWorld(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	h, err := r.hands(step)
	if err != nil {
		return nil, err
	}
	c := &copier{r: r, h: h, n: n, step: step, begun: r.Now()}
	if err := c.recall(ctx); err != nil {
		return nil, err
	}
	switch {
	case step.Pass:
		return c.headStart(ctx)
	case step.Wholeness == plan.WholeHeld:
		return c.within(ctx, longestHold)
	case step.Wholeness == "" || step.Wholeness == plan.WholeStopped && c.byWord(ctx):
		return c.untilStill(ctx)
	}
	return c.strictly(ctx, step.Wholeness)
}

// copier is one copy step at work.
type copier struct {
	r     *Runner
	h     Hands
	n     int
	step  plan.Step
	begun time.Time
	// read counts bytes that were read, known files that were not.
	read   atomic.Int64
	known  int
	unread int64 // bytes of those of its files that are not known
}

// look is a world's files as they stand, and what it was found as.
type look struct {
	tree    fs.FS
	settled func(error) error
	found   world.Found
	entries []world.Entry
	at      time.Time
}

func (c *copier) look(ctx context.Context) (l look, err error) {
	l.at = c.r.Now()
	l.tree, l.settled = c.h.Files.Observe(ctx)
	if l.found, err = world.ByName(l.tree, c.step.Dir, c.step.World, c.h.Profile); err == nil {
		l.entries, err = world.Parts(l.tree, l.found)
	}
	return l, l.settled(err)
}

// key names the step's world among those of the changeover.
func (c *copier) key() string { return c.step.Server + "\x00" + c.step.World }

// recall asks what an earlier backup has stored, once in a step.
func (c *copier) recall(ctx context.Context) error {
	key := c.key()
	if c.r.seen[key] != nil || c.r.Known == nil || c.step.ReadAll {
		return nil
	}
	can, err := c.h.Files.Capabilities(ctx)
	if err != nil || can.TimePrecision > time.Second {
		return err
	}
	rctx, done := context.WithTimeout(ctx, askPatience)
	defer done()
	known, err := c.r.Known(rctx, c.step.Server, c.step.World)
	c.keep(known)
	if len(known) > 0 {
		if c.r.recalled == nil {
			c.r.recalled = map[string]bool{}
		}
		c.r.recalled[key] = true
	}
	return err
}

// keep notes what is known of the world's files, for the next pass.
func (c *copier) keep(known map[string]Known) {
	if c.r.seen == nil {
		c.r.seen = map[string]map[string]Known{}
	}
	if known == nil {
		known = map[string]Known{}
	}
	c.r.seen[c.key()] = known
}

// headStart copies what it can, while people play.
func (c *copier) headStart(ctx context.Context) (*Detail, error) {
	l, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	if c.sources(l, nil, nil); c.known > 0 && c.unread < worthIt {
		return c.detail(vault.Copy{}), l.settled(nil) // the last pass has little to do
	}
	stored, _, err := c.store(ctx, l)
	if err != nil && ctx.Err() == nil && l.settled(nil) == nil {
		return c.detail(vault.Copy{}), nil //nolint:nilerr // it was written to meanwhile; the last pass is strict
	}
	return c.detail(stored), l.settled(err)
}

// within copies a world whose writes are held, no longer than that: then the server is let go, and the
// copy has failed.
func (c *copier) within(ctx context.Context, limit time.Duration) (*Detail, error) {
	at := c.r.heldAt
	if at.IsZero() {
		at = c.begun
	}
	hctx, done := context.WithDeadlineCause(ctx, time.Now().Add(limit-c.r.Now().Sub(at)),
		fault.New(fault.NotReady, "copy", c.step.World, "its writes had been held for %s, and are let go",
			keep.Words(limit)).
			With("What was stored by then is known: the next try has less to do."))
	defer done()
	d, err := c.strictly(hctx, plan.WholeHeld)
	if err != nil && hctx.Err() != nil && ctx.Err() == nil {
		return d, context.Cause(hctx)
	}
	return d, err
}

// strictly copies a world that something keeps from changing: any failure is one.
func (c *copier) strictly(ctx context.Context, wholeness plan.Wholeness) (*Detail, error) {
	l, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	stored, _, err := c.store(ctx, l)
	if err = l.settled(err); err != nil || wholeness == plan.WholeStopped {
		if err != nil {
			return nil, err
		}
		return c.done(ctx, l, stored, wholeness, nil)
	}
	// A game may keep writing although it was told to stop. Two looks right after each other would not show it.
	apart, err := c.apart(ctx)
	if err == nil {
		err = pauseUntil(ctx, c.r.Now, l.at.Add(apart))
	}
	if err != nil {
		return nil, err
	}
	again, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	if changed := differ(l.entries, again.entries); len(changed) > 0 {
		return c.done(ctx, again, stored, plan.NotWhole, changed)
	}
	return c.done(ctx, l, stored, wholeness, nil)
}

// apart is how far two looks are apart that show whether a game writes: longer than its host's times are precise, and
// no longer than players notice.
func (c *copier) apart(ctx context.Context) (time.Duration, error) {
	can, err := c.h.Files.Capabilities(ctx)
	return min(max(heldFor, can.TimePrecision), stillFor), err
}

// byWord reports whether only a person's word says that the server is stopped.
func (c *copier) byWord(ctx context.Context) bool {
	st := c.h.Control.Status(ctx)
	return st.Evidence == life.Word
}

// untilStill copies a world that nothing keeps from changing: once what stands there afterwards is what
// was copied, and it has stood still for long enough to tell, the copy is whole. A world that never
// stands still is copied all the same, and said not to be whole.
func (c *copier) untilStill(ctx context.Context) (*Detail, error) {
	l, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	for pass := 1; ; pass++ {
		stored, bases, serr := c.store(ctx, l)
		if err := l.settled(nil); err != nil || ctx.Err() != nil {
			return nil, errors.Join(err, serr)
		}
		if err := pauseUntil(ctx, c.r.Now, l.at.Add(stillFor)); err != nil {
			return nil, err
		}
		again, err := c.look(ctx)
		if err != nil {
			return nil, err
		}
		changed := differ(l.entries, again.entries)
		files := slices.DeleteFunc(slices.Clone(changed), func(name string) bool { return bases[name] })
		switch {
		case serr == nil && len(changed) == 0:
			return c.done(ctx, again, stored, plan.WholeStill, nil)
		case serr == nil && len(files) == 0 && pass >= mostPasses/2:
			return c.done(ctx, again, stored, plan.WholeDatabases, changed)
		case serr == nil && pass >= mostPasses:
			return c.done(ctx, again, stored, plan.NotWhole, files)
		case pass >= mostPasses || len(changed) == 0:
			return nil, serr
		}
		l = again
	}
}

func pauseUntil(ctx context.Context, now func() time.Time, then time.Time) error {
	timer := time.NewTimer(then.Sub(now()))
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// differ gives the files, by their paths in the tree, in which two looks differ.
func differ(before, after []world.Entry) (out []string) {
	was := map[string]world.Entry{}
	for _, e := range before {
		was[e.Source] = e
	}
	for _, e := range after {
		if b, there := was[e.Source]; !there || b.Size != e.Size || !b.ModTime.Equal(e.ModTime) || b.Dir != e.Dir {
			out = append(out, e.Source)
		}
		delete(was, e.Source)
	}
	for name := range was {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// store stores what a look has found, and notes what is known now. bases are the databases, by their
// paths in the tree, that were taken by SQLite's own means, and what they keep beside them.
func (c *copier) store(ctx context.Context, l look) (stored vault.Copy, bases map[string]bool, err error) {
	r := c.r
	snapshots, bases, err := c.databases(ctx, l)
	defer closeAll(snapshots)
	if err != nil {
		return stored, nil, err
	}
	files := c.sources(l, snapshots, bases)
	stored, err = r.Vault.Store(ctx, files, func() { r.trace(c.n, c.step, "halfway") })
	if fault.CodeOf(err) == fault.Changed && c.known > 0 { // the vault has lost what was known: all is read
		delete(r.recalled, c.key())
		c.keep(nil)
		files = c.sources(l, snapshots, bases)
		stored, err = r.Vault.Store(ctx, files, func() { r.trace(c.n, c.step, "halfway") })
	}
	if err == nil {
		c.keep(c.learned(l, stored, bases))
		r.stored = append(r.stored, fresh(files, stored)...)
	}
	return stored, bases, err
}

// fresh gives the files of a copy that were read to store it.
func fresh(sources []vault.Source, stored vault.Copy) (out []vault.File) {
	known := map[string]bool{}
	for _, s := range sources {
		known[FileKey(s.Part, s.Path)] = len(s.Known) > 0
	}
	for _, f := range stored.Files {
		if !known[FileKey(f.Part, f.Path)] {
			out = append(out, f)
		}
	}
	return out
}

// sources makes the vault's sources of a world's files; those that are known and have not changed since
// are not read again.
func (c *copier) sources(l look, snapshots map[string]io.ReadCloser, bases map[string]bool) (out []vault.Source) {
	r, known, total := c.r, c.r.seen[c.key()], int64(0)
	c.known = 0
	for _, e := range l.entries {
		src := vault.Source{Part: e.Part, Path: e.Path, Modified: e.ModTime}
		snapshot, isBase := snapshots[e.Source]
		switch {
		case e.Dir:
		case bases[e.Source] && !isBase:
			continue // what it holds is in the database that was taken
		case isBase:
			total += e.Size
			src.Open = func() (io.ReadCloser, error) { return &counted{ReadCloser: snapshot, r: r, read: &c.read}, nil }
		default:
			if k, ok := known[FileKey(e.Part, e.Path)]; ok && k.Size == e.Size && k.Modified.Equal(e.ModTime) &&
				e.Size > 0 {
				src.Known, src.Sum = k.Chunks, k.Sum
				c.known++
			} else {
				total += e.Size
			}
			src.Open = func() (io.ReadCloser, error) {
				f, err := l.tree.Open(e.Source)
				if err != nil {
					return nil, err
				}
				return &counted{ReadCloser: f, r: r, read: &c.read}, nil
			}
		}
		out = append(out, src)
	}
	c.unread = total
	begun := c.read.Load()
	r.report(func(p *plan.Progress) { p.TotalBytes, p.TotalFiles, p.Bytes, p.Files = begun+total, len(out), begun, 0 })
	return out
}

// databases takes the databases that the profile names, each as it stands at one moment, where something
// may write to them meanwhile and the host has a way.
func (c *copier) databases(ctx context.Context, l look) (map[string]io.ReadCloser, map[string]bool, error) {
	taken, bases := map[string]io.ReadCloser{}, map[string]bool{}
	if c.step.Wholeness != "" && c.step.Wholeness != plan.WholeHeld || c.step.Pass {
		return taken, bases, nil
	}
	for _, e := range l.entries {
		if e.Dir || e.Part != "" || !slices.ContainsFunc(c.h.Profile.World.Databases,
			func(pattern string) bool { return world.Match(pattern, e.Path) }) {
			continue
		}
		f, err := c.h.Files.Snapshot(ctx, e.Source)
		switch {
		case fault.CodeOf(err) == fault.Unsupported:
			return taken, bases, nil
		case err != nil && (fault.Passing(err) || ctx.Err() != nil):
			return taken, nil, err
		case err != nil:
			continue // it is no database, or a broken one: it is copied as any file
		}
		taken[e.Source] = f
		for _, ending := range []string{"", "-wal", "-shm", "-journal"} {
			bases[e.Source+ending] = true
		}
	}
	return taken, bases, nil
}

func closeAll(files map[string]io.ReadCloser) {
	for _, f := range files {
		_ = f.Close() // only read
	}
}

// learned is what will be known of a copy's files: those that had not been written to for long enough, by
// the clock of their host.
func (c *copier) learned(l look, stored vault.Copy, bases map[string]bool) map[string]Known {
	byKey := map[string]vault.File{}
	for _, f := range stored.Files {
		byKey[FileKey(f.Part, f.Path)] = f
	}
	var newest time.Time
	for _, e := range l.entries {
		if e.ModTime.After(newest) {
			newest = e.ModTime
		}
	}
	before := l.at.Add(-settled)
	if c.h.Files.Distant() { // its clock may be behind, but has been where it last wrote
		if newest.Before(l.at) {
			before = newest.Add(-settled)
		}
		if sure := l.at.Add(-apart); sure.After(before) {
			before = sure
		}
	}
	out := map[string]Known{}
	for _, e := range l.entries {
		if f, ok := byKey[FileKey(e.Part, e.Path)]; ok && !e.Dir && !bases[e.Source] && e.ModTime.Before(before) {
			out[FileKey(e.Part, e.Path)] = Known{Size: e.Size, Modified: e.ModTime, Chunks: f.Chunks, Sum: f.Sum}
		}
	}
	return out
}

func (c *copier) detail(stored vault.Copy) *Detail {
	return &Detail{
		Copy: stored.ID, Bytes: stored.Bytes, Files: len(stored.Files), Read: c.read.Load(), Known: c.known,
		TookMS: c.r.Now().Sub(c.begun).Milliseconds(),
	}
}

// mostMoved is how many files that changed, or were left out, are named.
const mostMoved = 20

// done reads what the world says of itself, and has the copy recorded.
func (c *copier) done(ctx context.Context, l look, stored vault.Copy, wholeness plan.Wholeness,
	moved []string) (*Detail,
	error,
) {
	w, err := world.Read(l.tree, l.found)
	if err = l.settled(err); err != nil {
		return nil, err
	}
	w.Locks = nil // it was held or closed when it was copied
	w.Warnings = slices.DeleteFunc(w.Warnings,
		func(s string) bool { return strings.Contains(s, "the world may be open in the game") })
	d := c.detail(stored)
	d.Wholeness = wholeness
	for _, name := range moved[:min(len(moved), mostMoved)] {
		d.Moved = append(d.Moved, strings.TrimPrefix(name, c.step.Dir+"/"))
	}
	d.LeftOut = w.LeftOut[:min(len(w.LeftOut), mostMoved)]
	kctx, done := context.WithTimeout(ctx, askPatience)
	defer done()
	return d, c.r.Keep(kctx, Copied{
		Copy: stored, Facts: w, Server: c.step.Server, World: c.step.World, Safety: c.step.Safety, Detail: *d,
		Known: c.r.seen[c.key()], ReadWhole: !c.r.recalled[c.key()],
	})
}

// counted tells how much of a file has been read.
type counted struct {
	io.ReadCloser
	r    *Runner
	read *atomic.Int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
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

// saysOfCopy tells how a copy step went.
func saysOfCopy(step plan.Step, d Detail) (string, int64) {
	if step.Pass || d.Copy == "" {
		return "", d.Read
	}
	var out []string
	if len(d.LeftOut) > 0 {
		out = append(out, "Called as its files and beginning otherwise, so left behind: "+
			strings.Join(d.LeftOut, ", ")+".")
	}
	if d.Known > 0 {
		out = append(out, strconv.Itoa(d.Known)+" of "+strconv.Itoa(d.Files)+
			" files are stored already, by their sizes and times, and were not read again.")
	}
	if d.Wholeness != "" {
		out = append(out, d.Wholeness.Say())
	}
	if len(d.Moved) > 0 && d.Wholeness == plan.NotWhole {
		out = append(out, "Changed meanwhile: "+strings.Join(d.Moved, ", ")+".")
	}
	return strings.Join(out, " "), d.Read
}

// copyOf is the copy that a step works with: its own, or the one that was made.
func (r *Runner) copyOf(step plan.Step) (string, error) {
	if step.Copy != "" {
		return step.Copy, nil
	}
	for n, s := range r.job.Plan.Steps {
		var d Detail
		if s.Kind == plan.Copy && !s.Pass && !s.Safety && json.Unmarshal(r.job.Steps[n].Left, &d) == nil &&
			d.Copy != "" {
			return d.Copy, nil
		}
	}
	return "", fault.New(fault.Internal, "find copy for", r.job.Plan.World, "no step has made one")
}
