// Package game holds game profiles: YAML documents that tell Reshard how a
// game's worlds, servers and settings look. No game has code of its own; what a
// game needs, the language of this package must be able to say. The language
// is described in docs/profiles.md.
package game

import (
	"regexp"

	"strings"
	"time"

	"reshard/internal/core/settings"
)

// Language is the value of the first key of every profile of this language.
const Language = "game/1"

// Profile is one game, as its document says it. The doc tags are the words of
// the JSON Schema and of the reference page.
type Profile struct {
	Reshard string           `yaml:"reshard" doc:"the language of the document: game/1" need:"yes"`
	ID      string           `yaml:"id" doc:"the game's short name in commands: 1 to 40 of a-z, 0-9 and hyphen" need:"yes"`
	Title   string           `yaml:"title" doc:"the game's name, as people write it" need:"yes"`
	Store   map[string]Paths `yaml:"store" doc:"by operating system (windows, macos, linux): where a person's own computer keeps worlds; ~, %NAME% and $NAME are filled in, * stands for any name, {account} for the level of an account's id"`
	World   World            `yaml:"world" doc:"how the game's worlds look on disk" need:"yes"`
	Server  Server           `yaml:"server" doc:"how the game's servers look" need:"yes"`
}

// Paths is one path or a list of them.
type Paths []string

// The shapes of a world.
const (
	ShapeFolder  = "folder"
	ShapeFile    = "file"
	ShapeSession = "session"
)

// World says how a game's worlds look on disk.
type World struct {
	Shape       string             `yaml:"shape" doc:"folder (with sibling folders where realms are split), file, or session: several files of one name" need:"yes"`
	Files       []string           `yaml:"files" doc:"for file and session: names of the files, each with {name}, and * in those of a session; alternatives for a file, all that are there for a session"`
	Recognise   Recognise          `yaml:"recognise" doc:"what marks a world"`
	Packed      Packed             `yaml:"packed" doc:"exports of the game's own that are archives"`
	FolderName  FolderName         `yaml:"folder-name" doc:"what the name on disk may be"`
	Facts       map[string]Sources `yaml:"facts" doc:"what to read out of a world, by name: title, seed, version, family, mods, last-played and world-id are compared or used, others are shown"`
	Realms      map[string]Realm   `yaml:"realms" doc:"parts of a world that some server software keeps in folders of their own"`
	Players     *Players           `yaml:"players" doc:"where player records stand"`
	LeaveBehind []string           `yaml:"leave-behind" doc:"files, as patterns, that are never carried"`
	Locks       []string           `yaml:"locks" doc:"files that are there while the world is open; they are never carried"`
	Steady      []string           `yaml:"steady" doc:"files, as patterns, that a server does not rewrite when it opens a world; the proof compares samples of them"`
	Overrides   []Override         `yaml:"overrides" doc:"files inside a world that beat the server's settings"`
	Picture     *Picture           `yaml:"picture" doc:"how to draw the world from above"`
}

// Recognise says what marks a world. Names that end in "/" are folders.
type Recognise struct {
	Require []string `yaml:"require" doc:"files and folders (ending in /) that every world folder has"`
	Expect  []string `yaml:"expect" doc:"files and folders that a world folder should have; a missing one is told"`
	Begins  []string `yaml:"begins" doc:"for file and session: what the file begins with, one of these; text, or bytes as hex=4f545458"`
}

// Packed names the endings of exports that are archives.
type Packed struct {
	Endings []string `yaml:"endings" doc:"endings of files that hold a packed world, with their dot"`
}

// FolderName is the rule for a world's name on disk.
type FolderName struct {
	Allow   string `yaml:"allow" doc:"the allowed characters, as inside a regular expression's brackets; absent: any that a file system takes"`
	Longest int    `yaml:"longest" doc:"the greatest length in characters; absent: 255 bytes"`
	Pattern string `yaml:"pattern" doc:"a regular expression that the whole name must follow, such as [0-9A-F]{32}"`

	allowed *regexp.Regexp
	whole   *regexp.Regexp
}

// Realm is a part of a world that some server software keeps elsewhere.
type Realm struct {
	Nested string `yaml:"nested" doc:"the realm's path inside the world's folder" need:"yes"`
	Split  string `yaml:"split" doc:"the name of the sibling folder that holds it on split servers; {folder} stands for the world's folder name" need:"yes"`
}

// SplitFor gives the sibling folder's name for a world folder.
func (r Realm) SplitFor(folder string) string {
	return strings.ReplaceAll(r.Split, "{folder}", folder)
}

