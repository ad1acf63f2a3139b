package wire

import (
	"time"

	"reshard/internal/core/keep"
	"reshard/internal/core/plan"
)

// MakeBackup asks for a backup of a server now.
type MakeBackup struct {
	Server string `json:"server"`
	// a world's name on disk; all worlds, the settings and what the server was if left out
	World string `json:"world,omitempty"`
	Note  string `json:"note,omitempty" maxLength:"4000"`
	// no rule removes it
	Pinned bool `json:"pinned,omitempty"`
	// a server that cannot hold its writes may be stopped for a moment
	MayStop bool `json:"mayStop,omitempty"`
	// read every file, also those that are known by size and time
	ReadAll bool `json:"readAll,omitempty"`
}

// Backup is a backup of a server.
type Backup struct {
	ID     int64  `json:"id"`
	Server string `json:"server"`
	// the rule that it was made by; by hand if left out
	Rule string `json:"rule,omitempty"`
	// the changeover that makes it
	Changeover int64  `json:"changeover,omitempty"`
	State      string `json:"state" enum:"running,done,failed,gave-way"`
	// when its rule was due
	Due     *time.Time `json:"due,omitempty"`
	Begun   time.Time  `json:"begun"`
	Ended   *time.Time `json:"ended,omitempty"`
	By      string     `json:"by"`
	Note    string     `json:"note,omitempty"`
	Pinned  bool       `json:"pinned"`
	Bytes   int64      `json:"bytes"`
	Failure *Failure   `json:"failure,omitempty"`
	// Good: stored and read back, whole, and what it is was read
	Good bool `json:"good"`
	// Says is what it is worth, in a sentence
	Says string `json:"says"`
	// Why it is kept, or goes
	Why string `json:"why,omitempty"`
	// when all of it was last read back
	Read *time.Time `json:"read,omitempty"`
	// what of it does not read any more
	Damage string `json:"damage,omitempty"`
	// set aside, by whom or which rule, and when it goes
	AsideAt *time.Time `json:"asideAt,omitempty"`
	AsideBy string     `json:"asideBy,omitempty"`
	Goes    *time.Time `json:"goes,omitempty"`

	Worlds []BackupWorld `json:"worlds"`
	// of one backup that is asked for: what the server was
	About *keep.Record `json:"about,omitempty"`
}

// BackupWorld is one world of a backup.
type BackupWorld struct {
	// its name on disk
	World string `json:"world"`
	// its name in the library, and its title
	Library string `json:"library"`
	Title   string `json:"title"`
	Copy    string `json:"copy"`
	Bytes   int64  `json:"bytes"`
	// it stood as in the backup before: nothing was stored
	AsBefore  bool           `json:"asBefore"`
	Wholeness plan.Wholeness `json:"wholeness"`
	// the same in a sentence
	Says string `json:"says"`
	// some of the files that changed while it was copied
	Moved []string `json:"moved,omitempty"`
}

// ChangeBackup is what a person says of a backup; what is left out stays as it is.
type ChangeBackup struct {
	Note *string `json:"note,omitempty" maxLength:"4000"`
	// no rule removes it
	Pinned *bool `json:"pinned,omitempty"`
	// set aside: it goes when it has been kept long enough; false brings it back
	Aside *bool `json:"aside,omitempty"`
}

// BackupQuery is which backups are wanted; what is left out asks for nothing.
type BackupQuery struct {
	Part
	Server string `json:"server,omitempty" query:"server"`
	Rule   string `json:"rule,omitempty" query:"rule"`
	State  string `json:"state,omitempty" query:"state" enum:"running,done,failed,gave-way"`
	Aside  bool   `json:"aside,omitempty" query:"aside" doc:"those that are set aside, and only these"`
}

// Rule is a rule of backups of one server.
type Rule struct {
	Server string    `json:"server"`
	Name   string    `json:"name"`
	Rule   keep.Rule `json:"rule"`
	// Says is the rule in a sentence
	Says string `json:"says"`
	// when it is due next; left out where that is while somebody plays, or when it is paused
	Due *time.Time `json:"due,omitempty"`
	// when it was begun last
	Begun     *time.Time `json:"begun,omitempty"`
	PausedAt  *time.Time `json:"pausedAt,omitempty"`
	PausedBy  string     `json:"pausedBy,omitempty"`
	CreatedBy string     `json:"createdBy"`
	CreatedAt time.Time  `json:"createdAt"`
	// what is wrong with it now
	Trouble string `json:"trouble,omitempty"`
	// the last good backup that it has made, and how many of its backups are kept
	LastGood *time.Time `json:"lastGood,omitempty"`
	Kept     int        `json:"kept"`
}

// NewRule is a rule to add.
type NewRule struct {
	Name string    `json:"name,omitempty" maxLength:"60" doc:"unique on its server; usual if left out"`
	Rule keep.Rule `json:"rule"`
}

// ChangeRule changes a rule; what is left out stays as it is.
type ChangeRule struct {
	Rule   *keep.Rule `json:"rule,omitempty"`
	Paused *bool      `json:"paused,omitempty"`
}

