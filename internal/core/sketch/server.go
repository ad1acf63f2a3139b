package sketch

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
	"reshard/internal/core/settings"
)

// document is a settings-like file.
type document struct {
	name, file, format string
	entries            []settings.Entry
	used               bool
}

// formatsByEnding are the formats to try for a file.
var formatsByEnding = map[string][]string{
	".properties": {"properties"}, ".ini": {"ini"}, ".cfg": {"ini", "key-value"}, ".conf": {"key-value", "ini"},
	".json": {"json"},
	".yaml": {"yaml"}, ".yml": {"yaml"}, ".toml": {"toml"}, ".xml": {"xml"}, ".env": {"env"}, ".sh": {"shell"},
	".bat": {"batch"}, ".cmd": {"batch"},
	".txt": {"key-value"},
}

// Bounds of the search in a server.
const (
	mostVisited   = 20_000
	deepestFolder = 5
	mostDocuments = 200
	logTail       = 256 << 10
)

func (d *drawing) server() error {
	var logs []string
	visited := 0
	err := fs.WalkDir(d.in.Server, ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			if p == "." {
				return err
			}
			return fs.SkipDir
		}
		if visited++; visited > mostVisited {
			return fs.SkipAll
		}
		if e.IsDir() {
			if p != "." && (strings.Count(p, "/") >= deepestFolder || d.isWorld(p)) {
				return fs.SkipDir
			}
			return nil
		}
		if strings.HasSuffix(p, ".log") {
			logs = append(logs, p)
			return nil
		}
		if d.isWorldFile(p) {
			return nil
		}
		d.settingsFile(p, e)
		return nil
	})
	if err != nil {
		return err
	}
	d.whereWorlds()
	d.search()
	d.readLogs(logs)
	return nil
}

// isWorld reports whether a folder of the server is a world like the example, and
// notes its name.
func (d *drawing) isWorld(dir string) bool {
	if d.shape != game.ShapeFolder || len(d.require) == 0 {
		return false
	}
	for _, r := range d.require {
		if _, err := fs.Stat(d.in.Server, path.Join(dir, strings.TrimSuffix(r, "/"))); err != nil {
			return false
		}
	}
	d.names = append(d.names, dir)
	return true
}

func (d *drawing) isWorldFile(file string) bool {
	if (d.shape != game.ShapeFile && d.shape != game.ShapeSession) || path.Ext(file) != d.ending {
		return false
	}
	d.names = append(d.names, file)
	return true
}

// settingsFile parses a settings-like file by its ending.
func (d *drawing) settingsFile(p string, e fs.DirEntry) {
	formats := formatsByEnding[strings.ToLower(path.Ext(p))]
	info, err := e.Info()
	if err != nil || len(formats) == 0 || len(d.settings) >= mostDocuments || info.Size() > 1<<20 {
		return
	}
	data, err := budget.ReadFile(d.in.Server, p, 1<<20)
	if err != nil {
		return
	}
	best := document{}
	for _, f := range formats {
		doc, err := settings.Parse(p, settings.Syntax{Format: f}, data)
		if err != nil {
			continue
		}
		if entries := doc.Entries(); len(entries) > len(best.entries) {
			best = document{name: docName(p), file: p, format: f, entries: entries}
		}
	}
	if len(best.entries) > 0 {
		d.settings = append(d.settings, best)
	}
}

var notWord = regexp.MustCompile(`[^a-z0-9]+`)

func docName(file string) string {
	name := strings.Trim(notWord.ReplaceAllString(strings.ToLower(strings.TrimSuffix(path.Base(file), path.Ext(file))),
		"-"), "-")
	if name == "" || name == game.InCommand {
		name = "settings"
	}
	return name
}