// Players says where player records stand: a file each, rows of a query, or
// items of a document.
type Players struct {
	Each       string      `yaml:"each" doc:"the path of one record, with {id} in its file name"`
	Name       *Source     `yaml:"name" doc:"reads a player's name out of one record of each"`
	Rows       *Source     `yaml:"rows" doc:"instead of each: a source whose rows or items are players; of a query the first column is the id and the last the name"`
	ID         string      `yaml:"id" doc:"how an id is written: uuid, uuid-plain (no hyphens), hex, decimal or name"`
	Host       string      `yaml:"host" doc:"the fixed id of who played alone: it means nothing on a server"`
	Derive     *Derive     `yaml:"derive" doc:"how a server makes a player's id out of an account's"`
	References []Reference `yaml:"references" doc:"where else in the world ids stand"`
}

// Derive says how a server makes a player's id.
type Derive struct {
	UUID5 string `yaml:"uuid5" doc:"the namespace (a UUID) of a UUID of version 5, RFC 9562, made of the account's id" need:"yes"`
}

// Reference is a place that refers to players by id.
type Reference struct {
	Read    string  `yaml:"read" doc:"the files, as a pattern" need:"yes"`
	Through []Layer `yaml:"through" doc:"how the file is unwrapped"`
	Pick    string  `yaml:"pick" doc:"a pointer to the ids; * stands for every item"`
	Bytes   int     `yaml:"bytes" doc:"instead of pick: ids stand as this many bytes, anywhere in what was unwrapped"`
}

// Override is a file inside a world that beats the server.
type Override struct {
	File string `yaml:"file" doc:"the file, from the world's root" need:"yes"`
	Says string `yaml:"says" doc:"what it decides, for people: the rules of play" need:"yes"`
}

// Picture says how to draw a world from above, in one of three ways.
type Picture struct {
	Tiles   string   `yaml:"tiles" doc:"the path of one tile, with {x} and {z}"`
	Through []Layer  `yaml:"through" doc:"how a tile is unwrapped"`
	Colours *Colours `yaml:"colours" doc:"where a tile's colours stand; absent: a tile is as bright as its file is large"`
	Query   *Source  `yaml:"query" doc:"a source whose query gives x, z and a value"`
	Image   string   `yaml:"image" doc:"an image file (PNG or JPEG) in the world"`
	Across  int      `yaml:"across" doc:"how many of the game's own units a tile, or a row of the query, is wide; absent: one for each colour"`
	Z       string   `yaml:"z" doc:"which way z grows: south (absent) or north"`
	Spawn   *Spot    `yaml:"spawn" doc:"where a new player appears, in the game's own units"`
}

// OneFile is the one file that a picture is made of, "" when it is made of tiles.
func (p Picture) OneFile() string {
	if p.Query != nil {
		return p.Query.Read
	}
	return p.Image
}

// Spot is a place in a world, read from it.
type Spot struct {
	X Source `yaml:"x" doc:"a source of its number to the east" need:"yes"`
	Z Source `yaml:"z" doc:"a source of its z, which grows as the picture says" need:"yes"`
}

// Colours says where a tile's colours stand.
type Colours struct {
	At      int      `yaml:"at" doc:"the first byte"`
	Width   int      `yaml:"width" doc:"colours in a row" need:"yes"`
	Height  int      `yaml:"height" doc:"rows" need:"yes"`
	Palette []string `yaml:"palette" doc:"colours as #rrggbb, by the byte's value; absent: a byte is a grey"`
}

// Source is one place where a fact may be read: a file, the layers it is
// unwrapped through, and what to pick out of it.
type Source struct {
	Read    string  `yaml:"read" doc:"the file, from the root; {file} is a world's own file, {name} its name; with * the last match by name"`
	Through []Layer `yaml:"through" doc:"layers, outermost first: compression, headers, then a decoder"`
	Pick    string  `yaml:"pick" doc:"a JSON pointer (RFC 6901); the step * means every item"`
	Match   Pattern `yaml:"match" doc:"a regular expression (RE2) over text, with a group named value; for a list every match is an item"`
	Query   string  `yaml:"query" doc:"an SQL query for SQLite files; its first column is the value"`
	Type    string  `yaml:"type" doc:"text (when absent), int64, float, bool, time, version, hex, uuid or list"`
	ID      string  `yaml:"id" doc:"a pointer to the id within each item of a list"`
	Name    string  `yaml:"name" doc:"a pointer to the name within each item of a list"`
	Version string  `yaml:"version" doc:"a pointer to the version within each item of a list"`
	// Editable: Reshard may write another value in its place.
	Editable bool `yaml:"editable" doc:"true: the title may be changed there; for text behind gzip, zlib, zstd and headers, in CBOR, in the formats of settings, or by match"`
}

