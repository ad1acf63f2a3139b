package changeover

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/zeebo/blake3"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
)

// Sample remembers pieces of one file.
type Sample struct {
	File   string  `json:"file"` // within the sampled folder
	Blocks []Block `json:"blocks"`
}

// Block is one piece: where, how long, and its BLAKE3-256.
type Block struct {
	At   int64  `json:"at"`
	Size int    `json:"size"`
	Hash string `json:"hash"`
}

// How much is sampled: enough that a regenerated world cannot pass, little
// enough that a world of any size takes the same moment.
const (
	sampledFiles  = 24
	sampledBlocks = 8
	blockSize     = 4096
)

// takeSamples remembers blocks of files that the profile calls steady, spread
// evenly over the folder; when the profile names none, of any files.
func takeSamples(tree fs.FS, dir string, names []string, p *game.Profile) ([]Sample, error) {
	var steady, all []string
	err := fs.WalkDir(tree, dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel := strings.TrimPrefix(name, dir+"/")
		if len(names) > 0 && !slices.Contains(names, rel) {
			return nil
		}
		all = append(all, rel)
		if slices.ContainsFunc(p.World.Steady, func(pattern string) bool { return world.Match(pattern, rel) }) {
			steady = append(steady, rel)
		}
		return nil
	})
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "sample", dir, err)
	}
	if len(steady) == 0 {
		steady = all
	}
	sort.Strings(steady)
	var out []Sample
	for _, i := range spread(len(steady), sampledFiles) {
		s, err := sampleFile(tree, dir, steady[i])
		if err != nil {
			return nil, fault.Wrap(fault.Internal, "sample", path.Join(dir, steady[i]), err)
		}
		out = append(out, s)
	}
	return out, nil
}

// spread picks at most most of n indices, evenly, first and last among them.
func spread(n, most int) []int {
	if n <= most {
		most = n
	}
	out := make([]int, 0, most)
	for i := range most {
		if most == 1 {
			out = append(out, 0)
		} else {
			out = append(out, i*(n-1)/(most-1))
		}
	}
	return out
}

func sampleFile(tree fs.FS, dir, name string) (Sample, error) {
	f, err := tree.Open(path.Join(dir, name))
	if err != nil {
		return Sample{}, err
	}
	defer f.Close() //nolint:errcheck // only read
	info, err := f.Stat()
	if err != nil {
		return Sample{}, err
	}
	s := Sample{File: name, Blocks: []Block{}}
	count := int((info.Size() + blockSize - 1) / blockSize)
	for _, i := range spread(count, sampledBlocks) {
		b := Block{At: int64(i) * blockSize, Size: int(min(blockSize, info.Size()-int64(i)*blockSize))}
		if b.Hash, err = hashBlock(f, b); err != nil {
			return s, err
		}
		s.Blocks = append(s.Blocks, b)
	}
	return s, nil
}

func hashBlock(f fs.File, b Block) (string, error) {
	buf := make([]byte, b.Size)
	if at, ok := f.(io.ReaderAt); ok {
		if _, err := at.ReadAt(buf, b.At); err != nil {
			return "", err
		}
	} else {
		seeker, ok := f.(io.Seeker)
		if !ok {
			return "", fmt.Errorf("the host cannot read from the midst of a file")
		}
		if _, err := seeker.Seek(b.At, io.SeekStart); err != nil {
			return "", err
		}
		if _, err := io.ReadFull(f, buf); err != nil {
			return "", err
		}
	}
	sum := blake3.Sum256(buf)
	return hex.EncodeToString(sum[:]), nil
}

