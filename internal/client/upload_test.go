package client_test

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/client"
	"reshard/internal/core/fault"
)

// flaky takes an upload as the tus protocol says, and breaks each connection after some
// bytes: it closes it, or takes no more and says nothing.
type flaky struct {
	mu     sync.Mutex
	got    []byte
	each   int           // bytes that a connection lives for
	slowly time.Duration // before each is broken
	silent bool
	tries  int
	end    chan struct{} // lets silent connections go
}

func (f *flaky) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.Method {
	case http.MethodPost:
		w.Header().Set("Location", "/api/v1/uploads/"+string(bytes.Repeat([]byte("a"), 32)))
		w.WriteHeader(http.StatusCreated)
	case http.MethodHead:
		f.mu.Lock()
		defer f.mu.Unlock()
		w.Header().Set("Upload-Offset", strconv.Itoa(len(f.got)))
	case http.MethodPatch:
		part := make([]byte, f.each)
		n, err := io.ReadFull(r.Body, part)
		f.mu.Lock()
		f.tries++
		f.got = append(f.got, part[:n]...)
		all := len(f.got)
		f.mu.Unlock()
		if err != nil { // the last piece
			w.Header().Set("Upload-Offset", strconv.Itoa(all))
			w.WriteHeader(http.StatusNoContent)
			return
		}
		time.Sleep(f.slowly)
		if f.silent {
			<-f.end
		}
		panic(http.ErrAbortHandler)
	}
}

func (f *flaky) upload(t *testing.T, size int) (data []byte, err error) {
	t.Helper()
	f.end = make(chan struct{})
	server := httptest.NewServer(f)
	t.Cleanup(server.Close)
	t.Cleanup(func() { close(f.end) })
	c, err := client.New(server.URL, "token")
	require.NoError(t, err)
	data = make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{3}).Read(data)
	_, err = c.Upload(context.Background(), "fen.zip", "", bytes.NewReader(data), int64(size), nil)
	return data, err
}

// impatient shortens how long is waited, for tests that run one after another.
func impatient(t *testing.T, patience, stalled time.Duration) {
	t.Helper()
	p, s := client.Patience, client.Stalled
	client.Patience, client.Stalled = patience, stalled
	t.Cleanup(func() { client.Patience, client.Stalled = p, s })
}

// A bad line that lets something through each time never ends an upload, however long
// it takes in all.
func TestAnUploadOutlastsPatience(t *testing.T) {
	impatient(t, 600*time.Millisecond, time.Minute)
	f := &flaky{each: 200_000, slowly: 100 * time.Millisecond}
	begun := time.Now()
	data, err := f.upload(t, 1_300_000)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, f.got))
	assert.Equal(t, 7, f.tries)
	assert.Greater(t, time.Since(begun), client.Patience)
}

// A connection that takes nothing any more, as after a lid was closed, is given up for
// another one; so is one that took the last bytes and never answers.
func TestASilentConnectionIsGivenUp(t *testing.T) {
	impatient(t, time.Second, 300*time.Millisecond)
	f := &flaky{each: 8 << 20, silent: true}
	data, err := f.upload(t, 41<<20) // more than the buffers on the way hold
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, f.got))
}

// A service that is gone for good is given up in time.
func TestPatienceEnds(t *testing.T) {
	impatient(t, 500*time.Millisecond, time.Minute)
	f := &flaky{each: 0}
	begun := time.Now()
	_, err := f.upload(t, 1000)
	require.ErrorIs(t, err, fault.Unreachable.As())
	assert.Less(t, time.Since(begun), 5*time.Second)
}
