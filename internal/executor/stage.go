package executor

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
	"reshard/internal/vault"
)

func copyExactly(to io.Writer, from io.Reader, n int64, buf []byte) error {
	copied, err := io.CopyBuffer(to, io.LimitReader(from, n), buf)
	if err == nil && copied != n {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// staging is what is known of a staging while this life lasts: a line that breaks is taken up
// where it was.
type staging struct {
	mu sync.Mutex
	// whole are the files that stand there as they should, sums the hashes that they are to have.
	whole map[string]bool
	sums  map[string][]byte
	begun map[string]bool // was written to
	// folders are those that a stream makes; none: they are there.
	folders []string
	// earlier: the working folder is of an earlier life, and may hold some of it.
	earlier bool
	// fetched says that what the host has already was looked for.
	fetched bool
	reuse   reuse
}

// stage writes a copy's files into the working folder and compares each with its address: by
// reading it back, or by a hash that the host makes. What the host has already is copied there.
func (r *Runner) stage(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	id, err := r.copyOf(step)
	if err != nil {
		return nil, err
	}
	c, err := r.Vault.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	can, err := r.Files.Capabilities(ctx)
	if err != nil {
		return nil, err
	}
	files := r.toStage(c, step)
	if err := namesHeld(files, can); err != nil {
		return nil, err
	}
	st := &stager{Runner: r, step: step, can: can, half: sync.OnceFunc(func() { r.trace(n, step, "halfway") })}
	large := can.Copy && c.Bytes >= worthFetching
	if st.streams() && r.staged == nil && !large {
		st.channel = st.open(ctx, path.Join(r.job.Plan.Work, "staged"))
		defer st.channel.end()
	}
	if err := st.begin(ctx, c, large); err != nil {
		return nil, err
	}
	r.report(func(p *plan.Progress) { p.TotalBytes, p.TotalFiles, p.Bytes, p.Files = c.Bytes, len(c.Files), 0, 0 })
	r.already(files)
	if r.staged.earlier {
		if err := st.takeUp(ctx, files); err != nil {
			return nil, err
		}
		r.staged.earlier = false
	}
	err = st.fetch(ctx, files)
	if err == nil && st.streams() && !st.fewLeft(files) {
		err = st.stream(ctx, files)
	}
	if fault.CodeOf(err) == fault.Unsupported { // a check had found more than there is
		st.can.Unpack, st.can.Hash = false, false
		err = st.makeLeft(ctx)
	}
	if err == nil && !st.streams() {
		err = st.bundle(ctx, files)
	}
	if err == nil {
		err = st.sendLeft(ctx, files)
	}
	if err != nil {
		return nil, err
	}
	if err := r.Files.SyncAll(ctx); err != nil {
		return nil, err
	}
	detail := &Detail{
		Compared: st.compared(), Reuse: r.staged.reuse, Bundled: st.bundled, Unbundled: st.unbundled,
	}
	r.staged = nil
	return detail, nil
}

// sendLeft sends what does not stand there yet, and looks, where not all is read back, whether it does then.
// A file that has not arrived whole is sent once more.
func (s *stager) sendLeft(ctx context.Context, files []stagedFile) error {
	left := s.missing(files)
	for again := false; len(left) > 0; again = true {
		if err := s.sendFiles(ctx, left); err != nil || !s.step.BySample {
			return err
		}
		stand, _, err := s.standing(ctx, left, nil)
		if err != nil {
			return err
		}
		if left = without(left, stand); len(left) > 0 && again {
			return notAsWritten(left[0].to)
		}
		s.notArrived(left)
	}
	return nil
}

// without gives those of the files that are not among others.
func without(files, others []stagedFile) (left []stagedFile) {
	among := map[string]bool{}
	for _, f := range others {
		among[f.to] = true
	}
	for _, f := range files {
		if !among[f.to] {
			left = append(left, f)
		}
	}
	return left
}

// notArrived takes back that files have arrived.
func (s *stager) notArrived(files []stagedFile) {
	s.staged.mu.Lock()
	defer s.staged.mu.Unlock()
	for _, f := range files {
		delete(s.staged.whole, f.to)
		delete(s.staged.begun, f.to)
		s.report(func(p *plan.Progress) { p.Files--; p.Bytes -= f.Size })
	}
}

// stager is a staging at work.
type stager struct {
	*Runner
	step plan.Step
	can  capability.Set
	like belonging
	half func()
	// channel takes a stream; it is opened while what comes before it is done. It may be nil.
	channel *channel
	// bundled is who has unpacked an archive of the files, unbundled why they went one by one.
	bundled, unbundled string
}

// makeLeft makes the folders that a stream was to make.
func (s *stager) makeLeft(ctx context.Context) error {
	for _, dir := range s.staged.folders { // those above are before those below
		if err := s.Files.MkdirAll(ctx, dir, s.like.dir); err != nil {
			return err
		}
	}
	s.staged.folders = nil
	return nil
}

// fewLeft reports whether what the host did not have is so little that a stream is not worth its
// beginning.
func (s *stager) fewLeft(files []stagedFile) bool {
	return s.staged.reuse.Files > 0 && len(s.missing(files)) <= s.can.AtOnce
}

// streams reports whether the files go over as one stream.
func (s *stager) streams() bool { return s.can.Unpack && s.can.Hash }

// begin makes ready what is written to, and finds out whom files are to belong to.
func (s *stager) begin(ctx context.Context, c vault.Copy, large bool) (err error) {
	if s.staged != nil {
		s.like, err = s.belonging(ctx)
		return err
	}
	st := &staging{whole: map[string]bool{}, sums: map[string][]byte{}, begun: map[string]bool{}}
	dirs, err := s.folders(c)
	if err != nil {
		return err
	}
	inStream := s.streams() && !large
	var made []string
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		defer fault.Catch(&err)
		s.like, err = s.belonging(gctx)
		return err
	})
	group.Go(func() (err error) {
		defer fault.Catch(&err)
		if !inStream {
			now := dirs
			if s.bundles(len(s.toStage(c, s.step))) {
				now, st.folders = nil, slices.Concat(dirs...)
			}
			made, st.earlier, err = s.makeFolders(gctx, now)
			return err
		}
		_, err = s.ownFolder(gctx)
		fresh := false
		if err == nil {
			fresh, err = s.work.make(gctx)
		}
		st.earlier = err == nil && !fresh
		return err
	})
	if err := group.Wait(); err != nil {
		return err
	}
	if inStream {
		st.folders = append([]string{s.job.Plan.Work}, slices.Concat(dirs...)...)
	} else if s.like.dir != (hostfs.Attributes{}) {
		err = s.eachFolder(ctx, made, func(ctx context.Context, dir string) error {
			return s.Files.Set(ctx, dir, s.like.dir)
		})
	}
	s.staged = st
	return err
}

