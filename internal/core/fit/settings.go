package fit

import (
	"fmt"
	"maps"
	"slices"

	"reshard/internal/core/game"
)

// settingsRule: can the settings be read and edited safely, and does any key
// that matters stand in them twice?
var settingsRule = Rule{Concern: "settings", Title: "Settings files", check: func(in Input, r *Row) {
	var names, notes, lost []string
	for _, d := range in.Server.Settings {
		if !d.Absent {
			names = append(names, d.File)
		}
		if d.Absent && in.Server.Keys[game.KeyActiveWorld].In != d.Name {
			notes = append(notes, "there is no "+d.File+", so nothing in it counts")
			continue
		}
		if d.Absent && len(in.Server.NotYet) > 0 && !in.Alone {
			notes = append(notes, "there is no "+d.File+" yet: the first start makes it")
			continue
		}
		if d.Why != "" {
			r.Settings = Cell{Text: "not readable", From: d.File}
			r.block("The settings cannot be read: "+d.Why+".",
				"Correct the file, or start the server once so that it writes one.")
			return
		}
		names = append(names, d.Includes...)
		if len(d.Others) > 0 {
			notes = append(notes, d.File+" is the one that counts on this server's system; "+list(d.Others,
				2)+" is there as well and is not read")
		}
		if in.lost(d.Name) {
			lost = append(lost, d.File)
		}
		if d.ReadOnly {
			notes = append(notes, d.File+" is marked read-only; the plan replaces it as a whole and keeps the mark")
		}
	}
	r.Settings = Cell{Text: list(names, 3)}
	for _, key := range slices.Sorted(maps.Keys(in.Server.Keys)) {
		s := in.Server.Keys[key]
		if len(s.Repeats) > 0 {
			notes = append(notes, fmt.Sprintf("%s stands in %s at %s too; line %d, the last, is the one that counts",
				s.Key, s.File, linesText(s.Repeats), s.Line))
		}
	}
	switch {
	case len(in.Unwritable) > 0:
		r.block("What must be written cannot be: "+list(in.Unwritable, 2)+".",
			"Make that edit by hand, then look at the fit again.")
	case len(lost) > 0 && in.Alone:
		r.adjust(list(lost, 2)+
			" was changed while the server runs, which writes it anew when it stops: the change will be lost.",
			"Stop the server, and make the change then.")
	case len(lost) > 0:
		r.adjust(list(lost, 2)+
			" was changed while the server runs, which writes it anew when it stops: the change will be lost.",
			"Write what this changeover needs after the stop; make any other change again then.")
	case len(notes) > 0:
		r.say("Readable. " + list(notes, 3) + ".")
	default:
		r.say("Readable, and every key stands once.")
	}
}}

func linesText(lines []int) string {
	words := make([]string, 0, len(lines))
	for _, l := range lines {
		words = append(words, itoa(l))
	}
	if len(lines) == 1 {
		return "line " + words[0]
	}
	return "lines " + list(words, 4)
}
