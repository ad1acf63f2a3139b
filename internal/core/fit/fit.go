// Package fit makes the fit sheet: world, settings and server side by side, a
// row a concern, each row with a verdict and the change that would mend it.
// Adding a concern is adding one rule in a file of its own.
package fit

import (
	"slices"
	"strings"
	"time"

	"reshard/internal/core/capability"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
)

// Verdict says what a row means for a changeover.
type Verdict string

// The verdicts, from best to worst.
const (
	Fits   Verdict = "fits"   // nothing to do
	Adjust Verdict = "adjust" // the plan will change it
	Choose Verdict = "choose" // a person must decide
	Blocks Verdict = "blocks" // cannot go on
)

// Verdicts lists all verdicts, the best first.
func Verdicts() []Verdict { return []Verdict{Fits, Adjust, Choose, Blocks} }

var rank = map[Verdict]int{Fits: 0, Adjust: 1, Choose: 2, Blocks: 3}

// Cell is what one of the three says, and where it was read.
type Cell struct {
	Text string `json:"text"`
	From string `json:"from,omitempty"`
}

// Option is one answer to a row that a person must choose.
type Option struct {
	Choice string `json:"choice"` // the key of the choice; the row's concern unless it says otherwise
	Answer string `json:"answer"` // what to give for it
	Say    string `json:"say"`    // what it does and costs
}

// Row is one concern of the sheet.
type Row struct {
	Concern  string   `json:"concern"`
	Title    string   `json:"title"`
	World    Cell     `json:"world"`
	Settings Cell     `json:"settings"`
	Server   Cell     `json:"server"`
	Verdict  Verdict  `json:"verdict"`
	Say      string   `json:"say"`            // the finding in a sentence
	Mend     string   `json:"mend,omitempty"` // what the plan will do, or a person must
	Options  []Option `json:"options"`
	// Chosen is the answer that a person gave to the row, out of its options.
	Chosen string `json:"chosen,omitempty"`
	// Idle says that there was nothing to compare.
	Idle bool `json:"idle,omitempty"`
	// Todo lists what a person may want to do, each on its own.
	Todo []string `json:"todo,omitempty"`
}

// Sheet is the whole comparison.
type Sheet struct {
	Rows    []Row   `json:"rows"`
	Verdict Verdict `json:"verdict"` // the worst of the rows
	// Folder is the folder name the world would have on the server.
	Folder string `json:"folder"`
}

// Choices are a person's answers, by concern ("folder-name": "fen-garden").
type Choices map[string]string

// Live is what is known of a server beside its files.
type Live struct {
	// Name is what the server is called where it is asked for; "" is not known.
	Name  string
	State life.State
	// Cause says why the state is unknown.
	Cause           string
	DeclaredVersion string // a person's word, used when nothing else says it
	ConsoleVersion  string // what the server's log or console says, "" unknown
	FreeBytes       int64  // on the file system of the worlds; -1 unknown
	DataShort       string // what is said of the service's data folder when it has too little room
	// Roots are the absolute paths of the server's root on its host: as given, and
	// with links resolved.
	Roots          []string
	SameFilesystem bool // worlds and the working folder can be renamed into each other
	Players        int  // joined now; -1 unknown
	// Since is when the running server was started; zero when that is not known.
	Since  time.Time
	Exited bool // it should run and does not
	// Can is what the server's host can do, Host its name, RoundTrip the time of a question to it
	// and its answer; 0 is not known.
	Can       capability.Set
	Host      string
	RoundTrip time.Duration
	// Provider is what that starts and stops the server, where there is one.
	Provider Provider
	// Owner is whom the world that is replaced belongs to, else the worlds folder, as the
	// host names accounts; "" is not known. OwnerKept says that what is placed will
	// belong to it.
	Owner     string
	OwnerKept bool
	// Working are other processes that may write in the server's folder, Passing shells
	// of people who are in it, Hidden how many processes could not be looked into.
	// Unseen says why none of them can be seen, "" when they can.
	Working, Passing []string
	Hidden           int
	Unseen           string
}

