package fit

import (
	"maps"
	"path"
	"slices"
)

// completenessRule: is the copy whole, as far as its files tell?
var completenessRule = Rule{Concern: "completeness", Title: "Completeness", check: func(in Input, r *Row) {
	w := in.World
	r.World = Cell{Text: counted(w.Files, "file", "files")}
	reasons := map[string][]string{} // facts by what is wrong with their file
	for _, name := range slices.Sorted(maps.Keys(w.Facts)) {
		if f := w.Facts[name]; f.Damaged {
			reasons[f.Why] = append(reasons[f.Why], name)
		}
	}
	var damaged []string
	for _, why := range slices.Sorted(maps.Keys(reasons)) {
		damaged = append(damaged, why+" (so "+list(reasons[why], 8)+" cannot be read)")
	}
	var words string
	switch {
	case len(w.Missing) > 0:
		words = "A whole world has " + list(w.Missing,
			4) + ", and this one lacks it: the copy may have been cut short, or nobody has been there yet."
	case len(damaged) > 0:
		words = "Files do not read. " + list(damaged, 3) + "."
	default:
		r.say("Everything is there that the game profile names.")
		if n := len(w.Wrappers); n > 0 && !in.Alone {
			r.Say += " It stood inside of " + path.Join(w.Wrappers...) + "; only the world itself is carried."
		}
		return
	}
	r.choose(words, "Send the world again from where it was whole, or go on.",
		Option{Answer: "go-on", Say: "Go on with the world as it is; the server may refuse it or make parts anew."})
	answered(in, r)
}}
