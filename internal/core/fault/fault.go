// Package fault holds the stable error codes of Reshard and the one table that
// turns them into words for people. Every other package wraps what went wrong
// in an *Error that names the operation and the thing it was done to; the
// faces (CLI, API, console) ask this package what to say and never match on
// error texts.
package fault

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// Code is a stable identifier of a kind of failure. Codes are part of the API:
// they are never renamed, and a new kind of failure gets a new code.
type Code string

// The codes. The comment says when each is used.
const (
	Internal      Code = "internal"         // a defect of Reshard itself
	Invalid       Code = "invalid"          // a value that was given cannot be used
	NotFound      Code = "not-found"        // a named thing does not exist
	Exists        Code = "exists"           // a thing of that name exists already
	NotEmpty      Code = "not-empty"        // a folder that should be empty is not
	Denied        Code = "denied"           // not signed in
	NotAllowed    Code = "not-allowed"      // signed in, and may not do this
	Refused       Code = "refused"          // the host does not let the service do this
	Unsupported   Code = "not-supported"    // the host, or the game, has no way to do this
	Unreachable   Code = "unreachable"      // the service, a host or the database does not answer
	Misbehaving   Code = "misbehaving"      // a host or store sends without end, or more than it announced
	TooSlow       Code = "too-slow"         // an act took longer than its limit; it may still have happened
	StateUnknown  Code = "state-unknown"    // it cannot be told whether a server runs
	StandsBy      Code = "stands-by"        // the service does not act: another one does, or it has lost its lease
	NotAWorld     Code = "not-a-world"      // nothing in the tree is a world of a known game
	ManyWorlds    Code = "many-worlds"      // more than one world, a person must say which
	BadArchive    Code = "bad-archive"      // an archive is empty, truncated, encrypted or inconsistent
	UnsafeArchive Code = "unsafe-archive"   // an archive would write outside its folder, or holds links or devices
	TooLarge      Code = "too-large"        // a limit on size or count is exceeded
	NoSpace       Code = "no-space"         // the disk or an allowance is full
	Damaged       Code = "damaged"          // stored content does not match its address
	BadProfile    Code = "bad-profile"      // a game profile does not validate
	BadSettings   Code = "bad-settings"     // a settings file cannot be read or edited safely
	Blocked       Code = "blocked"          // the fit sheet has a row that blocks
	NeedsChoice   Code = "needs-choice"     // the fit sheet has a row that a person must answer
	Busy          Code = "busy"             // another changeover holds the server
	Changed       Code = "changed"          // something changed since the draft was made
	WrongState    Code = "wrong-state"      // the thing is not in a state that allows this
	NotStopped    Code = "not-stopped"      // a server did not stop when asked
	NotReady      Code = "not-ready"        // a server did not come up
	NotProven     Code = "not-proven"       // the running world could not be proven to be the intended one
	Interrupted   Code = "interrupted"      // the work was cancelled or the service went down
	Held          Code = "held"             // the files are in a state that only a person can judge
	CrossDevice   Code = "other-filesystem" // a rename would cross file systems
)

