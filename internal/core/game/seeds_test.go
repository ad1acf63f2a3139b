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
	assert.True(t, SameSeed("-1", "18446744073709551615"))
	assert.True(t, SameSeed(" 7", "7"))
	assert.False(t, SameSeed("leeks", "leek"))
}
