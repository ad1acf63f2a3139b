package vault

import (
	"context"
	"io"
	"io/fs"
	"strings"

	"reshard/internal/core/filetree"
)

// Tree gives a copy's files as a tree to read while ctx lasts, each verified as it is read. at gives
// where a file stands in it, from its part and its path there; "" leaves it out.
func (v *Vault) Tree(ctx context.Context, c Copy, at func(part, name string) string) fs.FS {
	t := filetree.New()
	for _, f := range c.Files {
		name := at(f.Part, strings.TrimSuffix(f.Path, "/"))
		switch {
		case name == "":
		case f.Dir():
			t.Folder(name)
		default:
			t.Add(name, filetree.File{
				Size:     f.Size,
				Modified: f.Modified,
				Open:     func() io.Reader { return v.Read(ctx, f) },
			})
		}
	}
	t.Sort()
	return t
}
