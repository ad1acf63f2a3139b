package notices

import (
	"bufio"
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/feed"
	"reshard/internal/jobs"
	"reshard/internal/records"
	"reshard/internal/records/recordstest"
	"reshard/internal/secrets"
	"reshard/internal/wire"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

const secret = "leeks and marrows and peas"

// bell is notices over a list of alerts that tests change.
type bell struct {
	*Notices
	mu     sync.Mutex
	alerts []wire.Alert
}

func (b *bell) set(list ...wire.Alert) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.alerts = list
}

func newBell(t *testing.T) *bell {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	r, err := records.Open(ctx, recordstest.Database(t), records.Claim{Who: "test"})
	require.NoError(t, err)
	keeper, _, err := secrets.Open(t.TempDir())
	require.NoError(t, err)
	quiet := slog.New(slog.DiscardHandler)
	q := jobs.New(r.Pool(), r.Acting, quiet)
	b := &bell{}
	b.Notices = New(Config{
		Records: r, Secrets: keeper, Queue: q, Feed: &feed.Feed{}, Log: quiet, Pace: 50 * time.Millisecond,
		Alerts: func(context.Context) ([]wire.Alert, error) {
			b.mu.Lock()
			defer b.mu.Unlock()
			return b.alerts, nil
		},
	})
	require.NoError(t, q.Open(ctx, ctx))
	var running sync.WaitGroup
	running.Go(func() { b.Run(ctx) })
	t.Cleanup(func() { stop(); running.Wait(); q.Close(); r.Close() })
	return b
}

// hook is a webhook that keeps what it got, once the signature is right.
type hook struct {
	*httptest.Server
	t     *testing.T
	fails atomic.Int64
	mu    sync.Mutex
	got   []Notice
}

func newHook(t *testing.T) *hook {
	h := &hook{t: t}
	h.Server = httptest.NewServer(h)
	t.Cleanup(h.Close)
	return h
}

var signed = regexp.MustCompile(
	`^reshard=(\("@method" "@target-uri" "content-digest"\);created=\d+;keyid="reshard";alg="hmac-sha256")$`)

