package settings

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/pelletier/go-toml/v2/unstable"
)

// Bounds of a settings document, which a stranger may have written: a server's folder comes
// with mods, and a world with settings of its own.
const (
	// LongestDocument bounds its bytes.
	LongestDocument = 4 << 20
	mostLines       = 200_000
	mostEntries     = 100_000
	// mostText bounds the keys of all entries together, in bytes: a long name stands
	// again in the key of each entry below it.
	mostText = 8 << 20
	// deepest bounds collections within collections: parsers call themselves for each.
	deepest = 64
)

var (
	errDeep    = fmt.Errorf("nested deeper than %d", deepest)
	errEntries = fmt.Errorf("holds more than %d values", mostEntries)
	errText    = fmt.Errorf("its names are longer than %d bytes together", mostText)
)

// entries collects a document's entries within the bounds.
type entries struct {
	list []Entry
	text int
}

func (e *entries) add(one Entry) error {
	if e.text += len(one.Key); e.text > mostText {
		return errText
	}
	if len(e.list) == mostEntries {
		return errEntries
	}
	e.list = append(e.list, one)
	return nil
}

// scanned scans a document that has no more lines than are read.
func scanned(f format, data []byte) ([]Entry, error) {
	if bytes.Count(data, []byte{'\n'}) > mostLines {
		return nil, fmt.Errorf("has more than %d lines", mostLines)
	}
	list, err := f.scan(data)
	if err == nil && len(list) > mostEntries {
		err = errEntries
	}
	return list, err
}

// boundJSON looks at how deep brackets are nested and how many values there are, without
// reading what they hold.
func boundJSON(data []byte) error {
	depth, values := 0, 0
	for i := 0; i < len(data); i++ {
		switch data[i] {
		case '{', '[':
			values++
			if depth++; depth > deepest {
				return errDeep
			}
		case ',':
			values++
		case '}', ']':
			depth--
		case '"':
			for i++; i < len(data) && data[i] != '"'; i++ {
				if data[i] == '\\' {
					i++
				}
			}
		case '/':
			rest := data[i:]
			switch {
			case bytes.HasPrefix(rest, []byte("//")):
				i += max(0, bytes.IndexByte(rest, '\n'))
			case bytes.HasPrefix(rest, []byte("/*")):
				i += 2 + max(0, bytes.Index(rest[2:], []byte("*/")))
			}
		}
		if values > mostEntries {
			return errEntries
		}
	}
	return nil
}

// BoundTOML says whether a TOML document is too deep or too large for its parser, which
// calls itself for each bracket and makes a table for each step of a dotted key. The tables
// of a header are there anew for each that has another name.
func BoundTOML(data []byte) error {
	if len(data) > LongestDocument {
		return fmt.Errorf("%d bytes are more than a TOML document may have (%d)", len(data), LongestDocument)
	}
	if err := boundBrackets(data); err != nil {
		return err
	}
	p := unstable.Parser{}
	p.Reset(data)
	steps := 0
	for p.NextExpression() {
		e := p.Expression()
		n, text := 0, 0
		if e.Kind == unstable.KeyValue || e.Kind == unstable.Table || e.Kind == unstable.ArrayTable {
			for it := e.Key(); it.Next(); {
				n++
				text += len(it.Node().Data)
			}
		}
		if n > deepest {
			return errDeep
		}
		if e.Kind == unstable.KeyValue {
			n += tomlValues(e.Value())
		}
		if steps += n; steps > mostEntries {
			return errEntries
		}
	}
	return nil // what is no TOML the parser itself tells
}

func tomlValues(v *unstable.Node) int {
	n := 1
	if v.Kind == unstable.Array || v.Kind == unstable.InlineTable {
		for it := v.Children(); it.Next(); {
			child := it.Node()
			if child.Kind == unstable.KeyValue {
				for key := child.Key(); key.Next(); {
					n++
				}
				child = child.Value()
			}
			n += tomlValues(child)
		}
	}
	return n
}

// boundBrackets looks at how deep TOML's brackets are nested, outside of texts and comments.
func boundBrackets(data []byte) error {
	depth, values := 0, 0
	for i := 0; i < len(data); i++ {
		switch c := data[i]; c {
		case '[', '{':
			values++
			if depth++; depth > deepest {
				return errDeep
			}
		case ',', '.': // a dot parts the steps of a key
			values++
		case ']', '}':
			depth = max(0, depth-1)
		case '#':
			end := bytes.IndexByte(data[i:], '\n')
			if end < 0 {
				return nil
			}
			i += end
		case '"', '\'':
			end := tomlText(data[i:])
			if end < 0 {
				return errors.New("a text has no end")
			}
			i += end - 1
		}
		if values > 2*mostEntries {
			return errEntries
		}
	}
	return nil
}

// tomlText gives the length of the text that data begins with, quotes included; -1: it has
// no end.
func tomlText(data []byte) int {
	quote := data[0]
	long := []byte{quote, quote, quote}
	whole := bytes.HasPrefix(data, long)
	at := 1
	if whole {
		at = 3
	}
	for ; at < len(data); at++ {
		switch {
		case data[at] == '\\' && quote == '"':
			at++
		case whole && bytes.HasPrefix(data[at:], long):
			for at += 3; at < len(data) && data[at] == quote; at++ { // up to two belong to the text
			}
			return at
		case !whole && data[at] == quote:
			return at + 1
		case !whole && data[at] == '\n':
			return at // it is no TOML, which the parser tells
		}
	}
	return -1
}
