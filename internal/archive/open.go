package archive

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"

	"github.com/klauspost/compress/zstd"
	"github.com/xi2/xz"

	"reshard/internal/core/fault"
)

// largestWindow bounds what a compressed stream may ask for to be unpacked, in bytes.
const largestWindow = 128 << 20

// Open checks an archive and opens it as a tree, whatever its name is: zip, 7z, rar, or
// tar, plain or in gzip, xz, zstd or bzip2, known by its content. One archive that is all
// that another one holds is opened in its place. spool is a folder in which what
// cannot be read in place is unpacked; it goes with Close. name is used in messages.
func Open(file, name, spool string, limits Limits) (*Archive, error) {
	a, err := openAny(file, name, spool, limits)
	if err != nil {
		return nil, err
	}
	inner, ok := a.only()
	if !ok {
		return a, nil
	}
	// An archive in an archive, once: what a person packed twice.
	nested, err := a.openNested(inner, name, spool, limits)
	switch c := fault.CodeOf(err); {
	case err == nil:
		return nested, nil
	case c == fault.UnsafeArchive || c == fault.TooLarge || c == fault.NoSpace:
		return nil, errors.Join(err, a.Close())
	}
	return a, nil // it is no archive, but a file of its own
}

func openAny(file, name, spool string, limits Limits) (*Archive, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, fault.Wrap(fault.NotFound, "open archive", name, err)
	}
	defer f.Close() //nolint:errcheck // only read
	info, err := f.Stat()
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open archive", name, err)
	}
	limits = limits.Defaults()
	switch start := head(f, 8); {
	case bytes.HasPrefix(start, []byte(sevenMark)):
		return openSeven(f, name, spool, info.Size(), limits)
	case bytes.HasPrefix(start, []byte(rarMark)):
		return openRar(f, name, spool, info.Size(), limits)
	}
	stream, what, err := unwrapped(f)
	if err != nil {
		return nil, fault.New(fault.BadArchive, "open archive", name, "it begins as %s and does not read: %v", what,
			err)
	}
	tarred, err := isTar(stream)
	switch {
	case err != nil:
		return nil, fault.New(fault.BadArchive, "open archive", name,
			"it is %s and does not unpack: %v: the file was cut short, or is damaged", what, err)
	case what == "" && !tarred:
		return OpenZip(file, name, limits)
	case !tarred:
		return nil, fault.New(fault.BadArchive, "open archive", name, "it is %s, and holds no tar archive", what)
	}
	return unpack(tarEntries(stream), name, spool, info.Size(), limits)
}

// unwrapped opens the compression that a file begins with; what names it, "" for none.
func unwrapped(f io.Reader) (stream *bufio.Reader, what string, err error) {
	in := bufio.NewReaderSize(f, 64<<10)
	start, _ := in.Peek(6) // a short file has none of these
	var out io.Reader
	switch {
	case bytes.HasPrefix(start, []byte{0x1f, 0x8b}):
		what = "gzip"
		out, err = gzip.NewReader(in)
	case bytes.HasPrefix(start, []byte("\xfd7zXZ\x00")):
		what = "xz"
		out, err = xz.NewReader(in, largestWindow)
	case bytes.HasPrefix(start, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		what = "zstd"
		var d *zstd.Decoder
		d, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(largestWindow))
		out = d
	case bytes.HasPrefix(start, []byte("BZh")):
		what = "bzip2"
		out = bzip2.NewReader(in)
	default:
		return in, "", nil
	}
	if err != nil {
		return nil, what, err
	}
	return bufio.NewReaderSize(out, 64<<10), what, nil
}

// isTar looks for the mark of a tar header (POSIX.1-1988, ustar, at byte 257).
func isTar(in *bufio.Reader) (bool, error) {
	head, err := in.Peek(512)
	if err != nil && err != io.EOF { // a shorter stream is no tar
		return false, err
	}
	return len(head) == 512 && bytes.Equal(head[257:262], []byte("ustar")), nil
}

// only gives the one file that is all that an archive holds.
func (a *Archive) only() (name string, ok bool) {
	files := 0
	err := fs.WalkDir(a.FS, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if files++; files > 1 {
			return fs.SkipAll
		}
		name = p
		return nil
	})
	return name, err == nil && files == 1
}

// openNested takes the archive's one file out and opens it as an archive. The outer
// one is closed when that succeeds.
func (a *Archive) openNested(inner, name, spool string, limits Limits) (*Archive, error) {
	limits = limits.Defaults()
	in, err := a.Open(inner)
	if err != nil {
		return nil, err
	}
	defer in.Close() //nolint:errcheck // only read
	head := bufio.NewReaderSize(in, 64<<10)
	if start, _ := head.Peek(512); !looksPacked(start) {
		return nil, fault.New(fault.BadArchive, "open archive", inner, "it is no archive")
	}
	f, err := os.CreateTemp(spool, "inner-*.part")
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "unpack", inner, err)
	}
	defer os.Remove(f.Name()) //nolint:errcheck // an open file is read on without its name
	n, err := io.Copy(f, io.LimitReader(head, limits.Bytes+1))
	if err = errors.Join(err, f.Close()); err != nil {
		return nil, fault.Wrap(fault.BadArchive, "unpack", inner, err)
	}
	if n > limits.Bytes {
		return nil, fault.New(fault.TooLarge, "open archive", inner, "it has more than %d bytes", limits.Bytes)
	}
	nested, err := openAny(f.Name(), name+" › "+path.Base(inner), spool, limits)
	if err != nil {
		return nil, err
	}
	nested.Ignored = append(a.Ignored, nested.Ignored...)
	return nested, a.Close()
}

func looksPacked(start []byte) bool {
	for _, mark := range []string{"PK\x03\x04", "\x1f\x8b", "\xfd7zXZ\x00", "\x28\xb5\x2f\xfd", "BZh", sevenMark,
		rarMark} {
		if bytes.HasPrefix(start, []byte(mark)) {
			return true
		}
	}
	return len(start) == 512 && string(start[257:262]) == "ustar"
}
