// Package settings reads settings documents and edits them without touching
// any other byte: comments, order, quotes, line endings, a byte-order mark and
// a missing last newline stay as they are.
package settings

import (
	"bytes"
	"fmt"
	"sort"
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
}

// format is what a settings format must know; everything else is shared.
type format interface {
	// scan lists the entries of a document (without its byte-order mark) in order.
	scan(data []byte) ([]Entry, error)
	// encode writes a value so that scan gives it back, or says why it cannot.
	// was is the raw value that stands there, whose quoting is kept; "" for none.
	encode(value, was string) (string, error)
	// add gives the document (without its byte-order mark) with a new entry. ending
	// is the document's line ending.
	add(data []byte, key, value, ending string) ([]byte, error)
}

var formats = map[string]format{
	"properties": properties{},
	"key-value":  keyValue{},
	"ini":        ini{},
	"env":        env{},
	"json":       jsonc{},
}

// Formats lists the formats that can be read and edited.
func Formats() []string {
	names := make([]string, 0, len(formats))
	for n := range formats {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// byteOrderMark is UTF-8's; some Windows editors write it.
var byteOrderMark = []byte("\xef\xbb\xbf")

// longestDocument bounds a settings document, in bytes.
const longestDocument = 4 << 20

// Document is a parsed settings document. It is immutable.
type Document struct {
	name    string
	format  format
	data    []byte
	entries []Entry
}

// Parse reads a document of a named format. name is used in messages.
func Parse(name, formatName string, data []byte) (*Document, error) {
	f, ok := formats[formatName]
	if !ok {
		return nil, fault.New(fault.BadSettings, "read settings", name, "unknown format %q", formatName)
	}
	if len(data) > longestDocument {
		return nil, fault.New(fault.BadSettings, "read settings", name, "%d bytes are more than a settings file may have (%d)", len(data), longestDocument)
	}
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return nil, fault.New(fault.BadSettings, "read settings", name, "byte %d is zero: not a text file of this format, or an encoding that is not read yet", i)
	}
	body := bytes.TrimPrefix(data, byteOrderMark)
	skip := len(data) - len(body)
	entries, err := f.scan(body)
	if err != nil {
		return nil, fault.Wrap(fault.BadSettings, "read settings", name, err)
	}
	for i := range entries {
		entries[i].start += skip
		entries[i].end += skip
	}
	return &Document{name: name, format: f, data: data, entries: entries}, nil
}

// Bytes gives the document as it was parsed.
func (d *Document) Bytes() []byte { return bytes.Clone(d.data) }

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
// outside that value stays; a key that is not there is appended as a line of
// its own. The result is parsed again before it is given out, and it is an error
// if anything but the one value reads differently.
func (d *Document) Set(key, value string) (*Document, error) {
	var out []byte
	if e, ok := d.Get(key); ok {
		if e.Value == value {
			return d, nil
		}
		raw, err := d.format.encode(value, string(d.data[e.start:e.end]))
		if err != nil {
			return nil, fault.Wrap(fault.BadSettings, "set "+key+" in", d.name, err)
		}
		out = append(out, d.data[:e.start]...)
		out = append(out, raw...)
		out = append(out, d.data[e.end:]...)
	} else {
		body := bytes.TrimPrefix(d.data, byteOrderMark)
		added, err := d.format.add(body, key, value, lineEnding(d.data))
		if err != nil {
			return nil, fault.Wrap(fault.BadSettings, "add "+key+" to", d.name, err)
		}
		out = append(bytes.Clone(d.data[:len(d.data)-len(body)]), added...)
	}
	var err error
	next := &Document{name: d.name, format: d.format, data: out}
	body := bytes.TrimPrefix(out, byteOrderMark)
	if next.entries, err = d.format.scan(body); err != nil {
		return nil, fault.Wrap(fault.BadSettings, "set "+key+" in", d.name, err)
	}
	for i := range next.entries {
		next.entries[i].start += len(out) - len(body)
		next.entries[i].end += len(out) - len(body)
	}
	if err := d.onlyChanged(next, key, value); err != nil {
		return nil, err
	}
	return next, nil
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
	same := len(was) == len(is)
	for k, v := range was {
		same = same && is[k] == v
	}
	if !same {
		return fault.New(fault.BadSettings, "set "+key+" in", d.name, "the value %q would change how other lines read", value)
	}
	return nil
}

// Diff gives a unified diff of two documents, empty when they are equal.
// Line endings are shown where they differ from a plain newline.
func Diff(name string, before, after []byte) string {
	if bytes.Equal(before, after) {
		return ""
	}
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A: diffLines(before), B: diffLines(after), FromFile: name, ToFile: name, Context: 2,
	})
	if err != nil { // only a failing writer, and the writer is a buffer
		return fmt.Sprintf("(no diff: %v)", err)
	}
	return text
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
