package internal_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/life"
)

// The house has floors, and imports run downwards only. docs/architecture.md
// draws them; this test holds them.
var floors = map[string]int{
	"core": 0, "build": 0,
	"line": 1, "secrets": 1, "sqlite": 1, "blobs": 1, "places": 1,
	"sshlink": 2, "ftplink": 2, "providerlink": 2,
	"wire": 3, "hostfs": 3, "control": 3, "archive": 3, "vault": 3, "pgserver": 3, "feed": 3,
	"host": 4, "executor": 4, "records": 4, "local": 4, "client": 4, "drawing": 4, "observe": 4,
	"catalogue": 5, "accounts": 5, "jobs": 5,
	"fleet": 6, "library": 6,
	"arrivals": 7, "changeovers": 7, "stores": 7, "notices": 7,
	"upkeep": 8, "backups": 8, "service": 9, "api": 10, "cli": 11,
	"hostile": 12, "testdir": 0, // only tests, benchmarks and what runs them import these
}

// Drivers are the packages that work on a host. They stand on the floor of what they are
// drivers of, and may import it; nothing but what opens them may import them.
var drivers = map[string][]string{
	"reshard/internal/hostfs/local":     {"reshard/internal/host/local"},
	"reshard/internal/hostfs/sftp":      {"reshard/internal/host/ssh"},
	"reshard/internal/hostfs/ftp":       {"reshard/internal/host/ftp"},
	"reshard/internal/hostfs/trial":     {"reshard/internal/host/ssh", "reshard/internal/host/ftp"},
	"reshard/internal/hostfs/memory":    nil,
	"reshard/internal/blobs/s3blobs":    {"reshard/internal/stores"},
	"reshard/internal/control/child":    {"reshard/internal/host/local"},
	"reshard/internal/control/commands": {"reshard/internal/host/ssh"},
	"reshard/internal/control/hand":     {"reshard/internal/host/ssh", "reshard/internal/host/ftp"},
	"reshard/internal/control/provider": {"reshard/internal/host/provider"},
	"reshard/internal/control/memory":   nil,
	"reshard/internal/host/local":       {"reshard/internal/fleet"},
	"reshard/internal/host/ssh":         {"reshard/internal/fleet"},
	"reshard/internal/host/ftp":         {"reshard/internal/fleet"},
	"reshard/internal/host/provider":    {"reshard/internal/fleet"},
	"reshard/internal/sshlink": {"reshard/internal/host/ssh", "reshard/internal/hostfs/sftp",
		"reshard/internal/control/commands", "reshard/internal/host/ssh", "reshard/internal/host/ftp"},
	"reshard/internal/ftplink":      {"reshard/internal/host/ftp", "reshard/internal/hostfs/ftp"},
	"reshard/internal/providerlink": {"reshard/internal/host/provider", "reshard/internal/control/provider"},
	"reshard/internal/line": {"reshard/internal/records", "reshard/internal/stores", "reshard/internal/notices",
		"reshard/internal/providerlink",
		"reshard/internal/sshlink", "reshard/internal/ftplink",
		"reshard/internal/hostfs/sftp",
		"reshard/internal/control/commands", "reshard/internal/host/ssh", "reshard/internal/host/ftp"},
}

// suites are what tests of drivers import.
var suites = []string{"reshard/internal/hostfs/hostfstest", "reshard/internal/control/controltest",
	"reshard/internal/archive/archivetest", "reshard/internal/records/recordstest"}

type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "reshard/...").Output()
	require.NoError(t, err)
	var all []listed
	dec := json.NewDecoder(strings.NewReader(string(out)))
	for dec.More() {
		var p listed
		require.NoError(t, dec.Decode(&p))
		all = append(all, p)
	}
	require.NotEmpty(t, all)
	return all
}

func floorOf(path string) (int, bool) {
	rest, ok := strings.CutPrefix(path, "reshard/internal/")
	if !ok {
		return 0, false
	}
	name, _, _ := strings.Cut(rest, "/")
	f, ok := floors[name]
	return f, ok
}

