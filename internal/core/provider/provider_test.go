package provider_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/provider"
	"reshard/providers"
)

func TestTheExampleIsRead(t *testing.T) {
	t.Parallel()
	d, err := provider.Parse("example", providers.Example())
	require.NoError(t, err)
	method, path := d.Start.Request.Method()
	assert.Equal(t, "POST", method)
	values := provider.Values{"machine": "a/../b c", "line": `say "hi"`, "secret": "x"}
	assert.Equal(t, "/gate/plots/a%2F..%2Fb%20c/rest", values.Path(path))
	body, err := values.JSON(d.Console.Request.JSON)
	require.NoError(t, err)
	assert.JSONEq(t, `{"words": "say \"hi\""}`, string(body))
	word, err := d.State.Word.In([]byte(`{"plot": {"rests": "awake"}}`))
	require.NoError(t, err)
	assert.Equal(t, "awake", word)
	_, err = d.State.Word.In([]byte(`{"plot": []}`))
	assert.ErrorContains(t, err, `no "rests"`)
	_, err = d.State.Word.In([]byte(`<html>`))
	assert.ErrorContains(t, err, "no JSON")
}

func TestComplaints(t *testing.T) {
	t.Parallel()
	good := string(providers.Example())
	for name, c := range map[string]struct{ from, to, want string }{
		"another language": {"provider/1", "provider/2", `this one says "provider/2"`},
		"an unknown key":   {"log:\n", "logs:\n", "unknown field"},
		"another origin": {`"/gate/plots/{machine}/"`, `"https://elsewhere.example/x"`,
			"no path from the origin"},
		"a path to another host":  {`"/gate/plots/{machine}/"`, `"//elsewhere.example/x"`, "no path from the origin"},
		"what nothing fills":      {"{line}", "{word}", "nothing fills {word} here"},
		"no line":                 {"{line}", "x", "nothing in it is {line}"},
		"two methods":             {"{get: \"/gate/plots/{machine}/\"}", "{get: /a, post: /b}", "this one names 2"},
		"no pointer":              {"pick: /plot/rests", "pick: plot.rests", "begins with a slash"},
		"a word of two states":    {"starting: [waking]", "starting: [awake]", `"awake" is a word for running, too`},
		"no words":                {"stopped: [asleep]", "stopped: []", "words for a server that is down are missing"},
		"a token nobody uses":     {"Gate {token}", "Gate", "nothing uses it"},
		"a body of a get":         {"{get: \"/gate/plots/{machine}/\"}", "{get: /a, form: {b: c}}", "has no body"},
		"kills what is started":   {"start: {request", "start: {kills-after: 3s, request", "that is for stop"},
		"a log from nowhere":      {"log:\n", "log:\n  by: pigeon\n", `not by "pigeon"`},
		"a place in a stream":     {"log:\n", "log:\n  by: events\n", "that is for a log that is asked for"},
		"a greeting nobody hears": {"log:\n", "log:\n  say: hello\n", "that is for a log that comes by websocket"},
		"an upload of nothing":    {", file: body}", "}", "where the file goes is missing"},
		"no limit":                {"limit: 8 MiB", "limit: much", "how large a file may be is missing"},
		"a format":                {"format: tar.gz", "format: arj", `not "arj"`},
		"nowhere to unpack":       {`into: "{into}"`, `into: "x"`, "nothing in it is {into}"},
		"a file elsewhere":        {"read: {get:", "read: {file: body, get:", "that is for upload"},
		"no pages":                {`{from: "{page}"}`, `{from: "1"}`, "{page} belongs in the request"},
		"removing what":           {"/shelf/{backup}", "/shelf/all", "nothing in it is {backup}"},
		"an answer too late": {"format: tar.gz\n  request:\n", "format: tar.gz\n  request:\n    takes: 3h\n",
			"takes no longer"},
		"an expression of no use": {"{pick: /plot/rests}", "{find: 'a(b)'}", "needs a group"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			require.Contains(t, good, c.from)
			d, complaints := provider.Lint([]byte(strings.Replace(good, c.from, c.to, 1)))
			assert.Nil(t, d)
			var all []string
			for _, one := range complaints {
				all = append(all, one.String())
				assert.Positive(t, one.Line)
			}
			assert.Contains(t, strings.Join(all, "\n"), c.want)
		})
	}
}

func FuzzLint(f *testing.F) {
	f.Add(providers.Example())
	f.Fuzz(func(_ *testing.T, data []byte) { _, _ = provider.Lint(data) })
}