// Input is everything a rule may look at.
type Input struct {
	Profile *game.Profile
	World   world.Facts
	Server  server.State
	Live    Live
	Choices Choices
	// Unwritable are settings that the plan would write and cannot, by place.
	Unwritable []string
	// Alone says that a server is checked with the world that it has.
	Alone bool
	// Purpose is what the sheet is made for.
	Purpose Purpose
	// Drawn is a random seed for a new world, drawn when its plan is made.
	Drawn string
}

// server is the server's name in a command that a person is told.
func (in Input) server() string {
	if in.Live.Name == "" {
		return "SERVER"
	}
	return in.Live.Name
}

// Target is the name on disk that the world would have: the only one that the
// server opens, or the chosen one, or its own.
func (in Input) Target() string {
	if active := in.Server.Keys[game.KeyActiveWorld]; active.Fixed && in.Purpose != ForBeside {
		return server.FolderOf(active.Given, in.Profile)
	}
	if c := in.Choices["folder-name"]; c != "" && in.Purpose != ForSwitch {
		return c
	}
	if in.Purpose == ForReset {
		return in.Server.Active
	}
	return in.World.Folder
}

// Want is a value that the plan writes.
type Want struct {
	server.Given        // the place, with the value that stands there now
	Found        bool   // something stands there now
	To           string // the value to write
	World        bool   // it names the active world
	Keeps        bool   // the game never changes it itself
}

// Wants lists what the plan writes into the settings, so that the next start opens
// the world: the effective source, those it hides (or the next edit of the first
// would bring the trap back), and the values that must hold with it.
func (in Input) Wants() []Want {
	var out []Want
	if in.Purpose == ForBeside || in.Purpose == ForBack {
		return nil
	}
	naming := true
	want := func(g server.Given, found bool, to string) {
		if g.In != "" && g.In != game.InCommand && (!found || g.Value != to || in.lost(g.In)) {
			out = append(out, Want{Given: g, Found: found, To: to, World: naming, Keeps: in.keeps(g)})
		}
	}
	active := in.Server.Keys[game.KeyActiveWorld]
	if !active.Fixed {
		for i, g := range append([]server.Given{active.Given}, active.Hides...) {
			want(g, active.Found || i > 0, server.ValueFor(g, in.Server.WorldsFolder, in.Target(), in.Profile))
		}
	}
	naming = false
	for _, h := range active.With {
		want(h.Given, h.Found, h.Want)
	}
	if in.Choices["world-settings"] == "bring" {
		for _, key := range in.travelling() {
			s := in.Server.Keys[key]
			for i, g := range append([]server.Given{s.Given}, s.Hides...) {
				want(g, s.Found || i > 0, in.World.Settings[key])
			}
		}
	}
	seed, setting := in.World.Fact("seed"), in.Server.Keys[game.KeySeed]
	if in.Purpose == ForReset {
		if value, _, write, err := in.NewSeed(); write && err == nil {
			for i, g := range append([]server.Given{setting.Given}, setting.Hides...) {
				want(g, setting.Found || i > 0, value)
			}
		}
		return out
	}
	if in.Purpose == ForRename {
		return out
	}
	if seed.Known() && setting.Found && setting.Value != "" {
		for _, g := range append([]server.Given{setting.Given}, setting.Hides...) {
			if !in.Profile.Server.Seeds.Same(seed.Text, g.Value) || in.lost(g.In) {
				want(g, true, seed.Text)
			}
		}
	}
	return out
}

// keeps reports whether the profile says that the game never changes a key itself.
func (in Input) keeps(g server.Given) bool {
	for _, places := range in.Profile.Server.Keys {
		for _, p := range places {
			if p.In == g.In && p.Key == g.Key && p.Keeps {
				return true
			}
		}
	}
	return false
}

