package fit

import "github.com/dustin/go-humanize"

// spareBytes is left free on purpose: a server on a full disk cannot save.
const spareBytes = 64 << 20

// spaceRule: does the world fit beside the live one, on one file system?
var spaceRule = Rule{Concern: "space", Title: "Free space", check: func(in Input, r *Row) {
	need := in.World.Bytes
	r.World = Cell{Text: humanize.IBytes(uint64(need)) + " in " + counted(in.World.Files, "file", "files")}
	switch {
	case !in.Live.SameFilesystem:
		r.Server = Cell{Text: "worlds on another file system"}
		r.block("The worlds folder is on another file system than the folder above it, so a world cannot be placed "+
			"by a rename.",
			"Move the server so that both are on one file system.")
	case in.Live.FreeBytes < 0:
		r.Server = Cell{Text: "free space not known"}
		r.say("The host does not tell how much is free; staging finds out before anything is stopped.")
	case in.Live.FreeBytes < need+spareBytes:
		r.Server = Cell{Text: humanize.IBytes(uint64(in.Live.FreeBytes)) + " free"}
		r.block("The world is staged beside the live one, which is kept: that takes "+humanize.IBytes(
			uint64(need))+" and "+humanize.IBytes(
			spareBytes)+" to spare.",
			"Free space on the server's disk.")
	default:
		r.Server = Cell{Text: humanize.IBytes(uint64(in.Live.FreeBytes)) + " free"}
		r.say("There is room for both worlds.")
	}
}}

// roomRule: is there room where a changeover must be able to write, that brings no world itself: on the server's disk,
// for its settings and the game's own first writes, and in the service's data folder, where it keeps what the server
// prints? It is asked only where there is too little.
var roomRule = Rule{
	Concern: "room", Title: "Room to switch",
	applies: func(in Input) bool { return in.Live.DataShort != "" || in.shortOfRoom() },
	check: func(in Input, r *Row) {
		if in.Live.DataShort != "" {
			r.Server = Cell{Text: "the service's own disk is full"}
			r.block(in.Live.DataShort, "Free space on the disk of the service's data folder.")
			return
		}
		r.Server = Cell{Text: humanize.IBytes(uint64(in.Live.FreeBytes)) + " free"}
		r.block("A server on a full disk cannot save, and may not start again.", "Free space on the server's disk: "+
			humanize.IBytes(spareBytes)+" are enough.")
	},
}

// shortOfRoom reports whether there is too little on the server's disk for a switch.
func (in Input) shortOfRoom() bool { return in.Live.FreeBytes >= 0 && in.Live.FreeBytes < spareBytes }
