package e2e

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/tollen"
	"reshard/games"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/sshlink"
	"reshard/internal/wire"
	shipped "reshard/providers"
)

// moor is another machine that a service knows, and the line to it.
type moor struct {
	*farhost.Host // nil: it is reached over FTP
	name          string
	line          *farhost.Line
	close         func()
	// byHand: nobody but people can start and stop servers there.
	byHand bool
	// silent: those people do what they are asked to, and do not say so.
	silent bool
	people []*person
	// provider starts and stops the servers there; nil: none does. watches has it start again what has stopped.
	provider *tollen.Provider
	watches  bool
}

// machine starts another machine, at the end of a line, and has the service know it as "moor".
// Servers that are added after that are there.
func (b *bundle) machine(s farhost.Shape, roundTrip time.Duration) *moor {
	b.t.Helper()
	h, err := farhost.Start(b.t.TempDir(), s)
	require.NoError(b.t, err)
	line, err := farhost.NewLine(h.Address(), roundTrip)
	require.NoError(b.t, err)
	// b.end ends it, after the servers
	b.far = &moor{Host: h, name: "moor", line: line, close: h.Close, byHand: s.FilesOnly}
	key := h.ClientKey
	_, err = b.api.AddHost(context.Background(), wire.NewHost{
		Name: "moor", Address: fmt.Sprintf("sftp://%s@127.0.0.1:%d", h.User, line.Port()),
		SignIn: wire.SignIn{PrivateKey: &key}, AcceptKey: sshlink.Fingerprint(h.HostKey), Folder: b.dir,
	})
	require.NoError(b.t, err)
	_, err = b.api.CheckHost(context.Background(), "moor")
	require.NoError(b.t, err)
	return b.far
}

// rent has a provider start and stop the servers of the other machine, from now on. Only Quarrymoss has a page
// that names its world.
func (b *bundle) rent(game string) {
	b.t.Helper()
	p, err := tollen.Start()
	require.NoError(b.t, err)
	b.t.Cleanup(p.Close)
	description := string(shipped.Example())
	if game != "quarrymoss" {
		before, fields, ok := strings.Cut(description, "fields:\n")
		_, after, found := strings.Cut(fields, "\n\n")
		require.True(b.t, ok && found)
		description = before + after
	}
	_, err = b.api.SetProvider(context.Background(), b.far.name, wire.NewProvider{
		Description: description, Origin: p.Origin(), User: p.User, Secret: &p.Phrase, Private: true,
	})
	require.NoError(b.t, err)
	b.far.provider, b.far.byHand = p, false
}

var sessions atomic.Int64

// placed has a server be where the bundle's servers are: on another machine it runs in a session,
// or in the hands of a person.
func (b *bundle) placed(s wire.NewServer) wire.NewServer {
	if b.far == nil {
		return s
	}
	s.Host = b.far.name
	if p := b.far.provider; p != nil {
		profile, err := games.Find(s.Game)
		require.NoError(b.t, err)
		stop := profile.Server.Console.Stop
		p.Add(&tollen.Plot{
			ID: s.Name, Dir: s.Root, Command: s.Command, Env: s.Env, Watchdog: b.far.watches,
			Settings: map[string]string{"quarrymoss": "quarry.properties"}[s.Game], StopLine: stop.Say,
			StopSignal: map[string]syscall.Signal{"SIGINT": syscall.SIGINT}[stop.Signal],
		})
		s.Control.Machine = s.Name
		return s
	}
	if !b.far.byHand {
		s.Control.Session = fmt.Sprintf("reshard-e2e-%d-%d", os.Getpid(), sessions.Add(1))
		return s
	}
	// What only a log tells, nobody hears there: people say it.
	s.Version = map[string]string{"emberlode": emberlode.Version, "openttd": "13.0"}[s.Game]
	p := newPerson(b, s)
	b.far.people = append(b.far.people, p)
	go p.work()
	return s
}

// sayDown says that a server in people's hands does not run, as one that was just added does not.
func (b *bundle) sayDown(name string) {
	if b.far != nil && b.far.byHand {
		_, err := b.api.SayStopped(context.Background(), name)
		require.NoError(b.t, err)
	}
}

// person looks after a server that Reshard cannot start or stop: they do what they are asked to,
// and say so.
type person struct {
	b       *bundle
	server  wire.NewServer
	profile *game.Profile
	left    chan struct{}
	held    atomic.Bool // they do nothing now
	cmd     *exec.Cmd
	console io.WriteCloser
	ended   chan struct{}
}

