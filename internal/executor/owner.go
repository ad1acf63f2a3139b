package executor

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
)

// belonging is whom what is placed is to belong to, and who may read and write it: as
// with the world that it replaces, else as with the folder that it comes into. The
// server's account then can save it, whoever the service is.
type belonging struct{ file, dir hostfs.Attributes }

func (r *Runner) belonging(ctx context.Context) (belonging, error) {
	if r.like != nil {
		return *r.like, nil
	}
	can, err := r.Files.Capabilities(ctx)
	if err != nil {
		return belonging{}, err
	}
	var like belonging
	if can.Owners || can.Modes {
		if like, err = r.likeness(ctx, can); err != nil {
			return belonging{}, err
		}
	}
	r.like = &like
	return like, nil
}

// likeness looks at the worlds folder and at what is replaced at the same time: each question may
// take a while.
func (r *Runner) likeness(ctx context.Context, can capability.Set) (belonging, error) {
	var folder, old hostfs.Info
	var inside []fs.DirEntry
	group, gctx := errgroup.WithContext(ctx)
	ask := func(do func(ctx context.Context) error) {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			if err = do(gctx); errors.Is(err, fs.ErrNotExist) {
				return nil // it looks like nothing then
			}
			return err
		})
	}
	ask(func(ctx context.Context) (err error) {
		folder, err = r.Files.Stat(ctx, r.job.Plan.Worlds)
		return err
	})
	if name := r.replaced(); name != "" {
		ask(func(ctx context.Context) (err error) {
			old, err = r.Files.Stat(ctx, name)
			return err
		})
		ask(func(ctx context.Context) (err error) {
			inside, err = r.Files.List(ctx, name)
			if fault.CodeOf(err) == fault.Invalid { // it is a file
				return nil
			}
			return err
		})
	} else {
		ask(func(ctx context.Context) (err error) {
			old, err = r.replacedFile(ctx)
			return err
		})
	}
	if err := group.Wait(); err != nil || folder.Named == "" { // the server makes it when it is started
		return belonging{}, err
	}
	out := belonging{dir: folder.Likeness(can), file: folder.Likeness(can)}
	out.file.Mode &^= 0o111
	switch {
	case old.Named == "":
		return out, nil
	case !old.IsDir():
		out.file = old.Likeness(can)
		return out, nil
	}
	out.dir, out.file = old.Likeness(can), old.Likeness(can)
	out.file.Mode &^= 0o111
	for _, e := range inside {
		if !e.Type().IsRegular() {
			continue
		}
		info, err := e.Info()
		if err != nil {
			continue // it has gone since
		}
		one, err := hostfs.InfoOf(info)
		if err == nil {
			out.file = one.Likeness(can)
		}
		return out, err
	}
	return out, nil
}

// replaced is the folder that the plan sets aside, "" when it sets none aside. Where it has been
// moved already, nothing stands there.
func (r *Runner) replaced() string {
	for _, s := range r.job.Plan.Steps {
		if s.Kind == plan.Move && s.World == "" && path.Dir(s.From) == r.job.Plan.Worlds {
			return s.From
		}
	}
	return ""
}

// replacedFile is a file of the world of files that the plan sets aside; none when it sets none
// aside, or has nothing to look at any more.
func (r *Runner) replacedFile(ctx context.Context) (hostfs.Info, error) {
	for _, s := range r.job.Plan.Steps {
		if s.Kind != plan.Move || s.World == "" || s.From != r.job.Plan.Worlds {
			continue
		}
		entries, err := r.Files.List(ctx, s.From)
		for _, e := range entries {
			if name, _, ok := r.Profile.World.NameOf(e.Name()); ok && name == s.World {
				return r.Files.Stat(ctx, path.Join(s.From, e.Name()))
			}
		}
		return hostfs.Info{}, err
	}
	return hostfs.Info{}, nil
}

// mostWritable is how many files of a world are looked at: all of them were placed alike.
const mostWritable = 40

