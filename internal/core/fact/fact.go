// Package fact reads facts out of files as a game profile says: it unwraps a
// file (compression, headers), decodes it (text and settings formats, JSON,
// CBOR, SQLite, bytes at fixed places, names of files) and picks values. Every value knows where it was read;
// a fact that does not read says why and stops nothing else. All reading is
// bounded, since worlds come from strangers.
package fact

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
)

// Bounds on what is read for one fact, in bytes and items.
const (
	LongestFile     = 256 << 20 // as stored
	longestUnwrap   = budget.LongestFile
	mostItems       = 10_000
	longestTextKept = 1024
)

// Item is one entry of a list fact, such as a mod.
type Item struct {
	ID      string `json:"id,omitempty"`
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
	// How names the layers that were unwrapped and decoded, outermost first.
	How string `json:"how,omitempty"`
	// Why is set when the fact could not be read; the rest is then empty.
	Why string `json:"why,omitempty"`
	// Damaged is set with Why when the file is there and cannot be unwrapped or
	// decoded: it was cut short, or something wrote into it.
	Damaged bool `json:"damaged,omitempty"`
}

// damage marks errors of files that cannot be unwrapped or decoded.
type damage struct{ error }

func (d damage) Unwrap() error { return d.error }

// Known reports whether the fact was read.
func (f Fact) Known() bool { return f.Why == "" && f.Name != "" }

// Reader reads facts out of one tree and decodes each file once.
type Reader struct {
	fsys   fs.FS
	budget *budget.Budget
	// File and Name are what {file} and {name} stand for in a source's path.
	File, Name string
	decoded    map[string]decoding
	tables     map[string]opened
}

type decoding struct {
	value any
	err   error
}

// NewReader reads from a tree whose paths the sources are relative to; all that it reads is
// spent of one budget.
func NewReader(fsys fs.FS, b *budget.Budget) *Reader {
	return &Reader{fsys: fsys, budget: b, decoded: map[string]decoding{}, tables: map[string]opened{}}
}

// Read tries the sources in order; the first that reads wins. When none does,
// the Fact's Why joins the reasons.
func (r *Reader) Read(name string, sources game.Sources) Fact {
	var whys []string
	out := Fact{Name: name}
	for i, s := range sources {
		file, err := r.locate(s.Read)
		if i == 0 {
			out.Type, out.File = s.Type, file
		}
		s.Read = file
		if err == nil {
			var f Fact
			if f, err = r.one(s); err == nil {
				f.Name = name
				return f
			}
		}
		var d damage
		out.Damaged = out.Damaged || errors.As(err, &d)
		whys = append(whys, reason(file, err))
	}
	out.Why = strings.Join(whys, "; ")
	return out
}

// locate fills in a source's path; of several files that match a pattern it gives
// the last by name.
func (r *Reader) locate(name string) (string, error) {
	name = strings.NewReplacer("{file}", r.File, "{name}", r.Name).Replace(name)
	if !strings.Contains(name, "*") {
		return name, nil
	}
	found, err := fs.Glob(r.fsys, name)
	if err != nil {
		return name, err
	}
	if len(found) == 0 {
		return name, fs.ErrNotExist
	}
	sort.Strings(found)
	return found[len(found)-1], nil
}

func reason(file string, err error) string {
	if errors.Is(err, fs.ErrNotExist) {
		return "there is no " + file
	}
	return file + ": " + err.Error()
}

