package e2e

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// burden is what a service takes at a moment.
type burden struct {
	Files, Threads           int
	Memory, Database, Vault  int64 // bytes
	Servers                  int64 // bytes in the servers' folders, but for what is set aside
	Changeovers, Connections int64
}

func (b *bundle) burden(pid int, changeovers int64, folders ...string) (out burden) {
	t := b.t
	t.Helper()
	count := func(dir string) int {
		entries, err := os.ReadDir(fmt.Sprintf("/proc/%d/%s", pid, dir))
		require.NoError(t, err)
		return len(entries)
	}
	out.Files, out.Threads, out.Changeovers = count("fd"), count("task"), changeovers
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for line := range strings.Lines(string(status)) {
		if kb, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			n, err := strconv.ParseInt(strings.Fields(kb)[0], 10, 64)
			require.NoError(t, err)
			out.Memory = n << 10
		}
	}
	conn, err := pgx.Connect(context.Background(), b.database)
	require.NoError(t, err)
	defer conn.Close(context.Background()) //nolint:errcheck // only read
	require.NoError(t, conn.QueryRow(context.Background(), `SELECT pg_database_size(current_database()),
		(SELECT count(*) FROM pg_stat_activity WHERE datname = current_database())`).Scan(&out.Database,
		&out.Connections))
	out.Vault = sizeOf(t, filepath.Join(b.dir, "data"))
	for _, f := range folders {
		out.Servers += sizeOf(t, f)
	}
	return out
}

// sizeOf adds up the files of a folder that others work in.
func sizeOf(t *testing.T, dir string) (bytes int64) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && d.Name() == plan.WorkFolder {
			return fs.SkipDir // what is set aside waits for the day's sweep, as is promised
		}
		if err != nil || d.IsDir() {
			return nil //nolint:nilerr // it has gone meanwhile
		}
		if info, err := d.Info(); err == nil {
			bytes += info.Size()
		}
		return nil
	}))
	return bytes
}

// Hundreds of changeovers of every kind, here and on another machine: open files, threads, memory and what is set
// aside stay as they are, and the database grows by its journal alone. RESHARD_ENDURANCE says how many.
func TestEndurance(t *testing.T) {
	total, _ := strconv.ParseInt(os.Getenv("RESHARD_ENDURANCE"), 10, 64)
	if total == 0 {
		t.Skip("minutes: make endurance")
	}
	b := setup(t, shippedWith(t, "quarrymoss", "waits: {start: 60s, stop: 60s, settle: 500ms}",
		"waits: {start: 60s, stop: 60s, settle: 100ms}"), func(b *bundle) { b.keepAside = 2 * time.Second })
	realms := []string{"caverns", "aurora"}
	roots := []string{
		b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter", Seed: 111, Realms: realms}}),
		b.quarry("south", plot{world: quarrymoss.Options{Title: "South", Seed: 112, Realms: realms}}),
	}
	for _, root := range roots {
		require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "old"),
			quarrymoss.Options{Title: "Old", Seed: 9, Realms: realms}))
	}
	b.machine(farhost.Shape{}, 0)
	roots = append(roots, b.quarry("isle", plot{world: quarrymoss.Options{Title: "Isle", Seed: 113, Realms: realms}}))
	require.NoError(t, quarrymoss.Make(filepath.Join(roots[2], "worlds", "old"),
		quarrymoss.Options{Title: "Old", Seed: 9, Realms: realms}))
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222, Tiles: 12, Realms: realms})
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	address, _, cmd := b.mortal(0)
	defer func() {
		_ = cmd.Process.Signal(syscall.SIGINT)
		_ = cmd.Wait()
		b.start()
	}()
	api := signIn(t, address)
	var made atomic.Int64
	var lock sync.Mutex
	var seen []burden
	note := func() {
		lock.Lock()
		defer lock.Unlock()
		now := b.burden(cmd.Process.Pid, made.Load(), roots...)
		t.Logf("%d changeovers: %d files, %d threads, %d MB memory, %d kB database, %d connections, %d kB data, "+
			"%d kB servers",
			now.Changeovers, now.Files, now.Threads, now.Memory>>20, now.Database>>10, now.Connections, now.Vault>>10,
			now.Servers>>10)
		seen = append(seen, now)
	}
	var all sync.WaitGroup
	servers := []string{"north", "south", "isle"}
	for i, server := range servers {
		all.Go(func() {
			for made.Load() < total && !t.Failed() {
				round(t, api, server, servers[(i+1)%len(servers)], &made, func(n int64) {
					if n%(max(total/10, 1)) == 0 {
						note()
					}
				})
			}
		})
	}
	all.Wait()
	time.Sleep(4 * time.Second) // what was set aside goes by its rule
	note()
	require.False(t, t.Failed())
	first, last := seen[1], seen[len(seen)-1] // the first tenth warms up
	assert.LessOrEqual(t, last.Files, first.Files+20)
	assert.LessOrEqual(t, last.Threads, first.Threads+8)
	assert.LessOrEqual(t, last.Connections, first.Connections+4)
	assert.Less(t, last.Memory, first.Memory+first.Memory/2+16<<20)
	assert.Less(t, (last.Database-first.Database)/max(1, last.Changeovers-first.Changeovers), int64(64<<10))
	assert.Less(t, last.Servers, 2*first.Servers)
}