// writable shows that the account that the server runs as may write its world.
func (p *prover) writable() ([]plan.Check, error) {
	placed := slices.ContainsFunc(p.r.job.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.Stage })
	if !placed || p.expect.Placed != "" || !p.status.State.Up() {
		return nil, nil
	}
	c := plan.Check{What: "the server's account may write its world", Expected: "every file"}
	accounts, err := p.r.Control.Accounts(p.ctx)
	if fault.Passing(err) {
		return nil, err
	}
	accounts = gameAccounts(accounts)
	if len(accounts) == 0 {
		c.Seen, c.Unseen, c.Aside = "which account it runs as cannot be seen there", true, true
		return []plan.Check{c}, nil
	}
	seen, bad, known, err := p.looks(accounts)
	switch {
	case err != nil:
		return nil, err
	case !known:
		c.Seen, c.Unseen = "who may write there cannot be seen", true
	case bad != "":
		c.Seen = "account " + strings.Join(accounts, " and ") + " may not write " + bad
	default:
		c.Seen, c.OK = "account "+strings.Join(accounts, " and ")+" may write all "+strconv.Itoa(
			seen)+" that were looked at", true
	}
	return []plan.Check{c}, nil
}

// gameAccounts leaves out the account that may do anything, when there is another: a
// launcher often runs as that and gives up its rights for the game.
func gameAccounts(all []string) []string {
	others := slices.DeleteFunc(slices.Clone(all), func(a string) bool { return hostfs.SameOwner(a, "0:0") })
	if len(others) > 0 {
		return others
	}
	return all
}

// looks looks at the placed world's folder and files, and names one that may not be
// written.
func (p *prover) looks(accounts []string) (seen int, bad string, known bool, err error) {
	err = p.eachPlaced(func(name string, info fs.FileInfo) error {
		own, err := hostfs.InfoOf(info)
		if err != nil {
			return err
		}
		for _, a := range accounts {
			may, told := p.r.Files.MayWrite(a, own)
			known = known || told
			if told && !may && bad == "" {
				bad = name + " (" + own.Account + ", " + own.Modes.String() + ")"
			}
		}
		if seen++; seen >= mostWritable {
			return fs.SkipAll
		}
		return nil
	})
	return seen, bad, known, err
}

// eachPlaced walks what was placed in the worlds folder under the world's name.
func (p *prover) eachPlaced(see func(name string, info fs.FileInfo) error) error {
	for _, s := range p.r.job.Plan.Steps {
		if s.Kind != plan.Move || s.World != "" || !strings.HasPrefix(s.To, p.r.job.Plan.Worlds+"/") ||
			strings.HasPrefix(s.To, p.r.job.Plan.Work+"/") {
			continue
		}
		err := fs.WalkDir(p.files, s.To, func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := d.Info()
			if errors.Is(err, fs.ErrNotExist) { // the game removes what it likes
				return nil
			}
			if err != nil {
				return err
			}
			return see(name, info)
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return p.eachOfSession(see)
}

// eachOfSession does the same with a world that is files of one name.
func (p *prover) eachOfSession(see func(name string, info fs.FileInfo) error) error {
	i := slices.IndexFunc(p.r.job.Plan.Steps, func(s plan.Step) bool {
		return s.Kind == plan.Move && s.World != "" && s.To == p.r.job.Plan.Worlds
	})
	if i < 0 {
		return nil
	}
	entries, err := fs.ReadDir(p.files, p.r.job.Plan.Worlds)
	for _, e := range entries {
		name, _, ok := p.r.Profile.World.NameOf(e.Name())
		if !ok || name != p.r.job.Plan.Steps[i].NameAfter() {
			continue
		}
		info, err := e.Info()
		if err != nil {
			continue // the game has removed it
		}
		if err := see(e.Name(), info); err != nil {
			if errors.Is(err, fs.SkipAll) {
				return nil
			}
			return err
		}
	}
	return err
}
