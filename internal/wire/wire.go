// Package wire holds the data that goes through the API: what the service
// answers, what the client and the console read. It is plain data.
package wire

import (
	"time"

	"reshard/internal/core/capability"
	"reshard/internal/core/compare"
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
	ID    string   `json:"id"`
	Title string   `json:"title"`
	Kinds []string `json:"kinds"`
	// the profile's document, YAML
	Profile string `json:"profile"`
	// where the profile comes from
	Origin string `json:"origin" enum:"shipped,folder,uploaded"`
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
	// the profile's document, YAML
	Profile string `json:"profile"`
	// let it replace a profile that the service was started with
	Override bool `json:"override,omitempty"`
}

// Examples are paths on the service's host to try a profile with, or to sketch one from.
type Examples struct {
	// try: the profile's document
	Profile string `json:"profile,omitempty"`
	// sketch: the game's id
	ID string `json:"id,omitempty"`
	// a world: a folder, an archive or a file
	World string `json:"world,omitempty"`
	// a server's folder
	Server string `json:"server,omitempty"`
	Kind   string `json:"kind,omitempty"`
	System string `json:"system,omitempty"`
}

// World is a world of the library with its copies, newest first.
type World struct {
	// unique, for commands and addresses
	Name string `json:"name"`
	Game string `json:"game"`
	// the name players see
	Title string   `json:"title"`
	Note  string   `json:"note,omitempty"`
	Tags  []string `json:"tags"`
	// newest first; those that are set aside last
	Copies []Copy `json:"copies"`
	// Servers are those where the world has been brought to, or was taken from.
	Servers []string `json:"servers"`
	// of one world that is asked for: worlds that may be the same one
	Same []SameWorld `json:"same,omitempty"`
}

// SameWorld is a world that may be the same as another one.
type SameWorld struct {
	World string `json:"world"`
	Title string `json:"title"`
	Why   string `json:"why"`
	// percent of the content that the newest copies have in common
	Share int `json:"share"`
}

// ChangeWorld is what a person says of a world; what is left out stays as it is.
type ChangeWorld struct {
	// written into the world, as another copy, where the game's profile can
	Title *string   `json:"title,omitempty" maxLength:"200"`
	Note  *string   `json:"note,omitempty" maxLength:"4000"`
	Tags  *[]string `json:"tags,omitempty" maxItems:"20"`
}

// ChangeCopy is what a person says of a copy; what is left out stays as it is.
type ChangeCopy struct {
	Note *string `json:"note,omitempty" maxLength:"4000"`
	// a pinned copy cannot be set aside
	Pinned *bool `json:"pinned,omitempty"`
	// set aside: it goes when it has been kept long enough; false brings it back
	Aside *bool `json:"aside,omitempty"`
}

// Lineage is where a world's copies came from and where they went.
type Lineage struct {
	World string `json:"world"`
	// oldest first
	Steps []LineageStep `json:"steps"`
}

// LineageStep is one thing that happened to a world.
type LineageStep struct {
	At time.Time `json:"at"`
	// a copy came in, was taken from a server, was made of another one; or was brought onto a
	// server
	What string `json:"what" enum:"arrived,taken,edited,brought"`
	Copy string `json:"copy"`
	// the copy that it was made of, or that had been brought there
	Of         string `json:"of,omitempty"`
	Server     string `json:"server,omitempty"`
	Changeover int64  `json:"changeover,omitempty"`
	// of the changeover
	Kind string `json:"kind,omitempty"`
	// of the changeover
	State  string `json:"state,omitempty"`
	By     string `json:"by,omitempty"`
	Source string `json:"source,omitempty"`
	Say    string `json:"say"`
}

// Map says where a picture stands in the world.
type Map struct {
	world.Map
	Landmarks []PlacedLandmark `json:"landmarks"`
	// Players are those of whom the world tells where they stand.
	Players []PlacedPlayer `json:"players"`
}

// PlacedPlayer is a player where the world says that they stand.
type PlacedPlayer struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	world.Point
	// the picture reaches so far
	Shown bool `json:"shown"`
}

// PlacedLandmark is a landmark whose place is known.
type PlacedLandmark struct {
	ID int64 `json:"id"`
	world.Point
	Say string `json:"say"`
	// the picture reaches so far
	Shown bool `json:"shown"`
}

// Compared is a comparison of two copies.
type Compared struct {
	Before Copy `json:"before"`
	After  Copy `json:"after"`
	compare.Comparison
}

