package settings

import (
	"fmt"
	"regexp"
	"strings"
)

// env is files of environment variables, NAME=VALUE a line, as shells and service
// managers read them: "export" before the name is allowed, comments begin with
// "#", values may stand in single quotes (taken as they are) or double quotes (in
// which a backslash takes the meaning off the next of " \ $ and backtick).
type env struct{}

var envLine = regexp.MustCompile(`^[ \t]*(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_]*)=`)

func (env) scan(data []byte) ([]Entry, error) {
	var out []Entry
	for _, l := range splitLines(data) {
		m := envLine.FindStringSubmatchIndex(l.text)
		if m == nil {
			continue
		}
		raw, err := envRaw(l.text[m[1]:])
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", l.number, err)
		}
		out = append(out, Entry{
			Key:   l.text[m[2]:m[3]],
			Value: envValue(raw),
			Line:  l.number,
			start: l.start + m[1],
			end:   l.start + m[1] + len(raw),
		})
	}
	return out, nil
}

// envRaw finds where a value ends: at its closing quote, or before a blank and
// what follows.
func envRaw(rest string) (string, error) {
	if rest == "" || (rest[0] != '"' && rest[0] != '\'') {
		if i := strings.IndexAny(rest, " \t"); i >= 0 {
			return rest[:i], nil
		}
		return rest, nil
	}
	for i := 1; i < len(rest); i++ {
		switch {
		case rest[i] == '\\' && rest[0] == '"':
			i++
		case rest[i] == rest[0]:
			return rest[:i+1], nil
		}
	}
	return "", fmt.Errorf("the quote %c has no end", rest[0])
}

func envValue(raw string) string {
	if len(raw) < 2 || (raw[0] != '"' && raw[0] != '\'') {
		return raw
	}
	inner := raw[1 : len(raw)-1]
	if raw[0] == '\'' || !strings.Contains(inner, `\`) {
		return inner
	}
	var b strings.Builder
	for i := 0; i < len(inner); i++ {
		if inner[i] == '\\' && i+1 < len(inner) && strings.IndexByte("\"\\$`", inner[i+1]) >= 0 {
			i++
		}
		b.WriteByte(inner[i])
	}
	return b.String()
}

var envPlain = regexp.MustCompile(`^[A-Za-z0-9_./:,+@%=-]*$`)

func (env) encode(value, was string) (string, error) {
	if strings.ContainsAny(value, "\r\n\x00") {
		return "", fmt.Errorf("the value %q holds a line break, which this format cannot write", value)
	}
	switch {
	case strings.HasPrefix(was, "'") && !strings.Contains(value, "'"):
		return "'" + value + "'", nil
	case !strings.HasPrefix(was, `"`) && envPlain.MatchString(value):
		return value, nil
	}
	return `"` + strings.NewReplacer(`"`, `\"`, `\`, `\\`, `$`, `\$`, "`", "\\`").Replace(value) + `"`, nil
}

func (f env) add(data []byte, key, value, ending string) ([]byte, error) {
	if m := envLine.FindStringSubmatch(key + "="); m == nil || m[1] != key {
		return nil, fmt.Errorf("%q is no name for an environment variable", key)
	}
	raw, err := f.encode(value, "")
	if err != nil {
		return nil, err
	}
	return appendLine(data, key+"="+raw, ending), nil
}
