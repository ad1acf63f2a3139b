// Package e2e drives the whole service as its users do: on loopback, through
// the client, the command line and the network interface, with real processes
// for game servers.
package e2e

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/argon2"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/archive"
	"reshard/internal/cli"
	"reshard/internal/client"
	"reshard/internal/records"
	"reshard/internal/records/recordstest"
	"reshard/internal/testdir"
	"reshard/internal/wire"
)

var (
	postgres *recordstest.Cluster
	standin  string       // the stand-in game's program
	made     atomic.Int64 // worlds
)

const (
	userName = "warden"
	password = "marrows and leeks"
)

func TestMain(m *testing.M) {
	if os.Getenv("RESHARD_E2E_SERVE") != "" {
		serveAndDie()
		return
	}
	os.Exit(run(m))
}

func run(m *testing.M) int {
	// Many services in one process throw much away: collect less often, within bounds.
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(4 << 30)
	alone := testdir.Watch()
	dir, err := testdir.New("reshard-e2e-")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir) //nolint:errcheck // a temporary folder
	if postgres, err = recordstest.Start(context.Background()); err != nil {
		log.Fatal(err)
	}
	defer postgres.Stop() //nolint:errcheck // the tests have ended
	if err := makeModel(context.Background()); err != nil {
		log.Fatal(err)
	}
	standin = filepath.Join(dir, "standin")
	if out, err := exec.Command("go", "build", "-o", standin, "reshard/cmd/standin").CombinedOutput(); err != nil {
		log.Fatalf("build stand-in: %v\n%s", err, out)
	}
	code := m.Run()
	if err := alone(); err != nil {
		log.Print(err)
		return 1
	}
	return code
}

// everyPoint: make crash, which tries each point and each variant. Without it some are tried, and variants of what
// others try are left out.
var everyPoint = os.Getenv("RESHARD_EVERY_POINT") != ""

// crashOnly are games that are tried when every point is.
func crashOnly(games ...string) []string {
	if everyPoint {
		return games
	}
	return nil
}

// mortality is what a service in a process of its own is told.
type mortality struct {
	Config cli.ServeConfig
	// DieAt is the point of a changeover at which it kills itself with SIGKILL; 0: none.
	DieAt int64
	// HoldAt is of which points it waits at the first, until its standard input says something; "": none.
	HoldAt string
	// Leap is a file that says by how much its machine's clock is off; "": it is not.
	Leap string
}

// serveAndDie runs a service in this process, which dies or waits where it was told.
func serveAndDie() {
	var c mortality
	if err := json.Unmarshal([]byte(os.Getenv("RESHARD_E2E_SERVE")), &c); err != nil {
		log.Fatal(err)
	}
	holdAt := regexp.MustCompile(c.HoldAt)
	var held atomic.Bool
	if c.Leap != "" { // the machine's clock is off by what the file says
		c.Config.Clock = func() time.Time {
			by, _ := os.ReadFile(c.Leap)
			d, _ := time.ParseDuration(string(by))
			return time.Now().Add(d)
		}
	}
	var up atomic.Bool // what it does while it comes up is no point of what it is asked to do
	var n atomic.Int64
	c.Config.Log = os.Stderr
	c.Config.Trace = func(point string) {
		if !up.Load() {
			return
		}
		i := n.Add(1)
		fmt.Printf("point %d %s\n", i, point)
		if i == c.DieAt {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL) // it does not return
			select {}
		}
		if c.HoldAt != "" && holdAt.MatchString(point) && held.CompareAndSwap(false, true) {
			fmt.Printf("held %s\n", point)
			_, _ = os.Stdin.Read(make([]byte, 1))
		}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	d, err := cli.Serve(ctx, c.Config)
	if err != nil {
		log.Fatal(err)
	}
	up.Store(true)
	fmt.Printf("listening %s\n", d.Address)
	<-ctx.Done()
	if err := d.Close(); err != nil {
		log.Fatal(err)
	}
}

// bundle is a service of a test's own, and a client signed in to it.
type bundle struct {
	t        *testing.T
	dir      string
	database string
	daemon   *cli.Daemon
	api      *client.Client
	trace    func(point string)
	// startServers makes the service start servers that should run and do not.
	startServers bool
	// keepAside is how long what is set aside is kept.
	keepAside time.Duration
	// games is a folder of profiles beside the shipped ones.
	games         string
	gamesOverride bool
	// limits bound what arrives.
	limits archive.Limits
	// far is where its servers are; nil: on the service's own machine.
	far *moor
	// log is where the service writes its log; nil: nowhere.
	log io.Writer
	// data is the data folder; "": data in dir.
	data string
	// lease is how long the service acts without hearing from the database.
	lease time.Duration
	// clock is the machine's, by which ages count.
	clock func() time.Time
	// rulePace is how often it looks at rules and at backups that have ended; 0: 3 s.
	rulePace time.Duration
	// disk tells free and all bytes of the data folder's disk; nil: plenty.
	disk func() (free, total int64, err error)
}

