package client

import (
	"bytes"
	"context"
	"encoding/base64"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// Patience is how long a service that is not reached is tried again before sending gives
// up. Stalled is how long a connection may take no bytes before another one is tried:
// that of a computer that has slept is often dead, and nobody says so.
var (
	Patience = 5 * time.Minute
	Stalled  = time.Minute
)

// again tries something until it succeeds, fails for good, or patience ends. What can
// change by waiting is a service that is not reached, or one that is being restarted.
func again(ctx context.Context, do func() error) error {
	return goOn(ctx, func(func()) error { return do() })
}

// away reports whether a service does not answer, or not yet, or leaves it to another.
func away(err error) bool { return fault.Passing(err) || fault.CodeOf(err) == fault.StandsBy }

// goOn is again for what is done piece by piece: do says through moved that a piece has
// been done, and patience begins anew.
func goOn(ctx context.Context, do func(moved func()) error) error {
	const shortest = 200 * time.Millisecond
	var failing time.Time // since when; zero: it does not
	pause := shortest
	moved := func() { failing, pause = time.Time{}, shortest }
	for {
		err := do(moved)
		if err == nil || ctx.Err() != nil || !away(err) {
			return err
		}
		if failing.IsZero() {
			failing = time.Now()
		}
		if time.Since(failing) > Patience {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
			pause = min(2*pause, 10*time.Second)
		}
	}
}

// Upload sends bytes by the tus protocol, going on where it was after a broken
// connection or a restart of the service, and gives the upload's id. kind is "" for an
// archive. see, which may be nil, gets the bytes that have arrived.
func (c *Client) Upload(ctx context.Context, name, kind string, from io.ReaderAt, size int64,
	see func(int64)) (id string, err error) {
	err = again(ctx, func() (err error) { id, err = c.createUpload(ctx, name, kind, size); return err })
	if err != nil {
		return "", err
	}
	offset := int64(0)
	err = goOn(ctx, func(moved func()) error {
		for offset < size {
			n, err := c.patch(ctx, id, from, offset, size, see)
			if away(err) {
				now, gone := c.offset(ctx, id)
				if fault.CodeOf(gone) == fault.NotFound && kind != "" {
					return nil // its last byte came, and only the answer was lost
				}
				if gone == nil {
					if now > offset {
						moved()
					}
					offset = now
				}
			}
			if err != nil {
				return err
			}
			offset = n
		}
		return nil
	})
	return id, err
}

func (c *Client) createUpload(ctx context.Context, name, kind string, size int64) (string, error) {
	meta := "name " + base64.StdEncoding.EncodeToString([]byte(name))
	if kind != "" {
		meta += ",kind " + base64.StdEncoding.EncodeToString([]byte(kind))
	}
	res, err := c.tus(ctx, http.MethodPost, "/uploads/", nil, 0,
		map[string]string{"Upload-Length": strconv.FormatInt(size, 10), "Upload-Metadata": meta})
	if err != nil {
		return "", err
	}
	defer res.Body.Close() //nolint:errcheck // only read
	at, err := url.Parse(res.Header.Get("Location"))
	if err != nil {
		return "", unreached("send "+name+" to", c.base, err)
	}
	return at.Path[len(at.Path)-32:], nil
}

// patch sends what is left; n is the offset after it.
func (c *Client) patch(ctx context.Context, id string, from io.ReaderAt, offset, size int64,
	see func(int64)) (n int64, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	body := &seen{
		Reader:  io.NewSectionReader(from, offset, size-offset),
		n:       offset,
		all:     size,
		see:     see,
		stalled: time.AfterFunc(Stalled, cancel),
	}
	defer body.stalled.Stop()
	res, err := c.tus(ctx, http.MethodPatch, "/uploads/"+id, body, size-offset, map[string]string{
		"Upload-Offset": strconv.FormatInt(offset, 10), "Content-Type": "application/offset+octet-stream",
	})
	if err != nil {
		return offset, err
	}
	defer res.Body.Close() //nolint:errcheck // only read
	return strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64)
}

func (c *Client) offset(ctx context.Context, id string) (int64, error) {
	res, err := c.tus(ctx, http.MethodHead, "/uploads/"+id, nil, 0, nil)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close() //nolint:errcheck // only read
	return strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64)
}

