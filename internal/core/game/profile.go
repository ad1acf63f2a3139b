// Package game holds game profiles: YAML documents that tell Reshard how a
// game's worlds, servers and settings look. No game has code of its own; what a
// game needs, the language of this package must be able to say. The language
// is described in docs/profiles.md.
package game

import (
	"maps"
	"regexp"
	"strings"
	"time"

	"reshard/internal/core/settings"
)

// Language is the value of the first key of every profile of this language.
const Language = "game/1"

// Profile is one game, as its document says it. The comments above the
// keys are the words of the JSON Schema and of the reference page.
type Profile struct {
	// the language of the document: game/1
	Reshard string `yaml:"reshard" need:"yes"`
	// the game's short name in commands: 1 to 40 of a-z, 0-9 and hyphen
	ID string `yaml:"id" need:"yes"`
	// the game's name, as people write it
	Title string `yaml:"title" need:"yes"`
	// by operating system (windows, macos, linux): where a person's own computer keeps worlds;
	// ~, %NAME% and $NAME are filled in, * stands for any name, {account} for the level of an
	// account's id
	Store map[string]Paths `yaml:"store"`
	// how the game's worlds look on disk
	World WorldFormat `yaml:"world" need:"yes"`
	// how the game's servers look
	Server Server `yaml:"server" need:"yes"`
}

// Paths is one path or a list of them.
type Paths []string

// The shapes of a world.
const (
	ShapeFolder  = "folder"
	ShapeFile    = "file"
	ShapeSession = "session"
)

// WorldFormat says how a game's worlds look on disk.
type WorldFormat struct {
	// folder (with sibling folders where realms are split), file, or session: several files of
	// one name
	Shape string `yaml:"shape" need:"yes"`
	// for file and session: names of the files, each with {name}, and * in those of a session;
	// alternatives for a file, all that are there for a session
	Files []string `yaml:"files"`
	// what marks a world
	Recognise Recognise `yaml:"recognise"`
	// exports of the game's own that are archives
	Packed Packed `yaml:"packed"`
	// what the name on disk may be
	FolderName FolderName `yaml:"folder-name"`
	// what to read out of a world, by name: title, seed, version, family, mods, last-played
	// and world-id are compared or used, others are shown
	Facts map[string]Sources `yaml:"facts"`
	// parts of a world that some server software keeps in folders of their own
	Realms map[string]Realm `yaml:"realms"`
	// where player records stand
	Players *Players `yaml:"players"`
	// files, as patterns, that are never carried
	LeaveBehind []string `yaml:"leave-behind"`
	// files that are there while the world is open; they are never carried
	Locks []string `yaml:"locks"`
	// files, as patterns, that a server does not rewrite when it opens a world; the proof
	// compares samples of them
	Steady []string `yaml:"steady"`
	// SQLite databases, as patterns, that a running server writes to; a backup takes each as it stood at
	// one moment, where its host lets it
	Databases []string `yaml:"databases"`
	// names in the worlds folder, as patterns, that the game writes by itself beside its worlds, such as
	// saves made every few turns: they come and go and are not taken for worlds, but can be taken away
	Autosaves []string `yaml:"autosaves"`
	// files inside a world that beat the server's settings
	Overrides []Override `yaml:"overrides"`
	// how to draw the world from above
	Picture *Picture `yaml:"picture"`
}

// Recognise says what marks a world. Names that end in "/" are folders.
type Recognise struct {
	// files and folders (ending in /) that every world folder has
	Require []string `yaml:"require"`
	// files and folders that a world folder should have; a missing one is told
	Expect []string `yaml:"expect"`
	// for session: names of files, each with {name}, that every world has; they belong to it whatever
	// they begin with, and one that is not there is told
	Members []string `yaml:"members"`
	// for file and session: what the file begins with, one of these; text, or bytes as
	// hex=4f545458
	Begins []string `yaml:"begins"`
}

// Packed names the endings of exports that are archives.
type Packed struct {
	// endings of files that hold a packed world, with their dot
	Endings []string `yaml:"endings"`
}

// FolderName is the rule for a world's name on disk.
type FolderName struct {
	// the allowed characters, as inside a regular expression's brackets; absent: any that a
	// file system takes
	Allow string `yaml:"allow"`
	// the greatest length in characters; absent: 255 bytes
	Longest int `yaml:"longest"`
	// a regular expression that the whole name must follow, such as [0-9A-F]{32}
	Pattern string `yaml:"pattern"`

	allowed *Pattern
	whole   *Pattern
}

