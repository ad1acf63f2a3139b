package game

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"reshard/internal/core/doclang"
	"reshard/internal/core/fault"
	"reshard/internal/core/settings"
)

// Complaint is one thing wrong with a profile.
type Complaint = doclang.Complaint

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
	p := &Profile{}
	doc, complaints := doclang.Decode(data, LongestProfile, "a profile", p)
	if len(complaints) > 0 {
		return nil, complaints
	}
	l := &linter{Linter: doc, p: p}
	l.check()
	if len(l.Complaints) > 0 {
		return nil, l.Complaints
	}
	p.fillDefaults()
	return p, nil
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

// linter walks a decoded profile.
type linter struct {
	*doclang.Linter
	p        *Profile
	patterns int // the size of all regular expressions, in instructions
}

var idPattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func (l *linter) check() {
	p := l.p
	if p.Reshard != Language {
		l.Complain("$.reshard", "this program reads %q profiles, this one says %q", Language, p.Reshard)
	}
	if !idPattern.MatchString(p.ID) {
		l.Complain("$.id", "an id is 1 to 40 of a-z, 0-9 and hyphen, and begins with a letter; this one is %q", p.ID)
	}
	if p.Title == "" {
		l.Complain("$.title", "the game's name, as people write it, is missing")
	}
	l.checkWorld("$.world")
	l.checkServer("$.server")
	l.checkPlaceholders(nil, "$", reflect.ValueOf(*p))
	l.Sort()
}

func (l *linter) checkWorld(key string) {
	w := &l.p.World
	l.checkShape(key, w)
	l.checkNames(key, w)
	for i, member := range w.Recognise.Members {
		mkey := fmt.Sprintf("%s.recognise.members[%d]", key, i)
		if w.Shape != ShapeSession {
			l.Complain(mkey, "members go with the shape session")
		} else if _, _, ok := w.NameOf(strings.ReplaceAll(member, "{name}", "x")); !ok ||
			!strings.Contains(member, "{name}") {
			l.Complain(mkey, "%q holds {name}, and is called as one of the world's files", member)
		}
	}
	for i, pattern := range w.Autosaves {
		akey := fmt.Sprintf("%s.autosaves[%d]", key, i)
		_, err := path.Match(pattern, "x")
		switch {
		case err != nil || pattern == "" || strings.Contains(pattern, "/"):
			l.Complain(akey, "a name in the worlds folder, with * and ?, such as autosave*.sav; this one is %q",
				pattern)
		case strings.Trim(pattern, "*?") == "":
			l.Complain(akey, "%q would take every world for an autosave", pattern)
		}
	}
	for name := range w.Facts {
		fkey := doclang.At(key+".facts", name)
		if !idPattern.MatchString(name) {
			l.Complain(fkey, "a fact's name is 1 to 40 of a-z, 0-9 and hyphen")
		}
		l.checkSources(fkey, w.Facts[name])
	}
	for name, r := range w.Realms {
		rkey := doclang.At(key+".realms", name)
		l.relative(rkey+".nested", r.Nested)
		if !strings.Contains(r.Split, "{folder}") || strings.Contains(r.Split, "/") {
			l.Complain(rkey+".split", "the sibling folder's name must hold {folder} and no slash; this one is %q",
				r.Split)
		}
	}
	if len(w.Realms) > 0 && w.Shape != ShapeFolder {
		l.Complain(key+".realms", "only worlds that are folders have realms")
	}
	if w.Players != nil {
		l.checkPlayers(key+".players", w.Players)
	}
	for i, o := range w.Overrides {
		okey := fmt.Sprintf("%s.overrides[%d]", key, i)
		l.relative(okey+".file", o.File)
		if o.Says == "" {
			l.Complain(okey+".says", "say for people what the file decides")
		}
	}
	if w.Picture != nil {
		l.checkPicture(key+".picture", w.Picture)
	}
	for _, group := range []struct {
		name     string
		patterns []string
	}{{"leave-behind", w.LeaveBehind}, {"locks", w.Locks}, {"steady", w.Steady}, {"databases", w.Databases}} {
		for i, g := range group.patterns {
			if _, err := path.Match(strings.ReplaceAll(g, "**", "*"), "x"); err != nil {
				l.Complain(fmt.Sprintf("%s[%d]", doclang.At(key, group.name), i), "%q is no pattern: %v", g, err)
			}
		}
	}
}

