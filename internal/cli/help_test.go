package cli_test

import (
	"bytes"
	"context"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/cli"
)

// Refresh the golden files with: go test ./internal/cli -update
var update = flag.Bool("update", false, "write golden files anew")

func golden(t *testing.T, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name+".txt")
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
}

func run(t *testing.T, env map[string]string, args ...string) (code int, out, errs string) {
	t.Helper()
	var so, se bytes.Buffer
	code = cli.Run(context.Background(), args,
		cli.IO{In: strings.NewReader(""), Out: &so, Err: &se, Env: func(k string) string { return env[k] }})
	return code, so.String(), se.String()
}

// Every help page is a golden file, and every command's page has an example.
func TestHelpPages(t *testing.T) {
	t.Parallel()
	for _, command := range []string{
		"", "inspect", "find", "send", "arrivals", "arrivals take", "arrivals remove", "worlds", "worlds show",
		"worlds verify", "worlds picture", "worlds files", "worlds fetch", "worlds lineage", "worlds change",
		"worlds pin", "worlds unpin", "worlds set-aside", "worlds bring-back", "worlds join", "worlds apart",
		"worlds split", "compare", "vault", "vault check", "vault collect", "vault rebuild", "fit", "put", "restore",
		"clone", "reset", "switch", "rename", "take-away", "tidy", "landmarks", "landmarks add", "landmarks remove",
		"undo", "backup", "backups", "backups show", "backups change", "rules", "rules add", "rules change",
		"rules pause",
		"rules resume", "rules run", "rules remove", "rules allow", "rules clock", "alerts", "alerts targets",
		"alerts tell",
		"alerts try", "alerts forget", "stores", "stores add", "stores show", "stores check", "stores remove",
		"stores key",
		"vault recover", "changeovers", "changeovers show", "changeovers tick", "changeovers go-on",
		"changeovers cancel",
		"changeovers settle", "servers remove", "users remove",
		"hosts", "hosts add", "hosts check", "hosts change", "servers", "servers add", "servers change", "servers show",
		"servers start", "servers stop", "servers log", "servers slots", "hosts provider", "hosts try", "providers",
		"games", "games show",
		"games sketch", "games lint", "games try", "games add", "games history", "games remove", "games schema",
		"users", "users add", "users password",
		"sign-in", "sign-out", "serve", "demo", "api",
	} {
		t.Run(command, func(t *testing.T) {
			t.Parallel()
			code, out, errs := run(t, nil, append(strings.Fields(command), "--help")...)
			assert.Equal(t, 0, code)
			assert.Empty(t, errs)
			if command != "" {
				assert.Contains(t, out, "Examples:")
			}
			golden(t, "help-"+strings.ReplaceAll(command, " ", "-"), out)
		})
	}
}

// --help may stand behind what a command is given.
func TestHelpBehindArguments(t *testing.T) {
	t.Parallel()
	for line, command := range map[string]string{
		"put fen-garden north-plot": "put", "worlds show fen-garden": "worlds show", "rules north-plot": "rules",
	} {
		_, page, _ := run(t, nil, append(strings.Fields(command), "--help")...)
		code, out, errs := run(t, nil, append(strings.Fields(line), "--help")...)
		assert.Equal(t, 0, code, line)
		assert.Empty(t, errs, line)
		assert.Equal(t, page, out, line)
	}
}

// Wrong command lines are usage errors (2); a service that cannot be used is 5.
// Each names the thing and the next step.
func TestWrongCommandLines(t *testing.T) {
	t.Parallel()
	unreachable := map[string]string{"RESHARD_ADDRESS": "http://127.0.0.1:1", "RESHARD_TOKEN": "x"}
	for _, c := range []struct {
		args  string
		env   map[string]string
		code  int
		words string
	}{
		{"put", nil, 2, "put needs WORLD and SERVER"},
		{"put one", nil, 2, "reshard put --help"},
		{"undo twelve", nil, 2, "a changeover is a number"},
		{"fit a b --choose x", nil, 2, "KEY=ANSWER"},
		{"fit a b --nonsense", nil, 2, "nonsense"},
		{"servers explode", nil, 2, `servers has no command "explode"`},
		{"servers add x --game g --root /tmp", nil, 2, "the command that starts the server"},
		{"inspect", nil, 2, "inspect needs PATH"},
		{"inspect /no/such/world.zip", nil, 1, "there is no such file or folder"},
		{"sign-in --address ftp://x --user a", nil, 1, "it should look like http://"},
		{"servers", nil, 5, "not signed in to any service"},
		{"servers", unreachable, 5, "reach the service at"},
		{"worlds", unreachable, 5, "Check the address"},
	} {
		t.Run(c.args, func(t *testing.T) {
			t.Parallel()
			env := c.env
			if env == nil {
				env = map[string]string{"RESHARD_CONFIG": filepath.Join(t.TempDir(), "none.json")}
			}
			code, _, errs := run(t, env, strings.Fields(c.args)...)
			assert.Equal(t, c.code, code, errs)
			assert.Contains(t, strings.Join(strings.Fields(errs), " "), c.words, "on however many lines")
		})
	}
}
