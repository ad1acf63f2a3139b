package settings

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/tailscale/hujson"
)

// jsonc is JSON (RFC 8259), also with comments (// and /* */) and commas before a
// closing bracket, as many game servers write it. A key is a JSON pointer (RFC
// 6901). Strings, numbers, true, false and null are entries; the new value keeps
// the kind of the old one where it can.
type jsonc struct{}

func (jsonc) scan(data []byte) ([]Entry, error) {
	s, err := readJSON(data)
	return s.entries.list, err
}

// jsonScan notes where values stand in a document.
type jsonScan struct {
	data    []byte
	entries entries
	objects map[string]jsonObject // by pointer
	// lines counts line breaks before counted, so that each is counted once.
	lines, counted int
}

// jsonObject tells where a member can be added.
type jsonObject struct {
	open  int // behind the opening brace
	last  int // behind the last member's value; 0 without members
	first int // where the first member's key begins
}

func readJSON(data []byte) (jsonScan, error) {
	s := jsonScan{data: data, objects: map[string]jsonObject{}}
	if err := boundJSON(data); err != nil {
		return s, err
	}
	alone, err := hujson.Parse(append(slices.Clone(data), "\n0"...))
	if err == nil && alone.StartOffset > len(data) {
		return s, nil // an empty file, or one of comments alone, has no settings
	}
	v, err := hujson.Parse(data)
	if err != nil {
		return s, errors.New(strings.TrimPrefix(err.Error(), "hujson: "))
	}
	return s, s.value(v, "")
}

// line gives the line of an offset; offsets come in order.
func (s *jsonScan) line(at int) int {
	s.lines += bytes.Count(s.data[s.counted:at], []byte("\n"))
	s.counted = at
	return 1 + s.lines
}

var pointerEscape = strings.NewReplacer("~", "~0", "/", "~1")

func (s *jsonScan) value(v hujson.Value, pointer string) error {
	switch t := v.Value.(type) {
	case *hujson.Object:
		o := jsonObject{open: v.StartOffset + 1}
		for i, m := range t.Members {
			if i == 0 {
				o.first = m.Name.StartOffset
			}
			o.last = m.Value.EndOffset
			name := m.Name.Value.(hujson.Literal).String()
			if err := s.value(m.Value, pointer+"/"+pointerEscape.Replace(name)); err != nil {
				return err
			}
		}
		s.objects[pointer] = o
		s.entries.text += len(pointer)
	case *hujson.Array:
		for i, e := range t.Elements {
			if err := s.value(e, fmt.Sprintf("%s/%d", pointer, i)); err != nil {
				return err
			}
		}
	case hujson.Literal:
		text := string(t)
		if t.Kind() == '"' {
			text = t.String()
		}
		return s.entries.add(Entry{
			Key: pointer, Value: text, Line: s.line(v.StartOffset), start: v.StartOffset, end: v.EndOffset,
		})
	}
	return nil
}

func (jsonc) encode(value, was string) (string, error) {
	if !utf8.ValidString(value) {
		return "", fmt.Errorf("the value %q is not valid UTF-8", value)
	}
	// Where a number or a word stood, one that is written bare stays bare.
	if was != "" && was[0] != '"' && json.Valid([]byte(value)) && strings.IndexByte("{[\" \t\r\n", value[0]) < 0 &&
		strings.TrimSpace(value) == value {
		return value, nil
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(value); err != nil {
		return "", err
	}
	return strings.TrimSuffix(b.String(), "\n"), nil
}

// add writes a new member behind the last one of its object, which must be there.
func (f jsonc) add(data []byte, key, value, ending string) ([]byte, error) {
	i := strings.LastIndexByte(key, '/')
	if i < 0 {
		return nil, fmt.Errorf("%q is no JSON pointer: it begins with a slash", key)
	}
	p, err := readJSON(data)
	if err != nil {
		return nil, err
	}
	o, ok := p.objects[key[:i]]
	if !ok {
		return nil, fmt.Errorf("there is no object at %q to add %q to; add it by hand", key[:i], key[i+1:])
	}
	raw, err := f.encode(value, "")
	if err != nil {
		return nil, err
	}
	name, err := f.encode(strings.NewReplacer("~1", "/", "~0", "~").Replace(key[i+1:]), "")
	if err != nil {
		return nil, err
	}
	member := name + ": " + raw
	if o.last == 0 {
		return bytes.Join([][]byte{data[:o.open], []byte(member), data[o.open:]}, nil), nil
	}
	return bytes.Join([][]byte{
		data[:o.last],
		[]byte("," + indentBefore(data, o.first, ending) + member),
		data[o.last:],
	}, nil), nil
}

// indentBefore gives what stands between the line before a member and the
// member: a new line with its indent, or a blank when all is on one line.
func indentBefore(data []byte, at int, ending string) string {
	start := bytes.LastIndexByte(data[:at], '\n') + 1
	indent := string(data[start:at])
	if start == 0 || strings.TrimSpace(indent) != "" {
		return " "
	}
	return ending + indent
}
