package executor

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/settings"
	"reshard/internal/hostfs"
	"reshard/internal/vault"
)

// Detail is what a step leaves in the journal.
type Detail struct {
	// TookMS is how long the game itself took to stop or to start.
	TookMS int64 `json:"tookMs,omitempty"`
	// Clean is false when a stopped server did not say that all was written.
	Clean bool `json:"clean,omitempty"`
	// Already says that a server was down before it was asked to stop, Evidence how it is
	// known to be down, and Word whose word that is. Builds before did not tell.
	Already  bool          `json:"already,omitempty"`
	Evidence life.Evidence `json:"evidence,omitempty"`
	Word     string        `json:"word,omitempty"`
	// Before and After are SHA-256 of a settings file's bytes.
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	// Samples are what the proof compares with.
	Samples []Sample `json:"samples,omitempty"`
	// Copy is the id of the copy that was made, Bytes and Files what it holds; Read is
	// how much of it had to be read.
	Copy  string `json:"copy,omitempty"`
	Bytes int64  `json:"bytes,omitempty"`
	Files int    `json:"files,omitempty"`
	Read  int64  `json:"read,omitempty"`
	// Opened is the world whose name was written as the server told it.
	Opened string `json:"opened,omitempty"`
	// By says who gave the word that was waited for.
	By string `json:"by,omitempty"`
	// Proof is the prove step's result.
	Proof *plan.Proof `json:"proof,omitempty"`
}

// longestSettings bounds a settings file that is edited, in bytes.
const longestSettings = 4 << 20

func (r *Runner) act(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	switch step.Kind {
	case plan.Stage:
		return nil, r.stage(ctx, n, step)
	case plan.Sample:
		samples, err := takeSamples(r.Files.At(ctx), step.Dir, step.Names, r.Profile)
		return &Detail{Samples: samples}, err
	case plan.Retitle:
		return nil, r.retitle(ctx, step)
	case plan.Copy:
		return r.copyWorld(ctx, n, step)
	case plan.Tell:
		return nil, r.tell(ctx, step, step.Tell, step.World)
	case plan.Stop:
		return r.stop(ctx, step)
	case plan.Move:
		if err := r.keepDown(ctx, n, step); err != nil {
			return nil, err
		}
		if step.World != "" {
			return nil, r.moveSession(ctx, step.World, step.NameAfter(), step.From, step.To,
				sync.OnceFunc(func() { r.trace(n, step, "halfway") }))
		}
		return nil, r.move(ctx, step.From, step.To)
	case plan.Write:
		if err := r.keepDown(ctx, n, step); err != nil {
			return nil, err
		}
		return r.write(ctx, n, step)
	case plan.Start:
		return r.start(ctx, step)
	case plan.Prove:
		proof, err := r.prove(ctx)
		if err != nil {
			return nil, err
		}
		if !proof.Holds() {
			var words []string
			for _, c := range proof.Failed() {
				words = append(words, fmt.Sprintf("%s: expected %s, saw %s", c.What, c.Expected, c.Seen))
			}
			if len(words) == 0 {
				words = []string{"nothing of it could be seen"}
			}
			return &Detail{Proof: &proof}, fault.New(fault.NotProven, "prove", r.job.Plan.Folder, "%s",
				strings.Join(words, "; "))
		}
		return &Detail{Proof: &proof}, nil
	}
	return nil, fault.New(fault.Internal, "run", step.Kind, "no step of this kind")
}

// stop stops a server. It may be done again for one that is on its way down.
func (r *Runner) stop(ctx context.Context, step plan.Step) (*Detail, error) {
	h, err := r.hands(step)
	if err != nil {
		return nil, err
	}
	if step.Server == "" {
		r.report(func(p *plan.Progress) { p.StoppedAt = r.Now() })
	}
	end, err := h.Control.Stop(ctx, control.Clean)
	return &Detail{
		TookMS: end.Took.Milliseconds(), Clean: end.Clean, Already: end.Already, Evidence: end.Evidence, Word: end.By,
	}, err
}

