package game

import (
	"encoding/hex"
	"regexp"
	"strings"

	"github.com/google/uuid"
)

var idForms = map[string]*regexp.Regexp{
	"uuid":       regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`),
	"uuid-plain": regexp.MustCompile(`^[0-9a-fA-F]{32}$`),
	"hex":        regexp.MustCompile(`^([0-9a-fA-F]{2})+$`),
	"decimal":    regexp.MustCompile(`^[0-9]+$`),
}

// ValidID reports whether an id is written in a format of IDFormats; an empty
// format and "name" take anything but an empty id.
func ValidID(format, id string) bool {
	if form, ok := idForms[format]; ok {
		return form.MatchString(id)
	}
	return id != ""
}

// SameID reports whether two ids are one: hexadecimal digits compare without
// regard to capitals and hyphens.
func SameID(format, a, b string) bool {
	if format == "uuid" || format == "uuid-plain" || format == "hex" {
		plain := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, "-", "")) }
		return plain(a) == plain(b)
	}
	return a == b
}

// ServerID gives the id under which a server knows an account, as the profile
// derives it (RFC 9562, version 5); ok is false when the profile does not say.
func (p *Players) ServerID(account string) (id string, ok bool) {
	if p == nil || p.Derive == nil {
		return "", false
	}
	space, err := uuid.Parse(p.Derive.UUID5)
	if err != nil {
		return "", false
	}
	made := uuid.NewSHA1(space, []byte(account))
	if p.ID == "uuid-plain" || p.ID == "hex" {
		return hex.EncodeToString(made[:]), true
	}
	return made.String(), true
}

// IDBytes gives an id as the bytes that a binary file holds; ok is false for ids
// that are not hexadecimal.
func IDBytes(format, id string) (b []byte, ok bool) {
	if format != "uuid" && format != "uuid-plain" && format != "hex" {
		return nil, false
	}
	b, err := hex.DecodeString(strings.ReplaceAll(id, "-", ""))
	return b, err == nil
}
