package e2e

import (
	"archive/tar"
	"bytes"
	"context"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
	"reshard/internal/pgserver"
	"reshard/internal/wire"
)

// A plan in the database is the journal, so what an earlier build has written must stay
// readable. testdata/records-NAME holds what a build left behind: database.sql as
// pg_dump wrote it, files.tar.zst with the data folder and the servers. In both @HOME@
// stands for the folder that it was made in, and @STANDIN@ for the game's program.
//
// RESHARD_MAKE_RECORDS=NAME go test -run TestMakeRecords ./internal/e2e makes one anew.

// plots are the servers of the records, each with a changeover that stands somewhere.
var earlierPlots = []struct {
	server string
	wish   wire.Wish
	// parks is where the changeover is stopped in its tracks; "" lets it go on.
	parks, mischief string
	state           plan.State
}{
	{server: "drafted", wish: wire.Wish{Kind: plan.Put, World: "fen"}, state: plan.Drafted},
	{
		server: "staging",
		wish:   wire.Wish{Kind: plan.Put, World: "fen"},
		parks:  "stage halfway",
		state:  plan.Staging,
	},
	{
		server: "waiting",
		wish:   wire.Wish{Kind: plan.Put, World: "fen", Choices: map[string]string{"switch": "when-told"}},
		state:  plan.Waiting,
	},
	{
		server: "switching",
		wish:   wire.Wish{Kind: plan.Put, World: "fen"},
		parks:  "move acted",
		state:  plan.Switching,
	},
	{
		server: "proving",
		wish:   wire.Wish{Kind: plan.Put, World: "fen"},
		parks:  "prove halfway",
		state:  plan.Proving,
	},
	{
		server:   "undoing",
		wish:     wire.Wish{Kind: plan.Put, World: "fen"},
		parks:    "move undoing",
		mischief: "opens-other fen",
		state:    plan.Undoing,
	},
	{
		server:   "held",
		wish:     wire.Wish{Kind: plan.Put, World: "fen"},
		parks:    "held",
		mischief: "exits-early fen",
		state:    plan.Held,
	},
	{server: "done", wish: wire.Wish{Kind: plan.Put, World: "fen"}, state: plan.Done},
	{
		server: "reset",
		wish:   wire.Wish{Kind: plan.Reset, Choices: map[string]string{"seed": "-77"}},
		state:  plan.Done,
	},
	{server: "renamed", wish: wire.Wish{Kind: plan.Rename, World: "summer"}, state: plan.Done},
	{
		server:   "undone",
		wish:     wire.Wish{Kind: plan.Put, World: "fen"},
		mischief: "exits-early fen",
		state:    plan.Undone,
	},
}

