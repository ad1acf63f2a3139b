// Package doclang is what Reshard's languages of YAML documents have in common: reading a document
// strictly and within bounds, complaints with line and column, and a JSON Schema made from the types
// that read it.
package doclang

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"reshard/internal/core/yamldoc"
)

// Complaint is one thing wrong with a document. Line and Column count from 1; 0
// when the place is not known.
type Complaint struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Key    string `json:"key,omitempty"`
	What   string `json:"what"`
}

func (c Complaint) String() string {
	if c.Line == 0 {
		return c.What
	}
	return fmt.Sprintf("line %d, column %d: %s", c.Line, c.Column, c.What)
}

// Linter collects what is wrong with a decoded document; every complaint finds its line through the
// YAML path of the key it is about.
type Linter struct {
	Complaints []Complaint
	file       *ast.File
}

// Decode reads an untrusted document of at most longest bytes into a value of one of the languages'
// types; what names it for people ("a profile"). Unknown keys are complaints.
func Decode(data []byte, longest int, what string, into any) (*Linter, []Complaint) {
	if len(data) > longest {
		return nil, []Complaint{
			{What: fmt.Sprintf("%s may have at most %d bytes, this one has %d", what, longest, len(data))},
		}
	}
	file, err := yamldoc.ParseUpTo(data, yamldoc.MostWritten)
	if err != nil {
		return nil, []Complaint{complaintOf(err, reflect.TypeOf(into).Elem())}
	}
	if err := yaml.UnmarshalWithOptions(data, into, yaml.DisallowUnknownField()); err != nil {
		return nil, []Complaint{complaintOf(err, reflect.TypeOf(into).Elem())}
	}
	return &Linter{file: file}, nil
}

func complaintOf(err error, language reflect.Type) Complaint {
	var ye yaml.Error
	if errors.As(err, &ye) {
		c := Complaint{What: ye.GetMessage()}
		if _, word, ok := strings.Cut(c.What, "unknown field "); ok {
			c.What += Meant(strings.Trim(word, `"`), knownKeys(language))
		}
		if tok := ye.GetToken(); tok != nil && tok.Position != nil {
			c.Line, c.Column = tok.Position.Line, tok.Position.Column
		}
		return c
	}
	return Complaint{What: err.Error()}
}

// mostComplaints bounds how many are looked up and told: a profile with more has a cause
// that the first ones tell.
const mostComplaints = 100

// Complain notes what is wrong with a key, by its YAML path ("$.a.b").
func (l *Linter) Complain(key, format string, args ...any) {
	if len(l.Complaints) == mostComplaints {
		return
	}
	c := Complaint{Key: strings.ReplaceAll(strings.TrimPrefix(key, "$."), "'", ""), What: fmt.Sprintf(format, args...)}
	// A missing key is reported at the nearest parent that is there.
	for k := key; k != "$" && c.Line == 0; k = parentKey(k) {
		yp, err := yaml.PathString(k)
		if err != nil {
			continue
		}
		node, err := yp.FilterFile(l.file)
		if err != nil || node == nil || node.GetToken() == nil {
			continue
		}
		pos := node.GetToken().Position
		c.Line, c.Column = pos.Line, pos.Column
	}
	c.What = c.Key + ": " + c.What
	l.Complaints = append(l.Complaints, c)
}

func parentKey(k string) string {
	i := strings.LastIndexAny(k, ".[")
	if i <= 0 {
		return "$"
	}
	return k[:i]
}

// At builds the YAML path of a child whose name may hold characters that the
// path language would take for its own.
func At(key, child string) string {
	if strings.ContainsAny(child, ".-[]' ") {
		return key + ".'" + child + "'"
	}
	return key + "." + child
}

// Sort orders the complaints by their lines.
func (l *Linter) Sort() {
	sort.SliceStable(l.Complaints, func(i, j int) bool { return l.Complaints[i].Line < l.Complaints[j].Line })
}

// OneOf complains of a value that is none of those that are allowed.
func (l *Linter) OneOf(key, value string, allowed ...string) {
	if !slices.Contains(allowed, value) {
		l.Complain(key, "%q is none of %s%s", value, strings.Join(allowed, ", "), Meant(value, allowed))
	}
}

// longestWord bounds a word that is compared with others, in bytes.
const longestWord = 60

// Meant proposes the allowed word that is nearest, if one is near: at most a third
// of its letters differ.
func Meant(value string, allowed []string) string {
	if len(value) > longestWord {
		return ""
	}
	best, distance := "", len(value)
	for _, a := range allowed {
		if d := EditDistance(value, a); d < distance && 3*d <= max(len(a), 3) {
			best, distance = a, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (meant: %s?)", best)
}

// EditDistance counts the letters to insert, delete or exchange (Levenshtein,
// 1965), by the usual table of which two rows are kept.
func EditDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			diagonal, row[j+1] = row[j+1], min(row[j]+1, row[j+1]+1, diagonal+cost)
		}
	}
	return row[len(b)]
}

// keysOf are the keys of languages, by the type of their documents.
var keysOf sync.Map

// knownKeys lists every key of a language, as the types declare them.
func knownKeys(language reflect.Type) []string {
	if known, ok := keysOf.Load(language); ok {
		return known.([]string)
	}
	seen := map[reflect.Type]bool{}
	keys := map[string]bool{}
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || seen[t] {
			return
		}
		seen[t] = true
		for i := range t.NumField() {
			if tag := t.Field(i).Tag.Get("yaml"); tag != "" && tag != "-" {
				keys[tag] = true
				walk(t.Field(i).Type)
			}
		}
	}
	walk(language)
	out := make([]string, 0, len(keys))
	for k := range keys {
		out = append(out, k)
	}
	sort.Strings(out)
	keysOf.Store(language, out)
	return out
}
