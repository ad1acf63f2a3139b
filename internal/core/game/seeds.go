package game

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
)

// SeedBits reads a seed as 64 bits, with or without a sign.
func SeedBits(text string) (uint64, bool) {
	text = strings.TrimSpace(text)
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return uint64(n), true
	}
	n, err := strconv.ParseUint(text, 10, 64)
	return n, err == nil
}

// Number reads a seed as the game writes it.
func (s Seeds) Number(text string) (uint64, bool) {
	if s.Base != 16 {
		return SeedBits(text)
	}
	text = strings.TrimSpace(text)
	digits := strings.TrimPrefix(strings.TrimPrefix(text, "0x"), "0X")
	n, err := strconv.ParseUint(digits, 16, 64)
	return n, err == nil
}

// Same reports whether two seeds are the same number: one program writes 64 bits with a sign or in capitals, another
// without.
func (s Seeds) Same(a, b string) bool {
	if a == b {
		return true
	}
	x, ok := s.Number(a)
	y, also := s.Number(b)
	return ok && also && x == y
}

// Form writes a number as the game writes its seeds. Bits that the game does not take are left out.
func (s Seeds) Form(n uint64) string {
	if s.Bits == 32 {
		n = uint64(uint32(n)) //nolint:gosec // as it is said
	}
	switch {
	case s.Base == 16 && s.Capitals:
		return fmt.Sprintf("%0*X", s.Width, n)
	case s.Base == 16:
		return fmt.Sprintf("%0*x", s.Width, n)
	case s.Unsigned:
		return strconv.FormatUint(n, 10)
	case s.Bits == 32:
		return strconv.FormatInt(int64(int32(uint32(n))), 10) //nolint:gosec // as it is said
	}
	return strconv.FormatInt(int64(n), 10) //nolint:gosec // the same bits with a sign
}

// Written gives a seed as the game's settings take it: a number in the game's own
// form, or words where it takes words. The error says what it takes.
func (s Seeds) Written(seed string) (value string, number bool, err error) {
	n, number := s.Number(seed)
	signed := int64(n) //nolint:gosec // the same bits with a sign
	switch {
	case strings.ContainsAny(seed, "\r\n\x00") || len(seed) > 200:
		return "", false, fmt.Errorf("a seed is one line of at most 200 characters")
	case !number && seed != "" && s.Text:
		return seed, false, nil
	case s.Base == 16 && (!number || s.Bits == 32 && n > 1<<32-1):
		return "", false, fmt.Errorf("this game takes up to %d hexadecimal digits only", cmp.Or(s.Bits, 64)/4)
	case !number && strings.Trim(seed, "+-0123456789") == "" && seed != "":
		return "", false, fmt.Errorf("%s has more than 64 bits", seed)
	case !number:
		return "", false, fmt.Errorf("this game takes whole numbers only")
	case s.Bits == 32 && signed >= -1<<31 && signed < 0 && s.Unsigned:
		return s.Form(n), true, nil
	case s.Bits == 32 && s.Unsigned && n > 1<<32-1:
		return "", false, fmt.Errorf("this game takes 0 to %d", uint32(1<<32-1))
	case s.Bits == 32 && !s.Unsigned && s.Base != 16 && (signed < -1<<31 || signed > 1<<31-1):
		return "", false, fmt.Errorf("this game takes %d to %d", -1<<31, 1<<31-1)
	}
	return s.Form(n), true, nil
}
