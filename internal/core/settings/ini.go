package settings

import (
	"bytes"
	"fmt"
	"strings"
)

// ini is sections of "key=value" lines. There is no standard; this reads what
// game servers share: "[section]" lines, comments with ";" or "#" at the
// beginning of a line, blanks around key and value not part of them, values in
// double quotes with them taken off. A key is addressed as "section/key"; one
// before the first section by its name alone. A section that stands twice goes
// on where it left off.
type ini struct{}

func (ini) scan(data []byte) ([]Entry, error) {
	var out entries
	section := ""
	for _, l := range splitLines(data) {
		trimmed := strings.TrimSpace(l.text)
		switch {
		case trimmed == "" || trimmed[0] == ';' || trimmed[0] == '#':
			continue
		case trimmed[0] == '[':
			closing := strings.LastIndexByte(trimmed, ']')
			if closing < 0 {
				return nil, fmt.Errorf("line %d: the section %q has no closing bracket", l.number, trimmed)
			}
			section = trimmed[1:closing]
			continue
		}
		key, after, ok := strings.Cut(l.text, "=")
		if !ok {
			continue // a bare word is no setting
		}
		value := strings.TrimSpace(after)
		start := l.start + len(key) + 1 + len(after) - len(strings.TrimLeft(after, " \t"))
		err := out.add(Entry{
			Key:   inSection(section, strings.TrimSpace(key)),
			Value: unquoteINI(value),
			Line:  l.number,
			start: start,
			end:   start + len(value),
		})
		if err != nil {
			return nil, err
		}
	}
	return out.list, nil
}

func inSection(section, key string) string {
	if section == "" {
		return key
	}
	return section + "/" + key
}

func unquoteINI(raw string) string {
	if len(raw) >= 2 && raw[0] == '"' && raw[len(raw)-1] == '"' {
		return raw[1 : len(raw)-1]
	}
	return raw
}

func (ini) encode(value, was string) (string, error) {
	if strings.ContainsAny(value, "\r\n\x00") {
		return "", fmt.Errorf("the value %q holds a line break, which this format cannot write", value)
	}
	if strings.Contains(value, `"`) {
		return "", fmt.Errorf("the value %q holds a quote, and games differ in how they read one", value)
	}
	quoted := was != unquoteINI(was)
	if quoted || strings.TrimSpace(value) != value || unquoteINI(value) != value {
		return `"` + value + `"`, nil
	}
	return value, nil
}

// add writes the entry after the last one of its section, or makes the section
// at the end.
func (f ini) add(data []byte, key, value, ending string) ([]byte, error) {
	raw, err := f.encode(value, "")
	if err != nil {
		return nil, err
	}
	section, name := "", key
	if i := strings.LastIndexByte(key, '/'); i >= 0 {
		section, name = key[:i], key[i+1:]
	}
	line := name + "=" + raw
	at, found := sectionEnd(data, section)
	if !found {
		return appendLine(appendLine(data, "["+section+"]", ending), line, ending), nil
	}
	head := data[:at]
	return append(appendLine(head, line, ending), data[at:]...), nil
}

// sectionEnd finds where the last line of a section that says something ends,
// behind its line ending.
func sectionEnd(data []byte, section string) (at int, found bool) {
	inside := section == ""
	found = inside
	for _, l := range splitLines(data) {
		trimmed := strings.TrimSpace(l.text)
		if strings.HasPrefix(trimmed, "[") && strings.Contains(trimmed, "]") {
			inside = trimmed[1:strings.LastIndexByte(trimmed, ']')] == section
			found = found || inside
		}
		if inside && trimmed != "" {
			at = l.end
			if i := bytes.IndexByte(data[l.end:], '\n'); i >= 0 {
				at += i + 1
			}
		}
	}
	return at, found
}