// seen tells how far a connection has taken bytes, and that it takes some.
type seen struct {
	io.Reader
	n, all  int64
	see     func(int64) // may be nil
	stalled *time.Timer
}

func (s *seen) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p)
	s.n += int64(n)
	if s.see != nil {
		s.see(s.n)
	}
	if s.n < s.all {
		s.stalled.Reset(Stalled)
	} else {
		s.stalled.Reset(Patience) // some of it is still on the way, and what the service does with it takes its time
	}
	return n, err
}

func (c *Client) tus(ctx context.Context, method, path string, body io.Reader, size int64,
	headers map[string]string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fault.Wrap(fault.Invalid, method, path, err)
	}
	req.ContentLength = size
	req.Header.Set("Tus-Resumable", "1.0.0")
	req.Header.Set("Authorization", "Bearer "+c.token)
	for k, v := range headers {
		req.Header.Set(k, v)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return nil, unreached("send to", c.base, err)
	}
	if res.StatusCode < 400 {
		return res, nil
	}
	defer res.Body.Close() //nolint:errcheck // only read
	if method == http.MethodHead && res.StatusCode == http.StatusNotFound {
		return nil, fault.New(fault.NotFound, "send to", c.base, "the upload is not there")
	}
	if res.StatusCode == http.StatusConflict || res.StatusCode == http.StatusLocked {
		// The offset is another one than we think, or an earlier connection holds it yet.
		data, _ := io.ReadAll(io.LimitReader(res.Body, 1<<16)) // only for a problem document
		res.Body = io.NopCloser(bytes.NewReader(data))
		if !bytes.HasPrefix(data, []byte("{")) {
			return nil, fault.New(fault.Unreachable, "send to", c.base,
				"the upload is not where it was thought to be (%s)", res.Status).With(lookThere)
		}
	}
	return nil, errorOf(res)
}

// TakeArrival has an upload recognised and stored.
func (c *Client) TakeArrival(ctx context.Context, id, root, hash string) (out wire.Arrival, err error) {
	err = again(ctx, func() error {
		out, err = call[wire.Arrival](ctx, c, http.MethodPost, "/arrivals/"+url.PathEscape(id)+"/take",
			map[string]string{"root": root, "hash": hash})
		return err
	})
	return out, err
}

// Arrivals lists uploads that have not become a copy.
func (c *Client) Arrivals(ctx context.Context) ([]wire.Unfinished, error) {
	return call[[]wire.Unfinished](ctx, c, http.MethodGet, "/arrivals", nil)
}

// DropArrival removes an upload that has not become a copy.
func (c *Client) DropArrival(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/arrivals/"+url.PathEscape(id), nil)
	return err
}

// Room asks whether so many bytes can be stored.
func (c *Client) Room(ctx context.Context, name string, bytes int64) error {
	return again(ctx, func() error {
		_, err := call[struct{}](ctx, c, http.MethodGet,
			"/arrivals/room?"+url.Values{"bytes": {strconv.FormatInt(bytes, 10)}, "name": {name}}.Encode(), nil)
		return err
	})
}

// Lacking asks which of some chunks the vault does not have.
func (c *Client) Lacking(ctx context.Context, hashes []string) (out []string, err error) {
	for len(hashes) > 0 {
		part := hashes[:min(len(hashes), 5000)]
		hashes = hashes[len(part):]
		err := again(ctx, func() error {
			got, err := call[wire.Lacking](ctx, c, http.MethodPost, "/chunks/lacking", map[string]any{"hashes": part})
			out = append(out, got.Hashes...)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Assemble stores a world whose chunks are in the vault.
func (c *Client) Assemble(ctx context.Context, world wire.Assembly) (out wire.Arrival, err error) {
	err = again(ctx, func() error {
		out, err = call[wire.Arrival](ctx, c, http.MethodPost, "/worlds/assemble", world)
		return err
	})
	return out, err
}

// Recognise looks for worlds in a listing of files, before any of them is sent.
func (c *Client) Recognise(ctx context.Context, l wire.Listing) (wire.Recognised, error) {
	return call[wire.Recognised](ctx, c, http.MethodPost, "/arrivals/recognise", l)
}
