package fit

import (
	"fmt"
	"strings"
	"time"
)

// hostRule: what does the server's host not promise, and what does that mean? What a
// changeover cannot do without is a block.
var hostRule = Rule{Concern: "host", Title: "Host", check: func(in Input, r *Row) {
	lacks := in.Live.Can.Lacks()
	names, words := make([]string, 0, len(lacks)), make([]string, 0, len(lacks))
	for _, l := range lacks {
		names, words = append(names, l.Name), append(words, l.Say)
	}
	r.Server = Cell{Text: orNone(in.Live.Host, "this host")}
	if len(lacks) > 0 {
		r.Server.Text += ", without " + strings.Join(names, ", ")
	}
	switch {
	case in.Live.Can.ReadOnly:
		r.block("The account may not write there.", "Sign in with one that may: reshard hosts change "+in.Live.Host+".")
	case in.Live.Can.NoRename:
		r.block("The host renames nothing: a world cannot be switched there without being out of sight of everybody "+
			"for as "+
			"long as it is sent.", "Ask its provider for another way to its files, such as SFTP, and add that as a "+
			"host.")
	case !in.Live.Can.RenameFolders:
		if cost := in.Live.Renaming(in.World.Files); cost > 0 {
			words = append(words, fmt.Sprintf(
				"For this world's %d files that is about %s, and for the world that is set "+
					"aside again what its files take.", in.World.Files, cost.Round(time.Second)))
		}
		r.say(strings.Join(words, " "))
	case len(lacks) == 0:
		r.idle("The host can do all that a changeover relies on.")
	default:
		r.say(strings.Join(words, " "))
	}
}}

// renameTrips is how many round trips the rename of a file takes over FTP: whether its name is taken
// is asked before, and a rename is two commands (RFC 959, 4.1.3).
const renameTrips = 3

// Renaming is how long so many files take that are renamed one by one, as far as that is known; 0
// where folders are renamed at once.
func (l Live) Renaming(files int) time.Duration {
	if l.Can.RenameFolders {
		return 0
	}
	return time.Duration(files*renameTrips) * l.RoundTrip
}