func TestImportsRunDownwardsOnly(t *testing.T) {
	t.Parallel()
	for _, p := range packages(t) {
		if strings.HasPrefix(p.ImportPath, "reshard/internal/e2e") ||
			strings.HasPrefix(p.ImportPath, "reshard/internal/bench") || p.ImportPath == "reshard/internal" {
			continue
		}
		mine, ok := floorOf(p.ImportPath)
		if strings.HasPrefix(p.ImportPath, "reshard/internal/") {
			assert.True(t, ok, "%s has no floor: put it into this test and into docs/architecture.md", p.ImportPath)
		}
		for _, i := range p.Imports {
			theirs, ok := floorOf(i)
			switch {
			case !ok:
			case strings.HasPrefix(p.ImportPath, "reshard/internal/core/"):
				assert.True(t, strings.HasPrefix(i, "reshard/internal/core/"),
					"%s imports %s: the core imports no sibling", p.ImportPath, i)
			case drivesOrTests(p.ImportPath, i):
			case strings.HasPrefix(p.ImportPath, "reshard/internal/"):
				assert.Less(t, theirs, mine, "%s imports %s", p.ImportPath, i)
			}
			if openers, ok := drivers[i]; ok {
				assert.Contains(t, openers, p.ImportPath, "%s imports the driver %s", p.ImportPath, i)
			}
			if !strings.HasPrefix(p.ImportPath, "reshard/cmd/standin") {
				assert.NotContains(t, i, "cmd/standin", "%s knows a game by its code", p.ImportPath)
			}
		}
	}
}

// drivesOrTests reports whether a package is a driver, or the suite of drivers, of what it
// imports.
func drivesOrTests(pkg, imported string) bool {
	_, driver := drivers[pkg]
	return (driver || slices.Contains(suites, pkg)) && strings.HasPrefix(pkg, imported+"/")
}

// What is about the service's own machine, and no host's: where it keeps its data, and
// what its own programs do. Nothing else may touch an operating system.
var ownMachine = []string{
	// programs, arrivals, blobs
	"cmd/", "scripts/", "internal/cli/", "internal/local/", "internal/pgserver/", "internal/archive/",
	"internal/vault/", "internal/blobs/", "internal/arrivals/", "internal/hostile/", "internal/testdir/",
	"internal/secrets/",       // the key that secrets are kept with
	"internal/notices/",       // whom the service itself tells
	"internal/stores/",        // the keys of stores, and stores that are folders of it
	"internal/places/",        // which folders belong to its system
	"internal/client/",        // what is sent
	"internal/api/conn",       // who has reached the service
	"internal/sqlite/",        // a copy that a library opens
	"internal/records/awake_", // the clock of a lease
	"internal/service/",       // the data folder: its identity, its lock
	"internal/fleet/hosts_",   // the service's own machine as a host
	"internal/library/",       // the pictures that it keeps
	"internal/catalogue/",     // examples on the service's machine
}

// Only drivers touch the operating system of a host: no other code knows its paths,
// processes, addresses or numbers of errors. A host may be far away.
func TestOnlyDriversTouchAHost(t *testing.T) {
	t.Parallel()
	banned := []string{"os", "os/exec", "os/user", "os/signal", "path/filepath", "syscall", "golang.org/x/sys/unix",
		"net"}
	words := []string{"/proc", "127.0.0.1", "localhost"}
	looked := 0
	for file, parsed := range sources(t, "..") {
		if _, driver := drivers["reshard/"+path.Dir(file)]; driver || strings.HasSuffix(file, "_test.go") ||
			strings.HasSuffix(path.Dir(file), "test") {
			continue
		}
		if slices.ContainsFunc(ownMachine, func(own string) bool { return strings.HasPrefix(file, own) }) {
			continue
		}
		looked++
		for _, i := range parsed.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			require.NoError(t, err)
			assert.NotContains(t, banned, name, "%s imports %s: that is for drivers", file, name)
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING &&
				!strings.Contains(lit.Value, "postgres://") {
				for _, w := range words {
					assert.NotContains(t, lit.Value, w, "%s names %s", file, w)
				}
			}
			return true
		})
	}
	assert.Greater(t, looked, 80)
}

