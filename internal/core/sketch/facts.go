package sketch

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"sort"
	"strconv"
	"strings"

	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

// Bounds of the search for facts.
const (
	mostFiles    = 60
	fewPerFolder = 3
	largestFile  = 8 << 20
	deepestKey   = 5
	mostValues   = 4000
)

// finding is one value that may be a fact.
type finding struct {
	source string // as YAML
	score  int
	where  string
	value  string
}

// readFacts looks into the world's files for what might be title, seed, version
// and the time of the last play.
func (d *drawing) readFacts(fsys fs.FS, base, start string) {
	found := map[string][]finding{}
	for i, file := range candidates(fsys, start) {
		if i == mostFiles {
			break
		}
		d.lookInto(fsys, file, strings.TrimPrefix(strings.TrimPrefix(file, base), "/"), found)
	}
	for _, name := range []string{"title", "seed", "version", "last-played"} {
		list := found[name]
		sort.SliceStable(list, func(i, j int) bool { return list[i].score > list[j].score })
		if len(list) == 0 {
			d.note("world.facts."+name, "", Guess, "nothing that looks like it was found")
			continue
		}
		best := list[0]
		sure := Likely
		if best.score >= 5 && (len(list) == 1 || list[1].score < best.score) {
			sure = Sure
		}
		d.facts[name] = best.source
		why := fmt.Sprintf("%s holds %q", best.where, best.value)
		if len(list) > 1 {
			why += fmt.Sprintf("; %d other places look like it", len(list)-1)
		}
		d.note("world.facts."+name, best.source, sure, why)
	}
}

// candidates lists a world's files, the nearest to its root first, and of each
// folder below only the first few: what a world says of itself stands at its
// top, and a folder of a thousand tiles tells no more than one of them.
func candidates(fsys fs.FS, start string) []string {
	if info, err := fs.Stat(fsys, start); err == nil && !info.IsDir() {
		return []string{start}
	}
	var out []string
	level := []string{start}
	for depth := 0; depth <= 2; depth++ {
		var below []string
		for _, dir := range level {
			entries, err := fs.ReadDir(fsys, dir)
			if err != nil {
				continue
			}
			taken := 0
			for _, e := range entries {
				file := path.Join(dir, e.Name())
				if e.IsDir() {
					below = append(below, file)
					continue
				}
				info, err := e.Info()
				if err != nil || info.Size() == 0 || info.Size() > largestFile || passing.MatchString(e.Name()) ||
					(depth > 0 && taken == fewPerFolder) {
					continue
				}
				taken++
				out = append(out, file)
			}
		}
		level = below
	}
	return out
}

// layersOf tells a file's compression from its first bytes.
func layersOf(data []byte) []string {
	for layer, magic := range map[string]string{"gzip": "\x1f\x8b", "zstd": "\x28\xb5\x2f\xfd", "xz": "\xfd7zXZ\x00"} {
		if bytes.HasPrefix(data, []byte(magic)) {
			return []string{layer}
		}
	}
	// zlib: 32 KiB window, deflate, and a check of both bytes (RFC 1950).
	if len(data) > 2 && data[0] == 0x78 && (int(data[0])*256+int(data[1]))%31 == 0 {
		return []string{"zlib"}
	}
	return nil
}

func (d *drawing) lookInto(fsys fs.FS, file, rel string, found map[string][]finding) {
	head := first(fsys, file, 80)
	for _, how := range decodersFor(file) {
		if d.tryLayers(fsys, file, rel, layersOf(head), how, found) {
			return
		}
	}
	// Compressed behind a header of its own?
	for at := 4; at+8 <= len(head); at += 4 {
		if layers := layersOf(head[at:]); layers != nil {
			layers = append([]string{fmt.Sprintf("{header: {size: %d}}", at)}, layers...)
			for _, how := range []string{"cbor", "msgpack", "json"} {
				if d.tryLayers(fsys, file, rel, layers, how, found) {
					return
				}
			}
		}
	}
}

// tryLayers decodes a file one way and collects what looks like a fact. It reports
// whether the file decodes so.
func (d *drawing) tryLayers(fsys fs.FS, file, rel string, layers []string, how string,
	found map[string][]finding) bool {
	read := rel
	if d.shape != game.ShapeFolder {
		read = "{file}"
	}
	through := make([]game.Layer, 0, 3)
	for _, l := range append(append([]string{}, layers...), how) {
		layer := game.Layer{Word: l}
		if n, ok := strings.CutPrefix(l, "{header: {size: "); ok {
			size, err := strconv.Atoi(strings.TrimRight(n, "}"))
			if err != nil {
				return false
			}
			layer = game.Layer{Header: &game.Header{Size: game.Measure{Fixed: size}}}
		}
		through = append(through, layer)
	}
	b := d.budget.Part()
	defer b.Done()
	doc, err := fact.NewReader(fsys, b).Decode(file, through)
	if err != nil {
		return false
	}
	values := 0
	walk(doc, "", 0, func(pointer, value string) {
		if values++; values > mostValues {
			return
		}
		for name, score := range d.resembles(lastKey(pointer), value) {
			words := strings.Join(append(append([]string{}, layers...), how), ", ")
			found[name] = append(found[name], finding{
				source: fmt.Sprintf("{read: %s, through: [%s], pick: %s%s}", yamlText(read), words, yamlText(pointer),
					typeOf(name)),
				score: score - strings.Count(rel, "/") - strings.Count(pointer, "/") + 1, where: rel + " " + pointer,
				value: value,
			})
		}
	})
	return values > 1 // else other decoders are tried as well
}

