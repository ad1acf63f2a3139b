// Package wire holds the data that goes through the API: what the service
// answers, what the client and the console read. It is plain data.
package wire

import (
	"time"

	"reshard/internal/changeover"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
)

// Problem is an RFC 9457 problem document with Reshard's stable code and the
// next step for a person.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Code   string `json:"code"`
	Next   string `json:"next,omitempty"`
	// Options are the answers to choose from, such as the worlds of an archive.
	Options []string `json:"options,omitempty"`
	// Errors locate problems in a request's fields.
	Errors []FieldError `json:"errors,omitempty"`
}

// FieldError is one wrong field of a request.
type FieldError struct {
	Location string `json:"location"`
	Message  string `json:"message"`
}

// User is a person who may sign in.
type User struct {
	Name      string    `json:"name"`
	CreatedAt time.Time `json:"createdAt"`
}

// Token is a freshly made token; its secret is shown this once.
type Token struct {
	User    string    `json:"user"`
	Secret  string    `json:"secret"`
	Expires time.Time `json:"expires"`
}

// Game is a game that this service knows.
type Game struct {
	ID      string   `json:"id"`
	Title   string   `json:"title"`
	Kinds   []string `json:"kinds"`
	Profile string   `json:"profile" doc:"the profile's document, YAML"`
	Origin  string   `json:"origin" enum:"shipped,folder,uploaded" doc:"where the profile comes from"`
	// Of an uploaded profile: its version, who saved it when, and the origin of the
	// one that it overrides.
	Version   int        `json:"version,omitempty"`
	SavedBy   string     `json:"savedBy,omitempty"`
	SavedAt   *time.Time `json:"savedAt,omitempty"`
	Overrides string     `json:"overrides,omitempty"`
}

// GameVersion is one version of an uploaded profile.
type GameVersion struct {
	Version     int        `json:"version"`
	Profile     string     `json:"profile"`
	SavedBy     string     `json:"savedBy"`
	SavedAt     time.Time  `json:"savedAt"`
	WithdrawnAt *time.Time `json:"withdrawnAt,omitempty"`
}

// SaveGame is a profile to save.
type SaveGame struct {
	Profile  string `json:"profile" doc:"the profile's document, YAML"`
	Override bool   `json:"override,omitempty" doc:"let it replace a profile that the service was started with"`
}

// Examples are paths on the service's host to try a profile with, or to sketch one from.
type Examples struct {
	Profile string `json:"profile,omitempty" doc:"try: the profile's document"`
	ID      string `json:"id,omitempty" doc:"sketch: the game's id"`
	World   string `json:"world,omitempty" doc:"a world: a folder, an archive or a file"`
	Server  string `json:"server,omitempty" doc:"a server's folder"`
	Kind    string `json:"kind,omitempty"`
	System  string `json:"system,omitempty"`
}

// World is a world of the library with its copies, newest first.
type World struct {
	Name   string `json:"name" doc:"unique, for commands and addresses"`
	Game   string `json:"game"`
	Title  string `json:"title" doc:"the name players see"`
	Copies []Copy `json:"copies"`
}

// Copy is an immutable stored state of a world.
type Copy struct {
	ID        string      `json:"id" doc:"content address, 64 hexadecimal digits"`
	World     string      `json:"world"`
	Kind      string      `json:"kind" enum:"arrival,backup,safety"`
	Facts     world.World `json:"facts"`
	Bytes     int64       `json:"bytes"`
	Files     int64       `json:"files"`
	Source    string      `json:"source"`
	Drawn     bool        `json:"drawn" doc:"the game profile says how to draw it from above"`
	CreatedBy string      `json:"createdBy"`
	CreatedAt time.Time   `json:"createdAt"`
}