// Realm is a part of a world that some server software keeps elsewhere.
type Realm struct {
	// the realm's path inside the world's folder
	Nested string `yaml:"nested" need:"yes"`
	// the name of the sibling folder that holds it on split servers; {folder} stands for the
	// world's folder name
	Split string `yaml:"split" need:"yes"`
}

// SplitFor gives the sibling folder's name for a world folder.
func (r Realm) SplitFor(folder string) string {
	return strings.ReplaceAll(r.Split, "{folder}", folder)
}

// Players says where player records stand: a file each, rows of a query, or
// items of a document.
type Players struct {
	// the path of one record, with {id} in its file name
	Each string `yaml:"each"`
	// reads a player's name out of one record of each
	Name *Source `yaml:"name"`
	// reads out of one record of each where the player stands
	At *Spot `yaml:"at"`
	// instead of each: a source whose rows or items are players; of a query the first column
	// is the id and the last the name, and of four the two between are x and z of where they stand
	Rows *Source `yaml:"rows"`
	// how an id is written: uuid, uuid-plain (no hyphens), hex, decimal or name
	ID string `yaml:"id"`
	// the fixed id of who played alone: it means nothing on a server
	Host string `yaml:"host"`
	// how a server makes a player's id out of an account's
	Derive *Derive `yaml:"derive"`
	// where else in the world ids stand
	References []Reference `yaml:"references"`
}

// Derive says how a server makes a player's id.
type Derive struct {
	// the namespace (a UUID) of a UUID of version 5, RFC 9562, made of the account's id
	UUID5 string `yaml:"uuid5" need:"yes"`
}

// Reference is a place that refers to players by id.
type Reference struct {
	// the files, as a pattern
	Read string `yaml:"read" need:"yes"`
	// how the file is unwrapped
	Through []Layer `yaml:"through"`
	// a pointer to the ids; * stands for every item
	Pick string `yaml:"pick"`
	// instead of pick: ids stand as this many bytes, anywhere in what was unwrapped
	Bytes int `yaml:"bytes"`
}

// Override is a file inside a world that beats the server.
type Override struct {
	// the file, from the world's root
	File string `yaml:"file" need:"yes"`
	// what it decides, for people: the rules of play
	Says string `yaml:"says" need:"yes"`
}

// Picture says how to draw a world from above, in one of three ways.
type Picture struct {
	// the path of one tile, with {x} and {z}
	Tiles string `yaml:"tiles"`
	// how a tile is unwrapped
	Through []Layer `yaml:"through"`
	// where a tile's colours stand; absent: a tile is as bright as its file is large
	Colours *Colours `yaml:"colours"`
	// a source whose query gives x, z and a value
	Query *Source `yaml:"query"`
	// an image file (PNG or JPEG) in the world
	Image string `yaml:"image"`
	// how many of the game's own units a tile, or a row of the query, is wide; absent: one for
	// each colour
	Across int `yaml:"across"`
	// which way z grows: south (absent) or north
	Z string `yaml:"z"`
	// where a new player appears, in the game's own units
	Spawn *Spot `yaml:"spawn"`
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
	// a source of its number to the east
	X Source `yaml:"x" need:"yes"`
	// a source of its z, which grows as the picture says
	Z Source `yaml:"z" need:"yes"`
}

// In is the spot as it is read out of another file; of none it is none.
func (s *Spot) In(file string) *Spot {
	if s == nil {
		return nil
	}
	in := *s
	in.X.Read, in.Z.Read = file, file
	return &in
}

// Colours says where a tile's colours stand.
type Colours struct {
	// the first byte
	At int `yaml:"at"`
	// colours in a row
	Width int `yaml:"width" need:"yes"`
	// rows
	Height int `yaml:"height" need:"yes"`
	// colours as #rrggbb, by the byte's value; absent: a byte is a grey
	Palette []string `yaml:"palette"`
}

// Source is one place where a fact may be read: a file, the layers it is
// unwrapped through, and what to pick out of it.
type Source struct {
	// the file, from the root; {file} is a world's own file, {name} its name; with * the last
	// match by name
	Read string `yaml:"read"`
	// layers, outermost first: compression, headers, then a decoder
	Through []Layer `yaml:"through"`
	// a JSON pointer (RFC 6901); the step * means every item
	Pick string `yaml:"pick"`
	// a regular expression (RE2) over text, with a group named value; for a list every match
	// is an item
	Match Pattern `yaml:"match"`
	// an SQL query for SQLite files; its first column is the value
	Query string `yaml:"query"`
	// text (when absent), int64, float, bool, time, version, hex, uuid or list
	Type string `yaml:"type"`
	// a pointer to the id within each item of a list
	ID string `yaml:"id"`
	// a pointer to the name within each item of a list
	Name string `yaml:"name"`
	// a pointer to the version within each item of a list
	Version string `yaml:"version"`
	// true: the title may be changed there; for text behind gzip, zlib, zstd and headers, in
	// CBOR, in the formats of settings, or by match
	Editable bool `yaml:"editable"`
}

