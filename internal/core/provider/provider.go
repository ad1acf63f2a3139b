// Package provider reads provider descriptions: YAML documents that tell how a hosting provider's own
// interface is spoken to, by requests, paths and answers, never by code.
package provider

import "time"

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
	// what is set on the provider's page instead of, or before, a settings file: by the keys of game
	// profiles, such as active-world
	Fields map[string]Field `yaml:"fields"`
	// where an answer that is an error says why
	Errors Answer `yaml:"errors"`
	// true: a server that has stopped may be started again by a watchdog or a schedule
	StartsByItself bool `yaml:"starts-by-itself"`
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
// {token}, {line}, {after}, and what first has found.
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
	// a request whose answer this one needs something of, such as a form's hidden field
	First *First `yaml:"first"`
	// codes of answers that are good; left out: 200 to 299
	Expect []int `yaml:"expect"`
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

// Log is how a server's log is read: from a place on, or as its last part.
type Log struct {
	// the request; {after} is the place up to which it was read, "" at first
	Request *Request `yaml:"request"`
	// a JSON pointer to the list of lines; left out: the answer is the text itself
	Lines string `yaml:"lines"`
	// a JSON pointer to the text within each; left out: each is a text
	Text string `yaml:"text"`
	// where the answer gives the place to go on from; left out: each answer is the last part of the
	// log, and what is new is what was not in the one before
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