// PreviewRule asks what a rule would do.
type PreviewRule struct {
	Rule keep.Rule `json:"rule"`
	// the name of the rule that it would change; its backups are judged by it
	Name string `json:"name,omitempty"`
}

// RulePreview is what a rule would do: when it is due, what it would keep in the long run, and what
// becomes of the backups that are there.
type RulePreview struct {
	Says string `json:"says"`
	// the next times by the clock
	Next []time.Time `json:"next"`
	// what would be kept in the long run, as if the rule had been followed, oldest first, and how many were made
	// for it
	Shown []keep.Shown `json:"shown"`
	Made  int          `json:"made"`
	// what becomes of the backups that the rule has made, oldest first
	Backups []BackupFate `json:"backups"`
	// how many of these go
	Goes int `json:"goes"`
}

// BackupFate is what becomes of a backup, and why.
type BackupFate struct {
	ID    int64     `json:"id"`
	Begun time.Time `json:"begun"`
	Keeps bool      `json:"keeps"`
	Why   string    `json:"why"`
}

// Report is how it stands with the backups of one server.
type Report struct {
	Server string `json:"server"`
	// the rules that it has
	Rules []string `json:"rules"`
	// the last good backup; left out when there is none
	LastGood *time.Time `json:"lastGood,omitempty"`
	// when that was last read back
	LastRead *time.Time `json:"lastRead,omitempty"`
	Kept     int        `json:"kept"`
	Bytes    int64      `json:"bytes" doc:"what they hold, counting what they share once for each"`
	// what is wrong
	Troubles []string `json:"troubles"`
}

// Alert is something that needs a person.
type Alert struct {
	// what it is about: a rule, a store, the room, the clock
	Kind string `json:"kind" enum:"rule,backup,store,room,clock,world,hold,host,target,folders,records,down,copy"`
	// what of that kind, such as a rule's server and name
	Of     string    `json:"of"`
	Server string    `json:"server,omitempty"`
	Says   string    `json:"says"`
	Next   string    `json:"next"`
	Since  time.Time `json:"since"`
}

// BackupLimits are bounds of all servers' backups together, and of those of each.
type BackupLimits struct {
	keep.Totals
}

// NewStore is a store to add: another place that gets everything that the vault has.
type NewStore struct {
	Name string `json:"name" maxLength:"60"`
	Kind string `json:"kind" enum:"files,s3"`
	// files: the folder, absolute on the service's machine
	Folder string `json:"folder,omitempty"`
	// s3: where it answers, such as https://s3.example; the bucket, what names begin with, its region
	Endpoint string `json:"endpoint,omitempty"`
	Bucket   string `json:"bucket,omitempty"`
	Prefix   string `json:"prefix,omitempty"`
	Region   string `json:"region,omitempty"`
	// s3: the access key's id and its secret
	User   string `json:"user,omitempty"`
	Secret string `json:"secret,omitempty"`
	// its address may be one of a private network or of the service's machine
	Private bool `json:"private,omitempty"`
	// what goes there is not encrypted
	Plain bool `json:"plain,omitempty"`
	// it holds what another vault has sent there: to bring that back here
	Recover bool `json:"recover,omitempty"`
}

// Store is another place that gets everything that the vault has.
type Store struct {
	Name      string    `json:"name"`
	Kind      string    `json:"kind" enum:"files,s3"`
	Folder    string    `json:"folder,omitempty"`
	Endpoint  string    `json:"endpoint,omitempty"`
	Bucket    string    `json:"bucket,omitempty"`
	Prefix    string    `json:"prefix,omitempty"`
	Region    string    `json:"region,omitempty"`
	User      string    `json:"user,omitempty"`
	Private   bool      `json:"private,omitempty"`
	Plain     bool      `json:"plain"`
	CreatedBy string    `json:"createdBy"`
	CreatedAt time.Time `json:"createdAt"`
	// when it last did what was asked, and why it does not now
	Reached *time.Time `json:"reached,omitempty"`
	Trouble string     `json:"trouble,omitempty"`
	// what it has
	Packs int   `json:"packs"`
	Bytes int64 `json:"bytes"`
	// what it lacks, and since when the oldest of that is there
	Lacks      int        `json:"lacks"`
	LacksBytes int64      `json:"lacksBytes"`
	Behind     *time.Time `json:"behind,omitempty"`
	// packs encrypted for an older key, and packs that have not been read here yet
	OldKeys int `json:"oldKeys"`
	Unread  int `json:"unread,omitempty"`
	// packs of another service: this one neither wrote, recovered nor took them over, and never deletes them
	Foreign int `json:"foreign,omitempty"`
	// read-only: added for a recovery, and not taken over
	ReadOnly bool `json:"readOnly,omitempty"`
	// the next step against its trouble
	TroubleNext string `json:"troubleNext,omitempty"`
	// the number of packs that it refused and that are retried; the first of them, in the answer for one store
	Waits   int         `json:"waits,omitempty"`
	Waiting []StoreWait `json:"waiting,omitempty"`
	// packs to be deleted, with the time, in the answer for one store
	Deletes []StoreDeletion `json:"deletes,omitempty"`
	// why deletions wait for confirmation
	Asks string `json:"asks,omitempty"`
	// notes about its place
	Warnings []string `json:"warnings,omitempty"`
	// everything in it has been read back since then
	Checked *time.Time `json:"checked,omitempty"`
}

