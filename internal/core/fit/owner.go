package fit

// ownerRule: will the server be able to write what is placed? What is placed belongs to
// the account that the replaced world belongs to, where the host lets that be done.
var ownerRule = Rule{Concern: "owner", Title: "Owner of files", check: func(in Input, r *Row) {
	r.Server = Cell{Text: orNone(in.Live.Owner, "not known"), From: in.Server.WorldsFolder}
	switch {
	case in.Live.Owner == "":
		r.say("Whom the server's worlds belong to is not known there: the proof shows whether the server may write " +
			"the new one, as far as it can be seen.")
	case in.Live.OwnerKept:
		r.idle("What is placed will belong to whom the worlds there belong to, with the same modes.")
	default:
		r.choose("What is placed will belong to "+orNone(in.Live.Can.Account,
			"the account of Reshard")+", and not to "+in.Live.Owner+
			", whom the worlds there belong to: a server that runs as that account could not save.",
			"Let Reshard run as root or as that account, or go on.",
			Option{Answer: "go-on", Say: "The server runs as an account that may write it. The proof looks."})
		answered(in, r)
	}
}}
