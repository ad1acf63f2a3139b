package executor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"reshard/internal/control"
	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/vault"
)

// prover makes one proof: it asks the running server and looks at its files.
type prover struct {
	r      *Runner
	ctx    context.Context
	files  fs.FS
	status control.Status
	expect plan.Expect
	// read reads the world that should run, once for all checks.
	read func() (world.Facts, error)
}

// proveAll makes the proof and leaves it in the journal, also when it fails.
func (r *Runner) proveAll(ctx context.Context, _ int, _ plan.Step) (*Detail, error) {
	proof, err := r.prove(ctx)
	if err != nil {
		return nil, err
	}
	if proof.Holds() {
		return &Detail{Proof: &proof}, nil
	}
	var words []string
	for _, c := range proof.Failed() {
		words = append(words, fmt.Sprintf("%s: expected %s, saw %s", c.What, c.Expected, c.Seen))
	}
	if len(words) == 0 {
		words = []string{"nothing of it could be seen"}
	}
	f := fault.New(fault.NotProven, "prove", r.job.Plan.Folder, "%s", strings.Join(words, "; "))
	for _, c := range proof.Failed() {
		if c.Next != "" {
			f = f.With(c.Next)
			break
		}
	}
	return &Detail{Proof: &proof}, f
}

// noOther is the check that the server has made no world beside the one that was meant.
const noOther = "no other new world"

// prove makes the proof. Every check says what was expected and what was seen; each can
// fail on its own. The error says that the host or the server did not answer: then
// nothing is proven and nothing refuted, and it is to be tried again.
func (r *Runner) prove(ctx context.Context) (plan.Proof, error) {
	files, settled := r.Files.Observe(ctx)
	p := prover{r: r, ctx: ctx, files: files, status: r.Control.Status(ctx), expect: r.job.Plan.Expect}
	if err := p.status.Err("prove on", r.job.Plan.Server); err != nil {
		return plan.Proof{}, err
	}
	if p.expect.Own {
		p.expect.Folder = r.folder(ctx)
		p.expect.Opened = []string{p.expect.Folder}
	}
	p.read = sync.OnceValues(func() (world.Facts, error) {
		found, err := world.ByName(files, r.job.Plan.Worlds, r.folder(ctx), r.Profile)
		if err != nil {
			return world.Facts{}, err
		}
		return world.Read(files, found)
	})
	proof, err := p.all()
	return proof, settled(err)
}

func (p *prover) all() (plan.Proof, error) {
	r, expect := p.r, p.expect
	proof := plan.Proof{Checks: []plan.Check{}}
	add := func(checks ...plan.Check) { proof.Checks = append(proof.Checks, checks...) }
	if expect.Stored {
		copied, err := r.proveCopy(p.ctx)
		add(copied...)
		return proof, err
	}
	add(r.stopped()...)
	up := expect.State == "" || expect.State == life.Running
	switch {
	case up && p.status.Opened == "" && (p.status.Unheard || p.status.Told && p.heard()):
		add(plan.Check{
			What: plan.LogNames, Expected: p.expect.Folder, Unseen: true,
			Seen: "its log cannot be read here, or does not say",
		})
	case up && (p.status.Opened != "" || !r.Profile.Server.Console.Opened.IsZero()):
		add(p.opened())
	case up && r.Profile.Server.Console.Seed.Say == "": // files alone do not tell what a game has opened
		add(plan.Check{
			What: plan.NotVisible, Expected: p.expect.Folder, Unseen: true,
			Seen: "its profile knows no line that names it, and no question that tells its seed",
		})
	}
	r.trace(len(r.job.Plan.Steps)-1, plan.Step{Kind: plan.Prove}, "halfway")
	seed, err := p.seedChecks()
	add(seed...)
	if err != nil {
		return proof, err
	}
	if expect.WorldID != "" {
		seen, from := p.fact("world-id")
		add(plan.Check{What: "world id in " + from, Expected: expect.WorldID, Seen: seen, OK: seen == expect.WorldID})
	}
	add(p.version()...)
	written, err := p.written()
	add(written...)
	if err != nil {
		return proof, err
	}
	if up {
		add(p.otherLocks()...)
	}
	add(p.placed()...)
	copied, err := r.proveCopy(p.ctx)
	add(copied...)
	if err != nil {
		return proof, err
	}
	if expect.Players > 0 {
		add(p.players())
	}
	writable, err := p.writable()
	add(writable...)
	if err != nil {
		return proof, err
	}
	if up && !r.Profile.Server.Console.Refused.IsZero() {
		refused, err := p.notRefused()
		add(refused)
		if err != nil {
			return proof, err
		}
	}
	if len(expect.There) == 0 { // a first start makes what it likes
		stray, err := p.noStray()
		add(stray)
		if err != nil {
			return proof, err
		}
	}
	if up && p.status.Word == "" {
		again, err := p.again()
		add(again...)
		if err != nil {
			return proof, err
		}
	}
	add(p.state())
	proof.World = p.identity()
	return proof, nil
}

