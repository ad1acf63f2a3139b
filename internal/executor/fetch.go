package executor

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"hash/fnv"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
	"reshard/internal/vault"
)

// reuse tells how much of a staging came from what its host had already.
type reuse struct {
	// Files and Bytes were copied there and not sent.
	Files int   `json:"files,omitempty"`
	Bytes int64 `json:"bytes,omitempty"`
	// Trusted are those of the files that were taken by size, time and an earlier staging.
	Trusted int `json:"trusted,omitempty"`
}

// worthFetching is the size of a world from which it is looked what of it the host has already,
// in bytes: below, sending all of it takes less time.
const worthFetching = 8 << 20

// How much is looked through for what the host has already.
const (
	mostEarlier  = 4    // working folders of earlier changeovers
	mostBeside   = 6    // other worlds of the server
	mostSearched = 4000 // folders in all
)

// fetch has the host copy what it has already of the files: out of what was set aside, what was
// staged before, and the live world. A copy is compared as a file that was sent is, so that a
// server that writes meanwhile does no harm; only with samples a file is taken for what an
// earlier changeover has staged when its size and its time say so.
func (s *stager) fetch(ctx context.Context, files []stagedFile) error {
	if !s.can.Copy || s.staged.fetched || sizeOf(files) < worthFetching {
		return nil
	}
	earlier, err := s.earlier(ctx)
	if err != nil {
		return err
	}
	found, err := s.find(ctx, s.missing(files), earlier)
	if err == nil {
		found, err = s.likely(ctx, found)
	}
	if err != nil {
		return err
	}
	if len(found) > 0 {
		if err := s.copyThere(ctx, found); err != nil {
			return err
		}
	}
	s.staged.fetched = true
	return nil
}

func sizeOf(files []stagedFile) (n int64) {
	for _, f := range files {
		n += f.Size
	}
	return n
}

// found is a file that the host has.
type found struct {
	stagedFile
	at      string
	seen    fs.FileInfo
	same    bool // its time is that of the file
	trusted bool // an earlier changeover has staged it, and nothing has changed it since
}

// earlier are the files that earlier changeovers have staged on the server, when they are to
// vouch for what stands there.
func (s *stager) earlier(ctx context.Context) (map[string][]vault.File, error) {
	out := map[string][]vault.File{}
	if !s.step.BySample || s.Earlier == nil || s.can.TimePrecision > time.Second {
		return out, nil
	}
	copies, err := s.Earlier(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range copies {
		for _, f := range c.Files {
			out[f.Part+"\x00"+f.Path] = append(out[f.Part+"\x00"+f.Path], f)
		}
	}
	return out, nil
}

// find looks where the host has files of the same place in their world and the same size. It
// asks for each folder once.
func (s *stager) find(ctx context.Context, files []stagedFile, earlier map[string][]vault.File) ([]found, error) {
	where, err := s.places(ctx)
	if err != nil {
		return nil, err
	}
	tree, settled := s.Files.Observe(ctx)
	folders := map[string]bool{}
	for _, f := range files {
		for _, name := range where(f.to) {
			if len(folders) < mostSearched {
				folders[path.Dir(name)] = true
			}
		}
	}
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(max(1, s.can.AtOnce))
	for dir := range folders {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			_, err = fs.ReadDir(tree, dir)
			if err != nil && (fault.Passing(err) || gctx.Err() != nil) {
				return err
			}
			return nil // there is nothing
		})
	}
	if err := settled(group.Wait()); err != nil {
		return nil, err
	}
	var out []found
	for _, f := range files {
		var best *found
		for _, name := range where(f.to) {
			if !folders[path.Dir(name)] {
				continue
			}
			info, err := fs.Stat(tree, name)
			if err != nil || !info.Mode().IsRegular() || info.Size() != f.Size || f.Size == 0 {
				continue
			}
			same := info.ModTime().Equal(f.Modified.Truncate(time.Second))
			if best == nil || same && !best.same {
				best = &found{
					stagedFile: f, at: name, seen: info, same: same, trusted: same && vouched(f.File, earlier),
				}
			}
		}
		if best != nil {
			out = append(out, *best)
		}
	}
	return out, settled(nil)
}

// probed is how many files tell whether others of their kind are worth a try.
const probed = 8

// worthProbing is the share of what was found from which these are worth looking at.
const worthProbing = 10

