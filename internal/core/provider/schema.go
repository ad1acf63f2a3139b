package provider

import (
	"embed"
	"encoding/json"
	"reflect"
	"sync"

	"reshard/internal/core/doclang"
	"reshard/internal/core/fielddoc"
)

//go:embed provider.go
var source embed.FS

// Schema gives the JSON Schema (2020-12) of the language, made from the types that read it, so that
// editors can complete and check a description while it is written.
var Schema = sync.OnceValue(func() []byte {
	data, err := json.MarshalIndent(doclang.Schema{
		Title: "Reshard provider description, " + Language, Docs: fielddoc.Of(source),
		Words: func(t reflect.Type, key string) []string {
			switch {
			case t == reflect.TypeFor[Description]() && key == "reshard":
				return []string{Language}
			case t == reflect.TypeFor[Log]() && key == "by":
				return []string{LogAsked, LogEvents, LogWebSocket}
			case t == reflect.TypeFor[Unpack]() && key == "format":
				return Formats
			}
			return nil
		},
		Written: func(_ *doclang.Maker, t reflect.Type) map[string]any {
			if t == reflect.TypeFor[Pattern]() {
				return map[string]any{"type": "string", "format": "regex"}
			}
			return nil
		},
	}.Of(reflect.TypeFor[Description]()), "", "  ")
	if err != nil {
		panic(err) // maps of texts always encode
	}
	return append(data, '\n')
})
