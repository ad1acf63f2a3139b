package fit

import "fmt"

// settingsRule: can the settings be read and edited safely, and does any key
// that matters stand in them twice?
var settingsRule = Rule{Concern: "settings", Title: "Settings files", check: func(in Input, r *Row) {
	var names, repeats []string
	for _, d := range in.Server.Settings {
		names = append(names, d.File)
		if d.Why != "" {
			r.Settings = Cell{Text: "not readable", From: d.File}
			r.block("The settings cannot be read: "+d.Why+".", "Correct the file, or start the server once so that it writes one.")
			return
		}
	}
	for _, key := range []string{"active-world", "seed"} {
		s := in.Server.Keys[key]
		if len(s.Repeats) > 0 {
			repeats = append(repeats, fmt.Sprintf("%s stands in %s at lines %v too; line %d, the last, is the one that counts", s.Key, s.File, s.Repeats, s.Line))
		}
	}
	r.Settings = Cell{Text: list(names, 3)}
	if len(repeats) > 0 {
		r.say("A key is repeated: " + list(repeats, 2) + ". The plan edits that one.")
		return
	}
	r.say("Readable, and every key stands once.")
}}
