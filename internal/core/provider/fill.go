package provider

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Values are what placeholders stand for.
type Values map[string]string

// With gives values with one more.
func (v Values) With(name, value string) Values {
	out := maps.Clone(v)
	if out == nil {
		out = Values{}
	}
	out[name] = value
	return out
}

// Text fills the placeholders of a text.
func (v Values) Text(text string) string {
	return placeholder.ReplaceAllStringFunc(text, func(p string) string {
		if value, ok := v[p[1:len(p)-1]]; ok {
			return value
		}
		return p
	})
}

// Path fills those of a path: each value stays one part of it, whatever it holds.
func (v Values) Path(path string) string {
	escaped := make(Values, len(v))
	for name, value := range v {
		if value == "." || value == ".." { // a part that would lead elsewhere
			value = strings.ReplaceAll(value, ".", "%2E")
		} else {
			value = url.PathEscape(value)
		}
		escaped[name] = value
	}
	return escaped.Text(path)
}

// JSON fills those in the texts of a value as YAML gives it, and gives it in JSON.
func (v Values) JSON(value any) ([]byte, error) { return json.Marshal(v.filled(value)) }

func (v Values) filled(value any) any {
	switch value := value.(type) {
	case string:
		return v.Text(value)
	case []any:
		out := make([]any, len(value))
		for i, one := range value {
			out[i] = v.filled(one)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(value))
		for k, one := range value {
			out[k] = v.filled(one)
		}
		return out
	}
	return value
}

// eachText calls do with every text in a value as YAML gives it.
func eachText(value any, do func(string)) {
	switch value := value.(type) {
	case string:
		do(value)
	case []any:
		for _, one := range value {
			eachText(one, do)
		}
	case map[string]any:
		for _, one := range value {
			eachText(one, do)
		}
	}
}

// In gives what an answer holds at its place, as a text. The error says what is missing.
func (a Answer) In(body []byte) (string, error) {
	if !a.Find.IsZero() {
		if err := a.Find.Fits(len(body)); err != nil {
			return "", err
		}
		groups, ok := a.Find.Find(string(body))
		if !ok {
			return "", fmt.Errorf("nothing in its answer fits %s", strconv.Quote(a.Find.Text))
		}
		return groups["value"], nil
	}
	value, err := Pick(body, a.Pick)
	if err != nil {
		return "", err
	}
	text, ok := Scalar(value)
	if !ok {
		return "", fmt.Errorf("its answer has no single value at %s", a.Pick)
	}
	return text, nil
}

// Value is a value of a JSON document, as it stands there: a document of many small values takes a hundred times its
// size when it is decoded whole.
type Value = json.RawMessage

// MostItems is how many values a list may have, and mostParts how many parts a pointer: each is looked for anew.
const (
	MostItems = 100_000
	mostParts = 32
)

// Pick gives what stands at a JSON pointer (RFC 6901) in a document.
func Pick(body []byte, pointer string) (Value, error) {
	var whole Value
	if err := json.NewDecoder(bytes.NewReader(body)).Decode(&whole); err != nil {
		return nil, fmt.Errorf("its answer is no JSON: %w", err)
	}
	return At(whole, pointer)
}

// At gives what stands at a JSON pointer in a value.
func At(value Value, pointer string) (Value, error) {
	if pointer == "" {
		return value, nil
	}
	if strings.Count(pointer, "/") > mostParts {
		return nil, fmt.Errorf("%s has more than %d parts", pointer, mostParts)
	}
	for part := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		var found Value
		n, err := strconv.Atoi(part)
		inList := err == nil && n >= 0
		members(value, func(key string, index int, member Value) bool {
			if key == part && index < 0 || inList && index == n {
				found = bytes.Clone(member)
			}
			return index < 0 || found == nil // of members of the same name the last one counts
		})
		if found == nil {
			return nil, fmt.Errorf("its answer has no %q of %s", part, pointer)
		}
		value = found
	}
	return value, nil
}

// List gives the values of a list.
func List(value Value) (out []Value, err error) {
	if value = bytes.TrimSpace(value); len(value) == 0 || value[0] != '[' {
		return nil, errors.New("it is not a list")
	}
	members(value, func(_ string, _ int, member Value) bool {
		out = append(out, bytes.Clone(member))
		return len(out) <= MostItems
	})
	if len(out) > MostItems {
		return nil, fmt.Errorf("it has more than %d items", MostItems)
	}
	return out, nil
}

// members gives the members of an object, with their keys and the index -1, or those of a list with their indexes,
// until more says that it has enough. A member is only good within more.
func members(value Value, more func(key string, index int, member Value) bool) {
	d := json.NewDecoder(bytes.NewReader(value))
	open, err := d.Token()
	if err != nil || open != json.Delim('{') && open != json.Delim('[') {
		return
	}
	var member Value
	for i := 0; d.More(); i++ {
		key, index := "", i
		if open == json.Delim('{') {
			token, err := d.Token()
			if err != nil {
				return
			}
			key, _ = token.(string)
			index = -1
		}
		if d.Decode(&member) != nil || !more(key, index, member) {
			return
		}
	}
}

// Scalar gives a single value as a text.
func Scalar(value Value) (string, bool) {
	d := json.NewDecoder(bytes.NewReader(value))
	d.UseNumber()
	token, err := d.Token()
	if err != nil {
		return "", false
	}
	switch token := token.(type) {
	case string:
		return token, true
	case json.Number:
		return token.String(), true
	case bool:
		return strconv.FormatBool(token), true
	}
	return "", false
}

// TimeOf reads a time as RFC 3339 or in seconds since 1970; zero for what is neither.
func TimeOf(text string) time.Time {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t.UTC()
	}
	if n, err := strconv.ParseFloat(text, 64); err == nil && n > 0 {
		return time.UnixMilli(int64(n * 1000)).UTC()
	}
	return time.Time{}
}
