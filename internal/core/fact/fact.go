// Package fact reads facts out of files as a game profile says: it unwraps a
// file (gzip, zlib, zstd), decodes it (text, JSON, CBOR, key-value, properties,
// SQLite, folder names) and picks values. Every value knows where it was read;
// a fact that does not read says why and stops nothing else. All reading is
// bounded, since worlds come from strangers.
package fact

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/zstd"

	"reshard/internal/core/game"
	"reshard/internal/core/settings"
)

// Bounds on what is read for one fact, in bytes and items.
const (
	longestFile     = 256 << 20 // as stored
	longestUnwrap   = 64 << 20  // after unwrapping
	mostItems       = 10_000
	longestTextKept = 4096
)

// Item is one entry of a list fact, such as a mod.
type Item struct {
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
}

// Fact is one value read out of a world or a server. Text is the canonical
// form: integers in decimal, times in RFC 3339 (UTC), lists empty (see Items).
type Fact struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	Text  string `json:"text"`
	Items []Item `json:"items,omitempty"`
	// File and Place tell where the value stands: a path from the root that
	// was read, and the pointer, pattern or query within it.
	File  string `json:"file,omitempty"`
	Place string `json:"place,omitempty"`
	// Why is set when the fact could not be read; the rest is then empty.
	Why string `json:"why,omitempty"`
}

// Known reports whether the fact was read.
func (f Fact) Known() bool { return f.Why == "" && f.Name != "" }

// Reader reads facts out of one tree and decodes each file once.
type Reader struct {
	fsys fs.FS
	// Temp is where SQLite files are copied to be queried; "": the system's.
	Temp    string
	decoded map[string]decoding
}

type decoding struct {
	value any
	err   error
}

// NewReader reads from a tree whose paths the sources are relative to.
func NewReader(fsys fs.FS) *Reader {
	return &Reader{fsys: fsys, decoded: map[string]decoding{}}
}

// Read tries the sources in order; the first that reads wins. When none does,
// the Fact's Why joins the reasons.
func (r *Reader) Read(name string, sources game.Sources) Fact {
	var whys []string
	for _, s := range sources {
		f, err := r.one(s)
		if err == nil {
			f.Name = name
			return f
		}
		whys = append(whys, reason(s.Read, err))
	}
	out := Fact{Name: name, Why: strings.Join(whys, "; ")}
	if len(sources) > 0 {
		out.Type, out.File = sources[0].Type, sources[0].Read
	}
	return out
}

func reason(file string, err error) string {
	if errors.Is(err, fs.ErrNotExist) {
		return "there is no " + file
	}
	return file + ": " + err.Error()
}

func (r *Reader) one(s game.Source) (Fact, error) {
	f := Fact{Type: s.Type, File: s.Read}
	if f.Type == "" {
		f.Type = "text"
	}
	if s.Query != "" {
		f.Place = s.Query
		rows, err := r.Rows(s)
		if err != nil {
			return f, err
		}
		return fill(f, s, rowsToValues(rows))
	}
	doc, err := r.decode(s.Read, s.Through)
	if err != nil {
		return f, err
	}
	if !s.Match.IsZero() {
		f.Place = s.Match.Text
		text, ok := doc.(string)
		if !ok {
			return f, errors.New("a pattern needs text, put text last in through")
		}
		groups, ok := s.Match.Find(text)
		if !ok {
			return f, errors.New("no line matches the pattern")
		}
		return fill(f, s, []any{groups["value"]})
	}
	f.Place = s.Pick
	values, err := pick(doc, s.Pick)
	if err != nil {
		return f, err
	}
	return fill(f, s, values)
}

func rowsToValues(rows [][]string) []any {
	out := make([]any, 0, len(rows))
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out
}

func fill(f Fact, s game.Source, values []any) (Fact, error) {
	if f.Type == "list" {
		items, err := toItems(s, values)
		f.Items = items
		return f, err
	}
	if len(values) == 0 {
		return f, errors.New("nothing stands there")
	}
	text, err := convert(f.Type, values[0])
	f.Text = text
	return f, err
}

func toItems(s game.Source, values []any) ([]Item, error) {
	if len(values) > mostItems {
		return nil, fmt.Errorf("%d items are more than the %d that are read", len(values), mostItems)
	}
	items := make([]Item, 0, len(values))
	for _, v := range values {
		it := Item{}
		if s.Name == "" {
			it.Name = scalar(v)
		} else {
			n, err := pick(v, s.Name)
			if err != nil || len(n) == 0 {
				continue // an item without a name cannot be compared
			}
			it.Name = scalar(n[0])
			if ver, err := pick(v, s.Version); err == nil && s.Version != "" && len(ver) > 0 {
				it.Version = scalar(ver[0])
			}
		}
		items = append(items, it)
	}
	sort.Slice(items, func(i, j int) bool { return items[i].Name < items[j].Name })
	return items, nil
}

