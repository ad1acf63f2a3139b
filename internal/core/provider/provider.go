// Package provider reads provider descriptions: YAML documents that tell how a hosting provider's own
// interface is spoken to, by requests, paths and answers, never by code.
package provider

import (
	"math"
	"time"

	"github.com/dustin/go-humanize"
)

// Language is the version line of a description.
const Language = "provider/1"

// Description is one document.
type Description struct {
	// provider/1
	Reshard string `yaml:"reshard" need:"yes"`
	// a-z, 0-9 and hyphen
	ID string `yaml:"id" need:"yes"`
	// the provider's name, as people write it
	Title string `yaml:"title" need:"yes"`
	// where a person finds what stands for {machine}
	Machine string `yaml:"machine"`
	// how to sign in; left out: not at all
	SignIn SignIn `yaml:"sign-in"`
	// how often may be asked; left out: as often as is wanted
	Rate Rate `yaml:"rate"`
	// how a server's state is asked for
	State State `yaml:"state" need:"yes"`
	// how a server is started
	Start Act `yaml:"start"`
	// how a server is stopped
	Stop Act `yaml:"stop"`
	// how a line is said to its console; {line} is the line
	Console Act `yaml:"console"`
	// how its log is read
	Log Log `yaml:"log"`
	// how a file is sent to the page itself
	Upload Upload `yaml:"upload"`
	// how an archive that stands among the server's files is unpacked there
	Unpack Unpack `yaml:"unpack"`
	// the provider's own backups
	Backups Backups `yaml:"backups"`
	// what is set on the provider's page instead of, or before, a settings file: by the keys of game
	// profiles, such as active-world
	Fields map[string]Field `yaml:"fields"`
	// where an answer that is an error says why
	Errors Answer `yaml:"errors"`
	// what a server that has stopped may be started again by, as people call it, such as a watchdog, or
	// a schedule; left out: by nothing
	StartedBy string `yaml:"started-by"`
	// true: a start may update the game
	Updates bool `yaml:"start-updates"`
}

// SignIn is how to sign in: a header that is sent always, or a request whose answer gives a token, or
// one after which a cookie counts. {user} and {secret} are what a person has given.
type SignIn struct {
	// a header that goes with every request; {token} is what the request below gave
	Header Header `yaml:"header"`
	// the request to sign in with
	Request *Request `yaml:"request"`
	// where the answer gives the token; left out: its cookies count
	Token Answer `yaml:"token"`
	// for how long that counts; left out: until an answer says that it does not
	Lasts time.Duration `yaml:"lasts"`
}

// Header is a header of a request.
type Header struct {
	// its name, such as Authorization
	Name string `yaml:"name"`
	// its value, such as Bearer {token}
	Value string `yaml:"value"`
}

// Rate bounds how often may be asked.
type Rate struct {
	// so many requests …
	Requests int `yaml:"requests"`
	// … in so long
	In time.Duration `yaml:"in"`
}

// Request is one request. Exactly one of the methods names its path, from the origin that the host's
// record has. In path, query, headers, form and json stand placeholders: {machine}, {user}, {secret},
// {token}, what first has found, and what is said where more is.
type Request struct {
	// the path to get
	Get string `yaml:"get"`
	// the path to post to
	Post string `yaml:"post"`
	// the path to put to
	Put string `yaml:"put"`
	// the path to patch
	Patch string `yaml:"patch"`
	// the path to delete
	Delete string `yaml:"delete"`
	// what stands behind the path's question mark
	Query map[string]string `yaml:"query"`
	// headers of this request
	Headers map[string]string `yaml:"headers"`
	// a body as forms send it
	Form map[string]string `yaml:"form"`
	// a body in JSON, as a mapping, list or value
	JSON any `yaml:"json"`
	// upload only: the body is the file. body: it alone; any other word: the form's field that holds
	// it (multipart/form-data), beside the texts of form
	File string `yaml:"file"`
	// a request whose answer this one needs something of, such as a form's hidden field
	First *First `yaml:"first"`
	// codes of answers that are good; left out: 200 to 299
	Expect []int `yaml:"expect"`
	// how long its answer may take; left out: 20 seconds, and as long as there is progress for a file
	Takes time.Duration `yaml:"takes"`
	// the answer names a job that goes on
	Job *Job `yaml:"job"`
}

// First is a request that is made before another.
type First struct {
	// the path to get
	Get string `yaml:"get" need:"yes"`
	// what is found in its answer: each name is a placeholder then
	Find map[string]Answer `yaml:"find" need:"yes"`
}

// Answer is where something stands in an answer: by a JSON pointer (RFC 6901), or by a regular
// expression with a group named value.
type Answer struct {
	// a JSON pointer, such as /data/state
	Pick string `yaml:"pick"`
	// a regular expression with (?P<value>…)
	Find Pattern `yaml:"find"`
}

// IsZero reports whether nothing is said.
func (a Answer) IsZero() bool { return a.Pick == "" && a.Find.IsZero() }