// Layer is one step of unwrapping or decoding: a word, or a header to pass over,
// or fields at fixed places.
type Layer struct {
	Word   string           `yaml:"-"`
	Header *Header          `yaml:"header" doc:"passes over a header, and checks what it says of the rest"`
	Fields map[string]Field `yaml:"fields" doc:"decodes bytes at fixed places, by name"`
}

func (l Layer) String() string {
	switch {
	case l.Header != nil:
		return "header"
	case l.Fields != nil:
		return "fields"
	}
	return l.Word
}

// Header is what stands before the rest of a file.
type Header struct {
	Size     Measure   `yaml:"size" doc:"bytes to pass over: a number, or where the number stands: {at: 4, as: u32le}" need:"yes"`
	Checksum *Checksum `yaml:"checksum" doc:"a checksum of all that follows the header"`
	Lengths  []Length  `yaml:"lengths" doc:"lengths that the header states"`
}

// Measure is a number of bytes, given or to be read.
type Measure struct {
	Fixed int    `yaml:"-"`
	At    int    `yaml:"at" doc:"where the number stands"`
	As    string `yaml:"as" doc:"how it is written, such as u32le"`
}

// Checksum is a checksum within a header.
type Checksum struct {
	At   int    `yaml:"at" doc:"where it stands"`
	As   string `yaml:"as" doc:"how it is written, such as u32le" need:"yes"`
	Kind string `yaml:"kind" doc:"crc32 (IEEE), crc32c or adler32" need:"yes"`
}

// Length is a length within a header.
type Length struct {
	At int    `yaml:"at" doc:"where it stands"`
	As string `yaml:"as" doc:"how it is written, such as u32le" need:"yes"`
	Of string `yaml:"of" doc:"follows (what follows the header, as stored) or inside (once unwrapped)" need:"yes"`
}

// Field is a value at a fixed place.
type Field struct {
	At     int    `yaml:"at" doc:"the first byte"`
	As     string `yaml:"as" doc:"u8, i8, u16le … i64be, f32le … f64be, text or hex" need:"yes"`
	Width  int    `yaml:"width" doc:"for text and hex: how many bytes; text ends at a zero byte"`
	Length string `yaml:"length" doc:"instead of width: the text follows its own length, written as this number"`
}

// Sources are alternatives; the first that reads wins. In YAML one source may
// stand without a list.
type Sources []Source

// Server says how a game's servers look.
type Server struct {
	Kinds      map[string]Kind       `yaml:"kinds" doc:"the kinds of server software, by name" need:"yes"`
	Version    Sources               `yaml:"version" doc:"where the server's version stands; else the console tells it, or a person declares it"`
	Accepts    Accepts               `yaml:"accepts" doc:"which worlds a server of a version opens"`
	Worlds     string                `yaml:"worlds" doc:"the folder below the server's root that holds the worlds" need:"yes"`
	Mods       Sources               `yaml:"mods" doc:"where the server's mods stand"`
	Settings   map[string]Settings   `yaml:"settings" doc:"the settings documents, by a name of your own"`
	Keys       map[string][]KeyPlace `yaml:"keys" doc:"where settings stand, first source first: active-world, worlds-folder and seed are understood, others are shown" need:"yes"`
	FirstStart []string              `yaml:"first-start" doc:"files and folders (ending in /) that only exist once the server has been started; a world cannot be put before"`
	Console    Console               `yaml:"console" doc:"how a running server is understood and spoken to" need:"yes"`
	Seeds      Seeds                 `yaml:"seeds" doc:"which seeds the setting of the key seed takes"`
	NewWorld   NewWorld              `yaml:"new-world" doc:"how the server makes a new world where the settings name one that is not there"`
	Travels    []string              `yaml:"travels" doc:"names of keys whose values belong to the world and may go with it to another server"`
	Waits      Waits                 `yaml:"waits" doc:"how long to wait for the server"`
	Join       KeyPlace              `yaml:"join" doc:"which setting holds the port that players connect to"`
}

