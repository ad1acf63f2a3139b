package game

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSeedsAreWrittenAsTheGameTakesThem(t *testing.T) {
	wide, marsh := Seeds{Bits: 64, Text: true}, Seeds{Bits: 64, Unsigned: true}
	narrow, bare := Seeds{Bits: 32}, Seeds{Bits: 32, Unsigned: true}
	for _, c := range []struct {
		seeds      Seeds
		seed, want string
		number     bool
		fails      string
	}{
		{wide, "-9000000000", "-9000000000", true, ""},
		{wide, "18446744073709551615", "-1", true, ""},
		{wide, "three marrows", "three marrows", false, ""},
		{wide, "", "", false, "whole numbers"},
		{wide, "two\nlines", "", false, "one line"},
		{wide, "99999999999999999999", "99999999999999999999", false, ""},
		{marsh, "-1", "18446744073709551615", true, ""},
		{marsh, "99999999999999999999", "", false, "more than 64 bits"},
		{marsh, "leeks", "", false, "whole numbers"},
		{narrow, "-2147483648", "-2147483648", true, ""},
		{narrow, "2147483648", "", false, "-2147483648 to 2147483647"},
		{bare, "-1", "4294967295", true, ""},
		{bare, "4294967296", "", false, "0 to 4294967295"},
		{Seeds{Bits: 64, Base: 16, Width: 16, Capitals: true}, "aabb", "000000000000AABB", true, ""},
		{Seeds{Bits: 64, Base: 16}, "FFFFFFFFFFFFFFFF", "ffffffffffffffff", true, ""},
		{Seeds{Bits: 64, Base: 16}, "leeks", "", false, "hexadecimal"},
		{Seeds{Bits: 32, Base: 16}, "1FFFFFFFF", "", false, "8 hexadecimal"},
	} {
		got, number, err := c.seeds.Written(c.seed)
		if c.fails != "" {
			assert.ErrorContains(t, err, c.fails, "%q", c.seed)
			continue
		}
		assert.NoError(t, err, "%q", c.seed)
		assert.Equal(t, c.want, got)
		assert.Equal(t, c.number, number, "%q", c.seed)
	}
	assert.True(t, wide.Same("-1", "18446744073709551615"))
	assert.True(t, wide.Same(" 7", "7"))
	assert.False(t, wide.Same("leeks", "leek"))
	hex := Seeds{Bits: 64, Base: 16, Width: 16, Capitals: true}
	assert.True(t, hex.Same("00112233AABBCCDD", "0x112233aabbccdd"))
	assert.Equal(t, "00000000000000FF", hex.Form(255))
	for _, n := range []uint64{0, 1, 1 << 63, 1<<64 - 1} { // what is drawn is taken
		for _, s := range []Seeds{wide, marsh, narrow, bare, hex, {Bits: 32, Base: 16}} {
			got, number, err := s.Written(s.Form(n))
			assert.NoError(t, err)
			assert.True(t, number)
			assert.Equal(t, s.Form(n), got)
		}
	}
}
