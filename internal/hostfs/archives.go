package hostfs

import (
	"context"
	"io"

	"reshard/internal/core/fault"
)

// Archives unpacks archives that stand among a server's files, by other means than its host's: a
// provider's page. Its errors are classes of package fault, as a Driver's are; Unsupported and Refused: it
// is to be done without. It bounds by itself how long it waits.
type Archives interface {
	// Title is whose page it is, and Format what it takes; see package archive.
	Title() string
	Format() string
	// UploadLimit is how large a file may be that is sent to the page itself, in bytes; 0: none is.
	UploadLimit() int64
	// Upload has the page put a file of so many bytes at a name, from the root; open gives it anew for
	// each try.
	Upload(ctx context.Context, name string, size int64, open func() (io.ReadCloser, error)) error
	// Unpack unpacks the archive of a name into a folder that is there, and returns when that is done.
	// After an error any of it may be there, whole or in part.
	Unpack(ctx context.Context, name, into string) error
}

// AddArchives has archives be unpacked by a page. It is done before the tree is used.
func (p *FS) AddArchives(a Archives) { p.archives = a }

// Archives gives what unpacks archives that stand there as files; nil: nothing does.
func (p *FS) Archives() Archives { return p.archives }

// UnpackFile unpacks an archive that stands there into a folder, which must not lead out of the root.
func (p *FS) UnpackFile(ctx context.Context, name, into string) error {
	if p.archives == nil {
		return fault.New(fault.Unsupported, "unpack at", p.name, "the host has no way to do this")
	}
	if err := check("unpack", name, into); err != nil {
		return err
	}
	if err := p.realFolder(ctx, into); err != nil {
		return err
	}
	return p.wrap(ctx, "unpack", name, p.archives.Unpack(ctx, name, into))
}

// UploadFile puts a file there by the page's own upload.
func (p *FS) UploadFile(ctx context.Context, name string, size int64, open func() (io.ReadCloser, error)) error {
	if p.archives == nil {
		return fault.New(fault.Unsupported, "upload to", p.name, "the host has no way to do this")
	}
	if err := check("upload", name); err != nil {
		return err
	}
	return p.wrap(ctx, "upload", name, p.archives.Upload(ctx, name, size, open))
}

// realFolder is an error for what is no folder itself: a page follows links.
func (p *FS) realFolder(ctx context.Context, name string) error {
	info, err := p.Stat(ctx, name)
	if err == nil && !info.IsDir() {
		err = fault.New(fault.Refused, "unpack into", name, "it is no folder")
	}
	return err
}
