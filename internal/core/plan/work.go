package plan

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"regexp"
	"strconv"
	"time"
)

// A changeover's working folder is named after its number and something random: numbers begin again when the records
// are an older copy, and no folder of an earlier life is taken for one's own. Builds before named it by the number
// alone.
var workName = regexp.MustCompile(`^([1-9][0-9]{0,18})(?:-([0-9a-f]{8}))?$`)

// NewWorkName gives the name of a new working folder.
func NewWorkName(id int64) string {
	raw := make([]byte, 4)
	_, _ = rand.Read(raw) // it never fails
	return strconv.FormatInt(id, 10) + "-" + hex.EncodeToString(raw)
}

// ReadWorkName reads the name of a working folder; bare: it is one of the earlier form, a number alone.
func ReadWorkName(name string) (id int64, bare, ok bool) {
	m := workName.FindStringSubmatch(name)
	if m == nil {
		return 0, false, false
	}
	id, err := strconv.ParseInt(m[1], 10, 64)
	return id, m[2] == "", err == nil
}

// MarkFile is the file in a working folder that says whose it is.
const MarkFile = "changeover.json"

// markFormat is the format of a mark; docs/architecture.md describes it.
const markFormat = "work/1"

// Mark says whose a working folder is.
type Mark struct {
	Reshard    string    `json:"reshard"` // work/1
	Folder     string    `json:"folder"`
	Changeover int64     `json:"changeover"`
	Server     string    `json:"server"`
	Kind       string    `json:"kind"`
	BegunAt    time.Time `json:"begunAt"`
	// Ended is the state in which the changeover ended, and EndedAt when; "" while it has not, or could not say so.
	Ended   State      `json:"ended,omitempty"`
	EndedAt *time.Time `json:"endedAt,omitempty"`
}

// Bytes gives a mark as it stands in its file.
func (m Mark) Bytes() []byte {
	m.Reshard = markFormat
	out, _ := json.MarshalIndent(m, "", "  ") // it has nothing that JSON has not
	return append(out, '\n')
}

// ReadMark reads a mark; ok is false for what is none.
func ReadMark(data []byte) (m Mark, ok bool) {
	err := json.Unmarshal(data, &m)
	return m, err == nil && m.Reshard == markFormat
}