// Seeds says which seeds a server takes. Without it a seed is a number of 64 bits.
type Seeds struct {
	Text     bool `yaml:"text" doc:"true: words are taken too, and turned into a number by the game"`
	Bits     int  `yaml:"bits" doc:"how wide a seed is: 64 (when absent) or 32"`
	Unsigned bool `yaml:"unsigned" doc:"true: a seed has no sign"`
}

// NewWorld says how a server makes a new world.
type NewWorld struct {
	Named  string   `yaml:"named" doc:"settings (when absent): the new world has the name that the settings give; own: the server finds a name of its own and tells it in the line of opened"`
	Save   Exchange `yaml:"save" doc:"has the new world written under the name that the settings give, where it stands in memory only; {name} and {file} are filled in"`
	Ignore Pattern  `yaml:"ignore" doc:"lines of refused that are as they should be when a new world is wanted, such as that the old one is missing"`
}

// Kind is a kind of server software for one game.
type Kind struct {
	Realms string    `yaml:"realms" doc:"nested (when absent) or split"`
	Reads  *[]string `yaml:"reads" doc:"the format families that the kind opens; absent: all"`
}

// Accepts is the version rule between a world and a server.
type Accepts struct {
	Version  string              `yaml:"version" doc:"any (when absent), exact, same-minor, not-newer or listed"`
	Versions map[string][]string `yaml:"versions" doc:"for listed: by the server's version, the versions of worlds that it opens; * stands for any characters"`
	Upgrades bool                `yaml:"upgrades" doc:"true: an older world is upgraded for good when it is opened"`
}

// Settings is one settings document of a server.
type Settings struct {
	File     PerSystem `yaml:"file" doc:"its path from the root; where it depends on the server's operating system, by system" need:"yes"`
	Format   string    `yaml:"format" doc:"properties, key-value, ini, env, json, yaml, toml, xml, shell, batch or lines" need:"yes"`
	Line     string    `yaml:"line" doc:"for lines: how a line looks, with {key} and {value}"`
	Encoding string    `yaml:"encoding" doc:"utf-8, utf-16le, utf-16be or latin-1; absent: found out from the bytes"`
	// WritesBack: what is changed while the server runs is lost on its way down.
	WritesBack bool    `yaml:"writes-back" doc:"true: the server writes the file anew when it stops, over what was changed meanwhile"`
	Include    Pattern `yaml:"include" doc:"a regular expression for a line that takes in another file of the same format, whose path is in the group value"`
}

// Syntax says how the document is written.
func (s Settings) Syntax() settings.Syntax {
	return settings.Syntax{Format: s.Format, Line: s.Line, Encoding: s.Encoding}
}

// PerSystem is a path, or one for each operating system.
type PerSystem map[string]string

// Systems are the operating systems that the language knows.
var Systems = []string{"linux", "macos", "windows"}

// For gives the path on a system; where only others are told, the first of those.
func (p PerSystem) For(system string) string {
	if one, ok := p[""]; ok {
		return one
	}
	if one, ok := p[system]; ok {
		return one
	}
	for _, s := range Systems {
		if one, ok := p[s]; ok {
			return one
		}
	}
	return ""
}

// KeyPlace is one place where a setting may stand, or the value that the game
// takes when it stands nowhere.
type KeyPlace struct {
	In      string      `yaml:"in" doc:"the settings document, or command: the start command that Reshard itself holds, which is read only"`
	Key     string      `yaml:"key" doc:"the key within it"`
	Writes  string      `yaml:"writes" doc:"how a world is named there: name (when absent), file (a name with its ending) or path (from the server's root)"`
	With    []Companion `yaml:"with" doc:"values that must hold with it, such as a flag without which it is not looked at"`
	Default string      `yaml:"default" doc:"instead of in and key: what holds when no other source gives a value; alone, the world always has this name and placing is renaming"`
}

// Companion is a value that must hold for another to count.
type Companion struct {
	In    string `yaml:"in" doc:"the settings document" need:"yes"`
	Key   string `yaml:"key" doc:"the key within it" need:"yes"`
	Value string `yaml:"value" doc:"the value it must have" need:"yes"`
}

// The keys that Reshard itself understands.
const (
	KeyActiveWorld  = "active-world"
	KeyWorldsFolder = "worlds-folder"
	KeySeed         = "seed"
)

// InCommand names the start command as a source of settings.
const InCommand = "command"

