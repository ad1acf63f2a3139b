package provider_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/provider"
)

func TestWhatStandsAtAPlace(t *testing.T) {
	t.Parallel()
	const body = `{"a": [{"b/c": 1.50}, "x\ty", null, true], "a~": {"": "empty"}, "twice": 1, "twice": 2}`
	for _, c := range []struct{ at, want string }{
		{"/a/0/b~1c", "1.50"}, {"/a/1", "x\ty"}, {"/a/3", "true"}, {"/a~0/", "empty"}, {"/twice", "2"},
	} {
		got, err := provider.Answer{Pick: c.at}.In([]byte(body))
		require.NoError(t, err, c.at)
		assert.Equal(t, c.want, got)
	}
	for _, at := range []string{"/a", "/a/2", "/a/4", "/a/-1", "/b", "/a/1/0", "/twice/x"} {
		_, err := provider.Answer{Pick: at}.In([]byte(body))
		assert.Error(t, err, at)
	}
	for _, body := range []string{"", "{", `{"a":`, "x"} {
		_, err := provider.Answer{Pick: "/a"}.In([]byte(body))
		assert.ErrorContains(t, err, "its answer is no JSON", body)
	}
	_, err := provider.List(provider.Value(`{"a": 1}`))
	assert.ErrorContains(t, err, "it is not a list")
	list, err := provider.List(provider.Value(` [1, [2, 3], "x"]`))
	require.NoError(t, err)
	assert.Equal(t, []provider.Value{provider.Value("1"), provider.Value("[2, 3]"), provider.Value(`"x"`)}, list)
}

// An answer of very many small values costs no more than any file may.
func TestAnAnswerOfManyValues(t *testing.T) {
	for _, unit := range []string{`{"":0},`, `[0],`, `{},`, `"",`, `1,`} {
		body := []byte("[" + strings.Repeat(unit, (4<<20)/len(unit)-1) + "0]")
		budgettest.Within(t, func() {
			value, err := provider.Pick(body, "")
			require.NoError(t, err)
			_, err = provider.List(value)
			require.ErrorContains(t, err, "it has more than 100000 items")
		})
		budgettest.Within(t, func() {
			_, err := provider.Answer{Pick: "/99999999/x"}.In(body)
			require.Error(t, err)
		})
	}
	_, err := provider.At(provider.Value("[]"), strings.Repeat("/0", 33))
	require.ErrorContains(t, err, "more than 32 parts")
	deep := []byte(strings.Repeat("[", 2<<20) + strings.Repeat("]", 2<<20))
	budgettest.Within(t, func() {
		_, err := provider.Answer{Pick: strings.Repeat("/0", 32)}.In(deep)
		require.Error(t, err)
	})
}

// Whatever a provider answers, reading it costs no more than any file may, and gives what a decoder gives.
func FuzzAnswer(f *testing.F) {
	f.Add([]byte(`{"a": [1, {"b": "x"}]}`), "/a/1/b")
	f.Add([]byte(`[[[]]]`), "/0/0")
	f.Add([]byte(`{"": {"~": 1e5}}`), "//~0")
	f.Fuzz(func(t *testing.T, body []byte, pointer string) {
		if len(pointer) > 0 && pointer[0] != '/' || len(pointer) > 1000 {
			return
		}
		budgettest.Within(t, func() {
			value, err := provider.Pick(body, pointer)
			if err == nil && !json.Valid(value) {
				t.Fatalf("%q at %q is %q", body, pointer, value)
			}
			_, _ = provider.Scalar(value)
			_, _ = provider.List(value)
		})
	})
}
