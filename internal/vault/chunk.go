package vault

import (
	"io"
	"math/rand/v2"
)

// Chunks are cut where the content says so, so that a change in the middle of a
// file moves few boundaries. The cut is by a gear hash, as in Xia et al.,
// "FastCDC" (USENIX ATC 2016), without its normalisation: sizes in bytes.
const (
	minChunk     = 256 << 10
	LongestChunk = 4 << 20
	cutMask      = uint64(1<<20-1) << 44 // about 1 MiB beyond the minimum, on the well-mixed high bits
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
	limit := min(len(data), LongestChunk)
	var h uint64
	rest := data[minChunk:limit]
	for len(rest) >= 4 { // four at a time: the loop is most of the time that cutting takes
		if h = h<<1 + gear[rest[0]]; h&cutMask == 0 {
			return limit - len(rest) + 1
		}
		if h = h<<1 + gear[rest[1]]; h&cutMask == 0 {
			return limit - len(rest) + 2
		}
		if h = h<<1 + gear[rest[2]]; h&cutMask == 0 {
			return limit - len(rest) + 3
		}
		if h = h<<1 + gear[rest[3]]; h&cutMask == 0 {
			return limit - len(rest) + 4
		}
		rest = rest[4:]
	}
	for i, b := range rest {
		if h = h<<1 + gear[b]; h&cutMask == 0 {
			return limit - len(rest) + i + 1
		}
	}
	if final || limit == LongestChunk {
		return limit
	}
	return 0 // not decided yet: more bytes are needed
}

// splitBuffer is the memory that split works in, in bytes: larger than a chunk, so that
// what is left over is not moved for each.
const splitBuffer = 2 * LongestChunk

// split reads to the end and hands out chunks; the slice is only valid during
// the call. buf must hold splitBuffer bytes.
func split(from io.Reader, buf []byte, yield func(chunk []byte) error) error {
	start, have, final := 0, 0, false
	for {
		if have-start < LongestChunk && !final {
			copy(buf, buf[start:have])
			start, have = 0, have-start
		}
		for have-start < LongestChunk && !final {
			n, err := from.Read(buf[have:])
			have += n
			if err == io.EOF {
				final = true
			} else if err != nil {
				return err
			}
		}
		if have == start {
			return nil
		}
		n := cut(buf[start:have], final)
		if err := yield(buf[start : start+n]); err != nil {
			return err
		}
		start += n
	}
}
