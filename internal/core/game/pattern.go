package game

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"unicode/utf8"
)

// Pattern is a regular expression (RE2, linear time) and its source.
type Pattern struct {
	Text string
	re   *regexp.Regexp
	// size is about how many instructions it has: looking through a text takes at most
	// as many steps as size times its length.
	size int
	// next finds a match that does not begin with the text's first character, which stands
	// there for what comes before.
	next *regexp.Regexp
}

// Bounds of regular expressions. A repetition of repetitions is short to write and large to
// carry out: x{9}{9}{9} has 729 instructions.
const (
	longestPattern = 2_000  // in bytes
	largestPattern = 2_000  // in instructions
	mostPatterns   = 20_000 // of a profile, in instructions
	mostSteps      = 2e9    // of one search
)

// UnmarshalYAML keeps the source; Parse compiles it so that a complaint has a line.
func (p *Pattern) UnmarshalYAML(unmarshal func(any) error) error { return unmarshal(&p.Text) }

// IsZero reports whether there is no pattern.
func (p Pattern) IsZero() bool { return p.Text == "" }

// compile makes a regular expression of its source, if it is within bounds.
func (p *Pattern) compile() error {
	if len(p.Text) > longestPattern {
		return fmt.Errorf("it has more than %d bytes", longestPattern)
	}
	tree, err := syntax.Parse(p.Text, syntax.Perl)
	if err != nil {
		return err
	}
	if p.size = instructions(tree); p.size > largestPattern {
		return fmt.Errorf("its repetitions make it larger than %d instructions", largestPattern)
	}
	if p.re, err = regexp.Compile(p.Text); err != nil {
		return err
	}
	p.next, err = regexp.Compile(`\A(?s:.)(?s:.*?)(` + p.Text + `)`)
	return err
}

// instructions is about how many a syntax tree compiles to.
func instructions(re *syntax.Regexp) int {
	n := 0
	for _, sub := range re.Sub {
		n += instructions(sub)
	}
	switch re.Op {
	case syntax.OpLiteral:
		n = len(re.Rune)
	case syntax.OpCharClass:
		n = 1 + len(re.Rune)/2 // the larger the class, the longer each step
	case syntax.OpRepeat:
		n *= max(re.Max, re.Min+1)
	default:
		n++
	}
	return min(n, 1<<24)
}

// regexp compiles one of a profile's expressions; all of them together are bounded, too.
func (l *linter) regexp(text string) (*Pattern, error) {
	p := Pattern{Text: text}
	if err := p.compile(); err != nil {
		return nil, err
	}
	if l.patterns += p.size; l.patterns > mostPatterns {
		return nil, fmt.Errorf("with it the profile's expressions have more than %d instructions", mostPatterns)
	}
	return &p, nil
}

// Compile makes the expression usable outside of a profile; group is one that it must have.
func (p *Pattern) Compile(group string) error {
	if err := p.compile(); err != nil {
		return fmt.Errorf("not a regular expression: %w", err)
	}
	if p.re.SubexpIndex(group) < 0 {
		return fmt.Errorf("the expression needs a group named %q: (?P<%s>…)", group, group)
	}
	return nil
}

// Fits refuses a text that it would take too long to look through; length is in bytes.
func (p Pattern) Fits(length int) error {
	if float64(length)*float64(p.size) > mostSteps {
		return fmt.Errorf("the text has %d bytes, too many for this expression", length)
	}
	return nil
}

// FindAll gives the group "value" of every match in a text, at most the given number. more
// is asked before each further match: its error ends the search, since an expression may
// look as far as the text's end for each.
func (p Pattern) FindAll(text string, most int, more func() error) ([]string, error) {
	if p.re == nil {
		return nil, nil
	}
	if err := p.Fits(len(text)); err != nil {
		return nil, err
	}
	group := 2 * max(p.re.SubexpIndex("value"), 0)
	var out []string
	m, at, before := p.re.FindStringSubmatchIndex(text), 0, -1
	for m != nil {
		from, to := at+m[0], at+m[1]
		if to > from || from != before { // an empty match behind another is none, as in package regexp
			value := ""
			if m[group] >= 0 {
				value = text[at+m[group] : at+m[group+1]]
			}
			if out = append(out, value); len(out) == most {
				break
			}
		}
		if err := more(); err != nil {
			return nil, err
		}
		before = to
		if to == from {
			_, width := utf8.DecodeRuneInString(text[to:])
			to += max(width, 1)
		}
		if to > len(text) {
			break
		}
		// One character of what has been looked through stays: ^ and \b ask for it.
		_, width := utf8.DecodeLastRuneInString(text[:to])
		at = to - width
		if m = p.next.FindStringSubmatchIndex(text[at:]); m != nil {
			m = m[2:] // its own first group is the expression
		}
	}
	return out, nil
}

// Place gives where the group "value" of the first match in a text stands.
func (p Pattern) Place(text string) (from, to int, ok bool) {
	if p.re == nil || p.Fits(len(text)) != nil {
		return 0, 0, false
	}
	m := p.re.FindStringSubmatchIndex(text)
	if m == nil {
		return 0, 0, false
	}
	group := max(p.re.SubexpIndex("value"), 0)
	return m[2*group], m[2*group+1], m[2*group] >= 0
}

// Find matches a line and gives its named groups; ok is false without a match.
func (p Pattern) Find(line string) (groups map[string]string, ok bool) {
	if p.re == nil {
		return nil, false
	}
	m := p.re.FindStringSubmatch(line)
	if m == nil {
		return nil, false
	}
	groups = map[string]string{}
	for i, name := range p.re.SubexpNames() {
		if name != "" {
			groups[name] = m[i]
		}
	}
	return groups, true
}

// FindIn is Find in a text of any length, which may be too long to be looked through.
func (p Pattern) FindIn(text string) (groups map[string]string, ok bool, err error) {
	if err := p.Fits(len(text)); err != nil {
		return nil, false, err
	}
	groups, ok = p.Find(text)
	return groups, ok, nil
}