func newPerson(b *bundle, s wire.NewServer) *person {
	profile, err := games.Find(s.Game)
	require.NoError(b.t, err)
	return &person{b: b, server: s, profile: profile, left: make(chan struct{})}
}

func (p *person) work() {
	ctx := context.Background()
	for {
		select {
		case <-p.left:
			return
		case <-time.After(100 * time.Millisecond):
		}
		list, err := p.b.api.Servers(ctx, wire.ServerQuery{}) // it asks no host anything
		i := slices.IndexFunc(list, func(s wire.Server) bool { return s.Name == p.server.Name })
		if err != nil || i < 0 {
			continue
		}
		switch asked := list[i].Asked; {
		case asked == nil, p.held.Load():
		case asked.What == "start":
			p.start()
			p.say(p.b.api.SayStarted)
		case asked.What == "stop":
			p.stop()
			p.say(p.b.api.SayStopped)
		}
	}
}

func (p *person) hold(on bool) { p.held.Store(on) }

// say gives their word, unless they leave it to be seen.
func (p *person) say(word func(context.Context, string) (wire.ServerFacts, error)) {
	if !p.b.far.silent {
		_, _ = word(context.Background(), p.server.Name)
	}
}

// start starts the server and waits until it says that it is ready.
func (p *person) start() {
	if p.cmd != nil {
		return
	}
	log := filepath.Join(p.b.dir, p.server.Name+".console")
	out, err := os.Create(log)
	if err != nil {
		return
	}
	defer out.Close() //nolint:errcheck // the process has its own handle
	cmd := exec.Command(p.server.Command[0], p.server.Command[1:]...)
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.Env = p.server.Root, out, out, os.Environ()
	for k, v := range p.server.Env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	p.console, _ = cmd.StdinPipe()
	if err := cmd.Start(); err != nil {
		return
	}
	p.cmd, p.ended = cmd, make(chan struct{})
	go func(ended chan struct{}) {
		_ = cmd.Wait()
		close(ended)
	}(p.ended)
	if own := p.profile.Server.Console.Log; own != "" {
		log = filepath.Join(p.server.Root, own)
	}
	for i := range 600 {
		text, _ := os.ReadFile(log)
		if len(text) == 0 && i > 100 {
			return // it says nothing, and they take its running for an answer
		}
		for line := range strings.Lines(string(text)) {
			if _, ready := p.profile.Server.Console.Ready.Find(strings.TrimSpace(line)); ready {
				return
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (p *person) stop() {
	if p.cmd == nil {
		return
	}
	say := func(line string) { _, _ = io.WriteString(p.console, line+"\n") }
	if c := p.profile.Server.Console; c.Stop.Loses {
		say(c.Flush.Filled(p.profile.World, "").Say)
	}
	if c := p.profile.Server.Console.Stop; c.Say != "" {
		say(c.Say)
	} else {
		_ = p.cmd.Process.Signal(syscall.SIGTERM)
	}
	select {
	case <-p.ended:
	case <-time.After(30 * time.Second):
		p.kill()
	}
	p.cmd = nil
}

func (p *person) kill() {
	if p.cmd != nil {
		_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
	}
}

func (p *person) leave() {
	close(p.left)
	p.kill()
}

// A world is put onto a server on another machine and taken back, over a line of some length: in
// a session there, and with files alone and a person who starts and stops it.
func TestAPutOnAnotherMachine(t *testing.T) {
	t.Parallel()
	for name, shape := range map[string]farhost.Shape{
		"in a session":                     {},
		"files alone":                      {FilesOnly: true},
		"a rename does not replace a file": {FilesOnly: true, NoPosixRename: true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			b.machine(shape, 10*time.Millisecond)
			root := b.quarry("north", plot{})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
			c := b.put("fen", "north", nil)
			require.Equal(t, plan.Done, c.State, c.Failure)
			assert.True(t, c.Proof.Holds())
			s, err := b.api.Server(context.Background(), "north")
			require.NoError(t, err)
			assert.Equal(t, "running", s.Server.State)
			assert.Equal(t, "fen", s.Server.Active)
			if !shape.FilesOnly {
				assert.Equal(t, "fen", s.Server.Opened)
				assert.Empty(t, c.Unproven)
			}
			assert.DirExists(t, filepath.Join(root, c.Plan.Work, "aside", "winter"))
			back := b.undo(c.ID)
			require.Equal(t, plan.Done, back.State, back.Failure)
			s, err = b.api.Server(context.Background(), "north")
			require.NoError(t, err)
			assert.Equal(t, "winter", s.Server.Active)
		})
	}
}

// A host is added, checked, changed and removed at the command line; its key is accepted by a
// person, and what it is signed in with is written nowhere that can be read.
func TestHostsAtTheCommandLine(t *testing.T) {
	t.Parallel()
	b := setup(t)
	h, err := farhost.Start(t.TempDir(), farhost.Shape{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	key := filepath.Join(b.dir, "id")
	require.NoError(t, os.WriteFile(key, []byte(h.ClientKey), 0o600))
	address := fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", h.User, h.Port, b.dir)

	code, _, errs := b.cli("hosts", "add", "moor", address, "--key", key)
	assert.Equal(t, 4, code, "a choice is needed")
	fingerprint := sshlink.Fingerprint(h.HostKey)
	assert.Contains(t, errs, fingerprint)
	code, _, errs = b.cli("hosts", "add", "moor", address, "--key", key, "--accept-key", "SHA256:another")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "you have accepted SHA256:another")
	list, err := b.api.Hosts(context.Background())
	require.NoError(t, err)
	require.Len(t, list, 1, "nothing was recorded")

	out := b.must("hosts", "add", "moor", address, "--key", key, "--accept-key", fingerprint)
	for _, want := range []string{"✓ yes", "round trip", "tmux", "Worlds go over as one stream",
		"reshard servers add NAME --host moor"} {
		assert.Contains(t, out, want)
	}
	entries, err := os.ReadDir(b.dir)
	require.NoError(t, err)
	for _, e := range entries {
		assert.NotContains(t, e.Name(), ".reshard-check", "what it tried in is gone")
	}
	assert.Contains(t, b.must("hosts"), "moor")
	assert.Contains(t, b.must("hosts", "show", "moor"), fingerprint)

	// What cannot be signed in with is not kept.
	code, _, errs = b.cli("hosts", "change", "moor", "--user", "nobody-of-that-name")
	assert.Equal(t, 5, code)
	assert.Contains(t, errs, "does not accept nobody-of-that-name with key")
	moor, err := b.api.Host(context.Background(), "moor")
	require.NoError(t, err)
	assert.Equal(t, h.User, moor.User)

	// The key changes: nothing is sent to it until a person accepts the new one.
	h.Close()
	other, err := farhost.Start(t.TempDir(), farhost.Shape{})
	require.NoError(t, err)
	t.Cleanup(other.Close)
	require.NoError(t, os.WriteFile(key, []byte(other.ClientKey), 0o600))
	to := fmt.Sprintf("127.0.0.1:%d", other.Port)
	code, _, errs = b.cli("hosts", "change", "moor", "--address", to)
	assert.Equal(t, 5, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "),
		"shows another key ("+sshlink.Fingerprint(other.HostKey)+") than the accepted one")
	b.must("hosts", "change", "moor", "--address", to, "--key", key, "--accept-key", sshlink.Fingerprint(other.HostKey))
	b.must("hosts", "check", "moor")

	b.must("hosts", "change", "moor", "--forget")
	code, _, errs = b.cli("hosts", "check", "moor")
	assert.Equal(t, 5, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "no password and no key is kept for it")
	b.must("hosts", "remove", "moor")
	code, _, _ = b.cli("hosts", "show", "moor")
	assert.NotZero(t, code)
	code, _, errs = b.cli("hosts", "remove", "local")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "the service's own machine stays")
}

// What a host is signed in with is in nothing that the service writes: its log, its database, its
// data folder, its answers.
func TestSecretsAreWrittenNowhere(t *testing.T) {
	t.Parallel()
	var log syncedText
	b := setup(t, func(b *bundle) { b.log = &log })
	far := b.machine(farhost.Shape{}, 0)
	b.quarry("north", plot{})
	secret := "nine-hundred-leeks"
	_, err := b.api.ChangeHost(context.Background(), "moor", wire.HostChange{SignIn: wire.SignIn{Password: &secret}})
	require.NoError(t, err)
	ctx, providers := context.Background(), "eleven-dry-wells"
	_, err = b.api.SetProvider(ctx, "moor", wire.NewProvider{
		Description: string(shipped.Example()), Origin: "http://127.0.0.1:1", User: "bram", Secret: &providers,
		Private: true,
	})
	require.NoError(t, err)
	_, err = b.api.TryProvider(ctx, "moor", "14")
	require.NoError(t, err)
	far.line.Refuse(true)
	far.line.Cut()
	_, err = b.api.CheckHost(ctx, "moor")
	require.ErrorIs(t, err, fault.Unreachable.As())
	assert.NotContains(t, err.Error(), secret)
	far.line.Refuse(false)
	key := strings.Split(far.ClientKey, "\n")[1]
	for _, path := range []string{"/hosts", "/hosts/moor", "/servers/north"} {
		_, body := b.raw("GET", path, "")
		assert.NotContains(t, body, secret, path)
		assert.NotContains(t, body, key, path)
		assert.NotContains(t, body, providers, path)
	}
	dump, err := exec.Command("/bin/sh", "-c", "ls /usr/lib/postgresql/*/bin/pg_dump | tail -n 1").Output()
	require.NoError(t, err)
	records, err := exec.Command(strings.TrimSpace(string(dump)), b.database).Output()
	require.NoError(t, err)
	require.Contains(t, string(records), "moor")
	texts := map[string]string{"the log": log.String(), "the database": string(records)}
	require.NoError(t, filepath.WalkDir(filepath.Join(b.dir, "data"),
		func(path string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				text, rerr := os.ReadFile(path)
				texts[path], err = string(text), rerr
			}
			return err
		}))
	for where, text := range texts {
		for _, s := range []string{secret, key, providers} {
			assert.NotContains(t, text, s, where)
		}
	}
	out, err := exec.Command("ps", "axww", "-o", "args").Output()
	require.NoError(t, err)
	assert.NotContains(t, string(out), secret)
}

// A line that breaks at any point of a put, or falls silent there, is taken up where it was: the
// put and its undo end done, with the world that was asked for, and nothing is mixed.
func TestALineThatBreaks(t *testing.T) {
	t.Parallel()
	every := 39
	if everyPoint {
		every = 1
	}
	over := func(s farhost.Shape) func(*bundle) *moor {
		return func(b *bundle) *moor { return b.machine(s, 0) }
	}
	for name, c := range map[string]struct {
		begin func(*bundle) *moor
		// trouble is made, and over when mend is called.
		trouble func(*moor) (mend func())
		lasts   time.Duration
		every   int
		// long: only where every point is wanted.
		long bool
	}{
		"cut in a session": {over(farhost.Shape{}), cutAndRefused, 300 * time.Millisecond, every, false},
		"cut, files alone": {over(farhost.Shape{FilesOnly: true}), cutAndRefused, 300 * time.Millisecond, every, false},
		"cut, FTP":         {overFTP, cutAndRefused, 300 * time.Millisecond, 2 * every, false},
		"cut, FTP with a provider": {func(b *bundle) *moor {
			far := overFTP(b)
			b.rent("quarrymoss")
			return far
		}, func(far *moor) func() {
			mend := cutAndRefused(far)
			far.provider.Away(true)
			far.provider.Break()
			return func() { far.provider.Away(false); mend() }
		}, 300 * time.Millisecond, every, true},
		"silent":      {over(farhost.Shape{}), stalled, 16 * time.Second, 3 * every, false},
		"silent, FTP": {overFTP, stalled, 16 * time.Second, 3 * every, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if c.long && !everyPoint {
				t.Skip("it takes minutes: make crash")
			}
			b := setup(t)
			far := c.begin(b)
			root := b.quarry("north", plot{})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 30})
			winter := snapshot(t, filepath.Join(root, "worlds", "winter"), moving...)
			tried := 0
			for at := 3; ; at += c.every {
				var points atomic.Int64
				var troubled sync.WaitGroup // it may outlast what it struck
				struck := make(chan string, 1)
				b.trace = func(point string) {
					if points.Add(1) == int64(at) {
						struck <- point
						troubled.Add(1)
						mend := c.trouble(far)
						time.AfterFunc(c.lasts, func() { mend(); troubled.Done() })
					}
				}
				runs := func(world string) {
					t.Helper()
					troubled.Wait()
					require.Eventually(t, func() bool {
						s, err := b.api.Server(context.Background(), "north")
						return err == nil && s.Server.State == "running"
					}, 40*time.Second, 100*time.Millisecond)
					require.Equal(t, world, b.active("north"))
				}
				done := b.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
				runs("fen")
				back := b.undo(done.ID)
				require.Equal(t, plan.Done, back.State, back.Failure)
				runs("winter")
				assert.Equal(t, winter, snapshot(t, filepath.Join(root, "worlds", "winter"), moving...))
				if len(struck) == 0 {
					break // the put and its undo have no such point
				}
				tried++
				t.Log(<-struck)
			}
			t.Logf("%d points tried", tried)
			assert.Positive(t, tried)
		})
	}
}

