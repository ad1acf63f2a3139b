package world

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"reshard/internal/core/fact"
)

// What a world says of itself is stored with each copy, listed and drawn. These bound it: in
// characters, and in how many there are.
const (
	longestTitle   = 200
	longestName    = 120 // of a player, an id, a mod
	longestWarning = 400
	mostWarnings   = 50
	mostPlayers    = 2_000 // that are kept; how many there are is counted
	mostItems      = 500   // of a list
	mostNames      = 100   // of locks, overrides, missing parts
)

// shown makes a text of a world's fit to be kept: of characters that can be stored, and of
// at most so many. What is cut ends in an ellipsis.
func shown(text string, most int) string {
	text = strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\x00", "\ufffd")
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	return string([]rune(text)[:most-1]) + "…"
}

// bound cuts what a world says of itself to what is kept of it.
func (w *Facts) bound() {
	w.Title = shown(w.Title, longestTitle)
	w.PlayerCount = len(w.Players)
	// Who played alone is asked about by name, however many others there are.
	kept := w.Players[:0:0]
	for i, p := range w.Players {
		if i < mostPlayers || p.Host {
			p.ID, p.Name = shown(p.ID, longestName), shown(p.Name, longestName)
			kept = append(kept, p)
		}
	}
	w.Players = kept
	if w.Players == nil {
		w.Players = []Player{}
	}
	for name, f := range w.Facts {
		w.Facts[name] = boundFact(f)
	}
	w.Warnings = atMost(w.Warnings, mostWarnings, longestWarning)
	w.Locks = atMost(w.Locks, mostNames, longestWarning)
	w.Overrides = atMost(w.Overrides, mostNames, longestWarning)
	w.Missing = atMost(w.Missing, mostNames, longestWarning)
}

func boundFact(f fact.Fact) fact.Fact {
	f.Why, f.Place, f.How = shown(f.Why, longestWarning), shown(f.Place, longestWarning), shown(f.How, longestWarning)
	f.Text = strings.ReplaceAll(f.Text, "\x00", "\ufffd")
	if len(f.Items) > mostItems {
		f.Why = fmt.Sprintf("it lists %d, more than the %d that are kept", len(f.Items), mostItems)
		f.Items = nil
	}
	for i, it := range f.Items {
		f.Items[i] = fact.Item{
			ID: shown(it.ID, longestName), Name: shown(it.Name, longestName), Version: shown(it.Version, longestName),
		}
	}
	return f
}

// atMost gives the first texts of a list, and says how many more there are.
func atMost(list []string, most, longest int) []string {
	rest := len(list) - most
	if rest > 0 {
		list = list[:most]
	}
	for i := range list {
		list[i] = shown(list[i], longest)
	}
	if rest > 0 {
		list = append(list, fmt.Sprintf("and %d more", rest))
	}
	return list
}

// PlayerTotal is how many player records the world has, kept or not.
func (w Facts) PlayerTotal() int { return max(w.PlayerCount, len(w.Players)) }
