package settings

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// script is a launch script, of a POSIX shell or of the Windows command
// interpreter. Its settings are the arguments of the commands in it: "--world
// fen" (two words) and "--world=fen" (one word) are both the key "--world". An
// argument without a value has an empty one. A variable that the script sets
// (NAME=value, set NAME=value) is a key as well, and an argument whose value
// is just that variable is read, and written, where the variable is set.
//
// It is read, never run: what a script works out is not known.
type script struct{ dialect dialect }

type dialect struct {
	name      string
	comment   *regexp.Regexp // of a whole line
	continued string         // at the end of a line
	assign    *regexp.Regexp // groups: name; its end is where the value begins
	variable  *regexp.Regexp // a word that is one variable, groups: name
	quotes    string
	escape    byte
}

var (
	shell = dialect{
		name: "shell", comment: regexp.MustCompile(`^[ \t]*#`), continued: `\`, quotes: `"'`, escape: '\\',
		assign:   regexp.MustCompile(`^[ \t]*(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_]*)=`),
		variable: regexp.MustCompile(`^"?\$\{?([A-Za-z_][A-Za-z0-9_]*)\}?"?$`),
	}
	batch = dialect{
		name: "batch", comment: regexp.MustCompile(`(?i)^[ \t]*(@?rem\b|::)`), continued: "^", quotes: `"`, escape: '^',
		assign:   regexp.MustCompile(`(?i)^[ \t]*@?set[ \t]+"?([A-Za-z_][A-Za-z0-9_]*)=`),
		variable: regexp.MustCompile(`^"?%([A-Za-z_][A-Za-z0-9_]*)%"?$`),
	}
)

// word is a word of a script: its raw form, where it stands, and the number of
// the command it belongs to.
type word struct {
	raw     string
	start   int
	line    int
	command int
}

func (s script) scan(data []byte) ([]Entry, error) {
	words, assigned, err := s.words(data)
	if err != nil {
		return nil, err
	}
	everywhere, standing := s.why(data), s.standing(data)
	uses := s.uses(data, standing)
	byName := map[string]Entry{}
	for i, a := range assigned {
		if a.plain = everywhere; a.plain == "" {
			a.plain = uses[s.folded(a.Key)]
		}
		assigned[i], byName[a.Key] = a, a
	}
	out := assigned
	for i, w := range words {
		key, raw, at, ok := argument(words, i)
		if !ok {
			continue
		}
		e := Entry{Key: key, Line: w.line, start: at, end: at + len(raw), plain: everywhere}
		if e.plain == "" && at < len(standing) && standing[at]&inSubstitution != 0 {
			e.plain = inside
		}
		if m := s.dialect.variable.FindStringSubmatch(raw); m != nil {
			if v, set := byName[m[1]]; set {
				v.Key = key // all else is the variable's
				e = v
				out = append(out, e)
				continue
			}
		}
		if raw == "" {
			e.fixed = "the argument has no value"
		}
		if s.computed(raw) {
			e.fixed = "the script works its value out"
		}
		e.Value = s.unquote(raw)
		out = append(out, e)
	}
	return out, nil
}

// argument takes word i for an argument: its key, its raw value and where that
// stands.
func argument(words []word, i int) (key, raw string, at int, ok bool) {
	w := words[i]
	if len(w.raw) < 2 || (w.raw[0] != '-' && w.raw[0] != '+') || strings.ContainsAny(w.raw[1:2], "0123456789") {
		return "", "", 0, false
	}
	if k, v, one := strings.Cut(w.raw, "="); one {
		return k, v, w.start + len(k) + 1, true
	}
	if i+1 < len(words) && words[i+1].command == w.command {
		next := words[i+1]
		dash := len(next.raw) > 1 && (next.raw[0] == '-' || next.raw[0] == '+') &&
			!strings.ContainsAny(next.raw[1:2], "0123456789.")
		if !dash {
			return w.raw, next.raw, next.start, true
		}
	}
	return w.raw, "", w.start + len(w.raw), true
}

// computed reports whether a raw value holds something that the script fills in.
func (s script) computed(raw string) bool {
	if s.dialect.name == "batch" {
		return strings.Count(raw, "%") > 1 || strings.Contains(raw, "!")
	}
	if strings.HasPrefix(raw, "'") {
		return false
	}
	for i := 0; i < len(raw); i++ {
		switch raw[i] {
		case '\\':
			i++
		case '$', '`':
			return true
		}
	}
	return false
}

// words splits a script into words and collects the variables that it sets.
func (s script) words(data []byte) (out []word, assigned []Entry, err error) {
	command := 0
	joined := false
	for _, l := range splitLines(data) {
		if !joined && s.dialect.comment.MatchString(l.text) {
			continue
		}
		if !joined {
			command++
		}
		text := l.text
		joined = strings.HasSuffix(text, s.dialect.continued) &&
			!strings.HasSuffix(text, s.dialect.continued+s.dialect.continued)
		if joined {
			text = strings.TrimSuffix(text, s.dialect.continued)
		}
		if m := s.dialect.assign.FindStringSubmatchIndex(text); m != nil {
			if e, rest, whole := s.assignment(l, text, m); whole {
				assigned = append(assigned, e)
				continue
			} else if rest < 0 {
				return nil, nil, fmt.Errorf("line %d: a quote has no end", l.number)
			}
		}
		for at := 0; at < len(text); {
			if strings.IndexByte(" \t", text[at]) >= 0 {
				at++
				continue
			}
			if text[at] == '#' && s.dialect.name == "shell" {
				break
			}
			if i := strings.IndexByte(";|&()", text[at]); i >= 0 {
				command++
				at++
				continue
			}
			n, err := s.wordLength(text[at:])
			if err != nil {
				return nil, nil, fmt.Errorf("line %d: %w", l.number, err)
			}
			if len(out) == mostEntries {
				return nil, nil, errEntries
			}
			out = append(out, word{raw: text[at : at+n], start: l.start + at, line: l.number, command: command})
			at += n
		}
	}
	return out, assigned, nil
}

