package archive

import (
	"archive/tar"
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
)

// Item is a file to be packed.
type Item struct {
	Name     string // in the archive; ends in "/" for an empty folder
	Size     int64
	Modified time.Time
	Open     func() (io.ReadCloser, error)
}

// From opens a file of a tree, for Item.Open.
func From(tree fs.FS, name string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) { return tree.Open(name) }
}

// WriteZip packs files into w as they are read, in their order: the same items give
// the same bytes. progress gets the
// content's bytes packed so far. Files that packing does not make smaller cost
// little: the fastest level is used.
func WriteZip(w io.Writer, items []Item, progress func(int64)) error {
	z := zip.NewWriter(w)
	z.RegisterCompressor(zip.Deflate, func(out io.Writer) (io.WriteCloser, error) {
		return flate.NewWriter(out, flate.BestSpeed)
	})
	var total int64
	for _, it := range items {
		n, err := writeItem(z, it)
		if err != nil {
			return fault.Wrap(fault.Internal, "pack", it.Name, err)
		}
		total += n
		if progress != nil {
			progress(total)
		}
	}
	return z.Close()
}

func writeItem(z *zip.Writer, it Item) (int64, error) {
	h := &zip.FileHeader{Name: filename.Decode(it.Name), Method: zip.Deflate, Modified: it.Modified}
	if h.Name != it.Name { // whoever reads it knows by this that the name is bytes of a file system
		h.CreatorVersion, h.NonUTF8 = creatorUnix<<8, true
	}
	if strings.HasSuffix(it.Name, "/") {
		h.Method = zip.Store
		_, err := z.CreateHeader(h)
		return 0, err
	}
	out, err := z.CreateHeader(h)
	if err != nil {
		return 0, err
	}
	in, err := it.Open()
	if err != nil {
		return 0, err
	}
	defer in.Close() //nolint:errcheck // only read
	n, err := io.Copy(out, in)
	if err == nil && n != it.Size {
		err = fmt.Errorf("had %d bytes when it was listed and %d when it was read: the world is being written to; "+
			"quit the game first", it.Size, n)
	}
	return n, err
}

// WriteTarZst packs files as a tar archive (POSIX.1-2001) in one zstd frame, in their
// order: the same items give the same bytes.
func WriteTarZst(w io.Writer, items []Item) error {
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return fault.Wrap(fault.Internal, "pack", "tar", err)
	}
	return errors.Join(writeTar(z, items, nil), z.Close())
}

// Write packs files in a format, "zip", "tar" or "tar.gz", in their order: the same items give the
// same bytes. The fastest level is used, and each file has a sum that whoever unpacks it checks, but in
// a plain tar. progress gets the content's bytes packed so far.
func Write(w io.Writer, format string, items []Item, progress func(int64)) error {
	switch format {
	case "zip":
		return WriteZip(w, items, progress)
	case "tar":
		return writeTar(w, items, progress)
	case "tar.gz":
		z, err := gzip.NewWriterLevel(w, gzip.BestSpeed)
		if err != nil {
			return fault.Wrap(fault.Internal, "pack", "tar", err)
		}
		return errors.Join(writeTar(z, items, progress), z.Close())
	}
	return fault.New(fault.Unsupported, "pack", format, "no such format is written")
}

func writeTar(w io.Writer, items []Item, progress func(int64)) error {
	t := tar.NewWriter(w)
	var total int64
	for _, it := range items {
		if err := writeTarItem(t, it); err != nil {
			return fault.Wrap(fault.Internal, "pack", it.Name, err)
		}
		total += it.Size
		if progress != nil {
			progress(total)
		}
	}
	return t.Close()
}

func writeTarItem(t *tar.Writer, it Item) error {
	h := &tar.Header{
		Name:     filename.Decode(it.Name),
		Mode:     0o644,
		Size:     it.Size,
		ModTime:  it.Modified,
		Typeflag: tar.TypeReg,
		Format:   tar.FormatPAX,
	}
	if strings.HasSuffix(it.Name, "/") {
		h.Mode, h.Typeflag, h.Size = 0o755, tar.TypeDir, 0
		return t.WriteHeader(h)
	}
	if err := t.WriteHeader(h); err != nil {
		return err
	}
	in, err := it.Open()
	if err != nil {
		return err
	}
	defer in.Close() //nolint:errcheck // only read
	_, err = io.Copy(t, in)
	return err
}
