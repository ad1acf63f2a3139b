// Package game holds game profiles: YAML documents that tell Reshard how a
// game's worlds, servers and settings look. No game has code of its own; what a
// game needs, the language of this package must be able to say. The language
// is described in docs/profiles.md.
package game

import (
	"regexp"
	"sort"
	"strings"
	"time"
	"unicode/utf8"
)

// Language is the value of the first key of every profile of this language.
const Language = "game/1"

// Profile is one game, as its document says it.
type Profile struct {
	Reshard string `yaml:"reshard" json:"reshard"`
	ID      string `yaml:"id" json:"id"`
	Title   string `yaml:"title" json:"title"`
	World   World  `yaml:"world" json:"world"`
	Server  Server `yaml:"server" json:"server"`
}

// World says how a game's worlds look on disk.
type World struct {
	// Shape is "folder": a world is one folder, with or without sibling realms.
	Shape     string    `yaml:"shape" json:"shape"`
	Recognise Recognise `yaml:"recognise" json:"recognise"`
	// FolderName limits what a world's folder may be called.
	FolderName FolderName `yaml:"folder-name" json:"folderName,omitzero"`
	// Facts are read out of the world, by name. Reshard compares title, seed,
	// version, family and mods; others are shown.
	Facts   map[string]Sources `yaml:"facts" json:"facts,omitempty"`
	Realms  map[string]Realm   `yaml:"realms" json:"realms,omitempty"`
	Players *Players           `yaml:"players" json:"players,omitempty"`
	// LeaveBehind are files (patterns from the world's root) that are never
	// carried, such as lock files.
	LeaveBehind []string `yaml:"leave-behind" json:"leaveBehind,omitempty"`
	// Steady are files (patterns) that a server does not rewrite when it opens
	// a world. The proof compares samples of them; a regenerated world differs.
	Steady []string `yaml:"steady" json:"steady,omitempty"`
}

// Recognise says what marks a world. Names that end in "/" are folders.
type Recognise struct {
	Require []string `yaml:"require" json:"require"`
	Expect  []string `yaml:"expect" json:"expect,omitempty"`
}

// FolderName is the rule for a world's folder name.
type FolderName struct {
	// Allow lists the allowed characters as the inside of a regular
	// expression's character class. Empty: anything a file system takes.
	Allow string `yaml:"allow" json:"allow,omitempty"`
	// Longest is the greatest length in characters; 0: 255 bytes.
	Longest int `yaml:"longest" json:"longest,omitempty"`

	allowed *regexp.Regexp
}

// Realm is a part of a world that some server software keeps elsewhere.
type Realm struct {
	// Nested is the realm's path inside the world's folder.
	Nested string `yaml:"nested" json:"nested"`
	// Split is the name of the sibling folder that holds it on split
	// servers; {folder} stands for the world's folder name.
	Split string `yaml:"split" json:"split"`
}

// SplitFor gives the sibling folder's name for a world folder.
func (r Realm) SplitFor(folder string) string {
	return strings.ReplaceAll(r.Split, "{folder}", folder)
}

// Players says where player records stand: a file each, or rows of a query.
type Players struct {
	// Each is the path of one record with {id} in its file name.
	Each string `yaml:"each" json:"each,omitempty"`
	// Name reads a player's name out of one record of Each.
	Name *Source `yaml:"name" json:"name,omitempty"`
	// Rows is a source that yields id and name columns.
	Rows *Source `yaml:"rows" json:"rows,omitempty"`
}

// Source is one place where a fact may be read: a file, the layers it is
// unwrapped through, and what to pick out of it.
type Source struct {
	Read    string   `yaml:"read" json:"read,omitempty"`
	Through []string `yaml:"through" json:"through,omitempty"`
	// Pick is a JSON pointer (RFC 6901) in which a step "*" means every item.
	Pick string `yaml:"pick" json:"pick,omitempty"`
	// Match is a regular expression over text with a group named "value".
	Match Pattern `yaml:"match" json:"match,omitzero"`
	// Query is an SQL query for SQLite files; its first column is the value.
	Query string `yaml:"query" json:"query,omitempty"`
	// Type is text, int64, time, version or list; text when absent.
	Type string `yaml:"type" json:"type,omitempty"`
	// Name and Version are pointers into each item of a list of mods.
	Name    string `yaml:"name" json:"name,omitempty"`
	Version string `yaml:"version" json:"version,omitempty"`
}

// Sources are alternatives; the first that reads wins. In YAML one source may
// stand without a list.
type Sources []Source

// UnmarshalYAML takes one source or a list of them.
func (s *Sources) UnmarshalYAML(unmarshal func(any) error) error {
	var many []Source
	if err := unmarshal(&many); err == nil {
		*s = many
		return nil
	}
	var one Source
	if err := unmarshal(&one); err != nil {
		return err
	}
	*s = Sources{one}
	return nil
}

// Server says how a game's servers look.
type Server struct {
	Kinds map[string]Kind `yaml:"kinds" json:"kinds"`
	// Version is read from the server's root; a person's word is the last resort.
	Version Sources `yaml:"version" json:"version,omitempty"`
	Accepts Accepts `yaml:"accepts" json:"accepts,omitzero"`
	// Worlds is the folder below the server's root that holds the worlds.
	Worlds   string                `yaml:"worlds" json:"worlds"`
	Mods     Sources               `yaml:"mods" json:"mods,omitempty"`
	Settings map[string]Settings   `yaml:"settings" json:"settings"`
	Keys     map[string][]KeyPlace `yaml:"keys" json:"keys"`
	Console  Console               `yaml:"console" json:"console"`
	Waits    Waits                 `yaml:"waits" json:"waits,omitzero"`
	// Join says which key holds the port that players connect to.
	Join KeyPlace `yaml:"join" json:"join,omitzero"`
}

