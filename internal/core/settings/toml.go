package settings

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// tomlFormat is TOML 1.0 (toml.io). A key is a JSON pointer into the document:
// "/world/name" is name in [world]; tables of a list count from 0.
type tomlFormat struct{}

func (tomlFormat) scan(data []byte) (out []Entry, err error) {
	defer recoverAs("TOML", &err)
	if err := BoundTOML(data); err != nil {
		return nil, err
	}
	var whole map[string]any
	if err := toml.Unmarshal(data, &whole); err != nil {
		var de *toml.DecodeError
		if errors.As(err, &de) {
			row, _ := de.Position()
			return nil, fmt.Errorf("line %d: %w", row, err)
		}
		return nil, err
	}
	s := &tomlScan{data: data, tables: map[string]int{}}
	p := unstable.Parser{}
	p.Reset(data)
	for p.NextExpression() {
		if err := s.expression(p.Expression()); err != nil {
			return nil, err
		}
	}
	return s.entries.list, p.Error()
}

// recoverAs turns a library's panic on odd input into an error.
func recoverAs(what string, err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("is not %s that can be read: %v", what, r)
	}
}

type tomlScan struct {
	data    []byte
	at      string         // the table that later keys belong to
	tables  map[string]int // how many tables a list has
	entries entries
	// lines counts line breaks before counted, so that each is counted once.
	lines, counted int
}

// line gives the line of an offset; offsets come in order.
func (s *tomlScan) line(at int) int {
	if at > s.counted {
		s.lines += bytes.Count(s.data[s.counted:at], []byte("\n"))
		s.counted = at
	}
	return 1 + s.lines
}

func (s *tomlScan) expression(e *unstable.Node) error {
	switch e.Kind {
	case unstable.Table:
		s.at = s.resolve(keyParts(e))
		return s.name(s.at)
	case unstable.ArrayTable:
		p := s.resolve(keyParts(e))
		// resolve led into the last table of the list, if there is one; this is the next.
		list := p
		if n := s.tables[strings.TrimSuffix(p, lastStep(p))]; n > 0 && lastStep(p) == "/"+strconv.Itoa(n-1) {
			list = strings.TrimSuffix(p, lastStep(p))
		}
		s.at = fmt.Sprintf("%s/%d", list, s.tables[list])
		s.tables[list]++
		return s.name(s.at)
	case unstable.KeyValue:
		return s.keyValue(s.at, e)
	}
	return nil
}

// name counts a table's name, which is remembered.
func (s *tomlScan) name(at string) error {
	if s.entries.text += len(at); s.entries.text > mostText {
		return errText
	}
	return nil
}

func lastStep(p string) string {
	if i := strings.LastIndexByte(p, '/'); i >= 0 {
		return p[i:]
	}
	return ""
}

// resolve walks a header's key; a step that names a list of tables leads into its
// last one.
func (s *tomlScan) resolve(parts []string) string {
	at := ""
	for _, p := range parts {
		at += "/" + pointerEscape.Replace(p)
		if n := s.tables[at]; n > 0 {
			at = fmt.Sprintf("%s/%d", at, n-1)
		}
	}
	return at
}

func keyParts(e *unstable.Node) []string {
	var out []string
	for it := e.Key(); it.Next(); {
		out = append(out, string(it.Node().Data))
	}
	return out
}

func (s *tomlScan) keyValue(at string, e *unstable.Node) error {
	for _, p := range keyParts(e) {
		at += "/" + pointerEscape.Replace(p)
	}
	return s.value(at, e.Value())
}

func (s *tomlScan) value(at string, v *unstable.Node) error {
	switch v.Kind {
	case unstable.InlineTable:
		for it := v.Children(); it.Next(); {
			if err := s.keyValue(at, it.Node()); err != nil {
				return err
			}
		}
	case unstable.Array:
		i := 0
		for it := v.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				if err := s.value(fmt.Sprintf("%s/%d", at, i), it.Node()); err != nil {
					return err
				}
				i++
			}
		}
	default:
		start := int(v.Raw.Offset)
		return s.entries.add(Entry{
			Key: at, Value: string(v.Data), Line: s.line(start),
			start: start, end: start + int(v.Raw.Length),
		})
	}
	return nil
}

func (tomlFormat) encode(value, was string) (string, error) {
	if !utf8.ValidString(value) {
		return "", fmt.Errorf("the value %q is not valid UTF-8", value)
	}
	// Where a number or a word stood, one that is written bare stays bare.
	bare := was != "" && was[0] != '"' && was[0] != '\''
	if bare && bareTOML.MatchString(value) {
		return value, nil
	}
	if strings.HasPrefix(was, "'") && !strings.HasPrefix(was, "'''") &&
		!strings.ContainsFunc(value, func(r rune) bool { return r == '\'' || r < ' ' || r == 0x7f }) {
		return "'" + value + "'", nil
	}
	return quoteTOML(value), nil
}

// bareTOML matches integers, floats and truth values as the standard writes them.
var bareTOML = regexp.MustCompile(`^(true|false|[+-]?(0|[1-9][0-9]*)(\.[0-9]+)?)$`)

// quoteTOML writes a basic string: the escapes are JSON's, of which TOML lacks
// only "\/", and DEL must be escaped.
func quoteTOML(value string) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(value) // a string always encodes
	return strings.ReplaceAll(strings.TrimSuffix(b.String(), "\n"), "\x7f", `\u007f`)
}

func (f tomlFormat) add(data []byte, key, value, ending string) ([]byte, error) {
	steps, err := pointerSteps(key)
	if err != nil {
		return nil, err
	}
	table, name := steps[:len(steps)-1], steps[len(steps)-1]
	line := tomlKey([]string{name}) + " = " + quoteTOML(value)
	at, found := tomlTableEnd(data, table)
	if !found {
		return appendLine(appendLine(data, "["+tomlKey(table)+"]", ending), line, ending), nil
	}
	return append(appendLine(data[:at], line, ending), data[at:]...), nil
}

func tomlKey(parts []string) string {
	out := make([]string, 0, len(parts))
	for _, p := range parts {
		if p == "" || strings.ContainsFunc(p, func(r rune) bool {
			return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '_' && r != '-'
		}) {
			p = quoteTOML(p)
		}
		out = append(out, p)
	}
	return strings.Join(out, ".")
}

// tomlTableEnd finds where the last expression of a table ends, behind its line
// ending.
func tomlTableEnd(data []byte, table []string) (at int, found bool) {
	p := unstable.Parser{}
	p.Reset(data)
	inside := len(table) == 0
	found = inside
	for p.NextExpression() {
		e := p.Expression()
		end := 0
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			parts := keyParts(e)
			inside = e.Kind == unstable.Table && strings.Join(parts, "\x00") == strings.Join(table, "\x00")
			for it := e.Key(); it.Next(); {
				end = int(it.Node().Raw.Offset + it.Node().Raw.Length)
			}
		case unstable.KeyValue:
			end = int(e.Raw.Offset + e.Raw.Length)
		}
		if !inside {
			continue
		}
		found = true
		if i := bytes.IndexByte(data[end:], '\n'); i >= 0 {
			at = end + i + 1
		} else {
			at = len(data)
		}
	}
	return at, found
}