// ownFolder reports whether the folder is there in which the working folders are. It is an error
// when something else stands there: a stream that is unpacked would follow a link.
func (r *Runner) ownFolder(ctx context.Context) (bool, error) {
	dir := path.Dir(r.job.Plan.Work)
	info, err := r.Files.Stat(ctx, dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	case err == nil && !info.IsDir():
		return false, fault.New(fault.Exists, "stage", dir, "it is no folder; move it away, and try again")
	}
	return err == nil, err
}

// How staged files were compared.
const (
	readBack   = "read back"
	hashedThem = "hashed there"
	bySample   = "by a sample"
)

func (s *stager) compared() string {
	switch {
	case s.step.BySample:
		return bySample
	case s.can.Hash:
		return hashedThem
	}
	return readBack
}

// saysOfStage tells how far what was staged was compared, and what was not sent.
func saysOfStage(step plan.Step, d Detail) (note string, bytes int64) {
	switch {
	case d.Bundled != "":
		note = "The world went over as one archive, which " + d.Bundled + " unpacked. " + map[string]string{
			readBack: "Every file was read back.",
			bySample: "Of every file the size was compared with the copy, and of some the content.",
		}[d.Compared]
	case d.Compared == hashedThem:
		note = "Every file was compared with the copy by a hash that its host made."
	case d.Compared == bySample:
		note = "Of every file the size was compared with the copy, and of a sample the content."
	}
	if d.Unbundled != "" {
		note += " Files went over one by one: " + d.Unbundled + "."
	}
	if d.Reuse.Files > 0 {
		note += fmt.Sprintf(" %d files (%d MB) were not sent: the host had them", d.Reuse.Files, d.Reuse.Bytes>>20)
		if d.Reuse.Trusted > 0 {
			note += fmt.Sprintf("; %d of these were taken by size, time and an earlier staging", d.Reuse.Trusted)
		}
		note += "."
	}
	return strings.TrimSpace(note), step.Bytes
}

