package settings

import (
	"fmt"
	"strings"
)

// keyValue is the line format "key = value" with "#" comments, no escapes,
// blanks around key and value not part of them. A value may run over lines
// between """ marks, and a group between { and } is one value; both are read
// whole so that their lines are not taken for keys.
type keyValue struct{}

func (keyValue) scan(data []byte) ([]Entry, error) {
	var out []Entry
	lines := splitLines(data)
	for i := 0; i < len(lines); i++ {
		l := lines[i]
		trimmed := strings.TrimSpace(l.text)
		eq := strings.IndexByte(l.text, '=')
		if trimmed == "" || trimmed[0] == '#' || eq < 0 {
			continue
		}
		after := l.text[eq+1:]
		value := strings.TrimSpace(after)
		start := l.start + eq + 1 + len(after) - len(strings.TrimLeft(after, " \t"))
		e := Entry{Key: strings.TrimSpace(l.text[:eq]), Line: l.number, start: start, end: start + len(value)}
		if closing, ok := blockEnd(value); ok {
			j := i + 1
			for j < len(lines) && strings.TrimSpace(lines[j].text) != closing {
				// Groups nest; each inner one ends with a line of its own.
				if inner, isBlock := blockStart(lines[j].text); isBlock && closing == "}" {
					j = skipBlock(lines, j+1, inner, 1)
				}
				j++
			}
			if j >= len(lines) {
				return nil, fmt.Errorf("line %d: the value begun with %q has no end", l.number, value)
			}
			e.end = lines[j].end
			value = string(data[start:e.end])
			i = j
		}
		e.Value = value
		out = append(out, e)
	}
	return out, nil
}

func blockEnd(value string) (closing string, ok bool) {
	switch value {
	case "{":
		return "}", true
	case `"""`:
		return `"""`, true
	}
	return "", false
}

func blockStart(text string) (closing string, ok bool) {
	_, value, found := strings.Cut(text, "=")
	if !found {
		return "", false
	}
	return blockEnd(strings.TrimSpace(value))
}

// skipBlock gives the line that ends a group; one that is nested too deep has no end.
func skipBlock(lines []line, from int, closing string, depth int) int {
	if depth > deepest {
		return len(lines)
	}
	for from < len(lines) && strings.TrimSpace(lines[from].text) != closing {
		if inner, ok := blockStart(lines[from].text); ok && closing == "}" {
			from = skipBlock(lines, from+1, inner, depth+1)
		}
		from++
	}
	return from
}

func (keyValue) encode(value, _ string) (string, error) {
	if strings.ContainsAny(value, "\r\n\x00") {
		return "", fmt.Errorf("the value %q holds a line break, which this format cannot write", value)
	}
	if strings.TrimSpace(value) != value {
		return "", fmt.Errorf("the value %q begins or ends with a blank, which this format cannot keep", value)
	}
	if _, block := blockEnd(value); block {
		return "", fmt.Errorf("the value %q would begin a value of several lines", value)
	}
	return value, nil
}

func (kv keyValue) add(data []byte, key, value, ending string) ([]byte, error) {
	raw, err := kv.encode(value, "")
	if err != nil {
		return nil, err
	}
	return appendLine(data, key+" = "+raw, ending), nil
}