// likely leaves out what has only the size in common with a file, unless a few of these are what
// they might be: files of another world often have the same sizes.
func (s *stager) likely(ctx context.Context, all []found) (out []found, err error) {
	var uncertain []found
	for _, f := range all {
		if f.same {
			out = append(out, f)
		} else {
			uncertain = append(uncertain, f)
		}
	}
	if !s.can.Hash || bytesOf(uncertain) < (bytesOf(out)+bytesOf(uncertain))/worthProbing {
		return out, nil
	}
	var probe []found
	var names []string
	var total int64
	for i := 0; i < len(uncertain); i += max(1, len(uncertain)/probed) {
		probe = append(probe, uncertain[i])
		names = append(names, uncertain[i].at)
		total += uncertain[i].Size
	}
	got, err := s.Files.Hash(ctx, names, total)
	if err != nil {
		return nil, err
	}
	right := 0
	for _, f := range probe {
		sum, err := s.sumOf(ctx, f.stagedFile)
		if err != nil {
			return nil, err
		}
		if bytes.Equal(sum, got[f.at]) {
			right++
		}
	}
	if right*2 < len(probe) {
		return out, nil
	}
	return append(out, uncertain...), nil
}

// vouched reports whether an earlier changeover has staged a file of this place, time and
// content.
func vouched(f vault.File, earlier map[string][]vault.File) bool {
	return slices.ContainsFunc(earlier[f.Part+"\x00"+f.Path], func(e vault.File) bool {
		return e.Size == f.Size && e.Modified.Equal(f.Modified) && slices.Equal(e.Chunks, f.Chunks)
	})
}

// places gives where a staged file may stand on the host already: what nobody writes to goes
// first.
func (s *stager) places(ctx context.Context) (func(staged string) []string, error) {
	p := s.job.Plan
	own, all := path.Join(p.Work, "staged"), path.Dir(p.Work)
	entries, err := s.Files.List(ctx, all)
	if err != nil {
		return nil, err
	}
	ids := map[string]int64{}
	for _, e := range entries {
		if id, _, ok := plan.ReadWorkName(e.Name()); ok && e.IsDir() && e.Name() != path.Base(p.Work) {
			ids[e.Name()] = id
		}
	}
	worlds, err := s.Files.List(ctx, p.Worlds)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var beside []string
	for _, e := range worlds {
		if e.IsDir() && len(beside) < mostBeside && e.Name() != path.Base(all) {
			beside = append(beside, path.Join(p.Worlds, e.Name()))
		}
	}
	earlier := slices.SortedFunc(maps.Keys(ids), func(a, b string) int { return cmp.Compare(ids[b], ids[a]) })
	earlier = earlier[:min(len(earlier), mostEarlier)]
	return func(staged string) (out []string) {
		var live []string
		for _, step := range p.Steps {
			rest, below := strings.CutPrefix(staged, step.From+"/")
			if step.Kind != plan.Move || !below || !strings.HasPrefix(step.From+"/", own+"/") {
				continue
			}
			live = append(live, path.Join(step.To, rest))
			for _, other := range beside {
				if other != step.To && step.World == "" {
					live = append(live, path.Join(other, rest))
				}
			}
		}
		for _, folder := range earlier {
			work := path.Join(all, folder)
			for _, name := range live {
				out = append(out, path.Join(work, "aside", strings.TrimPrefix(name, p.Worlds+"/")))
			}
			out = append(out, path.Join(work, "failed", strings.TrimPrefix(staged, own+"/")))
		}
		return append(out, live...)
	}, nil
}

// copyThere has the host copy what was found, and notes what stands there as it should.
func (s *stager) copyThere(ctx context.Context, all []found) error {
	copying := make([]hostfs.Copying, len(all))
	for i, f := range all {
		copying[i] = hostfs.Copying{From: f.at, To: f.to, Attributes: s.attributes(f.stagedFile)}
	}
	done := make([]bool, len(all))
	err := s.inTwo(ctx, len(all), bytesOf(all), func(ctx context.Context, from, to int) error {
		return s.Files.CopyThere(ctx, copying[from:to], func(i int, whole bool) { done[from+i] = whole })
	})
	if fault.CodeOf(err) == fault.Unsupported {
		return nil // it is sent
	}
	if err != nil {
		return err
	}
	var compare, trusted []found
	for i, f := range all {
		switch {
		case !done[i]:
		case f.trusted:
			trusted = append(trusted, f)
		default:
			compare = append(compare, f)
		}
	}
	if err := s.trust(ctx, trusted); err != nil {
		return err
	}
	return s.compareCopied(ctx, compare)
}

func bytesOf(all []found) (n int64) {
	for _, f := range all {
		n += f.Size
	}
	return n
}

// worthTwo is from how much on two do the same at the same time on the host, in bytes; and from
// when on what was unpacked is not hashed in the same session.
const worthTwo = 64 << 20