// again looks at the server once more when everything else has been looked at: it may have ended meanwhile, been
// started again, or loaded another world.
func (p *prover) again() ([]plan.Check, error) {
	before := p.status
	p.status = p.r.Control.Status(p.ctx)
	if err := p.status.Err("prove on", p.r.job.Plan.Server); err != nil {
		return nil, err
	}
	if p.status.State == life.Running && p.status.Opened != before.Opened && p.status.Opened != "" {
		c := p.opened()
		c.What += ", at the end of the proof"
		return []plan.Check{c}, nil
	}
	return nil, nil
}

// identity is what tells the world apart that the server is to run from now on.
func (p *prover) identity() *server.Identity {
	out := &server.Identity{Folder: p.expect.Folder}
	if p.expect.Own { // a log may name it by its path
		out.Folder = server.Running{Opened: p.expect.Folder}.Folder(p.r.Profile)
	}
	facts := p.r.Profile.World.Facts
	_, seed := facts["seed"]
	_, id := facts["world-id"]
	if !seed && !id {
		return out
	}
	if w, err := p.read(); err == nil {
		out.Seed, out.WorldID = w.Fact("seed").Text, w.Fact("world-id").Text
	}
	return out
}

// stopped says how it was known that the server was down before anything was moved.
func (r *Runner) stopped() []plan.Check {
	for n, s := range r.job.Plan.Steps {
		var d Detail
		if s.Kind != plan.Stop || s.Server != "" || json.Unmarshal(r.job.Steps[n].Left, &d) != nil ||
			d.Evidence == life.NoneYet {
			continue
		}
		c := plan.Check{
			What:     "the server was down before the switch",
			Expected: "seen to be down",
			Seen:     d.Evidence.Say(d.Word),
			OK:       true,
		}
		if d.Evidence == life.Word { // somebody has said so, and nobody has seen it
			c.OK, c.Unseen = false, true
		}
		return []plan.Check{c}
	}
	return nil
}

// seedChecks compares the running seed, or shows that the world is a new one.
func (p *prover) seedChecks() ([]plan.Check, error) {
	switch {
	case p.expect.Fresh:
		return p.fresh()
	case p.expect.Seed != "":
		c := plan.Check{Expected: p.expect.Seed}
		var err error
		c.What, c.Seen, err = p.seedSeen()
		c.OK = p.r.sameSeed(c.Seen, p.expect.Seed)
		return []plan.Check{c}, err
	}
	return nil, nil
}

// placed compares what was staged with what stands there now.
func (p *prover) placed() (checks []plan.Check) {
	for _, name := range []string{p.expect.Folder, p.expect.Placed} {
		if samples, dir := p.r.samples(name, false); len(samples) > 0 {
			checks = append(checks, compareSamples(p.files, dir, samples))
		}
	}
	if i := slices.IndexFunc(p.r.job.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.Retitle }); i >= 0 {
		checks = append(checks, p.title(p.r.job.Plan.Steps[i]))
	}
	for _, name := range p.expect.There {
		_, err := fs.Stat(p.files, strings.TrimSuffix(name, "/"))
		check := plan.Check{What: name, Expected: "there", Seen: "there", OK: err == nil}
		if err != nil {
			check.Seen = "not there"
		}
		checks = append(checks, check)
	}
	return checks
}

// version compares the server's version with the one that the plan was made for: a start may
// update the game. That refutes nothing, and is told.
func (p *prover) version() []plan.Check {
	before, now := p.r.job.Plan.Version, p.status.Version
	if sources := p.r.Profile.Server.Version; len(sources) > 0 {
		b := budget.World()
		defer b.Done()
		if f := fact.NewReader(p.files, b).Read("version", sources); f.Known() {
			now = f.Text
		}
	}
	if before == "" || now == "" || !p.status.State.Up() {
		return nil
	}
	c := plan.Check{What: "the server's version", Expected: before + ", as before", Seen: now, OK: true}
	if before != now {
		c.Expected = before + " before; another is told"
		c.Seen = now + ": the game was changed by this start, or before it"
	}
	return []plan.Check{c}
}

