package pack

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/klauspost/compress/zstd"
	"github.com/xi2/xz"

	"reshard/internal/core/fault"
)

// largestWindow bounds what a compressed stream may ask for to be unpacked, in bytes.
const largestWindow = 128 << 20

// Open checks an archive and opens it as a tree, whatever its name is: zip, or tar,
// plain or in gzip, xz, zstd or bzip2, known by its content. One archive that is all
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
	stream, what, err := unwrapped(f)
	if err != nil {
		return nil, fault.New(fault.BadArchive, "open archive", name, "it begins as %s and does not read: %v", what, err)
	}
	if what == "" && !isTar(stream) {
		return OpenZip(file, name, limits)
	}
	if !isTar(stream) {
		return nil, fault.New(fault.BadArchive, "open archive", name, "it is %s, and holds no tar archive", what)
	}
	info, err := f.Stat()
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open archive", name, err)
	}
	return untar(stream, name, spool, info.Size(), limits.withDefaults())
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
func isTar(in *bufio.Reader) bool {
	head, _ := in.Peek(512) // a shorter stream is no tar
	return len(head) == 512 && bytes.Equal(head[257:262], []byte("ustar"))
}

// untar unpacks a tar stream into a folder of its own, every entry checked before
// anything of it is written.
func untar(in io.Reader, name, spool string, packed int64, limits Limits) (a *Archive, err error) {
	dir, err := os.MkdirTemp(spool, "unpacked-*")
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "unpack", name, err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}()
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "unpack", name, err)
	}
	u := unpacking{name: name, root: root, packed: packed, limits: limits, archive: &Archive{FS: root.FS(), dir: dir, root: root}}
	if err := u.all(tar.NewReader(in)); err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return u.archive, nil
}

// unpacking is one archive on its way onto the disk.
type unpacking struct {
	name    string
	root    *os.Root
	packed  int64
	limits  Limits
	entries int
	bytes   int64
	archive *Archive
}

func (u *unpacking) all(t *tar.Reader) error {
	for {
		h, err := t.Next()
		switch {
		case err == io.EOF && u.entries == 0:
			return fault.New(fault.BadArchive, "open archive", u.name, "it holds nothing")
		case err == io.EOF:
			return nil
		case err != nil && !errors.Is(err, tar.ErrInsecurePath):
			return fault.New(fault.BadArchive, "open archive", u.name, "%v: the file was cut short, or is damaged", err)
		}
		if h.Typeflag == tar.TypeXGlobalHeader {
			continue // it says something of others
		}
		if u.entries++; u.entries > u.limits.Entries {
			return fault.New(fault.TooLarge, "open archive", u.name, "more than %d entries", u.limits.Entries)
		}
		if err := u.one(h, t); err != nil {
			return err
		}
	}
}

func (u *unpacking) one(h *tar.Header, content io.Reader) error {
	entry := strings.TrimPrefix(h.Name, "./")
	if entry == "" {
		return nil // the folder itself
	}
	if err := checkName(entry, u.name, u.limits); err != nil {
		return err
	}
	if h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeDir {
		return fault.New(fault.UnsafeArchive, "open archive", u.name, "the entry %q is a link or a device; a world is made of files and folders only", entry)
	}
	clean := strings.TrimSuffix(entry, "/")
	if ignored(clean) {
		u.archive.Ignored = append(u.archive.Ignored, entry)
		return nil
	}
	if h.Typeflag == tar.TypeDir {
		return u.fail(clean, u.root.MkdirAll(filepath.FromSlash(clean), 0o700))
	}
	u.bytes += h.Size
	if h.Size < 0 || u.bytes > u.limits.Bytes || (u.bytes > 1<<30 && u.bytes > u.packed*u.limits.Ratio) {
		return fault.New(fault.TooLarge, "open archive", u.name, "%d bytes would unpack to %d or more: more than a world can be", u.packed, u.bytes)
	}
	if err := u.fail(clean, u.root.MkdirAll(filepath.FromSlash(path.Dir(clean)), 0o700)); err != nil {
		return err
	}
	f, err := u.root.OpenFile(filepath.FromSlash(clean), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fault.New(fault.BadArchive, "open archive", u.name, "the entry %q is there twice: it cannot be told which one counts", entry)
	}
	if err != nil {
		return u.fail(clean, err)
	}
	_, err = io.Copy(f, content)
	if err = errors.Join(err, f.Close()); err == nil {
		err = u.root.Chtimes(filepath.FromSlash(clean), h.ModTime, h.ModTime)
	}
	return u.fail(clean, err)
}

// fail says what went wrong with an entry: the archive's fault, or the disk's.
func (u *unpacking) fail(entry string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fault.Wrap(fault.NoSpace, "unpack", u.name, err)
	case errors.Is(err, syscall.ENOTDIR), errors.Is(err, syscall.EEXIST), errors.Is(err, syscall.EISDIR):
		return fault.New(fault.BadArchive, "open archive", u.name, "%q is a file and a folder at once", entry)
	}
	return fault.New(fault.BadArchive, "open archive", u.name, "%q does not unpack: %v", entry, err)
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
	limits = limits.withDefaults()
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
	for _, mark := range []string{"PK\x03\x04", "\x1f\x8b", "\xfd7zXZ\x00", "\x28\xb5\x2f\xfd", "BZh"} {
		if bytes.HasPrefix(start, []byte(mark)) {
			return true
		}
	}
	return len(start) == 512 && string(start[257:262]) == "ustar"
}