// model has all tables and a user whose password costs little to check. The tests' databases are copies of it: making
// these is two thirds of what a service costs to begin.
const model = "signed_in"

func makeModel(ctx context.Context) error {
	if err := postgres.MakeTables(ctx); err != nil {
		return err
	}
	return postgres.Model(ctx, model, recordstest.Tables, func(ctx context.Context, address string) error {
		r, err := records.Open(ctx, address, records.Claim{Who: "the tests"})
		if err != nil {
			return err
		}
		defer r.Close()
		salt := []byte("a salt for tests")
		b64 := base64.RawStdEncoding.EncodeToString
		return r.AddUser(ctx, userName, fmt.Sprintf("$argon2id$v=%d$m=64,t=1,p=1$%s$%s", argon2.Version, b64(salt),
			b64(argon2.IDKey([]byte(password), salt, 1, 64, 1, 32))))
	})
}

func newDatabase(t *testing.T) string {
	t.Helper()
	address, err := postgres.Copy(context.Background(), model)
	require.NoError(t, err)
	return address
}

// emptyDatabase has no tables: of records that the test brings, or of a service that nobody has signed in to.
func emptyDatabase(t *testing.T) string {
	t.Helper()
	address, err := postgres.Empty(context.Background())
	require.NoError(t, err)
	return address
}

func setup(t *testing.T, with ...func(*bundle)) *bundle {
	t.Helper()
	b := &bundle{t: t, dir: t.TempDir()}
	for _, w := range with {
		w(b)
	}
	if b.database == "" {
		b.database = newDatabase(t)
	}
	b.start()
	t.Cleanup(b.end)
	return b
}

// quickRules has the service look at rules, backups and alerts all the time: a fiftieth of a core each.
func quickRules(b *bundle) { b.rulePace = 300 * time.Millisecond }

// shippedWith has the service take a profile that ships with some lines changed, each followed by what it becomes.
func shippedWith(t *testing.T, id string, lines ...string) func(*bundle) {
	t.Helper()
	source, err := games.Source(id)
	require.NoError(t, err)
	page := string(source)
	for i := 0; i < len(lines); i += 2 {
		require.Contains(t, page, lines[i])
		page = strings.Replace(page, lines[i], lines[i+1], 1)
	}
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, id+".yaml"),
		[]byte(page), 0o600))
	return func(b *bundle) { b.games, b.gamesOverride = folder, true }
}

func (b *bundle) config() cli.ServeConfig {
	data := b.data
	if data == "" {
		data = filepath.Join(b.dir, "data")
	}
	return cli.ServeConfig{
		Data:          data,
		Lease:         b.lease,
		Database:      b.database,
		Listen:        "127.0.0.1:0",
		FirstUser:     userName,
		FirstPassword: password,
		Log:           b.logTo(),
		StartServers:  b.startServers,
		KeepAside:     b.keepAside,
		Limits:        b.limits,
		Games:         b.games,
		GamesOverride: b.gamesOverride,
		RulePace:      cmp.Or(b.rulePace, 3*time.Second),
		Clock:         b.clock,
		Disk: func() (int64, int64, error) {
			if b.disk != nil {
				return b.disk()
			}
			return 1 << 40, 1 << 41, nil
		},
		Trace: func(p string) {
			if b.trace != nil {
				b.trace(p)
			}
		},
	}
}

func (b *bundle) logTo() io.Writer {
	if b.log == nil {
		return io.Discard
	}
	return b.log
}

// syncedText is a text that many write to.
type syncedText struct {
	mu   sync.Mutex
	text strings.Builder
}

func (s *syncedText) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *syncedText) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

func (b *bundle) start() {
	b.t.Helper()
	d, err := cli.Serve(context.Background(), b.config())
	require.NoError(b.t, err)
	b.daemon = d
	_ = os.Remove(filepath.Join(b.dir, "client.json")) // an earlier life had another address
	b.api = signIn(b.t, d.Address)
}