func TestMakeRecords(t *testing.T) {
	name := os.Getenv("RESHARD_MAKE_RECORDS")
	if name == "" {
		return
	}
	b := setup(t)
	ctx := context.Background()
	for _, p := range earlierPlots {
		b.quarry(p.server, plot{settings: "listen.port=0\nworld.folder=winter\nworld.seed=111\n"})
	}
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222, Tiles: 4, Realms: []string{"caverns", "aurora"}})
	parks, parked, release := "", make(chan struct{}), make(chan struct{})
	b.trace = func(point string) {
		if parks == "held" && strings.HasSuffix(point, "3 move undoing") {
			_ = os.Mkdir(filepath.Join(b.dir, "servers", "held", "worlds", "winter"), 0o755)
		}
		if parks != "" && strings.HasSuffix(point, parks) {
			parks = ""
			parked <- struct{}{}
			<-release
		}
	}
	var ids []int64
	for _, p := range earlierPlots {
		p.wish.Server = p.server
		draft, err := b.api.Draft(ctx, p.wish)
		require.NoError(t, err)
		ids = append(ids, draft.ID)
		if p.state == plan.Drafted {
			continue
		}
		if p.mischief != "" {
			b.misbehave(p.server, p.mischief)
		}
		parks = p.parks
		_, err = b.api.Act(ctx, draft.ID, "start")
		require.NoError(t, err)
		if p.parks != "" && p.parks != "held" {
			<-parked
		}
		b.until(draft.ID, p.state)
		parks = ""
	}
	undo := b.undo(ids[8]) // a reset that was undone
	require.Equal(t, plan.Done, undo.State, undo.Failure)

	out := filepath.Join("testdata", "records-"+name)
	require.NoError(t, os.MkdirAll(out, 0o755))
	programs, err := pgserver.Programs()
	require.NoError(t, err)
	dump, err := exec.Command(filepath.Join(programs, "pg_dump"), "--inserts", "--no-owner", "--no-privileges",
		b.database).Output()
	require.NoError(t, err)
	var lines []string
	for _, line := range strings.Split(string(dump), "\n") {
		if !strings.HasPrefix(line, "\\") && !strings.HasPrefix(line, "--") && line != "" {
			lines = append(lines, line)
		}
	}
	text := strings.NewReplacer(b.dir, "@HOME@", standin, "@STANDIN@").Replace(strings.Join(lines, "\n") + "\n")
	require.NoError(t, os.WriteFile(filepath.Join(out, "database.sql"), []byte(text), 0o644))
	packFolders(t, filepath.Join(out, "files.tar.zst"), b.dir, "data", "servers")

	close(release)
	for i, p := range earlierPlots {
		switch p.state {
		case plan.Waiting:
			_, err := b.api.Act(ctx, ids[i], "cancel")
			require.NoError(t, err)
			b.until(ids[i], plan.Undone)
		case plan.Held:
			_, err := b.api.Act(ctx, ids[i], "settle")
			require.NoError(t, err)
		case plan.Staging, plan.Switching, plan.Proving:
			b.until(ids[i], plan.Done)
		case plan.Undoing:
			b.until(ids[i], plan.Undone)
		}
	}
}

func packFolders(t *testing.T, file, root string, folders ...string) {
	t.Helper()
	var packed bytes.Buffer
	z, err := zstd.NewWriter(&packed, zstd.WithEncoderLevel(zstd.SpeedBestCompression))
	require.NoError(t, err)
	w := tar.NewWriter(z)
	for _, folder := range folders {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, folder),
			func(p string, d fs.DirEntry, err error) error {
				if err != nil || (!d.IsDir() && !d.Type().IsRegular()) {
					return err // a console's pipe is made anew
				}
				if !d.IsDir() && filepath.Base(filepath.Dir(p)) == hostfs.Reserve {
					return nil // it only takes room
				}
				info, err := d.Info()
				if err != nil {
					return err
				}
				head, err := tar.FileInfoHeader(info, "")
				if err != nil {
					return err
				}
				head.Name, _ = filepath.Rel(root, p)
				head.Uid, head.Gid, head.Uname, head.Gname = 0, 0, "", ""
				head.AccessTime, head.ChangeTime = time.Time{}, time.Time{}
				if err := w.WriteHeader(head); err != nil || d.IsDir() {
					return err
				}
				data, err := os.ReadFile(p)
				if err == nil {
					_, err = w.Write(data)
				}
				return err
			}))
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(file, packed.Bytes(), 0o644))
}

// restore brings back what an earlier build has left behind.
func (b *bundle) restore(records string) {
	b.t.Helper()
	packed, err := os.Open(filepath.Join(records, "files.tar.zst"))
	require.NoError(b.t, err)
	defer packed.Close() //nolint:errcheck // only read
	z, err := zstd.NewReader(packed)
	require.NoError(b.t, err)
	defer z.Close()
	for files := tar.NewReader(z); ; {
		head, err := files.Next()
		if err == io.EOF {
			break
		}
		require.NoError(b.t, err)
		to := filepath.Join(b.dir, filepath.FromSlash(head.Name))
		if head.Typeflag == tar.TypeDir {
			require.NoError(b.t, os.MkdirAll(to, head.FileInfo().Mode().Perm()))
			continue
		}
		data, err := io.ReadAll(files)
		require.NoError(b.t, err)
		require.NoError(b.t, os.WriteFile(to, data, head.FileInfo().Mode().Perm()))
		require.NoError(b.t, os.Chtimes(to, head.ModTime, head.ModTime))
	}
	sql, err := os.ReadFile(filepath.Join(records, "database.sql"))
	require.NoError(b.t, err)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, b.database)
	require.NoError(b.t, err)
	defer conn.Close(ctx) //nolint:errcheck // nothing is pending
	_, err = conn.PgConn().Exec(
		ctx, strings.NewReplacer("@HOME@", b.dir, "@STANDIN@", standin).Replace(string(sql))).ReadAll()
	require.NoError(b.t, err)
}

