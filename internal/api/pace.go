package api

import (
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"reshard/internal/core/fault"
)

// What a body may take: so long without a byte, and, after a first while, so many bytes a
// second at least. A connection that sends a byte now and then is kept by nobody.
const (
	silence   = 30 * time.Second
	firstly   = time.Minute
	leastRate = 1 << 10 // bytes a second
	// drains is how long what nobody reads of a body may take.
	drains = 2 * time.Second
)

// paced gives each body limits of time.
func (a *API) paced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body != nil && r.Body != http.NoBody && r.ContentLength != 0 {
			body := &pacedBody{
				ReadCloser: r.Body, control: http.NewResponseController(w), begun: time.Now(), now: time.Now,
				silence: a.silence,
			}
			r.Body = body
			defer body.leave()
		}
		next.ServeHTTP(w, r)
	})
}

type pacedBody struct {
	io.ReadCloser
	control *http.ResponseController
	begun   time.Time
	now     func() time.Time
	silence time.Duration
	bytes   int64
	ended   error
}

var errSlow = fault.New(fault.TooSlow, "read", "the request", "its body came too slowly").
	With("Send it again; an upload in pieces goes on where it ended.")

func (b *pacedBody) Read(p []byte) (int, error) {
	if b.ended != nil {
		return 0, b.ended
	}
	if late := b.now().Sub(b.begun) - firstly; late > 0 && b.bytes < int64(late.Seconds())*leastRate {
		b.ended = errSlow
		return 0, b.ended
	}
	// A writer without a connection, as in tests, has no deadline, and needs none.
	_ = b.control.SetReadDeadline(b.now().Add(b.silence))
	n, err := b.ReadCloser.Read(p)
	b.bytes += int64(n)
	if err != nil {
		b.ended = err
		b.leave()
	}
	return n, err
}

// leave ends the reading. After a whole body the server waits for what may come next on the connection, for as long as
// that takes; what is left of another it drains, and for that it has a moment.
func (b *pacedBody) leave() {
	until := time.Time{}
	if !errors.Is(b.ended, io.EOF) {
		until = b.now().Add(drains)
	}
	_ = b.control.SetReadDeadline(until)
}

// writtenPlainly refuses addresses that hold a NUL: no name has one, and the database takes
// none.
func (a *API) writtenPlainly(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.ContainsRune(r.URL.Path, 0) || strings.Contains(r.URL.RawQuery, "%00") ||
			strings.ContainsRune(r.URL.RawQuery, 0) {
			a.write(w, fault.New(fault.Invalid, r.Method, "this address", "it holds a NUL, which no name has"))
			return
		}
		next.ServeHTTP(w, r)
	})
}
