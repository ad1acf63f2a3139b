package archive

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/bodgit/sevenzip"
	"github.com/nwaples/rardecode/v2"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/core/filetree"
)

// The marks that archives begin with which are not read in place.
const (
	sevenMark = "7z\xbc\xaf\x27\x1c"
	rarMark   = "Rar!\x1a\x07"
)

// entry is one entry of an archive that is read from its beginning to its end.
type entry struct {
	name     string
	folder   bool
	plain    bool  // a file or a folder
	locked   bool  // behind a password
	size     int64 // announced; -1 unknown
	modified time.Time
	open     func() (io.ReadCloser, error)
}

// entries gives the next entry, io.EOF after the last.
type entries func() (entry, error)

func tarEntries(in io.Reader) entries {
	end := &lastBlock{Reader: in}
	t := tar.NewReader(end)
	return func() (entry, error) {
		for {
			h, err := t.Next()
			if err == io.EOF && !end.zero() {
				// The library takes the end of the file for the end of the archive.
				return entry{}, errors.New("its end is missing")
			}
			if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
				return entry{}, err
			}
			if h.Typeflag == tar.TypeXGlobalHeader {
				continue // it says something of others
			}
			return entry{
				name: h.Name, folder: h.Typeflag == tar.TypeDir,
				plain: h.Typeflag == tar.TypeReg || h.Typeflag == tar.TypeDir,
				size:  h.Size, modified: h.ModTime, open: func() (io.ReadCloser, error) { return io.NopCloser(t), nil },
			}, nil
		}
	}
}

// lastBlock remembers the last block that was read: a tar archive ends with blocks of
// zeros (POSIX.1-2017, pax, ustar interchange format).
type lastBlock struct {
	io.Reader
	block [512]byte
}

func (l *lastBlock) Read(p []byte) (int, error) {
	n, err := l.Reader.Read(p)
	if got := p[:n]; n >= len(l.block) {
		copy(l.block[:], got[n-len(l.block):])
	} else {
		copy(l.block[:], l.block[n:])
		copy(l.block[len(l.block)-n:], got)
	}
	return n, err
}

func (l *lastBlock) zero() bool { return l.block == [512]byte{} }

// openSeven unpacks a 7z archive. Its files share compressed streams, which are read in
// their order.
func openSeven(f io.ReaderAt, name, spool string, size int64, limits Limits) (*Archive, error) {
	if err := checkSeven(f, size, limits.Entries); err != nil {
		return nil, badSolid(name, "7z", err)
	}
	z, err := readSeven(f, size)
	if err != nil {
		return nil, badSolid(name, "7z", err)
	}
	i := 0
	return unpack(func() (entry, error) {
		if i == len(z.File) {
			return entry{}, io.EOF
		}
		e := z.File[i]
		i++
		if e.UncompressedSize > 1<<62 {
			return entry{}, errors.New("an entry has no size that can be")
		}
		m := e.Mode()
		return entry{
			name:     e.Name,
			folder:   m.IsDir(),
			plain:    m.IsRegular() || m.IsDir(),
			size:     int64(e.UncompressedSize),
			modified: e.Modified,
			open:     e.Open,
		}, nil
	}, name, spool, size, limits)
}

// readSeven reads an archive's list of files.
func readSeven(f io.ReaderAt, size int64) (z *sevenzip.Reader, err error) {
	defer func() { // the decoder is not ours, and its input is anybody's
		if p := recover(); p != nil {
			err = fmt.Errorf("it is damaged: %v", p)
		}
	}()
	return sevenzip.NewReader(f, size)
}

// openRar unpacks a rar archive of one volume.
func openRar(f io.Reader, name, spool string, size int64, limits Limits) (*Archive, error) {
	r, err := rardecode.NewReader(f, rardecode.MaxDictionarySize(largestWindow))
	if err != nil {
		return nil, badSolid(name, "rar", err)
	}
	return unpack(func() (entry, error) {
		h, err := r.Next()
		if err != nil {
			return entry{}, err
		}
		m := h.Mode()
		e := entry{
			name: h.Name, folder: h.IsDir, plain: h.LinkType == 0 && (m.IsRegular() || m.IsDir()),
			locked: h.Encrypted || h.HeaderEncrypted,
			size:   h.UnPackedSize, modified: h.ModificationTime,
			open: func() (io.ReadCloser, error) { return io.NopCloser(r), nil },
		}
		if h.UnKnownSize {
			e.size = -1
		}
		return e, nil
	}, name, spool, size, limits)
}

// badSolid says why an archive does not open.
func badSolid(name, what string, err error) error {
	var e *sevenzip.ReadError
	if (errors.As(err, &e) && e.Encrypted) || errors.Is(err, errLocked) ||
		errors.Is(err, rardecode.ErrArchiveEncrypted) ||
		errors.Is(err, rardecode.ErrArchivedFileEncrypted) {
		return fault.New(fault.BadArchive, "open archive", name, "it is protected by a password")
	}
	return fault.New(fault.BadArchive, "open archive", name, "it begins as %s and does not read: %v", what, err)
}

// unpack unpacks an archive into one file of its own, every entry checked before anything of
// it is written. A file for each entry would cost the disk more than most of them hold.
func unpack(next entries, name, spool string, packed int64, limits Limits) (*Archive, error) {
	f, err := os.CreateTemp(spool, "unpacked-*.part")
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "unpack", name, err)
	}
	// Without a name it goes with its last handle, whatever happens to this process; where a
	// file that is open keeps its name, Close removes it.
	remove := ""
	if os.Remove(f.Name()) != nil {
		remove = f.Name()
	}
	u := unpacking{
		name: name, file: f, packed: packed, limits: limits, tree: filetree.New(), seen: map[string]bool{},
		archive: &Archive{file: f, remove: remove},
	}
	u.archive.FS = u.tree
	if err := u.all(next); err != nil {
		return nil, errors.Join(err, u.archive.Close())
	}
	u.tree.Sort()
	return u.archive, nil
}

