package fact

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/zstd"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
	"reshard/internal/core/settings"
)

// Editable reports whether a source's value can be written, and why not.
func Editable(s game.Source) error {
	if !s.Editable {
		return errors.New("the game profile does not say that it may be edited")
	}
	return editable(s)
}

func editable(s game.Source) error {
	for i, l := range s.Through {
		last := i == len(s.Through)-1
		switch {
		case l.Header != nil, l.Word == "gzip", l.Word == "zlib", l.Word == "zstd":
		case last && (l.Word == "cbor" || slices.Contains(settings.Formats(), l.Word)) && s.Pick != "" &&
			!strings.Contains(s.Pick, "*"):
		case last && l.Word == "text" && !s.Match.IsZero():
		default:
			return fmt.Errorf("what stands behind the layer %s cannot be written", l)
		}
	}
	if len(s.Through) == 0 {
		return errors.New("the file is not decoded, so it cannot be written")
	}
	return nil
}

// Edit gives a file's bytes with a source's value replaced by a text. What is behind
// its layers is unwrapped, changed in its place and wrapped again: lengths and
// checksums of headers are worked out anew, all other values stay as they are.
func Edit(file string, data []byte, s game.Source, value string) ([]byte, error) {
	if err := editable(s); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if strings.ContainsAny(value, "\r\n\x00") || value == "" {
		return nil, fmt.Errorf("%s: the value must be one line of text", file)
	}
	b := budget.World()
	defer b.Done()
	after, err := editThrough(b, file, data, s, s.Through, value)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return after, nil
}

func editThrough(b *budget.Budget, file string, data []byte, s game.Source, layers []game.Layer,
	value string) ([]byte, error) {
	l := layers[0]
	if l.Header == nil && !slices.Contains([]string{"gzip", "zlib", "zstd"}, l.Word) {
		return editDocument(file, data, s, l.Word, value)
	}
	inner, err := unwrapAll(b, bytes.NewReader(data), layers[:1], longestUnwrap)
	if l.Header != nil {
		// Its statement of what is inside is about the layers behind it; the rest is
		// checked when it is read, which it has been.
		var rest io.Reader
		if rest, _, err = passHeader(bytes.NewReader(data), *l.Header); err == nil {
			inner, err = io.ReadAll(rest)
		}
	}
	if err != nil {
		return nil, err
	}
	changed, err := editThrough(b, file, inner, s, layers[1:], value)
	if err != nil {
		return nil, err
	}
	if l.Header != nil {
		return writeHeader(b, data, changed, layers[1:], *l.Header)
	}
	return wrap(l.Word, changed)
}

// wrap closes one compression layer.
func wrap(layer string, data []byte) ([]byte, error) {
	var b bytes.Buffer
	var w io.WriteCloser
	switch layer {
	case "gzip":
		w = gzip.NewWriter(&b)
	case "zlib":
		w = zlib.NewWriter(&b)
	default:
		var err error
		if w, err = zstd.NewWriter(&b); err != nil {
			return nil, err
		}
	}
	_, err := w.Write(data)
	err = errors.Join(err, w.Close()) // the end is written by Close
	return b.Bytes(), err
}

// writeHeader puts a file's own header before what follows it now, with its lengths
// and its checksum worked out anew.
func writeHeader(b *budget.Budget, was, rest []byte, behind []game.Layer, h game.Header) ([]byte, error) {
	head, err := readHeader(bytes.NewReader(was), h)
	if err != nil {
		return nil, err
	}
	for _, l := range h.Lengths {
		n := len(rest)
		if l.Of == "inside" {
			var packed []game.Layer
			for _, l := range behind {
				if l.Header != nil || slices.Contains([]string{"gzip", "zlib", "zstd"}, l.Word) {
					packed = append(packed, l)
				}
			}
			inside, err := unwrapAll(b, bytes.NewReader(rest), packed, longestUnwrap)
			if err != nil {
				return nil, err
			}
			n = len(inside)
		}
		if err := putNumber(head, l.At, l.As, uint64(n)); err != nil {
			return nil, err
		}
	}
	if c := h.Checksum; c != nil {
		if err := putNumber(head, c.At, c.As, uint64(checksum(c.Kind, rest))); err != nil {
			return nil, err
		}
	}
	return append(head, rest...), nil
}

// putNumber writes a whole number at a place, in the form of its name (u32le).
func putNumber(data []byte, at int, as string, n uint64) error {
	width := numberWidth(as)
	if at < 0 || at+width > len(data) || (width < 8 && n >= 1<<(8*width)) {
		return fmt.Errorf("%d does not fit into the header", n)
	}
	var b [8]byte
	if strings.HasSuffix(as, "be") {
		binary.BigEndian.PutUint64(b[:], n)
		copy(data[at:at+width], b[8-width:])
		return nil
	}
	binary.LittleEndian.PutUint64(b[:], n)
	copy(data[at:at+width], b[:width])
	return nil
}