func (r *Runner) start(ctx context.Context, step plan.Step) (*Detail, error) {
	h, err := r.hands(step)
	if err != nil {
		return nil, err
	}
	r.started = r.started || !step.Again
	if r.job.Plan.Expect.Fresh {
		if err := r.markTime(ctx); err != nil {
			return nil, err
		}
	}
	took, err := h.Control.Start(ctx)
	if err == nil && step.Server == "" {
		r.report(func(p *plan.Progress) { p.ReadyAt = r.Now() })
	}
	return &Detail{TookMS: took.Milliseconds()}, err
}

// keepDown makes sure that the server is down before something is moved or written that
// must not be under a running one: a plan says so by stopping it before, or starting it
// after. A server of which it cannot be told is waited for. One that somebody has started
// since it was stopped is stopped again; one that was to be down all the time is left
// alone, and so is its world.
func (r *Runner) keepDown(ctx context.Context, n int, step plan.Step) error {
	if !step.Switch || !r.job.Plan.StartsAfter(n) {
		return nil
	}
	st := r.Control.Status(ctx)
	switch st.State {
	case life.Stopped:
		return nil
	case life.Unknown:
		return st.Err("work on", r.job.Plan.Server)
	case life.Running, life.Starting, life.Stopping:
	}
	if !r.job.Plan.StopsBefore(n) {
		return fault.New(fault.Changed, step.Kind, r.job.Plan.Server,
			"it was stopped when the plan was made, and is %s now", st.State)
	}
	_, err := r.Control.Stop(ctx, control.Clean)
	return err
}

// unact takes a step back that has been intended or done. Each can tell from
// the files how far it had come.
func (r *Runner) unact(ctx context.Context, n int, step plan.Step) error {
	switch step.Kind {
	case plan.Stage:
		return r.unstage(ctx)
	case plan.Tell:
		return r.untell(ctx, step)
	case plan.Stop:
		// It stood before every other live step, so all of those are back. A first
		// start is the exception: the server was stopped before it.
		h, err := r.hands(step)
		if err != nil || r.job.Plan.Expect.State == life.Stopped {
			return err
		}
		_, err = h.Control.Start(ctx)
		return err
	case plan.Move:
		if err := r.keepDownOnTheWayBack(ctx, n, step); err != nil {
			return err
		}
		if step.World != "" {
			return r.moveSession(ctx, step.NameAfter(), step.World, step.To, step.From,
				sync.OnceFunc(func() { r.trace(n, step, "halfway back") }))
		}
		return r.moveBack(ctx, step)
	case plan.Write:
		if err := r.keepDownOnTheWayBack(ctx, n, step); err != nil {
			return err
		}
		return r.unwrite(ctx, step)
	case plan.Start:
		if step.Again {
			return nil // it runs the world that it ran before
		}
		r.started = true
		if _, err := r.Control.Stop(ctx, control.Force); err != nil {
			return err
		}
		return r.setStraysAside(ctx)
	}
	return nil // samples and proofs change nothing
}

// keepDownOnTheWayBack does not move anything back under a server of which it cannot be
// told whether it runs.
func (r *Runner) keepDownOnTheWayBack(ctx context.Context, n int, step plan.Step) error {
	if !step.Switch || !r.job.Plan.StartsAfter(n) {
		return nil
	}
	return r.Control.Status(ctx).Err("work on", r.job.Plan.Server)
}

// stage writes a copy's files into the working folder, reads each back and
// compares it with its address.
func (r *Runner) stage(ctx context.Context, n int, step plan.Step) error {
	id, err := r.copyOf(step)
	if err != nil {
		return err
	}
	c, err := r.Vault.Load(ctx, id)
	if err != nil {
		return err
	}
	// A half staged world of an earlier try is ours to remove.
	if err := r.unstage(ctx); err != nil {
		return err
	}
	like, err := r.belonging(ctx)
	if err != nil {
		return err
	}
	for _, dir := range []string{"aside", "settings"} {
		if err := r.Files.MkdirAll(ctx, path.Join(r.job.Plan.Work, dir), like.dir); err != nil {
			return err
		}
	}
	if err := r.makeFolders(ctx, c, step, like); err != nil {
		return err
	}
	r.report(func(p *plan.Progress) { p.TotalBytes, p.TotalFiles, p.Bytes, p.Files = c.Bytes, len(c.Files), 0, 0 })
	if err := r.stageFiles(ctx, c, step, like, func() { r.trace(n, step, "halfway") }); err != nil {
		return err
	}
	return r.Files.SyncAll(ctx)
}

