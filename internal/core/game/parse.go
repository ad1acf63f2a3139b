package game

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
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
	"github.com/google/uuid"

	"reshard/internal/core/fault"
	"reshard/internal/core/settings"
	"reshard/internal/core/yamldoc"
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

// LongestProfile bounds an untrusted document, in bytes.
const LongestProfile = 256 << 10

// Lint reads a profile and gives everything that is wrong with it.
func Lint(data []byte) (*Profile, []Complaint) {
	if len(data) > LongestProfile {
		return nil, []Complaint{
			{What: fmt.Sprintf("a profile may have at most %d bytes, this one has %d", LongestProfile, len(data))},
		}
	}
	file, err := yamldoc.ParseUpTo(data, yamldoc.MostWritten)
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
	if p.Server.Seeds.Bits == 0 {
		p.Server.Seeds.Bits = 64
	}
	if p.Server.NewWorld.Named == "" {
		p.Server.NewWorld.Named = "settings"
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
				places[i].Writes = "name"
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
	patterns   int // the size of all regular expressions, in instructions
}

// mostComplaints bounds how many are looked up and told: a profile with more has a cause
// that the first ones tell.
const mostComplaints = 100

func (l *linter) complain(key, format string, args ...any) {
	if len(l.complaints) == mostComplaints {
		return
	}
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
	l.checkShape(key, w)
	l.checkNames(key, w)
	for name := range w.Facts {
		fkey := at(key+".facts", name)
		if !idPattern.MatchString(name) {
			l.complain(fkey, "a fact's name is 1 to 40 of a-z, 0-9 and hyphen")
		}
		l.checkSources(fkey, w.Facts[name])
	}
	for name, r := range w.Realms {
		rkey := at(key+".realms", name)
		l.relative(rkey+".nested", r.Nested)
		if !strings.Contains(r.Split, "{folder}") || strings.Contains(r.Split, "/") {
			l.complain(rkey+".split", "the sibling folder's name must hold {folder} and no slash; this one is %q",
				r.Split)
		}
	}
	if len(w.Realms) > 0 && w.Shape != ShapeFolder {
		l.complain(key+".realms", "only worlds that are folders have realms")
	}
	if w.Players != nil {
		l.checkPlayers(key+".players", w.Players)
	}
	for i, o := range w.Overrides {
		okey := fmt.Sprintf("%s.overrides[%d]", key, i)
		l.relative(okey+".file", o.File)
		if o.Says == "" {
			l.complain(okey+".says", "say for people what the file decides")
		}
	}
	if w.Picture != nil {
		l.checkPicture(key+".picture", w.Picture)
	}
	for _, group := range []struct {
		name     string
		patterns []string
	}{{"leave-behind", w.LeaveBehind}, {"locks", w.Locks}, {"steady", w.Steady}} {
		for i, g := range group.patterns {
			if _, err := path.Match(strings.ReplaceAll(g, "**", "*"), "x"); err != nil {
				l.complain(fmt.Sprintf("%s[%d]", at(key, group.name), i), "%q is no pattern: %v", g, err)
			}
		}
	}
}

func (l *linter) checkShape(key string, w *WorldFormat) {
	l.oneOf(key+".shape", w.Shape, ShapeFolder, ShapeFile, ShapeSession)
	if w.Shape == ShapeFolder {
		if len(w.Recognise.Require) == 0 {
			l.complain(key+".recognise.require", "at least one file or folder must mark a world")
		}
		for i, r := range w.Recognise.Require {
			l.relative(fmt.Sprintf("%s.recognise.require[%d]", key, i), r)
		}
		for i, r := range w.Recognise.Expect {
			l.relative(fmt.Sprintf("%s.recognise.expect[%d]", key, i), r)
		}
		if len(w.Files) > 0 || len(w.Recognise.Begins) > 0 {
			l.complain(key+".files", "files and begins go with the shapes file and session")
		}
		return
	}
	if len(w.Recognise.Require)+len(w.Recognise.Expect) > 0 {
		l.complain(key+".recognise", "require and expect go with the shape folder")
	}
	if len(w.Files) == 0 {
		l.complain(key+".files", "the names of a world's files are missing, such as \"{name}.sav\"")
	}
	for i, f := range w.Files {
		fkey := fmt.Sprintf("%s.files[%d]", key, i)
		before, after, ok := strings.Cut(f, "{name}")
		_, err := path.Match(after, "x")
		switch {
		case !ok || strings.Contains(after, "{name}") || strings.Contains(f, "/") || strings.Contains(before, "*") ||
			err != nil:
			l.complain(fkey, "a file's name holds {name} once, no slash and no * before it; this one is %q", f)
		case w.Shape == ShapeFile && strings.Contains(f, "*"):
			l.complain(fkey, "a world that is one file has no *; several files of one name are the shape session")
		}
	}
	for i, b := range w.Recognise.Begins {
		if _, err := begin(b); err != nil {
			l.complain(fmt.Sprintf("%s.recognise.begins[%d]", key, i), "%v", err)
		}
	}
}

func (l *linter) checkNames(key string, w *WorldFormat) {
	nkey := at(key, "folder-name")
	var err error
	if w.FolderName.Allow != "" {
		if w.FolderName.allowed, err = l.regexp("^[" + w.FolderName.Allow + "]$"); err != nil {
			l.complain(nkey+".allow", "not the inside of a character class: %v", err)
		}
	}
	if w.FolderName.Pattern != "" {
		if w.FolderName.whole, err = l.regexp("^(?:" + w.FolderName.Pattern + ")$"); err != nil {
			l.complain(nkey+".pattern", "not a regular expression: %v", err)
		}
	}
	for i, e := range w.Packed.Endings {
		if !strings.HasPrefix(e, ".") || len(e) < 2 {
			l.complain(fmt.Sprintf("%s.packed.endings[%d]", key, i), "an ending begins with a dot; this one is %q", e)
		}
	}
	for system, paths := range l.p.Store {
		l.oneOf(at("$.store", system), system, Systems...)
		for _, text := range paths {
			if strings.Contains(text, `\`) || strings.Contains(text, "..") {
				l.complain(at("$.store", system), "%q: write forward slashes and no '..'", text)
			}
		}
	}
}

// IDFormats are the ways in which a player's id may be written.
var IDFormats = []string{"uuid", "uuid-plain", "hex", "decimal", "name"}

func (l *linter) checkPlayers(key string, pl *Players) {
	switch {
	case pl.Rows != nil && pl.Each != "":
		l.complain(key, "player records are either each a file or rows, not both")
	case pl.Rows != nil:
		l.checkSource(key+".rows", pl.Rows, false)
		if pl.Rows.Query == "" && pl.Rows.ID == "" {
			l.complain(key+".rows.id", "a pointer to the id within each item is missing")
		}
	case strings.Count(pl.Each, "{id}") != 1:
		l.complain(key+".each", "the path of one record must hold {id} once; this one is %q", pl.Each)
	default:
		l.relative(key+".each", pl.Each)
		if pl.Name != nil {
			l.checkSource(key+".name", pl.Name, true)
		}
	}
	if pl.ID != "" {
		l.oneOf(key+".id", pl.ID, IDFormats...)
	}
	if pl.Host != "" && !ValidID(pl.ID, pl.Host) {
		l.complain(key+".host", "%q is no id of the form %s", pl.Host, pl.ID)
	}
	if pl.Derive != nil {
		if _, err := uuid.Parse(pl.Derive.UUID5); err != nil {
			l.complain(key+".derive.uuid5", "%q is no UUID", pl.Derive.UUID5)
		}
	}
	for i, r := range pl.References {
		rkey := fmt.Sprintf("%s.references[%d]", key, i)
		l.relative(rkey+".read", r.Read)
		l.checkLayers(rkey, r.Through)
		switch {
		case (r.Pick == "") == (r.Bytes == 0):
			l.complain(rkey, "ids are found either by pick or as bytes")
		case r.Bytes < 0 || r.Bytes > 64:
			l.complain(rkey+".bytes", "an id has 1 to 64 bytes")
		case r.Pick != "" && !strings.HasPrefix(r.Pick, "/"):
			l.complain(rkey+".pick", "a pointer begins with a slash; this one is %q", r.Pick)
		}
	}
}

func (l *linter) checkPicture(key string, p *Picture) {
	ways := 0
	if p.Tiles != "" {
		ways++
		if strings.Count(p.Tiles, "{x}") != 1 || strings.Count(p.Tiles, "{z}") != 1 {
			l.complain(key+".tiles", "the path of a tile holds {x} and {z} once each; this one is %q", p.Tiles)
		}
		l.relative(key+".tiles", p.Tiles)
		l.checkLayers(key, p.Through)
	}
	if p.Query != nil {
		ways++
		l.checkSource(key+".query", p.Query, false)
	}
	if p.Image != "" {
		ways++
		l.relative(key+".image", p.Image)
	}
	if ways != 1 {
		l.complain(key, "a picture is drawn from tiles, or from a query, or is an image: one of them")
	}
	if p.Z != "" && p.Z != "south" && p.Z != "north" {
		l.complain(key+".z", "z grows to the south or to the north; this is %q", p.Z)
	}
	if p.Across < 0 || p.Across > 1<<20 {
		l.complain(key+".across", "a tile is 1 to 1,048,576 units wide")
	}
	if p.Spawn != nil {
		l.checkSource(key+".spawn.x", &p.Spawn.X, false)
		l.checkSource(key+".spawn.z", &p.Spawn.Z, false)
		if p.Image != "" {
			l.complain(key+".spawn", "where an image file shows a place is not known")
		}
	}
	if c := p.Colours; c != nil {
		l.place(key+".colours.at", c.At)
		if c.Width < 1 || c.Height < 1 || c.Width > 1<<20 || c.Height > 1<<20 || c.Width*c.Height > 1<<20 {
			l.complain(key+".colours", "width and height are at least 1, and at most 1,048,576 colours together")
		}
		for i, colour := range c.Palette {
			if !colourPattern.MatchString(colour) {
				l.complain(fmt.Sprintf("%s.colours.palette[%d]", key, i), "a colour is #rrggbb; this one is %q", colour)
			}
		}
	}
}

var colourPattern = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

// The words of the language; package fact implements each.
var (
	// Layers are the layers that are a word: first those that unwrap, then those
	// that decode.
	Unwraps  = []string{"gzip", "zlib", "zstd", "xz"}
	Decoders = []string{"text", "json", "yaml", "toml", "xml", "cbor", "msgpack", "properties", "key-value", "ini",
		"env", "sqlite", "folders", "files"}
	Types = []string{"text", "int64", "float", "bool", "time", "version", "hex", "uuid", "list"}
	// Numbers are the ways in which a binary number may stand.
	Numbers = []string{
		"u8", "i8", "u16le", "u16be", "i16le", "i16be", "u32le", "u32be", "i32le", "i32be",
		"u64le", "u64be", "i64le", "i64be", "f32le", "f32be", "f64le", "f64be",
	}
	Checksums = []string{"crc32", "crc32c", "adler32"}
)

func (l *linter) checkSources(key string, sources Sources) {
	for i := range sources {
		skey := key
		if len(sources) > 1 {
			skey = fmt.Sprintf("%s[%d]", key, i)
		}
		l.checkSource(skey, &sources[i], false)
	}
}

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
	l.checkLayers(key, s.Through)
	if s.Type != "" {
		l.oneOf(key+".type", s.Type, Types...)
	}
	for _, p := range []struct{ name, pointer string }{
		{"pick", s.Pick},
		{"id", s.ID},
		{"name", s.Name},
		{"version", s.Version},
	} {
		if p.pointer != "" && !strings.HasPrefix(p.pointer, "/") {
			l.complain(key+"."+p.name, "a pointer begins with a slash; this one is %q", p.pointer)
		}
	}
	last := ""
	if len(s.Through) > 0 {
		last = s.Through[len(s.Through)-1].String()
	}
	if q := strings.ToLower(strings.TrimSpace(s.Query)); q != "" &&
		(len(q) > longestQuery || !strings.HasPrefix(q, "select") && !strings.HasPrefix(q, "with")) {
		l.complain(key+".query", "a query is one SELECT (or WITH … SELECT) of at most %d bytes", longestQuery)
	}
	if (last == "sqlite") != (s.Query != "") {
		l.complain(key+".query", "a query goes with through: [sqlite], and the other way round")
	}
	if !s.Match.IsZero() && (s.Pick != "" || s.Query != "") {
		l.complain(key+".match", "a value is found by match, or pick, or query: one of them")
	}
	l.compile(key+".match", &s.Match, "value", false)
}

// Bounds of what is written about one source.
const (
	longestQuery     = 4_000 // in bytes
	mostLayers       = 8
	mostCompressions = 3 // within each other
)

func (l *linter) checkLayers(key string, layers []Layer) {
	packed := 0
	for _, t := range layers {
		if slices.Contains(Unwraps, t.Word) {
			packed++
		}
	}
	if len(layers) > mostLayers || packed > mostCompressions {
		l.complain(key+".through", "a file has at most %d layers, %d of them compressions; this one has %d and %d",
			mostLayers, mostCompressions, len(layers), packed)
		return
	}
	for i, t := range layers {
		lkey := fmt.Sprintf("%s.through[%d]", key, i)
		decodes := t.Fields != nil || slices.Contains(Decoders, t.Word)
		switch {
		case t.Header != nil && t.Fields != nil:
			l.complain(lkey, "a header and fields are layers of their own")
		case t.Header != nil:
			l.checkHeader(lkey+".header", t.Header)
		case t.Fields != nil:
			for name, f := range t.Fields {
				l.checkField(at(lkey+".fields", name), f)
			}
		default:
			l.oneOf(lkey, t.Word, append(slices.Clone(Unwraps), Decoders...)...)
		}
		if decodes && i < len(layers)-1 {
			l.complain(lkey, "%s decodes, so it stands last", t)
		}
	}
}

// farthest bounds the places and widths that a profile names, in bytes: what stands before
// them is read into memory, and places are added to widths.
const farthest = 16 << 20

// place checks a number of bytes from a file's beginning.
func (l *linter) place(key string, n int) {
	if n < 0 || n > farthest {
		l.complain(key, "a place or a width is 0 to %d bytes; this one is %d", farthest, n)
	}
}

func (l *linter) checkHeader(key string, h *Header) {
	l.place(key+".size.at", h.Size.At)
	l.place(key+".size", h.Size.Fixed)
	if h.Size.As != "" {
		l.oneOf(key+".size.as", h.Size.As, Numbers...)
	} else if h.Size.Fixed < 1 {
		l.complain(key+".size", "the header's size is missing: a number of bytes, or {at: …, as: …}")
	}
	if c := h.Checksum; c != nil {
		l.place(key+".checksum.at", c.At)
		l.oneOf(key+".checksum.as", c.As, Numbers...)
		l.oneOf(key+".checksum.kind", c.Kind, Checksums...)
	}
	for i, n := range h.Lengths {
		lkey := fmt.Sprintf("%s.lengths[%d]", key, i)
		l.place(lkey+".at", n.At)
		l.oneOf(lkey+".as", n.As, Numbers...)
		l.oneOf(lkey+".of", n.Of, "follows", "inside")
	}
}

func (l *linter) checkField(key string, f Field) {
	l.oneOf(key+".as", f.As, append(slices.Clone(Numbers), "text", "hex")...)
	wide := f.As == "text" || f.As == "hex"
	l.place(key+".at", f.At)
	l.place(key+".width", f.Width)
	switch {
	case wide && (f.Width > 0) == (f.Length != ""):
		l.complain(key, "%s needs either width, in bytes, or length, the number that stands before it", f.As)
	case !wide && (f.Width != 0 || f.Length != ""):
		l.complain(key, "a number has its width in its name")
	case f.Length != "":
		l.oneOf(key+".length", f.Length, Numbers...)
	}
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
	l.checkSources(key+".version", s.Version)
	l.checkSources(key+".mods", s.Mods)
	if s.Accepts.Version != "" {
		l.oneOf(key+".accepts.version", s.Accepts.Version, "any", "exact", "same-minor", "not-newer", "listed")
	}
	if (s.Accepts.Version == "listed") != (len(s.Accepts.Versions) > 0) {
		l.complain(key+".accepts.versions", "versions goes with version: listed, and the other way round")
	}
	l.relative(key+".worlds", s.Worlds)
	if strings.Trim(path.Clean(s.Worlds), "/") == "." {
		l.complain(key+".worlds", "worlds must stand in a folder of their own below the server's root")
	}
	for name := range s.Settings {
		l.checkSettings(at(key+".settings", name), name)
	}
	for name, places := range s.Keys {
		kkey := at(key+".keys", name)
		if !idPattern.MatchString(name) {
			l.complain(kkey, "a key's name is 1 to 40 of a-z, 0-9 and hyphen")
		}
		for i, kp := range places {
			l.checkPlace(fmt.Sprintf("%s[%d]", kkey, i), kp, i == len(places)-1)
		}
	}
	if len(s.Keys[KeyActiveWorld]) == 0 {
		l.complain(key+".keys", "active-world is missing: Reshard must know which setting names the world to open")
	}
	if s.Join.In != "" || s.Join.Key != "" {
		l.checkPlace(key+".join", s.Join, false)
	}
	for i, f := range s.FirstStart {
		l.relative(fmt.Sprintf("%s[%d]", at(key, "first-start"), i), f)
	}
	if b := s.Seeds.Bits; b != 0 && b != 64 && b != 32 {
		l.complain(key+".seeds.bits", "a seed has 64 bits or 32")
	}
	for i, name := range s.Travels {
		if _, ok := s.Keys[name]; !ok {
			l.complain(fmt.Sprintf("%s[%d]", at(key, "travels"), i), "there is no key %q%s", name,
				meant(name, slices.Collect(maps.Keys(s.Keys))))
		}
	}
	l.checkNewWorld(key + ".new-world")
	l.checkConsole(key + ".console")
}

func (l *linter) checkSettings(key, name string) {
	doc := l.p.Server.Settings[name]
	if name == InCommand {
		l.complain(key, "command names the start command; call the document otherwise")
	}
	if len(doc.File) == 0 {
		l.complain(key+".file", "the file is missing")
	}
	for system, file := range doc.File {
		if system != "" {
			l.oneOf(at(key+".file", system), system, Systems...)
		}
		l.relative(key+".file", file)
	}
	l.oneOf(key+".format", doc.Format, settings.Formats()...)
	if err := doc.Syntax().Check(); err != nil && slices.Contains(settings.Formats(), doc.Format) {
		l.complain(key+".line", "%v", err)
	}
	if doc.Encoding != "" {
		l.oneOf(key+".encoding", doc.Encoding, settings.Encodings()...)
	}
	compiled := doc
	l.compile(key+".include", &compiled.Include, "value", false)
	l.p.Server.Settings[name] = compiled
}

func (l *linter) checkPlace(key string, kp KeyPlace, last bool) {
	if kp.Default != "" {
		if kp.In != "" || kp.Key != "" || !last {
			l.complain(key+".default", "a default stands alone and last")
		}
		return
	}
	l.checkIn(key, kp.In, kp.Key, true)
	if kp.Writes != "" {
		l.oneOf(key+".writes", kp.Writes, "name", "file", "path")
	}
	for i, c := range kp.With {
		l.checkIn(fmt.Sprintf("%s.with[%d]", key, i), c.In, c.Key, false)
	}
}

func (l *linter) checkIn(key, in, name string, command bool) {
	if _, ok := l.p.Server.Settings[in]; !ok && (!command || in != InCommand) {
		docs := make([]string, 0, len(l.p.Server.Settings))
		for d := range l.p.Server.Settings {
			docs = append(docs, d)
		}
		l.complain(key+".in", "there is no settings document %q%s", in, meant(in, docs))
	}
	if name == "" {
		l.complain(key+".key", "the key is missing")
	}
}

func (l *linter) checkConsole(key string) {
	c := &l.p.Server.Console
	if c.Log != "" {
		l.relative(key+".log", c.Log)
	}
	l.compile(key+".ready", &c.Ready, "", true)
	l.compile(key+".opened", &c.Opened, "world", false)
	l.compile(key+".refused", &c.Refused, "", false)
	l.compile(key+".harmless", &c.Harmless, "", false)
	l.compile(key+".stop.expect", &c.Stop.Expect, "", false)
	l.compile(key+".seed.answer", &c.Seed.Answer, "value", c.Seed.Say != "")
	l.compile(key+".version.answer", &c.Version.Answer, "value", c.Version.Say != "")
	for _, e := range []struct {
		name     string
		exchange *Exchange
	}{{"hold", &c.Hold}, {"flush", &c.Flush}, {"release", &c.Release}, {"load", &c.Load}} {
		l.checkExchange(key+"."+e.name, e.exchange)
	}
	if c.Quiet && c.Flush.Say == "" {
		l.complain(key+".quiet", "quiet needs flush: without it nothing is ever written")
	}
	if c.Stop.Loses && c.Flush.Say == "" {
		l.complain(key+".stop.loses", "loses needs flush, which is said before the stop")
	}
	if (c.Hold.Say == "") != (c.Release.Say == "") {
		l.complain(key+".release", "hold and release go together: what is held must be let go")
	}
	if c.Load.Say != "" && !strings.Contains(c.Load.Say, "{name}") && !strings.Contains(c.Load.Say, "{file}") {
		l.complain(key+".load.say", "the line must hold {name} or {file}")
	}
	if (c.Stop.Say == "") == (c.Stop.Signal == "") {
		l.complain(key+".stop", "a clean stop is either a line to say or a signal to send")
	}
	if c.Stop.Signal != "" {
		l.oneOf(key+".stop.signal", c.Stop.Signal, "SIGINT", "SIGTERM")
	}
}

func (l *linter) checkExchange(key string, e *Exchange) {
	l.compile(key+".expect", &e.Expect, "", false)
	if e.Say == "" && !e.Expect.IsZero() {
		l.complain(key+".say", "the line to say is missing")
	}
}

func (l *linter) checkNewWorld(key string) {
	n := &l.p.Server.NewWorld
	if n.Named != "" {
		l.oneOf(key+".named", n.Named, "settings", "own")
	}
	if n.Named == "own" && l.p.Server.Console.Opened.IsZero() {
		l.complain(key+".named", "own needs the line opened of the console, which tells the name")
	}
	l.checkExchange(key+".save", &n.Save)
	l.compile(key+".ignore", &n.Ignore, "", false)
}

func (l *linter) compile(key string, p *Pattern, group string, needed bool) {
	if p.Text == "" {
		if needed {
			l.complain(key, "a regular expression is missing")
		}
		return
	}
	compiled, err := l.regexp(p.Text)
	if err != nil {
		l.complain(key, "not a regular expression: %v", err)
		return
	}
	if group != "" && compiled.re.SubexpIndex(group) < 0 {
		l.complain(key, "the expression needs a group named %q: (?P<%s>…)", group, group)
		return
	}
	*p = *compiled
}

func (l *linter) oneOf(key, value string, allowed ...string) {
	if !slices.Contains(allowed, value) {
		l.complain(key, "%q is none of %s%s", value, strings.Join(allowed, ", "), meant(value, allowed))
	}
}

// longestWord bounds a word that is compared with others, in bytes.
const longestWord = 60

// meant proposes the allowed word that is nearest, if one is near: at most a third
// of its letters differ.
func meant(value string, allowed []string) string {
	if len(value) > longestWord {
		return ""
	}
	best, distance := "", len(value)
	for _, a := range allowed {
		if d := EditDistance(value, a); d < distance && 3*d <= max(len(a), 3) {
			best, distance = a, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (meant: %s?)", best)
}

// EditDistance counts the letters to insert, delete or exchange (Levenshtein,
// 1965), by the usual table of which two rows are kept.
func EditDistance(a, b string) int {
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
			if tag := t.Field(i).Tag.Get("yaml"); tag != "" && tag != "-" {
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
	if strings.Contains(clean, "{file}") && l.p.World.Shape == ShapeFolder {
		l.complain(key, "{file} is the file of a world that is one, and this game's worlds are folders")
	}
	if clean == "" || !fs.ValidPath(clean) || clean == "." || strings.Contains(name, `\`) {
		l.complain(key, "%q is not a path below the root, with forward slashes and without '..'", name)
	}
}
