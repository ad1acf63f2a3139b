// Package doclang is what Reshard's languages of YAML documents have in common: reading a document
// strictly and within bounds, complaints with line and column, and a JSON Schema made from the types
// that read it.
package doclang

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
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
		c := complaintOf(err, reflect.TypeOf(into).Elem())
		if m := wrongTime.FindStringSubmatch(err.Error()); m != nil { // this error names no place
			c.Line, c.Column = placeOf(file, m[1])
		}
		return nil, []Complaint{c}
	}
	return &Linter{file: file}, nil
}

func complaintOf(err error, language reflect.Type) Complaint {
	var ye yaml.Error
	if errors.As(err, &ye) {
		c := Complaint{What: inWords(ye.GetMessage())}
		if _, word, ok := strings.Cut(c.What, "unknown field "); ok {
			c.What += belongs(strings.Trim(word, `"`), language)
		}
		if tok := ye.GetToken(); tok != nil && tok.Position != nil {
			c.Line, c.Column = tok.Position.Line, tok.Position.Column
		}
		return c
	}
	return Complaint{What: inWords(err.Error())}
}

// placeOf finds the first value in a document that reads so; 0, 0: none.
func placeOf(file *ast.File, value string) (line, column int) {
	for _, doc := range file.Docs {
		for _, n := range ast.Filter(ast.StringType, doc.Body) {
			if line == 0 && n.GetToken().Value == value {
				line, column = n.GetToken().Position.Line, n.GetToken().Position.Column
			}
		}
	}
	return line, column
}

// What the library for YAML says of values of a wrong type.
var (
	wrongType  = regexp.MustCompile(`^cannot unmarshal (.+) into Go (?:struct field \S+|value) of type (.+)$`)
	wrongShape = regexp.MustCompile(`^(\w+) was used where (\w+) is expected$`)
	wrongTime  = regexp.MustCompile(`^time: .*duration "?([^"]*)"?$`)
)

// inWords says what is wrong with a value in words that need no knowledge of this program.
func inWords(message string) string {
	if m := wrongType.FindStringSubmatch(message); m != nil {
		return typeInWords(m[1]) + " stands where " + typeInWords(m[2]) + " belongs"
	}
	if m := wrongShape.FindStringSubmatch(message); m != nil {
		return typeInWords(m[1]) + " stands where " + typeInWords(m[2]) + " belongs"
	}
	if m := wrongTime.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("%q is no length of time; one looks like 30s or 5m", m[1])
	}
	return message
}

func typeInWords(t string) string {
	switch {
	case strings.HasPrefix(t, "[]"), t == "sequence":
		return "a list"
	case strings.HasPrefix(t, "map["), t == "mapping":
		return "a mapping of keys to values"
	case t == "time.Duration":
		return "a length of time such as 30s"
	case strings.HasPrefix(t, "int"), strings.HasPrefix(t, "uint"):
		return "a whole number"
	case strings.HasPrefix(t, "float"):
		return "a number"
	case t == "bool", t == "boolean":
		return "true or false"
	case t == "string":
		return "a text"
	case t == "null":
		return "nothing"
	}
	return "a mapping of keys to values" // a type of the language
}

// belongs says where a key belongs that is unknown where it stands, or which one was meant.
func belongs(word string, language reflect.Type) string {
	known := knownKeys(language)
	at := known[word]
	if len(at) == 0 {
		return Meant(word, slices.Sorted(maps.Keys(known)))
	}
	if len(at) > 3 {
		return " here; see the reference of the language"
	}
	return " here: it belongs " + strings.Join(at, " or ")
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

// knownKeys lists every key of a language, as the types declare them, and in which keys each belongs.
func knownKeys(language reflect.Type) map[string][]string {
	if known, ok := keysOf.Load(language); ok {
		return known.(map[string][]string)
	}
	seen := map[reflect.Type]bool{}
	keys := map[string][]string{}
	var walk func(t reflect.Type, at string)
	walk = func(t reflect.Type, at string) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || seen[t] {
			return
		}
		seen[t] = true
		for i := range t.NumField() {
			tag := t.Field(i).Tag.Get("yaml")
			if tag == "" || tag == "-" {
				continue
			}
			if at == "" {
				keys[tag] = append(keys[tag], "at the top")
			} else {
				keys[tag] = append(keys[tag], "in "+at)
			}
			walk(t.Field(i).Type, strings.TrimPrefix(at+"."+tag, "."))
		}
		delete(seen, t)
	}
	walk(language, "")
	keysOf.Store(language, keys)
	return keys
}
