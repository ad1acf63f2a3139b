// Package capability says what a host can do. A driver declares its capabilities, or
// finds them out by trying; the sheet, the plan and the proof read them and say in words
// what is not promised without. The zero value promises nothing.
package capability

import "time"

// NoTimes is the precision of times that tell nothing.
const NoTimes = 24 * time.Hour

// Set is what a host can do with files, and how it may be asked.
type Set struct {
	// ReadOnly: nothing can be written. All else that is said of writing is then void.
	ReadOnly bool `json:"readOnly,omitempty"`
	// AtomicReplace: a file takes another's place in one act. Without it a settings
	// write is two renames, with a moment in between when the name is not there.
	AtomicReplace bool `json:"atomicReplace"`
	// Exclusive: a rename onto a name that is taken fails, whatever happens at the same
	// time. Without it the name is looked at first.
	Exclusive bool `json:"exclusive"`
	// NoRename: not even a file is renamed. Nothing can be switched then.
	NoRename bool `json:"noRename,omitempty"`
	// RenameFolders: a full folder is renamed in one act, whatever its size.
	RenameFolders bool `json:"renameFolders"`
	// Sync: what was written or renamed can be made to survive a power cut.
	Sync bool `json:"sync"`
	// FreeSpace: the host tells how much is free.
	FreeSpace bool `json:"freeSpace"`
	// Hash, Copy and Unpack: a file is hashed or copied, an archive unpacked, over
	// there, without its bytes coming here.
	Hash   bool `json:"hash"`
	Copy   bool `json:"copy"`
	Unpack bool `json:"unpack"`
	// Databases: an SQLite database that somebody writes to is taken as it stood at one moment.
	Databases bool `json:"databases,omitempty"`
	// UnpackFiles: an archive is unpacked that stands there as a file.
	UnpackFiles bool `json:"unpackFiles,omitempty"`
	// Costly: each file that is read takes a connection of its own meanwhile.
	Costly bool `json:"costly,omitempty"`
	// Commands: programs can be run there.
	Commands bool `json:"commands"`
	// Events: the host tells when something changes.
	Events bool `json:"events"`
	// Owners: files can be given to the account that a server runs as. Modes: who may
	// read and write a file can be set.
	Owners bool `json:"owners"`
	Modes  bool `json:"modes"`
	// Account is who owns what is made there, in the host's own form; "" is not known.
	Account string `json:"account,omitempty"`
	// ExactCase: names that differ in capitals only are different files.
	ExactCase bool `json:"exactCase"`
	// AnyName: whatever bytes a name has but a slash and a NUL, it is kept. Without it some
	// characters and names are not: those that Windows does not take.
	AnyName bool `json:"anyName"`
	// TimePrecision is the smallest difference of times that the host keeps.
	TimePrecision time.Duration `json:"timePrecision" doc:"nanoseconds"`
	// Pace is the shortest time between two questions of the same kind.
	Pace time.Duration `json:"pace" doc:"nanoseconds"`
	// AtOnce is how many files are best written or read at the same time; 0 is one.
	AtOnce int `json:"atOnce,omitempty"`
}

// All is what a host can do on which everything is promised.
func All() Set {
	return Set{
		AtomicReplace: true, Exclusive: true, RenameFolders: true, Sync: true, FreeSpace: true, Owners: true,
		Modes:     true,
		ExactCase: true, AnyName: true, TimePrecision: time.Millisecond, Pace: 20 * time.Millisecond, AtOnce: 2,
	}
}

// Lack is something that a host cannot do, and what is therefore not promised.
type Lack struct {
	Name string `json:"name"`
	Say  string `json:"say"`
}

// Lacks lists what a set does not promise of that which a changeover relies on, in
// words.
func (s Set) Lacks() []Lack {
	var out []Lack
	add := func(has bool, name, say string) {
		if !has {
			out = append(out, Lack{name, say})
		}
	}
	add(s.RenameFolders, "rename of folders", "The files of a world are renamed one by one, so that the stop grows "+
		"with their number.")
	add(s.AtomicReplace, "atomic replace", "A settings file is replaced by two renames; for a moment between them it "+
		"is not there.")
	add(s.Exclusive, "exclusive rename", "A name that somebody takes at the same moment may be written over.")
	add(s.Sync, "sync", "A power cut on the host within seconds after a changeover may lose what was placed.")
	add(s.FreeSpace, "free space", "Whether there is room shows only while staging, before anything is stopped.")
	add(s.Owners, "owner", "Placed files belong to the account that Reshard uses there.")
	add(s.Modes, "modes", "Who may read and write placed files cannot be set.")
	add(s.ExactCase, "exact case", "Names that differ in capitals only are one file there.")
	add(s.AnyName, "any name", "Names with a character such as : or ?, or with a dot or a blank at their end, cannot "+
		"be there.")
	switch {
	case s.TimePrecision >= NoTimes:
		out = append(out, Lack{
			"times",
			"Its listings do not tell times that files are known by: what is unchanged is " +
				"compared.",
		})
	case s.TimePrecision > time.Second:
		out = append(out, Lack{
			"times",
			"Times are kept to " + s.TimePrecision.String() + " only, so an unchanged file is not known by its time.",
		})
	}
	return out
}
