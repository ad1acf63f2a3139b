package api

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
)

// A body that does not come is not waited for, and one that comes is taken in however long it
// is; what is asked next on the same connection is answered.
func TestABodyThatDoesNotComeIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	a := &API{silence: 200 * time.Millisecond}
	ended := make(chan error, 1)
	s := httptest.NewServer(a.paced(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, err := io.Copy(io.Discard, r.Body)
		time.Sleep(400 * time.Millisecond) // longer than a silence: the body has ended
		if r.Context().Err() != nil {
			err = r.Context().Err()
		}
		select {
		case ended <- err:
		default:
		}
		fmt.Fprint(w, n) //nolint:errcheck // the test sees it
	})))
	defer s.Close()
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // it has ended
	_, err = io.WriteString(conn, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\nx")
	require.NoError(t, err)
	select {
	case err := <-ended:
		require.Error(t, err)
	case <-time.After(5 * time.Second):
		t.Fatal("the connection is held")
	}

	whole, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	defer whole.Close() //nolint:errcheck // it has ended
	in := bufio.NewReader(whole)
	for range 2 {
		_, err = io.WriteString(whole, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\n\r\n")
		require.NoError(t, err)
		for range 3 {
			time.Sleep(100 * time.Millisecond)
			_, err = io.WriteString(whole, "x")
			require.NoError(t, err)
		}
		res, err := http.ReadResponse(in, nil)
		require.NoError(t, err)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.Equal(t, "3", string(body))
	}
}

// Bytes that come one by one end it as well.
func TestABodyThatDripsEnds(t *testing.T) {
	t.Parallel()
	now := time.Unix(0, 0)
	b := &pacedBody{
		ReadCloser: io.NopCloser(strings.NewReader(strings.Repeat("x", 1000))), begun: now, silence: silence,
		control: http.NewResponseController(httptest.NewRecorder()),
		now:     func() time.Time { now = now.Add(20 * time.Second); return now },
	}
	one := make([]byte, 1)
	var err error
	for range 10 {
		if _, err = b.Read(one); err != nil {
			break
		}
	}
	assert.ErrorIs(t, err, fault.TooSlow.As())
}

// What no handler reads of a body is drained for a moment, and no longer.
func TestABodyThatNobodyReads(t *testing.T) {
	t.Parallel()
	a := &API{silence: time.Second}
	s := httptest.NewServer(a.paced(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNotFound)
	})))
	t.Cleanup(s.Close)
	conn, err := net.Dial("tcp", s.Listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // the test has ended
	_, err = fmt.Fprint(conn, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\nx")
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
	begun := time.Now()
	_, err = io.Copy(io.Discard, conn)
	require.NoError(t, err, "the server ends it")
	assert.Less(t, time.Since(begun), 15*time.Second)
}
