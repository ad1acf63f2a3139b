package ftp

import (
	"io/fs"
	"slices"
	"strings"

	"github.com/jlaffaye/ftp"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
)

// infosOf gives what a listing tells of each name. A line that cannot be read is an error: the name
// in it would else be taken for one that is not there.
func infosOf(dir string, entries []*ftp.Entry, lines []string) ([]hostfs.Info, error) {
	out := make([]hostfs.Info, 0, len(entries))
	for _, l := range lines {
		info, ok := special(l)
		switch {
		case ok:
		case strings.HasPrefix(l, "total "): // ls(1) begins with it
			continue
		case len(entries) > 0 && isOf(l, entries[0]):
			info = infoOf(entries[0], l)
			entries = entries[1:]
		default:
			return nil, fault.New(fault.Unreachable, "list", dir, "a line of its listing cannot be read: %q", l)
		}
		if info.Named != "." && info.Named != ".." {
			out = append(out, info)
		}
	}
	if len(entries) > 0 {
		return nil, fault.New(fault.Unreachable, "list", dir, "its listing cannot be followed")
	}
	slices.SortFunc(out, func(a, b hostfs.Info) int { return strings.Compare(a.Named, b.Named) })
	for i := 1; i < len(out); i++ {
		if out[i].Named == out[i-1].Named {
			return nil, fault.New(fault.Unreachable, "list", dir, "its listing names %q twice", out[i].Named)
		}
	}
	return out, nil
}

// isOf reports whether an entry was read from a line.
func isOf(l string, e *ftp.Entry) bool {
	if e.Type == ftp.EntryTypeLink {
		return strings.HasSuffix(l, " "+e.Name+" -> "+e.Target) || strings.HasSuffix(l, " "+e.Name)
	}
	return strings.HasSuffix(l, " "+e.Name)
}

func infoOf(e *ftp.Entry, l string) hostfs.Info {
	info := hostfs.Info{
		Named: filename.Encode(e.Name), Bytes: int64(min(e.Size, 1<<62)), Modified: e.Time.UTC(), Modes: 0o644,
	}
	switch e.Type {
	case ftp.EntryTypeFolder:
		info.Modes, info.Bytes = fs.ModeDir|0o755, 0
	case ftp.EntryTypeLink:
		info.Modes = fs.ModeSymlink | 0o777
	case ftp.EntryTypeFile:
	}
	facts, _, machine := strings.Cut(l, "; ")
	if !machine {
		if bits, ok := permissions(l); ok {
			info.Modes = info.Modes.Type() | bits
		}
		return info
	}
	for f := range strings.SplitSeq(strings.ToLower(facts), ";") { // RFC 3659, 7.5
		key, value, _ := strings.Cut(f, "=")
		switch {
		case key == "type" && value == "cdir":
			info.Named = "."
		case key == "type" && value == "pdir":
			info.Named = ".."
		case key == "type" && strings.Contains(value, "link"):
			info.Modes = fs.ModeSymlink | 0o777
		case key == "type" && value != "file" && value != "dir":
			info.Modes = fs.ModeIrregular
		case key == "unix.mode":
			if bits, ok := octal(value); ok {
				info.Modes = info.Modes.Type() | bits
			}
		}
	}
	return info
}

func octal(text string) (bits fs.FileMode, ok bool) {
	for _, c := range text {
		if c < '0' || c > '7' {
			return 0, false
		}
		bits = bits<<3 | fs.FileMode(c-'0')
	}
	return bits.Perm(), text != ""
}

// permissions reads the nine bits of a line as ls(1) writes it.
func permissions(l string) (bits fs.FileMode, ok bool) {
	if len(l) < 11 || !strings.ContainsRune("-dlpsbcD", rune(l[0])) {
		return 0, false
	}
	for i, c := range []byte(l[1:10]) {
		bits <<= 1
		switch want := "rwx"[i%3]; {
		case c == want, i%3 == 2 && (c == 's' || c == 't'):
			bits |= 1
		case c != '-' && c != 'S' && c != 'T':
			return 0, false
		}
	}
	return bits, true
}

// special reads the line of a pipe, a socket or a device.
func special(l string) (hostfs.Info, bool) {
	kinds := map[byte]fs.FileMode{
		'p': fs.ModeNamedPipe, 's': fs.ModeSocket, 'b': fs.ModeDevice, 'c': fs.ModeDevice | fs.ModeCharDevice,
	}
	bits, ok := permissions(l)
	if !ok || kinds[l[0]] == 0 {
		return hostfs.Info{}, false
	}
	kind := kinds[l[0]]
	// Type and bits, links, owner, group, size (of a device two numbers), month, day, time, name.
	fields := 8
	if kind&fs.ModeDevice != 0 {
		fields = 9
	}
	rest := l
	for range fields {
		_, rest, ok = strings.Cut(strings.TrimLeft(rest, " "), " ")
		if !ok {
			return hostfs.Info{}, false
		}
	}
	return hostfs.Info{Named: filename.Encode(rest), Modes: kind | bits}, rest != ""
}
