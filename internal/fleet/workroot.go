package fleet

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"reshard/internal/core/plan"
	"reshard/internal/core/settings"
)

// WorkRoot is the folder in which changeovers have their working folders: beside the worlds
// folder, or in it where an account may not make anything beside, or that is another file system
// from which nothing is renamed into the worlds folder. One that is there stays the one.
func (l *Server) WorkRoot(ctx context.Context, worlds string) (string, error) {
	beside, inside := path.Join(path.Dir(worlds), plan.WorkFolder), path.Join(worlds, plan.WorkFolder)
	if worlds == "." || !l.Files.Distant() {
		return beside, nil
	}
	for _, dir := range []string{beside, inside} {
		there, err := l.Files.Exists(ctx, dir)
		if err != nil || there {
			return dir, err
		}
	}
	may, err := l.mayWrite(ctx, path.Dir(worlds))
	if err != nil || may && l.Files.SameFilesystem(ctx, worlds, path.Dir(worlds)) {
		return beside, err
	}
	return inside, nil
}

// mayWrite reports whether the account may make something in a folder, as far as that is told.
func (l *Server) mayWrite(ctx context.Context, dir string) (bool, error) {
	can, err := l.Files.Capabilities(ctx)
	if err != nil {
		return false, err
	}
	info, err := l.Files.Stat(ctx, dir)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	may, known := l.Files.MayWrite(can.Account, info)
	return may || !known, nil
}

// Unwritable says which settings files of a server far away cannot be replaced, since the account
// may not make anything in their folders.
func (l *Server) Unwritable(ctx context.Context, docs map[string]*settings.Document) (map[string]string, error) {
	out := map[string]string{}
	if !l.Files.Distant() {
		return out, nil
	}
	for file := range docs {
		may, err := l.mayWrite(ctx, path.Dir(file))
		if err != nil {
			return nil, err
		}
		if !may {
			out[file] = file + ": the account may not make a file in its folder, which replacing it takes"
		}
	}
	return out, nil
}