// whereWorlds finds the folder that holds the server's worlds.
func (d *drawing) whereWorlds() {
	count := map[string]int{}
	for _, p := range d.names {
		count[path.Dir(p)]++
	}
	best := ""
	for _, dir := range slices.Sorted(maps.Keys(count)) {
		if best == "" || count[dir] > count[best] {
			best = dir
		}
	}
	if best == "" || best == "." {
		d.worldsFolder = "worlds"
		d.note("server.worlds", "worlds/", Guess, "no world like the example stands below the server's folder")
		return
	}
	d.worldsFolder = best
	d.note("server.worlds", best+"/", Sure, fmt.Sprintf("worlds like the example stand there (%d)", count[best]))
}

// hit is a setting that holds a world's name.
type hit struct {
	doc    int
	key    string
	writes string
	value  string
	score  int
}

// search looks for each world's name, and its path, in every settings-like file.
func (d *drawing) search() {
	var hits []hit
	forms := d.forms()
	for i, doc := range d.settings {
		for _, e := range doc.entries {
			writes, ok := forms[e.Value]
			if !ok {
				continue
			}
			score := 1
			if named.MatchString(e.Key) {
				score += 2
			}
			if strings.Contains(e.Value, "/") || len(e.Value) > 8 {
				score++
			}
			hits = append(hits, hit{i, e.Key, writes, e.Value, score})
		}
	}
	sort.SliceStable(hits, func(i, j int) bool { return hits[i].score > hits[j].score })
	for n, h := range hits {
		if n == 3 || (n > 0 && h.score < hits[0].score) {
			break
		}
		sure := Likely
		if len(hits) == 1 || hits[1].score < hits[0].score {
			sure = Sure
		}
		doc := &d.settings[h.doc]
		doc.used = true
		place := fmt.Sprintf("{in: %s, key: %s", doc.name, yamlText(h.key))
		if h.writes != "name" {
			place += ", writes: " + h.writes
		}
		d.keys["active-world"] = append(d.keys["active-world"], place+"}")
		d.note("server.keys.active-world", doc.file+" "+h.key, sure,
			fmt.Sprintf("it holds %q, a world's %s; places that hold one: %d", h.value, h.writes, len(hits)))
	}
	if len(hits) == 0 {
		d.note("server.keys.active-world", "", Guess, "no settings-like file holds a world's name or path")
	}
	for i := range d.settings {
		for _, e := range d.settings[i].entries {
			d.otherKeys(&d.settings[i], e)
		}
	}
}

var named = regexp.MustCompile(`(?i)(world|save|map|level|load|folder|game|drift|open)`)