// assignment reads a line that sets a variable; whole is false when a command
// follows on the line (NAME=value command).
func (s script) assignment(l line, text string, m []int) (e Entry, rest int, whole bool) {
	start := m[1]
	raw := text[start:]
	if s.dialect.name == "batch" {
		// set "NAME=value": the quote around all is no part of the value.
		if strings.Contains(text[:m[2]], `"`) {
			raw = strings.TrimSuffix(strings.TrimRight(raw, " \t"), `"`)
		}
	} else {
		n, err := s.wordLength(raw)
		if err != nil {
			return Entry{}, -1, false
		}
		if tail := strings.TrimSpace(raw[n:]); tail != "" && tail[0] != '#' && tail[0] != ';' {
			return Entry{}, n, false
		}
		raw = raw[:n]
	}
	e = Entry{
		Key:   text[m[2]:m[3]],
		Value: s.unquote(raw),
		Line:  l.number,
		start: l.start + start,
		end:   l.start + start + len(raw),
	}
	if s.dialect.name == "batch" {
		e.Value, e.bare = raw, true
	}
	if s.computed(raw) {
		e.fixed = "the script works its value out"
	}
	return e, 0, true
}

func (s script) wordLength(text string) (int, error) {
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == s.dialect.escape:
			i++
		case strings.IndexByte(s.dialect.quotes, c) >= 0:
			end := s.closing(text[i+1:], c)
			if end < 0 {
				return 0, fmt.Errorf("the quote %c has no end", c)
			}
			i += end + 1
		case strings.IndexByte(" \t;|&()", c) >= 0:
			return i, nil
		}
	}
	return len(text), nil
}

func (s script) closing(text string, quote byte) int {
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && quote == '"' && s.dialect.name == "shell" {
			i++
			continue
		}
		if text[i] == quote {
			return i
		}
	}
	return -1
}

// unquote takes quotes and escapes off a word.
func (s script) unquote(raw string) string {
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		switch {
		case strings.IndexByte(s.dialect.quotes, c) >= 0:
			end := s.closing(raw[i+1:], c)
			if end < 0 {
				b.WriteString(raw[i+1:])
				return b.String()
			}
			inner := raw[i+1 : i+1+end]
			if c == '"' && s.dialect.name == "shell" {
				inner = envValue(`"` + inner + `"`)
			}
			b.WriteString(inner)
			i += end + 1
		case c == s.dialect.escape && i+1 < len(raw):
			i++
			b.WriteByte(raw[i])
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

var scriptPlain = regexp.MustCompile(`^[A-Za-z0-9_./:,@-][A-Za-z0-9_./:,+@=-]*$`)

func (s script) encode(value, was string) (string, error) {
	if strings.ContainsAny(value, "\r\n\x00") {
		return "", fmt.Errorf("the value %q holds a line break, which a script cannot write", value)
	}
	if s.dialect.name == "batch" {
		if strings.ContainsAny(value, "\"%!^&|<>") {
			return "", fmt.Errorf("the value %q holds characters that a batch script gives a meaning of its own", value)
		}
		if strings.HasSuffix(value, `\`) {
			return "", fmt.Errorf("the value %q ends in a backslash, which would take the quote behind it along", value)
		}
		if strings.HasPrefix(was, `"`) || (!scriptPlain.MatchString(value) && value != "") {
			return `"` + value + `"`, nil
		}
		return value, nil
	}
	switch {
	case strings.HasPrefix(was, "'") && !strings.Contains(value, "'"):
		return "'" + value + "'", nil
	case !strings.HasPrefix(was, `"`) && scriptPlain.MatchString(value):
		return value, nil
	}
	return `"` + strings.NewReplacer(`"`, `\"`, `\`, `\\`, `$`, `\$`, "`", "\\`").Replace(value) + `"`, nil
}

// add puts an argument behind the last one of the command that has arguments. Which
// command is meant is clear only when there is one such; a variable is never added.
func (s script) add(data []byte, key, value, _ string) ([]byte, error) {
	words, _, err := s.words(data)
	if err != nil {
		return nil, err
	}
	if key == "" || (key[0] != '-' && key[0] != '+') {
		return nil, errors.New(
			"the script has no " + key + ", and Reshard does not add variables to scripts; add it by hand")
	}
	commands := map[int]int{} // where the last word of a command with arguments ends
	for i := range words {
		if _, _, _, ok := argument(words, i); ok {
			commands[words[i].command] = 0
		}
	}
	if len(commands) != 1 {
		return nil, errors.New(
			"the script has no " + key + ", and it is not clear which of its commands it belongs to; add it by hand")
	}
	end := 0
	for _, w := range words {
		if _, ok := commands[w.command]; ok {
			end = w.start + len(w.raw)
		}
	}
	why := s.why(data)
	if why == "" && end > 0 && s.standing(data)[end-1]&inSubstitution != 0 {
		why = inside
	}
	if err := notPlain(value, why); err != nil {
		return nil, err
	}
	coded, err := s.encode(value, "")
	if err != nil {
		return nil, err
	}
	return slices.Concat(data[:end], []byte(" "+key+" "+coded), data[end:]), nil
}