// moving are the names in a Quarrymoss world that the running game rewrites.
var moving = played

func overFTP(b *bundle) *moor { return b.quay(farhost.FTPShape{}, 0) }

func cutAndRefused(far *moor) func() {
	far.line.Refuse(true)
	far.line.Cut()
	return func() { far.line.Refuse(false) }
}

func stalled(far *moor) func() {
	far.line.Stall(true)
	return func() { far.line.Cut(); far.line.Stall(false) }
}

// A staging that is cut in its midst goes on with what has arrived.
func TestAStagingIsGoneOnWith(t *testing.T) {
	t.Parallel()
	for name, begin := range map[string]func(*bundle) *moor{
		"stream": func(b *bundle) *moor { return b.machine(farhost.Shape{}, 0) },
		"files":  func(b *bundle) *moor { return b.machine(farhost.Shape{FilesOnly: true}, 0) },
		"FTP":    func(b *bundle) *moor { return b.quay(farhost.FTPShape{}, 0) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			far := begin(b)
			b.quarry("north", plot{})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 24, TileBytes: 1 << 20})
			draft, err := b.api.Draft(context.Background(),
				wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Beside: true})
			require.NoError(t, err)
			before := far.line.Passed()
			var cuts atomic.Int64
			far.line.CutAfter(18<<20, func() { cuts.Add(1) })
			last := b.carry(draft)
			require.Equal(t, plan.Done, last.State, last.Failure)
			require.EqualValues(t, 1, cuts.Load())
			sent := far.line.Passed() - before
			t.Logf("%d MB of 24 were sent in all", sent>>20)
			assert.Less(t, sent, int64(34<<20), "what had arrived was not sent again")
		})
	}
}