// newGround counts blocks of the old world that stand in the new one.
func (p *prover) newGround(dir, name string, samples []Sample) plan.Check {
	shape := p.r.Profile.World.Shape
	if shape == game.ShapeFolder {
		dir = path.Join(p.r.job.Plan.Worlds, name)
	}
	total, same, _ := countSame(p.files, dir, samples)
	if shape != game.ShapeFolder {
		// The old world's files may stand in the same folder: those of the new count.
		var mine []Sample
		for _, s := range samples {
			if p.r.worldName(s.File) == name {
				mine = append(mine, s)
			}
		}
		_, same, _ = countSame(p.files, dir, mine)
	}
	return plan.Check{
		What: "the ground is new", Expected: fmt.Sprintf("at most 1 in 4 of %d sampled blocks of the old world", total),
		Seen: fmt.Sprintf("%d of %d blocks of the old world", same, total), OK: same*4 <= total,
	}
}

func (p *prover) opened() plan.Check {
	c := plan.Check{What: plan.LogNames, Expected: p.expect.Folder, Seen: "nothing"}
	if p.status.Signed {
		c.What = plan.LockIn
	}
	if seen := p.status.Opened; seen != "" {
		c.Seen = seen
		c.OK = slices.Contains(p.expect.Opened, seen) || slices.Contains(p.expect.Opened, path.Clean(seen))
	}
	return c
}

// heard reports whether the log would name the opened world.
func (p *prover) heard() bool { return !p.r.Profile.Server.Console.Opened.IsZero() }

func (p *prover) notRefused() (plan.Check, error) {
	c := plan.Check{What: "the log holds no refusal", Expected: "none", Seen: "none", OK: true}
	lines, err := p.r.Control.Refusals(p.ctx)
	for _, line := range lines {
		_, meant := p.r.Profile.Server.NewWorld.Ignore.Find(line)
		if !meant || !p.expect.Fresh {
			c.Seen, c.OK = line, false
			break
		}
	}
	return c, err
}

func (p *prover) players() plan.Check {
	c := plan.Check{
		What:     "player records are there",
		Expected: fmt.Sprintf("at least %d", p.expect.Players),
		Seen:     "no world",
	}
	if w, err := p.read(); err == nil {
		c.Seen, c.OK = fmt.Sprint(w.PlayerTotal()), w.PlayerTotal() >= p.expect.Players
	}
	return c
}

// seedSeen asks the running server for its seed, or reads it out of its world.
func (p *prover) seedSeen() (what, seen string, err error) {
	if q := p.r.Profile.Server.Console.Seed; q.Say != "" {
		seen, err := p.r.Control.Ask(p.ctx, q)
		if err != nil {
			seen, _ = fault.Words(err)
		}
		if !fault.Passing(err) {
			err = nil // that there is no answer is what was seen
		}
		return plan.AnswersTo + q.Say, seen, err
	}
	seen, from := p.fact("seed")
	return "seed in " + from + " after the start", seen, nil
}

// sameSeed compares seeds in the form in which the game takes them: some programs
// write a number with a sign and some without.
func (r *Runner) sameSeed(a, b string) bool {
	seeds := r.Profile.Server.Seeds
	x, number, err := seeds.Written(a)
	y, also, err2 := seeds.Written(b)
	return a == b || (err == nil && err2 == nil && number && also && x == y)
}

// fresh shows that a new world runs: with the seed that was asked for, made after
// the old one was gone, and not the old one's ground.
func (p *prover) fresh() ([]plan.Check, error) {
	e := p.expect
	what, seen, err := p.seedSeen()
	if err != nil {
		return nil, err
	}
	_, number := p.r.Profile.Server.Seeds.Number(seen)
	seed := plan.Check{What: what, Seen: seen, Expected: e.Seed, OK: p.r.sameSeed(seen, e.Seed)}
	if e.Seed == "" {
		seed.Expected, seed.OK = "a seed", number
		if e.SeedText != "" {
			seed.Expected = "the number that the game makes of “" + e.SeedText + "”"
		}
		if e.OldSeed != "" {
			seed.Expected += ", not " + e.OldSeed
			seed.OK = number && !p.r.sameSeed(seen, e.OldSeed)
		}
	}
	var checks []plan.Check
	_, told := p.r.Profile.World.Facts["seed"]
	if told || p.r.Profile.Server.Console.Seed.Say != "" {
		checks = append(checks, seed)
	}
	made := plan.Check{What: "files made since the old world was gone", Expected: "all of them"}
	files, older, err := p.madeSince(e.Folder)
	made.Seen, made.OK = fmt.Sprintf("%d of %d", files-older, files), err == nil && older == 0
	if err != nil {
		made.Seen = err.Error()
	}
	checks = append(checks, made)
	if id, from := p.fact("world-id"); e.OldID != "" {
		checks = append(checks, plan.Check{
			What:     "another world id in " + from,
			Expected: "not " + e.OldID,
			Seen:     id,
			OK:       id != e.OldID,
		})
	}
	// With the same seed the ground may well be the same again.
	if samples, dir := p.r.samples("", true); len(samples) > 0 && !p.r.sameSeed(seen, e.OldSeed) {
		checks = append(checks, p.newGround(dir, e.Folder, samples))
	}
	return checks, nil
}

