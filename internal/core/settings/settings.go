// Package settings reads settings documents and edits them without touching
// any other byte: comments, order, quotes, line endings, a byte-order mark and
// a missing last newline stay as they are.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"reshard/internal/core/fault"
)

// Entry is one occurrence of a key in a document.
type Entry struct {
	Key   string
	Value string // decoded
	Line  int    // of the key, from 1
	// start and end bound the raw value in the document's bytes.
	start, end int
	// fixed says why the value can be read and not be edited; "" when it can.
	fixed string
	// plain says why only a plain value may be written there; "" when any may.
	plain string
	// bare values run to the end of their line and know no quotes.
	bare bool
}

// format is what a settings format must know; everything else is shared: encodings, the
// edit itself, and the check after it. A document after an edit is scanned again, and the
// edit is refused when any other entry reads differently, so that a format that is wrong
// about its own syntax loses nothing. Formats keep nothing between calls, and any document
// that anybody has written may be given to them.
type format interface {
	// scan lists the entries of a document (UTF-8, no byte-order mark) in order, each with
	// the place of its raw value. A key that stands twice is two entries. The error says in
	// which line the document is not of this format, and is for people.
	scan(data []byte) ([]Entry, error)
	// encode writes a value so that scan gives it back, or says why it cannot.
	// was is the raw value that stands there, whose quoting is kept; "" for none.
	encode(value, was string) (string, error)
	// add gives the document with a new entry, in which every byte that was there before
	// still is; ending is the document's line ending. The error says what must be there
	// for the key to have a place.
	add(data []byte, key, value, ending string) ([]byte, error)
}

var formats = map[string]format{
	"properties": properties{},
	"key-value":  keyValue{},
	"ini":        ini{},
	"env":        env{},
	"json":       jsonc{},
	"yaml":       yamlFormat{},
	"toml":       tomlFormat{},
	"xml":        xmlFormat{},
	"shell":      script{dialect: shell},
	"batch":      script{dialect: batch},
}

// linesFormat is the name of the format whose lines follow a pattern.
const linesFormat = "lines"