// stagedFile is a file of a copy and the name that it gets.
type stagedFile struct {
	vault.File
	to string
}

func (r *Runner) toStage(c vault.Copy, step plan.Step) (out []stagedFile) {
	for _, f := range c.Files {
		to, ok := step.Target(r.Profile.World, f.Part, f.Path)
		if !f.Dir() && ok && !step.Skipped(f.Part, f.Path) {
			out = append(out, stagedFile{f, to})
		}
	}
	return out
}

// already tells of what an earlier try has staged.
func (r *Runner) already(files []stagedFile) {
	for _, f := range files {
		if r.staged.whole[f.to] {
			r.report(func(p *plan.Progress) { p.Files++; p.Bytes += f.Size })
		}
	}
}

// arrived notes that a file stands there as it should.
func (s *stager) arrived(f stagedFile) {
	s.staged.mu.Lock()
	defer s.staged.mu.Unlock()
	s.staged.whole[f.to] = true
	s.report(func(p *plan.Progress) { p.Files++; p.Bytes += f.Size })
	if s.progress.Files*2 >= s.progress.TotalFiles {
		s.half()
	}
}

// folders are those that a staging needs in the working folder, those above before those below.
func (s *stager) folders(c vault.Copy) ([][]string, error) {
	var byDepth [][]string
	work := s.job.Plan.Work
	made := map[string]bool{work: true}
	var add func(dir string)
	add = func(dir string) {
		if made[dir] {
			return
		}
		made[dir] = true
		add(path.Dir(dir))
		depth := strings.Count(dir, "/")
		for len(byDepth) <= depth {
			byDepth = append(byDepth, nil)
		}
		byDepth[depth] = append(byDepth[depth], dir)
	}
	for _, name := range []string{"staged", "aside", "settings"} {
		add(path.Join(work, name))
	}
	for _, f := range c.Files {
		// The folder of a file that is left behind is made all the same: a game may
		// not make it itself.
		to, ok := s.step.Target(s.Profile.World, f.Part, f.Path)
		if !ok && s.step.Skipped(f.Part, f.Path) {
			continue // of a realm beside the world, when only some files come back
		}
		if !ok {
			return nil, fault.New(fault.Internal, "stage", f.Path, "the plan has no place for it (part %q)", f.Part)
		}
		if f.Dir() {
			add(to)
		} else {
			add(path.Dir(to))
		}
	}
	return byDepth, nil
}

// makeFolders makes them. It gives those that it made, whose attributes are still to be set: that needs no order; and
// whether an earlier life may have left some of it there.
func (s *stager) makeFolders(ctx context.Context, byDepth [][]string) (made []string, earlier bool, err error) {
	work := s.job.Plan.Work
	own, err := s.makeOwn(ctx)
	if err != nil {
		return nil, false, err
	}
	if own {
		made = append(made, path.Dir(work))
	}
	fresh, err := s.work.make(ctx)
	made = append(made, work)
	for _, dirs := range byDepth {
		if err == nil {
			err = s.eachFolder(ctx, dirs, func(ctx context.Context, dir string) error {
				_, err := s.Files.Mkdir(ctx, dir, hostfs.Attributes{})
				return err
			})
		}
		made = append(made, dirs...)
	}
	return made, err == nil && !fresh, err
}

