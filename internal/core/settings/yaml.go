package settings

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"reshard/internal/core/yamldoc"
)

// yamlFormat is YAML 1.2. A key is a JSON pointer into the first document.
// Scalars on one line are edited in place; those over several lines are read.
type yamlFormat struct{}

func (yamlFormat) scan(data []byte) (out []Entry, err error) {
	defer recoverAs("YAML", &err)
	file, err := yamldoc.Parse(data)
	if err != nil {
		return nil, yamlError(err)
	}
	s := &yamlScan{data: data, lines: splitLines(data)}
	if len(file.Docs) > 0 && file.Docs[0].Body != nil {
		if err := s.node("", file.Docs[0].Body, 0); err != nil {
			return nil, err
		}
	}
	return s.entries.list, nil
}

func yamlError(err error) error {
	var ye yaml.Error
	if errors.As(err, &ye) {
		if tok := ye.GetToken(); tok != nil && tok.Position != nil {
			return fmt.Errorf("line %d: %s", tok.Position.Line, ye.GetMessage())
		}
		return errors.New(ye.GetMessage())
	}
	return err
}

type yamlScan struct {
	data    []byte
	lines   []line
	entries entries
	// maps notes the first key of each mapping: its line and column, and the last
	// line that belongs to it.
	maps map[string]yamlMap
}

type yamlMap struct {
	column, last int
	flow         bool
}

func (s *yamlScan) node(at string, n ast.Node, depth int) error {
	if depth > deepest {
		return errDeep
	}
	switch v := n.(type) {
	case *ast.MappingNode:
		for _, m := range v.Values {
			if err := s.member(at, m, v.IsFlowStyle, depth); err != nil {
				return err
			}
		}
		return nil
	case *ast.MappingValueNode:
		return s.member(at, v, false, depth)
	case *ast.SequenceNode:
		for i, item := range v.Values {
			if err := s.node(fmt.Sprintf("%s/%d", at, i), item, depth+1); err != nil {
				return err
			}
		}
		return nil
	case *ast.AnchorNode:
		return s.node(at, v.Value, depth+1)
	case *ast.TagNode:
		return s.node(at, v.Value, depth+1)
	case ast.ScalarNode:
		return s.entries.add(s.scalar(at, v))
	}
	return nil
}

func (s *yamlScan) member(at string, m *ast.MappingValueNode, flow bool, depth int) error {
	tok := m.Key.GetToken()
	name := tok.Value
	if s.maps != nil {
		mm, ok := s.maps[at]
		if !ok {
			mm = yamlMap{column: tok.Position.Column, flow: flow}
		}
		mm.last = max(mm.last, lastLine(m))
		s.maps[at] = mm
	}
	return s.node(at+"/"+pointerEscape.Replace(name), m.Value, depth+1)
}

// lastLine finds the last line on which a node's tokens stand.
func lastLine(n ast.Node) int {
	last := 0
	ast.Walk(visitFunc(func(n ast.Node) {
		if tok := n.GetToken(); tok != nil && tok.Position != nil {
			last = max(last, tok.Position.Line+strings.Count(strings.TrimRight(tok.Origin, " \r\n"), "\n"))
		}
	}), n)
	return last
}

type visitFunc func(ast.Node)

func (f visitFunc) Visit(n ast.Node) ast.Visitor { f(n); return f }

func (s *yamlScan) scalar(at string, v ast.ScalarNode) Entry {
	tok := v.GetToken()
	e := Entry{Key: at, Value: tok.Value, Line: tok.Position.Line}
	if lit, ok := v.(*ast.LiteralNode); ok {
		e.Value, e.fixed = lit.Value.Value, "its value runs over several lines"
		return e
	}
	if _, null := v.(*ast.NullNode); null && tok.Value != "~" && !strings.EqualFold(tok.Value, "null") {
		e.Value = ""
	}
	start, ok := s.offset(tok.Position.Line, tok.Position.Column)
	raw := ""
	if ok {
		raw = yamlRaw(string(s.data[start:]), tok.Value)
	}
	if !ok || raw == "" {
		e.fixed = "its value is written in a way that cannot be edited in place"
	}
	e.start, e.end = start, start+len(raw)
	return e
}

// offset turns a line and a column (in characters, from 1) into bytes.
func (s *yamlScan) offset(lineNo, column int) (int, bool) {
	if lineNo < 1 || lineNo > len(s.lines) || column < 1 {
		return 0, false
	}
	l := s.lines[lineNo-1]
	at := 0
	for range column - 1 {
		if at >= len(l.text) {
			return 0, false
		}
		_, size := utf8.DecodeRuneInString(l.text[at:])
		at += size
	}
	return l.start + at, true
}

