package fit

// BySample is the answer to the concern "comparison" that takes less time.
const BySample = "sample"

// comparisonRule: how far will it be known that what stands there is the copy?
var comparisonRule = Rule{Concern: "comparison", Title: "Comparing", check: func(in Input, r *Row) {
	how := "read back"
	if in.Live.Can.Hash {
		how = "hashed there"
	}
	r.Server = Cell{Text: "whole, " + how}
	if in.Choices["comparison"] == BySample {
		r.Server.Text = "a sample, and all sizes"
		r.Chosen = BySample
		r.say("As chosen: what an earlier changeover has staged there is known by its size and time and not read " +
			"again, of what is sent a sample is compared, and of all files the size.")
		return
	}
	if in.Live.Can.Hash {
		r.idle("Every staged file is compared by a hash that its host makes.")
	} else {
		r.idle("Every staged file is read back whole and compared.")
	}
}}