// Layer is one step of unwrapping or decoding: a word, or a header to pass over,
// or fields at fixed places.
type Layer struct {
	Word string `yaml:"-"`
	// passes over a header, and checks what it says of the rest
	Header *Header `yaml:"header"`
	// decodes bytes at fixed places, by name
	Fields map[string]Field `yaml:"fields"`
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
	// bytes to pass over: a number, or where the number stands: {at: 4, as: u32le}
	Size Measure `yaml:"size" need:"yes"`
	// a checksum of all that follows the header
	Checksum *Checksum `yaml:"checksum"`
	// lengths that the header states
	Lengths []Length `yaml:"lengths"`
}

// Measure is a number of bytes, given or to be read.
type Measure struct {
	Fixed int `yaml:"-"`
	// where the number stands
	At int `yaml:"at"`
	// how it is written, such as u32le
	As string `yaml:"as"`
}

// Checksum is a checksum within a header.
type Checksum struct {
	// where it stands
	At int `yaml:"at"`
	// how it is written, such as u32le
	As string `yaml:"as" need:"yes"`
	// crc32 (IEEE), crc32c or adler32
	Kind string `yaml:"kind" need:"yes"`
}

// Length is a length within a header.
type Length struct {
	// where it stands
	At int `yaml:"at"`
	// how it is written, such as u32le
	As string `yaml:"as" need:"yes"`
	// follows (what follows the header, as stored) or inside (once unwrapped)
	Of string `yaml:"of" need:"yes"`
}

// Field is a value at a fixed place.
type Field struct {
	// the first byte
	At int `yaml:"at"`
	// u8, i8, u16le … i64be, f32le … f64be, text or hex
	As string `yaml:"as" need:"yes"`
	// for text and hex: how many bytes; text ends at a zero byte
	Width int `yaml:"width"`
	// instead of width: the text follows its own length, written as this number
	Length string `yaml:"length"`
}

// Sources are alternatives; the first that reads wins. In YAML one source may
// stand without a list.
type Sources []Source

// Server says how a game's servers look.
type Server struct {
	// the kinds of server software, by name
	Kinds map[string]Kind `yaml:"kinds" need:"yes"`
	// where the server's version stands; else the console tells it, or a person declares it
	Version Sources `yaml:"version"`
	// which worlds a server of a version opens
	Accepts Accepts `yaml:"accepts"`
	// the folder below the server's root that holds the worlds
	Worlds string `yaml:"worlds" need:"yes"`
	// where the server's mods stand
	Mods Sources `yaml:"mods"`
	// the settings documents, by a name of your own
	Settings map[string]Settings `yaml:"settings"`
	// where settings stand, first source first: active-world, worlds-folder and seed are
	// understood, others are shown
	Keys map[string][]KeyPlace `yaml:"keys" need:"yes"`
	// files and folders (ending in /) that only exist once the server has been started; a
	// world cannot be put before
	FirstStart []string `yaml:"first-start"`
	// how a running server is understood and spoken to
	Console Console `yaml:"console" need:"yes"`
	// which seeds the setting of the key seed takes
	Seeds Seeds `yaml:"seeds"`
	// how the server makes a new world where the settings name one that is not there
	NewWorld NewWorld `yaml:"new-world"`
	// names of keys whose values belong to the world and may go with it to another server
	Travels []string `yaml:"travels"`
	// how long to wait for the server
	Waits Waits `yaml:"waits"`
	// which setting holds the port that players connect to
	Join KeyPlace `yaml:"join"`
}

// Seeds says which seeds a server takes. Without it a seed is a number of 64 bits.
type Seeds struct {
	// true: words are taken too, and turned into a number by the game
	Text bool `yaml:"text"`
	// how wide a seed is: 64 (when absent) or 32
	Bits int `yaml:"bits"`
	// true: a seed has no sign
	Unsigned bool `yaml:"unsigned"`
	// how the game writes its seeds: 10 (when absent) or 16, hexadecimal
	Base int `yaml:"base"`
	// with base 16: the number of digits, filled up with zeros; absent: as many as needed
	Width int `yaml:"width"`
	// with base 16, true: digits are A to F, not a to f
	Capitals bool `yaml:"capitals"`
}

