package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"encoding/hex"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/archive"
	"reshard/internal/archive/archivetest"
	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/fault"
)

// tarOf packs entries; a name that ends in "/" is a folder.
func tarOf(t *testing.T, headers ...tar.Header) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		content := h.Linkname // of a file its content, to write tables shortly
		if h.Typeflag == 0 {
			h.Typeflag = tar.TypeReg
			if strings.HasSuffix(h.Name, "/") {
				h.Typeflag = tar.TypeDir
			}
		}
		if h.Typeflag == tar.TypeReg {
			h.Linkname, h.Size = "", int64(len(content))
		}
		h.Mode, h.ModTime, h.Format = 0o644, time.Unix(1e9, 0), tar.FormatPAX
		require.NoError(t, w.WriteHeader(&h))
		if h.Typeflag == tar.TypeReg {
			_, err := w.Write([]byte(content))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func zipOne(t *testing.T, name string, content []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	require.NoError(t, err)
	_, err = w.Write(content)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

// arrive writes bytes to a file, whose name says nothing, and opens it.
func arrive(t *testing.T, data []byte, limits archive.Limits) (*archive.Archive, string, error) {
	t.Helper()
	dir := t.TempDir()
	spool := filepath.Join(dir, "spool")
	require.NoError(t, os.Mkdir(spool, 0o755))
	file := filepath.Join(dir, "arrived")
	require.NoError(t, os.WriteFile(file, data, 0o644))
	a, err := archive.Open(file, "fen", spool, limits)
	return a, spool, err
}

func assertEmpty(t *testing.T, dir string) {
	t.Helper()
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing stays in the spool")
}

// bzip2Tar is a tar archive of the one file fen/heart with the content "beats", packed
// by libbzip2 1.0.8; the standard library only reads the format.
const bzip2Tar = "" +
	"425a68393141592653591dedaa51000073fb80c90000024000cf80008073411e0008082000543486a7a20d34f48c6504926a6831" +
	"001ea1f462490822e4210f16c07cda6810c988b3a4fac91360532115dd116c67b4e531116c076d36328c28f9d1bd48880fc5dc91" +
	"4e1424077b6a9440"

// Archives are known by their content, whatever they are called.
func TestArchivesOfEveryKind(t *testing.T) {
	t.Parallel()
	plain := tarOf(t, tar.Header{Name: "./"}, tar.Header{Name: "./fen/"},
		tar.Header{Name: "./fen/heart", Linkname: "beats"}, tar.Header{Name: "fen/ground/t.0.0.qt", Linkname: "g"},
		tar.Header{Name: "__MACOSX/x", Linkname: "y"})
	bz, err := hex.DecodeString(bzip2Tar)
	require.NoError(t, err)
	gz := archivetest.Gzip(t, plain)
	for name, data := range map[string][]byte{
		"tar": plain, "tar.gz": gz, "tar.zst": archivetest.Zstd(t, plain), "tar.xz": archivetest.Xz(t, plain),
		"tar.bz2":       bz,
		"zip in zip":    zipOne(t, "inner/fen.zip", zipOne(t, "fen/heart", []byte("beats"))),
		"tar.gz in zip": zipOne(t, "fen.tgz", gz),
		"zip in tar": tarOf(
			t, tar.Header{Name: "fen.zip", Linkname: string(zipOne(t, "fen/heart", []byte("beats")))}),
	} {
		a, spool, err := arrive(t, data, archive.Limits{})
		if !assert.NoError(t, err, name) {
			continue
		}
		heart, err := fs.ReadFile(a, "fen/heart")
		assert.NoError(t, err, name)
		assert.Equal(t, "beats", string(heart), name)
		if name == "tar" {
			assert.Equal(t, []string{"__MACOSX/x"}, a.Ignored)
			info, err := fs.Stat(a, "fen/heart")
			require.NoError(t, err)
			assert.Equal(t, time.Unix(1e9, 0).UTC(), info.ModTime().UTC())
		}
		require.NoError(t, a.Close())
		assertEmpty(t, spool)
	}
}

// What is no archive of an archive stays what it is.
func TestOneFileThatIsNoArchive(t *testing.T) {
	t.Parallel()
	for name, data := range map[string][]byte{
		"a gzip file that is a part of a world": zipOne(t, "heart.cbor.gz", archivetest.Gzip(t, []byte("beats"))),
		"text":                                  zipOne(t, "notes.txt", []byte("minutes")),
		"three deep is kept":                    zipOne(t, "a.zip", zipOne(t, "b.zip", zipOne(t, "c", []byte("x")))),
	} {
		a, spool, err := arrive(t, data, archive.Limits{})
		require.NoError(t, err, name)
		files, err := fs.Glob(a, "*")
		require.NoError(t, err)
		assert.Len(t, files, 1, name)
		if name == "three deep is kept" {
			assert.Equal(t, []string{"b.zip"}, files)
		}
		require.NoError(t, a.Close())
		assertEmpty(t, spool)
	}
}

func TestNamesInTheOldCodePage(t *testing.T) {
	t.Parallel()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.CreateHeader(&zip.FileHeader{Name: "fen/K\x94rbe", NonUTF8: true})
	require.NoError(t, err)
	_, err = w.Write([]byte("x"))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	a, _, err := arrive(t, b.Bytes(), archive.Limits{})
	require.NoError(t, err)
	defer a.Close() //nolint:errcheck // only read
	_, err = fs.Stat(a, "fen/Körbe")
	assert.NoError(t, err)
}

// Hostile and broken archives are refused with words, and nothing of them stays.
func TestHostileTar(t *testing.T) {
	t.Parallel()
	bomb := archivetest.Gzip(t, tarOf(t, tar.Header{Name: "fen/zeros", Linkname: strings.Repeat("\x00", 3<<20)}))
	good := tarOf(t, tar.Header{Name: "fen/heart", Linkname: strings.Repeat("beats", 4000)})
	for name, c := range map[string]struct {
		data   []byte
		limits archive.Limits
		code   fault.Code
		words  string
	}{
		"leaves": {
			tarOf(t, tar.Header{Name: "../../etc/passwd", Linkname: "x"}),
			archive.Limits{},
			fault.UnsafeArchive,
			"would leave its folder",
		},
		"absolute": {
			tarOf(t, tar.Header{Name: "/etc/passwd", Linkname: "x"}),
			archive.Limits{},
			fault.UnsafeArchive,
			"absolute name",
		},
		"link": {
			tarOf(t, tar.Header{Name: "fen", Typeflag: tar.TypeSymlink, Linkname: "/etc"}),
			archive.Limits{},
			fault.UnsafeArchive,
			"link or a device",
		},
		"hard link": {
			tarOf(t, tar.Header{Name: "fen", Typeflag: tar.TypeLink, Linkname: "x"}),
			archive.Limits{},
			fault.UnsafeArchive,
			"link or a device",
		},
		"device": {
			tarOf(t, tar.Header{Name: "fen", Typeflag: tar.TypeChar}),
			archive.Limits{},
			fault.UnsafeArchive,
			"link or a device",
		},
		"twice": {
			tarOf(t, tar.Header{Name: "a", Linkname: "x"}, tar.Header{Name: "a", Linkname: "y"}),
			archive.Limits{},
			fault.BadArchive,
			"there twice",
		},
		"file and folder": {
			tarOf(t, tar.Header{Name: "a", Linkname: "x"}, tar.Header{Name: "a/b", Linkname: "y"}),
			archive.Limits{},
			fault.BadArchive,
			"a file and a folder",
		},
		"too many": {
			tarOf(t, tar.Header{Name: "a", Linkname: "x"}, tar.Header{Name: "b", Linkname: "y"}),
			archive.Limits{Entries: 1},
			fault.TooLarge,
			"more than 1 entries",
		},
		"too large":         {bomb, archive.Limits{Bytes: 1 << 20}, fault.TooLarge, "more than a world can be"},
		"nested, too large": {zipOne(t, "a.tgz", bomb), archive.Limits{Bytes: 1 << 20}, fault.TooLarge, ""},
		"long name": {
			tarOf(t, tar.Header{Name: strings.Repeat("n", 300), Linkname: "x"}),
			archive.Limits{},
			fault.TooLarge,
			"255",
		},
		"nothing":            {tarOf(t), archive.Limits{}, fault.BadArchive, ""},
		"cut short":          {good[:3000], archive.Limits{}, fault.BadArchive, ""},
		"cut in compression": {archivetest.Gzip(t, good)[:40], archive.Limits{}, fault.BadArchive, ""},
		"gzip of no tar": {
			archivetest.Gzip(t, []byte("minutes of the meeting")),
			archive.Limits{},
			fault.BadArchive,
			"holds no tar archive",
		},
		"empty": {nil, archive.Limits{}, fault.BadArchive, "empty"},
	} {
		a, spool, err := arrive(t, c.data, c.limits)
		if !assert.Error(t, err, name) {
			require.NoError(t, a.Close())
			continue
		}
		assert.Equal(t, c.code, fault.CodeOf(err), "%s: %v", name, err)
		assert.ErrorContains(t, err, c.words, name)
		assertEmpty(t, spool)
	}
}

// Whatever the bytes are, opening ends with words or a tree, and leaves nothing behind.
func FuzzOpen(f *testing.F) {
	f.Add([]byte("\x1f\x8b\x08\x00"))
	f.Add([]byte("BZh9"))
	f.Add(archivetest.Rar([]archivetest.File{{Name: "fen/"}, {Name: "fen/heart", Content: []byte("beats")}}))
	f.Add(archivetest.Tool(f, []archivetest.File{{Name: "fen/heart", Content: []byte("beats")}}, "7z", "a", "-t7z",
		"OUT",
		"fen"))
	f.Add(append(make([]byte, 257), append([]byte("ustar\x0000"), make([]byte, 247)...)...))
	f.Fuzz(func(t *testing.T, data []byte) {
		dir := t.TempDir()
		file := filepath.Join(dir, "a")
		require.NoError(t, os.WriteFile(file, data, 0o600))
		spool := filepath.Join(dir, "s")
		require.NoError(t, os.Mkdir(spool, 0o700))
		budgettest.Within(t, func() {
			a, err := archive.Open(file, "a", spool, archive.Limits{Entries: 100, Bytes: 1 << 20})
			if err == nil {
				require.NoError(t, a.Close())
			}
		})
		left, err := os.ReadDir(spool)
		require.NoError(t, err)
		require.Empty(t, left)
	})
}
