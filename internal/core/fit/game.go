package fit

import (
	"slices"
	"strconv"
	"strings"
)

func itoa(n int) string { return strconv.Itoa(n) }

// gameRule: is it a world of the server's game, and of a format family that the
// kind of server software reads?
var gameRule = Rule{Concern: "game", Title: "Game and family", check: func(in Input, r *Row) {
	family := in.World.Fact("family")
	r.World = Cell{Text: in.World.Game, From: in.World.Why}
	if family.Known() {
		r.World = Cell{Text: in.World.Game + ", family " + family.Text, From: family.File}
	}
	kind := in.Profile.Server.Kinds[in.Server.Kind]
	r.Server = Cell{Text: in.Server.Game + ", kind " + in.Server.Kind}
	if in.World.Game != in.Server.Game {
		r.block("The world is of the game "+in.World.Game+", the server runs "+in.Server.Game+".",
			"Choose a server of the game "+in.World.Game+".")
		return
	}
	if kind.Reads == nil {
		r.say("The server runs this game.")
		return
	}
	r.Server.Text += ", reads " + orNone(strings.Join(*kind.Reads, ", "), "no family of this game")
	switch {
	case !family.Known():
		r.choose("The world's format family could not be read ("+family.Why+
			"), so nobody can say whether the server opens it.",
			"Go on only if you know that this world was made by this kind of server.",
			Option{
				Answer: "go-on",
				Say: "Treat the world as one that the server can open. If it cannot, the proof fails and the old " +
					"world comes back.",
			})
		answered(in, r)
	case !slices.Contains(*kind.Reads, family.Text):
		r.block("A "+in.Server.Kind+" server does not read the family "+quote(
			family.Text)+": it would ignore the world or make a new one.",
			"Choose a server of a kind that reads "+family.Text+".")
	default:
		r.say("The server runs this game and reads the world's family.")
	}
}}