// next says, for each code, what a person can do when the error itself does
// not know better.
var next = map[Code]string{
	Internal: "Nothing of yours was touched by the failing call. Look at the service's log for the operation " +
		"named above.",
	Invalid:     "Correct the value and try again.",
	NotFound:    "Check the spelling; the list commands (worlds, servers, changeovers) show what there is.",
	Exists:      "Choose another name, or use the one that exists.",
	NotEmpty:    "Look into the folder: something has been put there. Nothing of it was touched.",
	Denied:      "Sign in: reshard sign-in --address URL --user NAME.",
	NotAllowed:  "Ask somebody who may, or sign in as another user.",
	Refused:     "Give the account that the service uses on the host the right to read and write there.",
	Unsupported: "Look at what the host can do: reshard servers show SERVER.",
	TooSlow:     "Try again when the host answers as usual; what was asked for may still have happened.",
	StateUnknown: "Look at the server by its own means. When you know that it is stopped, say so: reshard servers " +
		"stopped SERVER.",
	StandsBy: "Ask the service that acts, or wait: this one takes over by itself when the other is gone.",
	Misbehaving: "Check that its address is right, and ask its operator. Reshard waits before it connects again, " +
		"longer each time, until a check succeeds.",
	Unreachable: "See by its own means whether it answers, and try again; what waits for it goes on by itself when " +
		"it does.",
	NotAWorld: "Point at the world's own folder or at an archive that holds it; reshard games show GAME tells " +
		"what marks a world.",
	ManyWorlds: "Say which one with --root FOLDER.",
	BadArchive: "Make the archive again from the world's folder, without a password, and check that the copy of " +
		"the file is complete.",
	UnsafeArchive: "Do not use this archive. Make a new one from the world's folder itself.",
	TooLarge:      "Check that this is the right file; if it is, raise the limit in the service's settings.",
	NoSpace:       "Free space there and try again; nothing that was live has been changed.",
	Damaged: "Do not use this copy: reshard vault check tells which are touched. Send the world again from its " +
		"source.",
	BadProfile:  "Correct the profile at the line named above.",
	BadSettings: "Open the file at the line named above and correct it by hand.",
	Blocked:     "Read the rows marked 'blocks': each says what would mend it.",
	NeedsChoice: "Answer the rows marked 'choose' with the option each one names.",
	Busy:        "Wait for the other changeover to end, or undo it: reshard changeovers.",
	Changed:     "Make it again: sheet and plan are worked out from what is there now.",
	WrongState:  "Look at its present state and choose what fits it.",
	NotStopped:  "Look at the server's log and stop it by its own means; nothing of its world was moved.",
	NotReady:    "Read the last lines of the server's log: they usually say why.",
	NotProven:   "Read the proof: each line says what was expected and what was seen.",
	Interrupted: "Start it again.",
	Held:        "Read the changeover's note, look at the named folders, and settle it by hand. Nothing was deleted.",
	CrossDevice: "Move the server's folder so that its worlds and the folder above them are on one file system.",
}

// Codes lists every code that has words, for tests and documentation.
func Codes() []Code {
	out := make([]Code, 0, len(next))
	for c := range next {
		out = append(out, c)
	}
	return out
}

// Error is a failure with a stable code. Op is the operation in plain words
// ("read settings"), Path the thing it was done to (may be empty), What the
// finding in a sentence, Next what to do (empty: the code's own advice).
type Error struct {
	Code Code
	Op   string
	Path string
	What string
	Next string
	// Options are the answers that a person can choose from, where there are some.
	Options []string
	// Labels say what each of Options is, in the same order; or none do.
	Labels []string
	Err    error
}