func (r *Reader) one(s game.Source) (Fact, error) {
	f := Fact{Type: s.Type, File: s.Read, How: layersText(s.Through)}
	if f.Type == "" {
		f.Type = "text"
	}
	if s.Query != "" {
		f.Place = s.Query
		rows, err := r.Rows(s, mostItems)
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
		if s.Type == "list" {
			found, err := s.Match.FindAll(text, mostItems+1, r.budget.Time)
			if err != nil {
				return f, err
			}
			values := make([]any, len(found))
			for i, v := range found {
				values[i] = v
			}
			return fill(f, s, values)
		}
		groups, ok, err := s.Match.FindIn(text)
		if err != nil {
			return f, err
		}
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

func layersText(layers []game.Layer) string {
	words := make([]string, 0, len(layers))
	for _, l := range layers {
		words = append(words, l.String())
	}
	return strings.Join(words, ", ")
}

func rowsToValues(rows [][]string) []any {
	out := make([]any, 0, len(rows))
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out
}

func fill(f Fact, s game.Source, values []any) (Fact, error) {
	if f.Type == "list" || s.ID != "" {
		f.Type = "list"
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
		if s.ID != "" {
			id, err := pick(v, s.ID)
			if err != nil || len(id) == 0 {
				continue
			}
			it.ID = identifier(id[0])
		}
		if s.Name == "" && s.ID == "" {
			it.Name = scalar(v)
		} else if s.Name != "" {
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

// identifier writes an id: bytes as hexadecimal digits, all else as it stands.
func identifier(v any) string {
	if b, ok := v.([]byte); ok {
		return hex.EncodeToString(b)
	}
	return scalar(v)
}

// convert brings a decoded value into the canonical text of a type.
func convert(typ string, v any) (string, error) {
	switch typ {
	case "int64":
		return toInt64(v)
	case "float":
		n, err := strconv.ParseFloat(strings.TrimSpace(scalar(v)), 64)
		if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
			return "", fmt.Errorf("%q is no number", scalar(v))
		}
		return strconv.FormatFloat(n, 'g', -1, 64), nil
	case "bool":
		switch strings.ToLower(strings.TrimSpace(scalar(v))) {
		case "true", "yes", "on", "1":
			return "true", nil
		case "false", "no", "off", "0":
			return "false", nil
		}
		return "", fmt.Errorf("%q is neither true nor false", scalar(v))
	case "time":
		return toTime(v)
	case "hex", "uuid":
		return toHex(typ, v)
	case "version":
		s := strings.TrimSpace(scalar(v))
		if s == "" {
			return "", errors.New("the version is empty")
		}
		return s, nil
	default:
		return toText(v)
	}
}

func toText(v any) (string, error) {
	switch v.(type) {
	case map[string]any, []any, nil:
		return "", fmt.Errorf("a %s stands there, not a single value", kindOf(v))
	}
	s := scalar(v)
	if len(s) > longestTextKept {
		return "", fmt.Errorf("the text has %d bytes, more than the %d that are read", len(s), longestTextKept)
	}
	return strings.ToValidUTF8(s, "�"), nil
}

func kindOf(v any) string {
	switch v.(type) {
	case nil:
		return "null"
	case []any:
		return "list"
	}
	return "mapping"
}

// toHex writes bytes, or text that is hexadecimal already, as digits; as a UUID
// when there are 16 of them.
func toHex(typ string, v any) (string, error) {
	b, ok := v.([]byte)
	if !ok {
		var err error
		if b, err = hex.DecodeString(strings.ReplaceAll(strings.TrimSpace(scalar(v)), "-", "")); err != nil {
			return "", fmt.Errorf("%q is not hexadecimal", scalar(v))
		}
	}
	if len(b) > longestTextKept/2 {
		return "", fmt.Errorf("%d bytes are more than are read", len(b))
	}
	if typ == "hex" {
		return hex.EncodeToString(b), nil
	}
	id, err := uuid.FromBytes(b)
	if err != nil {
		return "", fmt.Errorf("%d bytes are no UUID", len(b))
	}
	return id.String(), nil
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
	case *element:
		return s.text
	case []byte:
		return string(s)
	case json.Number:
		return s.String()
	case time.Time:
		return s.UTC().Format(time.RFC3339)
	case nil:
		return ""
	}
	return fmt.Sprint(v)
}
