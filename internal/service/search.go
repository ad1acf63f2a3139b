package service

import (
	"strings"

	"golang.org/x/text/cases"

	"reshard/internal/wire"
)

// Search is what a person looks for in the library: words, all of which a world must
// have somewhere in what is told of it, and a game. Empty ones ask for nothing.
type Search struct {
	Words string
	Game  string
}

// finds reports whether a world is looked for.
func (q Search) finds(w wire.World) bool {
	if q.Game != "" && w.Game != q.Game {
		return false
	}
	fold := cases.Fold()
	told := fold.String(strings.Join(toldOf(w), "\n"))
	for _, word := range strings.Fields(q.Words) {
		if !strings.Contains(told, fold.String(word)) {
			return false
		}
	}
	return true
}

// toldOf is what a person may remember of a world: its names, its facts, who plays in
// it, and where its copies came from.
func toldOf(w wire.World) []string {
	out := []string{w.Name, w.Title, w.Game}
	for _, c := range w.Copies {
		out = append(out, c.ID, c.Kind, c.Source, c.CreatedBy, c.Facts.Title, c.Facts.Folder)
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
