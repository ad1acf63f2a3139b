package e2e

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
)

// Refresh the golden files with: go test ./internal/e2e -run Golden -update
var update = flag.Bool("update", false, "write golden files anew")

// changing replaces what differs from run to run.
var changing = []struct {
	re   *regexp.Regexp
	with string
}{
	// only where the machine was slow
	{regexp.MustCompile(`(?s)\n  Reshard's own part took.*?(\n  Go and look)`), "$1"},
	{regexp.MustCompile(`made/\d+/`), "made/N/"},
	{regexp.MustCompile(`(\.reshard/\d+)-[0-9a-f]{8}`), "$1-RANDOM"},
	{regexp.MustCompile(`\d+ of \d+ files are stored already`), "N of M files are stored already"}, // how old they are
	{regexp.MustCompile(`127\.0\.0\.1:\d+`), "ADDRESS"},
	{regexp.MustCompile(`listen\.port=\d+`), "listen.port=PORT"},
	{regexp.MustCompile(`\d{4}-\d{2}-\d{2} \d{2}:\d{2}(:\d{2})?`), "WHEN"},
	{regexp.MustCompile(`\(\d+ \w+ ago\)`), "(AGO)"},
	{regexp.MustCompile(`\bnow\b|\d+ seconds? ago`), "AGO"},
	{regexp.MustCompile(`(copy|files,) [0-9a-f]{12}\b`), "$1 COPY"},
	{regexp.MustCompile(`\b\d+ (ms|s)\b|\b\d+\.\d s\b`), "TIME"},
	{regexp.MustCompile(`\d+(\.\d+)? [GT]iB free`), "ROOM free"},
	{regexp.MustCompile(`process +\d+`), "process        PID"},
	{regexp.MustCompile(`(?m)[ ─]+$`), ""},
	{regexp.MustCompile(` {2,}`), "  "}, // widths of columns follow from what was replaced
}

// The command line's main outputs, as a person reads them.
func TestGoldenOutputs(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter Beds", Seed: 111, Realms: []string{"caverns"}}})
	b.quarry("south", plot{folder: "south", world: quarrymoss.Options{Title: "South", Seed: 5}})
	b.quarry("pebbles", plot{kind: "mossling", stopped: true, noWorld: true})
	b.send("Fen Garden", quarrymoss.Options{
		Title:  "Fen Garden",
		Seed:   -9,
		Folk:   []string{"Ada", "Bryn"},
		Realms: []string{"caverns"},
		Mods:   []quarrymoss.Mod{{Name: "rain-butts", Version: "0.9"}},
	})
	fen := filepath.Join(b.madeDir(), "Fen Garden")
	for _, c := range []struct {
		name string
		code int
		args []string
	}{
		{"inspect", 0, []string{"inspect", fen}},
		{"worlds", 0, []string{"worlds"}},
		{"worlds-show", 0, []string{"worlds", "show", "fen-garden"}},
		{"worlds-verify", 0, []string{"worlds", "verify", "fen-garden"}},
		{"servers", 0, []string{"servers"}},
		{"servers-show", 0, []string{"servers", "show", "north"}},
		{"games", 0, []string{"games"}},
		{"users", 0, []string{"users"}},
		{"changeovers-none", 0, []string{"changeovers"}},
		{"fit-server", 0, []string{"fit", "north"}},
		{"fit-choose", 4, []string{"fit", "fen-garden", "north"}},
		{"fit-blocks", 3, []string{"fit", "fen-garden", "pebbles", "--folder", "fen"}},
		{"fit", 0, []string{"fit", "fen-garden", "north", "--folder", "fen", "--choose", "mods=go-on"}},
		{
			"put-plan",
			0,
			[]string{"put", "fen-garden", "north", "--folder", "fen", "--choose", "mods=go-on", "--plan-only"},
		},
		{"put", 0, []string{"put", "fen-garden", "north", "--folder", "fen", "--choose", "mods=go-on", "--yes"}},
		{"undo", 0, []string{"undo", "2", "--yes"}},
		{"changeovers", 0, []string{"changeovers"}},
		{"changeovers-show", 0, []string{"changeovers", "show", "2"}},
		{"reset-asks", 4, []string{"reset", "north"}},
		{"reset", 0, []string{"reset", "north", "--name", "spring", "--seed", "-5", "--yes"}},
		{"switch", 0, []string{"switch", "north", "winter", "--yes"}},
		{"switch-to-none", 1, []string{"switch", "north", "Winter"}},
		{"rename-plan", 0, []string{"rename", "north", "winter-2026", "--plan-only"}},
		{"clone-plan", 0, []string{"clone", "north", "south", "--folder", "copy", "--plan-only"}},
		{"take-away", 0, []string{"take-away", "north", "--to", b.dir, "--yes"}},
		{"landmarks", 0, []string{"landmarks", "add", "fen-garden", "red roof by the well", "--at", "120 / -30"}},
		{
			"put-when-told",
			0,
			[]string{"put", "fen-garden", "north", "--folder", "fen", "--choose", "mods=go-on", "--when-told", "--yes"},
		},
		{"changeovers-go-on", 0, []string{"changeovers", "go-on", "9"}},
		{"tidy", 0, []string{"tidy", "north"}},
	} {
		if c.name == "tidy" {
			b.until(9, plan.Done)
		}
		code, out, errs := b.cli(c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errs)
		out += errs
		out = strings.NewReplacer(b.dir, "DIR", standin, "DIR/standin").Replace(out)
		for _, r := range changing {
			out = r.re.ReplaceAllString(out, r.with)
		}
		file := filepath.Join("testdata", c.name+".txt")
		if *update {
			require.NoError(t, os.MkdirAll("testdata", 0o755))
			require.NoError(t, os.WriteFile(file, []byte(out), 0o644))
		}
		want, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, string(want), out, c.name)
	}
}
