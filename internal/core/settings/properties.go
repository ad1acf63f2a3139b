package settings

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// properties is the line format of java.util.Properties (its load method's
// documentation is the source): key and value parted by "=", ":" or blanks,
// comments with "#" or "!", "\" at the end of a line continues it, "\uXXXX"
// escapes. Files are read as UTF-8; bytes that are not are kept.
type properties struct{}

func (properties) scan(data []byte) ([]Entry, error) {
	var out []Entry
	lines := splitLines(data)
	for i := 0; i < len(lines); i++ {
		l := lines[i]
		body := strings.TrimLeft(l.text, " \t\f")
		if body == "" || body[0] == '#' || body[0] == '!' {
			continue
		}
		pos := l.start + len(l.text) - len(body)
		end := l.end
		for continues(lines[i].text) && i+1 < len(lines) {
			i++
			end = lines[i].end
		}
		raw := string(data[pos:end])
		keyLen := rawKeyLength(raw)
		valueAt := keyLen + separatorLength(raw[keyLen:])
		value, err := unescape(joinContinued(raw[valueAt:]))
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", l.number, err)
		}
		key, err := unescape(joinContinued(raw[:keyLen]))
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", l.number, err)
		}
		out = append(out, Entry{Key: key, Value: value, Line: l.number, start: pos + valueAt, end: end})
	}
	return out, nil
}

// continues reports whether a line ends with an odd number of backslashes.
func continues(text string) bool {
	return (len(text)-len(strings.TrimRight(text, `\`)))%2 == 1
}

// rawKeyLength finds where a key ends: at the first separator that is not escaped.
func rawKeyLength(raw string) int {
	for i := 0; i < len(raw); i++ {
		switch raw[i] {
		case '\\':
			i++
		case '=', ':', ' ', '\t', '\f':
			return i
		}
	}
	return len(raw)
}

func separatorLength(rest string) int {
	n := len(rest) - len(strings.TrimLeft(rest, " \t\f"))
	if n < len(rest) && (rest[n] == '=' || rest[n] == ':') {
		n++
		n += len(rest[n:]) - len(strings.TrimLeft(rest[n:], " \t\f"))
	}
	return n
}

func joinContinued(raw string) string {
	if !strings.Contains(raw, "\n") {
		return raw
	}
	var b strings.Builder
	for i, part := range strings.Split(raw, "\n") {
		part = strings.TrimSuffix(part, "\r")
		if i > 0 {
			part = strings.TrimLeft(part, " \t\f")
		}
		if continues(part) {
			part = part[:len(part)-1]
		}
		b.WriteString(part)
	}
	return b.String()
}

func unescape(raw string) (string, error) {
	if !strings.Contains(raw, `\`) {
		return raw, nil
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			if raw[i] != '\\' {
				b.WriteByte(raw[i])
			}
			continue
		}
		i++
		switch raw[i] {
		case 't':
			b.WriteByte('\t')
		case 'n':
			b.WriteByte('\n')
		case 'r':
			b.WriteByte('\r')
		case 'f':
			b.WriteByte('\f')
		case 'u':
			if i+4 >= len(raw) {
				return "", fmt.Errorf("a \\u escape needs four hexadecimal digits")
			}
			n, err := strconv.ParseUint(raw[i+1:i+5], 16, 32)
			if err != nil {
				return "", fmt.Errorf("a \\u escape needs four hexadecimal digits, not %q", raw[i+1:i+5])
			}
			i += 4
			r := rune(n)
			// A pair of surrogates stands for one character beyond U+FFFF.
			if r >= 0xD800 && r < 0xDC00 && strings.HasPrefix(raw[i+1:], `\u`) && i+6 < len(raw) {
				if low, err := strconv.ParseUint(raw[i+3:i+7], 16, 32); err == nil && low >= 0xDC00 && low < 0xE000 {
					r = (r-0xD800)<<10 + (rune(low) - 0xDC00) + 0x10000
					i += 6
				}
			}
			b.WriteRune(r)
		default:
			b.WriteByte(raw[i])
		}
	}
	return b.String(), nil
}

func (properties) encode(value, _ string) (string, error) {
	if !utf8.ValidString(value) {
		return "", fmt.Errorf("the value %q is not valid UTF-8", value)
	}
	var b strings.Builder
	for i, r := range value {
		switch {
		case r == '\\':
			b.WriteString(`\\`)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\f':
			b.WriteString(`\f`)
		case i == 0 && (r == ' ' || r == '=' || r == ':'):
			b.WriteString(`\` + string(r)) // a leading blank or separator would be taken for the separator
		case r == 0:
			return "", fmt.Errorf("the value holds a zero byte")
		default:
			b.WriteRune(r)
		}
	}
	return b.String(), nil
}

func (p properties) add(data []byte, key, value, ending string) ([]byte, error) {
	raw, err := p.encode(value, "")
	if err != nil {
		return nil, err
	}
	var k strings.Builder
	for i, r := range key {
		if strings.ContainsRune("=: \t\f\\", r) || (i == 0 && (r == '#' || r == '!')) {
			k.WriteByte('\\')
		}
		k.WriteRune(r)
	}
	return appendLine(data, k.String()+"="+raw, ending), nil
}