// Vault is what the vault holds and what it is doing.
type Vault struct {
	Packs int `json:"packs"`
	// on disk
	Bytes int64 `json:"bytes"`
	// chunks and lists of files
	Chunks int `json:"chunks"`
	Copies int `json:"copies"`
	// bytes of all copies, unpacked and each counted alone
	Content int64 `json:"content"`
	// what it is doing, or did last
	Work *VaultWork `json:"work,omitempty"`
}

// VaultWork is something that the vault does with all that it holds.
type VaultWork struct {
	Kind  string     `json:"kind" enum:"check,collect,rebuild,recover"`
	By    string     `json:"by"`
	Begun time.Time  `json:"begun"`
	Ended *time.Time `json:"ended,omitempty"`
	// of all: bytes when it is a check, packs otherwise
	Done      int64           `json:"done"`
	All       int64           `json:"all"`
	Failure   *Failure        `json:"failure,omitempty"`
	Checked   *VaultChecked   `json:"checked,omitempty"`
	Collected *VaultCollected `json:"collected,omitempty"`
	Rebuilt   *VaultRebuilt   `json:"rebuilt,omitempty"`
	// of a recovery, with the store that it is from
	Store     string     `json:"store,omitempty"`
	Recovered *Recovered `json:"recovered,omitempty"`
}

// Copy is an immutable stored state of a world.
type Copy struct {
	// content address, 64 hexadecimal digits
	ID     string      `json:"id"`
	World  string      `json:"world"`
	Kind   string      `json:"kind" enum:"arrival,backup,safety,edited"`
	Facts  world.Facts `json:"facts"`
	Bytes  int64       `json:"bytes"`
	Files  int64       `json:"files"`
	Source string      `json:"source"`
	// the game profile says how to draw it from above
	Drawn     bool      `json:"drawn"`
	CreatedBy string    `json:"createdBy"`
	CreatedAt time.Time `json:"createdAt"`
	Note      string    `json:"note,omitempty"`
	Pinned    bool      `json:"pinned"`
	// that it was taken from
	Server string `json:"server,omitempty"`
	// when it was set aside
	AsideAt *time.Time `json:"asideAt,omitempty"`
	AsideBy string     `json:"asideBy,omitempty"`
	// when a copy that is set aside goes; absent: never by itself
	Goes *time.Time `json:"goes,omitempty"`
}

// CopyFile is one file of a copy.
type CopyFile struct {
	// as in a world that was played alone: realms inside
	Path     string    `json:"path"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// Arrival is the answer to a sent world.
type Arrival struct {
	Copy Copy `json:"copy"`
	// false when the library had this content already
	New bool `json:"new"`
	// Same are worlds of the library that this may be another state of.
	Same []SameWorld `json:"same,omitempty"`
	// entries of the archive that are no part of any world
	Ignored []string `json:"ignored"`
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
	// how it is controlled, on a host elsewhere
	Control server.Means `json:"control,omitzero"`
	// the folder as the game itself names it, where that is another name
	GameRoot string `json:"gameRoot,omitempty"`
	// another one says that something in its files has changed, if only what is not shown here
	Revision string `json:"revision,omitempty"`
	// SeenAt is when this was seen; absent: it has not been looked at yet.
	SeenAt *time.Time `json:"seenAt,omitempty"`
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
	// Asked is what a person has been asked to do, where only people can start and stop it; left
	// out: nothing.
	Asked *Asked `json:"asked,omitempty"`
	// Note says why its state cannot be told, or whose word for it is taken.
	Note string `json:"note,omitempty"`
	// Trouble says why the server's files cannot be read; "" when they can.
	Trouble string `json:"trouble,omitempty"`
	// Amiss says what of its settings and the world that they name would bite at its next start, AmissNext
	// what to do; its sheet, made alone, says more. It is looked for now and then, and left out when nothing is.
	Amiss     string `json:"amiss,omitempty"`
	AmissNext string `json:"amissNext,omitempty"`
	// OtherWorld says that the running server has another world open than the one last put there, or would at its
	// next start, OtherWorldNext what to do
	OtherWorld     string `json:"otherWorld,omitempty"`
	OtherWorldNext string `json:"otherWorldNext,omitempty"`
	// Can is what its host can do, absent while that is not known and in lists, and Lacks what is
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
	// for commands and addresses
	Name string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,39}$"`
	// where it lives; the service's own machine if left out
	Host string `json:"host,omitempty"`
	Game string `json:"game"`
	// may be left out when the game has one kind
	Kind string `json:"kind,omitempty"`
	// the server's folder, absolute; elsewhere it may begin at the account's folder
	Root string `json:"root"`
	// the folder as the game itself names it, where its settings and log speak of another one
	GameRoot string `json:"gameRoot,omitempty"`
	// program and arguments, run in the server's folder; only a server that the service starts by
	// itself, or in a session, needs it
	Command []string `json:"command,omitempty"`
	// how it is started, stopped and spoken to, on a host elsewhere
	Control server.Means      `json:"control,omitzero"`
	Env     map[string]string `json:"env,omitempty"`
	// the server's version, where no file tells it
	Version string `json:"version,omitempty"`
	// the operating system that the server is made for, where its files depend on it; linux
	// when left out
	System string `json:"system,omitempty" enum:"linux,macos,windows"`
}