// Kind is a kind of server software for one game.
type Kind struct {
	// Realms is nested (the default) or split.
	Realms string `yaml:"realms" json:"realms,omitempty"`
	// Reads lists the format families that the kind can open. Absent: all.
	Reads *[]string `yaml:"reads" json:"reads,omitempty"`
}

// Accepts is the version rule between a world and a server.
type Accepts struct {
	// Version is any (the default), exact, same-minor or not-newer.
	Version string `yaml:"version" json:"version,omitempty"`
	// Upgrades says that an older world is upgraded for good when opened.
	Upgrades bool `yaml:"upgrades" json:"upgrades,omitempty"`
}

// Settings is one settings document of a server.
type Settings struct {
	File   string `yaml:"file" json:"file"`
	Format string `yaml:"format" json:"format"`
}

// KeyPlace is one place where a setting may stand.
type KeyPlace struct {
	In  string `yaml:"in" json:"in"`
	Key string `yaml:"key" json:"key"`
	// Writes says how a world is named there: folder (its folder name, the
	// default) or path (its path from the server's root).
	Writes string `yaml:"writes" json:"writes,omitempty"`
}

// The keys that Reshard itself understands.
const (
	KeyActiveWorld = "active-world"
	KeySeed        = "seed"
)

// Console says how a running server is understood and spoken to.
type Console struct {
	// Ready matches the line after which players can join.
	Ready Pattern `yaml:"ready" json:"ready"`
	// Opened matches the line that names the opened world, in a group "world".
	Opened Pattern `yaml:"opened" json:"opened"`
	// Refused matches lines that say why the server will not run.
	Refused Pattern `yaml:"refused" json:"refused,omitzero"`
	Stop    Stop    `yaml:"stop" json:"stop"`
	Seed    Ask     `yaml:"seed" json:"seed,omitzero"`
}

// Stop is the clean stop: a line to say, or a signal to send.
type Stop struct {
	Say    string `yaml:"say" json:"say,omitempty"`
	Signal string `yaml:"signal" json:"signal,omitempty"`
	// Expect matches the line that says that everything was written.
	Expect Pattern `yaml:"expect" json:"expect,omitzero"`
}

// Ask is a question at the console; the answer's group "value" is the result.
type Ask struct {
	Say    string  `yaml:"say" json:"say,omitempty"`
	Answer Pattern `yaml:"answer" json:"answer,omitzero"`
}

// Waits bounds how long Reshard waits for a server.
type Waits struct {
	Start  time.Duration `yaml:"start" json:"start,omitempty"`   // default 2m
	Stop   time.Duration `yaml:"stop" json:"stop,omitempty"`     // default 2m
	Settle time.Duration `yaml:"settle" json:"settle,omitempty"` // default 1s: still up this long after ready
}

// Pattern is a regular expression (RE2, linear time) and its source.
type Pattern struct {
	Text string
	re   *regexp.Regexp
}

// UnmarshalYAML keeps the source; Parse compiles it so that a complaint has a line.
func (p *Pattern) UnmarshalYAML(unmarshal func(any) error) error { return unmarshal(&p.Text) }

// MarshalText gives the source.
func (p Pattern) MarshalText() ([]byte, error) { return []byte(p.Text), nil }

// IsZero reports whether there is no pattern.
func (p Pattern) IsZero() bool { return p.Text == "" }

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

// KindNames lists the software kinds in order.
func (p *Profile) KindNames() []string {
	names := make([]string, 0, len(p.Server.Kinds))
	for k := range p.Server.Kinds {
		names = append(names, k)
	}
	sort.Strings(names)
	return names
}

// RealmNames lists the realms in order.
func (p *Profile) RealmNames() []string {
	names := make([]string, 0, len(p.World.Realms))
	for k := range p.World.Realms {
		names = append(names, k)
	}
	sort.Strings(names)
	return names
}

// BadRunes gives the characters of a folder name that the game does not
// allow, each once, in order; empty when the name may be used.
func (f FolderName) BadRunes(name string) []rune {
	var bad []rune
	for _, r := range name {
		ok := r != '/' && r != 0 && r != utf8.RuneError
		if ok && f.allowed != nil {
			ok = f.allowed.MatchString(string(r))
		}
		if !ok && !strings.ContainsRune(string(bad), r) {
			bad = append(bad, r)
		}
	}
	return bad
}

// TooLong reports whether a folder name is longer than the game, or any
// common file system (255 bytes), allows.
func (f FolderName) TooLong(name string) bool {
	return len(name) > 255 || (f.Longest > 0 && utf8.RuneCountInString(name) > f.Longest)
}

// Safe proposes a folder name that the game allows, as near to the given one as
// it can be: runs of characters that are not allowed become one hyphen (or
// underscore, or nothing, whichever is allowed), blanks at the ends go, and
// the length is cut. It is only ever a proposal: a person decides.
func (f FolderName) Safe(name string) string {
	filler := ""
	for _, c := range []string{"-", "_"} {
		if len(f.BadRunes(c)) == 0 {
			filler = c
			break
		}
	}
	var b strings.Builder
	gap := false
	for _, r := range strings.TrimSpace(name) {
		if len(f.BadRunes(string(r))) > 0 {
			gap = true
			continue
		}
		if gap && b.Len() > 0 {
			b.WriteString(filler)
		}
		gap = false
		b.WriteRune(r)
	}
	out := strings.Trim(b.String(), " .")
	for f.TooLong(out) {
		_, size := utf8.DecodeLastRuneInString(out)
		out = out[:len(out)-size]
	}
	out = strings.TrimRight(out, " .")
	if out == "" {
		return "world"
	}
	return out
}