// proveCopy reads back what the plan's copy steps have made, when that is all that the plan is for. What
// this life has read to store it is read back; of what was in the vault already it is seen to that it is
// there: the standing check reads it in its turn. Another life reads all of it.
func (r *Runner) proveCopy(ctx context.Context) (checks []plan.Check, err error) {
	if slices.ContainsFunc(r.job.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.Stage }) {
		return nil, nil // staging has read it back
	}
	for n, s := range r.job.Plan.Steps {
		d := DetailOf(r.job.Steps[n])
		if s.Kind != plan.Copy || s.Pass || s.Safety && !r.job.Plan.Expect.Stored || d.Copy == "" {
			continue
		}
		c := plan.Check{What: "the copy of " + s.World + " reads back", Expected: "every file as it was stored"}
		stored, err := r.Vault.Load(ctx, d.Copy)
		if err == nil {
			err = r.readBackCopy(ctx, stored)
		}
		if fault.Passing(err) {
			return nil, err
		}
		c.Seen, c.OK = fmt.Sprintf("%d files, %s", len(stored.Files), d.Copy[:12]), err == nil
		if err != nil {
			c.Seen = err.Error()
		}
		checks = append(checks, c)
	}
	return checks, nil
}

func (r *Runner) readBackCopy(ctx context.Context, stored vault.Copy) error {
	if r.stored == nil {
		return r.Vault.Verify(ctx, stored)
	}
	if err := r.Vault.Holds(ctx, stored); err != nil {
		return err
	}
	mine := map[string]bool{}
	for _, f := range r.stored {
		mine[FileKey(f.Part, f.Path)] = true
	}
	read := vault.Copy{ID: stored.ID}
	for _, f := range stored.Files {
		if mine[FileKey(f.Part, f.Path)] {
			read.Files = append(read.Files, f)
		}
	}
	return r.Vault.Verify(ctx, read)
}

func (p *prover) fact(name string) (value, from string) {
	w, err := p.read()
	if err != nil {
		return err.Error(), path.Join(p.r.job.Plan.Worlds, p.expect.Folder)
	}
	f := w.Fact(name)
	if !f.Known() {
		return f.Why, f.File
	}
	return f.Text, f.File
}

func (p *prover) noStray() (plan.Check, error) {
	c := plan.Check{What: noOther, Expected: "none", Seen: "none", OK: true}
	var strays []string
	allowed := server.Siblings(p.files, p.r.Profile, p.r.job.Plan.Worlds, p.r.folder(p.ctx))
	names, err := p.r.strays(p.ctx)
	for _, name := range names {
		if !slices.Contains(allowed, name) { // realms that the server made for this world are its own
			strays = append(strays, name)
		}
	}
	if len(strays) == 0 {
		return c, err
	}
	c.Seen, c.OK = strings.Join(strays, ", "), false
	c.Next = c.Seen + " appeared next to the world. Find out what makes worlds there. If the " +
		"game saves next to its worlds, its profile must say so " +
		"(world.autosaves: reshard games show " + p.r.Profile.ID + ")."
	out := p.r.movedOut()
	if i := slices.IndexFunc(strays, func(s string) bool { return slices.Contains(out, p.r.worldName(s)) }); i >= 0 {
		c.Seen += ": this changeover had moved it away, and it is there again"
		c.Next = "The game created it again. Check what sets the world's name, such as a field on your " +
			"provider's page, and set it to " + p.expect.Folder + " first."
	}
	return c, err
}

func (p *prover) state() plan.Check {
	e := p.expect
	if e.State == "" || e.State == life.Running {
		if word := p.status.Word; word != "" { // somebody has said so, and nobody has seen it
			return plan.Check{
				What: "the server is ready", Expected: string(life.Running), Seen: "the word of " + word, Unseen: true,
			}
		}
		return plan.Check{
			What:     "the server is ready",
			Expected: string(life.Running),
			Seen:     string(p.status.State),
			OK:       p.status.State == life.Running,
		}
	}
	return plan.Check{
		What:     "the server is as before",
		Expected: string(e.State),
		Seen:     string(p.status.State),
		OK:       p.status.State == e.State,
	}
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
