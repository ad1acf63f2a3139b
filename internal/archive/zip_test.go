package archive_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/archive"
	"reshard/internal/core/fault"
)

type entry struct {
	name string
	mode fs.FileMode
	data string
}

func zipOf(t *testing.T, entries ...entry) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		if e.mode != 0 {
			h.SetMode(e.mode)
		}
		out, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(out, e.data)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func open(t *testing.T, data []byte, limits archive.Limits) (*archive.Archive, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "a.zip")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	a, err := archive.OpenZip(file, "a.zip", limits)
	if err == nil {
		t.Cleanup(func() { assert.NoError(t, a.Close()) })
	}
	return a, err
}

func TestHostileArchives(t *testing.T) {
	t.Parallel()
	good := zipOf(t, entry{name: "w/heart", data: strings.Repeat("x", 4000)})
	encrypted := bytes.Clone(good)
	for _, sign := range []string{"PK\x03\x04", "PK\x01\x02"} {
		at := bytes.Index(encrypted, []byte(sign))
		flag := at + 6
		if sign == "PK\x01\x02" {
			flag = at + 8
		}
		encrypted[flag] |= 1
	}
	terabyte := rawZip(t, 1, &zip.FileHeader{
		Name:               "w/zeros",
		Method:             zip.Deflate,
		UncompressedSize64: 1 << 40,
		CompressedSize64:   4,
	}, []byte{1, 2, 3, 4})
	for name, c := range map[string]struct {
		data  []byte
		code  fault.Code
		words string
	}{
		"empty file":           {nil, fault.BadArchive, "empty"},
		"no archive":           {[]byte("hello, I am a text"), fault.BadArchive, "no archive that can be read"},
		"truncated":            {good[:len(good)-40], fault.BadArchive, "cut short"},
		"truncated early":      {good[:60], fault.BadArchive, "cut short"},
		"no entries":           {zipOf(t), fault.BadArchive, "holds nothing"},
		"password":             {encrypted, fault.BadArchive, "password"},
		"escapes":              {zipOf(t, entry{name: "../../etc/cron.d/x"}), fault.UnsafeArchive, "leave its folder"},
		"escapes in the midst": {zipOf(t, entry{name: "w/../../x"}), fault.UnsafeArchive, "leave its folder"},
		"absolute":             {zipOf(t, entry{name: "/etc/passwd"}), fault.UnsafeArchive, "absolute"},
		"drive letter":         {zipOf(t, entry{name: "C:/x"}), fault.UnsafeArchive, "absolute"},
		"backslashes":          {zipOf(t, entry{name: `..\..\x`}), fault.UnsafeArchive, "backslashes"},
		"link": {
			zipOf(t, entry{name: "w/l", mode: fs.ModeSymlink | 0o777, data: "/etc/passwd"}),
			fault.UnsafeArchive,
			"link",
		},
		"device": {
			zipOf(t, entry{name: "w/d", mode: fs.ModeDevice | 0o600}),
			fault.UnsafeArchive,
			"device",
		},
		"twice":               {zipOf(t, entry{name: "w/a"}, entry{name: "w/a"}), fault.BadArchive, "twice"},
		"file and folder":     {zipOf(t, entry{name: "w"}, entry{name: "w/a"}), fault.BadArchive, "file and a folder"},
		"long name":           {zipOf(t, entry{name: "w/" + strings.Repeat("n", 300)}), fault.TooLarge, "255"},
		"a terabyte of zeros": {terabyte, fault.TooLarge, "unpack"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, err := open(t, c.data, archive.Limits{})
			require.Error(t, err)
			assert.Equal(t, c.code, fault.CodeOf(err), err)
			assert.ErrorContains(t, err, c.words)
			assert.ErrorContains(t, err, "a.zip")
		})
	}
}

// rawZip writes entries without compressing anything, as a liar would; of
// several, each name gets a number.
func rawZip(t *testing.T, count int, h *zip.FileHeader, data []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := range count {
		one := *h
		if count > 1 {
			one.Name += strconv.Itoa(i)
		}
		out, err := w.CreateRaw(&one)
		require.NoError(t, err)
		_, err = out.Write(data)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// A million empty entries must be refused from the end record alone, without
// reading the directory into memory.
func TestAMillionEntries(t *testing.T) { // not parallel: it counts allocations
	data := rawZip(t, 1_000_000, &zip.FileHeader{Name: "w/"}, nil)
	allocated := testing.AllocsPerRun(1, func() {
		_, err := open(t, data, archive.Limits{})
		assert.ErrorIs(t, err, fault.TooLarge.As())
		assert.ErrorContains(t, err, "1000000 entries")
	})
	assert.Less(t, allocated, 10_000.0)
}

// A header that declares fewer bytes than the content has must not be believed.
func TestALyingSizeIsAnErrorWhenRead(t *testing.T) {
	t.Parallel()
	data := zipOf(t, entry{name: "w/a", data: strings.Repeat("z", 100_000)})
	at := bytes.Index(data, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(data[at+24:], 10)
	a, err := open(t, data, archive.Limits{})
	require.NoError(t, err)
	_, err = fs.ReadFile(a, "w/a")
	assert.Error(t, err)
}

func TestWriteZipRoundTrip(t *testing.T) {
	t.Parallel()
	tree := fstest.MapFS{"w/a": {Data: []byte("alpha")}, "w/folk": {Mode: fs.ModeDir}}
	var b bytes.Buffer
	require.NoError(t, archive.WriteZip(
		&b, []archive.Item{{Name: "w/a", Open: archive.From(tree, "w/a"), Size: 5}, {Name: "w/folk/"}}, nil))
	a, err := open(t, b.Bytes(), archive.Limits{})
	require.NoError(t, err)
	got, err := fs.ReadFile(a, "w/a")
	require.NoError(t, err)
	assert.Equal(t, "alpha", string(got))
	info, err := fs.Stat(a, "w/folk")
	require.NoError(t, err)
	assert.True(t, info.IsDir())
	assert.ErrorContains(t, archive.WriteZip(io.Discard,
		[]archive.Item{{Name: "w/a", Open: archive.From(tree, "w/a"), Size: 4}},
		nil), "being written to")
}

func TestPackersLitterIsIgnored(t *testing.T) {
	t.Parallel()
	a, err := open(t, zipOf(t, entry{name: "w/a"}, entry{name: "__MACOSX/w/._a"}, entry{name: "w/.DS_Store"}),
		archive.Limits{})
	require.NoError(t, err)
	assert.Len(t, a.Ignored, 2)
	_, err = fs.Stat(a, "__MACOSX")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func FuzzOpenZip(f *testing.F) {
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	f.Fuzz(func(t *testing.T, data []byte) {
		a, err := open(t, data, archive.Limits{Bytes: 1 << 20})
		if err != nil {
			return
		}
		_ = fs.WalkDir(a, ".", func(p string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				_, _ = fs.ReadFile(a, p)
			}
			return nil
		})
	})
}
