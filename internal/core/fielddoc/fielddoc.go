// Package fielddoc gives the comments above the fields of a package's types, so that
// what a programmer reads there is what the API's description, a schema and an editor
// say as well: told once, and in sentences that may be longer than a line.
package fielddoc

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"strings"
)

// Docs are comments by "Type.Field".
type Docs map[string]string

// Of reads the Go files at the top of src. Comments lose their line breaks, and the
// field's own name where they begin with it. It panics when a file does not parse:
// the files are compiled into the program that asks.
func Of(src fs.FS) Docs {
	out := Docs{}
	names, err := fs.Glob(src, "*.go")
	if err != nil {
		panic(err)
	}
	for _, name := range names {
		text, err := fs.ReadFile(src, name)
		if err != nil {
			panic(err)
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, text, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			panic(err)
		}
		out.add(file)
	}
	return out
}

func (d Docs) add(file *ast.File) {
	ast.Inspect(file, func(n ast.Node) bool {
		spec, ok := n.(*ast.TypeSpec)
		if !ok {
			return true
		}
		body, ok := spec.Type.(*ast.StructType)
		if !ok {
			return true
		}
		for _, f := range body.Fields.List {
			text := f.Doc.Text()
			if text == "" {
				text = f.Comment.Text()
			}
			for _, name := range f.Names {
				if said := sentence(text, name.Name); said != "" {
					d[spec.Name.Name+"."+name.Name] = said
				}
			}
		}
		return true
	})
}

// sentence is a comment on one line, without the name that it begins with.
func sentence(text, name string) string {
	text = strings.TrimSuffix(strings.Join(strings.Fields(text), " "), ".")
	for _, begin := range []string{name + " is ", name + " are ", name + " "} {
		if rest, ok := strings.CutPrefix(text, begin); ok {
			return rest
		}
	}
	return text
}
