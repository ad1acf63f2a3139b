// Package wire holds the data that goes through the API: what the service
// answers, what the client and the console read. It is plain data.
package wire

import (
	"time"

	"reshard/internal/changeover"
	"reshard/internal/core/capability"
	"reshard/internal/core/compare"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/vault"
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
	// Labels say what each of Options is, in the same order.
	Labels []string `json:"labels,omitempty"`
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
	Name   string   `json:"name" doc:"unique, for commands and addresses"`
	Game   string   `json:"game"`
	Title  string   `json:"title" doc:"the name players see"`
	Note   string   `json:"note,omitempty"`
	Tags   []string `json:"tags"`
	Copies []Copy   `json:"copies" doc:"newest first; those that are set aside last"`
	// Servers are those where the world has been brought to, or was taken from.
	Servers []string `json:"servers"`
	// Of one world that is asked for.
	Same []SameWorld `json:"same,omitempty" doc:"worlds that may be the same one"`
}

// SameWorld is a world that may be the same as another one.
type SameWorld struct {
	World string `json:"world"`
	Title string `json:"title"`
	Why   string `json:"why"`
	Share int    `json:"share" doc:"percent of the content that the newest copies have in common"`
}

// ChangeWorld is what a person says of a world; what is left out stays as it is.
type ChangeWorld struct {
	Title *string   `json:"title,omitempty" maxLength:"200" doc:"written into the world, as another copy, where the game's profile can"`
	Note  *string   `json:"note,omitempty" maxLength:"4000"`
	Tags  *[]string `json:"tags,omitempty" maxItems:"20"`
}

// ChangeCopy is what a person says of a copy; what is left out stays as it is.
type ChangeCopy struct {
	Note   *string `json:"note,omitempty" maxLength:"4000"`
	Pinned *bool   `json:"pinned,omitempty" doc:"a pinned copy cannot be set aside"`
	Aside  *bool   `json:"aside,omitempty" doc:"set aside: it goes when it has been kept long enough; false brings it back"`
}

// Lineage is where a world's copies came from and where they went.
type Lineage struct {
	World string `json:"world"`
	Steps []Past `json:"steps" doc:"oldest first"`
}

// Past is one thing that happened to a world.
type Past struct {
	At         time.Time `json:"at"`
	What       string    `json:"what" enum:"arrived,taken,edited,brought" doc:"a copy came in, was taken from a server, was made of another one; or was brought onto a server"`
	Copy       string    `json:"copy"`
	Of         string    `json:"of,omitempty" doc:"the copy that it was made of, or that had been brought there"`
	Server     string    `json:"server,omitempty"`
	Changeover int64     `json:"changeover,omitempty"`
	Kind       string    `json:"kind,omitempty" doc:"of the changeover"`
	State      string    `json:"state,omitempty" doc:"of the changeover"`
	By         string    `json:"by,omitempty"`
	Source     string    `json:"source,omitempty"`
	Say        string    `json:"say"`
}

// Map says where a picture stands in the world.
type Map struct {
	world.Map
	Landmarks []PlacedLandmark `json:"landmarks"`
}

// PlacedLandmark is a landmark whose place is known.
type PlacedLandmark struct {
	ID int64 `json:"id"`
	world.Point
	Say   string `json:"say"`
	Shown bool   `json:"shown" doc:"the picture reaches so far"`
}

// Compared is a comparison of two copies.
type Compared struct {
	Before Copy `json:"before"`
	After  Copy `json:"after"`
	compare.Comparison
}

// Vault is what the vault holds and what it is doing.
type Vault struct {
	Packs   int        `json:"packs"`
	Bytes   int64      `json:"bytes" doc:"on disk"`
	Chunks  int        `json:"chunks" doc:"chunks and lists of files"`
	Copies  int        `json:"copies"`
	Content int64      `json:"content" doc:"bytes of all copies, unpacked and each counted alone"`
	Work    *VaultWork `json:"work,omitempty" doc:"what it is doing, or did last"`
}

// VaultWork is something that the vault does with all that it holds.
type VaultWork struct {
	Kind      string           `json:"kind" enum:"check,collect,rebuild"`
	By        string           `json:"by"`
	Begun     time.Time        `json:"begun"`
	Ended     *time.Time       `json:"ended,omitempty"`
	Done      int64            `json:"done" doc:"of all: bytes when it is a check, packs otherwise"`
	All       int64            `json:"all"`
	Failure   *Failure         `json:"failure,omitempty"`
	Checked   *vault.Checked   `json:"checked,omitempty"`
	Collected *vault.Collected `json:"collected,omitempty"`
	Rebuilt   *vault.Rebuilt   `json:"rebuilt,omitempty"`
}