// Console says how a running server is understood and spoken to.
type Console struct {
	Log      string   `yaml:"log" doc:"the file, from the root, that the server writes its log to; absent: its standard output"`
	Ready    Pattern  `yaml:"ready" doc:"the line after which players can join" need:"yes"`
	Opened   Pattern  `yaml:"opened" doc:"the line that names the opened world, in a group world"`
	Refused  Pattern  `yaml:"refused" doc:"lines that say that the server could not do what it was started for; in the proof one is a failure"`
	Harmless Pattern  `yaml:"harmless" doc:"lines that look like refusals and are none, such as those of a first start"`
	Stop     Stop     `yaml:"stop" doc:"the clean stop: a line to say, or a signal to send" need:"yes"`
	Seed     Ask      `yaml:"seed" doc:"asks for the seed of the world that runs"`
	Version  Ask      `yaml:"version" doc:"asks for the server's version; without say the log is searched for the answer"`
	Hold     Exchange `yaml:"hold" doc:"holds writes back"`
	Flush    Exchange `yaml:"flush" doc:"has all that is held in memory written; {name} and {file} of the active world are filled in"`
	Quiet    bool     `yaml:"quiet" doc:"true: the server writes a world's files only when it is told to flush or to stop, so that they stand still in between"`
	Release  Exchange `yaml:"release" doc:"lets writes go on"`
	Load     Exchange `yaml:"load" doc:"loads another world while the server runs; {name} and {file} are filled in"`
}

// Stop is the clean stop: a line to say, or a signal to send.
type Stop struct {
	Say    string  `yaml:"say" doc:"the line to say"`
	Signal string  `yaml:"signal" doc:"SIGINT or SIGTERM"`
	Loses  bool    `yaml:"loses" doc:"true: a stop does not save by itself, so that flush is said before"`
	Expect Pattern `yaml:"expect" doc:"the line that says that everything was written"`
}

// Filled gives the exchange with a world's names filled in.
func (e Exchange) Filled(w World, name string) Exchange {
	e.Say = strings.NewReplacer("{name}", name, "{file}", w.FileName(name)).Replace(e.Say)
	return e
}

// Ask is a question at the console; the answer's group "value" is the result.
type Ask struct {
	Say    string  `yaml:"say" doc:"the line to say"`
	Answer Pattern `yaml:"answer" doc:"the line that answers, with a group named value"`
}

// Exchange is a command at the console and the line that confirms it.
type Exchange struct {
	Say    string  `yaml:"say" doc:"the line to say"`
	Expect Pattern `yaml:"expect" doc:"the line that confirms it"`
}

// Waits bounds how long Reshard waits for a server.
type Waits struct {
	Start  time.Duration `yaml:"start" doc:"until it is ready; absent: 2m"`
	Stop   time.Duration `yaml:"stop" doc:"until it has ended; absent: 2m"`
	Settle time.Duration `yaml:"settle" doc:"still up this long after it said it was ready; absent: 1s"`
}

// Pattern is a regular expression (RE2, linear time) and its source.
type Pattern struct {
	Text string
	re   *regexp.Regexp
}

// UnmarshalYAML keeps the source; Parse compiles it so that a complaint has a line.
func (p *Pattern) UnmarshalYAML(unmarshal func(any) error) error { return unmarshal(&p.Text) }

// IsZero reports whether there is no pattern.
func (p Pattern) IsZero() bool { return p.Text == "" }

// FindAll gives the group "value" of every match in a text, at most the given
// number.
func (p Pattern) FindAll(text string, most int) []string {
	if p.re == nil {
		return nil
	}
	group := p.re.SubexpIndex("value")
	var out []string
	for _, m := range p.re.FindAllStringSubmatch(text, most) {
		out = append(out, m[max(group, 0)])
	}
	return out
}

// Place gives where the group "value" of the first match in a text stands.
func (p Pattern) Place(text string) (from, to int, ok bool) {
	if p.re == nil {
		return 0, 0, false
	}
	m := p.re.FindStringSubmatchIndex(text)
	if m == nil {
		return 0, 0, false
	}
	group := max(p.re.SubexpIndex("value"), 0)
	return m[2*group], m[2*group+1], m[2*group] >= 0
}

// Find matches a line and gives its named groups; ok is false without a match.
func (p Pattern) Find(line string) (groups map[string]string, ok bool) {
	if p.re == nil {
		return nil, false
	}
	m := p.re.FindStringSubmatch(line)
	if m == nil {
		return nil, false
	}
	groups = map[string]string{}
	for i, name := range p.re.SubexpNames() {
		if name != "" {
			groups[name] = m[i]
		}
	}
	return groups, true
}