// NewWorld says how a server makes a new world.
type NewWorld struct {
	// settings (when absent): the new world has the name that the settings give; own: the
	// server finds a name of its own and tells it in the line of opened
	Named string `yaml:"named"`
	// has the new world written under the name that the settings give, where it stands in
	// memory only; {name} and {file} are filled in
	Save Exchange `yaml:"save"`
	// lines of refused that are as they should be when a new world is wanted, such as that the
	// old one is missing
	Ignore Pattern `yaml:"ignore"`
}

// Kind is a kind of server software for one game.
type Kind struct {
	// nested (when absent) or split
	Realms string `yaml:"realms"`
	// the format families that the kind opens; absent: all
	Reads *[]string `yaml:"reads"`
}

// Accepts is the version rule between a world and a server.
type Accepts struct {
	// any (when absent), exact, same-minor, not-newer or listed
	Version string `yaml:"version"`
	// for listed: by the server's version, the versions of worlds that it opens; * stands for
	// any characters
	Versions map[string][]string `yaml:"versions"`
	// true: an older world is upgraded for good when it is opened
	Upgrades bool `yaml:"upgrades"`
}

// Settings is one settings document of a server.
type Settings struct {
	// its path from the root; where it depends on the server's operating system, by system
	File PerSystem `yaml:"file" need:"yes"`
	// properties, key-value, ini, env, json, yaml, toml, xml, shell, batch or lines
	Format string `yaml:"format" need:"yes"`
	// for lines: how a line looks, with {key} and {value}
	Line string `yaml:"line"`
	// utf-8, utf-16le, utf-16be or latin-1; absent: found out from the bytes
	Encoding string `yaml:"encoding"`
	// true: the server writes the file anew when it stops, over what was changed meanwhile
	WritesBack bool `yaml:"writes-back"`
	// a regular expression for a line that takes in another file of the same format, whose
	// path is in the group value
	Include Pattern `yaml:"include"`
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
	// the settings document, or command: the start command that Reshard itself holds, which is
	// read only
	In string `yaml:"in"`
	// the key within it
	Key string `yaml:"key"`
	// how a world is named there: name (when absent), file (a name with its ending) or path
	// (from the server's root)
	Writes string `yaml:"writes"`
	// values that must hold with it, such as a flag without which it is not looked at
	With []Companion `yaml:"with"`
	// the game never changes this value itself: when it reads back different after a start, the proof
	// fails; without it a difference is only reported, since games consume seeds and rewrite values
	Keeps bool `yaml:"keeps"`
	// instead of in and key: what holds when no other source gives a value; alone, the world
	// always has this name and placing is renaming
	Default string `yaml:"default"`
}

// InPage names a provider's page as a source of settings.
const InPage = "page"

// OnPage gives the profile of a server of which some keys are set on its provider's page: it stands as a
// settings file of that name among the server's, and beats all others. fields are what the keys are
// called there; what the game knows nothing of is left out.
func (p *Profile) OnPage(page string, fields map[string]string) *Profile {
	out := *p
	out.Server.Settings, out.Server.Keys = maps.Clone(p.Server.Settings), maps.Clone(p.Server.Keys)
	for key, name := range fields {
		places := p.Server.Keys[key]
		if len(places) == 0 {
			continue
		}
		first := KeyPlace{In: InPage, Key: name, Writes: places[0].Writes}
		if first.Writes == "" {
			first.Writes = "name"
		}
		out.Server.Keys[key] = append([]KeyPlace{first}, places...)
		out.Server.Settings[InPage] = Settings{File: PerSystem{"": page}, Format: "properties"}
	}
	return &out
}

