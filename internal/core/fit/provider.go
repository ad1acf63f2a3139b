package fit

import (
	"fmt"
	"strings"
	"time"
)

// Provider is a provider that starts and stops the server, and what is known of how it does.
type Provider struct {
	Title string // "": nobody is known
	// StartedBy is what may start what was stopped, "" nothing. Updates: a start may update the game.
	// KillsAfter is how long a stop may take before the provider ends the process; 0 is not known.
	StartedBy  string
	Updates    bool
	KillsAfter time.Duration
}

// providerRule: what does the provider do by itself that a changeover has to reckon with?
var providerRule = Rule{
	Concern: "provider", Title: "Provider",
	applies: func(in Input) bool { return in.Live.Provider.Title != "" },
	check: func(in Input, r *Row) {
		k := in.Live.Provider
		r.Server = Cell{Text: k.Title}
		var words []string
		if k.StartedBy != "" {
			r.Server.Text += ", starts by itself"
			words = append(words, "A server that is stopped there may be started again by "+k.StartedBy+
				": it is looked at before each step, and stopped again when that has happened.")
		}
		if k.KillsAfter > 0 {
			after := seconds(k.KillsAfter)
			r.Server.Text += ", kills after " + after
			words = append(words, "A stop that takes longer than "+after+
				" is a kill: what the game has not written by then is lost, and the proof says so.")
		}
		if k.Updates {
			r.Server.Text += ", updates at the start"
			words = append(words, "A start may update the game, and the world with it: the version is compared with "+
				"the one before. An undo brings the world back as it was, not the version.")
		}
		if len(words) == 0 {
			r.idle("Its description tells of nothing that it does by itself.")
			return
		}
		r.say(strings.Join(words, " "))
	},
}

// seconds says how long something takes.
func seconds(d time.Duration) string {
	if n := int(d.Minutes()); n > 0 && d%time.Minute == 0 {
		return fmt.Sprintf("%d min", n)
	}
	return fmt.Sprintf("%g s", d.Seconds())
}