// lost reports whether a settings document was changed while the server runs that
// writes it anew on its way down: what stands there now will not stand there then.
func (in Input) lost(doc string) bool {
	if in.Live.State != life.Running || in.Live.Since.IsZero() || !in.Profile.Server.Settings[doc].WritesBack {
		return false
	}
	for _, d := range in.Server.Settings {
		if d.Name == doc {
			return d.Modified.After(in.Live.Since)
		}
	}
	return false
}

// Rule is one concern: a row of the sheet, in a file of its own.
//
// check sees what is in the input and nothing else: it opens no file, asks no clock and
// keeps nothing, so that the same input gives the same row, and may run at any time beside
// others. It fills in what it compares, also where it finds nothing to say, and ends with
// exactly one verdict. A row that asks lists every answer that it takes, and says of each
// what it costs; a row that blocks says what would have to be different. What it says the
// plan will write must be in Input.Wants: the plan writes that and no more.
type Rule struct {
	// Concern names the row for programs and choices, and stays for ever; Title is for people.
	Concern string
	Title   string
	applies func(in Input) bool // nil: always
	check   func(in Input, r *Row)
}

// Rules are all concerns in the order in which the sheet shows them when their
// verdicts are equal.
var Rules = []Rule{
	gameRule, versionRule, folderNameRule, charactersRule, titleRule, sourcesRule, flagsRule, overridesRule, realmsRule,
	leftoversRule, seedRule,
	modsRule, playersRule, worldSettingsRule, completenessRule, settingsRule, firstStartRule, locksRule, runningRule,
	providerRule, processesRule, ownerRule, hostRule, comparisonRule, spaceRule, roomRule,
}

// ServerRules are the concerns of a server alone, with the world that it has now.
var ServerRules = []Rule{
	activeWorldRule, lastExitRule, gameRule, versionRule, sourcesRule, flagsRule, overridesRule, realmsRule,
	leftoversRule, seedRule,
	modsRule, playersRule, completenessRule, settingsRule, firstStartRule, locksRule, providerRule, processesRule,
}

// withoutWorld are those of them that need no world to look at.
var withoutWorld = []Rule{activeWorldRule, lastExitRule, sourcesRule, flagsRule, leftoversRule, settingsRule,
	firstStartRule, processesRule}

// Check makes the sheet of a server alone: in.World is the active world as it
// stands on the server, without a folder name when there is none. The verdicts
// mean what would have to change; nothing is planned.
func Check(in Input) Sheet {
	in.Alone = true
	if in.World.Folder == "" {
		return sheetOf(in, withoutWorld)
	}
	return sheetOf(in, ServerRules)
}

// standing are the concerns of a server alone that its files and its version decide, whatever goes on around it.
var standing = []Rule{
	activeWorldRule, versionRule, sourcesRule, flagsRule, overridesRule, realmsRule, seedRule, modsRule, settingsRule,
}

// Amiss gives the first finding about a server alone that would bite at its next start, so that somebody should look
// at it; ok is false when there is none. It is made from what a look at the server's files has found anyway, and asks
// nothing of its host: locks, processes and room are not judged.
func Amiss(in Input) (row Row, ok bool) {
	in.Alone = true
	rules := standing
	switch {
	case in.World.Folder == "":
		rules = []Rule{activeWorldRule, sourcesRule, flagsRule, settingsRule}
	case in.Live.State == life.Stopped: // while it runs, a game may not have written all of it yet
		rules = append(slices.Clone(standing), completenessRule)
	}
	sheet := sheetOf(in, rules)
	if rank[sheet.Verdict] < rank[Choose] {
		return Row{}, false
	}
	for _, row := range sheet.Rows {
		if row.Verdict == sheet.Verdict {
			return row, true
		}
	}
	return Row{}, false
}

