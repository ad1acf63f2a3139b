package settings_test

import (
	"testing"

	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/settings"
)

// Whatever the document and the value: a Set that succeeds reads back, and the
// bytes before and after the value are the ones that were there. make fuzz runs
// each target for a minute; go test runs their seeds.

func FuzzSetProperties(f *testing.F) {
	f.Add([]byte("a=1\r\nk = 2\\\n 3\n#x"), "k", "v")
	f.Add([]byte("k"), "k", "=x")
	fuzzSet(f, "properties")
}

func FuzzSetKeyValue(f *testing.F) {
	f.Add([]byte("\xef\xbb\xbfa = {\nk = 2\n}\nk = 3"), "k", "v w")
	fuzzSet(f, "key-value")
}

func FuzzSetINI(f *testing.F) {
	f.Add([]byte("[s]\r\nk = \"1\"\n[t]\n"), "s/k", " v")
	fuzzSet(f, "ini")
}

func FuzzSetEnv(f *testing.F) {
	f.Add([]byte("export K='a b' # c\n"), "K", "it's")
	fuzzSet(f, "env")
}

func FuzzSetJSON(f *testing.F) {
	f.Add([]byte("{\"a\": [1, {\"k\": null,},], // c\n}"), "/a/1/k", "true")
	fuzzSet(f, "json")
}

func FuzzSetYAML(f *testing.F) {
	f.Add([]byte("a: &x {k: 'v'}\r\nb:\n- k: 1 # c\n- *x\n"), "/b/0/k", "on")
	fuzzSet(f, "yaml")
}

func FuzzSetTOML(f *testing.F) {
	f.Add([]byte("[[a]]\nk.b = [1, {x = 'y'}] # c\n[a.c]\r\nz = 1979-05-27\n"), "/a/0/k/b/1/x", "it's")
	fuzzSet(f, "toml")
}

func FuzzSetXML(f *testing.F) {
	f.Add([]byte("<?xml version='1.0'?><a b=\"c\"><p name='k' v='1'/>x &amp; <!-- k --></a>"), "/a/p[@name='k']/@v",
		"<")
	fuzzSet(f, "xml")
}

func FuzzSetShell(f *testing.F) {
	f.Add([]byte("W=1 # c\nexec ./g -w \"$W\" --x='y' \\\n +s 3; y"), "-w", "a b")
	fuzzSet(f, "shell")
}

func FuzzSetBatch(f *testing.F) {
	f.Add([]byte("set \"W=1\"\r\ng.exe -w %W% ^\r\n /x \"y\""), "-w", "a b")
	fuzzSet(f, "batch")
}

func FuzzSetLines(f *testing.F) {
	f.Add([]byte("set k \"v\" \n#"), "k", "a b")
	fuzzSet(f, "lines: set {key} {value}")
}

func FuzzSetUTF16(f *testing.F) {
	f.Add([]byte("[\x00s\x00]\x00\n\x00k\x00=\x001\x00"), "s/k", "é")
	fuzzSet(f, "ini in utf-16le")
}

func FuzzSetLatin1(f *testing.F) {
	f.Add([]byte("k=\xe9\n"), "k", "é")
	fuzzSet(f, "properties in latin-1")
}

func fuzzSet(f *testing.F, format string) {
	f.Helper()
	f.Fuzz(func(t *testing.T, data []byte, key, value string) {
		var doc, next *settings.Document
		var err error
		budgettest.Within(t, func() {
			if doc, err = settings.Parse("f", syntax(format), data); err == nil {
				next, err = doc.Set(key, value)
			}
		})
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
