package line_test

import (
	"bufio"
	"errors"
	"io"
	"net"
	"net/textproto"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/line"
)

// endless gives a connection to a peer that writes something for ever.
func endless(t *testing.T, what string) *line.Bound {
	t.Helper()
	near, far := net.Pipe()
	t.Cleanup(func() { _ = near.Close() })
	go func() {
		for {
			if _, err := io.WriteString(far, what); err != nil {
				return
			}
		}
	}()
	go func() { _, _ = io.Copy(io.Discard, far) }()
	return &line.Bound{Conn: near, Lines: true}
}

func TestAPeerThatNeverEnds(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ sends, says string }{
		"a line":          {strings.Repeat("x", 1000), "it sends a line of more than 64 kB"},
		"lines":           {strings.Repeat("x", 999) + "\n", "it sends more than 1024 kB in one reply"},
		"nothing but end": {"\n", "it sends more than 1024 kB in one reply"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := endless(t, c.sends)
			n, err := io.Copy(io.Discard, b)
			assert.LessOrEqual(t, n, int64(line.LongestReply))
			got := line.Misbehaves("reach", "quay", err)
			require.Error(t, got)
			assert.Equal(t, fault.Misbehaving, fault.CodeOf(got))
			assert.True(t, fault.Passing(got))
			what, next := fault.Words(got)
			assert.Equal(t, "reach quay: "+c.says, what)
			assert.NotEmpty(t, next)
			_, err = b.Read(make([]byte, 1))
			assert.Error(t, err, "and nothing more is heard of it")
		})
	}
	// What is asked in between may be answered at length each time.
	near, far := net.Pipe()
	defer near.Close() //nolint:errcheck // a pipe
	go func() {
		in := bufio.NewReader(far)
		for {
			if _, err := in.ReadString('\n'); err != nil {
				return
			}
			_, _ = io.WriteString(far, strings.Repeat(strings.Repeat("y", 999)+"\n", 1000)+".\n")
		}
	}()
	c := textproto.NewConn(&line.Bound{Conn: near, Lines: true})
	for range 3 {
		require.NoError(t, c.PrintfLine("ask"))
		lines, err := c.ReadDotLines()
		require.NoError(t, err)
		assert.Len(t, lines, 1000)
	}
}

func TestAPeerThatMisbehavesIsLeftAlone(t *testing.T) {
	t.Parallel()
	var r line.Rest
	r.Note(fault.New(fault.Unreachable, "reach", "quay", "the port is closed"))
	assert.NoError(t, r.Err())
	bad := line.Misbehaves("reach", "quay", line.Exceeds("too much"))
	r.Note(bad)
	assert.Equal(t, bad, r.Err())
	since, told := r.Told()
	assert.Equal(t, bad, told)
	assert.WithinDuration(t, time.Now(), since, time.Minute)
	r.Again()
	assert.NoError(t, r.Err(), "a person has it asked again")
	_, told = r.Told()
	assert.Error(t, told, "and it is not well by that")
	r.Well()
	_, told = r.Told()
	assert.NoError(t, told)
	assert.NoError(t, line.Misbehaves("reach", "quay", errors.New("other")))
}
