package fact

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"path"
	"slices"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"github.com/pelletier/go-toml/v2"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
	"reshard/internal/core/settings"
)

// decode unwraps and decodes a file once; later facts share the result.
func (r *Reader) decode(file string, through []game.Layer) (any, error) {
	key := file
	for _, l := range through {
		key += "\x00" + layerKey(l)
	}
	if d, ok := r.decoded[key]; ok {
		return d.value, d.err
	}
	v, err := r.decodeFresh(file, through)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		err = damage{err}
	}
	r.decoded[key] = decoding{v, err}
	return v, err
}

// Decode gives a file as its layers decode it: maps, lists and single values, or
// what Flat takes apart.
func (r *Reader) Decode(file string, through []game.Layer) (any, error) {
	return r.decode(file, through)
}

// Pair is a key of a document without levels.
type Pair struct{ Key, Value string }

// Flat takes a document without levels apart, in the order of its keys; it gives
// nothing for any other.
func Flat(doc any) []Pair {
	f, ok := doc.(flat)
	if !ok {
		return nil
	}
	out := make([]Pair, 0, len(f))
	for _, k := range sortedKeys(f) {
		out = append(out, Pair{strings.TrimPrefix(k, "/"), scalar(f[k])})
	}
	return out
}

// Scalar gives a single value as text; ok is false for anything else.
func Scalar(v any) (text string, ok bool) {
	switch v.(type) {
	case nil, map[string]any, []any, flat, *element, []byte:
		return "", false
	}
	return scalar(v), true
}

// Bytes gives a file's bytes through layers that only unwrap.
func (r *Reader) Bytes(file string, through []game.Layer) ([]byte, error) {
	return r.First(file, through, longestUnwrap)
}

// First gives at most the first bytes of what a file unwraps to.
func (r *Reader) First(file string, through []game.Layer, most int) ([]byte, error) {
	f, err := r.fsys.Open(path.Clean(file))
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	return unwrapAll(r.budget, f, through, int64(most))
}

func layerKey(l game.Layer) string {
	if l.Header == nil && l.Fields == nil {
		return l.Word
	}
	data, _ := json.Marshal(l) // plain data always encodes
	return string(data)
}

func (r *Reader) decodeFresh(file string, through []game.Layer) (any, error) {
	last := game.Layer{Word: "text"}
	if n := len(through); n > 0 && (through[n-1].Fields != nil || slices.Contains(game.Decoders, through[n-1].Word)) {
		last, through = through[n-1], through[:n-1]
	}
	if last.Word == "folders" || last.Word == "files" {
		return r.names(file, last.Word == "folders")
	}
	f, err := r.fsys.Open(path.Clean(file))
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	most := int64(longestUnwrap)
	if last.Fields != nil {
		most = fieldsEnd(last.Fields) // no more than the fields need
	}
	data, err := unwrapAll(r.budget, f, through, most)
	if err != nil {
		return nil, err
	}
	if last.Fields != nil {
		return decodeFields(last.Fields, data)
	}
	return decodeAs(r.budget, last.Word, file, data)
}

// cborMode bounds nesting and counts and gives maps with text keys.
var cborMode = func() cbor.DecMode {
	m, err := cbor.DecOptions{
		MaxNestedLevels: 32, MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 20,
		DefaultMapType: mapType, IntDec: cbor.IntDecConvertNone,
	}.DecMode()
	if err != nil {
		panic(err)
	}
	return m
}()

func decodeAs(b *budget.Budget, how, file string, data []byte) (v any, err error) {
	defer func() {
		if r := recover(); r != nil { // a library met odd input
			v, err = nil, fmt.Errorf("is not %s that can be read: %v", how, r)
		}
	}()
	switch how {
	case "text":
		return string(data), b.Hold(int64(len(data)))
	case "properties", "key-value", "ini", "env":
		doc, err := settings.Parse(file, settings.Syntax{Format: how}, data)
		if err != nil {
			return nil, err
		}
		entries := doc.Map()
		return flat(entries), b.Hold(int64(len(data) + len(entries)*budget.Map))
	}
	decode, ok := decoders[how]
	if !ok {
		return nil, fmt.Errorf("no decoder is called %q", how)
	}
	v, err = decode(b, data)
	if over := (*budget.Spent)(nil); errors.As(err, &over) {
		return nil, over
	}
	if err != nil {
		return nil, fmt.Errorf("is not %s: %w", how, err)
	}
	return v, nil
}

