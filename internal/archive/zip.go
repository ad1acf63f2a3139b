// Package archive takes archives in and makes them. An archive comes from a
// stranger: before anything in it is looked at, its size, its names and its
// kinds of entry are checked against limits.
package archive

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/flate"
	"golang.org/x/text/encoding/charmap"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
)

// Limits bound what an archive may hold. The zero value means the defaults.
type Limits struct {
	Entries int   // default 200,000
	Bytes   int64 // unpacked, default 64 GiB
	// Ratio bounds unpacked to packed size once an archive unpacks to more than
	// 1 GiB: default 200. Worlds pack to a fifth; only bombs reach this.
	Ratio int64
	Name  int // longest path in bytes, default 1024
}

// Defaults gives the limits with the defaults in the place of what is not set.
func (l Limits) Defaults() Limits {
	if l.Entries == 0 {
		l.Entries = 200_000
	}
	if l.Bytes == 0 {
		l.Bytes = 64 << 30
	}
	if l.Ratio == 0 {
		l.Ratio = 200
	}
	if l.Name == 0 {
		l.Name = 1024
	}
	return l
}

// Bounds that nobody raises: what it costs to look at names grows with their length times
// their depth.
const (
	mostNames   = 32 << 20 // of all entries together, in bytes
	deepestName = 64       // folders
)

// creatorUnix is the mark of a packer of Unix.
const creatorUnix = 3

// Archive is an opened archive as a read-only tree.
type Archive struct {
	fs.FS
	file *os.File
	// remove is the name of what it was unpacked into; "" when it has none.
	remove string
	// Ignored lists entries that are no part of any world, such as the
	// resource forks that some systems' packers add.
	Ignored []string
}

// Close closes the archive's file, and removes what was unpacked of it.
func (a *Archive) Close() error {
	err := a.file.Close()
	if a.remove != "" {
		err = errors.Join(err, os.Remove(a.remove))
	}
	return err
}

// OpenZip checks a zip file and opens it as a tree. name is used in messages.
func OpenZip(file, name string, limits Limits) (*Archive, error) {
	limits = limits.Defaults()
	f, err := os.Open(file)
	if err != nil {
		return nil, fault.Wrap(fault.NotFound, "open archive", name, err)
	}
	a, err := openZip(f, name, limits)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return a, nil
}

func openZip(f *os.File, name string, limits Limits) (*Archive, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open archive", name, err)
	}
	bad := func(format string, args ...any) error {
		return fault.New(fault.BadArchive, "open archive", name, format, args...)
	}
	if info.Size() == 0 {
		return nil, bad("the file is empty: the upload or copy may have stopped before it began")
	}
	entries, directory, err := directorySize(f, info.Size())
	if err != nil {
		return nil, bad("%v", err)
	}
	// The library reads the whole directory into memory: refuse one that is
	// too long before, by both of the numbers that a liar could set.
	if entries > int64(limits.Entries) || directory > mostNames+100*entries {
		return nil, fault.New(fault.TooLarge, "open archive", name,
			"it lists %d entries in a directory of %d bytes; %d entries are the limit, and %d bytes for their names",
			entries, directory, limits.Entries, mostNames)
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, bad("%v", err)
	}
	z.RegisterDecompressor(zip.Deflate, func(r io.Reader) io.ReadCloser { return flate.NewReader(r) })
	a := &Archive{file: f}
	if err := a.checkEntries(z, name, info.Size(), limits); err != nil {
		return nil, err
	}
	a.FS = z
	return a, nil
}

// directorySize finds the end-of-central-directory record (APPNOTE.TXT 6.3.10,
// 4.3.16, and 4.3.14 for Zip64) and gives what it says of the directory.
func directorySize(f io.ReaderAt, size int64) (entries, directory int64, err error) {
	tail := make([]byte, min(size, 65557+20))
	if _, err := f.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return 0, 0, err
	}
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || at+22 > len(tail) {
		if bytes.HasPrefix(head(f, 4), []byte("PK\x03\x04")) {
			return 0, 0, errors.New("it begins as a zip but its end is missing: the file was cut short on the way")
		}
		if kind := http.DetectContentType(head(f, 512)); strings.HasPrefix(kind, "text/html") {
			return 0, 0, errors.New(
				"it is a web page: the download has given an error, or a page with a button, in the place of the file")
		}
		return 0, 0, errors.New(
			"it is no archive that can be read: zip, 7z, rar, or tar, plain or packed with gzip, xz, zstd or bzip2")
	}
	entries = int64(binary.LittleEndian.Uint16(tail[at+10:]))
	directory = int64(binary.LittleEndian.Uint32(tail[at+12:]))
	if at >= 20 && bytes.Equal(tail[at-20:at-16], []byte("PK\x06\x07")) {
		var end [56]byte
		if _, err := f.ReadAt(end[:], int64(binary.LittleEndian.Uint64(tail[at-12:]))); err != nil ||
			!bytes.HasPrefix(end[:], []byte("PK\x06\x06")) {
			return 0, 0, errors.New("its Zip64 end record is damaged")
		}
		entries = int64(binary.LittleEndian.Uint64(end[32:]))
		directory = int64(binary.LittleEndian.Uint64(end[40:]))
	}
	if entries < 0 || directory < 0 || directory > size {
		return 0, 0, errors.New("its end record does not fit the file: the file was cut short, or is damaged")
	}
	return entries, directory, nil
}

func head(f io.ReaderAt, most int) []byte {
	b := make([]byte, most)
	n, _ := f.ReadAt(b, 0) // a short file gives fewer bytes, which is all that matters
	return b[:n]
}

