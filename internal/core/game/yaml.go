package game

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// The types below may be written in more than one way; each way is one of
// YAML's plain forms. What goes wrong in a mapping is told for its keys, since
// that is what a person wrote.

// UnmarshalYAML takes one source or a list of them.
func (s *Sources) UnmarshalYAML(unmarshal func(any) error) error {
	return oneOrMany((*[]Source)(s), unmarshal)
}

// UnmarshalYAML takes one path or a list of them.
func (p *Paths) UnmarshalYAML(unmarshal func(any) error) error {
	return oneOrMany((*[]string)(p), unmarshal)
}

func oneOrMany[T any](out *[]T, unmarshal func(any) error) error {
	var list []any
	if unmarshal(&list) == nil {
		return unmarshal(out)
	}
	var one T
	if err := unmarshal(&one); err != nil {
		return err
	}
	*out = []T{one}
	return nil
}

// UnmarshalYAML takes a word or a mapping of one key.
func (l *Layer) UnmarshalYAML(unmarshal func(any) error) error {
	if unmarshal(&l.Word) == nil {
		return nil
	}
	type plain Layer
	return unmarshal((*plain)(l))
}

// UnmarshalYAML takes a number or where one stands.
func (m *Measure) UnmarshalYAML(unmarshal func(any) error) error {
	if unmarshal(&m.Fixed) == nil {
		return nil
	}
	type plain Measure
	return unmarshal((*plain)(m))
}

// UnmarshalYAML takes a path or one by system.
func (p *PerSystem) UnmarshalYAML(unmarshal func(any) error) error {
	var one string
	if unmarshal(&one) == nil {
		*p = PerSystem{"": one}
		return nil
	}
	by := map[string]string{}
	if err := unmarshal(&by); err != nil {
		return err
	}
	if _, odd := by[""]; odd || len(by) == 0 {
		return errors.New("a path, or paths by operating system")
	}
	*p = by
	return nil
}

// begin is one marker of a file's beginning as bytes.
func begin(text string) ([]byte, error) {
	if digits, ok := strings.CutPrefix(text, "hex="); ok {
		out, err := hex.DecodeString(digits)
		if err != nil || len(out) == 0 {
			return nil, fmt.Errorf("%q is no row of hexadecimal bytes", text)
		}
		return out, nil
	}
	if text == "" {
		return nil, errors.New("an empty beginning marks every file")
	}
	return []byte(text), nil
}

// Marks gives the beginnings of Recognise as bytes.
func (r Recognise) Marks() [][]byte {
	out := make([][]byte, 0, len(r.Begins))
	for _, b := range r.Begins {
		if data, err := begin(b); err == nil { // Lint has refused the others
			out = append(out, data)
		}
	}
	return out
}