// sources parses all Go files below a folder.
func sources(t *testing.T, root string) map[string]*ast.File {
	t.Helper()
	out := map[string]*ast.File{}
	require.NoError(t, fs.WalkDir(os.DirFS(root), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && slices.Contains([]string{"node_modules", ".git", ".demo", "bin"}, d.Name()) {
			return fs.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasPrefix(name, "web/") {
			return nil
		}
		out[name], err = parser.ParseFile(token.NewFileSet(), path.Join(root, name), nil, 0)
		return err
	}))
	return out
}

// A switch over the states of a server names all of them, so that a new one, or the
// unknown one, is forgotten nowhere; and nothing takes "not stopped" for running, or "not
// running" for stopped.
func TestSwitchesOverStatesAreExhaustive(t *testing.T) {
	t.Parallel()
	switches := 0
	for file, parsed := range sources(t, "..") {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		inLife := strings.HasPrefix(file, "internal/core/life/")
		stateOf := func(e ast.Expr) string {
			sel, ok := e.(*ast.SelectorExpr)
			if ok {
				if pkg, ok := sel.X.(*ast.Ident); ok && pkg.Name == "life" {
					return sel.Sel.Name
				}
			}
			if id, ok := e.(*ast.Ident); ok && inLife {
				return id.Name
			}
			return ""
		}
		all := []string{"Running", "Starting", "Stopping", "Stopped", "Unknown"}
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BinaryExpr:
				if n.Op == token.NEQ && slices.Contains([]string{"Stopped", "Running"}, stateOf(n.Y)) {
					assert.Contains(t, []string{"internal/core/fit/fit.go", "internal/core/fit/purpose.go"}, file,
						"%s: != life.%s holds of a state that is not known too; use Up, or a switch", file,
						stateOf(n.Y))
				}
			case *ast.SwitchStmt:
				var named []string
				for _, c := range n.Body.List {
					for _, e := range c.(*ast.CaseClause).List {
						if s := stateOf(e); n.Tag != nil && slices.Contains(all, s) {
							named = append(named, s)
						}
					}
				}
				if len(named) > 0 {
					switches++
					assert.ElementsMatch(t, all, named, "%s: a switch over states forgets one", file)
				}
			}
			return true
		})
	}
	assert.GreaterOrEqual(t, switches, 5)
	names := []string{}
	for _, s := range life.States() {
		assert.True(t, s.Valid())
		names = append(names, string(s))
	}
	assert.Equal(t, []string{"running", "starting", "stopping", "stopped", "unknown"}, names)
	assert.False(t, life.State("").Valid(), "the zero value is no state")
	assert.Panics(t, func() { life.State("").Up() })
}

// The core computes: it opens no connection, starts no process and asks no clock
// through these packages.
func TestTheCoreIsPure(t *testing.T) {
	t.Parallel()
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "reshard/internal/core/") {
			continue
		}
		for _, i := range p.Imports {
			for _, bad := range []string{"os", "net", "net/http", "os/exec", "database/sql", "log/slog",
				"github.com/jmoiron/sqlx",
				"github.com/urfave/cli/v3"} {
				assert.NotEqual(t, bad, i, p.ImportPath)
			}
		}
	}
}

// A client is small: programs that speak to a service need neither databases, nor stored
// blobs, nor what carries changeovers out.
func TestTheClientIsLight(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-deps", "reshard/internal/client").Output()
	require.NoError(t, err)
	for _, heavy := range []string{
		"modernc.org/sqlite", "database/sql", "reshard/internal/blobs", "reshard/internal/vault",
		"reshard/internal/executor",
		"reshard/internal/records", "reshard/internal/control", "reshard/internal/sqlite",
	} {
		assert.NotContains(t, strings.Fields(string(out)), heavy)
	}
	assert.Contains(t, strings.Fields(string(out)), "reshard/internal/wire")
}
