package fit

import "reshard/internal/core/life"

// locksRule: is a file there that says that something has a world open?
var locksRule = Rule{Concern: "locks", Title: "Lock files", check: func(in Input, r *Row) {
	active, _ := in.Server.World(in.Server.Active)
	r.Server = Cell{Text: orNone(list(active.Locks, 3), "none")}
	if !in.Alone && in.Purpose != ForRename && in.Purpose != ForReset {
		r.World = Cell{Text: orNone(list(in.World.Locks, 3), "none")}
	}
	switch {
	case len(active.Locks) > 0 && in.Live.State == life.Stopped:
		r.choose(list(active.Locks, 3)+
			" says that the active world is open, and the server is stopped: another program may have it open, or "+
			"its last end was not clean.",
			"Look for another server on this folder, then go on.",
			Option{Answer: "go-on", Say: "Nothing else has it open: take the lock for a leftover."})
		answered(in, r)
	case in.Purpose == ForSwitch && len(in.World.Locks) > 0:
		r.choose(list(in.World.Locks, 3)+
			" says that the world is open already: another program may have it open, or its last end was not clean.",
			"Look for another server on this folder, then go on.",
			Option{Answer: "go-on", Say: "Nothing else has it open: take the lock for a leftover."})
		answered(in, r)
	case in.Purpose == ForPut && !in.Alone && len(in.World.Locks) > 0,
		in.Purpose == ForBeside && len(in.World.Locks) > 0:
		r.choose(list(in.World.Locks, 3)+
			" was in the world when it was sent: it was open, or not closed cleanly, so its last minutes may be "+
			"missing or half written.",
			"Close the game and send the world again, or go on.",
			Option{Answer: "go-on", Say: "Take the world as it is. The lock itself is never carried."})
		answered(in, r)
	case len(active.Locks) > 0:
		r.say("The running server holds its world, as it should.")
	default:
		r.idle("Nothing has a world open.")
	}
}}
