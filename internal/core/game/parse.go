package game

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"reflect"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"reshard/internal/core/fault"
	"reshard/internal/core/settings"
)

// Complaint is one thing wrong with a profile. Line and Column count from 1; 0
// when the place is not known.
type Complaint struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Key    string `json:"key,omitempty"`
	What   string `json:"what"`
}

func (c Complaint) String() string {
	if c.Line == 0 {
		return c.What
	}
	return fmt.Sprintf("line %d, column %d: %s", c.Line, c.Column, c.What)
}

// Parse reads and validates a profile. name is used in messages only. The
// error, if any, is a *fault.Error of code BadProfile that lists every
// complaint; Lint gives them as data.
func Parse(name string, data []byte) (*Profile, error) {
	p, complaints := Lint(data)
	if len(complaints) == 0 {
		return p, nil
	}
	lines := make([]string, len(complaints))
	for i, c := range complaints {
		lines[i] = c.String()
	}
	return nil, fault.New(fault.BadProfile, "read profile", name, "%s", strings.Join(lines, "; "))
}

// longestProfile bounds an untrusted document, in bytes.
const longestProfile = 256 << 10

// Lint reads a profile and gives everything that is wrong with it.
func Lint(data []byte) (*Profile, []Complaint) {
	if len(data) > longestProfile {
		return nil, []Complaint{{What: fmt.Sprintf("a profile may have at most %d bytes, this one has %d", longestProfile, len(data))}}
	}
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, []Complaint{complaintOf(err)}
	}
	p := &Profile{}
	if err := yaml.UnmarshalWithOptions(data, p, yaml.DisallowUnknownField()); err != nil {
		return nil, []Complaint{complaintOf(err)}
	}
	l := &linter{p: p, file: file}
	l.check()
	if len(l.complaints) > 0 {
		return nil, l.complaints
	}
	p.fillDefaults()
	return p, nil
}

func complaintOf(err error) Complaint {
	var ye yaml.Error
	if errors.As(err, &ye) {
		c := Complaint{What: ye.GetMessage()}
		if _, word, ok := strings.Cut(c.What, "unknown field "); ok {
			c.What += meant(strings.Trim(word, `"`), knownKeys())
		}
		if tok := ye.GetToken(); tok != nil && tok.Position != nil {
			c.Line, c.Column = tok.Position.Line, tok.Position.Column
		}
		return c
	}
	return Complaint{What: err.Error()}
}

func (p *Profile) fillDefaults() {
	if p.Server.Waits.Start == 0 {
		p.Server.Waits.Start = 2 * time.Minute
	}
	if p.Server.Waits.Stop == 0 {
		p.Server.Waits.Stop = 2 * time.Minute
	}
	if p.Server.Waits.Settle == 0 {
		p.Server.Waits.Settle = time.Second
	}
	if p.Server.Accepts.Version == "" {
		p.Server.Accepts.Version = "any"
	}
	for name, k := range p.Server.Kinds {
		if k.Realms == "" {
			k.Realms = "nested"
			p.Server.Kinds[name] = k
		}
	}
	for _, places := range p.Server.Keys {
		for i := range places {
			if places[i].Writes == "" {
				places[i].Writes = "folder"
			}
		}
	}
}

// linter walks a decoded profile; every complaint finds its line through the
// YAML path of the key it is about.
type linter struct {
	p          *Profile
	file       *ast.File
	complaints []Complaint
}

func (l *linter) complain(key, format string, args ...any) {
	c := Complaint{Key: strings.ReplaceAll(strings.TrimPrefix(key, "$."), "'", ""), What: fmt.Sprintf(format, args...)}
	// A missing key is reported at the nearest parent that is there.
	for k := key; k != "$" && c.Line == 0; k = parentKey(k) {
		yp, err := yaml.PathString(k)
		if err != nil {
			continue
		}
		node, err := yp.FilterFile(l.file)
		if err != nil || node == nil || node.GetToken() == nil {
			continue
		}
		pos := node.GetToken().Position
		c.Line, c.Column = pos.Line, pos.Column
	}
	c.What = c.Key + ": " + c.What
	l.complaints = append(l.complaints, c)
}

func parentKey(k string) string {
	i := strings.LastIndexAny(k, ".[")
	if i <= 0 {
		return "$"
	}
	return k[:i]
}

// at builds the YAML path of a child whose name may hold characters that the
// path language would take for its own.
func at(key, child string) string {
	if strings.ContainsAny(child, ".-[]' ") {
		return key + ".'" + child + "'"
	}
	return key + "." + child
}

var idPattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func (l *linter) check() {
	p := l.p
	if p.Reshard != Language {
		l.complain("$.reshard", "this program reads %q profiles, this one says %q", Language, p.Reshard)
	}
	if !idPattern.MatchString(p.ID) {
		l.complain("$.id", "an id is 1 to 40 of a-z, 0-9 and hyphen, and begins with a letter; this one is %q", p.ID)
	}
	if p.Title == "" {
		l.complain("$.title", "the game's name, as people write it, is missing")
	}
	l.checkWorld("$.world")
	l.checkServer("$.server")
	sort.SliceStable(l.complaints, func(i, j int) bool { return l.complaints[i].Line < l.complaints[j].Line })
}

func (l *linter) checkWorld(key string) {
	w := &l.p.World
	l.oneOf(key+".shape", w.Shape, "folder")
	if len(w.Recognise.Require) == 0 {
		l.complain(key+".recognise.require", "at least one file or folder must mark a world")
	}
	for i, r := range append(slices.Clone(w.Recognise.Require), w.Recognise.Expect...) {
		l.relative(fmt.Sprintf("%s.recognise.require[%d]", key, i), r)
	}
	if w.FolderName.Allow != "" {
		re, err := regexp.Compile("^[" + w.FolderName.Allow + "]$")
		if err != nil {
			l.complain(at(key, "folder-name")+".allow", "not the inside of a character class: %v", err)
		}
		w.FolderName.allowed = re
	}
	for name := range w.Facts {
		fkey := at(key+".facts", name)
		if !idPattern.MatchString(name) {
			l.complain(fkey, "a fact's name is 1 to 40 of a-z, 0-9 and hyphen")
		}
		for i := range w.Facts[name] {
			l.checkSource(fkey, &w.Facts[name][i], false)
		}
	}
	for name, r := range w.Realms {
		rkey := at(key+".realms", name)
		l.relative(rkey+".nested", r.Nested)
		if !strings.Contains(r.Split, "{folder}") || strings.Contains(r.Split, "/") {
			l.complain(rkey+".split", "the sibling folder's name must hold {folder} and no slash; this one is %q", r.Split)
		}
	}
	if w.Players != nil {
		l.checkPlayers(key+".players", w.Players)
	}
	for i, g := range append(slices.Clone(w.LeaveBehind), w.Steady...) {
		if _, err := path.Match(strings.ReplaceAll(g, "**", "*"), "x"); err != nil {
			l.complain(key, "pattern %d, %q: %v", i, g, err)
		}
	}
}

func (l *linter) checkPlayers(key string, pl *Players) {
	switch {
	case pl.Rows != nil && pl.Each != "":
		l.complain(key, "player records are either each a file or rows, not both")
	case pl.Rows != nil:
		l.checkSource(key+".rows", pl.Rows, false)
	case strings.Count(pl.Each, "{id}") != 1:
		l.complain(key+".each", "the path of one record must hold {id} once; this one is %q", pl.Each)
	default:
		l.relative(key+".each", pl.Each)
		if pl.Name != nil {
			l.checkSource(key+".name", pl.Name, true)
		}
	}
}

// Layers and Types of the language; package fact implements each.
var (
	Layers = []string{"gzip", "zlib", "zstd", "text", "json", "cbor", "properties", "key-value", "ini", "env", "sqlite", "folders"}
	Types  = []string{"text", "int64", "time", "version", "list"}
)

func (l *linter) checkSource(key string, s *Source, fileGiven bool) {
	if fileGiven == (s.Read != "") {
		if fileGiven {
			l.complain(key+".read", "the file is the player's record; leave this out")
		} else {
			l.complain(key+".read", "the file to read is missing")
		}
	} else if !fileGiven {
		l.relative(key+".read", s.Read)
	}
	for i, t := range s.Through {
		l.oneOf(fmt.Sprintf("%s.through[%d]", key, i), t, Layers...)
	}
	if s.Type != "" {
		l.oneOf(key+".type", s.Type, Types...)
	}
	if s.Pick != "" && !strings.HasPrefix(s.Pick, "/") {
		l.complain(key+".pick", "a pointer begins with a slash; this one is %q", s.Pick)
	}
	last := ""
	if len(s.Through) > 0 {
		last = s.Through[len(s.Through)-1]
	}
	if (last == "sqlite") != (s.Query != "") {
		l.complain(key+".query", "a query goes with through: [sqlite], and the other way round")
	}
	l.compile(key+".match", &s.Match, "value", false)
}

