package providerlink_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/core/provider"
	"reshard/internal/providerlink"
)

// another is a provider of quite another shape than the example: a page with a form that leaves a cookie,
// pages instead of documents, and jobs that go on.
const another = `
reshard: provider/1
id: mill-race
title: Mill Race
sign-in:
  request:
    first: {get: /door, find: {seal: {find: 'name="seal" value="(?P<value>[^"]+)"'}}}
    post: /door
    form: {who: "{user}", word: "{secret}", seal: "{seal}"}
    expect: [200, 303]
rate: {requests: 600, in: 1s}
state:
  request: {get: "/wheel", query: {no: "{machine}"}}
  word: {find: '<b id="wheel">(?P<value>\w+)</b>'}
  running: [turns]
  stopped: [stands]
start:
  request:
    post: /wheel/turn
    form: {no: "{machine}"}
    job:
      name: {pick: /ticket}
      ask: {get: "/tickets/{job}"}
      state: {pick: /is}
      done: [done]
      failed: [broken]
      every: 10ms
      within: 300ms
upload:
  request: {post: /sluice, form: {no: "{machine}", shelf: "{folder}"}, file: sack}
  limit: 1 kB
unpack: {format: zip, request: {post: /sluice/open, form: {sack: "{path}", to: "{into}"}}}
errors: {find: '<p class="no">(?P<value>[^<]+)</p>'}
`

// mill is that provider.
type mill struct {
	mu      sync.Mutex
	turns   bool
	signed  int
	forgets bool // the next request finds its cookie forgotten
	busy    int  // so many requests are told to wait
	ticket  string
	asked   int
	sacks   []string // what came, and where it belongs
}

func (m *mill) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.busy > 0 {
		m.busy--
		w.Header().Set("Retry-After", "0")
		w.WriteHeader(http.StatusTooManyRequests)
		return
	}
	cookie, _ := r.Cookie("guest")
	knows := cookie != nil && cookie.Value == "bram" && !m.forgets
	switch at := r.Method + " " + r.URL.Path; {
	case at == "GET /door":
		fmt.Fprint(w, `<form><input type="hidden" name="seal" value="wax-7"></form>`)
	case at == "POST /door" && r.FormValue("seal") == "wax-7" && r.FormValue("word") == "open":
		m.signed++
		m.forgets = false
		http.SetCookie(w, &http.Cookie{Name: "guest", Value: r.FormValue("who"), Path: "/"})
		http.Redirect(w, r, "/wheel?no=none", http.StatusSeeOther)
	case at == "POST /door":
		w.WriteHeader(http.StatusForbidden)
		fmt.Fprint(w, `<p class="no">the door stays shut</p>`)
	case !knows:
		w.WriteHeader(http.StatusUnauthorized)
	case at == "GET /wheel":
		fmt.Fprintf(w, `<html><b id="wheel">%s</b></html>`, map[bool]string{true: "turns", false: "stands"}[m.turns])
	case at == "POST /wheel/turn" && r.FormValue("no") == "9":
		m.asked = 0
		fmt.Fprintf(w, `{"ticket": 41}`)
	case at == "POST /sluice":
		f, h, err := r.FormFile("sack")
		if err != nil || r.ContentLength < 0 {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		text, _ := io.ReadAll(f)
		if len(text) > 100 {
			w.WriteHeader(http.StatusRequestEntityTooLarge)
			fmt.Fprint(w, `<p class="no">too heavy</p>`)
			return
		}
		m.sacks = append(m.sacks, r.FormValue("no")+"/"+r.FormValue("shelf")+"/"+h.Filename+": "+string(text))
	case at == "GET /tickets/41":
		if m.asked++; m.asked > 3 && m.ticket == "done" {
			m.turns = true
		}
		is := "waits"
		if m.asked > 3 {
			is = m.ticket
		}
		fmt.Fprintf(w, `{"is": %q}`, is)
	default:
		w.WriteHeader(http.StatusNotFound)
	}
}

