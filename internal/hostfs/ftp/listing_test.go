package ftp

import (
	"io/fs"
	"testing"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a listing tells is told of each name in it; what cannot be read is an error, never a name less.
func TestListings(t *testing.T) {
	t.Parallel()
	file := func(name string) *ftp.Entry { return &ftp.Entry{Name: name, Size: 5, Time: time.Unix(1e9, 0)} }
	entries := []*ftp.Entry{
		{Name: ".", Type: ftp.EntryTypeFolder}, {Name: "..", Type: ftp.EntryTypeFolder}, file("b"), file(" a "),
		{Name: "link", Type: ftp.EntryTypeLink, Target: "b"},
	}
	lines := []string{
		"total 24",
		"drwxr-xr-x    2 0        0            4096 Nov 28 03:48 .",
		"drwxr-xr-x    4 0        0            4096 Nov 28 03:48 ..",
		"-rw-r-----    1 0        0               5 Nov 28 03:48 b",
		"prw-------    1 0        0               0 Nov 28 03:48 ab",
		"-r--r--r--    1 0        0               5 Nov 28 03:48  a ",
		"brw-rw----    1 0        6          7,   0 Nov 28 03:48 loop 0",
		"lrwxrwxrwx    1 0        0               1 Nov 28 03:48 link -> b",
	}
	infos, err := infosOf("x", entries, lines)
	require.NoError(t, err)
	modes := map[string]fs.FileMode{}
	for _, i := range infos {
		modes[i.Named] = i.Modes
	}
	assert.Equal(t, map[string]fs.FileMode{
		"b": 0o640, " a ": 0o444, "ab": fs.ModeNamedPipe | 0o600, "loop 0": fs.ModeDevice | 0o660,
		"link": fs.ModeSymlink | 0o777,
	}, modes)
	for name, bad := range map[string][]string{
		"a line of another kind": append(lines[:len(lines):len(lines)], "?"),
		"a name with a break":    append(lines[:len(lines):len(lines)], "second half of a name"),
		"a line less":            lines[:len(lines)-1],
	} {
		_, err := infosOf("x", entries, bad)
		assert.ErrorContains(t, err, "its listing", name)
	}
	_, err = infosOf("x", append(entries, file("b")), append(lines, lines[3]))
	assert.ErrorContains(t, err, "twice")
}

// A listing for programs (RFC 3659, 7) tells the kinds of names, and who may read them.
func TestListingsForPrograms(t *testing.T) {
	t.Parallel()
	entries := []*ftp.Entry{
		{Name: "here", Type: ftp.EntryTypeFolder}, {Name: "a b", Size: 3}, {Name: "away"}, {Name: "odd"},
	}
	infos, err := infosOf("x", entries, []string{
		"Type=cdir;Modify=20260101000000; here", "Type=file;Size=3;UNIX.mode=0604; a b",
		"Type=OS.unix=slink:/etc;Size=3; away", "Type=OS.unix=chr-1/3; odd",
	})
	require.NoError(t, err)
	require.Len(t, infos, 3)
	assert.Equal(t, fs.FileMode(0o604), infos[0].Modes)
	assert.Equal(t, fs.ModeSymlink, infos[1].Modes.Type())
	assert.False(t, infos[2].Modes.IsRegular())
}