func signIn(t *testing.T, address string) *client.Client {
	t.Helper()
	api, err := client.New(address, "")
	require.NoError(t, err)
	token, err := api.SignIn(context.Background(), userName, password, "test")
	require.NoError(t, err)
	api, err = client.New(address, token.Secret)
	require.NoError(t, err)
	return api
}

// pidOf is the number of a server's process, 0 for none.
func pidOf(s wire.Server) (pid int) {
	_, _ = fmt.Sscanf(s.Process, "process %d", &pid)
	return pid
}

// end stops the game servers and the service, so that no process is left.
func (b *bundle) end() {
	if b.daemon == nil {
		return
	}
	ctx := context.Background()
	list, err := b.api.Servers(ctx, wire.ServerQuery{})
	assert.NoError(b.t, err)
	for _, s := range list {
		_ = os.Remove(filepath.Join(s.Root, "misbehave"))
		if now, err := b.api.Server(ctx, s.Name); err == nil { // a list tells what was known
			s = now.Server
		}
		if s.Process == "" {
			continue
		}
		if _, err := b.api.StopServer(ctx, s.Name, wire.StopServer{}); err != nil {
			if pid := pidOf(s); pid > 0 { // 0 would be this test itself
				_ = syscall.Kill(pid, syscall.SIGKILL) // one that was made to ignore its stop
			}
		}
	}
	assert.NoError(b.t, b.daemon.Close())
	if b.far != nil {
		for _, p := range b.far.people {
			p.leave()
		}
		b.far.line.Close()
		b.far.close()
	}
	b.daemon, b.trace = nil, nil // the testing package keeps what is to be done at the end of a test
}

// plot is a Quarrymoss server to be made.
type plot struct {
	kind     string // default plain
	folder   string // default winter
	settings string // default: as the game writes it
	world    quarrymoss.Options
	mischief string
	version  string // default 2.5.1
	stopped  bool
	noWorld  bool
}

// quarry makes, registers and starts a Quarrymoss server and gives its root.
func (b *bundle) quarry(name string, p plot) string {
	b.t.Helper()
	root := filepath.Join(b.dir, "servers", name)
	if p.kind == "" {
		p.kind = "plain"
	}
	if p.folder == "" {
		p.folder = "winter"
	}
	if p.world.Title == "" {
		p.world.Title = "Winter Beds"
	}
	if p.world.Seed == 0 {
		p.world.Seed = 111
	}
	if p.version == "" {
		p.version = "2.5.1"
	}
	p.world.Split = p.kind == "terrace"
	port := freePort(b.t)
	require.NoError(b.t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: p.version, Kind: p.kind}, p.folder,
		p.world.Seed, port))
	if p.settings != "" {
		text := strings.ReplaceAll(p.settings, "PORT", fmt.Sprint(port))
		require.NoError(b.t, os.WriteFile(filepath.Join(root, "quarry.properties"), []byte(text), 0o644))
	}
	if !p.noWorld {
		require.NoError(b.t, quarrymoss.Make(filepath.Join(root, "worlds", p.folder), p.world))
	}
	ctx := context.Background()
	_, err := b.api.AddServer(ctx, b.placed(wire.NewServer{
		Name:    name,
		Game:    "quarrymoss",
		Kind:    p.kind,
		Root:    root,
		Command: []string{standin, "quarrymoss", "serve", "."},
	}))
	require.NoError(b.t, err)
	b.sayDown(name)
	if !p.stopped {
		_, err = b.api.StartServer(ctx, name, wire.StartServer{NewWorld: true})
		require.NoError(b.t, err)
	}
	if p.mischief != "" {
		b.misbehave(name, p.mischief)
	}
	return root
}

func (b *bundle) misbehave(name, how string) {
	b.t.Helper()
	require.NoError(b.t, os.WriteFile(filepath.Join(b.dir, "servers", name, "misbehave"), []byte(how), 0o644))
}

// send makes a world and sends it through the command line.
func (b *bundle) send(folder string, o quarrymoss.Options) wire.Copy {
	b.t.Helper()
	dir := filepath.Join(b.dir, "made", fmt.Sprint(made.Add(1)))
	require.NoError(b.t, os.MkdirAll(dir, 0o755))
	require.NoError(b.t, quarrymoss.Make(filepath.Join(dir, folder), o))
	return b.sendMade(filepath.Join(dir, folder))
}

