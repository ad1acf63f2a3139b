package game

import (
	"embed"
	"encoding/json"
	"reflect"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/fielddoc"
	"reshard/internal/core/settings"
)

//go:embed profile.go
var source embed.FS

var docs = sync.OnceValue(func() fielddoc.Docs { return fielddoc.Of(source) })

// Schema gives the JSON Schema (2020-12) of the language, made from the types that
// read it, so that editors can complete and check a profile while it is written.
var Schema = sync.OnceValue(func() []byte {
	data, err := json.MarshalIndent(SchemaMap(), "", "  ")
	if err != nil {
		panic(err) // maps of texts always encode
	}
	return append(data, '\n')
})

// SchemaMap gives the same as data.
func SchemaMap() map[string]any {
	s := schemaMaker{defs: map[string]any{}}
	root := s.of(reflect.TypeFor[Profile]())
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "Reshard game profile, " + Language
	root["$defs"] = s.defs
	return root
}

type schemaMaker struct{ defs map[string]any }

// words are the allowed words of a key, by its type and YAML name.
func words(t reflect.Type, key string) []string {
	switch t.Name() + "." + key {
	case "WorldFormat.shape":
		return []string{ShapeFolder, ShapeFile, ShapeSession}
	case "Source.type":
		return Types
	case "Players.id":
		return IDFormats
	case "Settings.format":
		return settings.Formats()
	case "Settings.encoding":
		return settings.Encodings()
	case "Accepts.version":
		return []string{"any", "exact", "same-minor", "not-newer", "listed"}
	case "Kind.realms":
		return []string{"nested", "split"}
	case "KeyPlace.writes":
		return []string{"name", "file", "path"}
	case "Stop.signal":
		return []string{"SIGINT", "SIGTERM"}
	case "Checksum.kind":
		return Checksums
	case "Length.of":
		return []string{"follows", "inside"}
	case "Measure.as", "Checksum.as", "Length.as", "Field.length":
		return Numbers
	case "Field.as":
		return append(append([]string{}, Numbers...), "text", "hex")
	case "Profile.reshard":
		return []string{Language}
	}
	return nil
}

func (s schemaMaker) of(t reflect.Type) map[string]any {
	switch t {
	case reflect.TypeFor[Pattern]():
		return map[string]any{"type": "string", "format": "regex"}
	case reflect.TypeFor[time.Duration]():
		return map[string]any{"type": "string", "pattern": `^[0-9]+(\.[0-9]+)?(ms|s|m|h)$`}
	case reflect.TypeFor[Sources]():
		return oneOrList(s.ref(reflect.TypeFor[Source]()))
	case reflect.TypeFor[Paths]():
		return oneOrList(map[string]any{"type": "string"})
	case reflect.TypeFor[PerSystem]():
		return map[string]any{"oneOf": []any{
			map[string]any{"type": "string"},
			map[string]any{
				"type":                 "object",
				"propertyNames":        map[string]any{"enum": Systems},
				"additionalProperties": map[string]any{"type": "string"},
			},
		}}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return s.of(t.Elem())
	case reflect.Slice:
		return map[string]any{"type": "array", "items": s.of(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": s.of(t.Elem())}
	case reflect.Struct:
		if t == reflect.TypeFor[Profile]() {
			return s.object(t)
		}
		return s.ref(t)
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	}
	return map[string]any{"type": "string"}
}

func oneOrList(one map[string]any) map[string]any {
	return map[string]any{"oneOf": []any{one, map[string]any{"type": "array", "items": one}}}
}

// ref names a type's schema and makes it on first use.
func (s schemaMaker) ref(t reflect.Type) map[string]any {
	name := strings.ToLower(t.Name())
	if _, made := s.defs[name]; !made {
		s.defs[name] = nil // a type may hold itself
		object := s.object(t)
		switch t {
		case reflect.TypeFor[Layer]():
			s.defs[name] = map[string]any{"oneOf": []any{
				map[string]any{"enum": append(append([]string{}, Unwraps...), Decoders...)}, object,
			}}
		case reflect.TypeFor[Measure]():
			s.defs[name] = map[string]any{"oneOf": []any{map[string]any{"type": "integer", "minimum": 1}, object}}
		default:
			s.defs[name] = object
		}
	}
	return map[string]any{"$ref": "#/$defs/" + name}
}

func (s schemaMaker) object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	required := []string{}
	for _, k := range Keys(t) {
		p := s.of(k.Type)
		if w := words(t, k.Name); w != nil {
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

// Key is one key of a mapping of the language.
type Key struct {
	Name   string
	Doc    string
	Needed bool
	Type   reflect.Type
}

// Keys lists the keys that a type of the language has.
func Keys(t reflect.Type) []Key {
	var out []Key
	for i := range t.NumField() {
		f := t.Field(i)
		if name := f.Tag.Get("yaml"); name != "" && name != "-" {
			out = append(out, Key{
				Name:   name,
				Doc:    docs()[t.Name()+"."+f.Name],
				Needed: f.Tag.Get("need") == "yes",
				Type:   f.Type,
			})
		}
	}
	return out
}
