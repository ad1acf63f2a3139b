package hostfs

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"path"
	"time"
)

// Page is a document that stands among a server's files and is none: what is set on a provider's page is
// read and written as if it stood in a settings file, so that it is compared, planned, journaled and
// taken back like one. Its errors are classes of package fault, as a Driver's are.
type Page interface {
	// Read gives all of it.
	Read(ctx context.Context) ([]byte, error)
	// Write has it be this. It may be cut anywhere, and is then written again.
	Write(ctx context.Context, data []byte) error
}

// AddPage has a page stand at a name, which must be no file's. It is done before the tree is used.
func (p *FS) AddPage(name string, page Page) {
	if p.pages == nil {
		p.pages = map[string]Page{}
	}
	p.pages[name] = page
}

// readPage reads a page within the place's patience.
func (p *FS) readPage(ctx context.Context, page Page, name string) ([]byte, error) {
	ctx, done := p.bounded(ctx)
	defer done()
	data, err := page.Read(ctx)
	return data, p.wrap(ctx, "read", name, err)
}

func (p *FS) writePage(ctx context.Context, page Page, name string, data []byte) error {
	if err := p.may(); err != nil {
		return err
	}
	ctx, done := p.bounded(ctx)
	defer done()
	return p.wrap(ctx, "write", name, page.Write(ctx, data))
}

// infoOfPage is what is told of a page as of a file.
func infoOfPage(name string, data []byte) Info {
	return Info{Named: path.Base(name), Bytes: int64(len(data)), Modes: 0o644, Modified: time.Unix(0, 0).UTC()}
}

// openPage opens a page as it is now.
func (p *FS) openPage(ctx context.Context, page Page, name string) (fs.File, error) {
	data, err := p.readPage(ctx, page, name)
	if err != nil {
		return nil, err
	}
	return &openPage{Reader: bytes.NewReader(data), info: infoOfPage(name, data)}, nil
}

type openPage struct {
	*bytes.Reader
	info Info
}

func (o *openPage) Stat() (fs.FileInfo, error) { return o.info, nil }
func (o *openPage) Close() error               { return nil }

var _ io.ReaderAt = (*openPage)(nil)