// CopyFile is one file of a copy.
type CopyFile struct {
	Path     string    `json:"path" doc:"as in a world that was played alone: realms inside"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// Arrival is the answer to a sent world.
type Arrival struct {
	Copy    Copy     `json:"copy"`
	New     bool     `json:"new" doc:"false when the library had this content already"`
	Ignored []string `json:"ignored" doc:"entries of the archive that are no part of any world"`
}

// Server is one game server and its present state.
type Server struct {
	Name    string            `json:"name"`
	Game    string            `json:"game"`
	Kind    string            `json:"kind"`
	Root    string            `json:"root"`
	Command []string          `json:"command"`
	Env     map[string]string `json:"env"`
	// State is running, starting, stopping, stopped, unreachable (see Trouble), or
	// exited: it should run
	// and does not.
	State    string     `json:"state" enum:"running,starting,stopping,stopped,exited,unreachable"`
	PID      int        `json:"pid,omitempty"`
	Since    *time.Time `json:"since,omitempty"`
	ExitCode *int       `json:"exitCode,omitempty"`
	ExitedAt *time.Time `json:"exitedAt,omitempty"`
	// Version is the server's, and VersionFrom who says so: a file, its log, or a
	// person.
	Version     string `json:"version,omitempty"`
	VersionFrom string `json:"versionFrom,omitempty"`
	// Active is the name on disk that the settings name, ActiveTitle its title.
	Active      string `json:"active"`
	ActiveTitle string `json:"activeTitle"`
	// Drawn says that the game profile says how to draw its worlds from above.
	Drawn bool `json:"drawn"`
	// Opened is the world that the running server's log names.
	Opened string `json:"opened,omitempty"`
	// Join is where players connect, when the settings say; JoinNote from where that
	// works.
	Join     string `json:"join,omitempty"`
	JoinNote string `json:"joinNote,omitempty"`
	// Changeover that holds the server now; 0: none.
	Changeover  int64 `json:"changeover,omitempty"`
	LastStartMS int64 `json:"lastStartMs"`
	LastStopMS  int64 `json:"lastStopMs"`
	// Trouble says why the server's files cannot be read; "" when they can.
	Trouble string `json:"trouble,omitempty"`
}

// ServerFacts is a server with all that its files say.
type ServerFacts struct {
	Server Server       `json:"server"`
	Facts  server.State `json:"facts"`
}

// NewServer is what to record as a server.
type NewServer struct {
	Name    string            `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,39}$" doc:"for commands and addresses"`
	Game    string            `json:"game"`
	Kind    string            `json:"kind,omitempty" doc:"may be left out when the game has one kind"`
	Root    string            `json:"root" doc:"the server's folder, absolute"`
	Command []string          `json:"command" minItems:"1" doc:"program and arguments; run in the server's folder"`
	Env     map[string]string `json:"env,omitempty"`
	Version string            `json:"version,omitempty" doc:"the server's version, where no file tells it"`
	System  string            `json:"system,omitempty" enum:"linux,macos,windows" doc:"the operating system that the server is made for, where its files depend on it; linux when left out"`
}

// Sheet is a fit sheet and what was compared; World and Copy are empty when a
// server was checked alone.
type Sheet struct {
	World  string    `json:"world"`
	Copy   string    `json:"copy"`
	Server string    `json:"server"`
	Kind   string    `json:"kind,omitempty" doc:"of the changeover that it is made for"`
	Sheet  fit.Sheet `json:"sheet"`
}

// Changeover is a planned and journaled change of a server's world.
type Changeover struct {
	ID        int64       `json:"id"`
	Server    string      `json:"server"`
	Kind      string      `json:"kind"`
	State     plan.State  `json:"state" enum:"drafted,staging,waiting,switching,proving,done,undoing,undone,held"`
	Plan      plan.Plan   `json:"plan"`
	Sheet     *fit.Sheet  `json:"sheet,omitempty"`
	Copy      string      `json:"copy,omitempty"`
	Undoes    int64       `json:"undoes,omitempty"`
	UndoneBy  int64       `json:"undoneBy,omitempty"`
	Proof     *plan.Proof `json:"proof,omitempty"`
	Failure   *Failure    `json:"failure,omitempty"`
	Steps     []Step      `json:"steps"`
	CreatedBy string      `json:"createdBy"`
	CreatedAt time.Time   `json:"createdAt"`
	StartedAt *time.Time  `json:"startedAt,omitempty"`
	EndedAt   *time.Time  `json:"endedAt,omitempty"`
	// Window is how long players were locked out, split into its parts.
	Window *Window `json:"window,omitempty"`
	// Undoable says whether it can be undone now; WhyNot why not.
	Undoable bool                 `json:"undoable"`
	WhyNot   string               `json:"whyNot,omitempty"`
	Progress *changeover.Progress `json:"progress,omitempty" doc:"while it is running"`
	// Later are the changeovers to undo before this one, newest first.
	Later []int64 `json:"later,omitempty"`
	// Join is where to go and look, when it is done; JoinNote from where that works.
	Join     string `json:"join,omitempty"`
	JoinNote string `json:"joinNote,omitempty"`
	// Landmarks are what to look for there.
	Landmarks []Sighting `json:"landmarks,omitempty"`
}