// Copy is an immutable stored state of a world.
type Copy struct {
	ID        string      `json:"id" doc:"content address, 64 hexadecimal digits"`
	World     string      `json:"world"`
	Kind      string      `json:"kind" enum:"arrival,backup,safety,edited"`
	Facts     world.World `json:"facts"`
	Bytes     int64       `json:"bytes"`
	Files     int64       `json:"files"`
	Source    string      `json:"source"`
	Drawn     bool        `json:"drawn" doc:"the game profile says how to draw it from above"`
	CreatedBy string      `json:"createdBy"`
	CreatedAt time.Time   `json:"createdAt"`
	Note      string      `json:"note,omitempty"`
	Pinned    bool        `json:"pinned"`
	Server    string      `json:"server,omitempty" doc:"that it was taken from"`
	AsideAt   *time.Time  `json:"asideAt,omitempty" doc:"when it was set aside"`
	AsideBy   string      `json:"asideBy,omitempty"`
	Goes      *time.Time  `json:"goes,omitempty" doc:"when a copy that is set aside goes; absent: never by itself"`
}

// CopyFile is one file of a copy.
type CopyFile struct {
	Path     string    `json:"path" doc:"as in a world that was played alone: realms inside"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// Arrival is the answer to a sent world.
type Arrival struct {
	Copy Copy `json:"copy"`
	New  bool `json:"new" doc:"false when the library had this content already"`
	// Same are worlds of the library that this may be another state of.
	Same    []SameWorld `json:"same,omitempty"`
	Ignored []string    `json:"ignored" doc:"entries of the archive that are no part of any world"`
}

// Server is one game server and its present state.
type Server struct {
	Name    string            `json:"name"`
	Game    string            `json:"game"`
	Kind    string            `json:"kind"`
	Root    string            `json:"root"`
	Command []string          `json:"command"`
	Env     map[string]string `json:"env"`
	Host    string            `json:"host"`
	// State is running, starting, stopping or stopped; exited: it should run and does
	// not; unknown: it cannot be told whether it runs; unreachable: its folder cannot be
	// opened. Note and Trouble say why.
	State string `json:"state" enum:"running,starting,stopping,stopped,exited,unknown,unreachable"`
	// Process names the running process.
	Process string `json:"process,omitempty"`
	// Since is when it was started, or from when on it has been unknown.
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
	// Note says why its state cannot be told, or whose word for it is taken.
	Note string `json:"note,omitempty"`
	// Trouble says why the server's files cannot be read; "" when they can.
	Trouble string `json:"trouble,omitempty"`
	// Can is what its host can do, absent while that is not known, and Lacks what is
	// therefore not promised, in words.
	Can   *capability.Set   `json:"can,omitempty"`
	Lacks []capability.Lack `json:"lacks,omitempty"`
}

// ServerFacts is a server with all that its files say.
type ServerFacts struct {
	Server Server       `json:"server"`
	Facts  server.State `json:"facts"`
}

// NewServer is what to record as a server.
type NewServer struct {
	Name    string            `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,39}$" doc:"for commands and addresses"`
	Host    string            `json:"host,omitempty" doc:"where it lives; the service's own machine if left out"`
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

// Unfinished is an upload that has not become a copy.
type Unfinished struct {
	ID       string    `json:"id"`
	Name     string    `json:"name"`
	By       string    `json:"by"`
	Size     int64     `json:"size" doc:"bytes announced"`
	Received int64     `json:"received" doc:"bytes that have come; all of them: a person must say what to do with it"`
	Last     time.Time `json:"last" doc:"when the last of them came"`
	Goes     time.Time `json:"goes" doc:"when it is removed if nobody goes on with it"`
}

// Listing is what a sender has, before it sends it.
type Listing struct {
	Name  string         `json:"name" maxLength:"255" doc:"of the folder"`
	Files []world.Listed `json:"files"`
}

// Recognised is what is found in a listing.
type Recognised struct {
	world.Survey
	Needs    []world.Need      `json:"needs" doc:"what must be known to go on; empty: all is told"`
	Pictures map[string]string `json:"pictures" doc:"small PNG images, base64, by where the world stands"`
}

// Lacking are chunks that the vault does not have.
type Lacking struct {
	Hashes []string `json:"hashes"`
}

// Assembly is a world as files whose chunks the vault has.
type Assembly struct {
	Name   string          `json:"name" minLength:"1" maxLength:"255" doc:"of the folder or archive that they came from"`
	Root   string          `json:"root,omitempty" doc:"which world, when they hold several"`
	Source string          `json:"source,omitempty" maxLength:"255" doc:"where it came from, for people; the name when left out"`
	Files  []AssembledFile `json:"files"`
}

// AssembledFile is a file of an Assembly.
type AssembledFile struct {
	Path     string        `json:"path" doc:"with forward slashes; ends in one for an empty folder"`
	Modified time.Time     `json:"modified"`
	Chunks   []vault.Chunk `json:"chunks,omitempty"`
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
