package providerlink

import (
	"context"
	"errors"
	"io"
	"net/http"
	"time"

	"github.com/coder/websocket"
	"github.com/tmaxmax/go-sse"

	"reshard/internal/core/fault"
	"reshard/internal/core/provider"
)

// mostTold bounds one message or event, in bytes.
const mostTold = 1 << 20

// silence is how long a stream may be silent before it is asked whether it is still there, and, where that
// cannot be asked, before it is begun anew.
const silence = time.Minute

// Listen opens the log's stream of a machine, and gives each message or event until the stream or ctx ends,
// or the link is closed. opened is called once it stands.
func (l *Link) Listen(ctx context.Context, machine string, opened func(), told func([]byte) error) error {
	ctx, done := context.WithCancel(ctx)
	defer done()
	defer context.AfterFunc(l.ended, done)()
	g := l.of.Log
	if err := l.rest.Err(); err != nil {
		return err
	}
	return l.signedIn(ctx, machine, nil, func(values provider.Values) error {
		values, err := l.first(ctx, g.Request.First, values)
		if err != nil {
			return err
		}
		if err := l.turn(ctx); err != nil {
			return err
		}
		req, err := l.request(ctx, g.Request, values, nil, nil)
		if err != nil {
			return err
		}
		if g.By == provider.LogWebSocket {
			return l.overSocket(ctx, req, values, opened, told)
		}
		return l.overEvents(ctx, done, req, opened, told)
	})
}

// overSocket listens over a WebSocket (RFC 6455).
func (l *Link) overSocket(ctx context.Context, req *http.Request, values provider.Values, opened func(),
	told func([]byte) error,
) error {
	g := l.of.Log
	dctx, done := context.WithTimeout(ctx, answerPatience)
	c, answer, err := websocket.Dial(dctx, req.URL.String(),
		&websocket.DialOptions{HTTPClient: l.streams, HTTPHeader: req.Header})
	done()
	if err != nil {
		if answer != nil && answer.StatusCode >= http.StatusBadRequest {
			body, _ := io.ReadAll(io.LimitReader(answer.Body, 4096)) // as much as it says
			return l.no(g.Request, answer, body)
		}
		return l.notAnswered(ctx, err)
	}
	defer c.CloseNow() //nolint:errcheck // it ends whatever the outcome
	c.SetReadLimit(mostTold)
	if g.Say != nil {
		hello, err := values.JSON(g.Say)
		if err != nil {
			return fault.Wrap(fault.Invalid, "ask the provider of", l.account.Name, err)
		}
		if err := c.Write(ctx, websocket.MessageText, hello); err != nil {
			return l.notAnswered(ctx, err)
		}
	}
	opened()
	go func() { // whoever is gone is noticed
		for ctx.Err() == nil {
			pctx, done := context.WithTimeout(ctx, silence)
			if c.Ping(pctx) != nil {
				_ = c.CloseNow() // the reading ends
			}
			<-pctx.Done()
			done()
		}
	}()
	for {
		_, message, err := c.Read(ctx)
		if err != nil {
			return l.notAnswered(ctx, err)
		}
		if err := told(message); err != nil {
			return err
		}
	}
}

// overEvents listens to server-sent events (HTML, 9.2).
func (l *Link) overEvents(ctx context.Context, end func(), req *http.Request, opened func(),
	told func([]byte) error,
) error {
	req.Header.Set("Accept", "text/event-stream")
	timer := time.AfterFunc(answerPatience, end)
	defer timer.Stop()
	answer, err := l.client.Do(req)
	if err != nil {
		return l.notAnswered(ctx, err)
	}
	defer answer.Body.Close() //nolint:errcheck // only read
	if answer.StatusCode != http.StatusOK {
		body, _ := io.ReadAll(io.LimitReader(answer.Body, 4096)) // as much as it says
		return l.no(l.of.Log.Request, answer, body)
	}
	opened()
	timer.Reset(silence)
	body := &touching{ReadCloser: answer.Body, touch: func() { timer.Reset(silence) }}
	for event, err := range sse.Read(body, &sse.ReadConfig{MaxEventSize: mostTold}) {
		if err != nil {
			return l.notAnswered(ctx, err)
		}
		if event.Type != l.of.Log.Event && !(l.of.Log.Event == "" && event.Type == "message") {
			continue
		}
		if err := told([]byte(event.Data)); err != nil {
			return err
		}
	}
	return l.notAnswered(ctx, errors.New("its stream ended"))
}
