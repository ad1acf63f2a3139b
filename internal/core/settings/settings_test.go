package settings_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/core/settings"
)

// syntax reads "lines: PATTERN" and "FORMAT in ENCODING".
func syntax(s string) settings.Syntax {
	if line, ok := strings.CutPrefix(s, "lines: "); ok {
		return settings.Syntax{Format: "lines", Line: line}
	}
	format, encoding, _ := strings.Cut(s, " in ")
	return settings.Syntax{Format: format, Encoding: encoding}
}

func TestSetTouchesNothingElse(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, format, key, value string
		in, out                  string
	}{
		{"plain", "properties", "world.folder", "fen", "a=1\nworld.folder=old\nb=2\n", "a=1\nworld.folder=fen\nb=2\n"},
		{"CRLF", "properties", "world.folder", "fen", "a=1\r\nworld.folder = old\r\n", "a=1\r\nworld.folder = fen\r\n"},
		{"byte-order mark", "properties", "world.folder", "fen", "\xef\xbb\xbfworld.folder=old\n",
			"\xef\xbb\xbfworld.folder=fen\n"},
		{"byte-order mark, key absent", "properties", "world.folder", "fen", "\xef\xbb\xbf",
			"\xef\xbb\xbfworld.folder=fen\n"},
		{"no last newline", "properties", "world.folder", "fen", "a=1\nworld.folder: old", "a=1\nworld.folder: fen"},
		{"absent, no last newline, CRLF", "properties", "world.folder", "fen", "x=1\r\na=1",
			"x=1\r\na=1\r\nworld.folder=fen\r\n"},
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
		{"key-value", "key-value", "map-dir", "worlds/fen", "# c\nmap-dir = worlds/old  \nport = 3\n",
			"# c\nmap-dir = worlds/fen  \nport = 3\n"},
		{"key-value group before", "key-value", "seed", "7", "np = {\n seed = 1\n in = {\n seed = 3\n }\n}\nseed = 2\n",
			"np = {\n seed = 1\n in = {\n seed = 3\n }\n}\nseed = 7\n"},
		{"key-value text block", "key-value", "seed", "7", "motd = \"\"\"\nseed = 1\n\"\"\"\nseed = 2",
			"motd = \"\"\"\nseed = 1\n\"\"\"\nseed = 7"},
		{"ini: the right section", "ini", "World/Name", "fen", "Name=top\n[Rules]\nName=no\n[World]\nName = old\n",
			"Name=top\n[Rules]\nName=no\n[World]\nName = fen\n"},
		{"ini: section with slashes and dots", "ini", "/Script/Game.Rules/Name", "fen",
			"[/Script/Game.Rules]\r\nName=old\r\n", "[/Script/Game.Rules]\r\nName=fen\r\n"},
		{"ini: quotes are kept", "ini", "W/Name", "fen garden", "[W]\nName=\"old one\"\n",
			"[W]\nName=\"fen garden\"\n"},
		{"ini: a blank at an end gets quotes", "ini", "W/Name", "fen ", "[W]\nName=old\n", "[W]\nName=\"fen \"\n"},
		{"ini: added to its section", "ini", "W/Seed", "7", "[W]\nName=old\n\n[Rules]\nSeed=1\n",
			"[W]\nName=old\nSeed=7\n\n[Rules]\nSeed=1\n"},
		{"ini: a section is made", "ini", "W/Seed", "7", "[Rules]\r\nSeed=1", "[Rules]\r\nSeed=1\r\n[W]\r\nSeed=7\r\n"},
		{"ini: before the first section", "ini", "Seed", "7", "; note\n[Rules]\nSeed=1\n",
			"; note\nSeed=7\n[Rules]\nSeed=1\n"},
		{"env: bare", "env", "WORLD", "fen", "# WORLD=no\nexport WORLD=old # kept\nPORT=1\n",
			"# WORLD=no\nexport WORLD=fen # kept\nPORT=1\n"},
		{"env: single quotes are kept", "env", "WORLD", "fen $garden", "WORLD='old one'\n", "WORLD='fen $garden'\n"},
		{"env: double quotes and escapes", "env", "WORLD", "a \"b\" $c \\", "WORLD=\"old \\\"x\\\"\"\n",
			"WORLD=\"a \\\"b\\\" \\$c \\\\\"\n"},
		{"env: quotes come where they are needed", "env", "WORLD", "fen garden", "WORLD=old", "WORLD=\"fen garden\""},
		{"env: added", "env", "SEED", "-7", "WORLD=old", "WORLD=old\nSEED=-7\n"},
		{"json: a string", "json", "/world/name", "fen \"g\" <é>",
			"{\n  \"world\": {\"name\": \"old\", \"seed\": 1}\n}\n",
			"{\n  \"world\": {\"name\": \"fen \\\"g\\\" <é>\", \"seed\": 1}\n}\n"},
		{"json: a number stays one", "json", "/seed", "-9223372036854775808", "{\"seed\": 1}",
			"{\"seed\": -9223372036854775808}"},
		{"json: a word stays one", "json", "/resume", "true", "{\"resume\": false}", "{\"resume\": true}"},
		{"json: a number becomes text", "json", "/seed", "my seed", "{\"seed\": 1}", "{\"seed\": \"my seed\"}"},
		{"json: text that looks like a number stays text", "json", "/name", "7", "{\"name\": \"old\"}",
			"{\"name\": \"7\"}"},
		{"json: comments and a last comma", "json", "/a/1", "x", "// \"a\": 1\n{ \"a\": [ 1, /* two */ \"y\", ], }",
			"// \"a\": 1\n{ \"a\": [ 1, /* two */ \"x\", ], }"},
		{"json: added on a line of its own", "json", "/seed", "7", "{\r\n\t\"name\": \"fen\" // note\r\n}",
			"{\r\n\t\"name\": \"fen\",\r\n\t\"seed\": \"7\" // note\r\n}"},
		{"json: added before a last comma", "json", "/seed", "7", "{\"name\": \"fen\",}",
			"{\"name\": \"fen\", \"seed\": \"7\",}"},
		{"json: added to an empty object", "json", "/w/seed", "7", "{\"w\": {}}", "{\"w\": {\"seed\": \"7\"}}"},
		{"json: an escaped pointer", "json", "/a~1b", "x", "{\"a/b\": \"y\"}", "{\"a/b\": \"x\"}"},
		{"yaml: plain", "yaml", "/world/name", "fen", "# c\nworld:\n  name: old   # kept\n  seed: 12\n",
			"# c\nworld:\n  name: fen   # kept\n  seed: 12\n"},
		{"yaml: CRLF and a mark", "yaml", "/seed", "-7", "\xef\xbb\xbfname: é\r\nseed: 12\r\n",
			"\xef\xbb\xbfname: é\r\nseed: -7\r\n"},
		{"yaml: double quotes are kept", "yaml", "/a", "b \"c\" <é>", "a: \"old\"\n", "a: \"b \\\"c\\\" <é>\"\n"},
		{"yaml: single quotes are kept", "yaml", "/a", "it's", "a: 'ol''d' # c\n", "a: 'it''s' # c\n"},
		{"yaml: text that looks like a number gets quotes", "yaml", "/a", "12", "a: old\n", "a: \"12\"\n"},
		{"yaml: so does yes", "yaml", "/a", "yes", "a: old\n", "a: \"yes\"\n"},
		{"yaml: a truth value stays one", "yaml", "/a", "true", "a: false\n", "a: true\n"},
		{"yaml: in braces", "yaml", "/w/name", "fen, garden", "w: {name: old, seed: 1}\n",
			"w: {name: \"fen, garden\", seed: 1}\n"},
		{"yaml: in a list", "yaml", "/w/1/name", "fen", "w:\n- x\n- name: old\n  seed: 1\n",
			"w:\n- x\n- name: fen\n  seed: 1\n"},
		{"yaml: added at the top", "yaml", "/seed", "7", "world:\n  name: old\n", "world:\n  name: old\nseed: \"7\"\n"},
		{"yaml: added below", "yaml", "/world/mode", "fen", "world:\n    name: old\n    # note\nport: 1\n",
			"world:\n    name: old\n    # note\n    mode: fen\nport: 1\n"},
		{"yaml: added without a last newline", "yaml", "/b", "x", "a: 1", "a: 1\nb: x\n"},
		{"toml: text", "toml", "/world/name", "fen \"g\"", "# c\n[world]\nname = \"old\" # kept\nseed = 1\n",
			"# c\n[world]\nname = \"fen \\\"g\\\"\" # kept\nseed = 1\n"},
		{"toml: literal quotes are kept", "toml", "/world/path", "C:\\fen", "[world]\npath = 'C:\\old'\n",
			"[world]\npath = 'C:\\fen'\n"},
		{"toml: a number stays one", "toml", "/seed", "-9223372036854775808", "seed = 1\r\n",
			"seed = -9223372036854775808\r\n"},
		{"toml: a truth value stays one", "toml", "/resume", "true", "resume = false", "resume = true"},
		{"toml: dotted key and inline table", "toml", "/w/x/name", "fen", "w.x = { name = \"old\", n = [1, 2] }\n",
			"w.x = { name = \"fen\", n = [1, 2] }\n"},
		{"toml: the second table of a list", "toml", "/world/1/name", "fen",
			"[[world]]\nname = \"a\"\n[[world]]\nname = \"b\"\n",
			"[[world]]\nname = \"a\"\n[[world]]\nname = \"fen\"\n"},
		{"toml: added to its table", "toml", "/world/seed", "7", "[world]\nname = \"a\"\n\n[rules]\nx = 1\n",
			"[world]\nname = \"a\"\nseed = \"7\"\n\n[rules]\nx = 1\n"},
		{"toml: a table is made", "toml", "/my world/seed", "7", "x = 1", "x = 1\n[\"my world\"]\nseed = \"7\"\n"},
		{"xml: an element's text", "xml", "/server/world/name", "fen & <co>",
			"<?xml version=\"1.0\"?>\n<server>\n <!-- <name>no</name> -->\n <world seed=\"1\"><name> old " +
				"</name></world>\n</server>\n",
			"<?xml version=\"1.0\"?>\n<server>\n <!-- <name>no</name> -->\n <world seed=\"1\"><name> fen &amp; " +
				"&lt;co&gt; </name></world>\n</server>\n"},
		{"xml: an attribute", "xml", "/server/world/@seed", "-2", "<server><world a='x' seed = '1'/></server>",
			"<server><world a='x' seed = '-2'/></server>"},
		{"xml: one of several by its name", "xml", "/s/p[@name='World']/@value", "fen",
			"<s>\r\n\t<p name=\"Port\" value=\"1\"/>\r\n\t<p name=\"World\" value=\"old\"/>\r\n</s>",
			"<s>\r\n\t<p name=\"Port\" value=\"1\"/>\r\n\t<p name=\"World\" value=\"fen\"/>\r\n</s>"},
		{"xml: an empty element", "xml", "/s/n", "fen", "<s><n></n></s>", "<s><n>fen</n></s>"},
		{"xml: added to its parent", "xml", "/s/w/seed", "7", "<s>\n  <w>\n    <n>a</n>\n  </w>\n</s>",
			"<s>\n  <w>\n    <n>a</n>\n    <seed>7</seed>\n  </w>\n</s>"},
		{"shell: two words", "shell", "--world", "fen",
			"#!/bin/sh\n# --world no\nexec ./game --port 1 --world old --resume # c\n",
			"#!/bin/sh\n# --world no\nexec ./game --port 1 --world fen --resume # c\n"},
		{"shell: one word", "shell", "--world", "fen garden", "./game --world='old' -v\n",
			"./game --world='fen garden' -v\n"},
		{"shell: quotes come where they are needed", "shell", "--world", "fen $g", "./game --world old\n",
			"./game --world \"fen \\$g\"\n"},
		{"shell: over continued lines", "shell", "-g", "save/fen.sav", "./game \\\n  -D 1 \\\n  -g save/old.sav\n",
			"./game \\\n  -D 1 \\\n  -g save/fen.sav\n"},
		{"shell: a variable of the script", "shell", "--world", "fen", "WORLD=old\n./game --world \"$WORLD\"\n",
			"WORLD=fen\n./game --world \"$WORLD\"\n"},
		{"shell: plus arguments, last one counts", "shell", "+map", "fen", "./game +map a; ./game +map b\n",
			"./game +map a; ./game +map fen\n"},
		{"batch: two words, CRLF", "batch", "-world", "fen garden",
			"@echo off\r\nrem -world no\r\ngame.exe -world old ^\r\n -port 1\r\n",
			"@echo off\r\nrem -world no\r\ngame.exe -world \"fen garden\" ^\r\n -port 1\r\n"},
		{"batch: a variable of the script", "batch", "-world", "fen garden",
			"set \"WORLD=old one\"\r\ngame.exe -world \"%WORLD%\"\r\n",
			"set \"WORLD=fen garden\"\r\ngame.exe -world \"%WORLD%\"\r\n"},
		{"lines: a pattern of the game's own", "lines: set {key} {value}", "world", "fen garden",
			"// c\nset  world   old\nbind x y\n", "// c\nset  world   \"fen garden\"\nbind x y\n"},
		{"lines: with an end", "lines: {key} => {value};", "seed", "-7", "world => a;\r\nseed => 1 ;\r\n",
			"world => a;\r\nseed => -7 ;\r\n"},
		{"lines: added", "lines: set {key} {value}", "seed", "7", "set world a", "set world a\nset seed 7\n"},
		{"UTF-16, little end first", "ini", "W/Name", "fén",
			"\xff\xfe[\x00W\x00]\x00\r\x00\n\x00N\x00a\x00m\x00e\x00=\x00o\x00\xe9\x00\r\x00\n\x00",
			"\xff\xfe[\x00W\x00]\x00\r\x00\n\x00N\x00a\x00m\x00e\x00=\x00f\x00\xe9\x00n\x00\r\x00\n\x00"},
		{"UTF-16, big end first, no mark", "properties in utf-16be", "k", "v", "\x00k\x00=\x001\x00\n",
			"\x00k\x00=\x00v\x00\n"},
		{"Latin-1 is written as such", "properties", "k", "été", "c=caf\xe9\nk=old\n", "c=caf\xe9\nk=\xe9t\xe9\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			doc, err := settings.Parse("f", syntax(c.format), []byte(c.in))
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
	doc, err := settings.Parse("f", syntax("properties"), []byte("a\\ b = caf\\u00e9 \\ud83c\\udf4e\nk=1\nk=2\n"))
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
		"yaml: a block of text":       {"yaml", "a: |\n  x\n", "/a", "y"},
		"yaml: no mapping to add to":  {"yaml", "a: 1\n", "/b/c", "x"},
		"yaml: added in braces":       {"yaml", "a: {b: 1}\n", "/a/c", "x"},
		"toml: no pointer":            {"toml", "a = 1\n", "b", "x"},
		"xml: CDATA":                  {"xml", "<a><![CDATA[x]]></a>", "/a", "y"},
		"xml: an attribute to add":    {"xml", "<a/>", "/a/@b", "y"},
		"xml: a blank at the end":     {"xml", "<a>x</a>", "/a", "y "},
		"shell: an argument to add":   {"shell", "./game\n", "--world", "fen"},
		"shell: worked out":           {"shell", "./game --world \"$1\"\n", "--world", "fen"},
		"shell: no value there":       {"shell", "./game --resume\n", "--resume", "fen"},
		"batch: a meaning of its own": {"batch", "game -w old\n", "-w", "50%"},
		"lines: line break":           {"lines: set {key} {value}", "set a b\n", "a", "x\ny"},
		"Latin-1 has no such letter":  {"properties", "k=\xe9\n", "k", "🍎"},
	} {
		doc, err := settings.Parse("f", syntax(c.format), []byte(c.in))
		require.NoError(t, err, name)
		_, err = doc.Set(c.key, c.value)
		assert.ErrorIs(t, err, fault.BadSettings.As(), name)
	}
	for name, c := range map[string]struct{ format, in string }{
		"half UTF-16":   {"properties", "\xff\xfek\x00=\x001\x00\x00\xd8"},
		"no text":       {"properties", "k=\x00\n"},
		"no encoding":   {"properties in ebcdic", "k=1\n"},
		"no yaml":       {"yaml", "a: [1\n"},
		"deep yaml":     {"yaml", strings.Repeat("[", 200)},
		"no toml":       {"toml", "a = \n"},
		"repeated toml": {"toml", "a = 1\na = 2\n"},
		"no xml":        {"xml", "<a><b></a>"},
		"open xml":      {"xml", "<a>"},
		"no line":       {"lines", "a"},
		"bad line":      {"lines: {key}{value}", "a"},
		"open quote sh": {"shell", "./game 'x\n"},
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
		_, err := settings.Parse("f", syntax(c.format), []byte(c.in))
		assert.ErrorIs(t, err, fault.BadSettings.As(), name)
	}
}

func TestDiff(t *testing.T) {
	t.Parallel()
	assert.Empty(t, settings.Diff("f", []byte("a"), []byte("a")))
	assert.Contains(t, settings.Diff("f", []byte("a=1\r\nb=2\r\n"), []byte("a=1\r\nb=3\r\n")), "-b=2\n+b=3\n")
}
