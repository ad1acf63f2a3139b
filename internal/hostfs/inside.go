package hostfs

import (
	"strings"
	"sync"
	"time"

	"reshard/internal/core/fault"
)

// Inside remembers for a while which folders of a far tree were seen to be in its root once all links
// are followed: to ask for each name anew would cost more than what is done with it. It is safe for
// concurrent use; its zero value knows none.
type Inside struct {
	mu   sync.Mutex // held for moments only
	seen map[string]time.Time
}

// insideFor is how long a folder that was seen to be in the root is taken to be. A link that
// somebody puts in its place within that time would be followed, with the account's rights.
const insideFor = 30 * time.Second

// mostInside bounds how many folders are remembered.
const mostInside = 10_000

// Known reports whether a folder was seen to be in the root a moment ago.
func (i *Inside) Known(dir string) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	seen, ok := i.seen[dir]
	return ok && time.Since(seen) < insideFor
}

// Note remembers a folder that is known to be in the root, such as one that was just made.
func (i *Inside) Note(dir string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.seen == nil || len(i.seen) > mostInside {
		i.seen = map[string]time.Time{}
	}
	i.seen[dir] = time.Now()
}

// Saw remembers where a folder really is, links followed. Refused: that is outside of the root.
func (i *Inside) Saw(dir, real, root string) error {
	if real != root && !strings.HasPrefix(real, strings.TrimSuffix(root, "/")+"/") {
		return fault.New(fault.Refused, "", "", "a link leads out of the server's folder")
	}
	i.Note(dir)
	return nil
}

// Forget takes back what was seen of a folder and those below, once it has moved.
func (i *Inside) Forget(name string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for dir := range i.seen {
		if dir == name || strings.HasPrefix(dir, name+"/") {
			delete(i.seen, dir)
		}
	}
}
