// Package filename carries names of files that are not UTF-8 through what takes only UTF-8:
// trees of io/fs, JSON, the database. On many systems a name is any row of bytes; a world
// from such a system comes back with the names that it came with.
//
// A byte b that is no part of UTF-8 stands as the character U+10FF00+b, of a plane for private
// use; where a name holds one of these characters itself, its bytes stand so too. What has
// none of either is its own name.
package filename

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// first is the character that byte 0 would stand as; only bytes from 0x80 do.
const first = 0x10ff00

func stands(r rune) bool { return r >= first+0x80 && r <= first+0xff }

// marked reports whether a name may hold such characters: all of them begin alike.
func marked(name string) bool {
	return strings.Contains(name, "\xf4\x8f\xbe") || strings.Contains(name, "\xf4\x8f\xbf")
}

// Encode gives a name in UTF-8 for a name of any bytes.
func Encode(raw string) string {
	if utf8.ValidString(raw) && !marked(raw) {
		return raw
	}
	var b strings.Builder
	for i := 0; i < len(raw); {
		r, width := utf8.DecodeRuneInString(raw[i:])
		if (r == utf8.RuneError && width == 1) || stands(r) {
			for _, c := range []byte(raw[i : i+width]) {
				b.WriteRune(first + rune(c))
			}
		} else {
			b.WriteString(raw[i : i+width])
		}
		i += width
	}
	return b.String()
}

// Decode gives the bytes of a name that Encode gave.
func Decode(name string) string {
	if !marked(name) {
		return name
	}
	var b strings.Builder
	for _, r := range name {
		if stands(r) {
			b.WriteByte(byte(r - first))
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Show gives a name for people: what cannot be shown is escaped, bytes as \xNN.
func Show(name string) string {
	if strings.IndexFunc(name, func(r rune) bool { return stands(r) || !unicode.IsPrint(r) || r == '\\' }) < 0 {
		return name
	}
	var b strings.Builder
	for _, r := range name {
		switch {
		case stands(r):
			fmt.Fprintf(&b, `\x%02x`, r-first)
		case r == '\\':
			b.WriteString(`\\`)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case unicode.IsPrint(r):
			b.WriteRune(r)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u{%x}`, r)
		}
	}
	return b.String()
}

// Quote is Show in double quotes.
func Quote(name string) string { return `"` + strings.ReplaceAll(Show(name), `"`, `\"`) + `"` }
