package sftp

import (
	"bytes"
	"context"
	"encoding/hex"
	"io"
	"strconv"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/sshlink"
)

// What is done by commands where the host takes them: they see the same files, or a check would
// have found that they do not.

// inRoot runs a script in the root.
func (f *Files) inRoot(script string) string {
	return "sh -c " + sshlink.Quote(`cd "$1" || exit 9; `+script) + " sh " + sshlink.Quote(filename.Decode(f.root))
}

// Unpack implements hostfs.Unpacker by tar(1).
func (f *Files) Unpack(ctx context.Context, from io.Reader) error {
	if !f.found.Unpack {
		return &fault.Error{Code: fault.Unsupported, What: "there is no command that unpacks"}
	}
	owner := "--no-same-owner"
	if strings.HasPrefix(f.found.Account, "0:") {
		owner = "--same-owner --numeric-owner"
	}
	r, err := f.link.Run(ctx, f.inRoot("exec tar -x -p "+owner+" -f -"), from, nil)
	if err != nil {
		return err
	}
	return f.failed(ctx, "tar", r)
}

// failed is the error of a command that ended with one.
func (f *Files) failed(ctx context.Context, what string, r sshlink.Result) error {
	if r.Code == 0 {
		return nil
	}
	said, _, _ := strings.Cut(r.Err, "\n")
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
		r, err := f.link.Run(ctx, f.inRoot("exec xargs -0 -r b2sum -z --"), strings.NewReader(list.String()), nil)
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
		if !ok || err != nil || len(sum) != 64 || len(name) < 3 {
			return fault.New(fault.Unreachable, "", "", "the host's hashes are not understood: %s",
				strconv.Quote(string(entry[:min(len(entry), 100)])))
		}
		out[filename.Encode(strings.TrimPrefix(name[1:], "./"))] = sum
	}
	return nil
}
