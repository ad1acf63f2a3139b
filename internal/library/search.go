package library

import (
	"slices"
	"strings"

	"golang.org/x/text/cases"

	"reshard/internal/core/world"
	"reshard/internal/wire"
)

// Search is what a person looks for in the library: words, all of which a world must
// have somewhere in what is told of it, and what one of its copies must say. Empty ones
// ask for nothing.
type Search struct {
	Words, Game, Server, Tag string
	Seed, Version, Player    string
	// Aside asks for what is set aside, and only that.
	Aside bool
}

// finds reports whether a world is looked for.
func (q Search) finds(w wire.World) bool {
	fold := cases.Fold()
	same := func(a, b string) bool { return fold.String(a) == fold.String(b) }
	switch {
	case q.Game != "" && w.Game != q.Game,
		q.Server != "" && !slices.ContainsFunc(w.Servers, func(s string) bool { return same(s, q.Server) }),
		q.Tag != "" && !slices.ContainsFunc(w.Tags, func(t string) bool { return same(t, q.Tag) }),
		!slices.ContainsFunc(w.Copies, func(c wire.Copy) bool { return q.saidBy(c, same) }):
		return false
	}
	told := fold.String(strings.Join(toldOf(w), "\n"))
	for _, word := range strings.Fields(q.Words) {
		if !strings.Contains(told, fold.String(word)) {
			return false
		}
	}
	return true
}

func (q Search) saidBy(c wire.Copy, same func(a, b string) bool) bool {
	return (q.Seed == "" || c.Facts.Fact("seed").Text == q.Seed) &&
		(q.Version == "" || c.Facts.Fact("version").Text == q.Version) &&
		(q.Player == "" ||
			slices.ContainsFunc(c.Facts.Players,
				func(p world.Player) bool { return same(p.Name, q.Player) || same(p.ID, q.Player) }))
}

// toldOf is what a person may remember of a world: its names, its facts, who plays in
// it, and where its copies came from.
func toldOf(w wire.World) []string {
	out := append([]string{w.Name, w.Title, w.Game, w.Note}, append(w.Tags, w.Servers...)...)
	for _, c := range w.Copies {
		out = append(out, c.ID, c.Kind, c.Note, c.Source, c.CreatedBy, c.Facts.Title, c.Facts.Folder)
		for _, f := range c.Facts.Facts {
			out = append(out, f.Text)
			for _, it := range f.Items {
				out = append(out, it.Name)
			}
		}
		for _, p := range c.Facts.Players {
			out = append(out, p.Name, p.ID)
		}
	}
	return out
}