func (a *Archive) checkEntries(z *zip.Reader, name string, packed int64, limits Limits) error {
	var total uint64
	if len(z.File) > limits.Entries {
		return fault.New(fault.TooLarge, "open archive", name, "%d entries; %d are the limit", len(z.File),
			limits.Entries)
	}
	if len(z.File) == 0 {
		return fault.New(fault.BadArchive, "open archive", name, "it holds nothing")
	}
	seen := make(map[string]bool, len(z.File)) // whether it is a folder
	kept := z.File[:0]
	names := 0
	for _, e := range z.File {
		switch {
		case utf8.ValidString(e.Name):
		case !e.NonUTF8 || e.CreatorVersion>>8 == creatorUnix:
			// A packer of Unix keeps the bytes of the file system (APPNOTE.TXT 6.3.10, 4.4.2).
			e.Name = filename.Encode(e.Name)
		default:
			// Without the mark of UTF-8 the format means code page 437 (APPNOTE.TXT 6.3.10, D.1).
			e.Name, _ = charmap.CodePage437.NewDecoder().String(e.Name) // every byte has a meaning there
		}
		if err := checkEntry(e, name, limits); err != nil {
			return err
		}
		clean := strings.TrimSuffix(e.Name, "/")
		if ignored(clean) {
			a.Ignored = append(a.Ignored, e.Name)
			continue
		}
		if _, twice := seen[clean]; twice {
			return fault.New(fault.BadArchive, "open archive", name,
				"the entry %q is there twice: it cannot be told which one counts", e.Name)
		}
		seen[clean] = clean != e.Name
		if names += len(clean); names > mostNames {
			return fault.New(fault.TooLarge, "open archive", name,
				"the names of its entries have more than %d bytes together", mostNames)
		}
		total += e.UncompressedSize64
		kept = append(kept, e)
	}
	z.File = kept
	if file := fileAndFolder(seen); file != "" {
		return fault.New(fault.BadArchive, "open archive", name, "%q is a file and a folder at once", file)
	}
	if total > uint64(limits.Bytes) || (total > 1<<30 && total > uint64(packed)*uint64(limits.Ratio)) {
		return fault.New(fault.TooLarge, "open archive", name, "%d bytes would unpack to %d: more than a world can be",
			packed, total)
	}
	return nil
}

// fileAndFolder gives a file that others stand below, "" when there is none. folders tells of
// each name whether it is a folder; each folder above others is looked at once.
func fileAndFolder(folders map[string]bool) string {
	looked := map[string]bool{}
	for clean := range folders {
		for up := path.Dir(clean); up != "." && !looked[up]; up = path.Dir(up) {
			if folder, there := folders[up]; there && !folder {
				return up
			}
			looked[up] = true
		}
	}
	return ""
}

func checkEntry(e *zip.File, archive string, limits Limits) error {
	unsafe := func(format string, args ...any) error {
		return fault.New(fault.UnsafeArchive, "open archive", archive, format, args...)
	}
	if e.Flags&0x1 != 0 {
		return fault.New(fault.BadArchive, "open archive", archive, "the entry %q is protected by a password", e.Name)
	}
	if err := checkName(e.Name, archive, limits); err != nil {
		return err
	}
	if m := e.Mode(); !m.IsRegular() && !m.IsDir() {
		return unsafe("the entry %q is a link or a device; a world is made of files and folders only", e.Name)
	}
	if e.Method != zip.Store && e.Method != zip.Deflate {
		return fault.New(fault.BadArchive, "open archive", archive,
			"the entry %q is packed by method %d, which is not read; pack it as an ordinary zip", e.Name, e.Method)
	}
	return nil
}

// checkName refuses an entry's name that is none below its folder, or that no file
// system takes.
func checkName(entry, archive string, limits Limits) error {
	unsafe := func(format string, args ...any) error {
		return fault.New(fault.UnsafeArchive, "open archive", archive, format, args...)
	}
	clean := strings.TrimSuffix(entry, "/")
	switch {
	case strings.HasPrefix(entry, "/") || strings.Contains(entry, ":/") || (len(entry) > 1 && entry[1] == ':'):
		return unsafe("the entry %q has an absolute name", entry)
	case strings.Contains(entry, `\`):
		return unsafe("the entry %q has backslashes in its name; pack it with forward slashes, as the format asks",
			entry)
	case !fs.ValidPath(clean) || clean == ".":
		return unsafe("the entry %q would leave its folder", entry)
	case !utf8.ValidString(entry) || strings.ContainsRune(entry, 0):
		return fault.New(fault.BadArchive, "open archive", archive, "the entry %q has a name that no file has", entry)
	case len(entry) > limits.Name:
		return fault.New(fault.TooLarge, "open archive", archive, "an entry's name has %d bytes; %d are the limit",
			len(entry), limits.Name)
	}
	if strings.Count(clean, "/") >= deepestName {
		return fault.New(fault.TooLarge, "open archive", archive, "the entry %q stands more than %d folders deep",
			entry[:60]+"…", deepestName)
	}
	for _, part := range strings.Split(clean, "/") {
		if len(filename.Decode(part)) > 255 {
			return fault.New(fault.TooLarge, "open archive", archive,
				"a name in %q has %d bytes; no file system takes more than 255", entry[:60]+"…", len(part))
		}
	}
	return nil
}

func ignored(name string) bool {
	top, _, _ := strings.Cut(name, "/")
	base := path.Base(name)
	return top == "__MACOSX" || base == ".DS_Store" || base == "Thumbs.db" || base == "desktop.ini"
}
