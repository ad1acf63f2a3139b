package game

import (
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

// SameSeed reports whether two seeds are the same number: one program writes 64
// bits with a sign, another without.
func SameSeed(a, b string) bool {
	if a == b {
		return true
	}
	x, ok := SeedBits(a)
	y, also := SeedBits(b)
	return ok && also && x == y
}

// Written gives a seed as the game's settings take it: a number in the game's own
// form, or words where it takes words. The error says what it takes.
func (s Seeds) Written(seed string) (value string, number bool, err error) {
	n, number := SeedBits(seed)
	switch {
	case strings.ContainsAny(seed, "\r\n\x00") || len(seed) > 200:
		return "", false, fmt.Errorf("a seed is one line of at most 200 characters")
	case !number && seed != "" && s.Text:
		return seed, false, nil
	case !number && strings.Trim(seed, "+-0123456789") == "" && seed != "":
		return "", false, fmt.Errorf("%s has more than 64 bits", seed)
	case !number:
		return "", false, fmt.Errorf("this game takes whole numbers only")
	case s.Bits == 32 && int64(n) >= -1<<31 && int64(n) < 0 && s.Unsigned:
		return strconv.FormatUint(uint64(uint32(n)), 10), true, nil
	case s.Bits == 32 && s.Unsigned && n > 1<<32-1:
		return "", false, fmt.Errorf("this game takes 0 to %d", uint32(1<<32-1))
	case s.Bits == 32 && !s.Unsigned && (int64(n) < -1<<31 || int64(n) > 1<<31-1):
		return "", false, fmt.Errorf("this game takes %d to %d", -1<<31, 1<<31-1)
	case s.Unsigned:
		return strconv.FormatUint(n, 10), true, nil
	}
	return strconv.FormatInt(int64(n), 10), true, nil
}
