package settings_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/core/settings"
)

func TestSetTouchesNothingElse(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, format, key, value string
		in, out                  string
	}{
		{"plain", "properties", "world.folder", "fen", "a=1\nworld.folder=old\nb=2\n", "a=1\nworld.folder=fen\nb=2\n"},
		{"CRLF", "properties", "world.folder", "fen", "a=1\r\nworld.folder = old\r\n", "a=1\r\nworld.folder = fen\r\n"},
		{"byte-order mark", "properties", "world.folder", "fen", "\xef\xbb\xbfworld.folder=old\n", "\xef\xbb\xbfworld.folder=fen\n"},
		{"byte-order mark, key absent", "properties", "world.folder", "fen", "\xef\xbb\xbf", "\xef\xbb\xbfworld.folder=fen\n"},
		{"no last newline", "properties", "world.folder", "fen", "a=1\nworld.folder: old", "a=1\nworld.folder: fen"},
		{"absent, no last newline, CRLF", "properties", "world.folder", "fen", "x=1\r\na=1", "x=1\r\na=1\r\nworld.folder=fen\r\n"},
		{"repeated key: the last, effective one", "properties", "k", "new", "k=1\n# k=2\nk=3\n", "k=1\n# k=2\nk=new\n"},
		{"key only in a comment", "properties", "k", "v", "#k=old\n! k=old\n", "#k=old\n! k=old\nk=v\n"},
		{"continued value", "properties", "k", "v", "k=one \\\n   two\nz=1\n", "k=v\nz=1\n"},
		{"value with blanks at its end", "properties", "k", "fen ", "k=old\n", "k=fen \n"},
		{"leading blank is escaped", "properties", "k", " fen", "k=old\n", "k=\\ fen\n"},
		{"emoji", "properties", "k", "🍎 x", "k=old\n", "k=🍎 x\n"},
		{"Latin-1 bytes elsewhere stay", "properties", "k", "v", "c=caf\xe9\nk=old\n", "c=caf\xe9\nk=v\n"},
		{"blank separator", "properties", "k", "v", "k old\n", "k v\n"},
		{"empty value", "properties", "k", "v", "k=\nz=2", "k=v\nz=2"},
		{"key without separator", "properties", "k", "v", "z=2\nk=", "z=2\nk=v"},
		{"key-value", "key-value", "map-dir", "worlds/fen", "# c\nmap-dir = worlds/old  \nport = 3\n", "# c\nmap-dir = worlds/fen  \nport = 3\n"},
		{"key-value group before", "key-value", "seed", "7", "np = {\n seed = 1\n in = {\n seed = 3\n }\n}\nseed = 2\n", "np = {\n seed = 1\n in = {\n seed = 3\n }\n}\nseed = 7\n"},
		{"key-value text block", "key-value", "seed", "7", "motd = \"\"\"\nseed = 1\n\"\"\"\nseed = 2", "motd = \"\"\"\nseed = 1\n\"\"\"\nseed = 7"},
		{"ini: the right section", "ini", "World/Name", "fen", "Name=top\n[Rules]\nName=no\n[World]\nName = old\n", "Name=top\n[Rules]\nName=no\n[World]\nName = fen\n"},
		{"ini: section with slashes and dots", "ini", "/Script/Game.Rules/Name", "fen", "[/Script/Game.Rules]\r\nName=old\r\n", "[/Script/Game.Rules]\r\nName=fen\r\n"},
		{"ini: quotes are kept", "ini", "W/Name", "fen garden", "[W]\nName=\"old one\"\n", "[W]\nName=\"fen garden\"\n"},
		{"ini: a blank at an end gets quotes", "ini", "W/Name", "fen ", "[W]\nName=old\n", "[W]\nName=\"fen \"\n"},
		{"ini: added to its section", "ini", "W/Seed", "7", "[W]\nName=old\n\n[Rules]\nSeed=1\n", "[W]\nName=old\nSeed=7\n\n[Rules]\nSeed=1\n"},
		{"ini: a section is made", "ini", "W/Seed", "7", "[Rules]\r\nSeed=1", "[Rules]\r\nSeed=1\r\n[W]\r\nSeed=7\r\n"},
		{"ini: before the first section", "ini", "Seed", "7", "; note\n[Rules]\nSeed=1\n", "; note\nSeed=7\n[Rules]\nSeed=1\n"},
		{"env: bare", "env", "WORLD", "fen", "# WORLD=no\nexport WORLD=old # kept\nPORT=1\n", "# WORLD=no\nexport WORLD=fen # kept\nPORT=1\n"},
		{"env: single quotes are kept", "env", "WORLD", "fen $garden", "WORLD='old one'\n", "WORLD='fen $garden'\n"},
		{"env: double quotes and escapes", "env", "WORLD", "a \"b\" $c \\", "WORLD=\"old \\\"x\\\"\"\n", "WORLD=\"a \\\"b\\\" \\$c \\\\\"\n"},
		{"env: quotes come where they are needed", "env", "WORLD", "fen garden", "WORLD=old", "WORLD=\"fen garden\""},
		{"env: added", "env", "SEED", "-7", "WORLD=old", "WORLD=old\nSEED=-7\n"},
		{"json: a string", "json", "/world/name", "fen \"g\" <é>", "{\n  \"world\": {\"name\": \"old\", \"seed\": 1}\n}\n", "{\n  \"world\": {\"name\": \"fen \\\"g\\\" <é>\", \"seed\": 1}\n}\n"},
		{"json: a number stays one", "json", "/seed", "-9223372036854775808", "{\"seed\": 1}", "{\"seed\": -9223372036854775808}"},
		{"json: a word stays one", "json", "/resume", "true", "{\"resume\": false}", "{\"resume\": true}"},
		{"json: a number becomes text", "json", "/seed", "my seed", "{\"seed\": 1}", "{\"seed\": \"my seed\"}"},
		{"json: text that looks like a number stays text", "json", "/name", "7", "{\"name\": \"old\"}", "{\"name\": \"7\"}"},
		{"json: comments and a last comma", "json", "/a/1", "x", "// \"a\": 1\n{ \"a\": [ 1, /* two */ \"y\", ], }", "// \"a\": 1\n{ \"a\": [ 1, /* two */ \"x\", ], }"},
		{"json: added on a line of its own", "json", "/seed", "7", "{\r\n\t\"name\": \"fen\" // note\r\n}", "{\r\n\t\"name\": \"fen\",\r\n\t\"seed\": \"7\" // note\r\n}"},
		{"json: added before a last comma", "json", "/seed", "7", "{\"name\": \"fen\",}", "{\"name\": \"fen\", \"seed\": \"7\",}"},
		{"json: added to an empty object", "json", "/w/seed", "7", "{\"w\": {}}", "{\"w\": {\"seed\": \"7\"}}"},
		{"json: an escaped pointer", "json", "/a~1b", "x", "{\"a/b\": \"y\"}", "{\"a/b\": \"x\"}"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			doc, err := settings.Parse("f", c.format, []byte(c.in))
			require.NoError(t, err)
			next, err := doc.Set(c.key, c.value)
			require.NoError(t, err)
			assert.Equal(t, c.out, string(next.Bytes()))
			got, ok := next.Get(c.key)
			assert.True(t, ok)
			assert.Equal(t, c.value, got.Value)
		})
	}
}

