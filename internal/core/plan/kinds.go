package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"reshard/internal/core/life"
)

// The kinds of changeover. Each is an entry of Kinds and one of the room that carries them
// out; the executor knows steps only.
const (
	Put        = "put"
	Restore    = "restore"
	Clone      = "clone"
	Reset      = "reset"
	Switch     = "switch"
	Rename     = "rename"
	TakeAway   = "take-away"
	Backup     = "backup"
	FirstStart = "first-start"
	Undo       = "undo"
)

// Kind is what is to be known of a kind of changeover without carrying one out.
type Kind struct {
	// Needs names what a wish for it must say: server, world, from or undoes. None: nobody
	// can wish for it; another changeover asks for it.
	Needs []string
	// Lasting: it leaves something on its server that an undo could take back.
	Lasting bool
	// Brings: it places a copy of the library's.
	Brings bool
	// Unnoticed: its server is stopped before and after, so nobody is locked out.
	Unnoticed bool
	// GivesWay: another changeover of its server may end it before it is done.
	GivesWay bool
	// Title says what it does, Outcome what there is when it is done.
	Title   func(p Plan) string
	Outcome func(p Plan, end End) string
}

// End is how a changeover ended that is done: the copy that it made, "" for none, and its proof.
type End struct {
	Copy  string
	Proof Proof
}

// Kinds are the kinds of changeover, by name.
var Kinds = map[string]Kind{
	Put: {
		Needs: []string{"server", "world"}, Lasting: true, Brings: true,
		Title:   func(p Plan) string { return "put " + p.named() + p.beside() },
		Outcome: runs,
	},
	Restore: {
		Needs: []string{"server", "world"}, Lasting: true, Brings: true,
		Title:   func(p Plan) string { return "restore " + p.named() + p.beside() },
		Outcome: runs,
	},
	Clone: {
		Needs: []string{"server", "from"}, Lasting: true, Brings: true,
		Title:   func(p Plan) string { return "clone " + p.named() + " from " + p.From },
		Outcome: runs,
	},
	Reset: {
		Needs: []string{"server"}, Lasting: true,
		Title: func(p Plan) string {
			if p.Expect.Own {
				return "reset, a new world"
			}
			return "reset, a new world " + quoted(p.Folder)
		},
		Outcome: func(p Plan, end End) string {
			if !end.Proof.SawWorld() {
				return started
			}
			return "A new world runs on " + p.Server + "."
		},
	},
	Switch: {
		Needs: []string{"server", "world"}, Lasting: true,
		Title:   func(p Plan) string { return "switch " + p.named() },
		Outcome: runs,
	},
	Rename: {
		Needs: []string{"server", "world"}, Lasting: true,
		Title: func(p Plan) string { return "rename " + p.named() + " to " + quoted(p.Folder) },
		Outcome: func(p Plan, end End) string {
			p.World = "" // it is called otherwise now
			return runs(p, end)
		},
	},
	TakeAway: {
		Needs: []string{"server"},
		Title: func(p Plan) string { return "take away " + p.named() },
		Outcome: func(p Plan, end End) string {
			return p.named() + " is in the library as copy " + end.Copy[:min(12, len(end.Copy))] + "."
		},
	},
	Backup: {
		Needs: []string{"server"}, GivesWay: true,
		Title: func(p Plan) string { return "back up " + p.named() },
		Outcome: func(p Plan, _ End) string {
			return p.Server + " is backed up. reshard backups " + p.Server + " says what it is worth."
		},
	},
	FirstStart: {
		Unnoticed: true,
		Title:     func(Plan) string { return "first start" },
		Outcome:   func(p Plan, _ End) string { return p.Server + " has made what it needs, and is stopped." },
	},
	Undo: {
		Needs: []string{"undoes"}, Lasting: true,
		Title: func(p Plan) string {
			if p.onlySetsAside() {
				return fmt.Sprintf("undo of %d, %s set aside", p.Undoes, strings.Join(p.SetAside, " and "))
			}
			return fmt.Sprintf("undo of %d, %s back", p.Undoes, p.named())
		},
		Outcome: func(p Plan, end End) string {
			if p.onlySetsAside() {
				return strings.Join(p.SetAside, " and ") + " is set aside. " + p.Server + " goes on as before."
			}
			return runs(p, end)
		},
	},
}