// decodersFor lists decoders to try, by a file's ending first.
func decodersFor(file string) []string {
	byEnding := map[string][]string{
		".json": {"json"}, ".yaml": {"yaml"}, ".yml": {"yaml"}, ".toml": {"toml"}, ".xml": {"xml"}, ".ini": {"ini"},
		".properties": {"properties"}, ".env": {"env"}, ".cbor": {"cbor"}, ".sqlite": nil, ".db": nil, ".png": nil,
		".log": nil,
	}
	if list, ok := byEnding[strings.ToLower(path.Ext(file))]; ok {
		return list
	}
	return []string{"json", "cbor", "msgpack", "key-value"}
}

func typeOf(name string) string {
	switch name {
	case "seed":
		return ", type: int64"
	case "version":
		return ", type: version"
	case "last-played":
		return ", type: time"
	}
	return ""
}

func lastKey(pointer string) string {
	return strings.ToLower(pointer[strings.LastIndexByte(pointer, '/')+1:])
}

var (
	dotted  = regexp.MustCompile(`^v?\d+(\.\d+){1,3}([-+].*)?$`)
	integer = regexp.MustCompile(`^-?\d{1,20}$`)
	plain   = regexp.MustCompile(`^[^\x00-\x1f]{1,80}$`)
)

// resembles scores a value for the facts that it may be.
func (d *drawing) resembles(key, value string) map[string]int {
	out := map[string]int{}
	name := d.nameOf(d.in.WorldPath)
	if strings.Contains(key, "seed") && integer.MatchString(value) {
		out["seed"] = 5
		if key == "seed" {
			out["seed"] = 6
		}
	}
	if strings.Contains(key, "version") || strings.Contains(key, "written") {
		if dotted.MatchString(value) {
			out["version"] = 6
		} else if integer.MatchString(value) {
			out["version"] = 3
		}
	}
	if out["version"] == 0 && dotted.MatchString(value) {
		out["version"] = 3 // it looks like one, whatever it is called
	}
	if plain.MatchString(value) && !integer.MatchString(value) {
		switch {
		case alike(value, name):
			out["title"] = 6
		case len(name) > 3 && strings.Contains(strings.ToLower(value), strings.ToLower(name)):
			out["title"] = 4
		case key == "title" || key == "name" || strings.HasSuffix(key, "_name") ||
			strings.HasSuffix(key, "name") && strings.Contains(key, "world"):
			out["title"] = 5
		case strings.Contains(key, "name"):
			out["title"] = 2
		}
	}
	if n, err := strconv.ParseInt(value, 10, 64); err == nil && n > 1_300_000_000 && n < 2_500_000_000 &&
		out["seed"] == 0 {
		out["last-played"] = 2 // a moment of these years, in seconds
	}
	if strings.Contains(key, "played") || strings.Contains(key, "saved") || strings.Contains(key, "modified") {
		if n, err := strconv.ParseInt(value, 10, 64); err == nil && n > 1_000_000_000 && n < 4_000_000_000 {
			out["last-played"] = 5
		} else if len(value) > 18 && value[4] == '-' && value[10] == 'T' {
			out["last-played"] = 5
		}
	}
	return out
}

// alike compares a title with a folder's name: letters and digits only.
func alike(a, b string) bool {
	fold := func(s string) string {
		return strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, strings.ToLower(s))
	}
	return fold(a) != "" && fold(a) == fold(b)
}

// walk visits the single values of a decoded document.
func walk(doc any, pointer string, depth int, visit func(pointer, value string)) {
	if depth > deepestKey {
		return
	}
	escape := strings.NewReplacer("~", "~0", "/", "~1")
	switch node := doc.(type) {
	case map[string]any:
		keys := make([]string, 0, len(node))
		for k := range node {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for _, k := range keys {
			walk(node[k], pointer+"/"+escape.Replace(k), depth+1, visit)
		}
	case []any:
		for i, v := range node {
			if i == 3 {
				return // a list's first items tell enough
			}
			walk(v, pointer+"/"+strconv.Itoa(i), depth+1, visit)
		}
	case nil:
	default:
		for _, kv := range fact.Flat(node) {
			visit("/"+kv.Key, kv.Value)
		}
		if text, ok := fact.Scalar(node); ok && pointer != "" {
			visit(pointer, text)
		}
	}
}