func TestReadsEscapesAndRepeats(t *testing.T) {
	t.Parallel()
	doc, err := settings.Parse("f", "properties", []byte("a\\ b = caf\\u00e9 \\ud83c\\udf4e\nk=1\nk=2\n"))
	require.NoError(t, err)
	e, _ := doc.Get("a b")
	assert.Equal(t, "café 🍎", e.Value)
	assert.Len(t, doc.All("k"), 2)
	k, _ := doc.Get("k")
	assert.Equal(t, "2", k.Value)
	assert.Equal(t, 3, k.Line)
}

func TestRefusals(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ format, in, key, value string }{
		"line break in key-value":     {"key-value", "k = 1\n", "k", "a\nb"},
		"blank at the end, key-value": {"key-value", "k = 1\n", "k", "a "},
		"block mark as value":         {"key-value", "k = 1\n}\n", "k", "{"},
		"invalid UTF-8":               {"properties", "k=1\n", "k", "\xff"},
		"line break in ini":           {"ini", "k=1\n", "k", "a\nb"},
		"line break in env":           {"env", "K=1\n", "K", "a\nb"},
		"no name for a variable":      {"env", "K=1\n", "no name", "a"},
		"no object to add to":         {"json", "{\"a\": 1}", "/b/c", "x"},
		"no pointer":                  {"json", "{\"a\": 1}", "b", "x"},
	} {
		doc, err := settings.Parse("f", c.format, []byte(c.in))
		require.NoError(t, err, name)
		_, err = doc.Set(c.key, c.value)
		assert.ErrorIs(t, err, fault.BadSettings.As(), name)
	}
	for name, c := range map[string]struct{ format, in string }{
		"UTF-16":        {"properties", "\xff\xfek\x00=\x001\x00"},
		"bad escape":    {"properties", "k=\\u00g1\n"},
		"endless block": {"key-value", "k = {\n a = 1\n"},
		"no format":     {"toml2", ""},
		"open bracket":  {"ini", "[Rules\nk=1\n"},
		"open quote":    {"env", "K=\"1\n"},
		"cut short":     {"json", "{\"a\": "},
		"two values":    {"json", "{} {}"},
		"no comma":      {"json", "{\"a\": 1 \"b\": 2}"},
		"bare word":     {"json", "{\"a\": yes}"},
		"too deep":      {"json", strings.Repeat("[", 100)},
		"open comment":  {"json", "{ /* \"a\": 1 }"},
	} {
		_, err := settings.Parse("f", c.format, []byte(c.in))
		assert.ErrorIs(t, err, fault.BadSettings.As(), name)
	}
}

