package account

import (
	"fmt"
	"slices"
	"time"

	"reshard/internal/core/capability"
)

// Findings are what a check has found of an account: by trying, in a folder of its own.
type Findings struct {
	At time.Time `json:"at"`
	// Home is the folder where one arrives after signing in, Tried the one in which the check
	// tried what can be done; "": nothing could be written.
	Home  string `json:"home"`
	Tried string `json:"tried,omitempty"`
	// RoundTrip is the time of a question and its answer, Clock by how much the host's clock is
	// ahead of the service's.
	RoundTrip time.Duration `json:"roundTrip" doc:"nanoseconds"`
	Clock     time.Duration `json:"clock" doc:"nanoseconds"`
	// Up and Down are what goes over the line, in bytes a second; 0 was not measured.
	Up   int64 `json:"up"`
	Down int64 `json:"down"`
	// Connections is how many there may be at once, as far as was tried.
	Connections int `json:"connections"`
	// Free is what is free where it tried, in bytes; -1 is not known.
	Free int64 `json:"free"`
	// Programs are those of the wanted ones that commands find there.
	Programs []string `json:"programs"`
	// Set is what can be done, as the planner reads it.
	Set capability.Set `json:"set"`
	// ReadOnly: nothing can be written. NoSync and NoSpace: announced, and it does not work.
	ReadOnly bool `json:"readOnly"`
	NoSync   bool `json:"noSync,omitempty"`
	NoSpace  bool `json:"noSpace,omitempty"`
	// Precise: FTP's listings are such that programs can read, with times to the second.
	Precise bool `json:"precise,omitempty"`
	// Strict: names that Windows does not take cannot be there.
	Strict bool `json:"strict,omitempty"`
}

// Has reports whether a program is there.
func (f Findings) Has(program string) bool { return slices.Contains(f.Programs, program) }

// Wanted are the programs whose presence a check looks for, and what each is good for.
func Wanted() []string {
	return []string{"tar", "gzip", "zstd", "b2sum", "sha256sum", "find", "cp", "sync", "tmux", "systemctl",
		"journalctl", "sqlite3", "python3"}
}

// Provided is what a hosting provider's own interface adds to a host; the zero value is nothing.
type Provided struct {
	Known   bool
	Unpacks bool // archives
}

// Says puts in words what findings mean for changeovers, with what a provider's own interface adds.
func (f Findings) Says(by Provided) []string {
	var out []string
	add := func(when bool, format string, args ...any) {
		if when {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	if f.ReadOnly {
		return []string{
			"Nothing can be written where this was tried: worlds can be looked at and copied from it, and nothing " +
				"can be " +
				"put on it. Once a server is added there, its own folder is tried, too.",
		}
	}
	add(f.Set.Unpack, "Worlds go over as one stream that is unpacked there.")
	bundled := by.Unpacks && f.Set.Costly && !f.Set.Unpack
	add(bundled, "Worlds of servers that the provider runs go over as one archive, which it unpacks.")
	add(!f.Set.Unpack && !bundled, "Worlds go over as files, many at once: there is no command to unpack a stream.")
	add(f.Set.Hash, "What has arrived is compared by hashes that are made there.")
	add(!f.Set.Hash && f.Set.Costly, "Of what has arrived the size of every file is compared, and the content of a "+
		"sample, unless all is wanted: reading it back takes about as long as sending it.")
	add(!f.Set.Hash && !f.Set.Costly,
		"What has arrived is compared by reading it back, which takes about as long as sending it.")
	add(f.Set.Databases, "Databases are backed up as they stand at one moment, by SQLite's own means, while "+
		"people play.")
	add(f.Set.Commands && !f.Set.Databases, "Databases that are written to are copied until two looks agree: there "+
		"is no sqlite3 or python3 to take them with.")
	add(f.Has("tmux"), "Servers can be run there in named sessions.")
	add(!f.Set.Commands && by.Known,
		"No commands can be given: its provider's own interface starts and stops the servers, or a person.")
	add(!f.Set.Commands && !by.Known,
		"No commands can be given: a person starts and stops the servers, and tells Reshard.")
	add(f.RoundTrip > 0, "A switch takes about %s of our own, whatever the size of the world.",
		max(100*time.Millisecond, (20*f.RoundTrip).Round(100*time.Millisecond)))
	add(f.Clock.Abs() > 5*time.Second, "Its clock is off by %s: times are compared with its own only.",
		f.Clock.Round(time.Second))
	for _, l := range f.Set.Lacks() {
		out = append(out, l.Say)
	}
	return out
}
