package fit

import "strings"

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
	case !in.Live.Can.RenameFolders:
		r.block(strings.Join(words, " "), "Reshard does not change worlds on such a host yet.")
	case len(lacks) == 0:
		r.idle("The host can do all that a changeover relies on.")
	default:
		r.say(strings.Join(words, " "))
	}
}}
