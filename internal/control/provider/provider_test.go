package provider_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/tollen"
	driver "reshard/internal/control/provider"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/provider"
	"reshard/internal/providerlink"
	"reshard/providers"
)

// game is a shell that plays a game server: it says that it is ready, answers, and ends when told.
const game = `trap 'echo all written; exit 0' TERM; exec 3<&0; echo "opened $(cat world)"; sleep 0.2; echo ready
while read -r line; do [ "$line" = seed ] && echo "seed is -7"; done <&3 & wait $!; while :; do sleep 0.1; done`

func start(t *testing.T, change func(*tollen.Plot)) (*tollen.Provider, *driver.Server) {
	t.Helper()
	plot := &tollen.Plot{ID: "14", Dir: t.TempDir(), Command: []string{"bash", "-c", game}}
	if change != nil {
		change(plot)
	}
	p, err := tollen.Start(plot)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	return p, driver.New(link(t, p.Origin(), p.Phrase), "fen", "14")
}

func link(t *testing.T, origin, phrase string) *providerlink.Link {
	t.Helper()
	d, err := provider.Parse("example", providers.Example())
	require.NoError(t, err)
	l, err := providerlink.New(providerlink.Account{
		Name: "quay", Origin: origin, User: "bram", Secret: phrase, Private: true,
	}, d)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	return l
}

func logOf(t *testing.T, s *driver.Server, run string) string {
	t.Helper()
	var all strings.Builder
	buf := make([]byte, 100)
	for at := int64(0); ; {
		n, err := s.ReadLog(context.Background(), run, buf, at)
		require.NoError(t, err)
		if n == 0 {
			return all.String()
		}
		all.Write(buf[:n])
		at += int64(n)
	}
}

func TestAServerAtAProvider(t *testing.T) {
	t.Parallel()
	_, s := start(t, nil)
	ctx := context.Background()
	seen, err := s.Look(ctx)
	require.NoError(t, err)
	assert.Nil(t, seen.Process)
	assert.Equal(t, life.SaidSo, seen.Evidence)
	require.NoError(t, s.Start(ctx))
	assert.ErrorIs(t, s.Start(ctx), fault.WrongState.As())
	seen, err = s.Look(ctx)
	require.NoError(t, err)
	require.NotNil(t, seen.Process)
	assert.False(t, seen.Process.Ready, "its log says when it is")
	require.Eventually(t, func() bool { return strings.Contains(logOf(t, s, seen.Run), "ready\n") }, 10*time.Second,
		100*time.Millisecond)
	require.NoError(t, s.Say(ctx, "seed"))
	require.ErrorIs(t, s.Say(ctx, "seed\nhalt"), fault.Invalid.As())
	require.Eventually(t, func() bool { return strings.Contains(logOf(t, s, seen.Run), "seed is -7\n") },
		10*time.Second,
		100*time.Millisecond)
	first := seen.Run
	require.NoError(t, s.Stop(ctx))
	require.Eventually(t, func() bool {
		seen, err = s.Look(ctx)
		return err == nil && seen.Process == nil
	}, 10*time.Second, 100*time.Millisecond)
	require.NoError(t, s.Start(ctx))
	seen, err = s.Look(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, first, seen.Run)
	time.Sleep(1200 * time.Millisecond)
	assert.NotContains(t, logOf(t, s, seen.Run), "seed is", "each run has its log")
	require.NoError(t, s.Stop(ctx))
}

// A stop that the server does not take is a kill after a while; a server that a watchdog starts again
// is another run.
func TestAProviderThatKillsAndWatches(t *testing.T) {
	t.Parallel()
	_, s := start(t, func(p *tollen.Plot) {
		p.Watchdog, p.KillsAfter = true, 300*time.Millisecond
		p.Command = []string{"bash", "-c", "trap '' TERM; echo ready; sleep 2; exit 1"}
	})
	ctx := context.Background()
	require.NoError(t, s.Start(ctx))
	seen, err := s.Look(ctx)
	require.NoError(t, err)
	first := seen.Run
	require.Eventually(t, func() bool {
		seen, err = s.Look(ctx)
		return err == nil && seen.Process != nil && seen.Run != first
	}, 20*time.Second, 50*time.Millisecond)
	assert.True(t, seen.Process.Ready, "its beginning was not heard")
	require.NoError(t, s.Stop(ctx))
	require.Eventually(t, func() bool {
		seen, err = s.Look(ctx)
		return err == nil && seen.Process == nil
	}, 5*time.Second, 50*time.Millisecond)
}