func copyExactly(to io.Writer, from io.Reader, n int64, buf []byte) error {
	copied, err := io.CopyBuffer(to, io.LimitReader(from, n), buf)
	if err == nil && copied != n {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// compareSamples counts blocks that still stand and names the first that do
// not. A server may rewrite a few places at once; one that made the world anew
// leaves hardly a block.
func compareSamples(tree fs.FS, dir string, samples []Sample) plan.Check {
	check := plan.Check{What: "files stand as they were placed"}
	total, same, gone := countSame(tree, dir, samples)
	check.Expected = fmt.Sprintf("at least 3 of 4 of %d sampled blocks in %d files, and no file gone", total, len(samples))
	check.Seen = fmt.Sprintf("%d of %d blocks the same", same, total)
	if len(gone) > 0 {
		check.Seen += fmt.Sprintf(", %d files gone (%s …)", len(gone), gone[0])
	}
	check.OK = len(gone) == 0 && same*4 >= total*3
	return check
}

func countSame(tree fs.FS, dir string, samples []Sample) (total, same int, gone []string) {
	for _, s := range samples {
		f, err := tree.Open(path.Join(dir, s.File))
		if err != nil {
			gone = append(gone, s.File)
			total += max(1, len(s.Blocks))
			continue
		}
		for _, b := range s.Blocks {
			total++
			if hash, err := hashBlock(f, b); err == nil && hash == b.Hash {
				same++
			}
		}
		_ = f.Close() // only read
	}
	return total, same, gone
}

// newGround counts blocks of the old world that stand in the new one.
func (r *Runner) newGround(dir, name string, samples []Sample) plan.Check {
	if r.Profile.World.Shape == game.ShapeFolder {
		dir = path.Join(r.job.Plan.Worlds, name)
	}
	total, same, _ := countSame(r.Place.FS(), dir, samples)
	if r.Profile.World.Shape != game.ShapeFolder {
		// The old world's files may stand in the same folder: those of the new count.
		var mine []Sample
		for _, s := range samples {
			if r.worldName(s.File) == name {
				mine = append(mine, s)
			}
		}
		_, same, _ = countSame(r.Place.FS(), dir, mine)
	}
	return plan.Check{
		What: "the ground is new", Expected: fmt.Sprintf("at most 1 in 4 of %d sampled blocks of the old world", total),
		Seen: fmt.Sprintf("%d of %d blocks of the old world", same, total), OK: same*4 <= total,
	}
}

// prove asks the running server and looks at its files. Every check says what
// was expected and what was seen; each can fail on its own.
func (r *Runner) prove(ctx context.Context) plan.Proof {
	expect := r.job.Plan.Expect
	proof := plan.Proof{Checks: []plan.Check{}}
	if expect.Own {
		expect.Folder = r.folder()
		expect.Opened = []string{expect.Folder}
	}
	up := expect.State == "" || expect.State == control.Running
	if up && !r.Profile.Server.Console.Opened.IsZero() {
		proof.Checks = append(proof.Checks, r.proveOpened(expect))
	}
	r.trace(len(r.job.Plan.Steps)-1, plan.Step{Kind: plan.Prove}, "halfway")
	switch {
	case expect.Fresh:
		proof.Checks = append(proof.Checks, r.proveFresh(ctx, expect)...)
	case expect.Seed != "":
		proof.Checks = append(proof.Checks, r.proveSeed(ctx, expect))
	}
	if expect.WorldID != "" {
		seen, from := r.worldFact("world-id")
		proof.Checks = append(proof.Checks, plan.Check{What: "world id in " + from, Expected: expect.WorldID, Seen: seen, OK: seen == expect.WorldID})
	}
	for _, name := range []string{expect.Folder, expect.Placed} {
		if samples, dir := r.samples(name, false); len(samples) > 0 {
			proof.Checks = append(proof.Checks, compareSamples(r.Place.FS(), dir, samples))
		}
	}
	if i := slices.IndexFunc(r.job.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.Retitle }); i >= 0 {
		proof.Checks = append(proof.Checks, r.proveTitle(r.job.Plan.Steps[i]))
	}
	for _, name := range expect.There {
		_, err := fs.Stat(r.Place.FS(), strings.TrimSuffix(name, "/"))
		check := plan.Check{What: name, Expected: "there", Seen: "there", OK: err == nil}
		if err != nil {
			check.Seen = "not there"
		}
		proof.Checks = append(proof.Checks, check)
	}
	if check, made := r.proveCopy(ctx); made {
		proof.Checks = append(proof.Checks, check)
	}
	if expect.Players > 0 {
		proof.Checks = append(proof.Checks, r.provePlayers(expect))
	}
	if up && !r.Profile.Server.Console.Refused.IsZero() {
		proof.Checks = append(proof.Checks, r.proveNotRefused())
	}
	if len(expect.There) == 0 { // a first start makes what it likes
		proof.Checks = append(proof.Checks, r.proveNoStray())
	}
	proof.Checks = append(proof.Checks, r.proveState(expect))
	return proof
}

func (r *Runner) proveOpened(e plan.Expect) plan.Check {
	c := plan.Check{What: "the log names the opened world", Expected: e.Folder, Seen: "nothing"}
	if st := r.Control.Status(); st.Opened != "" {
		c.Seen = st.Opened
		c.OK = slices.Contains(e.Opened, st.Opened) || slices.Contains(e.Opened, path.Clean(st.Opened))
	}
	return c
}

func (r *Runner) proveNotRefused() plan.Check {
	c := plan.Check{What: "the log holds no refusal", Expected: "none", Seen: "none", OK: true}
	for _, line := range r.Control.Refusals() {
		_, meant := r.Profile.Server.NewWorld.Ignore.Find(line)
		if !meant || !r.job.Plan.Expect.Fresh {
			c.Seen, c.OK = line, false
			break
		}
	}
	return c
}

func (r *Runner) provePlayers(e plan.Expect) plan.Check {
	c := plan.Check{What: "player records are there", Expected: fmt.Sprintf("at least %d", e.Players), Seen: "no world"}
	if w, err := r.readWorld(); err == nil {
		c.Seen, c.OK = fmt.Sprint(len(w.Players)), len(w.Players) >= e.Players
	}
	return c
}

// seedSeen asks the running server for its seed, or reads it out of its world.
func (r *Runner) seedSeen(ctx context.Context) (what, seen string) {
	if q := r.Profile.Server.Console.Seed; q.Say != "" {
		seen, err := r.Control.Ask(ctx, q)
		if err != nil {
			seen, _ = fault.Words(err)
		}
		return "the console answers " + q.Say, seen
	}
	seen, from := r.worldFact("seed")
	return "seed in " + from + " after the start", seen
}

func (r *Runner) proveSeed(ctx context.Context, e plan.Expect) plan.Check {
	c := plan.Check{Expected: e.Seed}
	c.What, c.Seen = r.seedSeen(ctx)
	c.OK = r.sameSeed(c.Seen, e.Seed)
	return c
}

// sameSeed compares seeds in the form in which the game takes them: some programs
// write a number with a sign and some without.
func (r *Runner) sameSeed(a, b string) bool {
	seeds := r.Profile.Server.Seeds
	x, number, err := seeds.Written(a)
	y, also, err2 := seeds.Written(b)
	return a == b || (err == nil && err2 == nil && number && also && x == y)
}

// proveFresh shows that a new world runs: with the seed that was asked for, made after
// the old one was gone, and not the old one's ground.
func (r *Runner) proveFresh(ctx context.Context, e plan.Expect) []plan.Check {
	what, seen := r.seedSeen(ctx)
	_, number := game.SeedBits(seen)
	seed := plan.Check{What: what, Seen: seen, Expected: e.Seed, OK: r.sameSeed(seen, e.Seed)}
	if e.Seed == "" {
		seed.Expected, seed.OK = "a seed", number
		if e.SeedText != "" {
			seed.Expected = "the number that the game makes of “" + e.SeedText + "”"
		}
		if e.OldSeed != "" {
			seed.Expected += ", not " + e.OldSeed
			seed.OK = number && !r.sameSeed(seen, e.OldSeed)
		}
	}
	var checks []plan.Check
	_, told := r.Profile.World.Facts["seed"]
	if told || r.Profile.Server.Console.Seed.Say != "" {
		checks = append(checks, seed)
	}
	made := plan.Check{What: "files made since the old world was gone", Expected: "all of them"}
	files, older, err := r.madeSince(e.Folder)
	made.Seen, made.OK = fmt.Sprintf("%d of %d", files-older, files), err == nil && older == 0
	if err != nil {
		made.Seen = err.Error()
	}
	checks = append(checks, made)
	if id, from := r.worldFact("world-id"); e.OldID != "" {
		checks = append(checks, plan.Check{What: "another world id in " + from, Expected: "not " + e.OldID, Seen: id, OK: id != e.OldID})
	}
	// With the same seed the ground may well be the same again.
	if samples, dir := r.samples("", true); len(samples) > 0 && !r.sameSeed(seen, e.OldSeed) {
		checks = append(checks, r.newGround(dir, e.Folder, samples))
	}
	return checks
}

// proveCopy reads a copy back that the plan's last copy step has made, when that is
// all that the plan is for.
func (r *Runner) proveCopy(ctx context.Context) (plan.Check, bool) {
	if slices.ContainsFunc(r.job.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.Stage }) {
		return plan.Check{}, false // staging has read it back
	}
	id, err := r.copyOf(plan.Step{})
	if err != nil {
		return plan.Check{}, false
	}
	c := plan.Check{What: "the copy reads back", Expected: "every file as it was stored"}
	stored, err := r.Vault.Load(id)
	if err == nil {
		err = r.Vault.Verify(ctx, stored)
	}
	c.Seen, c.OK = fmt.Sprintf("%d files, %s", len(stored.Files), id[:12]), err == nil
	if err != nil {
		c.Seen = err.Error()
	}
	return c, true
}