// Error gives "op path: what: cause", leaving out what is empty.
func (e *Error) Error() string {
	head := strings.TrimSpace(e.Op + " " + e.Path)
	parts := []string{}
	if head != "" {
		parts = append(parts, head)
	}
	if e.What != "" {
		parts = append(parts, e.What)
	}
	if e.Err != nil {
		parts = append(parts, e.Err.Error())
	}
	if len(parts) == 0 {
		return string(e.Code)
	}
	return strings.Join(parts, ": ")
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// Is makes errors.Is(err, fault.NoSpace.As()) work, and errors.Is with the errors of
// io/fs, which code that only reads a tree asks for.
func (e *Error) Is(target error) bool {
	switch target {
	case fs.ErrNotExist:
		return e.Code == NotFound
	case fs.ErrExist:
		return e.Code == Exists
	case fs.ErrPermission:
		return e.Code == Refused
	}
	c, ok := target.(codeError)
	return ok && c.code == e.Code
}

// Passing reports whether a failure may pass by itself, so that what was tried is worth
// trying again as it stands: nobody answered, or not in time. What was asked for may
// have happened all the same.
func Passing(err error) bool {
	switch CodeOf(err) {
	case Unreachable, Misbehaving, TooSlow, StateUnknown:
		return true
	}
	return false
}

// Ended gives the code for a context that has ended: TooSlow for a deadline, and
// Interrupted for a cancellation, unless its cause has a code of its own. It is "" for
// other errors.
func Ended(err error) Code {
	var e *Error
	switch {
	case errors.As(err, &e):
		return e.Code
	case errors.Is(err, context.DeadlineExceeded):
		return TooSlow
	case errors.Is(err, context.Canceled):
		return Interrupted
	}
	return ""
}

type codeError struct{ code Code }

func (c codeError) Error() string { return string(c.code) }

// As gives an error value that errors.Is matches against any *Error of this code.
func (c Code) As() error { return codeError{c} }

// New makes an error of a code about a thing.
func New(code Code, op, path, format string, args ...any) *Error {
	return &Error{Code: code, Op: op, Path: path, What: fmt.Sprintf(format, args...)}
}

// Wrap attaches a code, an operation and a path to a cause. A cause that
// carries a code already keeps it: the place nearest to the failure knows best. A
// limit of time that has passed is TooSlow whatever the caller thinks of it.
func Wrap(code Code, op, path string, err error) error {
	if err == nil {
		return nil
	}
	if own := Ended(err); own != "" {
		code = own
	}
	return &Error{Code: code, Op: op, Path: path, Err: err}
}

// With gives a copy of e whose advice is next.
func (e *Error) With(next string) *Error {
	c := *e
	c.Next = next
	return &c
}

// Options gives the answers that an error offers to choose from.
func Options(err error) []string {
	if e := first(err, offers); e != nil {
		return e.Options
	}
	return nil
}

func offers(e *Error) bool { return len(e.Options) > 0 }

// Labels gives what the answers of Options are.
func Labels(err error) []string {
	if e := first(err, offers); e != nil {
		return e.Labels
	}
	return nil
}

// CodeOf finds the code of an error; Internal when it has none, "" for nil.
func CodeOf(err error) Code {
	if err == nil {
		return ""
	}
	var e *Error
	if errors.As(err, &e) {
		return e.Code
	}
	return Internal
}

// Words gives what to say about an error: what happened, and what to do next.
// The text of an error without a code is withheld: it may hold anything.
func Words(err error) (what, todo string) {
	if err == nil {
		return "", ""
	}
	var e *Error
	if !errors.As(err, &e) {
		return "Something went wrong inside Reshard.", next[Internal]
	}
	if advises := first(e, func(e *Error) bool { return e.Next != "" }); advises != nil {
		return e.told(), advises.Next
	}
	return e.told(), next[e.Code]
}

// first gives the first error among err and those that it holds, joined ones too, of which something holds; nil: none.
func first(err error, hold func(*Error) bool) *Error {
	if e, ok := err.(*Error); ok && hold(e) {
		return e
	}
	switch w := err.(type) {
	case interface{ Unwrap() error }:
		return first(w.Unwrap(), hold)
	case interface{ Unwrap() []error }:
		for _, one := range w.Unwrap() {
			if e := first(one, hold); e != nil {
				return e
			}
		}
	}
	return nil
}

// told is an error's text. Of a defect, and of what is not reached and says so itself, the
// text of a cause without a code is withheld: it was written for whoever wrote the cause, and
// may hold an address, a path or a password.
func (e *Error) told() string {
	parts := []string{}
	if head := strings.TrimSpace(e.Op + " " + e.Path); head != "" {
		parts = append(parts, head)
	}
	if e.What != "" {
		parts = append(parts, e.What)
	}
	var coded *Error
	switch {
	case errors.As(e.Err, &coded):
		parts = append(parts, coded.told())
	case e.Code == Internal && e.What == "":
		parts = append(parts, "something went wrong inside Reshard")
	case e.Err != nil && e.Code != Internal && (e.Code != Unreachable || e.What == ""):
		parts = append(parts, e.Err.Error())
	}
	if len(parts) == 0 {
		return string(e.Code)
	}
	return strings.Join(parts, ": ")
}
