package executor

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
)

// longestMark bounds the mark in a working folder, in bytes.
const longestMark = 4096

// working is a changeover's own working folder. Nothing is put there, and nothing moved out, before the folder is known
// to be this changeover's: by its name, which is random in part, and by the mark in it.
type working struct {
	files *hostfs.FS
	mark  plan.Mark
	dir   string
	ours  bool // that has been seen in this life
	// unsigned: it is ours, and has no mark yet.
	unsigned bool
	// claimed tells whether a folder whose name is a number alone belongs to this changeover; nil: it does, if it has
	// no mark of another.
	claimed func(ctx context.Context, folder string) (bool, error)
}

func (r *Runner) workingOf(job Job) *working {
	w := &working{files: r.Files, dir: job.Plan.Work, mark: plan.Mark{
		Folder: path.Base(job.Plan.Work), Changeover: job.ID, Server: job.Plan.Server, Kind: job.Plan.Kind,
	}}
	if r.Now != nil {
		w.mark.BegunAt = r.Now().UTC()
	}
	if _, bare, ok := plan.ReadWorkName(w.mark.Folder); ok && bare {
		w.claimed = r.Recorded
	}
	return w
}

// make makes the folder, unless it is there and ours, and reports whether it did.
func (w *working) make(ctx context.Context) (made bool, err error) {
	if w.ours && !w.unsigned {
		return false, nil
	}
	made, err = w.files.Mkdir(ctx, w.dir, hostfs.Attributes{})
	if errors.Is(err, fs.ErrNotExist) { // what it is in is not there either
		if err = w.files.MkdirAll(ctx, path.Dir(w.dir), hostfs.Attributes{}); err == nil {
			made, err = w.files.Mkdir(ctx, w.dir, hostfs.Attributes{})
		}
	}
	if err == nil && made {
		return true, w.sign(ctx)
	}
	if err == nil {
		_, err = w.known(ctx)
	}
	if err == nil && w.unsigned {
		err = w.sign(ctx)
	}
	return false, err
}

// need makes the folder that something is put into.
func (w *working) need(ctx context.Context) error {
	_, err := w.make(ctx)
	return err
}

// look is an error when the folder is there and is another's.
func (w *working) look(ctx context.Context) error {
	_, err := w.known(ctx)
	return err
}

// below reports whether a name is in the folder.
func (w *working) below(name string) bool { return strings.HasPrefix(name, w.dir+"/") }

// sign writes the mark.
func (w *working) sign(ctx context.Context) error {
	_, err := w.files.Write(ctx, path.Join(w.dir, plan.MarkFile), bytes.NewReader(w.mark.Bytes()), hostfs.Attributes{})
	w.ours, w.unsigned = err == nil, err != nil
	return err
}

// known reports whether the folder is there. It is an error when it is another's: the host's files tell that this
// changeover has ended, or name another one.
func (w *working) known(ctx context.Context) (there bool, err error) {
	if w.ours {
		return true, nil
	}
	if there, err = w.files.Exists(ctx, w.dir); err != nil || !there {
		return false, err
	}
	info, err := w.files.Stat(ctx, w.dir)
	if err != nil {
		return false, err
	}
	if !info.IsDir() {
		return false, w.foreign("it is not a folder")
	}
	data, err := w.files.ReadFile(ctx, path.Join(w.dir, plan.MarkFile), longestMark)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	m, ok := plan.ReadMark(data)
	switch {
	case err != nil, !ok: // a crash came before it, or within
		w.ours, w.unsigned = true, true
		return true, w.unclaimed(ctx)
	case m.Folder != w.mark.Folder, m.Changeover != w.mark.Changeover:
		return false, w.foreign("the mark in it names another changeover")
	case m.Ended != "":
		return false, older(w.mark.Server, "the working folder of this changeover says that it has ended ("+
			string(m.Ended)+")")
	}
	w.ours = true
	return true, nil
}

// unclaimed is an error when a folder without a mark is not ours: by its name it is, or, if that is a number alone, by
// what it holds.
func (w *working) unclaimed(ctx context.Context) error {
	if w.claimed == nil {
		return nil
	}
	is, err := w.claimed(ctx, w.mark.Folder)
	if err == nil && !is {
		err = w.foreign("what it holds is not what this changeover put there")
	}
	w.ours = err == nil
	return err
}

// sayEnded notes in the mark that the changeover has ended. Nothing hangs on it but what an older copy of the records
// is told.
func (r *Runner) sayEnded(ctx context.Context, state plan.State) {
	if !r.work.ours || r.work.unsigned || r.may() != nil {
		return
	}
	now := r.Now().UTC()
	r.work.mark.Ended, r.work.mark.EndedAt = state, &now
	_ = r.work.sign(ctx)
}

func (w *working) foreign(why string) error {
	return fault.New(fault.Held, "work in", w.dir, "it is not this changeover's folder: %s", why).
		With("See what it holds: reshard tidy " + w.mark.Server)
}

// older is the error of a changeover whose records are older than the files that it works on.
func older(server, why string) error {
	return fault.New(fault.Held, "continue on", server, "these records are older than the files: %s", why).
		With("Nothing was touched. Check what the server runs, then settle this changeover. See docs/restored.md, " +
			"“After the database was restored”.")
}

// stillLast is an error when the server's files show that later changeovers have been there, of which the records know
// nothing: this one has ended, and what it would go on with is not what it left.
func (r *Runner) stillLast(ctx context.Context) error {
	if _, err := r.work.known(ctx); err != nil {
		return err
	}
	if r.Recorded == nil {
		return nil
	}
	dir := path.Dir(r.job.Plan.Work)
	there, err := r.Files.Exists(ctx, dir)
	if err != nil || !there {
		return err
	}
	entries, err := r.Files.List(ctx, dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		id, _, ok := plan.ReadWorkName(e.Name())
		if !ok || id <= r.job.ID || !e.IsDir() {
			continue
		}
		recorded, err := r.Recorded(ctx, e.Name())
		if err != nil {
			return err
		}
		if !recorded {
			return older(r.job.Plan.Server, "there is a working folder of changeover "+e.Name()+
				", which is not known here")
		}
	}
	return nil
}