// convert brings a decoded value into the canonical text of a type.
func convert(typ string, v any) (string, error) {
	switch typ {
	case "int64":
		return toInt64(v)
	case "time":
		return toTime(v)
	case "version":
		s := strings.TrimSpace(scalar(v))
		if s == "" {
			return "", errors.New("the version is empty")
		}
		return s, nil
	default:
		switch v.(type) {
		case map[string]any, []any, nil:
			return "", fmt.Errorf("a %T stands there, not a single value", v)
		}
		s := scalar(v)
		if len(s) > longestTextKept {
			return "", fmt.Errorf("the text has %d bytes, more than the %d that are read", len(s), longestTextKept)
		}
		if !utf8.ValidString(s) {
			return strings.ToValidUTF8(s, "�"), nil
		}
		return s, nil
	}
}

func toInt64(v any) (string, error) {
	switch n := v.(type) {
	case int64:
		return strconv.FormatInt(n, 10), nil
	case uint64:
		return strconv.FormatUint(n, 10), nil
	case float64:
		if n != math.Trunc(n) || math.Abs(n) > 1<<53 {
			return "", fmt.Errorf("%v is not a whole number that a float can hold", n)
		}
		return strconv.FormatInt(int64(n), 10), nil
	}
	s := strings.TrimSpace(scalar(v))
	if _, err := strconv.ParseInt(s, 10, 64); err != nil {
		if _, uerr := strconv.ParseUint(s, 10, 64); uerr != nil {
			return "", fmt.Errorf("%q is not a whole number of 64 bits", s)
		}
	}
	return s, nil
}

func toTime(v any) (string, error) {
	switch t := v.(type) {
	case time.Time:
		return t.UTC().Format(time.RFC3339), nil
	case int64:
		return time.Unix(t, 0).UTC().Format(time.RFC3339), nil
	case uint64:
		if t < math.MaxInt64 {
			return time.Unix(int64(t), 0).UTC().Format(time.RFC3339), nil
		}
	}
	s := scalar(v)
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t.UTC().Format(time.RFC3339), nil
	}
	if n, err := strconv.ParseInt(s, 10, 64); err == nil {
		return time.Unix(n, 0).UTC().Format(time.RFC3339), nil
	}
	return "", fmt.Errorf("%q is neither an RFC 3339 time nor Unix seconds", s)
}

func scalar(v any) string {
	switch s := v.(type) {
	case string:
		return s
	case []byte:
		return string(s)
	case json.Number:
		return s.String()
	case nil:
		return ""
	}
	return fmt.Sprint(v)
}

// decode unwraps and decodes a file once; later facts share the result.
func (r *Reader) decode(file string, through []string) (any, error) {
	key := file + "\x00" + strings.Join(through, ",")
	if d, ok := r.decoded[key]; ok {
		return d.value, d.err
	}
	v, err := r.decodeFresh(file, through)
	r.decoded[key] = decoding{v, err}
	return v, err
}

func (r *Reader) decodeFresh(file string, through []string) (any, error) {
	if slices.Contains(through, "folders") {
		return r.folders(file)
	}
	f, err := r.fsys.Open(path.Clean(file))
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	var in io.Reader = io.LimitReader(f, longestFile)
	rest := through
	for ; len(rest) > 0; rest = rest[1:] {
		next, wrapped, err := unwrap(rest[0], in)
		if err != nil {
			return nil, err
		}
		if !wrapped {
			break
		}
		in = next
	}
	data, err := io.ReadAll(io.LimitReader(in, longestUnwrap+1))
	if err != nil {
		return nil, fmt.Errorf("cannot be unwrapped: %w", err)
	}
	if len(data) > longestUnwrap {
		return nil, fmt.Errorf("unwraps to more than %d bytes", longestUnwrap)
	}
	how := "text"
	if len(rest) > 0 {
		how = rest[0]
	}
	return decodeAs(how, file, data)
}

// unwrap opens one compression layer; wrapped is false for a decoder.
func unwrap(layer string, in io.Reader) (out io.Reader, wrapped bool, err error) {
	switch layer {
	case "gzip":
		out, err = gzip.NewReader(in)
	case "zlib":
		out, err = zlib.NewReader(in)
	case "zstd":
		var d *zstd.Decoder
		d, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(longestUnwrap))
		out = d
	default:
		return nil, false, nil
	}
	if err != nil {
		return nil, true, fmt.Errorf("is not %s: %w", layer, err)
	}
	return out, true, nil
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

func decodeAs(how, file string, data []byte) (any, error) {
	switch how {
	case "text":
		return string(data), nil
	case "json":
		dec := json.NewDecoder(bytes.NewReader(data))
		dec.UseNumber()
		var v any
		if err := dec.Decode(&v); err != nil {
			return nil, fmt.Errorf("is not JSON: %w", err)
		}
		return v, nil
	case "cbor":
		var v any
		if err := cborMode.Unmarshal(data, &v); err != nil {
			return nil, fmt.Errorf("is not CBOR: %w", err)
		}
		return v, nil
	case "properties", "key-value", "ini", "env":
		doc, err := settings.Parse(file, how, data)
		if err != nil {
			return nil, err
		}
		return doc.Map(), nil
	}
	return nil, fmt.Errorf("no decoder is called %q", how)
}

// folders lists the names of a folder's sub-folders; a folder that is not there
// has none.
func (r *Reader) folders(dir string) (any, error) {
	entries, err := fs.ReadDir(r.fsys, path.Clean(dir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	names := []any{}
	for _, e := range entries {
		if e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return names, nil
}