func (l *linter) checkServer(key string) {
	s := &l.p.Server
	if len(s.Kinds) == 0 {
		l.complain(key+".kinds", "at least one kind of server software is needed")
	}
	for name, k := range s.Kinds {
		if k.Realms != "" {
			l.oneOf(at(key+".kinds", name)+".realms", k.Realms, "nested", "split")
		}
	}
	for _, group := range []struct {
		name    string
		sources Sources
	}{{"version", s.Version}, {"mods", s.Mods}} {
		for i := range group.sources {
			l.checkSource(key+"."+group.name, &group.sources[i], false)
		}
	}
	if s.Accepts.Version != "" {
		l.oneOf(key+".accepts.version", s.Accepts.Version, "any", "exact", "same-minor", "not-newer")
	}
	l.relative(key+".worlds", s.Worlds)
	if strings.Trim(path.Clean(s.Worlds), "/") == "." {
		l.complain(key+".worlds", "worlds must stand in a folder of their own below the server's root")
	}
	for name, doc := range s.Settings {
		l.relative(at(key+".settings", name)+".file", doc.File)
		l.oneOf(at(key+".settings", name)+".format", doc.Format, settings.Formats()...)
	}
	for name, places := range s.Keys {
		kkey := at(key+".keys", name)
		l.oneOf(kkey, name, KeyActiveWorld, KeySeed)
		for i, kp := range places {
			l.checkPlace(fmt.Sprintf("%s[%d]", kkey, i), kp)
		}
	}
	if len(s.Keys[KeyActiveWorld]) == 0 {
		l.complain(key+".keys", "active-world is missing: Reshard must know which setting names the world to open")
	}
	if s.Join != (KeyPlace{}) {
		l.checkPlace(key+".join", s.Join)
	}
	l.checkConsole(key + ".console")
}

func (l *linter) checkPlace(key string, kp KeyPlace) {
	if _, ok := l.p.Server.Settings[kp.In]; !ok {
		l.complain(key+".in", "there is no settings document %q", kp.In)
	}
	if kp.Key == "" {
		l.complain(key+".key", "the key is missing")
	}
	if kp.Writes != "" {
		l.oneOf(key+".writes", kp.Writes, "folder", "path")
	}
}

func (l *linter) checkConsole(key string) {
	c := &l.p.Server.Console
	l.compile(key+".ready", &c.Ready, "", true)
	l.compile(key+".opened", &c.Opened, "world", true)
	l.compile(key+".refused", &c.Refused, "", false)
	l.compile(key+".stop.expect", &c.Stop.Expect, "", false)
	l.compile(key+".seed.answer", &c.Seed.Answer, "value", c.Seed.Say != "")
	if (c.Stop.Say == "") == (c.Stop.Signal == "") {
		l.complain(key+".stop", "a clean stop is either a line to say or a signal to send")
	}
	if c.Stop.Signal != "" {
		l.oneOf(key+".stop.signal", c.Stop.Signal, "SIGINT", "SIGTERM")
	}
}

func (l *linter) compile(key string, p *Pattern, group string, needed bool) {
	if p.Text == "" {
		if needed {
			l.complain(key, "a regular expression is missing")
		}
		return
	}
	re, err := regexp.Compile(p.Text)
	if err != nil {
		l.complain(key, "not a regular expression: %v", err)
		return
	}
	if group != "" && re.SubexpIndex(group) < 0 {
		l.complain(key, "the expression needs a group named %q: (?P<%s>…)", group, group)
		return
	}
	p.re = re
}

func (l *linter) oneOf(key, value string, allowed ...string) {
	if !slices.Contains(allowed, value) {
		l.complain(key, "%q is none of %s%s", value, strings.Join(allowed, ", "), meant(value, allowed))
	}
}

// meant proposes the allowed word that is nearest, if one is near: at most a third
// of its letters differ.
func meant(value string, allowed []string) string {
	best, distance := "", len(value)
	for _, a := range allowed {
		if d := editDistance(value, a); d < distance && 3*d <= max(len(a), 3) {
			best, distance = a, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (meant: %s?)", best)
}

// editDistance counts the letters to insert, delete or exchange (Levenshtein,
// 1965), by the usual table of which two rows are kept.
func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			diagonal, row[j+1] = row[j+1], min(row[j]+1, row[j+1]+1, diagonal+cost)
		}
	}
	return row[len(b)]
}

// knownKeys lists every key of the language, as the types declare them.
var knownKeys = sync.OnceValue(func() []string {
	seen := map[reflect.Type]bool{}
	keys := map[string]bool{}
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || seen[t] {
			return
		}
		seen[t] = true
		for i := range t.NumField() {
			if tag := t.Field(i).Tag.Get("yaml"); tag != "" {
				keys[tag] = true
				walk(t.Field(i).Type)
			}
		}
	}
	walk(reflect.TypeFor[Profile]())
	out := make([]string, 0, len(keys))
	for k := range keys {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
})

func (l *linter) relative(key, name string) {
	clean := strings.TrimSuffix(name, "/")
	if clean == "" || !fs.ValidPath(clean) || clean == "." || strings.Contains(name, `\`) {
		l.complain(key, "%q is not a path below the root, with forward slashes and without '..'", name)
	}
}