// sendMade sends a world that stands in a folder.
func (b *bundle) sendMade(folder string) wire.Copy {
	b.t.Helper()
	var arrival wire.Arrival
	code, out, errs := b.cli("send", "--json", folder)
	require.Equal(b.t, 0, code, errs)
	require.NoError(b.t, json.Unmarshal([]byte(out), &arrival))
	return arrival.Copy
}

// cli runs a command line as a signed-in user would.
func (b *bundle) cli(args ...string) (code int, out, errs string) {
	b.t.Helper()
	return b.cliReading("", args...)
}

// cliReading does so with something to read.
func (b *bundle) cliReading(in string, args ...string) (code int, out, errs string) {
	b.t.Helper()
	file := filepath.Join(b.dir, "client.json")
	if _, err := os.Stat(file); err != nil {
		var so, se bytes.Buffer
		c := cli.Run(context.Background(), []string{"sign-in", "--address", b.daemon.Address, "--user", userName,
			"--password-stdin"},
			cli.IO{In: strings.NewReader(password + "\n"), Out: &so, Err: &se, Env: b.env})
		require.Equal(b.t, 0, c, se.String())
	}
	var so, se bytes.Buffer
	code = cli.Run(context.Background(), args, cli.IO{In: strings.NewReader(in), Out: &so, Err: &se, Env: b.env})
	return code, so.String(), se.String()
}

// cliAt runs a command line against another address, signed in as nobody there.
func (b *bundle) cliAt(address string, args ...string) (code int, out, errs string) {
	b.t.Helper()
	file := filepath.Join(b.t.TempDir(), "client.json")
	token := "none"
	if api, err := client.New(address, ""); err == nil {
		if t, err := api.SignIn(context.Background(), userName, password, "test"); err == nil {
			token = t.Secret
		}
	}
	raw, err := json.Marshal(map[string]string{"address": address, "user": userName, "token": token})
	require.NoError(b.t, err)
	require.NoError(b.t, os.WriteFile(file, raw, 0o600))
	var so, se bytes.Buffer
	env := func(name string) string { return map[string]string{"RESHARD_CONFIG": file, "HOME": b.dir}[name] }
	code = cli.Run(context.Background(), args, cli.IO{In: strings.NewReader(""), Out: &so, Err: &se, Env: env})
	return code, so.String(), se.String()
}

func (b *bundle) env(name string) string {
	return map[string]string{"RESHARD_CONFIG": filepath.Join(b.dir, "client.json"), "HOME": b.dir}[name]
}

// put drafts, starts and waits for a put.
func (b *bundle) put(world, server string, choices map[string]string) wire.Changeover {
	b.t.Helper()
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: "put", World: world, Server: server, Choices: choices})
	require.NoError(b.t, err)
	return b.carry(draft)
}

func (b *bundle) undo(id int64) wire.Changeover {
	b.t.Helper()
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: "undo", Undoes: id})
	require.NoError(b.t, err)
	return b.carry(draft)
}

func (b *bundle) carry(draft wire.Changeover) wire.Changeover {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	_, err := b.api.Act(ctx, draft.ID, "start")
	require.NoError(b.t, err)
	last, err := b.api.Watch(ctx, draft.ID, func(wire.Changeover) {})
	require.NoError(b.t, err)
	return last
}

// nextPort is the port that is tried next: below those that the system gives out by itself, and those that the FTP
// servers of package farhost take (20,000 to 30,000), so that nobody gets one in the moment before its game listens.
var nextPort atomic.Int64

func freePort(t *testing.T) int {
	t.Helper()
	nextPort.CompareAndSwap(0, 10_000+int64(os.Getpid()%40)*250)
	for range 1000 {
		port := 10_000 + nextPort.Add(1)%10_000
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			require.NoError(t, l.Close())
			return int(port)
		}
	}
	require.Fail(t, "no port is free")
	return 0
}

// snapshot hashes every file below dir; skip names are left out wherever they
// stand.
func snapshot(t *testing.T, dir string, skip ...string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		for _, s := range skip {
			if d.Name() == s {
				if d.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
		}
		rel, _ := filepath.Rel(dir, p)
		if d.IsDir() {
			out[rel+"/"] = ""
			return nil
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		out[rel] = hex.EncodeToString(sum[:8])
		return nil
	}))
	return out
}

// madeDir is the folder of the one world that was sent.
func (b *bundle) madeDir() string {
	b.t.Helper()
	dirs, err := filepath.Glob(filepath.Join(b.dir, "made", "*"))
	require.NoError(b.t, err)
	require.Len(b.t, dirs, 1)
	return dirs[0]
}
