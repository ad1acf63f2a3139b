package provider

import (
	"encoding/json"
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

// Pick gives what stands at a JSON pointer (RFC 6901) in a document.
func Pick(body []byte, pointer string) (any, error) {
	decoder := json.NewDecoder(strings.NewReader(string(body)))
	decoder.UseNumber()
	var value any
	if err := decoder.Decode(&value); err != nil {
		return nil, fmt.Errorf("its answer is no JSON: %w", err)
	}
	return At(value, pointer)
}

// At gives what stands at a JSON pointer in a decoded value.
func At(value any, pointer string) (any, error) {
	if pointer == "" {
		return value, nil
	}
	for part := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		switch now := value.(type) {
		case map[string]any:
			next, ok := now[part]
			if !ok {
				return nil, fmt.Errorf("its answer has no %q of %s", part, pointer)
			}
			value = next
		case []any:
			n, err := strconv.Atoi(part)
			if err != nil || n < 0 || n >= len(now) {
				return nil, fmt.Errorf("its answer has no %q of %s", part, pointer)
			}
			value = now[n]
		default:
			return nil, fmt.Errorf("its answer has no %q of %s", part, pointer)
		}
	}
	return value, nil
}

// Scalar gives a single value as a text.
func Scalar(value any) (string, bool) {
	switch value := value.(type) {
	case string:
		return value, true
	case json.Number:
		return value.String(), true
	case bool:
		return strconv.FormatBool(value), true
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