// A person who does not want to wait for a host that is gone is told what stands where; once it is
// back, going back is tried once more.
func TestAPersonStopsWaiting(t *testing.T) {
	t.Parallel()
	b := setup(t)
	far := b.machine(farhost.Shape{}, 0)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	code, _, errs := b.cli("changeovers", "leave", fmt.Sprint(draft.ID))
	assert.NotZero(t, code)
	assert.Contains(t, errs, "waits for nothing")
	gone := make(chan struct{})
	var once sync.Once
	b.trace = func(point string) {
		if strings.HasSuffix(point, "move done") {
			once.Do(func() {
				far.line.Refuse(true)
				far.line.Cut()
				close(gone)
			})
		}
	}
	_, err = b.api.Act(context.Background(), draft.ID, "start")
	require.NoError(t, err)
	<-gone
	require.Eventually(t, func() bool {
		now, err := b.api.Changeover(context.Background(), draft.ID)
		return err == nil && now.Progress != nil && now.Progress.Waiting != ""
	}, 40*time.Second, 100*time.Millisecond)
	assert.Contains(t, b.must("changeovers", "leave", fmt.Sprint(draft.ID)), "waits no longer")
	last, err := b.api.Watch(context.Background(), draft.ID, func(wire.Changeover) {})
	require.NoError(t, err)
	require.Equal(t, plan.Held, last.State)
	assert.Contains(t, last.Failure.What, "a person has stopped waiting")
	assert.Contains(t, last.Failure.Next, "“Set worlds/winter aside”")
	assert.Contains(t, last.Failure.Next, "how far it came cannot be told")
	far.line.Refuse(false)
	_, out, _ := b.cli("undo", fmt.Sprint(draft.ID), "--yes")
	assert.Contains(t, out, "undone. What was there before is there again")
	last, err = b.api.Watch(context.Background(), draft.ID, func(wire.Changeover) {})
	require.NoError(t, err)
	assert.Equal(t, plan.Undone, last.State, last.Failure)
	assert.Empty(t, last.Failure.Next)
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "winter", s.Server.Active)
	assert.Equal(t, "running", s.Server.State)
}
