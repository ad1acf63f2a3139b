package fit

import (
	"fmt"
	"strings"

	"reshard/internal/core/game"
)

// playersRule: whose records does the world bring, and do they mean anything on a
// server? Who played alone stands under an id that no player of a server has.
var playersRule = Rule{Concern: "players", Title: "Player records", check: func(in Input, r *Row) {
	pl := in.Profile.World.Players
	n := in.World.PlayerTotal()
	r.World = Cell{Text: "none"}
	if pl == nil {
		r.idle("The game profile does not say where player records stand; what the world holds is carried.")
		return
	}
	if active, ok := in.Server.World(in.Server.Active); ok && !in.Alone && in.Purpose == ForPut {
		r.Server = Cell{Text: "stays with " + quote(active.Folder) + ", set aside"}
	}
	host := hostOf(in)
	if n == 0 {
		r.idle("The world brings no player records: everybody starts anew.")
		return
	}
	r.World = Cell{Text: fmt.Sprintf("%d: %s", n, list(names(in), 4)), From: pl.Each}
	if pl.Rows != nil {
		r.World.From = pl.Rows.Read
	}
	if host != "" {
		r.World.Text += "; " + host + " played alone"
	}
	if host == "" || in.Alone || in.here() {
		r.say(fmt.Sprintf("%s as they are.", counted(n, "record is carried", "records are carried")))
		if in.Alone || in.here() {
			r.say(counted(n, "record.", "records."))
			return
		}
		if in.Choices["players"] == "strip" && pl.Each != "" {
			r.adjust(counted(n, "record is in the world.", "records are in the world."),
				"You chose: leave them behind; everybody starts anew.")
		}
		return
	}
	r.choose(host+" stands under "+pl.Host+
		", the id of who plays alone. On a server that id is nobody's: whoever joins as "+host+
		" finds an empty character.",
		"Decide what happens to the records.", playerOptions(pl, n, host)...)
	answered(in, r)
}}

func playerOptions(pl *game.Players, n int, host string) []Option {
	options := []Option{
		{
			Answer: "keep",
			Say:    fmt.Sprintf("Keep all %d as they are; %s begins anew, and the old record stays unused.", n, host),
		},
	}
	if pl.Each != "" {
		options = append(options, Option{
			Answer: "strip",
			Say:    fmt.Sprintf("Leave all %d behind: everybody starts anew. The library's copy keeps them.", n),
		})
	}
	return options
}

func hostOf(in Input) string {
	for _, p := range in.World.Players {
		if p.Host {
			return orNone(p.Name, "the host")
		}
	}
	return ""
}

func names(in Input) []string {
	out := make([]string, 0, len(in.World.Players))
	for _, p := range in.World.Players {
		out = append(out, orNone(p.Name, p.ID))
	}
	return out
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return itoa(n) + " " + many
}

// eachPattern makes a pattern of the path of one record.
func eachPattern(each string) string { return strings.ReplaceAll(each, "{id}", "*") }