func (r *Runner) makeFolders(ctx context.Context, c vault.Copy, step plan.Step, like belonging) error {
	made := map[string]bool{}
	for _, f := range c.Files {
		// The folder of a file that is left behind is made all the same: a game may
		// not make it itself.
		to, ok := step.Target(r.Profile.World, f.Part, f.Path)
		if !ok {
			return fault.New(fault.Internal, "stage", f.Path, "the plan has no place for it (part %q)", f.Part)
		}
		dir := path.Dir(to)
		if f.Dir() {
			dir = to
		}
		if made[dir] {
			continue
		}
		made[dir] = true
		if err := r.Files.MkdirAll(ctx, dir, like.dir); err != nil {
			return err
		}
	}
	return nil
}

// stageFiles writes two files at a time: one reads while the other is written.
func (r *Runner) stageFiles(ctx context.Context, c vault.Copy, step plan.Step, like belonging, halfway func()) error {
	var mu sync.Mutex
	half := sync.OnceFunc(halfway)
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	for _, f := range c.Files {
		to, ok := step.Target(r.Profile.World, f.Part, f.Path)
		if f.Dir() || !ok || step.Skipped(f.Part, f.Path) {
			continue
		}
		group.Go(func() error {
			if err := context.Cause(gctx); err != nil {
				return fault.Wrap(fault.Interrupted, "stage", r.job.Plan.World, err)
			}
			if err := r.stageFile(gctx, f, to, like); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			r.report(func(p *plan.Progress) { p.Files++; p.Bytes += f.Size })
			if r.progress.Files*2 >= r.progress.TotalFiles {
				half()
			}
			return nil
		})
	}
	return group.Wait()
}

func (r *Runner) stageFile(ctx context.Context, f vault.File, to string, like belonging) error {
	attributes := like.file
	attributes.Modified = f.Modified
	if _, err := r.Files.Write(ctx, to, r.Vault.Read(ctx, f), attributes); err != nil {
		return err
	}
	in, err := r.Files.At(ctx).Open(to)
	if err != nil {
		return fault.Wrap(fault.Damaged, "read back", to, err)
	}
	defer in.Close() //nolint:errcheck // only read
	h := blake3.New()
	buf := make([]byte, 256<<10)
	for _, c := range f.Chunks {
		h.Reset()
		if err := copyExactly(h, in, c.Size, buf); err != nil {
			return fault.Wrap(fault.Damaged, "read back", to, err)
		}
		if hex.EncodeToString(h.Sum(nil)) != c.Hash {
			return fault.New(fault.Damaged, "read back", to,
				"what was written is not what the copy holds; the host's disk may be failing")
		}
	}
	return nil
}

func (r *Runner) unstage(ctx context.Context) error {
	staged := path.Join(r.job.Plan.Work, "staged")
	if r.switchedBefore() {
		// The game has had the folder open: keep it for whoever wants to know
		// why it failed, instead of removing what it wrote.
		there, err := r.Files.Exists(ctx, staged)
		if err != nil || !there {
			return err
		}
		return r.Files.Move(ctx, staged, path.Join(r.job.Plan.Work, "failed"))
	}
	return r.Files.Discard(ctx, staged)
}

// switchedBefore reports whether the server may have been started with the
// staged world.
func (r *Runner) switchedBefore() bool {
	for n, s := range r.job.Plan.Steps {
		if s.Kind == plan.Start && r.job.Steps[n].State != plan.StepPlanned {
			return true
		}
	}
	return r.started
}

