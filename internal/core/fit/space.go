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
			in.freeMore(need+spareBytes))
	default:
		r.Server = Cell{Text: humanize.IBytes(uint64(in.Live.FreeBytes)) + " free"}
		r.say("There is room for both worlds.")
	}
}}
