// Package archivetest makes archives for tests: good ones, and such as only somebody with
// bad intentions makes.
package archivetest

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// File is an entry; a name that ends in "/" is a folder.
type File struct {
	Name    string
	Content []byte
	// Link makes it a symbolic link to there, Hard a hard one.
	Link, Hard string
	Locked     bool // rar: say that it is behind a password
}

// stamp is the time of every entry.
var stamp = time.Unix(1_750_000_000, 0).UTC()

// Read gives the files of a folder, in order, with below before their names.
func Read(t testing.TB, dir, below string) (out []File) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		data, err := os.ReadFile(p)
		out = append(out, File{Name: below + filepath.ToSlash(rel), Content: data})
		return err
	}))
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Zip packs files; change, which may be nil, alters their headers.
func Zip(t testing.TB, files []File, change func(*zip.FileHeader)) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		h := &zip.FileHeader{Name: f.Name, Method: zip.Deflate, Modified: stamp}
		content := f.Content
		if f.Link != "" {
			h.SetMode(fs.ModeSymlink | 0o777)
			content = []byte(f.Link)
		}
		if change != nil {
			change(h)
		}
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		_, err = w.Write(content)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// Tar packs files.
func Tar(t testing.TB, files []File) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		h := tar.Header{
			Name:     f.Name,
			Mode:     0o644,
			ModTime:  stamp,
			Format:   tar.FormatPAX,
			Typeflag: tar.TypeReg,
			Size:     int64(len(f.Content)),
		}
		switch {
		case strings.HasSuffix(f.Name, "/"):
			h.Typeflag = tar.TypeDir
		case f.Link != "":
			h.Typeflag, h.Linkname = tar.TypeSymlink, f.Link
		case f.Hard != "":
			h.Typeflag, h.Linkname = tar.TypeLink, f.Hard
		}
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write(f.Content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Gzip, Xz and Zstd compress.
func Gzip(t testing.TB, data []byte) []byte {
	return through(t, data, func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil })
}

// Xz compresses.
func Xz(t testing.TB, data []byte) []byte {
	return through(t, data, func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) })
}

// Zstd compresses.
func Zstd(t testing.TB, data []byte) []byte {
	return through(t, data, func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) })
}

func through(t testing.TB, data []byte, open func(io.Writer) (io.WriteCloser, error)) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := open(&b)
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Tool packs files by a program of Debian's, 7z or bzip2, which no library here writes.
func Tool(t testing.TB, files []File, command ...string) []byte {
	t.Helper()
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(in, 0o755))
	for _, f := range files {
		at := filepath.Join(in, filepath.FromSlash(f.Name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		if f.Link != "" {
			require.NoError(t, os.Symlink(f.Link, at))
			continue
		}
		require.NoError(t, os.WriteFile(at, f.Content, 0o644))
		require.NoError(t, os.Chtimes(at, stamp, stamp))
	}
	out := filepath.Join(dir, "out.packed")
	cmd := exec.Command("sh", append([]string{"-c", `cd "$0" && out=$1 && shift && "$@" >&2`, in, out},
		replaced(command, out)...)...)
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, string(said))
	data, err := os.ReadFile(out)
	require.NoError(t, err)
	return data
}

func replaced(command []string, out string) []string {
	command = slices.Clone(command)
	for i := range command {
		command[i] = strings.ReplaceAll(command[i], "OUT", out)
	}
	return command
}

// Rar packs files as they are, without compression, in version 5 of the format
// ("RAR 5.0 archive format", the technical note that its makers publish).
func Rar(files []File) []byte {
	out := []byte("Rar!\x1a\x07\x01\x00")
	block := func(kind, flags uint64, fields, extra, data []byte) {
		var h []byte
		h = binary.AppendUvarint(h, kind)
		if len(extra) > 0 {
			flags |= 1
		}
		if data != nil {
			flags |= 2
		}
		h = binary.AppendUvarint(h, flags)
		if len(extra) > 0 {
			h = binary.AppendUvarint(h, uint64(len(extra)))
		}
		if data != nil {
			h = binary.AppendUvarint(h, uint64(len(data)))
		}
		h = append(append(h, fields...), extra...)
		sized := append(binary.AppendUvarint(nil, uint64(len(h))), h...)
		out = binary.LittleEndian.AppendUint32(out, crc32.ChecksumIEEE(sized))
		out = append(append(out, sized...), data...)
	}
	block(1, 0, []byte{0}, nil, nil)
	for _, f := range files {
		name, folder := strings.CutSuffix(f.Name, "/")
		flags := uint64(2 | 4) // a time and a checksum
		if folder {
			flags = 1 | 2
		}
		fields := binary.AppendUvarint(nil, flags)
		fields = binary.AppendUvarint(fields, uint64(len(f.Content)))
		fields = binary.AppendUvarint(fields, 0o100644)
		fields = binary.LittleEndian.AppendUint32(fields, uint32(stamp.Unix())) //nolint:gosec // a time of this century
		if !folder {
			fields = binary.LittleEndian.AppendUint32(fields, crc32.ChecksumIEEE(f.Content))
		}
		fields = append(fields, 0, 1) // stored; made on Unix
		fields = binary.AppendUvarint(fields, uint64(len(name)))
		fields = append(fields, name...)
		var extra []byte
		record := func(kind byte, body []byte) {
			extra = binary.AppendUvarint(extra, uint64(len(body)+1))
			extra = append(append(extra, kind), body...)
		}
		if f.Link != "" || f.Hard != "" {
			kind, to := byte(1), f.Link
			if f.Hard != "" {
				kind, to = 4, f.Hard
			}
			record(5, append(append([]byte{kind, 0}, byte(len(to))), to...))
		}
		if f.Locked {
			record(1, append([]byte{0, 0, 15}, make([]byte, 32)...))
		}
		data := f.Content
		if data == nil {
			data = []byte{}
		}
		block(2, 0, fields, extra, data)
	}
	block(5, 0, []byte{0}, nil, nil)
	return out
}