// unpacking is one archive on its way onto the disk.
type unpacking struct {
	name    string
	file    *os.File // what all files are written into, one behind the other
	tree    *filetree.Tree
	seen    map[string]bool // whether a name is a folder
	names   int             // bytes of all names
	packed  int64
	limits  Limits
	entries int
	bytes   int64
	archive *Archive
}

func (u *unpacking) all(next entries) (err error) {
	defer func() { // the decoders are not ours, and their input is anybody's
		if p := recover(); p != nil {
			err = fault.New(fault.BadArchive, "open archive", u.name, "it is damaged: %v", p)
		}
	}()
	for {
		e, err := next()
		switch {
		case err == io.EOF && u.entries == 0:
			return fault.New(fault.BadArchive, "open archive", u.name, "it holds nothing")
		case err == io.EOF:
			if file := fileAndFolder(u.seen); file != "" {
				return fault.New(fault.BadArchive, "open archive", u.name, "%q is a file and a folder at once", file)
			}
			return nil
		case errors.Is(err, rardecode.ErrArchivedFileEncrypted), errors.Is(err, rardecode.ErrArchiveEncrypted):
			return badSolid(u.name, "rar", err)
		case err != nil:
			return fault.New(fault.BadArchive, "open archive", u.name, "%v: the file was cut short, or is damaged", err)
		}
		if u.entries++; u.entries > u.limits.Entries {
			return fault.New(fault.TooLarge, "open archive", u.name, "more than %d entries", u.limits.Entries)
		}
		if err := u.one(e); err != nil {
			return err
		}
	}
}

func (u *unpacking) one(e entry) error {
	name := filename.Encode(strings.TrimPrefix(e.name, "./"))
	if name == "" {
		return nil // the folder itself
	}
	if err := checkName(name, u.name, u.limits); err != nil {
		return err
	}
	switch {
	case e.locked:
		return fault.New(fault.BadArchive, "open archive", u.name, "the entry %q is protected by a password", name)
	case !e.plain:
		return fault.New(fault.UnsafeArchive, "open archive", u.name,
			"the entry %q is a link or a device; a world is made of files and folders only", name)
	}
	clean := strings.TrimSuffix(name, "/")
	if u.names += len(clean); u.names > mostNames {
		return fault.New(fault.TooLarge, "open archive", u.name,
			"the names of its entries have more than %d bytes together", mostNames)
	}
	if ignored(clean) {
		u.archive.Ignored = append(u.archive.Ignored, name)
		return nil
	}
	if folder, twice := u.seen[clean]; twice && folder != e.folder {
		return fault.New(fault.BadArchive, "open archive", u.name, "%q is a file and a folder at once", name)
	} else if twice && !folder {
		return fault.New(fault.BadArchive, "open archive", u.name,
			"the entry %q is there twice: it cannot be told which one counts", name)
	}
	u.seen[clean] = e.folder
	if e.folder {
		u.tree.Folder(clean)
		return nil
	}
	if e.size > 0 && u.tooMuch(e.size) {
		return u.bomb(u.bytes + e.size)
	}
	from := u.bytes
	if err := u.write(u.file, e); err != nil {
		return u.fail(clean, err)
	}
	size := u.bytes - from
	u.tree.Add(clean, filetree.File{Size: size, Modified: e.modified, Open: func() io.Reader {
		return io.NewSectionReader(u.file, from, size)
	}})
	return nil
}

// write unpacks one file; what it holds counts, not what it announces.
func (u *unpacking) write(f io.Writer, e entry) error {
	in, err := e.open()
	if err != nil {
		return badSolid(u.name, "an archive", err)
	}
	defer in.Close() //nolint:errcheck // only read
	n, err := io.Copy(f, &measured{Reader: in, u: u})
	if err == nil && e.size >= 0 && n != e.size {
		err = fmt.Errorf("it announces %d bytes and has %d", e.size, n)
	}
	return err
}

// measured counts what is unpacked, and ends where there is too much of it.
type measured struct {
	io.Reader
	u *unpacking
}

func (m *measured) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	if m.u.tooMuch(int64(n)) {
		return 0, m.u.bomb(m.u.bytes)
	}
	m.u.bytes += int64(n)
	return n, err
}

func (u *unpacking) tooMuch(more int64) bool {
	n := u.bytes + more
	return n > u.limits.Bytes || (n > 1<<30 && n > u.packed*u.limits.Ratio)
}

func (u *unpacking) bomb(n int64) error {
	return fault.New(fault.TooLarge, "open archive", u.name,
		"%d bytes would unpack to %d or more: more than a world can be", u.packed, n)
}

// fail says what went wrong with an entry: the archive's fault, or the disk's.
func (u *unpacking) fail(entry string, err error) error {
	var coded *fault.Error
	var read *sevenzip.ReadError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &coded):
		return err
	case errors.As(err, &read) && read.Encrypted:
		return badSolid(u.name, "an archive", err)
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fault.Wrap(fault.NoSpace, "unpack", u.name, err)
	}
	return fault.New(fault.BadArchive, "open archive", u.name, "%q does not unpack: %v", entry, err)
}
