package executor

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
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
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

// sample remembers pieces of files, to compare with after the start.
func (r *Runner) sample(ctx context.Context, _ int, step plan.Step) (*Detail, error) {
	if step.Dir == r.job.Plan.Worlds && len(step.Names) == 0 {
		return &Detail{}, nil // nothing there is called so: the other worlds are not its files
	}
	samples, err := takeSamples(r.Files.At(ctx), step.Dir, step.Names, r.Profile)
	return &Detail{Samples: samples}, err
}

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
	picked := spread(len(steady), sampledFiles)
	out := make([]Sample, len(picked))
	group := sampling()
	for n, i := range picked {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			if out[n], err = sampleFile(tree, dir, steady[i]); err != nil {
				return fault.Wrap(fault.Internal, "sample", path.Join(dir, steady[i]), err)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil || len(out) == 0 {
		return nil, err
	}
	return out, nil
}

// sampledAtOnce is how many files are sampled at the same time: far away each piece is a
// question.
const sampledAtOnce = 12

func sampling() *errgroup.Group {
	group := &errgroup.Group{}
	group.SetLimit(sampledAtOnce)
	return group
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
		at := int64(i) * blockSize
		s.Blocks = append(s.Blocks, Block{At: at, Size: int(min(blockSize, info.Size()-at))})
	}
	return s, eachBlock(s.Blocks, func(b *Block) (err error) {
		b.Hash, err = hashBlock(f, *b)
		return err
	})
}

// eachBlock does something with all blocks of a file at once.
func eachBlock(blocks []Block, do func(*Block) error) error {
	group := &errgroup.Group{}
	for i := range blocks {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			return do(&blocks[i])
		})
	}
	return group.Wait()
}

func hashBlock(f fs.File, b Block) (string, error) {
	buf := make([]byte, b.Size)
	at, ok := f.(io.ReaderAt)
	if !ok {
		return "", fmt.Errorf("%T cannot be read from its midst", f)
	}
	if _, err := at.ReadAt(buf, b.At); err != nil {
		return "", err
	}
	sum := blake3.Sum256(buf)
	return hex.EncodeToString(sum[:]), nil
}

// compareSamples counts blocks that still stand and names the first that do
// not. A server may rewrite a few places at once; one that made the world anew
// leaves hardly a block.
func compareSamples(tree fs.FS, dir string, samples []Sample) plan.Check {
	check := plan.Check{What: "files stand as they were placed"}
	total, same, gone := countSame(tree, dir, samples)
	check.Expected = fmt.Sprintf("at least 3 of 4 of %d sampled blocks in %d files, and no file gone", total,
		len(samples))
	check.Seen = fmt.Sprintf("%d of %d blocks the same", same, total)
	if len(gone) > 0 {
		check.Seen += fmt.Sprintf(", %d files gone (%s …)", len(gone), gone[0])
	}
	check.OK = len(gone) == 0 && same*4 >= total*3
	return check
}

func countSame(tree fs.FS, dir string, samples []Sample) (total, same int, gone []string) {
	counts := make([]struct {
		same  int
		there bool
	}, len(samples))
	group := sampling()
	for i, s := range samples {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			counts[i].same, counts[i].there = sameBlocks(tree, path.Join(dir, s.File), s.Blocks)
			return nil
		})
	}
	_ = group.Wait() // what could not be compared counts as not the same
	for i, s := range samples {
		if !counts[i].there {
			gone = append(gone, s.File)
			total += max(1, len(s.Blocks))
			continue
		}
		total += len(s.Blocks)
		same += counts[i].same
	}
	return total, same, gone
}

// sameBlocks counts the blocks of a file that still stand.
func sameBlocks(tree fs.FS, name string, blocks []Block) (same int, there bool) {
	f, err := tree.Open(name)
	if err != nil {
		return 0, false
	}
	defer f.Close() //nolint:errcheck // only read
	var mu sync.Mutex
	_ = eachBlock(blocks, func(b *Block) error { // what cannot be read is not the same
		if hash, err := hashBlock(f, *b); err == nil && hash == b.Hash {
			mu.Lock()
			same++
			mu.Unlock()
		}
		return nil
	})
	return same, true
}

// samples finds what the sample steps remembered of the world that now has this name
// on disk, or of the old one, and the folder that their files stand in now.
func (r *Runner) samples(folder string, old bool) ([]Sample, string) {
	for n, s := range r.job.Plan.Steps {
		if s.Kind != plan.Sample || s.Old != old || (!old && s.NameAfter() != folder) {
			continue
		}
		var d Detail
		if json.Unmarshal(r.job.Steps[n].Left, &d) != nil {
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