func TestDiff(t *testing.T) {
	t.Parallel()
	assert.Empty(t, settings.Diff("f", []byte("a"), []byte("a")))
	assert.Contains(t, settings.Diff("f", []byte("a=1\r\nb=2\r\n"), []byte("a=1\r\nb=3\r\n")), "-b=2\n+b=3\n")
}

// Whatever the document and the value: a Set that succeeds reads back, and the
// bytes before and after the value are the ones that were there.
func FuzzSet(f *testing.F) {
	f.Add("properties", []byte("a=1\r\nk = 2\\\n 3\n#x"), "k", "v")
	f.Add("key-value", []byte("\xef\xbb\xbfa = {\nk = 2\n}\nk = 3"), "k", "v w")
	f.Add("properties", []byte("k"), "k", "=x")
	f.Add("ini", []byte("[s]\r\nk = \"1\"\n[t]\n"), "s/k", " v")
	f.Add("env", []byte("export K='a b' # c\n"), "K", "it's")
	f.Add("json", []byte("{\"a\": [1, {\"k\": null,},], // c\n}"), "/a/1/k", "true")
	f.Fuzz(func(t *testing.T, format string, data []byte, key, value string) {
		doc, err := settings.Parse("f", format, data)
		if err != nil {
			return
		}
		next, err := doc.Set(key, value)
		if err != nil {
			return
		}
		got, ok := next.Get(key)
		if !ok || got.Value != value {
			t.Fatalf("set %q to %q, read %q", key, value, got.Value)
		}
		before, after := doc.Bytes(), next.Bytes()
		prefix := 0
		for prefix < len(before) && prefix < len(after) && before[prefix] == after[prefix] {
			prefix++
		}
		if old, had := doc.Get(key); !had {
			// What was added stands in one place; all else is as it was.
			suffix := 0
			for suffix < len(before)-prefix && before[len(before)-1-suffix] == after[len(after)-1-suffix] {
				suffix++
			}
			if prefix+suffix < len(before) {
				t.Fatalf("an added key changed other bytes: %q -> %q", before, after)
			}
		} else if len(doc.All(key)) != len(next.All(key)) {
			t.Fatalf("occurrences of %q changed from line %d", key, old.Line)
		}
	})
}