// ServeHTTP verifies a notice as RFC 9421 says.
func (h *hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if h.fails.Add(-1) >= 0 {
		http.Error(w, "not now", http.StatusServiceUnavailable)
		return
	}
	body, err := io.ReadAll(r.Body)
	assert.NoError(h.t, err)
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	assert.Equal(h.t, digest, r.Header.Get("Content-Digest"))
	m := signed.FindStringSubmatch(r.Header.Get("Signature-Input"))
	if !assert.NotNil(h.t, m, r.Header.Get("Signature-Input")) {
		return
	}
	base := fmt.Sprintf("\"@method\": POST\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		h.URL+r.URL.Path,
		digest, m[1])
	mac := hmac.New(sha256.New, []byte(secret))
	_, _ = mac.Write([]byte(base))
	assert.Equal(h.t, "reshard=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":", r.Header.Get("Signature"))
	var n Notice
	assert.NoError(h.t, json.Unmarshal(body, &n))
	h.mu.Lock()
	defer h.mu.Unlock()
	h.got = append(h.got, n)
}

func (h *hook) events() (out []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, n := range h.got {
		out = append(out, n.Event+" "+n.Of)
	}
	return out
}

func TestAWebhookIsToldOnceAndAgainWhenItIsWell(t *testing.T) {
	b, h := newBell(t), newHook(t)
	ctx := context.Background()
	_, err := b.Add(ctx, wire.NewNoticeTarget{
		Name:    "club",
		Kind:    KindWebhook,
		URL:     h.URL + "/in",
		Secret:  secret,
		Private: true,
	}, "ada")
	require.NoError(t, err)
	assert.Equal(t, []string{"test club"}, h.events(), "it is told that it was added")
	late := wire.Alert{Kind: "rule", Of: "north usual", Says: "it is late", Next: "look", Since: time.Now()}
	h.fails.Store(1) // the first try goes wrong
	b.set(late)
	require.Eventually(t, func() bool { return len(h.events()) == 2 }, 20*time.Second, 20*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, []string{"test club", "began north usual"}, h.events(), "once, however often it is looked")
	b.set()
	require.Eventually(t, func() bool { return len(h.events()) == 3 }, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, "ended north usual", h.events()[2])
	b.set(late)
	require.Eventually(t, func() bool { return len(h.events()) == 4 }, 20*time.Second, 20*time.Millisecond)
	_, err = b.Try(ctx, "club")
	require.NoError(t, err)
	list, err := b.Targets(ctx)
	require.NoError(t, err)
	assert.NotNil(t, list[0].Told)
	require.NoError(t, b.Remove(ctx, "club"))
	_, err = b.Try(ctx, "club")
	require.ErrorIs(t, err, fault.NotFound.As())
}

func TestATargetThatCannotBeTold(t *testing.T) {
	b, h := newBell(t), newHook(t)
	for name, c := range map[string]struct {
		in    wire.NewNoticeTarget
		words string
	}{
		"private": {
			wire.NewNoticeTarget{Kind: KindWebhook, URL: "https://127.0.0.1:1/in", Secret: secret},
			"an address of a private network",
		},
		"not encrypted": {wire.NewNoticeTarget{Kind: KindWebhook, URL: h.URL, Secret: secret}, "not encrypted"},
		"short": {
			wire.NewNoticeTarget{Kind: KindWebhook, URL: h.URL, Secret: "peas", Private: true},
			"at least 16 characters",
		},
		"nowhere": {wire.NewNoticeTarget{Kind: KindWebhook, URL: "peas", Secret: secret}, "no address"},
		"nobody": {
			wire.NewNoticeTarget{Kind: KindMail, Server: "127.0.0.1:1", From: "a@mill.example"},
			"not said to whom",
		},
		"no mail": {
			wire.NewNoticeTarget{Kind: KindMail, Server: "127.0.0.1:1", From: "ada", To: []string{"a@mill.example"}},
			"no mail address",
		},
		"odd": {wire.NewNoticeTarget{Kind: "pigeon"}, "no kind of target"},
	} {
		c.in.Name = "club"
		_, err := b.Add(context.Background(), c.in, "ada")
		assert.ErrorContains(t, err, c.words, name)
	}
	list, err := b.Targets(context.Background())
	require.NoError(t, err)
	assert.Empty(t, list)
}

// post is a mail server (RFC 5321) that takes everything.
func post(t *testing.T) (address string, mails func() string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	var mu sync.Mutex
	var got bytes.Buffer
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close() //nolint:errcheck // it is read no more
				fmt.Fprint(c, "220 post.mill.example\r\n")
				data := false
				for lines := bufio.NewScanner(c); lines.Scan(); {
					line := lines.Text()
					mu.Lock()
					fmt.Fprintln(&got, line)
					mu.Unlock()
					switch {
					case data && line == ".":
						data = false
						fmt.Fprint(c, "250 taken\r\n")
					case data:
					case strings.HasPrefix(line, "EHLO"):
						fmt.Fprint(c, "250-post.mill.example\r\n250 8BITMIME\r\n")
					case line == "DATA":
						data = true
						fmt.Fprint(c, "354 go on\r\n")
					case line == "QUIT":
						fmt.Fprint(c, "221 bye\r\n")
						return
					default:
						fmt.Fprint(c, "250 ok\r\n")
					}
				}
			}()
		}
	}()
	return l.Addr().String(), func() string { mu.Lock(); defer mu.Unlock(); return got.String() }
}

func TestMail(t *testing.T) {
	b := newBell(t)
	address, mails := post(t)
	_, err := b.Add(context.Background(), wire.NewNoticeTarget{
		Name: "ada", Kind: KindMail, Server: address, Secure: overNothing, From: "reshard@mill.example",
		To: []string{"ada@mill.example"}, Private: true,
	}, "ada")
	require.NoError(t, err)
	b.set(wire.Alert{
		Kind:  "store",
		Of:    "granary",
		Says:  "Store granary is behind.",
		Next:  "reshard stores show granary",
		Since: time.Now(),
	})
	require.Eventually(t, func() bool { return strings.Contains(mails(), "needs you: granary") }, 20*time.Second,
		20*time.Millisecond)
	b.set()
	require.Eventually(t, func() bool { return strings.Contains(mails(), "well again: granary") }, 20*time.Second,
		20*time.Millisecond)
	assert.Contains(t, mails(), "RCPT TO:<ada@mill.example>")
	assert.Contains(t, mails(), "Next: reshard stores show granary")
}
