package internal_test

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The house has floors, and imports run downwards only. docs/architecture.md
// draws them; this test holds them.
var floors = map[string]int{
	"core":  0,
	"place": 1, "control": 1, "pack": 1, "pgserver": 1,
	"changeover": 2, "vault": 1, "records": 2, "local": 2,
	"wire": 3, "service": 4,
	"api": 5, "client": 5,
	"cli": 6,
}

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
		if strings.HasPrefix(p.ImportPath, "reshard/internal/e2e") || strings.HasPrefix(p.ImportPath, "reshard/internal/bench") || p.ImportPath == "reshard/internal" {
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
				assert.True(t, strings.HasPrefix(i, "reshard/internal/core/"), "%s imports %s: the core imports no sibling", p.ImportPath, i)
			case strings.HasPrefix(p.ImportPath, "reshard/internal/"):
				assert.Less(t, theirs, mine, "%s imports %s", p.ImportPath, i)
			}
			if !strings.HasPrefix(p.ImportPath, "reshard/cmd/standin") {
				assert.NotContains(t, i, "cmd/standin", "%s knows a game by its code", p.ImportPath)
			}
		}
	}
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
			for _, bad := range []string{"net", "net/http", "os/exec", "log/slog", "github.com/jmoiron/sqlx", "github.com/urfave/cli/v3"} {
				assert.NotEqual(t, bad, i, p.ImportPath)
			}
		}
	}
}