func editDocument(file string, data []byte, s game.Source, how, value string) ([]byte, error) {
	switch how {
	case "cbor":
		from, to, err := cborFind(data, strings.Split(strings.TrimPrefix(s.Pick, "/"), "/"))
		if err != nil {
			return nil, err
		}
		if data[from]>>5 != 3 {
			return nil, fmt.Errorf("%s is no text", s.Pick)
		}
		coded, err := cbor.Marshal(value)
		if err != nil {
			return nil, err
		}
		return slices.Concat(data[:from], coded, data[to:]), nil
	case "text":
		from, to, ok := s.Match.Place(string(data))
		if !ok {
			return nil, errors.New("the expression matches nothing")
		}
		return slices.Concat(data[:from], []byte(value), data[to:]), nil
	}
	doc, err := settings.Parse(file, settings.Syntax{Format: how}, data)
	if err != nil {
		return nil, err
	}
	key := s.Pick
	if _, ok := doc.Get(key); !ok {
		key = strings.TrimPrefix(key, "/")
	}
	if _, ok := doc.Get(key); !ok {
		return nil, fmt.Errorf("there is no %s", s.Pick)
	}
	if doc, err = doc.Set(key, value); err != nil {
		return nil, err
	}
	return doc.Bytes(), nil
}

// cborFind gives where an item stands that a path of keys leads to (RFC 8949, maps
// with text keys and arrays with places).
func cborFind(data []byte, steps []string) (from, to int, err error) {
	at := 0
	for _, step := range steps {
		kind, items, body, open, err := cborHead(data, at)
		for kind == 6 && err == nil { // a tag stands before its item
			kind, items, body, open, err = cborHead(data, body)
		}
		if err != nil {
			return 0, 0, err
		}
		if kind != 5 && kind != 4 {
			return 0, 0, fmt.Errorf("there is nothing below %q", step)
		}
		found := false
		at = body
		for i := uint64(0); !found && (open || i < items); i++ {
			if open && at < len(data) && data[at] == 0xff {
				break
			}
			key := fmt.Sprint(i)
			if kind == 5 {
				end, err := cborEnd(data, at, 0, nil)
				if err != nil {
					return 0, 0, err
				}
				var k any
				if err := cbor.Unmarshal(data[at:end], &k); err != nil {
					return 0, 0, err
				}
				key, at = fmt.Sprint(k), end
			}
			if found = key == step; !found {
				if at, err = cborEnd(data, at, 0, nil); err != nil {
					return 0, 0, err
				}
			}
		}
		if !found {
			return 0, 0, fmt.Errorf("there is no %q", step)
		}
	}
	to, err = cborEnd(data, at, 0, nil)
	return at, to, err
}

// cborHead reads an item's head: its major type, its argument, where its body begins,
// and whether it is of open length.
func cborHead(data []byte, at int) (kind byte, arg uint64, body int, open bool, err error) {
	if at >= len(data) {
		return 0, 0, 0, false, errors.New("it ends too early")
	}
	kind, info := data[at]>>5, data[at]&31
	body = at + 1
	switch {
	case info < 24:
		return kind, uint64(info), body, false, nil
	case info == 31:
		return kind, 0, body, true, nil
	case info > 27:
		return 0, 0, 0, false, errors.New("it is not CBOR")
	}
	width := 1 << (info - 24)
	if body+width > len(data) {
		return 0, 0, 0, false, errors.New("it ends too early")
	}
	for _, b := range data[body : body+width] {
		arg = arg<<8 | uint64(b)
	}
	return kind, arg, body + width, false, nil
}

// cborEnd gives where an item ends. visit, if it is not nil, is told of each item and of how
// many there are within it: bytes, items or pairs.
func cborEnd(data []byte, at, depth int, visit func(kind byte, within uint64) error) (int, error) {
	if depth > deepest {
		return 0, fmt.Errorf("nested deeper than %d", deepest)
	}
	kind, arg, body, open, err := cborHead(data, at)
	if err == nil && visit != nil {
		err = visit(kind, arg)
	}
	if err != nil {
		return 0, err
	}
	var items uint64
	switch kind {
	case 0, 1, 7:
		return body, nil
	case 2, 3:
		if !open {
			if arg > uint64(len(data)-body) {
				return 0, errors.New("it ends too early")
			}
			return body + int(arg), nil
		}
	case 4:
		items = arg
	case 5:
		if arg > uint64(len(data)) {
			return 0, errors.New("it ends too early")
		}
		items = 2 * arg
	case 6:
		items = 1
	}
	for i := uint64(0); open || i < items; i++ {
		if open && body < len(data) && data[body] == 0xff {
			return body + 1, nil
		}
		if body, err = cborEnd(data, body, depth+1, visit); err != nil {
			return 0, err
		}
	}
	return body, nil
}
