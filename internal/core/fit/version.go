package fit

import (
	"slices"
	"sort"
	"strconv"
	"strings"

	"reshard/internal/core/world"
)

// versionRule: can the server's version open a world that another version wrote?
var versionRule = Rule{Concern: "version", Title: "Version", check: func(in Input, r *Row) {
	rule := in.Profile.Server.Accepts
	wv := in.World.Fact("version")
	sv, from := in.ServerVersion()
	r.World = Cell{Text: orNone(wv.Text, "not known"), From: wv.File}
	r.Server = Cell{Text: orNone(sv, "not known"), From: from}
	if rule.Version == "any" {
		r.idle("The game opens worlds of any version.")
		return
	}
	if !wv.Known() || sv == "" {
		r.choose("The versions cannot be compared: "+unknownSide(wv.Known(), sv != "")+".",
			"Find out, or go on at your own risk: the library keeps the copy, and undo brings the old world back.",
			Option{Answer: "go-on", Say: "Let the server try to open it."})
		answered(in, r)
		return
	}
	if rule.Version == "listed" {
		listed(in, rule.Versions, wv.Text, sv, r)
		return
	}
	order := CompareVersions(wv.Text, sv)
	switch {
	case order == 0:
		r.say("World and server have the same version.")
	case rule.Version == "exact":
		r.block("The world was written by "+wv.Text+"; the server opens worlds of exactly "+sv+".",
			"Bring the server to version "+wv.Text+".")
	case rule.Version == "same-minor" && minor(wv.Text) != minor(sv):
		r.block("The world was written by "+wv.Text+"; the server opens worlds of "+minor(sv)+".* only.",
			"Bring the server to a version "+minor(wv.Text)+".*.")
	case order > 0:
		r.block("The world was written by "+wv.Text+", newer than the server's "+sv+
			": an older server cannot read it, or damages it.", "Bring the server to "+wv.Text+" or newer.")
	case rule.Upgrades:
		r.adjust("The server's "+sv+" is newer and upgrades the world for good when it opens it.",
			"Nothing to write. The library's copy stays at "+wv.Text+"; there is no other way back to it.")
	default:
		r.say("The server is newer and reads worlds of " + wv.Text + ".")
	}
}}

// ServerVersion is the server's version and what says so; both are "" when nothing does.
func (in Input) ServerVersion() (version, from string) {
	switch {
	case in.Server.Version.Known():
		return in.Server.Version.Text, in.Server.Version.File
	case in.Live.ConsoleVersion != "":
		return in.Live.ConsoleVersion, "its log"
	case in.Live.DeclaredVersion != "":
		return in.Live.DeclaredVersion, "declared by a person"
	}
	return "", ""
}

// listed looks the two versions up in the profile's list.
func listed(in Input, versions map[string][]string, wv, sv string, r *Row) {
	var opens []string
	for pattern, worlds := range versions {
		if world.Match(pattern, sv) {
			opens = append(opens, worlds...)
		}
	}
	sort.Strings(opens)
	switch {
	case len(opens) == 0:
		r.choose("The game profile does not list what a server of "+sv+" opens.",
			"Find out, and add it to the profile; or go on at your own risk.",
			Option{Answer: "go-on", Say: "Let the server try to open it."})
		answered(in, r)
	case slices.ContainsFunc(opens, func(pattern string) bool { return world.Match(pattern, wv) }):
		r.say("A server of " + sv + " opens worlds of " + wv + ".")
	default:
		r.block("The world is of version "+wv+"; a server of "+sv+" opens "+list(opens, 6)+".",
			"Bring the server to a version that opens "+wv+".")
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