func TestSigningIn(t *testing.T) {
	t.Parallel()
	p, s := start(t, nil)
	ctx := context.Background()
	p.Lasts = 200 * time.Millisecond
	for range 3 {
		_, err := s.Look(ctx)
		require.NoError(t, err, "a pass that has run out is asked for anew")
		time.Sleep(300 * time.Millisecond)
	}
	assert.GreaterOrEqual(t, p.Signed, 3)
	p.Away(true)
	_, err := s.Look(ctx)
	assert.ErrorIs(t, err, fault.Unreachable.As())
	p.Away(false)
	_, err = s.Look(ctx)
	require.NoError(t, err)
	wrong := driver.New(link(t, p.Origin(), "wrong"), "fen", "14")
	_, err = wrong.Look(ctx)
	assert.ErrorIs(t, err, fault.Unreachable.As())
	assert.ErrorContains(t, err, "nobody of that name with that phrase lives here")
	assert.NotContains(t, err.Error(), "wrong")
	_, err = driver.New(link(t, p.Origin(), p.Phrase), "fen", "15").Look(ctx)
	assert.ErrorIs(t, err, fault.Refused.As())
	assert.ErrorContains(t, err, "there is no such plot")
}

// A provider that asks to wait is waited for.
func TestAProviderThatIsAskedTooOften(t *testing.T) {
	t.Parallel()
	p, s := start(t, nil)
	p.MostAMinute = 4
	ctx, done := context.WithTimeout(context.Background(), 3*time.Second)
	defer done()
	var err error
	for range 5 {
		if _, err = s.Look(ctx); err != nil {
			break
		}
	}
	assert.ErrorIs(t, err, context.DeadlineExceeded, "it waits as long as it may")
}

// Nothing is sent to another origin, nor to addresses that nobody has allowed.
func TestNothingGoesElsewhere(t *testing.T) {
	t.Parallel()
	asked := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	t.Cleanup(other.Close)
	turning := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL+"/gate", http.StatusTemporaryRedirect)
	}))
	t.Cleanup(turning.Close)
	_, err := driver.New(link(t, turning.URL, "x"), "fen", "14").Look(context.Background())
	assert.ErrorIs(t, err, fault.Unreachable.As())
	assert.ErrorContains(t, err, "another origin")
	assert.Zero(t, asked)

	d, err := provider.Parse("example", providers.Example())
	require.NoError(t, err)
	for _, origin := range []string{"http://panel.example", "https://panel.example/path", "ftp://panel.example",
		"https://bram:x@panel.example", "panel.example"} {
		_, err := providerlink.New(providerlink.Account{Name: "quay", Origin: origin}, d)
		assert.ErrorIs(t, err, fault.Invalid.As(), origin)
	}
	_, port, err := net.SplitHostPort(strings.TrimPrefix(other.URL, "http://"))
	require.NoError(t, err)
	for _, host := range []string{"127.0.0.1", "localhost", "[::1]", "[::ffff:127.0.0.1]"} {
		l, err := providerlink.New(providerlink.Account{Name: "quay", Origin: fmt.Sprintf("https://%s:%s", host, port)},
			d)
		require.NoError(t, err)
		_, err = l.Ask(context.Background(), &d.State.Request, "14", nil)
		assert.ErrorIs(t, err, fault.Refused.As(), host)
		assert.ErrorContains(t, err, "private network or of this machine", host)
	}
	assert.Zero(t, asked)
}