// KindsThat gives the names of the kinds for which something holds, in order.
func KindsThat(hold func(Kind) bool) []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(Kinds)), func(name string) bool { return !hold(Kinds[name]) })
}

// Lasting reports whether a kind of changeover leaves anything on its server that an
// undo could take back.
func Lasting(kind string) bool { return Kinds[kind].Lasting }

// Title says what a plan does, in a few words.
func (p Plan) Title() string {
	if k, ok := Kinds[p.Kind]; ok {
		return k.Title(p)
	}
	return p.Kind + " " + p.named()
}

// Outcome says what there is when a plan has been carried out.
func (p Plan) Outcome(end End) string {
	if k, ok := Kinds[p.Kind]; ok {
		return k.Outcome(p, end)
	}
	return runs(p, end)
}

// Wish is what a person wants to do to a server.
type Wish struct {
	Kind string `json:"kind" query:"kind" enum:"put,restore,clone,reset,switch,rename,take-away,undo"`
	// all but undo
	Server string `json:"server,omitempty" query:"server"`
	// put and restore: a world of the library or the beginning of a copy's id; clone, switch
	// and take-away: a world's name on the server, the active one if left out; backup: likewise, all
	// worlds if left out; rename: the new name
	World string `json:"world,omitempty" query:"world"`
	// take-away: the world is one of those that were set aside, in this folder and part of it as they are listed, such
	// as 6-3f9a21c0/aside
	Aside string `json:"aside,omitempty" query:"aside" maxLength:"80"`
	// clone: the server to take the world from
	From string `json:"from,omitempty" query:"from"`
	// put, restore and clone: the world only is to stand there, and does not become the
	// active one
	Beside bool `json:"beside,omitempty" query:"beside"`
	// answers to the sheet's rows, by key; reset: seed (a number, words, same, random or
	// as-set) and folder-name
	Choices map[string]string `json:"choices,omitempty"`
	// restore: the backup that it goes back to, in place of world, which then names one of its worlds, its
	// active one if left out
	Backup int64 `json:"backup,omitempty" query:"backup"`
	// restore from a backup: its world if left out; its settings; both; or some files of its world
	What string `json:"what,omitempty" query:"what" enum:"world,settings,all,files"`
	// restore of files: which, from the world's folder
	Files []string `json:"files,omitempty" query:"files,explode" maxItems:"1000"`
	// undo: the changeover to take back
	Undoes int64 `json:"undoes,omitempty" query:"undoes"`
}

// Lacks says what a wish must say and does not, "" when it says all.
func (w Wish) Lacks() string {
	k, known := Kinds[w.Kind]
	if !known || len(k.Needs) == 0 {
		return "there is no such changeover"
	}
	given := map[string]bool{
		"server": w.Server != "", "world": w.World != "" || w.Backup != 0, "from": w.From != "",
		"undoes": w.Undoes != 0,
	}
	var lacks []string
	for _, need := range k.Needs {
		if !given[need] {
			lacks = append(lacks, need)
		}
	}
	switch len(lacks) {
	case 0:
		return ""
	case 1:
		return lacks[0] + " is missing"
	}
	return strings.Join(lacks, " and ") + " are missing"
}

// named is the world that a plan is about.
func (p Plan) named() string {
	if p.World != "" {
		return quoted(p.World)
	}
	return quoted(p.Folder)
}

// onlySetsAside reports whether an undo brings nothing back: what it takes away stood beside.
func (p Plan) onlySetsAside() bool {
	return len(p.SetAside) > 0 && !slices.ContainsFunc(p.Steps, func(s Step) bool {
		return s.Kind == Write || s.Kind == Move && s.into(p.Worlds)
	})
}

func (p Plan) beside() string {
	if p.Expect.Placed != "" {
		return " beside"
	}
	return ""
}

// started is the outcome of a start of which nothing shows the opened world.
const started = "Started. Reshard could not see which world is running."

func runs(p Plan, end End) string {
	switch {
	case p.Expect.Placed != "":
		return p.named() + " stands on " + p.Server + " as " + p.Expect.Placed +
			". Go over to it with: reshard switch " +
			p.Server + " " + p.Expect.Placed
	case p.Expect.State == life.Stopped:
		return p.Server + " is as it was, and stopped."
	case !end.Proof.SawWorld():
		return started
	}
	return p.named() + " runs on " + p.Server + "."
}

func quoted(s string) string { return "“" + s + "”" }