// yamlRaw gives the scalar as it is written at the beginning of rest, "" when it
// is not on one line or not written plainly.
func yamlRaw(rest, value string) string {
	if i := strings.IndexAny(rest, "\r\n"); i >= 0 {
		rest = rest[:i]
	}
	if rest == "" {
		return ""
	}
	switch rest[0] {
	case '\'':
		for i := 1; i < len(rest); i++ {
			if rest[i] != '\'' {
				continue
			}
			if i+1 < len(rest) && rest[i+1] == '\'' {
				i++
				continue
			}
			return rest[:i+1]
		}
		return ""
	case '"':
		for i := 1; i < len(rest); i++ {
			switch rest[i] {
			case '\\':
				i++
			case '"':
				return rest[:i+1]
			}
		}
		return ""
	}
	if strings.HasPrefix(rest, value) {
		return value
	}
	return ""
}

// yamlPlain matches text that can stand without quotes anywhere, also in a flow
// collection; yamlOther matches what would then be no text.
var (
	yamlPlain = regexp.MustCompile(`^[A-Za-z0-9_./+][A-Za-z0-9_./+ -]*$`)
	yamlOther = regexp.MustCompile(
		`(?i)^(true|false|yes|no|on|off|null|y|n|[-+.]?[0-9][-+0-9a-fxo_.:]*|[-+]?\.(inf|nan)|\.+)$`)
)

func (yamlFormat) encode(value, was string) (string, error) {
	if !utf8.ValidString(value) {
		return "", fmt.Errorf("the value %q is not valid UTF-8", value)
	}
	printable := !strings.ContainsFunc(value, func(r rune) bool {
		return r < ' ' || r == 0x7f || r == 0x85 || r == 0xfeff || r == 0x2028 || r == 0x2029
	})
	quote := byte(0)
	if was != "" && (was[0] == '"' || was[0] == '\'') {
		quote = was[0]
	}
	switch {
	case quote == '\'' && printable:
		return "'" + strings.ReplaceAll(value, "'", "''") + "'", nil
	case quote == 0 && was != "" && yamlOther.MatchString(was) && yamlOther.MatchString(value):
		return value, nil // where a number or a word stood, another stays bare
	case quote == 0 && yamlPlain.MatchString(value) && strings.TrimSpace(value) == value &&
		!yamlOther.MatchString(value):
		return value, nil
	}
	return quoteYAML(value), nil
}

// quoteYAML writes a double-quoted scalar; YAML's escapes hold all of JSON's.
func quoteYAML(value string) string {
	raw, _ := json.Marshal(value) // a string always encodes
	return strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&", "\x7f", `\x7f`, "\u0085", `\N`, "\ufeff",
		`\uFEFF`).Replace(
		string(raw))
}

func (f yamlFormat) add(data []byte, key, value, ending string) ([]byte, error) {
	steps, err := pointerSteps(key)
	if err != nil {
		return nil, err
	}
	raw, err := f.encode(value, "")
	if err != nil {
		return nil, err
	}
	name, err := f.encode(steps[len(steps)-1], "")
	if err != nil {
		return nil, err
	}
	parent := key[:strings.LastIndexByte(key, '/')]
	m, err := yamlParent(data, parent)
	if err != nil {
		return nil, err
	}
	if m.last == 0 {
		return appendLine(data, name+": "+raw, ending), nil
	}
	lines := splitLines(data)
	at := len(data)
	if m.last < len(lines) {
		at = lines[m.last].start
	}
	return append(appendLine(data[:at], strings.Repeat(" ", m.column-1)+name+": "+raw, ending), data[at:]...), nil
}

func yamlParent(data []byte, parent string) (m yamlMap, err error) {
	defer recoverAs("YAML", &err)
	file, err := yamldoc.Parse(data)
	if err != nil {
		return m, yamlError(err)
	}
	s := &yamlScan{data: data, lines: splitLines(data), maps: map[string]yamlMap{}}
	if len(file.Docs) > 1 {
		return m, errors.New("the file holds several documents; add the key by hand")
	}
	if len(file.Docs) == 1 && file.Docs[0].Body != nil {
		if err := s.node("", file.Docs[0].Body, 0); err != nil {
			return m, err
		}
	}
	m, ok := s.maps[parent]
	switch {
	case parent == "" && len(s.entries.list) == 0 && !ok:
		return yamlMap{}, nil
	case !ok:
		return m, fmt.Errorf("there is no mapping at %q to add to; add it by hand", parent)
	case m.flow:
		return m, fmt.Errorf("the mapping at %q is written in braces; add the key by hand", parent)
	}
	return m, nil
}

// pointerSteps splits a JSON pointer (RFC 6901).
func pointerSteps(pointer string) ([]string, error) {
	if !strings.HasPrefix(pointer, "/") || pointer == "/" {
		return nil, fmt.Errorf("%q is no JSON pointer: it begins with a slash and names something", pointer)
	}
	steps := strings.Split(pointer, "/")[1:]
	for i := range steps {
		steps[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(steps[i])
	}
	return steps, nil
}