func (l *linter) checkShape(key string, w *WorldFormat) {
	l.OneOf(key+".shape", w.Shape, ShapeFolder, ShapeFile, ShapeSession)
	if w.Shape == ShapeFolder {
		if len(w.Recognise.Require) == 0 {
			l.Complain(key+".recognise.require", "at least one file or folder must mark a world")
		}
		for i, r := range w.Recognise.Require {
			l.relative(fmt.Sprintf("%s.recognise.require[%d]", key, i), r)
		}
		for i, r := range w.Recognise.Expect {
			l.relative(fmt.Sprintf("%s.recognise.expect[%d]", key, i), r)
		}
		if len(w.Files) > 0 || len(w.Recognise.Begins) > 0 {
			l.Complain(key+".files", "files and begins go with the shapes file and session")
		}
		return
	}
	if len(w.Recognise.Require)+len(w.Recognise.Expect) > 0 {
		l.Complain(key+".recognise", "require and expect go with the shape folder")
	}
	if len(w.Files) == 0 {
		l.Complain(key+".files", "the names of a world's files are missing, such as \"{name}.sav\"")
	}
	for i, f := range w.Files {
		fkey := fmt.Sprintf("%s.files[%d]", key, i)
		before, after, ok := strings.Cut(f, "{name}")
		_, err := path.Match(after, "x")
		switch {
		case !ok || strings.Contains(after, "{name}") || strings.Contains(f, "/") || strings.Contains(before, "*") ||
			err != nil:
			l.Complain(fkey, "a file's name holds {name} once, no slash and no * before it; this one is %q", f)
		case w.Shape == ShapeFile && strings.Contains(f, "*"):
			l.Complain(fkey, "a world that is one file has no *; several files of one name are the shape session")
		}
	}
	for i, b := range w.Recognise.Begins {
		mark, err := begin(b)
		if err == nil && len(mark) > longestBegin {
			err = fmt.Errorf("it has %d bytes; %d tell a file", len(mark), longestBegin)
		}
		if err != nil {
			l.Complain(fmt.Sprintf("%s.recognise.begins[%d]", key, i), "%v", err)
		}
	}
}

// longestBegin is how long a beginning by which files are told apart may be, in bytes.
const longestBegin = 1024

