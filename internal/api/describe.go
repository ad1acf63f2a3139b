package api

import (
	"io/fs"
	"path"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/core/compare"
	"reshard/internal/core/fielddoc"
	"reshard/internal/core/fit"
	"reshard/internal/core/keep"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/settings"
	"reshard/internal/wire"
)

// described are the packages whose comments describe their fields.
var described = map[string]fs.FS{
	reflect.TypeFor[wire.Server]().PkgPath():        wire.Source,
	reflect.TypeFor[compare.Comparison]().PkgPath(): compare.Source,
	reflect.TypeFor[plan.Wish]().PkgPath():          plan.Text,
	reflect.TypeFor[keep.Rule]().PkgPath():          keep.Text,
}

// describe takes the comments above the fields of what is sent into the API's description.
func describe(schemas huma.Registry) {
	listWords(schemas)
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

// listWords names the words that a text can be, where they are few: programs, and the
// console's types, then know them all. They come from where they are defined.
func listWords(schemas huma.Registry) {
	kinds := plan.KindsThat(func(plan.Kind) bool { return true })
	states := texts(plan.States())
	verdicts := texts(fit.Verdicts())
	layouts := []string{"", "nested", "split", "mixed"}
	for at, words := range map[string][]string{
		"Changeover.kind": kinds, "Plan.kind": kinds, "Sheet.kind": kinds, "Step.kind": plan.StepKinds(),
		"PlanStep.kind": plan.StepKinds(), "PlanProgress.stepKind": append(plan.StepKinds(), ""),
		"PlanProgress.state": states, "PlanProgress.going": {"forward", "back"}, "LineageStep.kind": kinds,
		"LineageStep.state": states, "FitRow.verdict": verdicts, "FitSheet.verdict": verdicts,
		"Facts.layout": layouts, "ServerPresent.layout": layouts, "ServerState.realms": layouts[1:3],
		"ServerDocument.format": settings.Formats(), "SettingsSyntax.format": settings.Formats(),
		"PlanExpect.state": append(texts(life.States()), ""),
	} {
		schema, property, _ := strings.Cut(at, ".")
		s := schemas.Map()[schema]
		if s == nil || s.Properties[property] == nil {
			panic("the API has no " + at) // a list of words for nothing
		}
		s.Properties[property].Enum = nil
		for _, word := range words {
			s.Properties[property].Enum = append(s.Properties[property].Enum, word)
		}
	}
}

func texts[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, one := range list {
		out[i] = string(one)
	}
	return out
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