// makeOwn makes the folder in which the working folders are, and reports whether it was not there. Both are
// asked at once: far away each takes some round trips.
func (s *stager) makeOwn(ctx context.Context) (made bool, err error) {
	dir := path.Dir(s.job.Plan.Work)
	looked := make(chan error, 1)
	go func() {
		looked <- fault.Safely(func() error {
			_, err := s.ownFolder(ctx)
			return err
		})
	}()
	made, err = s.Files.Mkdir(ctx, dir, hostfs.Attributes{})
	if errors.Is(err, fs.ErrNotExist) { // what it is in is not there either
		made, err = true, s.Files.MkdirAll(ctx, dir, hostfs.Attributes{})
	}
	if err == nil && !made {
		err = <-looked
	}
	return made, err
}

func (s *stager) eachFolder(ctx context.Context, dirs []string, do func(context.Context, string) error) error {
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(max(1, s.can.AtOnce))
	for _, dir := range dirs {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			return do(gctx, dir)
		})
	}
	return group.Wait()
}

// mostUnderWay bounds what is being written at once, in bytes: many small files, or a few
// large ones.
const mostUnderWay = 32 << 20

// sendFiles writes as many files at a time as the host takes well; at least one reads while
// another is written.
func (s *stager) sendFiles(ctx context.Context, files []stagedFile) error {
	return s.each(ctx, files, func(ctx context.Context, f stagedFile) (bool, error) {
		return true, s.sendFile(ctx, f)
	})
}

// each does something with each file that does not stand there yet.
func (s *stager) each(ctx context.Context, files []stagedFile,
	do func(context.Context, stagedFile) (bool, error)) error {
	return s.eachOf(ctx, s.missing(files), do)
}

// eachOf does something with each of the files, as many at a time as the host takes well, and notes those
// that stand there as they should then.
func (s *stager) eachOf(ctx context.Context, files []stagedFile,
	do func(context.Context, stagedFile) (bool, error)) error {
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(max(1, s.can.AtOnce))
	room := semaphore.NewWeighted(mostUnderWay)
	for _, f := range files {
		weight := min(max(4*f.Size, mostUnderWay/512), mostUnderWay/4)
		if err := room.Acquire(gctx, weight); err != nil {
			break // one of them has failed, or it was cancelled
		}
		group.Go(func() (err error) {
			defer room.Release(weight)
			defer fault.Catch(&err)
			if err := context.Cause(gctx); err != nil {
				return fault.Wrap(fault.Interrupted, "stage", s.job.Plan.World, err)
			}
			stands, err := do(gctx, f)
			if err == nil && stands {
				s.arrived(f)
			}
			return err
		})
	}
	err := group.Wait()
	if err == nil && ctx.Err() != nil {
		err = fault.Wrap(fault.Interrupted, "stage", s.job.Plan.World, context.Cause(ctx))
	}
	return err
}

// sendFile writes a file and reads it back. One of which an earlier try has written a part is
// gone on with.
func (s *stager) sendFile(ctx context.Context, f stagedFile) error {
	attributes := s.attributes(f)
	s.staged.mu.Lock()
	begun := s.staged.begun[f.to]
	s.staged.begun[f.to] = true
	s.staged.mu.Unlock()
	at := int64(0)
	if begun {
		var err error
		if at, err = s.goOnAt(ctx, f); err != nil {
			return err
		}
	}
	var err error
	switch {
	case at > 0:
		_, err = s.Files.Append(ctx, f.to, at, s.Vault.ReadFrom(ctx, f.File, at), attributes)
	case s.spared(f): // of all those the sizes are looked at in the end
		_, err = s.Files.WriteHasty(ctx, f.to, s.Vault.Read(ctx, f.File), attributes)
	default:
		_, err = s.Files.Write(ctx, f.to, s.Vault.Read(ctx, f.File), attributes)
	}
	if err == nil && !s.spared(f) {
		err = s.readBack(ctx, f)
	}
	if fault.CodeOf(err) == fault.Damaged {
		s.staged.mu.Lock()
		delete(s.staged.begun, f.to) // what does not compare is written anew
		s.staged.mu.Unlock()
	}
	return err
}

// attributes are what a staged file gets.
func (s *stager) attributes(f stagedFile) hostfs.Attributes {
	a := s.like.file
	a.Modified = f.Modified
	return a
}

// unsettled is how much of the end of a file whose writing was cut may have holes, in bytes:
// parts of it are written side by side.
const unsettled = 4 << 20

