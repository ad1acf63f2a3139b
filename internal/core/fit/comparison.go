package fit

import "reshard/internal/core/capability"

// The answers to the concern "comparison": BySample takes less time.
const (
	BySample = "sample"
	Whole    = "whole"
)

// ComparedBySample reports whether what is staged is compared by a sample: where that was chosen, and by
// itself where each file that is read back costs as much as one that is sent.
func ComparedBySample(choice string, can capability.Set) bool {
	return choice == BySample || choice != Whole && can.Costly && !can.Hash
}

// comparisonRule: how far will it be known that what stands there is the copy?
var comparisonRule = Rule{Concern: "comparison", Title: "Comparing", check: func(in Input, r *Row) {
	how := "read back"
	if in.Live.Can.Hash {
		how = "hashed there"
	}
	r.Server = Cell{Text: "whole, " + how}
	chosen := in.Choices["comparison"]
	if chosen == BySample || chosen == Whole {
		r.Chosen = chosen
	}
	switch {
	case !ComparedBySample(chosen, in.Live.Can) && in.Live.Can.Hash:
		r.idle("Every staged file is compared by a hash that its host makes.")
	case !ComparedBySample(chosen, in.Live.Can):
		r.idle("Every staged file is read back whole and compared.")
	case chosen == BySample:
		r.Server.Text = "a sample, and all sizes"
		r.say("As chosen: what an earlier changeover has staged there is known by its size and time and not read " +
			"again, of what is sent a sample is compared, and of all files the size.")
	default:
		r.Server.Text = "a sample, and all sizes"
		r.idle("Of all files the size is compared, and of a sample the content: reading every file back takes as " +
			"long again as sending it. Choose comparison=whole to have that done.")
	}
}}
