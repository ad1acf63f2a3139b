package fact

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/adler32"
	"hash/crc32"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/xi2/xz"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
)

// longestHeader bounds a header, longestWindow what decompressing may look back to, both in
// bytes; of several compressions within each other the window is shared.
const (
	longestHeader = 1 << 20
	longestWindow = 64 << 20
)

// unwrapAll reads a file through its layers; at most the given number of bytes
// comes out, and more is an error unless only the beginning was wanted.
func unwrapAll(b *budget.Budget, in io.Reader, layers []game.Layer, most int64) ([]byte, error) {
	in = b.File(io.LimitReader(in, LongestFile))
	inside := int64(-1)
	window := int64(longestWindow)
	for _, l := range layers {
		if l.Header == nil {
			window /= 2
		}
	}
	window = min(2*window, longestWindow)
	for _, l := range layers {
		var err error
		if l.Header != nil {
			in, inside, err = passHeader(in, *l.Header)
		} else {
			in, err = unwrap(l.Word, in, window)
			in = b.Unpacked(in)
		}
		if err != nil {
			return nil, err
		}
	}
	whole := most == longestUnwrap
	if whole {
		most++
	}
	data, err := io.ReadAll(io.LimitReader(in, most))
	if err == nil {
		err = b.Unpack(len(data))
	}
	switch over := (*budget.Spent)(nil); {
	case errors.As(err, &over):
		return nil, over
	case err != nil:
		return nil, fmt.Errorf("cannot be unwrapped: %w", err)
	case whole && len(data) > longestUnwrap:
		return nil, fmt.Errorf("unwraps to more than %d bytes", longestUnwrap)
	case whole && inside >= 0 && int64(len(data)) != inside:
		return nil, fmt.Errorf("its header states %d bytes, and %d came out: it is damaged or half written", inside,
			len(data))
	}
	return data, nil
}

// unwrap opens one compression layer.
func unwrap(layer string, in io.Reader, window int64) (out io.Reader, err error) {
	switch layer {
	case "gzip":
		out, err = gzip.NewReader(in)
	case "zlib":
		out, err = zlib.NewReader(in)
	case "xz":
		// This reader is told how much memory a dictionary may take; a file asks for
		// what it likes.
		out, err = xz.NewReader(in, uint32(window))
	case "zstd":
		var d *zstd.Decoder
		d, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(uint64(window)))
		out = d
	default:
		return nil, fmt.Errorf("no layer is called %q", layer)
	}
	if err != nil {
		return nil, fmt.Errorf("is not %s: %w", layer, err)
	}
	return out, nil
}

// passHeader reads a header and gives what follows it, checked against what the
// header says of it. inside is the length it states of what is unwrapped; -1
// when it states none.
func passHeader(in io.Reader, h game.Header) (rest io.Reader, inside int64, err error) {
	head, err := readHeader(in, h)
	if err != nil {
		return nil, -1, err
	}
	inside = -1
	follows := int64(-1)
	for _, l := range h.Lengths {
		n, err := count(head, l.At, l.As)
		if err != nil {
			return nil, -1, fmt.Errorf("its header does not read: %w", err)
		}
		if l.Of == "inside" {
			inside = int64(n)
		} else {
			follows = int64(n)
		}
	}
	if h.Checksum == nil && follows < 0 {
		return in, inside, nil
	}
	data, err := io.ReadAll(io.LimitReader(in, longestUnwrap+1))
	if err != nil {
		return nil, -1, fmt.Errorf("cannot be read: %w", err)
	}
	if len(data) > longestUnwrap {
		return nil, -1, fmt.Errorf("has more than the %d bytes behind its header that are checked", longestUnwrap)
	}
	if follows >= 0 && int64(len(data)) != follows {
		return nil, -1, fmt.Errorf("its header states %d bytes, and %d follow: it is damaged or half written", follows,
			len(data))
	}
	if c := h.Checksum; c != nil {
		stated, err := count64(head, c.At, c.As)
		if err != nil {
			return nil, -1, fmt.Errorf("its header does not read: %w", err)
		}
		if sum := checksum(c.Kind, data); uint64(sum) != stated {
			return nil, -1, fmt.Errorf("its checksum is %08x and should be %08x: it is damaged or half written", sum,
				stated)
		}
	}
	return bytes.NewReader(data), inside, nil
}

// readHeader reads as far as the header goes.
func readHeader(in io.Reader, h game.Header) ([]byte, error) {
	size := h.Size.Fixed
	var head []byte
	if h.Size.As != "" {
		head = make([]byte, h.Size.At+numberWidth(h.Size.As))
		if _, err := io.ReadFull(in, head); err != nil {
			return nil, fmt.Errorf("is shorter than its header: %w", err)
		}
		var err error
		if size, err = count(head, h.Size.At, h.Size.As); err != nil {
			return nil, fmt.Errorf("its header does not read: %w", err)
		}
	}
	if size < len(head) || size > longestHeader {
		return nil, fmt.Errorf("its header states a size of %d bytes", size)
	}
	more := make([]byte, size-len(head))
	if _, err := io.ReadFull(in, more); err != nil {
		return nil, fmt.Errorf("is shorter than its header: %w", err)
	}
	return append(head, more...), nil
}

func checksum(kind string, data []byte) uint32 {
	switch kind {
	case "crc32c":
		return crc32.Checksum(data, crc32.MakeTable(crc32.Castagnoli))
	case "adler32":
		return adler32.Checksum(data)
	}
	return crc32.ChecksumIEEE(data)
}

func count64(data []byte, at int, as string) (uint64, error) {
	v, err := number(data, at, as)
	if n, ok := v.(uint64); ok {
		return n, err
	}
	if err == nil {
		err = errors.New("is not an unsigned number")
	}
	return 0, err
}

func numberWidth(as string) int {
	bits, err := strconv.Atoi(strings.TrimRight(as[1:], "leb"))
	if err != nil {
		return 0
	}
	return bits / 8
}

// number reads a binary number: uint64, int64 or float64 by its kind.
func number(data []byte, at int, as string) (any, error) {
	width := numberWidth(as)
	if at < 0 || width == 0 || at > len(data) || width > len(data)-at {
		return nil, errShort
	}
	raw := make([]byte, 8)
	copy(raw[8-width:], data[at:at+width])
	if strings.HasSuffix(as, "le") {
		for i := range width {
			raw[7-i] = data[at+i]
		}
	}
	n := binary.BigEndian.Uint64(raw)
	switch as[0] {
	case 'i':
		shift := 64 - 8*width
		return int64(n<<shift) >> shift, nil
	case 'f':
		if width == 4 {
			return float64(math.Float32frombits(uint32(n))), nil
		}
		return math.Float64frombits(n), nil
	}
	return n, nil
}
