package keep

import (
	"fmt"
	"strings"
	"time"

	"reshard/internal/core/fault"
)

// Rule is when a server is backed up, what of it, how long and how much is kept.
type Rule struct {
	When
	// World is the one world that is backed up, by its name on disk; "" is all worlds, the settings and
	// what the server was.
	World string `json:"world,omitempty"`
	// MayStop lets a server that cannot hold its writes be stopped for a moment; else it is copied until
	// two looks at it agree.
	MayStop bool `json:"mayStop,omitempty"`
	// Long is how long backups are kept, as a sentence; see ParseLong.
	Long Long `json:"long" example:"all for 2 days, then one a day for 3 weeks, then one a month for ever"`
	Allowance
	// Slots is what is done with the provider's own backups each time: make one more, or make one and,
	// where there is no room for it, remove the provider's oldest, which nobody can bring back. "": nothing.
	Slots string `json:"slots,omitempty" enum:"make,replace"`
}

// What a rule does with a provider's own backups.
const (
	SlotsMake    = "make"
	SlotsReplace = "replace"
)

// Check says what is wrong with a rule, nil when nothing is.
func (r Rule) Check() error {
	if err := r.When.Check(); err != nil {
		return err
	}
	switch {
	case len(r.Long) == 0:
		return fault.New(fault.Invalid, "read", "rule", "it does not say how long backups are kept").
			With("Say it like: all for 2 days, then one a day for 3 weeks, then one a month for ever")
	case r.Number < 0, r.Bytes < 0:
		return fault.New(fault.Invalid, "read", "rule", "an allowance is less than nothing")
	case r.Number == 1:
		return fault.New(fault.Invalid, "read", "rule",
			"an allowance of one backup leaves none while the next is made").
			With("Allow two at least.")
	case r.Slots != "" && r.Slots != SlotsMake && r.Slots != SlotsReplace:
		return fault.New(fault.Invalid, "read", "rule", "%q is not what can be done with a provider's backups",
			r.Slots).
			With("Give make or replace.")
	}
	return nil
}

// String says a rule in a sentence.
func (r Rule) String() string {
	what := "everything"
	if r.World != "" {
		what = r.World
	}
	out := what + ", " + r.When.String() + "; kept: " + r.Long.String()
	var most []string
	if r.Number > 0 {
		most = append(most, fmt.Sprintf("%d backups", r.Number))
	}
	if r.Bytes > 0 {
		most = append(most, size(r.Bytes))
	}
	if len(most) > 0 {
		out += "; at most " + strings.Join(most, " and ")
	}
	if r.MayStop {
		out += "; may stop the server for a moment"
	}
	switch r.Slots {
	case SlotsMake:
		out += "; one of the provider's own each time"
	case SlotsReplace:
		out += "; one of the provider's own each time, in place of its oldest where there is no room"
	}
	return out
}

func size(n int64) string {
	f, unit := float64(n), "B"
	for _, u := range []string{"kB", "MB", "GB", "TB"} {
		if f < 1000 {
			break
		}
		f, unit = f/1000, u
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", f), ".0") + " " + unit
}

// Late is how long after it was due a backup counts as late.
const Late = 30 * time.Minute