// round carries every kind out once on a server and takes back what can be. A clone holds its source, of which other
// changeovers wait.
func round(t *testing.T, api *client.Client, server, source string, made *atomic.Int64, counted func(n int64)) {
	ctx := context.Background()
	// While another's clone holds the server, nothing begins on it.
	begin := func(what string, act func() error) {
		var err error
		for range 600 {
			if err = act(); fault.CodeOf(err) != fault.Busy {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		assert.NoError(t, err, "%s on %s", what, server)
	}
	carry := func(wish wire.Wish) (c wire.Changeover) {
		if t.Failed() {
			return c
		}
		wish.Server = server
		draft, err := api.Draft(ctx, wish)
		if !assert.NoError(t, err, "%s on %s", wish.Kind, server) {
			return c
		}
		begin(wish.Kind, func() error {
			_, err := api.Act(ctx, draft.ID, "start")
			return err
		})
		c, err = api.Watch(ctx, draft.ID, func(wire.Changeover) {})
		assert.NoError(t, err)
		assert.Equal(t, plan.Done, c.State, "%s on %s: %+v", wish.Kind, server, c.Failure)
		counted(made.Add(1))
		return c
	}
	undo := func(c wire.Changeover) { carry(wire.Wish{Kind: plan.Undo, Undoes: c.ID}) }
	undo(carry(wire.Wish{Kind: plan.Put, World: "fen"}))
	undo(carry(wire.Wish{Kind: plan.Put, World: "fen", Beside: true}))
	undo(carry(wire.Wish{Kind: plan.Reset, Choices: map[string]string{"seed": "-77"}}))
	undo(carry(wire.Wish{Kind: plan.Rename, World: "summer"}))
	undo(carry(wire.Wish{Kind: plan.Switch, World: "old"}))
	undo(carry(wire.Wish{Kind: plan.Clone, From: source, World: "old", Choices: map[string]string{
		"folder-name": "cloned", "world-settings": "leave",
	}}))
	carry(wire.Wish{Kind: plan.TakeAway})
	undo(carry(wire.Wish{Kind: plan.Restore, World: "fen", Choices: map[string]string{"folder-name": "winter"}}))
	if !t.Failed() {
		begin("backup", func() error {
			_, err := api.MakeBackup(ctx, wire.MakeBackup{Server: server})
			return err
		})
		counted(made.Add(1))
		for range 600 { // it holds the server until it is done
			if s, err := api.Server(ctx, server); err == nil && s.Server.Changeover == 0 {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
}
