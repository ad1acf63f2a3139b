package settings_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/settings"
)

// What is not plain is refused wherever a script would use it again; where it is safe it is
// written, and a real shell gives it to the game as it is.
func TestOnlyPlainValuesGoWhereAScriptReadsThemAgain(t *testing.T) {
	t.Parallel()
	const risky = "$(touch owned)"
	for what, c := range map[string]struct {
		format, script, key, why string
	}{
		"eval of arguments":      {"shell", "eval ./game --world fen\n", "--world", "eval"},
		"eval of a variable":     {"shell", "W=fen\neval \"./game --world $W\"\n", "W", "eval"},
		"eval behind a command":  {"shell", "cd /srv && eval ./game --world fen\n", "--world", "eval"},
		"eval with a setting":    {"shell", "A=1 eval ./game --world fen\n", "--world", "eval"},
		"a substitution around":  {"shell", "x=$(./game --world fen)\n", "--world", "substitution"},
		"ticks around":           {"shell", "` ./game --world fen `\n", "--world", "substitution"},
		"a process substitution": {"shell", "cat <(./game --world fen)\n", "--world", "substitution"},
		"used in a substitution": {"shell", "W=fen\n./game --world \"$(echo \"$W\")\"\n", "W", "substitution"},
		"without quotes":         {"shell", "W=fen\n./game --world $W\n", "W", "without quotes"},
		"braces without quotes":  {"shell", "W=fen\n./game --world ${W}\n", "W", "without quotes"},
		"another shell":          {"shell", "W=fen\nsh -c \"./game --world $W\"\n", "W", "longer text"},
		"a terminal's session":   {"shell", "W=fen\nscreen -dm sh -c './game --world $W'\n", "W", "another shell"},
		"a command line kept":    {"shell", "W=fen\nC=\"./game --world $W\"\n$C\n", "W", "longer text"},
		"arithmetic":             {"shell", "W=1\n./game --world \"$((W+1))\"\n", "W", "number"},
		"a comparison":           {"shell", "W=1\n[[ \"$W\" -eq 1 ]] && ./game --world \"$W\"\n", "W", "number"},
		"let":                    {"shell", "W=1\nlet X=W+1\n", "W", "number"},
		"a document within":      {"shell", "sh <<EOF\n./game --world fen\nEOF\n", "--world", "document"},
		"batch without quotes":   {"batch", "set W=fen\r\ngame -world %W%\r\n", "W", ""},
		"batch, an argument":     {"batch", "game -world fen\r\n", "-world", "meaning"},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			doc, err := settings.Parse("start", settings.Syntax{Format: c.format}, []byte(c.script))
			require.NoError(t, err)
			value := risky
			if c.format == "batch" {
				value = "a & del x"
			}
			_, err = doc.Set(c.key, value)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.why)
			after, err := doc.Set(c.key, "moor-2")
			require.NoError(t, err, "a plain value is written")
			got, _ := after.Get(c.key)
			assert.Equal(t, "moor-2", got.Value)
		})
	}
}

func TestAShellGivesTheGameWhatWasWritten(t *testing.T) {
	t.Parallel()
	values := []string{"$(touch owned)", "fen garden", "a;b", "`id`", "*", "it's \"here\"", `back\slash`, "$HOME", "-x",
		""}
	for what, script := range map[string]string{
		"an argument":             "printf '%s' ARGS --world old\n",
		"in double quotes":        "printf '%s' ARGS --world \"old\"\n",
		"in single quotes":        "printf '%s' ARGS --world 'old'\n",
		"a variable in quotes":    "W=old\nprintf '%s' ARGS --world \"$W\"\n",
		"a variable in one word":  "W=old\nprintf '%s' ARGS --world=\"$W\"\n",
		"beside another's folder": "cd \"$(dirname \"$0\")\"\nprintf '%s' ARGS --world old\n",
	} {
		for _, value := range values {
			doc, err := settings.Parse("start.sh", settings.Syntax{Format: "shell"}, []byte(script))
			require.NoError(t, err)
			key := "--world"
			if what == "a variable in one word" {
				key = "W"
			}
			after, err := doc.Set(key, value)
			if err != nil {
				continue // refused is safe
			}
			cmd := exec.Command("sh", "-s")
			cmd.Dir = t.TempDir()
			cmd.Stdin = strings.NewReader(
				strings.Replace(string(after.Bytes()), "printf '%s' ARGS", "printf '<%s>'", 1))
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s %q: %s", what, value, out)
			want := "<--world><" + value + ">"
			if what == "a variable in one word" {
				want = "<--world=" + value + ">"
			}
			assert.Equal(t, want, string(out), what)
		}
	}
}

// A value that would end its own quotes is no value of a format without escapes.
func TestFormatsWithoutEscapesRefuseQuotesAndSeparators(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ format, line, document, key, value string }{
		{"lines", "set {key} {value}", "set a \"b\"\n", "a", `x"; quit; "`},
		{"lines", "set {key} {value}", "set a b\n", "a", "x;quit"},
		{"ini", "", "[s]\nk=\"v\"\n", "s/k", `x" y`},
		{"batch", "", "set W=old\r\ngame \"%W%\"\r\n", "W", "x) & del y"},
		{"batch", "", "set W=old\r\ngame \"%W%\"\r\n", "W", `x" y`},
		{"batch", "", "game -w \"old\"\r\n", "-w", `C:\x y\`},
	} {
		doc, err := settings.Parse("f", settings.Syntax{Format: c.format, Line: c.line}, []byte(c.document))
		require.NoError(t, err)
		_, err = doc.Set(c.key, c.value)
		assert.Error(t, err, "%s %q", c.format, c.value)
	}
}
