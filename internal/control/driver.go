package control

import (
	"context"
	"time"

	"reshard/internal/core/life"
)

// Driver runs the process of one server. Callers use a Control; only a Control calls a
// Driver. Calls may come from several goroutines at once.
//
// Every call returns soon after its context has ended. What was asked for may have
// happened all the same.
//
// Errors carry a code of package fault: Unreachable and TooSlow when the host does not
// answer, Refused when it does not let the service, Unsupported when it has no way to
// do this, Invalid for a command that cannot be run, WrongState for a process that is
// not there, or is there already.
type Driver interface {
	// Look tells what is there now. That no process is there is a statement that needs
	// evidence: a driver that could not look at all that it has to look at gives an
	// error, however sure it was a moment ago.
	Look(ctx context.Context) (Sight, error)
	// Start begins a new run with an empty log of its own and returns once the process
	// runs. It is WrongState while a process is there. A crash of the service within
	// Start leaves a process that Look finds, or none.
	Start(ctx context.Context) error
	Speaker
	// Pace is the shortest time between two looks.
	Pace() time.Duration
}

// Speaker is how a process is spoken and listened to.
type Speaker interface {
	// Say writes a line to the process's console.
	Say(ctx context.Context, line string) error
	// Signal tells the process to end.
	Signal(ctx context.Context, s Signal) error
	// ReadLog gives up to len(p) bytes of a run's log from an offset; 0 at its end, also
	// of a run that has not written anything yet.
	ReadLog(ctx context.Context, run string, p []byte, offset int64) (n int, err error)
}

// Signal is a way to tell a process to end.
type Signal string

// The signals. Kill cannot be refused by the process.
const (
	Interrupt Signal = "SIGINT"
	Terminate Signal = "SIGTERM"
	Kill      Signal = "SIGKILL"
)

// Sight is what a driver sees of a server's process.
type Sight struct {
	// Process is the one that runs; nil: it is not there, by Evidence.
	Process  *Process
	Evidence life.Evidence
	// By is whose word Evidence is, when it is one.
	By string
	// Run names the log that belongs to Process; without one, the log of the last run.
	// "" when there was none.
	Run string
	// Exit is how the last process ended, when that is known.
	Exit *Exit
}

// Process is a running server process.
type Process struct {
	// Says names it for people, such as "process 4711".
	Says  string
	Since time.Time
	// Ready says that it is taken to be ready for players without its log saying so: there is
	// no log, or somebody has given their word.
	Ready bool
	// Word is whose word it is that it runs; "": it was seen.
	Word string
	// Opens is the world that it is seen to have open without its log saying so; "": none is seen.
	Opens string
}

// Says tells how a server's state is known, for people.
func (s Sight) Says() string {
	if s.Process != nil {
		return s.Process.Says
	}
	return s.Evidence.Say(s.By)
}

// Exit is the end of a process. Code is -1 when it ended by a signal.
type Exit struct {
	Code int       `json:"code"`
	At   time.Time `json:"at"`
}

// Printer is a driver that also has the end of what a server printed in a run beside the log that it writes
// itself; "" where that is its log.
type Printer interface {
	Printed(ctx context.Context, run string) (string, error)
}

// Hearer is a driver that can tell why what a server says now would be lost: no room is left for its log. nil: nothing
// says that it would.
type Hearer interface {
	Deaf(ctx context.Context) error
}

// Stopper is a driver of a server that may have a command of its own to be stopped by, which
// then counts instead of what the game's profile says.
type Stopper interface {
	HasStop() bool
	// Stop asks the server to end, and does not wait.
	Stop(ctx context.Context) error
}

// Believer is a driver of a server that only people can see: what they say counts until they
// say something else, or signs contradict it.
type Believer interface {
	Believe(up bool, by string)
	// Against looks for signs that the server runs, which speak against a word that it is stopped.
	Against(ctx context.Context) []string
	// SaidEnd reports whether the log of a server that is down says that it ended well.
	SaidEnd(ctx context.Context) bool
	// See gives it eyes for signs.
	See(eyes Eyes)
}