func (b *bundle) untilRunning(server string) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		s, err := b.api.Server(context.Background(), server)
		return err == nil && s.Server.State == "running"
	}, 20*time.Second, 20*time.Millisecond, server)
}

// What each earlier build has left in the database is migrated, listed, carried on and
// undone.
func TestRecordsOfEarlierBuilds(t *testing.T) {
	t.Parallel()
	all, err := filepath.Glob(filepath.Join("testdata", "records-*"))
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, records := range all {
		t.Run(filepath.Base(records), func(t *testing.T) {
			t.Parallel()
			b := setup(t, func(b *bundle) {
				b.startServers, b.database = true, emptyDatabase(t)
				b.restore(records)
			})
			ctx := context.Background()
			by := map[string]wire.Changeover{} // the newest of each server that is no undo
			listed, err := b.api.Changeovers(ctx, wire.ChangeoverQuery{Server: ""})
			require.NoError(t, err)
			for _, c := range listed {
				if _, newer := by[c.Server]; !newer && c.Kind != plan.Undo {
					by[c.Server] = c
				}
			}
			require.Len(t, by, len(earlierPlots)-1, "all but the draft are listed")
			ends := map[string]plan.State{
				"staging": plan.Done, "switching": plan.Done, "undoing": plan.Undone,
				"proving": plan.Undone, // the machine went down with its server
				"held":    plan.Held, "waiting": plan.Waiting, "done": plan.Done, "reset": plan.Done,
				"renamed": plan.Done, "undone": plan.Undone,
			}
			for server, end := range ends {
				c := b.until(by[server].ID, end)
				assert.NotEmpty(t, c.Steps, server)
				for _, s := range c.Steps {
					assert.NotEmpty(t, s.Say, server)
				}
				if end == plan.Done {
					require.NotNil(t, c.Proof, server)
				}
			}
			for _, server := range []string{"switching", "done"} {
				b.untilRunning(server)
				assert.Equal(t, "fen", b.active(server), server)
			}
			for _, server := range []string{"proving", "undoing"} {
				assert.Equal(t, "winter", b.active(server), server)
			}
			// The waiting one goes on at a word.
			_, err = b.api.Act(ctx, by["waiting"].ID, "go-on")
			require.NoError(t, err)
			b.until(by["waiting"].ID, plan.Done)
			assert.Equal(t, "fen", b.active("waiting"))
			// The held one goes back once its way is free.
			require.NoError(t, os.Remove(filepath.Join(b.dir, "servers", "held", "worlds", "winter")))
			_, err = b.api.Act(ctx, by["held"].ID, "retry")
			require.NoError(t, err)
			b.until(by["held"].ID, plan.Undone)
			assert.Equal(t, "winter", b.active("held"))
			// What is done can be undone, and an undo as well.
			for _, server := range []string{"done", "renamed", "switching", "waiting"} {
				undone := b.undo(by[server].ID)
				require.Equal(t, plan.Done, undone.State, "%s: %v", server, undone.Failure)
				assert.Equal(t, "winter", b.active(server), server)
			}
			again := b.undo(b.lastChangeover("reset").ID)
			require.Equal(t, plan.Done, again.State, again.Failure)
			draft := b.carry(wire.Changeover{ID: 1})
			require.Equal(t, plan.Done, draft.State, draft.Failure)
			assert.Equal(t, "fen", b.active("drafted"))
		})
	}
}
