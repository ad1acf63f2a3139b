package fit

import "github.com/dustin/go-humanize"

// roomRule: is there room where a changeover must be able to write, that brings no world itself: on the server's disk,
// for its settings and the game's own first writes, and in the service's data folder, where it keeps what the server
// prints? It is asked only where there is too little.
var roomRule = Rule{
	Concern: "room", Title: "Room to switch",
	applies: func(in Input) bool {
		asked := in.Purpose == ForPut // by the rule for the world's own space
		return in.Live.DataShort != "" || !asked && in.shortOfRoom()
	},
	check: func(in Input, r *Row) {
		if in.Live.DataShort != "" {
			r.Server = Cell{Text: "the service's own disk is full"}
			r.block(in.Live.DataShort, "Free space on the disk of the service's data folder.")
			return
		}
		r.Server = Cell{Text: humanize.IBytes(uint64(in.Live.FreeBytes)) + " free"}
		r.block("A server on a full disk cannot save, and may not start again.", in.freeMore(spareBytes))
	},
}

// shortOfRoom reports whether there is too little on the server's disk for a switch.
func (in Input) shortOfRoom() bool { return in.Live.FreeBytes >= 0 && in.Live.FreeBytes < spareBytes }

// freeMore says how much space is missing on the server's disk when so much is wanted, in bytes.
func (in Input) freeMore(wanted int64) string {
	return "Free " + humanize.IBytes(uint64(wanted-in.Live.FreeBytes)) + " more on the server's disk."
}