// Asked is what people have been asked to do.
type Asked string

// What people are asked to do.
const (
	AskedToStart Asked = "start"
	AskedToStop  Asked = "stop"
)

// Words says what people are to do at a server, and by what it is seen that it was done.
func (a Asked) Words(name string) (say, watch string) {
	switch a {
	case AskedToStop:
		return "Stop " + name + " where you control it, such as on its provider's page, and wait until it says that " +
				"it is offline.",
			"Goes on by itself when the game's log says that it has ended, its lock goes or its TCP port closes; " +
				"else " +
				"say so."
	case AskedToStart:
		return "Start " + name + " where you control it, such as on its provider's page.",
			"Goes on by itself when the game's log says that it is ready, its lock comes, its TCP port opens or its " +
				"world's files are written; else say so once players can join."
	}
	return "", ""
}

// Asker is a driver that asks people to do things.
type Asker interface {
	// Asked is what they have been asked to do and when; "" nothing.
	Asked() (what Asked, since time.Time)
}

// Eyes look for signs of a server that nobody but people can start and stop, and keep for another
// life of the service what they were asked to do.
type Eyes interface {
	// Signs gives those that there are now. like are earlier ones: the same world and port are
	// looked at, which costs less than to find out which they are; the zero value has none.
	Signs(ctx context.Context, like Signs) (Signs, error)
	// ReadLog reads the game's log file from an offset, as Speaker.ReadLog does.
	ReadLog(ctx context.Context, p []byte, offset int64) (n int, err error)
	// Says reports whether the log says, from an offset on, that what people were asked to do is
	// done: the game is ready, or has ended well.
	Says(ctx context.Context, done Asked, from int64) bool
	// Keep has something be what is kept, and gives what writes it; Kept gives it back in another
	// life. nil is nothing.
	Keep(raw []byte) (write func())
	Kept() []byte
}

// Signs are what can be seen of a server from its files and from the network. None of them is a
// state: only that one of them has changed tells something.
type Signs struct {
	// Log is the size of the game's log file, in bytes; -1: there is none that could be read.
	Log int64 `json:"log"`
	// Locked: the game's lock is in World, the active one, from the worlds folder. Looked: it was
	// looked for.
	Looked bool   `json:"looked,omitempty"`
	Locked bool   `json:"locked,omitempty"`
	World  string `json:"world,omitempty"`
	// Listens: something takes connections at the TCP port; 0: it was not tried. UDP tells
	// nothing.
	Port    int  `json:"port,omitempty"`
	Listens bool `json:"listens,omitempty"`
	// Written is when a file of World was written last, as its listing tells; zero is not known.
	Written time.Time `json:"written,omitzero"`
	// Around: the game's locks in other worlds were looked for too. Near are their files with their times.
	Around bool                 `json:"around,omitempty"`
	Near   map[string]time.Time `json:"near,omitempty"`
}

// And gives later signs, with earlier ones where there are no later ones.
func (s Signs) And(later Signs) Signs {
	if !later.Looked {
		later.Looked, later.Locked, later.World = s.Looked, s.Locked, s.World
	}
	if later.Port == 0 {
		later.Port, later.Listens = s.Port, s.Listens
	}
	if later.Written.IsZero() && later.World == s.World {
		later.Written = s.Written
	}
	return later
}

// Neighbour is a driver that sees what else is going on around a server.
type Neighbour interface {
	// Others tells which other processes work in the server's folder.
	Others(ctx context.Context) (Others, error)
	// Accounts gives what the server's process, and what it has started, runs as, in the
	// form in which the host's files name their owners.
	Accounts(ctx context.Context) ([]string, error)
}

// Others are processes in a server's folder that are not the server's.
type Others struct {
	// Working are those that may write there: what they are, for people.
	Working []string
	// Passing are shells of people who happen to be in the folder.
	Passing []string
	// Hidden is how many processes could not be looked into.
	Hidden int
}