// NewChangeover is what a person wants to do to a server.
type NewChangeover struct {
	Kind   string `json:"kind" enum:"put,restore,clone,reset,switch,rename,take-away,undo"`
	Server string `json:"server,omitempty" doc:"all but undo"`
	World  string `json:"world,omitempty" doc:"put and restore: a world of the library or the beginning of a copy's id; clone, switch and take-away: a world's name on the server, the active one if left out; rename: the new name"`
	From   string `json:"from,omitempty" doc:"clone: the server to take the world from"`
	Beside bool   `json:"beside,omitempty" doc:"put, restore and clone: the world only is to stand there, and does not become the active one"`
	// Choices are answers to the sheet's rows, by key.
	Choices map[string]string `json:"choices,omitempty" doc:"answers to the sheet's rows, by key; reset: seed (a number, words, same, random or as-set) and folder-name"`
	Undoes  int64             `json:"undoes,omitempty" doc:"undo: the changeover to take back"`
}

// Landmark is a person's note of something to look for in a world.
type Landmark struct {
	ID        int64     `json:"id"`
	Say       string    `json:"say"`
	Place     string    `json:"place,omitempty" doc:"as people write it: 120 / -30"`
	CreatedBy string    `json:"createdBy"`
	CreatedAt time.Time `json:"createdAt"`
}

// NewLandmark is a landmark to add.
type NewLandmark struct {
	Say   string `json:"say" maxLength:"200" doc:"what there is to see, such as: red roof by the well"`
	Place string `json:"place,omitempty" maxLength:"80" doc:"where, as people write it: 120 / -30"`
}

// Sighting is a landmark and what was found of it after a changeover.
type Sighting struct {
	Landmark
	Seen   *bool      `json:"seen,omitempty" doc:"absent: nobody has looked yet"`
	ToldBy string     `json:"toldBy,omitempty"`
	ToldAt *time.Time `json:"toldAt,omitempty"`
}

// Aside is what one changeover has set aside on a server.
type Aside struct {
	Server     string     `json:"server"`
	Changeover int64      `json:"changeover"`
	Name       string     `json:"name" doc:"what to type to remove it"`
	Folder     string     `json:"folder" doc:"from the server's root"`
	Holds      []string   `json:"holds"`
	Bytes      int64      `json:"bytes"`
	Files      int        `json:"files"`
	Since      *time.Time `json:"since,omitempty"`
	Goes       *time.Time `json:"goes,omitempty" doc:"when the rule removes it"`
	Rule       string     `json:"rule"`
	Removable  bool       `json:"removable"`
}

// Window is a measured stop window, in milliseconds. Of a changeover that went
// back only the total is known; its parts are -1.
type Window struct {
	TotalMS    int64 `json:"totalMs"`
	StoppingMS int64 `json:"stoppingMs" doc:"the game's own stopping; -1: it was stopped already"`
	OursMS     int64 `json:"oursMs"`
	StartingMS int64 `json:"startingMs" doc:"the game's own starting, until it was ready"`
}

// Failure is why a changeover went back.
type Failure struct {
	Code string `json:"code"`
	What string `json:"what"`
	Next string `json:"next"`
}

// Step is one step of a changeover and where it stands.
type Step struct {
	Kind   string     `json:"kind"`
	Say    string     `json:"say"`
	Switch bool       `json:"switch"`
	State  string     `json:"state" enum:"planned,intended,done,undone"`
	DoneAt *time.Time `json:"doneAt,omitempty"`
	TookMS int64      `json:"tookMs" doc:"-1: not known"`
	Bytes  int64      `json:"bytes,omitempty" doc:"written or read"`
	// Note is what a person should know of how it went.
	Note string `json:"note,omitempty"`
}
