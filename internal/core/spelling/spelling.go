// Package spelling says how a text is typed, for a person who copies it into a field: what is easily missed or
// mistaken in it, letter by letter.
package spelling

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/runenames"
)

// alike are characters that look like others, and what they are.
var alike = map[rune]string{
	'0': "0 is a zero", '1': "1 is a one", 'l': "l is a small L", 'I': "I is a capital i", 'O': "O is a capital o",
	'|': "| is a bar",
}

// marks are what characters between words are called.
var marks = map[rune]string{
	' ': "blank", '-': "hyphen", '_': "underscore", '.': "dot", ',': "comma", '\'': "apostrophe", '/': "slash",
	'\\': "backslash", ':': "colon", '+': "plus", '(': "opening bracket", ')': "closing bracket",
}

// Say tells how a text is typed: its capitals, what stands between its words, whether it has blanks, and
// characters that look like others or are on no usual keyboard.
func Say(text string) string {
	if text == "" {
		return "nothing at all: empty the field"
	}
	var parts []string
	runes := []rune(text)
	var capitals []string
	small := 0
	for _, r := range runes {
		switch {
		case unicode.IsUpper(r):
			capitals = append(capitals, "capital "+string(r))
		case unicode.IsLower(r):
			small++
		}
	}
	switch {
	case len(capitals) == 0 && small > 0:
		parts = append(parts, "small letters only")
	case len(capitals) > 1 && small == 0:
		parts = append(parts, "capitals only")
	case len(capitals) > 0:
		parts = append(parts, strings.Join(capitals, ", "))
	}
	parts = append(parts, between(runes)...)
	if !strings.ContainsFunc(text, unicode.IsSpace) {
		parts = append(parts, "no blank")
	}
	seen := map[rune]bool{}
	for i, r := range runes {
		switch {
		case seen[r]:
		case alike[r] != "" && mistaken(runes, i):
			seen[r] = true
			parts = append(parts, alike[r])
		case r > unicode.MaxASCII:
			seen[r] = true
			parts = append(parts, fmt.Sprintf("%q is %s", r, strings.ToLower(runenames.Name(r))))
		}
	}
	parts = append(parts, fmt.Sprintf("%d characters", len(runes)))
	if len(runes) == 1 {
		parts[len(parts)-1] = "1 character"
	}
	return strings.Join(parts, ", ")
}

// between says what stands between the words, and where.
func between(runes []rune) (parts []string) {
	word := func(i int) string {
		from := i
		for from > 0 && marks[runes[from-1]] == "" {
			from--
		}
		return string(runes[from:i])
	}
	for i, r := range runes {
		mark := marks[r]
		if mark == "" {
			continue
		}
		if r == '-' && i == 0 && len(runes) > 1 && unicode.IsDigit(runes[1]) {
			mark = "minus"
		}
		article := "a "
		if strings.ContainsRune("aou", rune(mark[0])) {
			article = "an "
		}
		switch before := word(i); {
		case i == 0:
			parts = append(parts, article+mark+" first")
		case before == "":
			parts = append(parts, "then "+article+mark)
		default:
			parts = append(parts, fmt.Sprintf("%s%s after “%s”", article, mark, before))
		}
	}
	return parts
}

// mistaken reports whether a character may be read as another where it stands: a digit among letters, or a letter
// among digits.
func mistaken(runes []rune, i int) bool {
	digit := unicode.IsDigit(runes[i])
	for _, at := range []int{i - 1, i + 1} {
		if at < 0 || at >= len(runes) {
			continue
		}
		if next := runes[at]; digit && unicode.IsLetter(next) || !digit && unicode.IsDigit(next) {
			return true
		}
	}
	return false
}