// StoreWait is a pack that a store refused.
type StoreWait struct {
	Pack  string    `json:"pack"`
	Tries int       `json:"tries"`
	Again time.Time `json:"again"`
	Why   string    `json:"why"`
}

// StoreDeletion is a pack in a store that the vault no longer needs.
type StoreDeletion struct {
	Pack  string    `json:"pack"`
	Bytes int64     `json:"bytes"`
	At    time.Time `json:"at"`
	// that time has passed
	Due bool `json:"due,omitempty"`
}

// TidyStore confirms deletions: exactly these packs.
type TidyStore struct {
	Packs []string `json:"packs" minItems:"1" maxItems:"1000000"`
}

// StoreHolder is the service that a store belongs to, by its mark, and what the store has.
type StoreHolder struct {
	// the machine of that service, and since when; absent: no mark
	Service string     `json:"service,omitempty"`
	Since   *time.Time `json:"since,omitempty"`
	// it is this service
	Ours bool `json:"ours"`
	// its packs, and how many of them this vault lists
	Packs int   `json:"packs"`
	Bytes int64 `json:"bytes"`
	Known int   `json:"known"`
	// identifies the mark; send it back to take the store over
	Mark string `json:"mark"`
}

// TakeOverStore names the mark that a person has confirmed; see StoreHolder.
type TakeOverStore struct {
	Mark string `json:"mark"`
}

// StoreKeys are the keys that stores are encrypted with, the newest first.
type StoreKeys struct {
	// where they are: without a copy of this file elsewhere, nobody can read the stores once the machine is gone
	File string     `json:"file"`
	Keys []StoreKey `json:"keys"`
	// packs in stores that have not been read here yet: their key is unknown
	Unread int `json:"unread,omitempty"`
}

// StoreKey is one of them.
type StoreKey struct {
	Public string `json:"public"`
	// it is the one that is encrypted with
	Counts bool `json:"counts"`
	// how many packs in stores need it
	Packs int `json:"packs"`
}

// StandingCheck is what a part of the standing check has read and found.
type StandingCheck struct {
	Packs    int       `json:"packs"`
	Bytes    int64     `json:"bytes"`
	Findings []Finding `json:"findings"`
}

// Finding is something that a check has found.
type Finding struct {
	At time.Time `json:"at"`
	// the store; left out: the vault itself
	Store  string `json:"store,omitempty"`
	Pack   string `json:"pack"`
	What   string `json:"what"`
	Mended bool   `json:"mended"`
}

// Recovered is what was brought back from a store.
type Recovered struct {
	// brought back, and there already
	Packs int   `json:"packs"`
	Bytes int64 `json:"bytes"`
	There int   `json:"there"`
	// packs whose key is missing
	NoKey int `json:"noKey,omitempty"`
	// what the store does not have whole
	Damaged []Finding `json:"damaged"`
}

// NewNoticeTarget is whom to tell of what needs a person.
type NewNoticeTarget struct {
	Name string `json:"name" maxLength:"60"`
	Kind string `json:"kind" enum:"webhook,mail"`
	// webhook: where notices are posted to
	URL string `json:"url,omitempty"`
	// mail: the server that takes it, as host:port; how the way there is encrypted; the account
	Server string `json:"server,omitempty"`
	Secure string `json:"secure,omitempty" enum:"tls,starttls,none"`
	User   string `json:"user,omitempty"`
	// mail: from whom and to whom
	From string   `json:"from,omitempty"`
	To   []string `json:"to,omitempty" maxItems:"20"`
	// webhook: what notices are signed with; mail: the account's password
	Secret string `json:"secret,omitempty"`
	// its address may be one of a private network or of the service's machine
	Private bool `json:"private,omitempty"`
}

// NoticeTarget is whom the service tells of what needs a person.
type NoticeTarget struct {
	Name      string    `json:"name"`
	Kind      string    `json:"kind" enum:"webhook,mail"`
	URL       string    `json:"url,omitempty"`
	Server    string    `json:"server,omitempty"`
	Secure    string    `json:"secure,omitempty"`
	User      string    `json:"user,omitempty"`
	From      string    `json:"from,omitempty"`
	To        []string  `json:"to"`
	Private   bool      `json:"private,omitempty"`
	CreatedBy string    `json:"createdBy"`
	CreatedAt time.Time `json:"createdAt"`
	// when it was last told something, and why the last try failed
	Told    *time.Time `json:"told,omitempty"`
	Trouble string     `json:"trouble,omitempty"`
}
