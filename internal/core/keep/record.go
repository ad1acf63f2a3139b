package keep

import (
	"encoding/json"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// RecordFormat is the first value of every record, RecordFile the file in which it stands in its copy, and
// RecordSettings the folder of the settings documents beside it.
const (
	RecordFormat   = "backup/1"
	RecordFile     = "reshard-backup.json"
	RecordSettings = "settings/"
)

// Record says what a server was when it was backed up: all that is needed to make it the same again. It is
// kept in the vault beside the worlds, so that a vault, or a store, tells of itself.
type Record struct {
	Reshard string    `json:"reshard"`
	Made    time.Time `json:"made"`
	By      string    `json:"by"`
	Note    string    `json:"note,omitempty"`
	Rule    string    `json:"rule,omitempty"`

	Server string `json:"server"`
	Host   string `json:"host"`
	Game   string `json:"game"`
	Kind   string `json:"kind"`
	System string `json:"system,omitempty"`
	// Root is the server's folder on its host, Command how it was started, Env what it was given.
	Root    string            `json:"root"`
	Command []string          `json:"command,omitempty"`
	Env     map[string]string `json:"env,omitempty"`

	// Version, Mods and Keys are what the server said of itself: keys are the profile's names of settings.
	Version string            `json:"version,omitempty"`
	Mods    []string          `json:"mods,omitempty"`
	Keys    map[string]string `json:"keys,omitempty"`
	Active  string            `json:"active,omitempty"`
	// Settings are the files of the settings documents, from the server's root; Lacking those that could not
	// be read, and why.
	Settings []string          `json:"settings"`
	Lacking  map[string]string `json:"lacking,omitempty"`
	Worlds   []RecordWorld     `json:"worlds"`
}

// RecordWorld is one world of a backup.
type RecordWorld struct {
	World     string         `json:"world"` // its name on disk
	Copy      string         `json:"copy"`
	Wholeness plan.Wholeness `json:"wholeness"`
	Moved     []string       `json:"moved,omitempty"`
}

// ParseRecord reads a record.
func ParseRecord(data []byte) (r Record, err error) {
	if err := json.Unmarshal(data, &r); err != nil || r.Reshard != RecordFormat || r.Server == "" {
		return Record{}, fault.New(fault.Invalid, "read", RecordFile, "it is no record of a backup")
	}
	return r, nil
}
