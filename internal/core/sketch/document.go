package sketch

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"reshard/internal/core/game"
)

var plainYAML = regexp.MustCompile(`^[A-Za-z_./][A-Za-z0-9_./ -]*$`)

// yamlText writes text as a YAML scalar; in single quotes nothing but the quote
// itself has a meaning.
func yamlText(s string) string {
	if plainYAML.MatchString(s) && strings.TrimSpace(s) == s {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}

func yamlList(items []string) string {
	out := make([]string, 0, len(items))
	for _, i := range items {
		out = append(out, yamlText(i))
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// document writes the profile. Behind each line stands how sure it is.
func (d *drawing) document() string {
	sure := map[string]string{}
	for _, p := range d.parts {
		if _, told := sure[p.Key]; !told {
			sure[p.Key] = p.Sure
		}
	}
	var b strings.Builder
	line := func(key, format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if s := sure[key]; s != "" {
			text += "   # " + s
		}
		b.WriteString(text + "\n")
	}
	id := d.id()
	line("", "# A first sketch. What is marked guess must be filled in; reshard games try shows")
	line("", "# what each fact and key reads.")
	line("", "reshard: %s\nid: %s\ntitle: %s\n\nworld:", game.Language, id, yamlText(strings.ToUpper(id[:1])+id[1:]))
	d.writeWorld(line)
	line("", "\nserver:\n  kinds:\n    %s: {}", id)
	if d.version != "" {
		line("server.version", "  version: %s", d.version)
	}
	folder := d.worldsFolder
	if folder == "" {
		folder = "worlds"
	}
	line("server.worlds", "  worlds: %s", yamlText(folder+"/"))
	d.writeSettings(line)
	d.writeConsole(line)
	return b.String()
}

func (d *drawing) writeWorld(line func(key, format string, args ...any)) {
	shape := d.shape
	if shape == "" {
		shape = game.ShapeFolder
	}
	line("world.shape", "  shape: %s", shape)
	switch {
	case d.files != "":
		line("", "  files: %s", d.files)
		if d.begins != "" {
			line("world.recognise.begins", "  recognise: {begins: %s}", d.begins)
		}
	case len(d.expect) > 0:
		line("world.recognise.require", "  recognise: {require: %s, expect: %s}", yamlList(d.require),
			yamlList(d.expect))
	default:
		line("world.recognise.require", "  recognise: {require: %s}", yamlList(d.require))
	}
	if len(d.facts) > 0 {
		line("", "  facts:")
		for _, name := range slices.Sorted(maps.Keys(d.facts)) {
			line("world.facts."+name, "    %s: %s", name, d.facts[name])
		}
	}
	if len(d.locks) > 0 {
		line("world.locks", "  locks: %s", yamlList(d.locks))
	}
}

func (d *drawing) writeSettings(line func(key, format string, args ...any)) {
	line("", "  settings:")
	written := map[string]bool{}
	for _, doc := range d.settings {
		if doc.used && !written[doc.name] {
			written[doc.name] = true
			line("", "    %s: {file: %s, format: %s}", doc.name, yamlText(doc.file), doc.format)
		}
	}
	places := d.keys["active-world"]
	if len(places) == 0 {
		if len(written) == 0 {
			line("", "    main: {file: settings.ini, format: ini}   # guess")
			written["main"] = true
		}
		places = []string{fmt.Sprintf("{in: %s, key: WORLD}", slices.Sorted(maps.Keys(written))[0])}
	}
	line("", "  keys:")
	line("server.keys.active-world", "    active-world: [%s]", strings.Join(places, ", "))
	if seed := d.keys["seed"]; len(seed) > 0 {
		line("server.keys.seed", "    seed: [%s]", seed[0])
	}
	if d.join != "" {
		line("server.join", "  join: %s", d.join)
	}
}

func (d *drawing) writeConsole(line func(key, format string, args ...any)) {
	line("", "  console:")
	if d.logFile != "" {
		line("", "    log: %s   # likely; leave it out when the server writes to its standard output",
			yamlText(d.logFile))
	}
	ready := d.console["ready"]
	if ready == "" {
		ready = "ready"
	}
	line("server.console.ready", "    ready: '%s'", strings.ReplaceAll(ready, "'", "''"))
	if o := d.console["opened"]; o != "" {
		line("server.console.opened", "    opened: '%s'", strings.ReplaceAll(o, "'", "''"))
	}
	expect := ""
	if s := d.console["saved"]; s != "" {
		expect = ", expect: '" + strings.ReplaceAll(s, "'", "''") + "'"
	}
	line("server.console.stop", "    stop: {signal: SIGTERM%s}", expect)
}

// id proposes a game's id from what was given.
func (d *drawing) id() string {
	if d.in.ID != "" {
		return d.in.ID
	}
	for _, root := range append(slices.Clone(d.in.Roots), "mygame") {
		name := strings.Trim(notWord.ReplaceAllString(strings.ToLower(path.Base(root)), "-"), "-0123456789")
		if name != "" && len(name) <= 40 {
			return name
		}
	}
	return "mygame"
}