// Job is what goes on after an answer, and is asked about until it has ended.
type Job struct {
	// where the answer names the job: {job} then
	Name Answer `yaml:"name" need:"yes"`
	// how it is asked about
	Ask Request `yaml:"ask" need:"yes"`
	// where the answer says how it stands
	State Answer `yaml:"state" need:"yes"`
	// what it says when it is done
	Done []string `yaml:"done" need:"yes"`
	// what it says when it has failed
	Failed []string `yaml:"failed"`
	// how often it is asked about; left out: every second
	Every time.Duration `yaml:"every"`
	// how long it may take; left out: two minutes
	Within time.Duration `yaml:"within"`
}

// State is how a server's state is asked for, and what its words mean. A word that none of the lists
// has leaves the state unknown.
type State struct {
	// the request
	Request Request `yaml:"request" need:"yes"`
	// where the answer gives the word
	Word Answer `yaml:"word" need:"yes"`
	// words for a server that runs
	Running []string `yaml:"running" need:"yes"`
	// words for one that is being started
	Starting []string `yaml:"starting"`
	// words for one that is being stopped
	Stopping []string `yaml:"stopping"`
	// words for one that is down
	Stopped []string `yaml:"stopped" need:"yes"`
	// where the answer gives since when it runs, as RFC 3339 or in seconds since 1970
	Since Answer `yaml:"since"`
}

// Act is something that is asked for.
type Act struct {
	// the request
	Request *Request `yaml:"request"`
	// stop only: the provider ends what has not stopped after so long
	KillsAfter time.Duration `yaml:"kills-after"`
}

// Log is how a server's log is read: from a place on, as its last part, or as it is written.
type Log struct {
	// how it comes: asked (again and again), events (server-sent events of HTML) or websocket (RFC
	// 6455); left out: asked
	By string `yaml:"by"`
	// the request; {after} is the place up to which it was read, "" at first
	Request *Request `yaml:"request"`
	// websocket only: the message that is sent first, in JSON
	Say any `yaml:"say"`
	// events only: the name of the events that hold lines; left out: those without a name
	Event string `yaml:"event"`
	// a JSON pointer to the list of lines in an answer, event or message; left out: it is the text
	// itself, or, with text, one line
	Lines string `yaml:"lines"`
	// a JSON pointer to the text within each; left out: each is a text
	Text string `yaml:"text"`
	// where the answer gives the place to go on from; left out: each answer is the last part of the
	// log, and what is new is what was not in the one before
	Next Answer `yaml:"next"`
}

// How a log comes.
const (
	LogAsked     = "asked"
	LogEvents    = "events"
	LogWebSocket = "websocket"
)

// Upload is how a file is sent to the page itself.
type Upload struct {
	// the request; {path} is where the file goes, from the server's folder, {folder} the folder of
	// that and {name} its last part
	Request *Request `yaml:"request"`
	// how large a file may be, such as 64 MB or 20 MiB
	Limit string `yaml:"limit"`
}

// Most is how large a file may be, in bytes; 0: none is sent so.
func (u Upload) Most() int64 {
	n, err := humanize.ParseBytes(u.Limit)
	if u.Request == nil || err != nil || n > math.MaxInt64 {
		return 0 // Lint has complained
	}
	return int64(n)
}

// Unpack is how an archive is unpacked that stands among the server's files.
type Unpack struct {
	// what it takes: zip, tar or tar.gz
	Format string `yaml:"format"`
	// the request; {path}, {folder} and {name} are of the archive, and {into} is the folder, from the
	// server's, into which its names go
	Request *Request `yaml:"request"`
}

// Backups are the provider's own.
type Backups struct {
	// how many there may be; left out: nobody knows
	Allowance int `yaml:"allowance"`
	// how they are listed
	List BackupList `yaml:"list"`
	// how one is made
	Make Act `yaml:"make"`
	// how one is removed; {backup} is its name
	Remove Act `yaml:"remove"`
}

// BackupList is how backups are listed.
type BackupList struct {
	// the request; {page} is what the answer before gave as the next page, "" at first
	Request *Request `yaml:"request"`
	// a JSON pointer to the list
	Items string `yaml:"items"`
	// a JSON pointer within each: its name
	Name string `yaml:"name"`
	// a JSON pointer within each: when it was made, as RFC 3339 or in seconds since 1970
	Made string `yaml:"made"`
	// a JSON pointer within each: its size in bytes
	Size string `yaml:"size"`
	// where the answer gives the next page; left out, or nothing there: it is the last
	Next Answer `yaml:"next"`
}

// Field is something that is set on the provider's page. What stands there beats the server's settings
// files.
type Field struct {
	// what it is called there
	Title string `yaml:"title" need:"yes"`
	// the request whose answer gives it
	Read Request `yaml:"read" need:"yes"`
	// where that answer gives it
	Value Answer `yaml:"value" need:"yes"`
	// the request that sets it; {value} is what it is set to
	Write Request `yaml:"write" need:"yes"`
}