func TestAProviderOfAnotherShape(t *testing.T) {
	t.Parallel()
	m := &mill{ticket: "done"}
	s := httptest.NewServer(m)
	t.Cleanup(s.Close)
	d, err := provider.Parse("another", []byte(another))
	require.NoError(t, err)
	open := func(secret string) *providerlink.Link {
		l, err := providerlink.New(providerlink.Account{
			Name: "mill", Origin: s.URL, User: "bram", Secret: secret, Private: true,
		}, d)
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, l.Close()) })
		return l
	}
	l, ctx := open("open"), context.Background()
	word := func() string {
		body, err := l.Ask(ctx, &d.State.Request, "9", nil)
		require.NoError(t, err)
		word, err := d.State.Word.In(body)
		require.NoError(t, err)
		return word
	}
	assert.Equal(t, "stands", word())
	assert.Equal(t, "stands", word())
	assert.Equal(t, 1, m.signed, "the cookie counts")
	m.mu.Lock()
	m.forgets, m.busy = true, 2
	m.mu.Unlock()
	assert.Equal(t, "stands", word(), "it waits as it is asked to, and signs in anew")
	assert.Equal(t, 2, m.signed)

	_, err = l.Ask(ctx, d.Start.Request, "9", nil)
	require.NoError(t, err)
	assert.Equal(t, "turns", word(), "the job is waited for")
	m.ticket = "broken"
	_, err = l.Ask(ctx, d.Start.Request, "9", nil)
	assert.ErrorIs(t, err, fault.Refused.As())
	assert.ErrorContains(t, err, "job has failed")
	m.ticket = "waits"
	_, err = l.Ask(ctx, d.Start.Request, "9", nil)
	assert.ErrorIs(t, err, fault.TooSlow.As())

	send := func(text string) error {
		return l.Send(ctx, d.Upload.Request, "9",
			provider.Values{"path": "a/b/w.zip", "folder": "a/b", "name": "w.zip"},
			providerlink.File{Name: "w.zip", Size: int64(len(text)), Open: func() (io.ReadCloser, error) {
				return io.NopCloser(strings.NewReader(text)), nil
			}})
	}
	m.mu.Lock()
	m.forgets = true
	m.mu.Unlock()
	require.NoError(t, send("flour"), "the file is opened anew when it signs in anew")
	assert.Equal(t, []string{"9/a/b/w.zip: flour"}, m.sacks)
	err = send(strings.Repeat("x", 200))
	assert.ErrorIs(t, err, fault.TooLarge.As())
	assert.ErrorContains(t, err, "too heavy")
	assert.EqualValues(t, 1000, d.Upload.Most())

	_, err = open("wrong").Ask(ctx, &d.State.Request, "9", nil)
	assert.ErrorIs(t, err, fault.Unreachable.As())
	assert.ErrorContains(t, err, "the door stays shut")

	short, done := context.WithTimeout(ctx, 50*time.Millisecond)
	defer done()
	_, err = l.Ask(short, d.Start.Request, "9", nil)
	assert.True(t, errors.Is(err, context.DeadlineExceeded) || errors.Is(err, fault.TooSlow.As()), "%v", err)
}

// A provider that sends more than it may is left alone for a while, in what is asked and in what is listened to.
func TestAProviderThatSendsWithoutAnEnd(t *testing.T) {
	t.Parallel()
	for _, by := range []string{"events", "websocket"} {
		t.Run(by, func(t *testing.T) {
			t.Parallel()
			var asked atomic.Int64
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				asked.Add(1)
				if by == "websocket" {
					c, err := websocket.Accept(w, r, nil)
					if err != nil {
						return
					}
					_ = c.Write(r.Context(), websocket.MessageText, make([]byte, 2<<20))
					return
				}
				w.Header().Set("Content-Type", "text/event-stream")
				_, _ = io.WriteString(w, "data: ")
				for range 2 << 10 {
					if _, err := w.Write(bytes.Repeat([]byte("x"), 1<<10)); err != nil {
						return
					}
				}
			}))
			t.Cleanup(s.Close)
			d, err := provider.Parse("liar", []byte(`
reshard: provider/1
id: liar
title: Liar
sign-in: {header: {name: Authorization, value: "Bearer {secret}"}}
state: {request: {get: /state}, word: {pick: /is}, running: [up], stopped: [down]}
start: {request: {post: /start}}
log: {by: `+by+`, request: {get: /log}, text: /text}
`))
			require.NoError(t, err)
			l, err := providerlink.New(providerlink.Account{
				Name: "liar", Origin: s.URL, Secret: "plain words", Private: true,
			}, d)
			require.NoError(t, err)
			t.Cleanup(func() { assert.NoError(t, l.Close()) })
			listen := func() error {
				return l.Listen(context.Background(), "1", func() {}, func([]byte) error { return nil })
			}
			require.ErrorIs(t, listen(), fault.Misbehaving.As())
			before := asked.Load()
			assert.ErrorContains(t, listen(), "a message or event of more than 1 MB")
			_, err = l.Ask(context.Background(), &d.State.Request, "1", nil)
			assert.ErrorIs(t, err, fault.Misbehaving.As())
			assert.Equal(t, before, asked.Load(), "it is left alone")
		})
	}
}
