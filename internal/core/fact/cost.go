package fact

import (
	"errors"
	"fmt"

	"reshard/internal/core/budget"
)

// cost sums up what a document will take of memory before a library decodes it, and asks
// the budget for it piece by piece: counted too much is better than too late.
type cost struct {
	b    *budget.Budget
	sum  int64
	seen int
}

// piece is how much is asked for at once, in bytes.
const piece = 1 << 18

func (c *cost) add(n int64) error {
	c.seen++
	if c.sum += n; c.sum < piece && c.seen&0xffff != 0 {
		return nil
	}
	return c.flush()
}

// flush asks the budget for what was summed up, and whether there is time left.
func (c *cost) flush() error {
	n := c.sum
	c.sum = 0
	return errors.Join(c.b.Hold(n), c.b.Time())
}

// measureJSON counts what a JSON document takes and how deep it is, whether or not it is
// one: what stands outside of texts and is a comma, a colon or a bracket.
func measureJSON(b *budget.Budget, data []byte) error {
	c := cost{b: b}
	depth := 0
	err := c.add(int64(len(data)))
	for i := 0; i < len(data) && err == nil; i++ {
		switch data[i] {
		case '"':
			for i++; i < len(data) && data[i] != '"'; i++ {
				if data[i] == '\\' {
					i++
				}
			}
		case '{', '[':
			if depth++; depth > deepest {
				return fmt.Errorf("nested deeper than %d", deepest)
			}
			err = c.add(budget.Map)
		case '}', ']':
			depth--
		case ',':
			err = c.add(budget.Value)
		case ':':
			err = c.add(budget.Entry)
		}
	}
	return errors.Join(err, c.flush())
}

// measureCBOR counts what a CBOR item takes (RFC 8949), held against the bytes that are
// there: a map of a million pairs is made of room before its first one is read.
func measureCBOR(b *budget.Budget, data []byte) error {
	c := cost{b: b}
	_, err := cborEnd(data, 0, 0, func(kind byte, items uint64) error {
		if kind >= 2 && kind <= 5 && items > uint64(len(data)) {
			return errors.New("it ends too early")
		}
		switch kind {
		case 5:
			return c.add(budget.Map + int64(items)*(budget.Entry+budget.Value))
		case 2, 3:
			return c.add(int64(items) + budget.Value)
		}
		return c.add(budget.Value)
	})
	return errors.Join(err, c.flush())
}
