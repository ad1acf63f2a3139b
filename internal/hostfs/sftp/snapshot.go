package sftp

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
	"reshard/internal/sqlite"
)

// takeDatabase copies the database "$1" with SQLite's backup interface into a folder that goes when the
// script ends, also by a hang-up, and prints it. The one shell holds a read transaction open, without which
// each write of somebody else would have it begin anew; the other takes all pages in one step.
const takeDatabase = `umask 077; from=$PWD/$1
for t in "$TMPDIR" /var/tmp /tmp; do
  [ -n "$t" ] && d=$(mktemp -d "$t/reshard-database-XXXXXXXX" 2> /dev/null) && break
done
[ -n "$d" ] || exit 75
trap 'cd /; rm -rf "$d"' EXIT
trap 'exit 74' HUP INT TERM PIPE
cd "$d" || exit 75
printf '.timeout 30000\nBEGIN;\nSELECT count(*) FROM sqlite_master;\n.backup db\n' |
  sqlite3 -init /dev/null -batch -bail -readonly "$from" > /dev/null 2> said || { python3 -I -c '
import sqlite3, sys, time, urllib.parse
source = sqlite3.connect("file:" + urllib.parse.quote(sys.argv[1]) + "?mode=ro", uri=True, timeout=30)
until = time.monotonic() + 30
def step(status, left, total):
    if left and time.monotonic() > until:
        sys.exit("somebody has been writing to it for 30 s")
to = sqlite3.connect("taken")
source.backup(to, pages=-1, progress=step)
to.close()' "$from" 2>> said && mv taken db; } || { tail -n 1 said >&2; exit 1; }
cat db`

// grown is how much larger than its files a database may be once it is taken, in bytes.
const grown = 64 << 20

// Snapshot implements hostfs.Snapshotter by sqlite3(1), or by Python's module of that name.
func (f *Files) Snapshot(ctx context.Context, name string) (_ io.ReadCloser, err error) {
	if !f.found.Databases {
		return nil, &fault.Error{Code: fault.Unsupported, What: "there is no command that takes a database"}
	}
	most := int64(grown)
	for _, of := range []string{name, name + "-wal"} {
		info, err := f.Stat(ctx, of) // refuses what leads out
		switch {
		case of != name && errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return nil, err
		case !info.Modes.IsRegular() || of == name && info.Bytes == 0:
			return nil, fault.New(fault.Invalid, "take", name, "it is no database")
		}
		most += 2 * info.Bytes
	}
	out, err := sqlite.Unnamed()
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = out.Close() // it is gone with it
		}
	}()
	to := &atMost{to: out, left: most}
	r, err := f.link.Run(ctx, f.inRoot(takeDatabase, filename.Decode(name)), nil, to)
	switch {
	case to.failed != nil:
		return nil, to.failed
	case err != nil:
		return nil, err
	case r.Code == 75:
		return nil, fault.New(fault.Unsupported, "take", name, "there is no folder for temporary files on the host")
	case r.Code != 0:
		return nil, f.failed(ctx, "taking a database", r)
	}
	_, err = out.Seek(0, io.SeekStart)
	return out, err
}

// atMost passes on what is written to it as long as there is room; what else comes is lost, and told once.
type atMost struct {
	to     *os.File
	left   int64
	failed error
}

func (w *atMost) Write(p []byte) (int, error) {
	if w.failed == nil && int64(len(p)) > w.left {
		w.failed = fault.New(fault.TooLarge, "take", "the database", "far more comes than the host said that it has")
	}
	if w.failed != nil {
		return 0, w.failed
	}
	n, err := w.to.Write(p)
	w.left -= int64(n)
	w.failed = err
	return n, err
}

var _ hostfs.Snapshotter = (*Files)(nil)
