package game

import (
	"embed"
	"encoding/json"
	"reflect"
	"sync"

	"reshard/internal/core/doclang"
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
	return doclang.Schema{
		Title: "Reshard game profile, " + Language, Docs: docs(), Words: words, Written: written, Shorter: shorter,
	}.Of(reflect.TypeFor[Profile]())
}

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

// written are the types that are not written as they are declared.
func written(m *doclang.Maker, t reflect.Type) map[string]any {
	switch t {
	case reflect.TypeFor[Pattern]():
		return map[string]any{"type": "string", "format": "regex"}
	case reflect.TypeFor[Sources]():
		return doclang.OneOrList(m.Ref(reflect.TypeFor[Source]()))
	case reflect.TypeFor[Paths]():
		return doclang.OneOrList(map[string]any{"type": "string"})
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
	return nil
}

// shorter are the mappings that may be written in a shorter way, too.
func shorter(t reflect.Type, mapping map[string]any) map[string]any {
	switch t {
	case reflect.TypeFor[Layer]():
		return map[string]any{"oneOf": []any{
			map[string]any{"enum": append(append([]string{}, Unwraps...), Decoders...)}, mapping,
		}}
	case reflect.TypeFor[Measure]():
		return map[string]any{"oneOf": []any{map[string]any{"type": "integer", "minimum": 1}, mapping}}
	}
	return nil
}

// Keys lists the keys that a type of the language has.
func Keys(t reflect.Type) []doclang.Key { return doclang.Keys(t, docs()) }
