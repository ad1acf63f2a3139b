package settings

import (
	"fmt"
	"regexp"
	"strings"
)

// A script may use a value again after it has been read: an eval, a substitution, a command
// line handed to another shell, a variable without quotes. What is written there would be
// split, expanded or run. In such places only plain values are written, which mean the same
// wherever they stand.

// plainValue is what means the same in any place of a script.
var plainValue = regexp.MustCompile(`^[A-Za-z0-9_./:,@+=-]*$`)

// notPlain is why a value is not written, "" when it is plain.
func notPlain(value, why string) error {
	if why == "" || plainValue.MatchString(value) {
		return nil
	}
	return fmt.Errorf("%s, so only letters, digits and _./:,@+=- are written there, and the value %q has others",
		why, value)
}

var (
	// again matches what reads words a second time, wherever a command may begin.
	again = regexp.MustCompile(
		"(?m)(^|[;|&({`]|\\$\\()[ \t]*(?:[A-Za-z_][A-Za-z0-9_]*=\\S*[ \t]+|exec[ \t]+|command[ \t]+)*eval\\b")
	// arithmetic evaluates names, and what they stand for, again.
	arithmetic = regexp.MustCompile(`\(\(|\blet\b|-(?:eq|ne|lt|gt|le|ge)\b|\$\{!`)
	heredoc    = regexp.MustCompile(`<<`)
)

// inside is why only a plain value is written into a substitution.
const inside = "the value stands in a substitution"

// why gives what of the whole script asks for plain values.
func (s script) why(data []byte) string {
	if s.dialect.name != "shell" {
		return ""
	}
	text := s.withoutComments(data)
	switch {
	case again.MatchString(text):
		return "the script evaluates its words again (eval)"
	case heredoc.MatchString(text):
		return "the script holds a document within itself (<<)"
	}
	return ""
}

func (s script) withoutComments(data []byte) string {
	var b strings.Builder
	for _, l := range splitLines(data) {
		if !s.dialect.comment.MatchString(l.text) {
			b.WriteString(l.text)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// How a byte of a script stands, as far as one reading from left to right tells: each line
// begins anew.
const (
	inSingle       = 1 << iota // in single quotes, where nothing is expanded
	inDouble                   // in double quotes
	inPhrase                   // in double quotes with blanks or separators: perhaps a command line
	inSubstitution             // in $(…), <(…) or `…`
)

// standing tells of each byte of a script how it stands.
func (s script) standing(data []byte) []byte {
	out := make([]byte, len(data))
	shell := s.dialect.name == "shell"
	single, ticks := false, false
	open, phrase, depth := -1, false, 0
	closed := func(end int) {
		for i := open; open >= 0 && phrase && i < end; i++ {
			out[i] |= inPhrase
		}
		open, phrase = -1, false
	}
	for i := 0; i < len(data); i++ {
		c := data[i]
		if single {
			out[i] |= inSingle
		}
		if open >= 0 {
			out[i] |= inDouble
		}
		if depth > 0 || ticks {
			out[i] |= inSubstitution
		}
		switch {
		case c == '\n':
			closed(i)
			single = false
		case single:
			single = c != '\''
		case c == s.dialect.escape && i+1 < len(data) && data[i+1] != '\n':
			i++
			out[i] = out[i-1]
		case c == '"' && open >= 0:
			closed(i)
		case c == '"':
			open = i
		case open >= 0 && strings.IndexByte(" \t;|&", c) >= 0:
			phrase = true
		case !shell:
		case c == '\'' && open < 0:
			single = true
		case c == '`':
			ticks = !ticks
		case (c == '$' || c == '<' && open < 0) && i+1 < len(data) && data[i+1] == '(':
			depth++
		case c == ')' && depth > 0 && open < 0:
			depth--
		}
	}
	closed(len(data))
	return out
}

var (
	shellUse = regexp.MustCompile(`\$\{?!?([A-Za-z_][A-Za-z0-9_]*)`)
	batchUse = regexp.MustCompile(`[%!]([A-Za-z_][A-Za-z0-9_]*)[%!:]`)
)

// uses gives, of each variable that is used where only plain values are safe, why. In quotes
// and by itself, or as a part of one word, any value is.
func (s script) uses(data, standing []byte) map[string]string {
	out := map[string]string{}
	use := shellUse
	if s.dialect.name == "batch" {
		use = batchUse
	}
	for _, l := range splitLines(data) {
		if s.dialect.comment.MatchString(l.text) {
			continue
		}
		counted := s.dialect.name == "shell" && arithmetic.MatchString(l.text)
		for _, m := range use.FindAllStringSubmatchIndex(l.text, -1) {
			name, how := l.text[m[2]:m[3]], standing[l.start+m[0]]
			why := ""
			switch {
			case how&inSubstitution != 0:
				why = "is used in a substitution"
			case counted:
				why = "is evaluated as a number"
			case how&inSingle != 0: // it is no use, unless another shell reads it
				why = "stands in a text that another shell may read"
			case how&inDouble == 0:
				why = "is used without quotes"
			case how&inPhrase != 0:
				why = "is used within a longer text, which may be a command line"
			}
			if why != "" {
				out[s.folded(name)] = "the variable " + name + " " + why
			}
		}
		if counted { // in arithmetic a name needs no $
			for _, name := range scriptName.FindAllString(l.text, -1) {
				out[name] = "the variable " + name + " is evaluated as a number"
			}
		}
	}
	return out
}

var scriptName = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)

// folded gives a variable's name as the interpreter tells names apart.
func (s script) folded(name string) string {
	if s.dialect.name == "batch" {
		return strings.ToLower(name)
	}
	return name
}