// BeforeStart gives what the sheet of a server alone says of the world that its next start would open, when that
// is not the world that the settings name: a start would make another, in silence. ok is false when it is there.
func BeforeStart(in Input) (row Row, ok bool) {
	in.Alone, in.World = true, world.Facts{}
	if _, there := in.Server.World(in.Server.Active); there {
		return Row{}, false
	}
	for _, r := range sheetOf(in, []Rule{activeWorldRule}).Rows {
		return r, r.Verdict == Blocks
	}
	return Row{}, false
}

// Compare makes the sheet of a world and a server. It is pure: equal input gives
// an equal sheet.
func Compare(in Input) Sheet {
	if in.makesFirstStart() {
		return sheetOf(in, []Rule{gameRule, firstStartRule, runningRule, providerRule, processesRule})
	}
	return sheetOf(in, rulesFor(in))
}

func sheetOf(in Input, rules []Rule) Sheet {
	s := Sheet{Verdict: Fits, Folder: in.Target(), Rows: make([]Row, 0, len(rules))}
	for _, rule := range rules {
		if rule.applies != nil && !rule.applies(in) {
			continue
		}
		row := Row{Concern: rule.Concern, Title: rule.Title, Verdict: Fits, Options: []Option{}}
		rule.check(in, &row)
		for i := range row.Options {
			if row.Options[i].Choice == "" {
				row.Options[i].Choice = rule.Concern
			}
		}
		if rank[row.Verdict] > rank[s.Verdict] {
			s.Verdict = row.Verdict
		}
		s.Rows = append(s.Rows, row)
		if rule.Concern == gameRule.Concern && row.Verdict == Blocks && in.World.Game != in.Server.Game {
			break // nothing else can be compared across games
		}
	}
	return s
}

// Row gives a concern's row.
func (s Sheet) Row(concern string) (Row, bool) {
	for _, r := range s.Rows {
		if r.Concern == concern {
			return r, true
		}
	}
	return Row{}, false
}

// With lists the rows of a verdict.
func (s Sheet) With(v Verdict) []Row {
	var out []Row
	for _, r := range s.Rows {
		if r.Verdict == v {
			out = append(out, r)
		}
	}
	return out
}

// say, idle, adjust, choose and block set the row's verdict with its words.
func (r *Row) say(words string)          { r.Say = words }
func (r *Row) idle(words string)         { r.Say, r.Idle = words, true }
func (r *Row) adjust(words, mend string) { r.Verdict, r.Say, r.Mend = Adjust, words, mend }
func (r *Row) block(words, mend string)  { r.Verdict, r.Say, r.Mend = Blocks, words, mend }
func (r *Row) choose(words, mend string, options ...Option) {
	r.Verdict, r.Say, r.Mend, r.Options = Choose, words, mend, options
}

func quote(s string) string { return "“" + s + "”" }

func orNone(s, none string) string {
	if s == "" {
		return none
	}
	return s
}

// settingCell shows a setting's effective value, where it stands and what it beats.
func settingCell(s server.Setting) Cell {
	switch {
	case s.Fixed:
		return Cell{Text: quote(s.Value) + ", always", From: "game profile"}
	case s.Default:
		return Cell{Text: "not set, so " + quote(s.Value), From: s.File}
	case !s.Found:
		return Cell{Text: "not set", From: s.File}
	}
	return Cell{Text: quote(s.Value), From: s.Where()}
}

// answered turns a choice into an adjustment when the person has given one of its
// answers.
func answered(in Input, r *Row) {
	for _, o := range r.Options {
		if (o.Choice == "" || o.Choice == r.Concern) && in.Choices[r.Concern] == o.Answer {
			r.Verdict, r.Chosen = Adjust, o.Answer
			r.Mend = "You chose: " + strings.ToLower(o.Say[:1]) + o.Say[1:]
			return
		}
	}
}

func list(names []string, most int) string {
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + itoa(len(names)-most) + " more"
	}
	return strings.Join(names, ", ")
}