// forms are the ways in which a setting may name one of the server's worlds.
func (d *drawing) forms() map[string]string {
	out := map[string]string{}
	for _, p := range d.names {
		base := path.Base(p)
		out[d.nameOf(p)] = "name"
		if d.shape == game.ShapeFile {
			out[base] = "file"
		}
		if strings.Contains(p, "/") {
			out[p], out["./"+p], out[strings.ReplaceAll(p, "/", `\`)] = "path", "path", "path"
		}
		for _, root := range d.in.Roots {
			out[path.Join(root, p)] = "path"
		}
	}
	return out
}

func (d *drawing) otherKeys(doc *document, e settings.Entry) {
	key := strings.ToLower(e.Key)
	place := fmt.Sprintf("{in: %s, key: %s}", doc.name, yamlText(e.Key))
	last := key[strings.LastIndexAny(key, "/._-")+1:]
	switch {
	case strings.Contains(key, "seed") && len(d.keys["seed"]) == 0 && (integer.MatchString(e.Value) || e.Value == ""):
		doc.used = true
		d.keys["seed"] = []string{place}
		d.note("server.keys.seed", doc.file+" "+e.Key, Likely, "its name says so")
	case last == "port" && d.join == "":
		if n, err := strconv.Atoi(e.Value); err == nil && n > 0 && n < 1<<16 {
			doc.used = true
			d.join = place
			d.note("server.join", doc.file+" "+e.Key, Likely, "its name says so")
		}
	case last == "version" && d.version == "" && dotted.MatchString(e.Value) && doc.format == "json":
		d.version = fmt.Sprintf("{read: %s, through: [json], pick: %s, type: version}", yamlText(doc.file),
			yamlText(e.Key))
		d.note("server.version", d.version, Likely, fmt.Sprintf("it holds %q", e.Value))
	}
}

var (
	stamp   = regexp.MustCompile(`^[\[(]?[-0-9:.,TZ/ ]{6,30}[\])]?[: ]*`)
	readyIs = regexp.MustCompile(`(?i)\b(ready|listening|started|accepting|is open)\b`)
	savedIs = regexp.MustCompile(`(?i)\b(saved|written|shut(ting)? ?down|stopp(ed|ing)|bye)\b`)
	numbers = regexp.MustCompile(`\d+`)
)

// readLogs looks for the lines that name a world, that tell of readiness and of the
// end.
func (d *drawing) readLogs(logs []string) {
	forms := d.forms()
	values := slices.SortedFunc(maps.Keys(forms), func(a, b string) int { return len(b) - len(a) })
	for _, file := range logs {
		for _, line := range tail(d.in.Server, file) {
			text := stamp.ReplaceAllString(line, "")
			for _, v := range values {
				if d.console["opened"] == "" && len(v) > 2 && strings.Contains(text, v) {
					before, after, _ := strings.Cut(text, v)
					d.console["opened"] = expression(before) + `(?P<world>` + notAfter(after) + `+)` + expression(
						firstWord(after))
					d.note("server.console.opened", d.console["opened"], Likely, file+" has the line: "+text)
					d.logFile = file
				}
			}
			if d.console["ready"] == "" && readyIs.MatchString(text) {
				d.console["ready"] = expression(text)
				d.note("server.console.ready", d.console["ready"], Likely, file+" has the line: "+text)
				d.logFile = file
			}
			if savedIs.MatchString(text) {
				d.console["saved"] = expression(text)
			}
		}
	}
	if d.console["ready"] == "" {
		d.note("server.console.ready", "", Guess, "no log below the server's folder has a line that looks like it")
	}
	if d.console["opened"] == "" {
		d.note("server.console.opened", "", Guess, "no log below the server's folder names a world")
	}
	if s := d.console["saved"]; s != "" {
		d.note("server.console.stop.expect", s, Likely, "the last line of a log that tells of saving or stopping")
	}
	d.note("server.console.stop", "SIGTERM", Guess, "how the server wants to be stopped, its documentation tells")
}

func firstWord(s string) string {
	if s == "" {
		return ""
	}
	return s[:1]
}

// notAfter is a character class that ends where the name ended in the example.
func notAfter(after string) string {
	if after == "" {
		return `.`
	}
	return `[^` + strings.NewReplacer(`\`, `\\`, `]`, `\]`, `^`, `\^`).Replace(after[:1]) + `]`
}

// expression makes a regular expression of a line, in which numbers may change.
func expression(text string) string {
	return numbers.ReplaceAllString(regexp.QuoteMeta(text), `\d+`)
}

// lastBytes gives the end of a log, which may be as long as it likes.
func lastBytes(fsys fs.FS, file string) ([]byte, error) {
	f, err := fsys.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fs.ErrInvalid)
	}
	if from := info.Size() - logTail; from > 0 {
		if s, ok := f.(io.Seeker); ok {
			_, err = s.Seek(from, io.SeekStart)
		} else {
			_, err = io.CopyN(io.Discard, f, from)
		}
	}
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(f, logTail))
}

func tail(fsys fs.FS, file string) []string {
	data, err := lastBytes(fsys, file)
	if err != nil {
		return nil
	}
	var out []string
	for _, l := range strings.Split(strings.ToValidUTF8(string(data), ""), "\n") {
		if l = strings.TrimRight(l, "\r "); l != "" && len(l) < 400 {
			out = append(out, l)
		}
	}
	return out
}
