package archive_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/archive"
	"reshard/internal/archive/archivetest"
	"reshard/internal/core/fault"
)

// asking changes what a 7z archive, whose list of files is not packed, asks its decoder
// for, which stands behind some bytes, and mends the two checksums over it.
func asking(t *testing.T, data, behind []byte, properties ...byte) []byte {
	t.Helper()
	data = bytes.Clone(data)
	require.Equal(t, []byte("7z\xbc\xaf\x27\x1c"), data[:6])
	head := data[32+binary.LittleEndian.Uint64(data[12:]):]
	require.Equal(t, 1, bytes.Count(head, behind), "% x", head)
	copy(head[bytes.Index(head, behind)+len(behind):], properties)
	binary.LittleEndian.PutUint32(data[28:], crc32.ChecksumIEEE(head))
	binary.LittleEndian.PutUint32(data[8:], crc32.ChecksumIEEE(data[12:32]))
	return data
}

// A few bytes of an archive can ask a decoder for gigabytes; it is refused instead.
func TestA7zThatAsksForMuchMemory(t *testing.T) {
	files := []archivetest.File{{Name: "fen/heart", Content: bytes.Repeat([]byte("beats "), 3000)}}
	make7z := func(method string) []byte {
		return archivetest.Tool(t, files, "7z", "a", "-t7z", "-mhc=off", "-m0="+method, "OUT", "fen")
	}
	lzma, lzma2 := make7z("LZMA:d=64k"), make7z("LZMA2:d=64k")
	// how the list of files names a method: flags, id, and how many bytes of properties
	byLZMA, byLZMA2 := []byte{0x23, 0x03, 0x01, 0x01, 0x05}, []byte{0x21, 0x21, 0x01}
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"LZMA":  {lzma, ""},
		"LZMA2": {lzma2, ""},
		"PPMd":  {make7z("PPMd"), "pack it with the method LZMA2"},
		"LZMA, 4 GiB": {
			asking(t, lzma, byLZMA, 0x5d, 0xff, 0xff, 0xff, 0xff),
			"a dictionary of more than 128 MiB",
		},
		"LZMA2, 4 GiB":     {asking(t, lzma2, byLZMA2, 40), "a dictionary of more than 128 MiB"},
		"LZMA2, none such": {asking(t, lzma2, byLZMA2, 99), "one byte up to 40"},
		"LZMA2, 192 MiB":   {asking(t, lzma2, byLZMA2, 31), "a dictionary of more than 128 MiB"},
		"LZMA2, 128 MiB":   {asking(t, lzma2, byLZMA2, 30), ""},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "x.7z")
			require.NoError(t, os.WriteFile(file, c.data, 0o600))
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			a, err := archive.Open(file, "x.7z", t.TempDir(), archive.Limits{})
			runtime.ReadMemStats(&after)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(300<<20))
			if c.says == "" {
				require.NoError(t, err)
				require.NoError(t, a.Close())
				return
			}
			require.ErrorIs(t, err, fault.BadArchive.As())
			assert.ErrorContains(t, err, c.says)
		})
	}
}
