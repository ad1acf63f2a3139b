package fact

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/vmihailenco/msgpack/v5"

	"reshard/internal/core/budget"
)

// decodeMsgpack reads one MessagePack value. The library makes room for as many
// items as a list announces, so what is announced is first held against the
// bytes that are there.
func decodeMsgpack(b *budget.Budget, data []byte) (any, error) {
	c := cost{b: b}
	if _, err := c.msgpackEnd(data, 0); err != nil {
		return nil, err
	}
	if err := c.flush(); err != nil {
		return nil, err
	}
	v, err := msgpack.NewDecoder(bytes.NewReader(data)).DecodeInterfaceLoose()
	if err != nil {
		return nil, err
	}
	return textKeys(v)
}

var errCut = errors.New("it ends within a value")

// msgpackEnd gives where the value at the beginning of data ends (the MessagePack
// specification, formats), or says that it reaches beyond the data.
func (c *cost) msgpackEnd(data []byte, depth int) (int, error) {
	if depth > deepest {
		return 0, fmt.Errorf("nested deeper than %d", deepest)
	}
	if len(data) == 0 {
		return 0, errCut
	}
	first := data[0]
	if err := c.add(budget.Value); err != nil {
		return 0, err
	}
	size := func(width int) (int, error) { // a length of that many bytes
		if len(data) < 1+width {
			return 0, errCut
		}
		raw := make([]byte, 8)
		copy(raw[8-width:], data[1:1+width])
		n := binary.BigEndian.Uint64(raw)
		if n > uint64(len(data)) {
			return 0, errCut
		}
		return int(n), nil
	}
	plain := func(n int) (int, error) {
		if n > len(data) {
			return 0, errCut
		}
		return n, nil
	}
	switch {
	case first <= 0x7f || first >= 0xe0 || first == 0xc0 || first == 0xc2 || first == 0xc3:
		return 1, nil
	case first >= 0xa0 && first <= 0xbf: // short text
		return plain(1 + int(first&0x1f))
	case first >= 0x90 && first <= 0x9f: // short list
		return c.msgpackItems(data, 1, int(first&0x0f), depth)
	case first >= 0x80 && first <= 0x8f: // short map
		return c.msgpackMap(data, 1, int(first&0x0f), depth)
	case first >= 0xcc && first <= 0xcf || first >= 0xd0 && first <= 0xd3: // integers of 1, 2, 4, 8 bytes
		return plain(1 + 1<<(first&3))
	case first == 0xca:
		return plain(5)
	case first == 0xcb:
		return plain(9)
	case first >= 0xd4 && first <= 0xd8: // extensions of 1 to 16 bytes
		return plain(2 + 1<<(first-0xd4))
	}
	lengths := map[byte]struct{ width, extra, items int }{
		0xc4: {1, 0, 0}, 0xc5: {2, 0, 0}, 0xc6: {4, 0, 0}, // bytes
		0xc7: {1, 1, 0}, 0xc8: {2, 1, 0}, 0xc9: {4, 1, 0}, // extensions
		0xd9: {1, 0, 0}, 0xda: {2, 0, 0}, 0xdb: {4, 0, 0}, // text
		0xdc: {2, 0, 1}, 0xdd: {4, 0, 1}, // lists
		0xde: {2, 0, 2}, 0xdf: {4, 0, 2}, // maps
	}
	l, ok := lengths[first]
	if !ok {
		return 0, fmt.Errorf("no value begins with %#x", first)
	}
	n, err := size(l.width)
	if err != nil {
		return 0, err
	}
	if l.items == 2 {
		return c.msgpackMap(data, 1+l.width, n, depth)
	}
	if l.items > 0 {
		return c.msgpackItems(data, 1+l.width, n, depth)
	}
	return plain(1 + l.width + l.extra + n)
}

func (c *cost) msgpackMap(data []byte, at, entries, depth int) (int, error) {
	if err := c.add(budget.Map + int64(entries)*budget.Entry); err != nil {
		return 0, err
	}
	return c.msgpackItems(data, at, 2*entries, depth)
}

func (c *cost) msgpackItems(data []byte, at, items, depth int) (int, error) {
	for range items {
		n, err := c.msgpackEnd(data[at:], depth+1)
		if err != nil {
			return 0, err
		}
		at += n
	}
	return at, nil
}