// goOnAt tells how much of a file is there from an earlier try.
func (r *Runner) goOnAt(ctx context.Context, f stagedFile) (int64, error) {
	info, err := r.Files.Stat(ctx, f.to)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil || info.Bytes > f.Size {
		return 0, err
	}
	return max(0, info.Bytes-unsettled), nil
}

func (r *Runner) readBack(ctx context.Context, f stagedFile) error {
	in, err := r.Files.OpenSeen(ctx, f.to, f.Size)
	if err != nil {
		return fault.Wrap(fault.Damaged, "read back", f.to, err)
	}
	defer in.Close() //nolint:errcheck // only read
	h := blake3.New()
	buf := make([]byte, 256<<10)
	for _, c := range f.Chunks {
		h.Reset()
		if err := copyExactly(h, in, c.Size, buf); err != nil {
			return fault.Wrap(fault.Damaged, "read back", f.to, err)
		}
		if hex.EncodeToString(h.Sum(nil)) != c.Hash {
			return notAsWritten(f.to)
		}
	}
	return nil
}

func notAsWritten(name string) error {
	return fault.New(fault.Damaged, "read back", name,
		"what was written is not what the copy holds; the host's disk may be failing")
}

// stagedStands looks whether what was staged stands there as it was compared: somebody may have tidied up or
// written there since, in a long wait above all. Only after one the samples are read again, and only then a far
// host is asked at all, where each folder costs round trips.
func (r *Runner) stagedStands(ctx context.Context) error {
	waited := slices.ContainsFunc(r.job.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.Wait })
	if r.Files.Distant() && !waited {
		return nil
	}
	own := map[string]bool{} // written by a step since
	for _, s := range r.job.Steps {
		own[DetailOf(s).Retitled] = true
	}
	staged := path.Join(r.job.Plan.Work, "staged")
	for n, step := range r.job.Plan.Steps {
		if r.job.Steps[n].State != plan.StepDone {
			continue
		}
		var err error
		switch {
		case step.Kind == plan.Stage:
			err = r.filesStand(ctx, step, own)
		case waited && step.Kind == plan.Sample && strings.HasPrefix(step.Dir+"/", staged+"/"):
			err = r.samplesStand(ctx, step, DetailOf(r.job.Steps[n]).Samples)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// filesStand looks whether the files of a stage step have the sizes that they were given.
func (r *Runner) filesStand(ctx context.Context, step plan.Step, own map[string]bool) error {
	id, err := r.copyOf(step)
	if err != nil {
		return err
	}
	c, err := r.Vault.Load(ctx, id)
	if err != nil {
		return err
	}
	can, err := r.Files.Capabilities(ctx)
	if err != nil {
		return err
	}
	files := slices.DeleteFunc(r.toStage(c, step), func(f stagedFile) bool { return own[f.to] })
	stand, _, err := (&stager{Runner: r, step: step, can: can}).standing(ctx, files, nil)
	if err != nil {
		return err
	}
	if changed := without(files, stand); len(changed) > 0 {
		return r.notAsStaged(changed[0].to, len(changed))
	}
	return nil
}

// samplesStand looks whether what was remembered of a staged world is still there: nobody plays in it.
func (r *Runner) samplesStand(ctx context.Context, step plan.Step, samples []Sample) error {
	tree, settled := r.Files.Observe(ctx)
	var first string
	changed := 0
	for _, s := range samples {
		if same, _ := sameBlocks(tree, path.Join(step.Dir, s.File), s.Blocks); same < len(s.Blocks) {
			if err := settled(nil); err != nil {
				return err // it cannot be told
			}
			if changed++; first == "" {
				first = path.Join(step.Dir, s.File)
			}
		}
	}
	if changed > 0 {
		return r.notAsStaged(first, changed)
	}
	return nil
}

func (r *Runner) notAsStaged(name string, files int) error {
	which := name
	if files > 1 {
		which = fmt.Sprintf("%s and %d more", name, files-1)
	}
	return fault.New(fault.Changed, "switch to what was staged on", r.job.Plan.Server,
		"somebody has changed or removed it since it was placed there: %s", which)
}

func (r *Runner) unstage(ctx context.Context) error {
	r.staged = nil
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