// decoders are the formats of documents with levels. Each first asks the budget for what
// the document will take.
var decoders = map[string]func(b *budget.Budget, data []byte) (any, error){
	"json":    decodeJSON,
	"cbor":    decodeCBOR,
	"msgpack": decodeMsgpack,
	"yaml":    decodeYAML,
	"toml":    decodeTOML,
	"xml":     decodeXML,
}

func decodeJSON(b *budget.Budget, data []byte) (v any, err error) {
	if err := measureJSON(b, data); err != nil {
		return nil, err
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	err = dec.Decode(&v)
	return v, err
}

func decodeCBOR(b *budget.Budget, data []byte) (v any, err error) {
	if err := measureCBOR(b, data); err != nil {
		return nil, err
	}
	err = cborMode.Unmarshal(data, &v)
	return v, err
}

func decodeTOML(b *budget.Budget, data []byte) (any, error) {
	if err := settings.BoundTOML(data); err != nil {
		return nil, err
	}
	if err := b.Hold(int64(len(data))); err != nil {
		return nil, err
	}
	var m map[string]any
	err := toml.Unmarshal(data, &m)
	return m, err
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return s
}

// deepest bounds nesting of decoded documents.
const deepest = 64

// mostNodes bounds a decoded document: a few lines of YAML can refer to each other
// until they stand for more values than any memory holds.
const mostNodes = 1 << 20

// textKeys makes every mapping one with text keys, as pointers need them.
func textKeys(v any) (any, error) {
	nodes := 0
	return keyed(v, 0, &nodes)
}

func keyed(v any, depth int, nodes *int) (any, error) {
	if depth > deepest {
		return nil, fmt.Errorf("nested deeper than %d", deepest)
	}
	if *nodes++; *nodes > mostNodes {
		return nil, fmt.Errorf("holds more than %d values", mostNodes)
	}
	var err error
	switch node := v.(type) {
	case map[string]any:
		for k, child := range node {
			if node[k], err = keyed(child, depth+1, nodes); err != nil {
				return nil, err
			}
		}
	case map[any]any:
		out := make(map[string]any, len(node))
		for k, child := range node {
			if out[fmt.Sprint(k)], err = keyed(child, depth+1, nodes); err != nil {
				return nil, err
			}
		}
		return out, nil
	case []any:
		for i, child := range node {
			if node[i], err = keyed(child, depth+1, nodes); err != nil {
				return nil, err
			}
		}
	case float32:
		return float64(node), nil
	}
	return v, nil
}

// names lists what stands in a folder; one that is not there holds nothing.
func (r *Reader) names(dir string, folders bool) (any, error) {
	entries, err := fs.ReadDir(r.fsys, path.Clean(dir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	names := []any{}
	for _, e := range entries {
		if e.IsDir() == folders {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

// fieldsEnd is how many bytes the fields may need.
func fieldsEnd(fields map[string]game.Field) int64 {
	end := 0
	for _, f := range fields {
		width := max(f.Width, 8)
		if f.Length != "" {
			width = 8 + longestTextKept
		}
		end = max(end, f.At+width)
	}
	return int64(min(end, longestUnwrap))
}

// decodeFields reads values at fixed places. A field beyond the end is left out, so
// that the others still read.
func decodeFields(fields map[string]game.Field, data []byte) (any, error) {
	out := map[string]any{}
	for name, f := range fields {
		if v, err := decodeField(f, data); err == nil {
			out[name] = v
		}
	}
	if len(out) == 0 && len(fields) > 0 {
		return nil, fmt.Errorf("%d bytes are too few for the fields", len(data))
	}
	return out, nil
}

var errShort = errors.New("the data ends before it")

func decodeField(f game.Field, data []byte) (any, error) {
	if f.As != "text" && f.As != "hex" {
		return number(data, f.At, f.As)
	}
	at, width := f.At, f.Width
	if f.Length != "" {
		n, err := count(data, at, f.Length)
		if err != nil {
			return nil, err
		}
		at, width = at+numberWidth(f.Length), n
	}
	if at > len(data) || width > len(data)-at {
		return nil, errShort
	}
	raw := data[at : at+width]
	if f.As == "hex" {
		return slices.Clone(raw), nil
	}
	if f.Length == "" {
		raw, _, _ = bytes.Cut(raw, []byte{0})
	}
	return string(raw), nil
}

// count reads a number that counts bytes.
func count(data []byte, at int, as string) (int, error) {
	v, err := number(data, at, as)
	if err != nil {
		return 0, err
	}
	switch n := v.(type) {
	case uint64:
		if n <= math.MaxInt32 {
			return int(n), nil
		}
	case int64:
		if n >= 0 && n <= math.MaxInt32 {
			return int(n), nil
		}
	}
	return 0, fmt.Errorf("%v is no number of bytes", v)
}
