// Package compare tells in what two stored states of worlds differ: what they say of
// themselves, settings, players and files, and in words.
package compare

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"reshard/internal/core/game"
	"reshard/internal/core/world"
)

// State is one of the two.
type State struct {
	World world.Facts
	// Files are its files, realms inside, by path.
	Files map[string]File
}

// File is one file: its size in bytes, and a text that is another one for other content.
type File struct {
	Size    int64
	Content string
}

// Comparison is what has become of a world.
type Comparison struct {
	// what there is to say, the most important first
	Words []string     `json:"words"`
	Facts []Difference `json:"facts"`
	// values that belong to the world and were taken along from a server
	Settings []Difference `json:"settings"`
	Players  Players      `json:"players"`
	Files    Files        `json:"files"`
	// tiles; absent: nothing is drawn of this game, or it cannot be compared
	Map *world.Differences `json:"map,omitempty"`
	// files that differ, the largest first; at most 1,000
	Changes []FileChange `json:"changes"`
}

// Difference is a value that is another one now; "" where it is not known.
type Difference struct {
	Name   string `json:"name"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Players are the records that differ.
type Players struct {
	Added   []world.Player `json:"added"`
	Lost    []world.Player `json:"lost"`
	Changed []world.Player `json:"changed"`
	Same    int            `json:"same"`
}

// Files counts files, and the bytes of each lot: of changed ones those they have now.
type Files struct {
	Added   Count `json:"added"`
	Changed Count `json:"changed"`
	Lost    Count `json:"lost"`
	Same    Count `json:"same"`
}

// Count is a number of files and their bytes.
type Count struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
}

func (c *Count) add(bytes int64) { c.Files++; c.Bytes += bytes }

// FileChange is a file that differs; a size is -1 where there is none.
type FileChange struct {
	Path string `json:"path"`
	What string `json:"what" enum:"added,changed,lost"`
	// bytes; -1: it was not there
	Before int64 `json:"before"`
	// bytes; -1: it is not there
	After int64 `json:"after"`
}

// mostChanges bounds the list of files.
const mostChanges = 1000

// Of compares two states of worlds of one game, the earlier one first.
func Of(before, after State, profile *game.Profile) Comparison {
	c := Comparison{
		Facts:    facts(before.World, after.World),
		Settings: settings(before.World.Settings, after.World.Settings),
	}
	c.Players = players(before, after, profile)
	c.Files, c.Changes = files(before.Files, after.Files)
	return c
}

func facts(a, b world.Facts) []Difference {
	out := []Difference{}
	add := func(name, before, after string) {
		if before != after {
			out = append(out, Difference{name, before, after})
		}
	}
	add("title", a.Title, b.Title)
	add("folder name", a.Folder, b.Folder)
	names := []string{}
	for _, w := range []world.Facts{a, b} {
		for name := range w.Facts {
			if name != "title" && name != "last-played" && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	for _, name := range names {
		add(name, told(a, name), told(b, name))
	}
	add("last played", stamp(a.LastPlayed), stamp(b.LastPlayed))
	add("realms", strings.Join(a.Realms, ", "), strings.Join(b.Realms, ", "))
	return out
}

func told(w world.Facts, name string) string {
	f := w.Fact(name)
	if !f.Known() {
		return ""
	}
	if len(f.Items) == 0 {
		return f.Text
	}
	var items []string
	for _, it := range f.Items {
		items = append(items, strings.TrimSpace(it.Name+" "+it.Version))
	}
	slices.Sort(items)
	return strings.Join(items, ", ")
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func settings(a, b map[string]string) []Difference {
	out := []Difference{}
	for key, before := range a {
		if after := b[key]; after != before {
			out = append(out, Difference{key, before, after})
		}
	}
	for key, after := range b {
		if _, was := a[key]; !was {
			out = append(out, Difference{key, "", after})
		}
	}
	slices.SortFunc(out, func(x, y Difference) int { return strings.Compare(x.Name, y.Name) })
	return out
}

func players(before, after State, profile *game.Profile) Players {
	out := Players{Added: []world.Player{}, Lost: []world.Player{}, Changed: []world.Player{}}
	find := func(list []world.Player, id string) bool {
		return slices.ContainsFunc(list, func(p world.Player) bool { return p.ID == id })
	}
	for _, p := range after.World.Players {
		switch {
		case !find(before.World.Players, p.ID):
			out.Added = append(out.Added, p)
		case recordOf(before, profile, p.ID) != recordOf(after, profile, p.ID):
			out.Changed = append(out.Changed, p)
		default:
			out.Same++
		}
	}
	for _, p := range before.World.Players {
		if !find(after.World.Players, p.ID) {
			out.Lost = append(out.Lost, p)
		}
	}
	return out
}

// recordOf gives what stands in a player's own file, "" where players have none.
func recordOf(s State, profile *game.Profile, id string) string {
	pl := profile.World.Players
	if pl == nil || pl.Each == "" {
		return ""
	}
	return s.Files[path.Clean(strings.ReplaceAll(pl.Each, "{id}", id))].Content
}

func files(a, b map[string]File) (Files, []FileChange) {
	var n Files
	changes := []FileChange{}
	for name, now := range b {
		old, was := a[name]
		switch {
		case !was:
			n.Added.add(now.Size)
			changes = append(changes, FileChange{name, "added", -1, now.Size})
		case old.Content != now.Content:
			n.Changed.add(now.Size)
			changes = append(changes, FileChange{name, "changed", old.Size, now.Size})
		default:
			n.Same.add(now.Size)
		}
	}
	for name, old := range a {
		if _, is := b[name]; !is {
			n.Lost.add(old.Size)
			changes = append(changes, FileChange{name, "lost", old.Size, -1})
		}
	}
	slices.SortFunc(changes, func(x, y FileChange) int {
		return cmp.Or(cmp.Compare(max(y.Before, y.After), max(x.Before, x.After)), strings.Compare(x.Path, y.Path))
	})
	return n, changes[:min(len(changes), mostChanges)]
}

// Say puts the comparison into words, once the map is known.
func (c *Comparison) Say() {
	c.Words = []string{}
	say := func(format string, args ...any) { c.Words = append(c.Words, fmt.Sprintf(format, args...)) }
	f := c.Files
	if f.Added.Files+f.Changed.Files+f.Lost.Files == 0 {
		say("Every file is the same in both.")
	}
	for _, name := range []string{"world-id", "seed"} {
		if i := slices.IndexFunc(
			c.Facts, func(d Difference) bool { return d.Name == name && d.Before != "" && d.After != "" }); i >= 0 {
			say("They are two worlds: the %s was %s and is %s.", name, c.Facts[i].Before, c.Facts[i].After)
		}
	}
	if m := c.Map; m != nil {
		switch {
		case m.Added+m.Changed+m.Lost == 0:
			say("The map is the same: %s.", count(m.Same, "tile", "tiles"))
		default:
			say("On the map %s.", list(part(m.Added, "new tile", "new tiles"),
				part(m.Changed, "changed tile", "changed tiles"), part(m.Lost, "lost tile", "lost tiles"),
				part(m.Same, "tile as it was", "tiles as they were")))
		}
		if m.Lost > 0 && m.Lost >= m.Same+m.Changed {
			say("Most of what was explored is not there any more.")
		}
	}
	p := c.Players
	if words := list(people("came", p.Added), people("changed", p.Changed), people("are gone", p.Lost)); words != "" {
		say("Players: %s.", words)
	}
	for _, d := range c.Facts {
		if d.Name != "world-id" && d.Name != "seed" && d.Name != "last played" {
			say("The %s was %s and is %s.", d.Name, shown(d.Before), shown(d.After))
		}
	}
	for _, d := range c.Settings {
		say("The setting %s was %s and is %s.", d.Name, shown(d.Before), shown(d.After))
	}
	if f.Added.Files+f.Changed.Files+f.Lost.Files > 0 {
		say("Of the files %s.", list(part(f.Added.Files, "is new", "are new"),
			part(f.Changed.Files, "is changed", "are changed"), part(f.Lost.Files, "is lost", "are lost"),
			part(f.Same.Files, "is the same", "are the same")))
	}
}

func shown(s string) string {
	if s == "" {
		return "not told"
	}
	return fmt.Sprintf("“%s”", s)
}

func part(n int, one, many string) string {
	if n == 0 {
		return ""
	}
	return count(n, one, many)
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func people(verb string, players []world.Player) string {
	if len(players) == 0 {
		return ""
	}
	var names []string
	for _, p := range players {
		names = append(names, cmp.Or(p.Name, p.ID))
	}
	if len(names) > 5 {
		return fmt.Sprintf("%d %s", len(names), verb)
	}
	return strings.Join(names, ", ") + " " + strings.Replace(verb, "are gone",
		map[bool]string{true: "is gone", false: "are gone"}[len(names) == 1], 1)
}

func list(parts ...string) string {
	parts = slices.DeleteFunc(parts, func(s string) bool { return s == "" })
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}
