package game_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/game"
)

// pattern makes a profile's own expression.
func pattern(t *testing.T, text string) game.Pattern {
	t.Helper()
	p, err := game.Parse("p", fmt.Appendf(nil, `reshard: game/1
id: p
title: P
world:
  shape: folder
  recognise: {require: [a]}
  facts: {title: {read: a, through: [text], type: list, match: %q}}
server:
  kinds: {plain: {}}
  worlds: worlds/
  settings: {main: {file: server.env, format: env}}
  keys: {active-world: [{in: main, key: WORLD}]}
  console: {ready: ready, stop: {say: stop}}
`, text))
	require.NoError(t, err, text)
	return p.World.Facts["title"][0].Match
}

// All matches are those of package regexp, whatever the expression asks of what stands around
// a match.
func TestAllMatchesAreFound(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 2)) //nolint:gosec // texts for a test
	for _, text := range []string{
		`(?P<value>a+)`, `(?m)^(?P<value>a*)$`, `\b(?P<value>\w+)\b`, `(?P<value>a?)`, `(?P<value>)`,
		`(?s)(?P<value>.)`,
		`a(?P<value>b)?`, `(?P<value>ä|b)`, `\A(?P<value>a)`, `(?P<value>a)\z`, `(?m)^(?P<value>[^\n]+)\n`,
		`\B(?P<value>a)`,
		`x|(?P<value>a)b`,
	} {
		p, re := pattern(t, text), regexp.MustCompile(text)
		for range 200 {
			var b strings.Builder
			for range random.IntN(12) {
				b.WriteString([]string{"a", "b", "\n", " ", "ä", "\xff"}[random.IntN(6)])
			}
			var want []string
			for _, m := range re.FindAllStringSubmatch(b.String(), -1) {
				want = append(want, m[re.SubexpIndex("value")])
			}
			got, err := p.FindAll(b.String(), 1000, func() error { return nil })
			require.NoError(t, err)
			assert.Equal(t, want, got, "%s in %q", text, b.String())
		}
	}
	p := pattern(t, `(?P<value>a)`)
	got, err := p.FindAll("aaaa", 2, func() error { return nil })
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "a"}, got)
	_, err = p.FindAll("aaaa", 9, func() error { return errors.New("no time left") })
	assert.Error(t, err)
}

func TestExpressionsHaveASize(t *testing.T) {
	t.Parallel()
	for text, why := range map[string]string{
		`(?P<value>(a{100}b{100}c{100}){9})`:           "repetitions",
		`(?P<value>((a{100}){100}){100})`:              "",
		`(?P<value>` + strings.Repeat("a", 2000) + `)`: "more than 2000 bytes",
		`(?P<value>[[:^alpha:]]{1000}{2})`:             "",
	} {
		_, complaints := game.Lint(
			fmt.Appendf(nil, "reshard: game/1\nid: p\ntitle: P\nworld: {facts: {t: {read: a, match: %q}}}", text))
		told := fmt.Sprint(complaints)
		assert.Contains(t, told, "not a regular expression", text)
		assert.Contains(t, told, why, text)
	}
	p := pattern(t, `(?P<value>a{1000})`)
	assert.NoError(t, p.Fits(1<<20))
	assert.Error(t, p.Fits(32<<20), "the longest text by the largest expression would take too long")
}
