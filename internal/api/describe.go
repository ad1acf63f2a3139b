package api

import (
	"io/fs"
	"path"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/core/compare"
	"reshard/internal/core/fielddoc"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// described are the packages whose comments describe their fields.
var described = map[string]fs.FS{
	reflect.TypeFor[wire.Server]().PkgPath():        wire.Source,
	reflect.TypeFor[compare.Comparison]().PkgPath(): compare.Source,
	reflect.TypeFor[plan.Wish]().PkgPath():          plan.Text,
}

// describe takes the comments above the fields of what is sent into the API's description.
func describe(schemas huma.Registry) {
	docs := map[string]fielddoc.Docs{}
	for pkg, src := range described {
		docs[pkg] = fielddoc.Of(src)
	}
	for name, schema := range schemas.Map() {
		t := schemas.TypeFromRef("#/components/schemas/" + name)
		for t != nil && t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t != nil && t.Kind() == reflect.Struct {
			describeFields(schema, t, docs)
		}
	}
}

func describeFields(schema *huma.Schema, t reflect.Type, docs map[string]fielddoc.Docs) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			describeFields(schema, f.Type, docs)
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		said := docs[t.PkgPath()][path.Base(t.Name())+"."+f.Name]
		if property := schema.Properties[name]; property != nil && said != "" && property.Description == "" {
			property.Description = said
		}
	}
}
