package vault

import (
	"io"
	"math/rand/v2"
)

// Chunks are cut where the content says so, so that a change in the middle of a
// file moves few boundaries. The cut is by a gear hash, as in Xia et al.,
// "FastCDC" (USENIX ATC 2016), without its normalisation: sizes in bytes.
const (
	minChunk = 256 << 10
	maxChunk = 4 << 20
	cutMask  = uint64(1<<20-1) << 44 // about 1 MiB beyond the minimum, on the well-mixed high bits
)

// gear is fixed for ever: another table would cut every file anew.
var gear = func() (t [256]uint64) {
	r := rand.New(rand.NewPCG(0x5265736861726431, 0x7661756c74)) //nolint:gosec // a table, not a secret
	for i := range t {
		t[i] = r.Uint64()
	}
	return t
}()

// cut gives the length of the first chunk of data; final says that no more
// bytes follow.
func cut(data []byte, final bool) int {
	if len(data) <= minChunk {
		return len(data)
	}
	limit := min(len(data), maxChunk)
	var h uint64
	for i := minChunk; i < limit; i++ {
		h = h<<1 + gear[data[i]]
		if h&cutMask == 0 {
			return i + 1
		}
	}
	if final || limit == maxChunk {
		return limit
	}
	return 0 // not decided yet: more bytes are needed
}

// split reads to the end and hands out chunks; the slice is only valid during
// the call. buf must hold maxChunk bytes.
func split(from io.Reader, buf []byte, yield func(chunk []byte) error) error {
	have, final := 0, false
	for {
		for have < len(buf) && !final {
			n, err := from.Read(buf[have:])
			have += n
			if err == io.EOF {
				final = true
			} else if err != nil {
				return err
			}
		}
		if have == 0 {
			return nil
		}
		n := cut(buf[:have], final)
		if err := yield(buf[:n]); err != nil {
			return err
		}
		copy(buf, buf[n:have])
		have -= n
	}
}
