package doclang

import (
	"reflect"
	"strings"
	"time"

	"reshard/internal/core/fielddoc"
)

// Schema makes the JSON Schema (2020-12) of a language from the types that read it.
type Schema struct {
	Title string
	Docs  fielddoc.Docs
	// Words are the allowed words of a key, by its type and YAML name; nil: any.
	Words func(t reflect.Type, key string) []string
	// Written gives the schema of a type that is not written as it is declared; nil for others.
	Written func(s *Maker, t reflect.Type) map[string]any
	// Shorter gives the schema of a mapping that may be written in a shorter way, too; nil for
	// others.
	Shorter func(t reflect.Type, mapping map[string]any) map[string]any
}

// Of gives the schema of a document of a type, as data.
func (s Schema) Of(document reflect.Type) map[string]any {
	m := &Maker{Schema: s, document: document, defs: map[string]any{}}
	root := m.Of(document)
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = s.Title
	root["$defs"] = m.defs
	return root
}

// Maker makes the parts of one schema.
type Maker struct {
	Schema
	document reflect.Type
	defs     map[string]any
}

// Of gives the schema of a type.
func (m *Maker) Of(t reflect.Type) map[string]any {
	if m.Written != nil {
		if own := m.Written(m, t); own != nil {
			return own
		}
	}
	if t == reflect.TypeFor[time.Duration]() {
		return map[string]any{"type": "string", "pattern": `^[0-9]+(\.[0-9]+)?(ms|s|m|h)$`}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return m.Of(t.Elem())
	case reflect.Slice:
		return map[string]any{"type": "array", "items": m.Of(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": m.Of(t.Elem())}
	case reflect.Struct:
		if t == m.document {
			return m.object(t)
		}
		return m.Ref(t)
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Interface:
		return map[string]any{}
	}
	return map[string]any{"type": "string"}
}

// OneOrList is the schema of what is written once or as a list.
func OneOrList(one map[string]any) map[string]any {
	return map[string]any{"oneOf": []any{one, map[string]any{"type": "array", "items": one}}}
}

// Ref names a type's schema and makes it on first use.
func (m *Maker) Ref(t reflect.Type) map[string]any {
	name := strings.ToLower(t.Name())
	if _, made := m.defs[name]; !made {
		m.defs[name] = nil // a type may hold itself
		object := m.object(t)
		if m.Shorter != nil {
			if shorter := m.Shorter(t, object); shorter != nil {
				object = shorter
			}
		}
		m.defs[name] = object
	}
	return map[string]any{"$ref": "#/$defs/" + name}
}

func (m *Maker) object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	required := []string{}
	for _, k := range Keys(t, m.Docs) {
		p := m.Of(k.Type)
		if w := m.Words(t, k.Name); w != nil {
			p = map[string]any{"enum": w}
		}
		if _, isRef := p["$ref"]; isRef {
			p = map[string]any{"allOf": []any{p}}
		}
		p["description"] = k.Doc
		properties[k.Name] = p
		if k.Needed {
			required = append(required, k.Name)
		}
	}
	return map[string]any{
		"type":                 "object",
		"additionalProperties": false,
		"properties":           properties,
		"required":             required,
	}
}

// Key is one key of a mapping of a language.
type Key struct {
	Name   string
	Doc    string
	Needed bool
	Type   reflect.Type
}

// Keys lists the keys that a type of a language has.
func Keys(t reflect.Type, docs fielddoc.Docs) []Key {
	var out []Key
	for i := range t.NumField() {
		f := t.Field(i)
		if name := f.Tag.Get("yaml"); name != "" && name != "-" {
			out = append(out, Key{
				Name:   name,
				Doc:    docs[t.Name()+"."+f.Name],
				Needed: f.Tag.Get("need") == "yes",
				Type:   f.Type,
			})
		}
	}
	return out
}