func (l *linter) checkNames(key string, w *WorldFormat) {
	nkey := doclang.At(key, "folder-name")
	var err error
	if w.FolderName.Allow != "" {
		if w.FolderName.allowed, err = l.regexp("^[" + w.FolderName.Allow + "]$"); err != nil {
			l.Complain(nkey+".allow", "not the inside of a character class: %v", err)
		}
	}
	if w.FolderName.Pattern != "" {
		if w.FolderName.whole, err = l.regexp("^(?:" + w.FolderName.Pattern + ")$"); err != nil {
			l.Complain(nkey+".pattern", "not a regular expression: %v", err)
		}
	}
	for i, e := range w.Packed.Endings {
		if !strings.HasPrefix(e, ".") || len(e) < 2 {
			l.Complain(fmt.Sprintf("%s.packed.endings[%d]", key, i), "an ending begins with a dot; this one is %q", e)
		}
	}
	for system, paths := range l.p.Store {
		l.OneOf(doclang.At("$.store", system), system, Systems...)
		for _, text := range paths {
			if strings.Contains(text, `\`) || strings.Contains(text, "..") {
				l.Complain(doclang.At("$.store", system), "%q: write forward slashes and no '..'", text)
			}
		}
	}
}

// IDFormats are the ways in which a player's id may be written.
var IDFormats = []string{"uuid", "uuid-plain", "hex", "decimal", "name"}

func (l *linter) checkPlayers(key string, pl *Players) {
	switch {
	case pl.Rows != nil && pl.Each != "":
		l.Complain(key, "player records are either each a file or rows, not both")
	case pl.Rows != nil:
		l.checkSource(key+".rows", pl.Rows, false)
		if pl.Rows.Query == "" && pl.Rows.ID == "" {
			l.Complain(key+".rows.id", "a pointer to the id within each item is missing")
		}
	case strings.Count(pl.Each, "{id}") != 1:
		l.Complain(key+".each", "the path of one record must hold {id} once; this one is %q", pl.Each)
	default:
		l.relative(key+".each", pl.Each)
		if pl.Name != nil {
			l.checkSource(key+".name", pl.Name, true)
		}
		if pl.At != nil {
			l.checkSource(key+".at.x", &pl.At.X, true)
			l.checkSource(key+".at.z", &pl.At.Z, true)
		}
	}
	if pl.Rows != nil && pl.At != nil {
		l.Complain(key+".at", "of rows, the two columns between id and name say where players stand")
	}
	if pl.ID != "" {
		l.OneOf(key+".id", pl.ID, IDFormats...)
	}
	if pl.Host != "" && !ValidID(pl.ID, pl.Host) {
		l.Complain(key+".host", "%q is no id of the form %s", pl.Host, pl.ID)
	}
	if pl.Derive != nil {
		if _, err := uuid.Parse(pl.Derive.UUID5); err != nil {
			l.Complain(key+".derive.uuid5", "%q is no UUID", pl.Derive.UUID5)
		}
	}
	for i, r := range pl.References {
		rkey := fmt.Sprintf("%s.references[%d]", key, i)
		l.relative(rkey+".read", r.Read)
		l.checkLayers(rkey, r.Through)
		switch {
		case (r.Pick == "") == (r.Bytes == 0):
			l.Complain(rkey, "ids are found either by pick or as bytes")
		case r.Bytes < 0 || r.Bytes > 64:
			l.Complain(rkey+".bytes", "an id has 1 to 64 bytes")
		case r.Pick != "" && !strings.HasPrefix(r.Pick, "/"):
			l.Complain(rkey+".pick", "a pointer begins with a slash; this one is %q", r.Pick)
		}
	}
}

func (l *linter) checkPicture(key string, p *Picture) {
	ways := 0
	if p.Tiles != "" {
		ways++
		if strings.Count(p.Tiles, "{x}") != 1 || strings.Count(p.Tiles, "{z}") != 1 {
			l.Complain(key+".tiles", "the path of a tile holds {x} and {z} once each; this one is %q", p.Tiles)
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
		l.Complain(key, "a picture is drawn from tiles, or from a query, or is an image: one of them")
	}
	if p.Z != "" && p.Z != "south" && p.Z != "north" {
		l.Complain(key+".z", "z grows to the south or to the north; this is %q", p.Z)
	}
	if p.Across < 0 || p.Across > 1<<20 {
		l.Complain(key+".across", "a tile is 1 to 1,048,576 units wide")
	}
	if p.Spawn != nil {
		l.checkSource(key+".spawn.x", &p.Spawn.X, false)
		l.checkSource(key+".spawn.z", &p.Spawn.Z, false)
		if p.Image != "" {
			l.Complain(key+".spawn", "where an image file shows a place is not known")
		}
	}
	if c := p.Colours; c != nil {
		l.place(key+".colours.at", c.At)
		if c.Width < 1 || c.Height < 1 || c.Width > 1<<20 || c.Height > 1<<20 || c.Width*c.Height > 1<<20 {
			l.Complain(key+".colours", "width and height are at least 1, and at most 1,048,576 colours together")
		}
		for i, colour := range c.Palette {
			if !colourPattern.MatchString(colour) {
				l.Complain(fmt.Sprintf("%s.colours.palette[%d]", key, i), "a colour is #rrggbb; this one is %q", colour)
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
			l.Complain(key+".read", "the file is the player's record; leave this out")
		} else {
			l.Complain(key+".read", "the file to read is missing")
		}
	} else if !fileGiven {
		l.relative(key+".read", s.Read)
	}
	l.checkLayers(key, s.Through)
	if s.Type != "" {
		l.OneOf(key+".type", s.Type, Types...)
	}
	for _, p := range []struct{ name, pointer string }{
		{"pick", s.Pick},
		{"id", s.ID},
		{"name", s.Name},
		{"version", s.Version},
	} {
		if p.pointer != "" && !strings.HasPrefix(p.pointer, "/") {
			l.Complain(key+"."+p.name, "a pointer begins with a slash; this one is %q", p.pointer)
		}
	}
	last := ""
	if len(s.Through) > 0 {
		last = s.Through[len(s.Through)-1].String()
	}
	if q := strings.ToLower(strings.TrimSpace(s.Query)); q != "" &&
		(len(q) > longestQuery || !strings.HasPrefix(q, "select") && !strings.HasPrefix(q, "with")) {
		l.Complain(key+".query", "a query is one SELECT (or WITH … SELECT) of at most %d bytes", longestQuery)
	}
	if (last == "sqlite") != (s.Query != "") {
		l.Complain(key+".query", "a query goes with through: [sqlite], and the other way round")
	}
	if !s.Match.IsZero() && (s.Pick != "" || s.Query != "") {
		l.Complain(key+".match", "a value is found by match, or pick, or query: one of them")
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
		l.Complain(key+".through", "a file has at most %d layers, %d of them compressions; this one has %d and %d",
			mostLayers, mostCompressions, len(layers), packed)
		return
	}
	for i, t := range layers {
		lkey := fmt.Sprintf("%s.through[%d]", key, i)
		decodes := t.Fields != nil || slices.Contains(Decoders, t.Word)
		switch {
		case t.Header != nil && t.Fields != nil:
			l.Complain(lkey, "a header and fields are layers of their own")
		case t.Header != nil:
			l.checkHeader(lkey+".header", t.Header)
		case t.Fields != nil:
			for name, f := range t.Fields {
				l.checkField(doclang.At(lkey+".fields", name), f)
			}
		default:
			l.OneOf(lkey, t.Word, append(slices.Clone(Unwraps), Decoders...)...)
		}
		if decodes && i < len(layers)-1 {
			l.Complain(lkey, "%s decodes, so it stands last", t)
		}
	}
}

// farthest bounds the places and widths that a profile names, in bytes: what stands before
// them is read into memory, and places are added to widths.
const farthest = 16 << 20

// place checks a number of bytes from a file's beginning.
func (l *linter) place(key string, n int) {
	if n < 0 || n > farthest {
		l.Complain(key, "a place or a width is 0 to %d bytes; this one is %d", farthest, n)
	}
}

func (l *linter) checkHeader(key string, h *Header) {
	l.place(key+".size.at", h.Size.At)
	l.place(key+".size", h.Size.Fixed)
	if h.Size.As != "" {
		l.OneOf(key+".size.as", h.Size.As, Numbers...)
	} else if h.Size.Fixed < 1 {
		l.Complain(key+".size", "the header's size is missing: a number of bytes, or {at: …, as: …}")
	}
	if c := h.Checksum; c != nil {
		l.place(key+".checksum.at", c.At)
		l.OneOf(key+".checksum.as", c.As, Numbers...)
		l.OneOf(key+".checksum.kind", c.Kind, Checksums...)
	}
	for i, n := range h.Lengths {
		lkey := fmt.Sprintf("%s.lengths[%d]", key, i)
		l.place(lkey+".at", n.At)
		l.OneOf(lkey+".as", n.As, Numbers...)
		l.OneOf(lkey+".of", n.Of, "follows", "inside")
	}
}

func (l *linter) checkField(key string, f Field) {
	l.OneOf(key+".as", f.As, append(slices.Clone(Numbers), "text", "hex")...)
	wide := f.As == "text" || f.As == "hex"
	l.place(key+".at", f.At)
	l.place(key+".width", f.Width)
	switch {
	case wide && (f.Width > 0) == (f.Length != ""):
		l.Complain(key, "%s needs either width, in bytes, or length, the number that stands before it", f.As)
	case !wide && (f.Width != 0 || f.Length != ""):
		l.Complain(key, "a number has its width in its name")
	case f.Length != "":
		l.OneOf(key+".length", f.Length, Numbers...)
	}
}

func (l *linter) checkServer(key string) {
	s := &l.p.Server
	if len(s.Kinds) == 0 {
		l.Complain(key+".kinds", "at least one kind of server software is needed")
	}
	for name, k := range s.Kinds {
		if k.Realms != "" {
			l.OneOf(doclang.At(key+".kinds", name)+".realms", k.Realms, "nested", "split")
		}
	}
	l.checkSources(key+".version", s.Version)
	l.checkSources(key+".mods", s.Mods)
	if s.Accepts.Version != "" {
		l.OneOf(key+".accepts.version", s.Accepts.Version, "any", "exact", "same-minor", "not-newer", "listed")
	}
	if (s.Accepts.Version == "listed") != (len(s.Accepts.Versions) > 0) {
		l.Complain(key+".accepts.versions", "versions goes with version: listed, and the other way round")
	}
	l.relative(key+".worlds", s.Worlds)
	if strings.Trim(path.Clean(s.Worlds), "/") == "." {
		l.Complain(key+".worlds", "worlds must stand in a folder of their own below the server's root")
	}
	for name := range s.Settings {
		l.checkSettings(doclang.At(key+".settings", name), name)
	}
	for name, places := range s.Keys {
		kkey := doclang.At(key+".keys", name)
		if !idPattern.MatchString(name) {
			l.Complain(kkey, "a key's name is 1 to 40 of a-z, 0-9 and hyphen")
		}
		for i, kp := range places {
			l.checkPlace(fmt.Sprintf("%s[%d]", kkey, i), kp, i == len(places)-1)
		}
	}
	if len(s.Keys[KeyActiveWorld]) == 0 {
		l.Complain(key+".keys", "active-world is missing: Reshard must know which setting names the world to open")
	}
	if s.Join.In != "" || s.Join.Key != "" {
		l.checkPlace(key+".join", s.Join, false)
	}
	for i, f := range s.FirstStart {
		l.relative(fmt.Sprintf("%s[%d]", doclang.At(key, "first-start"), i), f)
	}
	if b := s.Seeds.Bits; b != 0 && b != 64 && b != 32 {
		l.Complain(key+".seeds.bits", "a seed has 64 bits or 32")
	}
	if b := s.Seeds.Base; b != 0 && b != 10 && b != 16 {
		l.Complain(key+".seeds.base", "seeds are written to base 10 or 16")
	}
	if s.Seeds.Base != 16 && (s.Seeds.Width != 0 || s.Seeds.Capitals) || s.Seeds.Width < 0 || s.Seeds.Width > 16 {
		l.Complain(key+".seeds.width", "width (up to 16) and capitals go with base 16")
	}
	for i, name := range s.Travels {
		if _, ok := s.Keys[name]; !ok {
			l.Complain(fmt.Sprintf("%s[%d]", doclang.At(key, "travels"), i), "there is no key %q%s", name,
				doclang.Meant(name, slices.Collect(maps.Keys(s.Keys))))
		}
	}
	l.checkNewWorld(key + ".new-world")
	l.checkConsole(key + ".console")
}

func (l *linter) checkSettings(key, name string) {
	doc := l.p.Server.Settings[name]
	if name == InCommand {
		l.Complain(key, "command names the start command; call the document otherwise")
	}
	if len(doc.File) == 0 {
		l.Complain(key+".file", "the file is missing")
	}
	for system, file := range doc.File {
		if system != "" {
			l.OneOf(doclang.At(key+".file", system), system, Systems...)
		}
		l.relative(key+".file", file)
	}
	l.OneOf(key+".format", doc.Format, settings.Formats()...)
	if err := doc.Syntax().Check(); err != nil && slices.Contains(settings.Formats(), doc.Format) {
		l.Complain(key+".line", "%v", err)
	}
	if doc.Encoding != "" {
		l.OneOf(key+".encoding", doc.Encoding, settings.Encodings()...)
	}
	compiled := doc
	l.compile(key+".include", &compiled.Include, "value", false)
	l.p.Server.Settings[name] = compiled
}

func (l *linter) checkPlace(key string, kp KeyPlace, last bool) {
	if kp.Default != "" {
		if kp.In != "" || kp.Key != "" || !last {
			l.Complain(key+".default", "a default stands alone and last")
		}
		return
	}
	l.checkIn(key, kp.In, kp.Key, true)
	if kp.Writes != "" {
		l.OneOf(key+".writes", kp.Writes, "name", "file", "path")
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
		l.Complain(key+".in", "there is no settings document %q%s", in, doclang.Meant(in, docs))
	}
	if name == "" {
		l.Complain(key+".key", "the key is missing")
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
	l.compile(key+".joined.answer", &c.Joined.Answer, "value", c.Joined.Say != "")
	l.compile(key+".version.answer", &c.Version.Answer, "value", c.Version.Say != "")
	for _, e := range []struct {
		name     string
		exchange *Exchange
	}{{"hold", &c.Hold}, {"flush", &c.Flush}, {"release", &c.Release}, {"load", &c.Load}} {
		l.checkExchange(key+"."+e.name, e.exchange)
	}
	if c.Quiet && c.Flush.Say == "" {
		l.Complain(key+".quiet", "quiet needs flush: without it nothing is ever written")
	}
	if c.Stop.Loses && c.Flush.Say == "" {
		l.Complain(key+".stop.loses", "loses needs flush, which is said before the stop")
	}
	if c.Say != "" && !strings.Contains(c.Say, "{text}") {
		l.Complain(key+".say", "the line must hold {text}, where what players are told is filled in")
	}
	if (c.Hold.Say == "") != (c.Release.Say == "") {
		l.Complain(key+".release", "hold and release go together: what is held must be let go")
	}
	if c.Load.Say != "" && !strings.Contains(c.Load.Say, "{name}") && !strings.Contains(c.Load.Say, "{file}") {
		l.Complain(key+".load.say", "the line must hold {name} or {file}")
	}
	if (c.Stop.Say == "") == (c.Stop.Signal == "") {
		l.Complain(key+".stop", "a clean stop is either a line to say or a signal to send")
	}
	if c.Stop.Signal != "" {
		l.OneOf(key+".stop.signal", c.Stop.Signal, "SIGINT", "SIGTERM")
	}
}

func (l *linter) checkExchange(key string, e *Exchange) {
	l.compile(key+".expect", &e.Expect, "", false)
	if e.Say == "" && !e.Expect.IsZero() {
		l.Complain(key+".say", "the line to say is missing")
	}
}

func (l *linter) checkNewWorld(key string) {
	n := &l.p.Server.NewWorld
	if n.Named != "" {
		l.OneOf(key+".named", n.Named, "settings", "own")
	}
	if n.Named == "own" && l.p.Server.Console.Opened.IsZero() {
		l.Complain(key+".named", "own needs the line opened of the console, which tells the name")
	}
	l.checkExchange(key+".save", &n.Save)
	l.compile(key+".ignore", &n.Ignore, "", false)
}

func (l *linter) compile(key string, p *Pattern, group string, needed bool) {
	if p.Text == "" {
		if needed {
			l.Complain(key, "a regular expression is missing")
		}
		return
	}
	compiled, err := l.regexp(p.Text)
	if err != nil {
		l.Complain(key, "not a regular expression: %v", err)
		return
	}
	if group != "" && compiled.re.SubexpIndex(group) < 0 {
		l.Complain(key, "the expression needs a group named %q: (?P<%s>…)", group, group)
		return
	}
	*p = *compiled
}

func (l *linter) relative(key, name string) {
	clean := strings.TrimSuffix(name, "/")
	if strings.Contains(clean, "{file}") && l.p.World.Shape == ShapeFolder {
		l.Complain(key, "{file} is the file of a world that is one, and this game's worlds are folders")
	}
	if clean == "" || !fs.ValidPath(clean) || clean == "." || strings.Contains(name, `\`) {
		l.Complain(key, "%q is not a path below the root, with forward slashes and without '..'", name)
	}
}
