package settings

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"
)

// jsonc is JSON (RFC 8259), also with comments (// and /* */) and commas before a
// closing bracket, as many game servers write it. A key is a JSON pointer (RFC
// 6901). Strings, numbers, true, false and null are entries; the new value keeps
// the kind of the old one where it can.
type jsonc struct{}

// deepestJSON bounds nesting.
const deepestJSON = 64

func (jsonc) scan(data []byte) ([]Entry, error) {
	p := &jsonScan{data: data}
	if p.skip(); p.at == len(data) {
		return nil, nil // an empty file has no settings
	}
	if err := p.value("", 0); err != nil {
		return nil, fmt.Errorf("line %d: %w", p.line(), err)
	}
	if p.skip(); p.at < len(data) {
		return nil, fmt.Errorf("line %d: something stands behind the end", p.line())
	}
	return p.entries, nil
}

// jsonScan walks a document and notes where values stand.
type jsonScan struct {
	data    []byte
	at      int
	entries []Entry
	objects map[string]jsonObject // by pointer
	// lines counts line breaks before counted, so that each is counted once.
	lines, counted int
}

// jsonObject tells where a member can be added.
type jsonObject struct {
	open  int // behind the opening brace
	last  int // behind the last member's value; 0 without members
	first int // where the first member's key begins
	comma bool
}

func (p *jsonScan) line() int {
	at := min(p.at, len(p.data))
	p.lines += bytes.Count(p.data[p.counted:at], []byte("\n"))
	p.counted = at
	return 1 + p.lines
}

// skip passes over blanks and comments.
func (p *jsonScan) skip() {
	for p.at < len(p.data) {
		rest := p.data[p.at:]
		switch {
		case strings.IndexByte(" \t\r\n", rest[0]) >= 0:
			p.at++
		case bytes.HasPrefix(rest, []byte("//")):
			n := bytes.IndexByte(rest, '\n')
			if n < 0 {
				n = len(rest)
			}
			p.at += n
		case bytes.HasPrefix(rest, []byte("/*")):
			n := bytes.Index(rest, []byte("*/"))
			if n < 0 {
				return // value says what is wrong
			}
			p.at += n + 2
		default:
			return
		}
	}
}

func (p *jsonScan) peek() byte {
	if p.at < len(p.data) {
		return p.data[p.at]
	}
	return 0
}

func (p *jsonScan) value(pointer string, depth int) error {
	if depth > deepestJSON {
		return fmt.Errorf("nested deeper than %d", deepestJSON)
	}
	switch p.peek() {
	case '{':
		return p.object(pointer, depth)
	case '[':
		return p.list(pointer, depth)
	}
	start, line := p.at, p.line()
	text, err := p.scalar()
	if err != nil {
		return err
	}
	p.entries = append(p.entries, Entry{Key: pointer, Value: text, Line: line, start: start, end: p.at})
	return nil
}

func (p *jsonScan) scalar() (string, error) {
	if p.peek() == '"' {
		return p.text()
	}
	start := p.at
	for p.at < len(p.data) && strings.IndexByte(",]} \t\r\n/", p.data[p.at]) < 0 {
		p.at++
	}
	word := string(p.data[start:p.at])
	if !json.Valid([]byte(word)) {
		return "", fmt.Errorf("%q is no JSON value", word)
	}
	return word, nil
}

func (p *jsonScan) text() (string, error) {
	start := p.at
	for p.at++; p.at < len(p.data); p.at++ {
		switch p.data[p.at] {
		case '\\':
			p.at++
		case '"':
			p.at++
			var s string
			if err := json.Unmarshal(p.data[start:p.at], &s); err != nil {
				return "", errors.New("a string is not valid")
			}
			return s, nil
		}
	}
	return "", errors.New("a string has no end")
}

var pointerEscape = strings.NewReplacer("~", "~0", "/", "~1")

func (p *jsonScan) object(pointer string, depth int) error {
	p.at++
	o := jsonObject{open: p.at}
	for {
		p.skip()
		if p.peek() == '}' {
			p.at++
			if p.objects != nil {
				p.objects[pointer] = o
			}
			return nil
		}
		if o.last > 0 && !o.comma {
			return errors.New("a comma or a closing brace is missing")
		}
		if p.peek() != '"' {
			return errors.New("a key in quotes, or a closing brace, is missing")
		}
		if o.last == 0 {
			o.first = p.at
		}
		key, err := p.text()
		if err != nil {
			return err
		}
		if p.skip(); p.peek() != ':' {
			return fmt.Errorf("a colon is missing behind %q", key)
		}
		p.at++
		p.skip()
		if err := p.value(pointer+"/"+pointerEscape.Replace(key), depth+1); err != nil {
			return err
		}
		o.last = p.at
		p.skip()
		if o.comma = p.peek() == ','; o.comma {
			p.at++
		}
	}
}

func (p *jsonScan) list(pointer string, depth int) error {
	p.at++
	comma := true
	for i := 0; ; i++ {
		p.skip()
		if p.peek() == ']' {
			p.at++
			return nil
		}
		if !comma {
			return errors.New("a comma or a closing bracket is missing")
		}
		if err := p.value(fmt.Sprintf("%s/%d", pointer, i), depth+1); err != nil {
			return err
		}
		p.skip()
		if comma = p.peek() == ','; comma {
			p.at++
		}
	}
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
	p := &jsonScan{data: data, objects: map[string]jsonObject{}}
	p.skip()
	if err := p.value("", 0); err != nil {
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