// StartServer says how a server is started.
type StartServer struct {
	// also when the world that its settings name is not there, so that it makes a new one
	NewWorld bool `json:"newWorld,omitempty"`
}

// StopServer says how a server is stopped.
type StopServer struct {
	// also when a game that loses what is not saved cannot be told to save
	Unsaved bool `json:"unsaved,omitempty"`
}

// SayStopped is a person's word that a server is stopped.
type SayStopped struct {
	// also where signs, such as its lock or its port, say that it runs
	DespiteSigns bool `json:"despiteSigns,omitempty"`
}

// IntendWorld is a person's word that a server runs the world that it should.
type IntendWorld struct {
	// the world's name on disk, to be sure; left out: the one that is seen
	World string `json:"world,omitempty"`
}

// ServerChange is how a server is controlled from now on, whole.
type ServerChange struct {
	Control  server.Means `json:"control"`
	GameRoot string       `json:"gameRoot,omitempty"`
	// program and arguments; left out: as before
	Command []string `json:"command,omitempty"`
}

// Sheet is a fit sheet and what was compared; World and Copy are empty when a
// server was checked alone.
type Sheet struct {
	World  string `json:"world"`
	Copy   string `json:"copy"`
	Server string `json:"server"`
	// of the changeover that it is made for
	Kind  string    `json:"kind,omitempty"`
	Sheet fit.Sheet `json:"sheet"`
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
	// what it does, in a few words
	Title string `json:"title"`
	// what there is when it is done or undone; "" before, and of undone ones in lists
	Outcome string `json:"outcome,omitempty"`
	// what could not be seen of one that is done; left out: it is proven
	Unproven []string `json:"unproven,omitempty"`
	// the proof has shown that its world is the one running
	Running bool `json:"running,omitempty"`
	// one that did not end done, told for a person who was not there; only of one that is asked for alone
	Story []plan.Part `json:"story,omitempty"`
	// it leaves something on its server that an undo could take back
	Lasting bool `json:"lasting"`
	// Undoable says whether it can be undone now; WhyNot why not.
	Undoable bool   `json:"undoable"`
	WhyNot   string `json:"whyNot,omitempty"`
	// while it is running
	Progress *plan.Progress `json:"progress,omitempty"`
	// Later are the changeovers to undo before this one, newest first.
	Later []int64 `json:"later,omitempty"`
	// Join is where to go and look, when it is done; JoinNote from where that works.
	Join     string `json:"join,omitempty"`
	JoinNote string `json:"joinNote,omitempty"`
	// Landmarks are what to look for there.
	Landmarks []Sighting `json:"landmarks,omitempty"`
}

// Wish is what a person wants to do to a server.
type Wish = plan.Wish

// Unfinished is an upload that has not become a copy.
type Unfinished struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	By   string `json:"by"`
	// bytes announced
	Size int64 `json:"size"`
	// bytes that have come; all of them: a person must say what to do with it
	Received int64 `json:"received"`
	// when the last of them came
	Last time.Time `json:"last"`
	// when it is removed if nobody goes on with it
	Goes time.Time `json:"goes"`
}

// Listing is what a sender has, before it sends it.
type Listing struct {
	// of the folder
	Name  string         `json:"name" maxLength:"255"`
	Files []world.Listed `json:"files"`
}

// Recognised is what is found in a listing.
type Recognised struct {
	world.Survey
	// what must be known to go on; empty: all is told
	Needs []world.Need `json:"needs"`
	// small PNG images, base64, by where the world stands
	Pictures map[string]string `json:"pictures"`
}