// Formats lists the formats that can be read and edited.
func Formats() []string {
	names := []string{linesFormat}
	for n := range formats {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// Syntax says how a settings document is written.
type Syntax struct {
	// Format is one of Formats.
	Format string `json:"format"`
	// Line is the pattern of a line of the format lines, with {key} and {value}.
	Line string `json:"line,omitempty"`
	// Encoding is one of Encodings; empty: found out from the bytes.
	Encoding string `json:"encoding,omitempty"`
}

// Check says what is wrong with a syntax, nil when nothing is.
func (s Syntax) Check() error {
	_, err := s.format()
	return err
}

func (s Syntax) format() (format, error) {
	if (s.Format == linesFormat) != (s.Line != "") {
		return nil, fmt.Errorf("line goes with the format lines, and the other way round")
	}
	if s.Format == linesFormat {
		return newLines(s.Line)
	}
	if f, ok := formats[s.Format]; ok {
		return f, nil
	}
	return nil, fmt.Errorf("unknown format %q", s.Format)
}

// Document is a parsed settings document. It is immutable.
type Document struct {
	name    string
	format  format
	text    textForm
	data    []byte // as stored
	body    []byte // as UTF-8, without a mark; entries stand here
	entries []Entry
}

// Parse reads a document. name is used in messages. The error has code
// BadSettings.
func Parse(name string, syntax Syntax, data []byte) (*Document, error) {
	f, err := syntax.format()
	if err != nil {
		return nil, fault.Wrap(fault.BadSettings, "read settings", name, err)
	}
	if len(data) > LongestDocument {
		return nil, fault.New(fault.BadSettings, "read settings", name,
			"%d bytes are more than a settings file may have (%d)", len(data), LongestDocument)
	}
	d := &Document{name: name, format: f, data: data}
	if d.text, d.body, err = decodeText(syntax.Encoding, data); err != nil {
		return nil, fault.Wrap(fault.BadSettings, "read settings", name, err)
	}
	if i := bytes.IndexByte(d.body, 0); i >= 0 {
		return nil, fault.New(fault.BadSettings, "read settings", name, "character %d is zero: this is no text file", i)
	}
	if d.entries, err = scanned(f, d.body); err != nil {
		return nil, fault.Wrap(fault.BadSettings, "read settings", name, err)
	}
	return d, nil
}

// Bytes gives the document as it was parsed.
func (d *Document) Bytes() []byte { return bytes.Clone(d.data) }

// Entries gives all entries in order.
func (d *Document) Entries() []Entry { return slices.Clone(d.entries) }

// Text gives the document as UTF-8.
func (d *Document) Text() string { return string(d.body) }

// Map gives each key's effective value.
func (d *Document) Map() map[string]any {
	m := make(map[string]any, len(d.entries))
	for _, e := range d.entries {
		m[e.Key] = e.Value
	}
	return m
}

// All gives every occurrence of a key, in order. The last one is effective: in
// every format here a later line beats an earlier one.
func (d *Document) All(key string) []Entry {
	var out []Entry
	for _, e := range d.entries {
		if e.Key == key {
			out = append(out, e)
		}
	}
	return out
}

// Get gives a key's effective entry.
func (d *Document) Get(key string) (Entry, bool) {
	all := d.All(key)
	if len(all) == 0 {
		return Entry{}, false
	}
	return all[len(all)-1], true
}

// Set gives the document with a key's effective value changed. Every byte
// outside that value stays; a key that is not there is added in the format's
// way. The result is parsed again before it is given out, and it is an error if
// anything but the one value reads differently.
func (d *Document) Set(key, value string) (*Document, error) {
	fail := func(err error) (*Document, error) {
		return nil, fault.Wrap(fault.BadSettings, "set "+key+" in", d.name, err)
	}
	var body []byte
	if e, ok := d.Get(key); ok {
		if e.Value == value {
			return d, nil
		}
		if e.fixed != "" {
			return fail(errors.New(e.fixed + "; change it by hand"))
		}
		raw, err := d.encode(e, value)
		if err == nil {
			err = notPlain(value, e.plain)
		}
		if err != nil {
			return fail(err)
		}
		body = slices.Concat(d.body[:e.start], []byte(raw), d.body[e.end:])
	} else {
		var err error
		if body, err = d.format.add(d.body, key, value, lineEnding(d.body)); err != nil {
			return fail(err)
		}
	}
	next := &Document{name: d.name, format: d.format, text: d.text, body: body}
	var err error
	if next.data, err = d.text.encode(body); err != nil {
		return fail(err)
	}
	if next.entries, err = scanned(d.format, body); err != nil {
		return fail(err)
	}
	if err := d.onlyChanged(next, key, value); err != nil {
		return nil, err
	}
	return next, nil
}

func (d *Document) encode(e Entry, value string) (string, error) {
	if !e.bare {
		return d.format.encode(value, string(d.body[e.start:e.end]))
	}
	if strings.ContainsAny(value, "\r\n\x00\"%!^&|<>()") || strings.TrimSpace(value) != value {
		return "", fmt.Errorf("the value %q holds characters that cannot be written there", value)
	}
	return value, nil
}

func lineEnding(data []byte) string {
	if bytes.Contains(data, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// appendLine adds a line at the end, with a line ending before it where the
// last line has none.
func appendLine(data []byte, text, ending string) []byte {
	out := bytes.Clone(data)
	if len(out) > 0 && !bytes.HasSuffix(out, []byte("\n")) {
		out = append(out, ending...)
	}
	return append(out, text+ending...)
}

func (d *Document) onlyChanged(next *Document, key, value string) error {
	was, is := d.Map(), next.Map()
	was[key] = value
	if e, ok := d.Get(key); ok {
		// Keys that stand for the same place, such as a script's variable and the
		// argument that is this variable, change together.
		for _, other := range d.entries {
			if other.start == e.start && other.end == e.end {
				was[other.Key] = value
			}
		}
	}
	same := len(was) == len(is)
	for k, v := range was {
		same = same && is[k] == v
	}
	if !same {
		return fault.New(fault.BadSettings, "set "+key+" in", d.name, "the value %q would change how other lines read",
			value)
	}
	return nil
}

// Diff gives a unified diff of two documents, empty when they are equal.
// Line endings are shown where they differ from a plain newline.
func Diff(name string, before, after []byte) string {
	if bytes.Equal(before, after) {
		return ""
	}
	a, b := diffLines(before), diffLines(after)
	// Comparing takes time with the square of what is compared, and an edit changes a line or
	// two: only what lies between the same beginning and the same end is.
	from := same(a, b, func(list []string, i int) string { return list[i] })
	to := same(a[from:], b[from:], func(list []string, i int) string { return list[len(list)-1-i] })
	from, to = max(0, from-diffContext), max(0, to-diffContext)
	a, b = a[from:len(a)-to], b[from:len(b)-to]
	if len(a)+len(b) > mostCompared {
		return fmt.Sprintf("--- %s\n+++ %s\n(from line %d on, %d lines are replaced by %d)\n", name, name, from+1,
			len(a),
			len(b))
	}
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A: a, B: b, FromFile: name, ToFile: name, Context: diffContext,
	})
	if err != nil { // only a failing writer, and the writer is a buffer
		return fmt.Sprintf("(no diff: %v)", err)
	}
	return hunk.ReplaceAllStringFunc(text, func(head string) string {
		m := hunk.FindStringSubmatch(head)
		was, _ := strconv.Atoi(m[1]) // digits
		is, _ := strconv.Atoi(m[3])
		return fmt.Sprintf("@@ -%d%s +%d%s @@", was+from, m[2], is+from, m[4])
	})
}

// How much a diff shows around a change, and how much it compares, in lines.
const (
	diffContext  = 2
	mostCompared = 4_000
)

var hunk = regexp.MustCompile(`(?m)^@@ -(\d+)((?:,\d+)?) \+(\d+)((?:,\d+)?) @@`)

// same counts how many lines of two documents are alike, from the first that at gives on.
func same(a, b []string, at func(list []string, i int) string) int {
	n := 0
	for n < len(a) && n < len(b) && at(a, n) == at(b, n) {
		n++
	}
	return n
}

func diffLines(data []byte) []string {
	lines := strings.SplitAfter(string(data), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	for i, l := range lines {
		l = strings.TrimSuffix(l, "\n")
		lines[i] = strings.TrimSuffix(l, "\r") + "\n"
	}
	return lines
}

// line is a physical line: its bytes without the ending, and where they stand.
type line struct {
	text       string
	start, end int // end excludes the line ending
	number     int
}

func splitLines(data []byte) []line {
	var out []line
	for start, n := 0, 1; start < len(data); n++ {
		stop, next := len(data), len(data)
		if i := bytes.IndexByte(data[start:], '\n'); i >= 0 {
			stop, next = start+i, start+i+1
		}
		if stop > start && data[stop-1] == '\r' {
			stop--
		}
		out = append(out, line{text: string(data[start:stop]), start: start, end: stop, number: n})
		start = next
	}
	return out
}
