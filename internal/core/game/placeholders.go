package game

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"reshard/internal/core/doclang"
)

var placeholder = regexp.MustCompile(`\{([a-z][a-z-]*)\}`)

// filledIn says what is filled in where, by the keys' names from the profile's root; * is any one name. What is
// not here is filled nowhere.
var filledIn = []struct {
	at    string
	names []string
}{
	{"store.*", []string{"account"}},
	{"world.files", []string{"name"}},
	{"world.recognise.members", []string{"name"}},
	{"world.facts.*.read", []string{"file", "name"}},
	{"world.players.rows.read", []string{"file", "name"}},
	{"world.players.each", []string{"id"}},
	{"world.realms.*.split", []string{"folder"}},
	{"world.picture.tiles", []string{"x", "z"}},
	{"server.settings.*.line", []string{"key", "value"}},
	{"server.new-world.save.*", []string{"name", "file"}},
	{"server.console.say", []string{"text"}},
	{"server.console.hold.*", []string{"name", "file"}},
	{"server.console.flush.*", []string{"name", "file"}},
	{"server.console.release.*", []string{"name", "file"}},
	{"server.console.load.*", []string{"name", "file"}},
}

// checkPlaceholders complains of each placeholder that nothing fills in: it would be said to a console, or be
// waited for, as it stands.
func (l *linter) checkPlaceholders(path []string, key string, v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			l.checkPlaceholders(path, key, v.Elem())
		}
	case reflect.Struct:
		if p, ok := v.Interface().(Pattern); ok {
			l.checkPlaceholder(path, key, p.Text)
			return
		}
		for i := range v.NumField() {
			name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ",")
			if !v.Type().Field(i).IsExported() {
				continue
			}
			if name == "" || name == "-" {
				l.checkPlaceholders(path, key, v.Field(i))
				continue
			}
			l.checkPlaceholders(append(slices.Clone(path), name), doclang.At(key, name), v.Field(i))
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			name := fmt.Sprint(k.Interface())
			l.checkPlaceholders(append(slices.Clone(path), name), doclang.At(key, name), v.MapIndex(k))
		}
	case reflect.Slice:
		for i := range v.Len() {
			l.checkPlaceholders(path, key, v.Index(i))
		}
	case reflect.String:
		l.checkPlaceholder(path, key, v.String())
	default:
	}
}

func (l *linter) checkPlaceholder(path []string, key, text string) {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		var known []string
		for _, f := range filledIn {
			at := strings.Split(f.at, ".")
			if slices.EqualFunc(at, path, func(a, b string) bool { return a == "*" || a == b }) {
				known = f.names
			}
		}
		if slices.Contains(known, m[1]) {
			continue
		}
		instead := "; it would stand there as it is"
		if len(known) > 0 {
			instead = "; what is filled in there is {" + strings.Join(known, "} and {") + "}"
		}
		l.Complain(key, "nothing fills in %s%s", m[0], instead)
	}
}