// Lacking are chunks that the vault does not have.
type Lacking struct {
	Hashes []string `json:"hashes"`
}

// Assembly is a world as files whose chunks the vault has.
type Assembly struct {
	// of the folder or archive that they came from
	Name string `json:"name" minLength:"1" maxLength:"255"`
	// which world, when they hold several
	Root string `json:"root,omitempty"`
	// where it came from, for people; the name when left out
	Source string          `json:"source,omitempty" maxLength:"255"`
	Files  []AssembledFile `json:"files"`
}

// AssembledFile is a file of an Assembly.
type AssembledFile struct {
	// with forward slashes; ends in one for an empty folder
	Path     string    `json:"path"`
	Modified time.Time `json:"modified"`
	Chunks   []Chunk   `json:"chunks,omitempty"`
}

// Landmark is a person's note of something to look for in a world.
type Landmark struct {
	ID  int64  `json:"id"`
	Say string `json:"say"`
	// as people write it: 120 / -30
	Place     string    `json:"place,omitempty"`
	CreatedBy string    `json:"createdBy"`
	CreatedAt time.Time `json:"createdAt"`
}

// NewLandmark is a landmark to add.
type NewLandmark struct {
	// what there is to see, such as: red roof by the well
	Say string `json:"say" maxLength:"200"`
	// where, as people write it: 120 / -30
	Place string `json:"place,omitempty" maxLength:"80"`
}

// Sighting is a landmark and what was found of it after a changeover.
type Sighting struct {
	Landmark
	// absent: nobody has looked yet
	Seen   *bool      `json:"seen,omitempty"`
	ToldBy string     `json:"toldBy,omitempty"`
	ToldAt *time.Time `json:"toldAt,omitempty"`
}

// Aside is what one changeover has set aside on a server.
type Aside struct {
	Server     string `json:"server"`
	Changeover int64  `json:"changeover"`
	// what to type to remove it
	Name string `json:"name"`
	// from the server's root
	Folder string     `json:"folder"`
	Holds  []string   `json:"holds"`
	Bytes  int64      `json:"bytes"`
	Files  int        `json:"files"`
	Since  *time.Time `json:"since,omitempty"`
	// when the rule removes it
	Goes      *time.Time `json:"goes,omitempty"`
	Rule      string     `json:"rule"`
	Removable bool       `json:"removable"`
	// no changeover on record has made it: the records are older than the files
	Unknown bool `json:"unknown,omitempty"`
	// of an unknown one: the worlds in it, and who said that it stays as it is
	Worlds []AsideWorld `json:"worlds"`
	KeptBy string       `json:"keptBy,omitempty"`
}

// AsideWorld is a world in a working folder.
type AsideWorld struct {
	// the part of the folder that it is in: aside, failed, strays or staged; and what that means
	Part       string     `json:"part"`
	What       string     `json:"what"`
	World      string     `json:"world"`
	Title      string     `json:"title"`
	LastPlayed *time.Time `json:"lastPlayed,omitempty"`
	Bytes      int64      `json:"bytes"`
}

// Window is a measured stop window, in milliseconds. Of a changeover that went
// back only the total is known; its parts are -1.
type Window struct {
	TotalMS int64 `json:"totalMs"`
	// the game's own stopping; -1: it was stopped already
	StoppingMS int64 `json:"stoppingMs"`
	OursMS     int64 `json:"oursMs"`
	// the game's own starting, until it was ready
	StartingMS int64 `json:"startingMs"`
	// why Reshard's own part took longer than a second; left out when it did not
	Why string `json:"why,omitempty"`
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
	// -1: not known
	TookMS int64 `json:"tookMs"`
	// written or read
	Bytes int64 `json:"bytes,omitempty"`
	// Note is what a person should know of how it went.
	Note string `json:"note,omitempty"`
	// Warns: the note is of something that went otherwise than one would wish
	Warns bool `json:"warns,omitempty"`
}

// LogLine is one line of a server's log.
type LogLine struct {
	Text string `json:"text"`
	// of the line's end in its run's log, or in what was printed
	Offset int64  `json:"offset"`
	Run    string `json:"run"`
	// it stands in no log; the server has one of its own, and printed this beside it
	Printed bool `json:"printed"`
}

// Asked is what a person has been asked to do, and when.
type Asked struct {
	plan.Asks
	Since time.Time `json:"since"`
}