// inTwo has the first and the second half of n things done at the same time, when they have so
// many bytes that this takes less time.
func (s *stager) inTwo(ctx context.Context, n int, bytes int64,
	do func(ctx context.Context, from, to int) error) error {
	if bytes < worthTwo || n < 2 {
		return do(ctx, 0, n)
	}
	group, gctx := errgroup.WithContext(ctx)
	for _, part := range [][2]int{{0, n / 2}, {n / 2, n}} {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			return do(gctx, part[0], part[1])
		})
	}
	return group.Wait()
}

// trust notes files that were taken by size and time, unless what they were copied from has
// changed meanwhile.
func (s *stager) trust(ctx context.Context, files []found) error {
	tree, settled := s.Files.Observe(ctx)
	for _, f := range files {
		info, err := fs.Stat(tree, f.at)
		if err == nil && info.Size() == f.seen.Size() && info.ModTime().Equal(f.seen.ModTime()) {
			s.copiedThere(f)
			s.staged.reuse.Trusted++
		}
	}
	return settled(nil)
}

// copiedThere notes that a file that the host had stands there as it should.
func (s *stager) copiedThere(f found) {
	s.arrived(f.stagedFile)
	s.staged.mu.Lock()
	defer s.staged.mu.Unlock()
	s.staged.reuse.Files++
	s.staged.reuse.Bytes += f.Size
}

// compareCopied compares files that were copied there with what they are to be. Those that are
// something else are sent.
func (s *stager) compareCopied(ctx context.Context, all []found) error {
	files := make([]stagedFile, len(all))
	for i, f := range all {
		files[i] = f.stagedFile
	}
	if err := s.compareThere(ctx, files); err != nil {
		return err
	}
	for _, f := range all {
		if s.staged.whole[f.to] {
			s.staged.reuse.Files++
			s.staged.reuse.Bytes += f.Size
		}
	}
	return nil
}

// compareThere notes which of the files that stand there are what they are to be.
func (s *stager) compareThere(ctx context.Context, files []stagedFile) error {
	if !s.can.Hash {
		return s.each(ctx, files, func(ctx context.Context, f stagedFile) (bool, error) {
			err := s.readBack(ctx, f)
			if fault.CodeOf(err) == fault.Damaged && !fault.Passing(err) {
				return false, nil // it is sent
			}
			return err == nil, err
		})
	}
	for _, f := range files {
		sum, err := s.sumOf(ctx, f)
		if err != nil {
			return err
		}
		s.staged.sums[f.to] = sum
	}
	// They do not count as begun: what was copied may be something else from its first byte on.
	return s.compareHashes(ctx, files)
}

// sumOf is the hash of a whole file of the copy, which is read where the vault has not kept it.
func (s *stager) sumOf(ctx context.Context, f stagedFile) ([]byte, error) {
	if sum, err := hex.DecodeString(f.Sum); err == nil && len(sum) > 0 {
		return sum, nil
	}
	h := vault.NewSum()
	_, err := io.Copy(h, s.Vault.Read(ctx, f.File))
	return h.Sum(nil), err
}

// sampled is how many files are sent for each that is read back, where that is chosen.
const sampled = 16

// spared reports whether a file that was sent is not read back.
func (s *stager) spared(f stagedFile) bool {
	h := fnv.New32a()
	_, _ = h.Write([]byte(f.to)) // it never fails (hash.Hash)
	return s.step.BySample && h.Sum32()%sampled != 0
}

// standing gives those of the files that stand there with the sizes that they are to have. Their folders are
// listed at once: far away each costs some round trips.
func (s *stager) standing(ctx context.Context, files []stagedFile, folders []string) (stand []stagedFile, gone []string,
	err error,
) {
	tree, settled := s.Files.Observe(ctx)
	group := &errgroup.Group{}
	group.SetLimit(max(1, s.can.AtOnce))
	listed := map[string]bool{}
	list := func(dir string) {
		if !listed[dir] {
			listed[dir] = true
			group.Go(func() (err error) {
				defer fault.Catch(&err)
				_, _ = fs.ReadDir(tree, dir) // what is wrong with it is seen when it is looked into
				return nil
			})
		}
	}
	for _, f := range files {
		list(path.Dir(f.to))
	}
	for _, dir := range folders {
		list(path.Dir(dir))
	}
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		info, err := fs.Stat(tree, f.to)
		err = settled(err)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, nil, err
		case info.Mode().IsRegular() && info.Size() == f.Size:
			stand = append(stand, f)
		}
	}
	for _, dir := range folders {
		_, err := fs.Stat(tree, dir)
		switch err := settled(err); {
		case errors.Is(err, fs.ErrNotExist):
			gone = append(gone, dir)
		case err != nil:
			return nil, nil, err
		}
	}
	return stand, gone, nil
}
