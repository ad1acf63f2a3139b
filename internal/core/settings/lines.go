package settings

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// lines is a format of a game's own whose settings are lines of one pattern,
// such as "set {key} {value}". Blanks in the pattern stand for any number of
// blanks; lines that do not follow it are left alone; a value may stand in
// double quotes, which are taken off.
type lines struct {
	pattern string
	re      *regexp.Regexp
}

// longestLine bounds a line that is held against the pattern, in bytes.
const longestLine = 64 << 10

func newLines(pattern string) (format, error) {
	before, rest, ok := strings.Cut(pattern, "{key}")
	middle, after, ok2 := strings.Cut(rest, "{value}")
	if !ok || !ok2 || middle == "" || strings.Contains(after, "{key}") || strings.Contains(after, "{value}") {
		return nil, fmt.Errorf("the line %q must hold {key}, then something between, then {value}", pattern)
	}
	re, err := regexp.Compile(`^[ \t]*` + blanks(before) + `(?P<key>[^ \t]+?)` + blanks(
		middle) + `(?P<value>.*?)[ \t]*` + blanks(
		after) + `[ \t]*$`)
	if err != nil {
		return nil, err
	}
	return lines{pattern: pattern, re: re}, nil
}

// blanks makes a regular expression of a pattern's literal part.
func blanks(s string) string {
	parts := regexp.MustCompile(`[ \t]+`).Split(s, -1)
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	return strings.Join(parts, `[ \t]+`)
}

func (f lines) scan(data []byte) ([]Entry, error) {
	var out []Entry
	key, value := 2*f.re.SubexpIndex("key"), 2*f.re.SubexpIndex("value")
	for _, l := range splitLines(data) {
		if len(l.text) > longestLine {
			continue // it is no setting
		}
		m := f.re.FindStringSubmatchIndex(l.text)
		if m == nil {
			continue
		}
		raw := l.text[m[value]:m[value+1]]
		out = append(out, Entry{
			Key: l.text[m[key]:m[key+1]], Value: unquoteINI(raw), Line: l.number,
			start: l.start + m[value], end: l.start + m[value+1],
		})
	}
	return out, nil
}

func (lines) encode(value, was string) (string, error) {
	if strings.ContainsAny(value, "\r\n\x00") {
		return "", fmt.Errorf("the value %q holds a line break, which this format cannot write", value)
	}
	if strings.ContainsAny(value, `";`) {
		return "", fmt.Errorf("the value %q holds a quote or a semicolon, which would end it: this format knows no "+
			"way to "+
			"write them", value)
	}
	quoted := was != unquoteINI(was)
	if quoted || value == "" || strings.ContainsAny(value, " \t") || unquoteINI(value) != value {
		return `"` + value + `"`, nil
	}
	return value, nil
}

func (f lines) add(data []byte, key, value, ending string) ([]byte, error) {
	if key == "" || strings.ContainsAny(key, " \t\r\n") {
		return nil, errors.New("a key of this format is one word")
	}
	raw, err := f.encode(value, "")
	if err != nil {
		return nil, err
	}
	return appendLine(data, strings.NewReplacer("{key}", key, "{value}", raw).Replace(f.pattern), ending), nil
}
