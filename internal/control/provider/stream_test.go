package provider_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/tollen"
	driver "reshard/internal/control/provider"
	"reshard/internal/core/fault"
	"reshard/internal/core/provider"
	"reshard/internal/providerlink"
	"reshard/providers"
)

// aloud is the example's description with a log that comes by server-sent events.
func aloud(t *testing.T) *provider.Description {
	t.Helper()
	text := string(providers.Example())
	from, rest, ok := strings.Cut(text, "log:\n")
	require.True(t, ok)
	_, rest, ok = strings.Cut(rest, "next: {pick: /nextPage}\n")
	require.True(t, ok)
	d, err := provider.Parse("aloud", []byte(from+`log:
  by: events
  request: {get: "/gate/plots/{machine}/diary/aloud"}
  event: entry
  text: /entry
`+rest))
	require.NoError(t, err)
	return d
}

// A log that comes by server-sent events is heard from a run's beginning, once, whoever breaks the stream.
func TestALogThatComesByEvents(t *testing.T) {
	t.Parallel()
	plot := &tollen.Plot{ID: "14", Dir: t.TempDir(), Command: []string{"bash", "-c", game}}
	p, err := tollen.Start(plot)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	l, err := providerlink.New(providerlink.Account{
		Name: "quay", Origin: p.Origin(), User: p.User, Secret: p.Phrase, Private: true,
	}, aloud(t))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	s := driver.New(l, "fen", "14")
	ctx := context.Background()
	require.NoError(t, s.Start(ctx))
	seen, err := s.Look(ctx)
	require.NoError(t, err)
	has := func(run, want string) func() bool {
		return func() bool { return strings.Contains(logOf(t, s, run), want) }
	}
	require.Eventually(t, has(seen.Run, "ready\n"), 10*time.Second, 50*time.Millisecond)
	p.Break() // and what was last is told again
	require.NoError(t, s.Say(ctx, "seed"))
	require.Eventually(t, has(seen.Run, "seed is -7\n"), 10*time.Second, 50*time.Millisecond)
	assert.Equal(t, 1, strings.Count(logOf(t, s, seen.Run), "ready\n"), "nothing is heard twice")
	require.NoError(t, s.Stop(ctx))
	require.Eventually(t, func() bool {
		seen, err = s.Look(ctx)
		return err == nil && seen.Process == nil
	}, 10*time.Second, 50*time.Millisecond)
	require.NoError(t, s.Start(ctx))
	seen, err = s.Look(ctx)
	require.NoError(t, err)
	require.Eventually(t, has(seen.Run, "ready\n"), 10*time.Second, 50*time.Millisecond)
	assert.NotContains(t, logOf(t, s, seen.Run), "seed is", "each run has its log")
	require.NoError(t, s.Stop(ctx))
}

const chatty = `reshard: provider/1
id: chatty
title: Chatty
sign-in: {header: {name: X-Key, value: "{secret}"}}
state: {request: {get: /state}, word: {find: 'is (?P<value>\w+)'}, running: [on], stopped: [off]}
log:
  by: websocket
  request: {get: /talk, query: {of: "{machine}"}}
  say: {tell: {from: "{machine}"}}
  lines: /said
`

// One that comes over a WebSocket is asked for by a message, and taken up again when it breaks.
func TestALogThatComesOverAWebSocket(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	said := []string{"before"}
	talks := 0
	r := http.NewServeMux()
	r.HandleFunc("GET /state", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("it is on")) })
	r.HandleFunc("GET /talk", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-Key") != "secret" {
			http.Error(w, "who are you?", http.StatusForbidden)
			return
		}
		c, err := websocket.Accept(w, r, nil)
		if !assert.NoError(t, err) {
			return
		}
		defer c.CloseNow() //nolint:errcheck // it ends
		_, hello, err := c.Read(r.Context())
		if !assert.NoError(t, err) {
			return
		}
		assert.JSONEq(t, `{"tell": {"from": "14"}}`, string(hello))
		mu.Lock()
		talks++
		first := talks == 1
		mu.Unlock()
		for at := 0; ; time.Sleep(20 * time.Millisecond) {
			mu.Lock()
			news, _ := json.Marshal(map[string]any{"said": said[at:]})
			at = len(said)
			mu.Unlock()
			if c.Write(r.Context(), websocket.MessageText, news) != nil || first && at > 2 {
				return
			}
		}
	})
	server := httptest.NewServer(r)
	t.Cleanup(server.Close)
	d, err := provider.Parse("chatty", []byte(chatty))
	require.NoError(t, err)
	open := func(secret string) *driver.Server {
		l, err := providerlink.New(providerlink.Account{
			Name: "quay", Origin: server.URL, Secret: secret, Private: true,
		}, d)
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, l.Close()) })
		return driver.New(l, "fen", "14")
	}
	ctx := context.Background()
	s := open("secret")
	text, err := s.Heard(ctx)
	require.NoError(t, err)
	assert.Equal(t, "before\n", text)
	add := func(lines ...string) {
		mu.Lock()
		said = append(said, lines...)
		mu.Unlock()
	}
	add("two", "three") // it breaks after that
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return talks > 1 }, 10*time.Second,
		20*time.Millisecond)
	add("four")
	require.Eventually(t, func() bool {
		text, _ := s.Heard(ctx)
		return strings.HasSuffix(text, "four\n")
	}, 10*time.Second, 20*time.Millisecond)
	text, err = s.Heard(ctx)
	require.NoError(t, err)
	assert.Equal(t, "before\ntwo\nthree\nfour\n", text)
	_, err = open("wrong").Heard(ctx)
	assert.ErrorIs(t, err, fault.Unreachable.As())
	assert.ErrorContains(t, err, "does not accept what is kept for it")
}