// Companion is a value that must hold for another to count.
type Companion struct {
	// the settings document
	In string `yaml:"in" need:"yes"`
	// the key within it
	Key string `yaml:"key" need:"yes"`
	// the value it must have
	Value string `yaml:"value" need:"yes"`
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
	// the file, from the root, that the server writes its log to; absent: its standard output
	Log string `yaml:"log"`
	// the line after which players can join
	Ready Pattern `yaml:"ready" need:"yes"`
	// the line that names the opened world, in a group world
	Opened Pattern `yaml:"opened"`
	// lines that say that the server could not do what it was started for; in the proof one is
	// a failure
	Refused Pattern `yaml:"refused"`
	// tells players something: a line with {text}, said before every stop
	Say string `yaml:"say"`
	// lines that look like refusals and are none, such as those of a first start
	Harmless Pattern `yaml:"harmless"`
	// the clean stop: a line to say, or a signal to send
	Stop Stop `yaml:"stop" need:"yes"`
	// asks for the seed of the world that runs
	Seed Ask `yaml:"seed"`
	// asks how many are playing; the answer's value is a number
	Joined Ask `yaml:"joined"`
	// asks for the server's version; without say the log is searched for the answer
	Version Ask `yaml:"version"`
	// holds writes back
	Hold Exchange `yaml:"hold"`
	// has all that is held in memory written; {name} and {file} of the active world are filled
	// in
	Flush Exchange `yaml:"flush"`
	// true: the server writes a world's files only when it is told to flush or to stop, so
	// that they stand still in between
	Quiet bool `yaml:"quiet"`
	// lets writes go on
	Release Exchange `yaml:"release"`
	// loads another world while the server runs; {name} and {file} are filled in
	Load Exchange `yaml:"load"`
	// true: a load saves the world that it leaves; absent: flush is said before a load, and without
	// flush the sheet asks, since what was played since the last save is lost
	LoadSaves bool `yaml:"load-saves"`

	unspoken bool // see Within
}

// Speaks reports whether something can be said to the server's console; see Within.
func (c Console) Speaks() bool { return !c.unspoken }

// Within gives the profile as far as a server can be heard and spoken to: what would need more is
// left out of its console, as if the game had no such thing. Plans then take other ways, and
// proofs say what could not be seen.
func (p *Profile) Within(hears, speaks bool) *Profile {
	if hears && speaks {
		return p
	}
	out := *p
	c := &out.Server.Console
	if c.Version.Say != "" || !hears {
		c.Version = Ask{}
	}
	c.Seed, c.Joined, c.Hold, c.Flush, c.Release, c.Load = Ask{}, Ask{}, Exchange{}, Exchange{}, Exchange{}, Exchange{}
	c.Say = ""
	c.unspoken, c.Quiet = true, false // its files stand still only if it is told to write them before
	c.Stop.Loses = false              // nothing can be told to be saved before
	if !hears {
		c.Opened, c.Refused, c.Harmless, c.Stop.Expect = Pattern{}, Pattern{}, Pattern{}, Pattern{}
	}
	return &out
}

// Stop is the clean stop: a line to say, or a signal to send.
type Stop struct {
	// the line to say
	Say string `yaml:"say"`
	// SIGINT or SIGTERM
	Signal string `yaml:"signal"`
	// true: a stop does not save by itself, so that flush is said before
	Loses bool `yaml:"loses"`
	// the line that says that everything was written
	Expect Pattern `yaml:"expect"`
}

// Filled gives the exchange with a world's names filled in, in what is said and in what is expected. An
// expression that is too large with them, as none is that the lint lets by, matches nothing.
func (e Exchange) Filled(w WorldFormat, name string) Exchange {
	file := w.FileName(name)
	e.Say = strings.NewReplacer("{name}", name, "{file}", file).Replace(e.Say)
	e.Expect = e.Expect.Filled(w, name)
	return e
}

// Filled gives the expression with a world's names filled in, as they are.
func (p Pattern) Filled(w WorldFormat, name string) Pattern {
	text := strings.NewReplacer("{name}", regexp.QuoteMeta(name), "{file}", regexp.QuoteMeta(w.FileName(name))).
		Replace(p.Text)
	if text == p.Text {
		return p
	}
	p = Pattern{Text: text}
	_ = p.compile() // what does not compile finds nothing
	return p
}

// Ask is a question at the console; the answer's group "value" is the result.
type Ask struct {
	// the line to say
	Say string `yaml:"say"`
	// the line that answers, with a group named value
	Answer Pattern `yaml:"answer"`
}

// Exchange is a command at the console and the line that confirms it.
type Exchange struct {
	// the line to say
	Say string `yaml:"say"`
	// the line that confirms it
	Expect Pattern `yaml:"expect"`
}

// Waits bounds how long Reshard waits for a server.
type Waits struct {
	// until it is ready; absent: 2m
	Start time.Duration `yaml:"start"`
	// until it has ended; absent: 2m
	Stop time.Duration `yaml:"stop"`
	// still up this long after it said it was ready; absent: 1s
	Settle time.Duration `yaml:"settle"`
}