// move renames, or finds that it has been done: by an earlier life, or by a call whose
// answer was lost. When neither or both names are there, somebody else has been at work,
// and a person must look.
func (r *Runner) move(ctx context.Context, from, to string) error {
	err := r.Files.Move(ctx, from, to)
	if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) {
		return err
	}
	hasFrom, err := r.Files.Exists(ctx, from)
	if err != nil {
		return err
	}
	hasTo, err := r.Files.Exists(ctx, to)
	if err != nil {
		return err
	}
	switch {
	case hasFrom && !hasTo: // the folder for it is not there
		like, err := r.belonging(ctx)
		if err != nil {
			return err
		}
		if err := r.Files.MkdirAll(ctx, path.Dir(to), like.dir); err != nil {
			return err
		}
		return r.Files.Move(ctx, from, to)
	case !hasFrom && hasTo:
		return nil
	case hasFrom:
		return fault.New(fault.Held, "move", from, "%s is there as well", to)
	}
	return fault.New(fault.Held, "move", from, "neither it nor %s is there", to)
}

// moveSession renames every file of a session that is still in its old place, or has
// its old name. Doing it once more does what is left, so that it can be repeated
// after a crash.
func (r *Runner) moveSession(ctx context.Context, session, as, from, to string, halfway func()) error {
	there, err := r.Files.Exists(ctx, from)
	if err != nil || !there {
		return err // nothing of it was ever there
	}
	entries, err := r.Files.List(ctx, from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if name, _, ok := r.Profile.World.NameOf(e.Name()); !ok || name != session || e.IsDir() {
			continue
		}
		renamed := r.Profile.World.Renamed(e.Name(), session, as)
		if err := r.move(ctx, path.Join(from, e.Name()), path.Join(to, renamed)); err != nil {
			return err
		}
		halfway()
	}
	return nil
}

func (r *Runner) moveBack(ctx context.Context, step plan.Step) error {
	hasFrom, err := r.Files.Exists(ctx, step.From)
	if err != nil {
		return err
	}
	if hasFrom {
		if hasTo, err := r.Files.Exists(ctx, step.To); err != nil || !hasTo {
			return err // it never happened
		}
	}
	return r.move(ctx, step.To, step.From)
}

// unwrite puts the kept bytes back whole; what stands there now is kept too. A
// file that somebody edited by hand while the server was down keeps that edit:
// only our own keys go back.
func (r *Runner) unwrite(ctx context.Context, step plan.Step) error {
	kept, err := r.kept(ctx, step.Keep)
	if err != nil || kept == nil {
		return err // nothing was written yet
	}
	if step, _, err = r.openedEdits(ctx, step); err != nil {
		if fault.Passing(err) {
			return err
		}
		return r.Files.Replace(ctx, step.File, kept) // the server is down: whose name was written cannot be told
	}
	now, err := r.kept(ctx, step.File)
	if err == nil && now == nil {
		return r.Files.Replace(ctx, step.File, kept)
	}
	if err != nil || bytes.Equal(now, kept) {
		return err
	}
	back := kept
	after, err := r.settingsAfter(ctx, step, kept)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, after) && !r.switchedBefore() {
		if back, err = withoutOurs(step, now); err != nil || bytes.Equal(back, now) {
			return err
		}
	}
	if err := r.Files.Replace(ctx, step.Keep+".taken-back", now); err != nil {
		return err
	}
	return r.Files.Replace(ctx, step.File, back)
}

// withoutOurs sets those keys back that hold what the step wrote.
func withoutOurs(step plan.Step, now []byte) ([]byte, error) {
	doc, err := settings.Parse(step.File, step.Syntax, now)
	if err != nil {
		return nil, err
	}
	for _, e := range step.Edits {
		if entry, ok := doc.Get(e.Key); ok && entry.Value == e.Value && e.WasSet {
			if doc, err = doc.Set(e.Key, e.Was); err != nil {
				return nil, err
			}
		}
	}
	return doc.Bytes(), nil
}

