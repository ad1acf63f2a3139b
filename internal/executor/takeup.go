package executor

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// goesOn reports whether a staging that an earlier life was cut in can be gone on with. A copy of a running game
// cannot: what holds its writes may be over.
func (r *Runner) goesOn() bool {
	stages := false
	for n, step := range r.job.Plan.Steps {
		state := r.job.Steps[n].State
		begun := state != plan.StepPlanned
		switch step.Kind {
		case plan.Stage:
			stages = true
		case plan.Tell:
			if begun {
				return false
			}
		case plan.Copy:
			if state == plan.StepIntended {
				return false
			}
		}
	}
	return stages
}

// takeUp finds what an earlier life has staged: what stands there as it should is not sent again, and what was begun is
// gone on with.
func (s *stager) takeUp(ctx context.Context, files []stagedFile) error {
	begun, err := s.found(ctx, files)
	if err != nil {
		return err
	}
	var whole []stagedFile
	for _, f := range files {
		info, there := begun[f.to]
		if !there {
			continue
		}
		s.staged.begun[f.to] = true
		if info.Size() == f.Size {
			whole = append(whole, f)
		}
	}
	switch {
	case s.can.Hash:
		if err := s.sumsOf(ctx, whole); err != nil {
			return err
		}
		return s.compareHashes(ctx, whole)
	case s.step.BySample: // its time is set once all of it is written
		for _, f := range whole {
			if begun[f.to].ModTime().Equal(f.Modified.Truncate(time.Second)) {
				s.arrived(f)
			}
		}
		return nil
	}
	return s.eachOf(ctx, whole, func(ctx context.Context, f stagedFile) (bool, error) {
		err := s.readBack(ctx, f)
		if fault.CodeOf(err) == fault.Damaged {
			s.staged.mu.Lock()
			delete(s.staged.begun, f.to) // it is written anew
			s.staged.mu.Unlock()
			return false, nil
		}
		return err == nil, err
	})
}

// found gives the files that are there and are not larger than they should be.
func (s *stager) found(ctx context.Context, files []stagedFile) (map[string]fs.FileInfo, error) {
	tree, settled := s.Files.Observe(ctx)
	out := map[string]fs.FileInfo{}
	for _, f := range files {
		info, err := fs.Stat(tree, f.to)
		err = settled(err)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		case info.Mode().IsRegular() && info.Size() <= f.Size:
			out[f.to] = info
		}
	}
	return out, nil
}

// sumsOf finds out the hashes that files are to have.
func (s *stager) sumsOf(ctx context.Context, files []stagedFile) error {
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(2) // as many as this machine hashes at once
	for _, f := range files {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			sum, err := s.sumOf(gctx, f)
			s.staged.mu.Lock()
			s.staged.sums[f.to] = sum
			s.staged.mu.Unlock()
			return err
		})
	}
	return group.Wait()
}
