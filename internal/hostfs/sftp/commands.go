package sftp

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
	"reshard/internal/sshlink"
)

// What is done by commands where the host takes them: they see the same files, or a check would
// have found that they do not.

// inRoot runs a script in the root; its arguments are "$1" and so on.
func (f *Files) inRoot(script string, args ...string) string {
	out := "sh -c " + sshlink.Quote(`cd "$0" || exit 9; `+script) + " " + sshlink.Quote(filename.Decode(f.root))
	for _, a := range args {
		out += " " + sshlink.Quote(a)
	}
	return out
}

// hashList hashes what it reads the names of, each ended by a NUL; see hashes.
const hashList = "xargs -0 -r b2sum -l 256 -z --"

// Unpack implements hostfs.Unpacker by tar(1), and find(1) and b2sum(1): one session, and one
// answer.
func (f *Files) Unpack(ctx context.Context, from io.Reader, below string) (map[string][]byte, error) {
	if !f.found.Unpack || below != "" && !f.found.Hash {
		return nil, &fault.Error{Code: fault.Unsupported, What: "there is no command that unpacks"}
	}
	owner := "--no-same-owner"
	if strings.HasPrefix(f.found.Account, "0:") {
		owner = "--same-owner --numeric-owner"
	}
	script := "tar -x -p " + owner + " -f - || exit $?"
	if below != "" {
		script += `; find "$1" -type f -print0 | ` + hashList
	}
	r, err := f.link.Run(ctx, f.inRoot(script, "./"+filename.Decode(below)), from, nil)
	if err != nil {
		return nil, err
	}
	if r.Code != 0 {
		return nil, f.failed(ctx, "unpacking", r)
	}
	out := map[string][]byte{}
	return out, hashes(r.Out, out)
}

// copyByCommand copies files with cp(1), and gives them their attributes.
func (f *Files) copyByCommand(ctx context.Context, files []hostfs.Copying, copied func(i int, whole bool)) error {
	const atOnce = 1000
	for at := 0; at < len(files); at += atOnce {
		part := files[at:min(at+atOnce, len(files))]
		var list strings.Builder
		for _, c := range part {
			list.WriteString("./" + filename.Decode(c.From) + "\x00./" + filename.Decode(c.To) + "\x00")
		}
		script := `exec xargs -0 -r -n 2 sh -c 'test -f "$1" && ! test -L "$1" && cp -- "$1" "$2" || exit 1' sh`
		r, err := f.link.Run(ctx, f.inRoot(script), strings.NewReader(list.String()), nil)
		if err != nil {
			return err
		}
		if r.Code != 0 && r.Code != 123 { // 123: some of them could not be
			return f.failed(ctx, "cp", r)
		}
		err = eachAtOnce(indexes(len(part)), func(i int) error {
			err := f.Set(ctx, part[i].To, part[i].Attributes)
			if errors.Is(err, fs.ErrNotExist) {
				return nil // it was not copied
			}
			if err == nil {
				copied(at+i, true)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func indexes(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// failed is the error of a command that ended with one.
func (f *Files) failed(ctx context.Context, what string, r sshlink.Result) error {
	if r.Code == 0 {
		return nil
	}
	if f.found.Doubt != nil {
		f.found.Doubt()
	}
	said, _, _ := strings.Cut(r.Err, "\n")
	if r.Code == 126 || r.Code == 127 { // it is not there, or cannot be run (sh(1))
		return fault.New(fault.Unsupported, "", "", "%s is not there any more: %s", what, filename.Encode(said))
	}
	return f.noRoomOr(ctx, ".", fault.New(fault.Refused, "", "", "%s failed there with code %d: %s", what, r.Code,
		filename.Encode(said)))
}

// mostHashed bounds the names that one command is given.
const mostHashed = 20_000

// Hash implements hostfs.Hasher by b2sum(1).
func (f *Files) Hash(ctx context.Context, names []string) (map[string][]byte, error) {
	if !f.found.Hash {
		return nil, &fault.Error{Code: fault.Unsupported, What: "there is no command that hashes"}
	}
	out := make(map[string][]byte, len(names))
	for len(names) > 0 {
		part := names[:min(len(names), mostHashed)]
		names = names[len(part):]
		var list strings.Builder
		for _, n := range part {
			list.WriteString("./" + filename.Decode(n) + "\x00")
		}
		r, err := f.link.Run(ctx, f.inRoot("exec "+hashList), strings.NewReader(list.String()), nil)
		if err != nil {
			return nil, err
		}
		if r.Code != 0 && r.Code != 123 { // 123: of some there is nothing to say
			return nil, f.failed(ctx, "b2sum", r)
		}
		if err := hashes(r.Out, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// hashes reads what b2sum -z prints: digits, two signs, a name and a NUL.
func hashes(text []byte, out map[string][]byte) error {
	for len(text) > 0 {
		entry, rest, whole := bytes.Cut(text, []byte{0})
		if text = rest; !whole {
			break
		}
		digits, name, ok := strings.Cut(string(entry), " ")
		sum, err := hex.DecodeString(digits)
		if !ok || err != nil || len(sum) != 32 || len(name) < 3 {
			return fault.New(fault.Unreachable, "", "", "the host's hashes are not understood: %s",
				strconv.Quote(string(entry[:min(len(entry), 100)])))
		}
		out[filename.Encode(strings.TrimPrefix(name[1:], "./"))] = sum
	}
	return nil
}