// setStraysAside moves what the server made in its worlds folder during a
// failed start (a mistyped world, empty realms) into the working folder, so
// that nothing new stands beside the old world when it comes back.
func (r *Runner) setStraysAside(ctx context.Context) error {
	names, err := r.strays(ctx)
	if err != nil {
		return err
	}
	made, err := r.made(ctx)
	if err != nil {
		return err
	}
	names = append(names, made...)
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if err := r.Files.MkdirAll(ctx, path.Join(r.job.Plan.Work, "strays"), hostfs.Attributes{}); err != nil {
			return err
		}
		if err := r.move(ctx, path.Join(r.job.Plan.Worlds, name),
			path.Join(r.job.Plan.Work, "strays", name)); err != nil {
			return err
		}
	}
	return nil
}

// inWorlds lists what is, or could be taken for, a world in the worlds folder.
func (r *Runner) inWorlds(ctx context.Context) ([]string, error) {
	there, err := r.Files.Exists(ctx, r.job.Plan.Worlds)
	if err != nil || !there {
		return nil, err
	}
	entries, err := r.Files.List(ctx, r.job.Plan.Worlds)
	var out []string
	for _, e := range entries {
		if server.TakesName(r.Profile, e) {
			out = append(out, e.Name())
		}
	}
	return out, err
}

// strays lists what could be a world in the worlds folder that the plan does not know:
// neither left there nor placed.
func (r *Runner) strays(ctx context.Context) ([]string, error) {
	worlds := r.job.Plan.Worlds
	known := map[string]bool{r.folder(ctx): true}
	for _, name := range r.job.Plan.Expect.Folders {
		known[r.worldName(name)] = true
	}
	for _, s := range r.job.Plan.Steps {
		switch {
		case s.Kind != plan.Move:
		case s.World != "":
			known[s.World], known[s.As] = true, true
		case path.Dir(s.To) == worlds:
			known[r.worldName(path.Base(s.To))] = true
		}
	}
	names, err := r.inWorlds(ctx)
	var out []string
	for _, name := range names {
		if !known[r.worldName(name)] {
			out = append(out, name)
		}
	}
	return out, err
}

// worldName gives what tells worlds apart in the worlds folder: of a session, to
// which a game adds files while it is played, its name; else the name itself.
func (r *Runner) worldName(file string) string {
	if r.Profile.World.Shape == game.ShapeFolder {
		return file
	}
	name, _, ok := r.Profile.World.NameOf(file)
	if !ok {
		return file
	}
	return name
}

func (r *Runner) proof() (plan.Proof, error) {
	for n, s := range r.job.Plan.Steps {
		if s.Kind != plan.Prove {
			continue
		}
		var d Detail
		if err := json.Unmarshal(r.job.Steps[n].Detail, &d); err != nil || d.Proof == nil {
			return plan.Proof{}, fault.New(fault.Internal, "read proof of", r.job.Plan.Server, "the journal holds none")
		}
		return *d.Proof, nil
	}
	return plan.Proof{}, fault.New(fault.Internal, "prove", r.job.Plan.Server, "the plan has no proof")
}

// Window splits the stop window that a job's journal tells of: the game's
// stopping and starting, and what was ours, in milliseconds; ok is false when
// there was none.
func Window(steps []plan.Step, records []StepTimes) (w plan.Window, total time.Duration, ok bool) {
	w = plan.Window{Stopping: -1, Ours: -1, Starting: -1}
	var begun, down, up time.Time
	for n, s := range steps {
		rec := records[n]
		if s.Switch && begun.IsZero() {
			begun, down = rec.Intended, rec.Intended
		}
		switch s.Kind {
		case plan.Stop:
			if s.Server != "" {
				continue
			}
			begun, down = rec.Intended, rec.Done // what was said before the stop locked nobody out
			w.Stopping = rec.Detail.TookMS
		case plan.Start:
			if s.Server != "" {
				continue
			}
			up = rec.Intended
			w.Starting = rec.Detail.TookMS
			if rec.Done.IsZero() {
				return w, 0, false
			}
		}
	}
	if begun.IsZero() || down.IsZero() || up.IsZero() {
		return w, 0, false
	}
	w.Ours = up.Sub(down).Milliseconds()
	total = up.Sub(begun) + time.Duration(w.Starting)*time.Millisecond
	return w, total, true
}

// StepTimes is what the journal knows of when a step was done.
type StepTimes struct {
	Intended, Done time.Time
	Detail         Detail
}
