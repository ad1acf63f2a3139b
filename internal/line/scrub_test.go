package line_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/line"
)

func TestWhatAPeerEchoesIsScrubbed(t *testing.T) {
	t.Parallel()
	const secret = "marrows & leeks"
	for said, want := range map[string]string{
		"530 wrong: marrows & leeks":               "530 wrong: •••",
		"GET /in?p=marrows+%26+leeks":              "GET /in?p=•••",
		"/in/marrows%20&%20leeks":                  "/in/•••",
		"Basic bWFycm93cyAmIGxlZWtz!":              "Basic •••!",
		"6d6172726f77732026206c65656b73":           "•••",
		"nothing of it":                            "nothing of it",
		"twice marrows & leeks, marrows & leeks":   "twice •••, •••",
		"a part of it: marrows and something else": "a part of it: marrows and something else",
	} {
		assert.Equal(t, want, line.Scrub(said, "", "x", secret))
	}
	assert.Equal(t, "x marks it", line.Scrub("x marks it", "x"), "what is so short is found by chance")
}
