package fit

import (
	"strconv"
	"strings"
)

// versionRule: can the server's version open a world that another version wrote?
var versionRule = Rule{Concern: "version", Title: "Version", check: func(in Input, r *Row) {
	rule := in.Profile.Server.Accepts
	wv := in.World.Fact("version")
	sv, from := in.Server.Version.Text, in.Server.Version.File
	if !in.Server.Version.Known() {
		sv, from = in.Live.DeclaredVersion, "declared by a person"
	}
	r.World = Cell{Text: orNone(wv.Text, "not known"), From: wv.File}
	r.Server = Cell{Text: orNone(sv, "not known"), From: from}
	if sv == "" {
		r.Server.From = ""
	}
	if rule.Version == "any" {
		r.say("The game opens worlds of any version.")
		return
	}
	if !wv.Known() || sv == "" {
		r.choose("The versions cannot be compared: "+unknownSide(wv.Known(), sv != "")+".",
			"Find out, or go on at your own risk: the library keeps the copy, and undo brings the old world back.",
			Option{Answer: "go-on", Say: "Let the server try to open it."})
		answered(in, r)
		return
	}
	order := CompareVersions(wv.Text, sv)
	switch {
	case order == 0:
		r.say("World and server have the same version.")
	case rule.Version == "exact":
		r.block("The world was written by "+wv.Text+"; the server opens worlds of exactly "+sv+".", "Bring the server to version "+wv.Text+".")
	case rule.Version == "same-minor" && minor(wv.Text) != minor(sv):
		r.block("The world was written by "+wv.Text+"; the server opens worlds of "+minor(sv)+".* only.", "Bring the server to a version "+minor(wv.Text)+".*.")
	case order > 0:
		r.block("The world was written by "+wv.Text+", newer than the server's "+sv+": an older server cannot read it, or damages it.", "Bring the server to "+wv.Text+" or newer.")
	case rule.Upgrades:
		r.adjust("The server's "+sv+" is newer and upgrades the world for good when it opens it.",
			"Nothing to write. The library's copy stays at "+wv.Text+"; there is no other way back to it.")
	default:
		r.say("The server is newer and reads worlds of " + wv.Text + ".")
	}
}}

// answered turns a choice into an adjustment when the person has said go-on.
func answered(in Input, r *Row) {
	if in.Choices[r.Concern] == "go-on" {
		r.Verdict = Adjust
		r.Mend = "You chose to go on."
		r.Options = []Option{}
	}
}

func unknownSide(world, server bool) string {
	switch {
	case !world && !server:
		return "neither the world's nor the server's is known"
	case !world:
		return "the world does not say which version wrote it"
	}
	return "the server's version is not known"
}

func minor(v string) string {
	parts := strings.SplitN(v, ".", 3)
	if len(parts) < 2 {
		return v
	}
	return parts[0] + "." + parts[1]
}

// CompareVersions orders two versions by their dotted parts: numbers by value,
// others as text; a missing part counts as 0. A part with a hyphenated tail
// ("2.1-beta") comes before the one without, as in semver.org, section 11.
func CompareVersions(a, b string) int {
	a, preA, _ := strings.Cut(a, "-")
	b, preB, _ := strings.Cut(b, "-")
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(as), len(bs)) {
		if c := compareParts(partAt(as, i), partAt(bs, i)); c != 0 {
			return c
		}
	}
	switch {
	case preA == preB:
		return 0
	case preA == "":
		return 1
	case preB == "":
		return -1
	}
	return strings.Compare(preA, preB)
}

func partAt(parts []string, i int) string {
	if i < len(parts) {
		return parts[i]
	}
	return "0"
}

func compareParts(a, b string) int {
	x, errA := strconv.ParseUint(a, 10, 64)
	y, errB := strconv.ParseUint(b, 10, 64)
	if errA != nil || errB != nil {
		return strings.Compare(a, b)
	}
	switch {
	case x < y:
		return -1
	case x > y:
		return 1
	}
	return 0
}