// readWorld reads the world that should run, as it stands now.
func (r *Runner) readWorld() (world.World, error) {
	found, err := world.ByName(r.Place.FS(), r.job.Plan.Worlds, r.folder(), r.Profile)
	if err != nil {
		return world.World{}, err
	}
	return world.Read(r.Place.FS(), found)
}

func (r *Runner) worldFact(name string) (value, from string) {
	w, err := r.readWorld()
	if err != nil {
		return err.Error(), path.Join(r.job.Plan.Worlds, r.job.Plan.Expect.Folder)
	}
	f := w.Fact(name)
	if !f.Known() {
		return f.Why, f.File
	}
	return f.Text, f.File
}

// samples finds what the sample steps remembered of the world that now has this name
// on disk, or of the old one, and the folder that their files stand in now.
func (r *Runner) samples(folder string, old bool) ([]Sample, string) {
	for n, s := range r.job.Plan.Steps {
		if s.Kind != plan.Sample || s.Old != old || (!old && s.NameAfter() != folder) {
			continue
		}
		var d Detail
		if json.Unmarshal(r.job.Steps[n].Detail, &d) != nil {
			continue
		}
		if len(s.Names) == 0 {
			return d.Samples, path.Join(r.job.Plan.Worlds, folder)
		}
		if s.As != "" {
			for i := range d.Samples {
				d.Samples[i].File = r.Profile.World.Renamed(d.Samples[i].File, s.World, s.As)
			}
		}
		return d.Samples, r.job.Plan.Worlds
	}
	return nil, ""
}

func (r *Runner) proveNoStray() plan.Check {
	c := plan.Check{What: "no other new world", Expected: "none", Seen: "none", OK: true}
	var strays []string
	allowed := server.Siblings(r.Place.FS(), r.Profile, r.job.Plan.Worlds, r.folder())
	for _, name := range r.strays() {
		if !slices.Contains(allowed, name) { // realms that the server made for this world are its own
			strays = append(strays, name)
		}
	}
	if len(strays) > 0 {
		c.Seen, c.OK = strings.Join(strays, ", "), false
	}
	return c
}

func (r *Runner) proveState(e plan.Expect) plan.Check {
	st := r.Control.Status()
	if e.State == "" || e.State == control.Running {
		return plan.Check{What: "the server is ready", Expected: control.Running, Seen: st.State, OK: st.State == control.Running}
	}
	return plan.Check{What: "the server is as before", Expected: e.State, Seen: st.State, OK: st.State == e.State}
}
