// Package budget bounds what reading something strange may cost. Worlds and profiles come
// from strangers, and a file of a few hundred bytes can stand for more than any memory
// holds. Whoever decodes counts what comes out, while it comes out, and stops when the
// budget is spent.
package budget

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime/debug"
	"sync"
	"time"
)

// What one world may cost. Together with what decoders need on their way it stays below
// 256 MB; docs/security.md has the promise, and the benchmarks measure it.
const (
	LongestFile = 32 << 20 // of one file after unwrapping, in bytes
	unpacked    = 1 << 30  // of all files after unwrapping, in bytes
	held        = 64 << 20 // of what stays decoded, in bytes of memory, as estimated

	// Time of a core for a world, and more for each byte that was unpacked. Waiting for
	// the host that has the files does not count.
	base    = 8 * time.Second
	perByte = 300 * time.Millisecond / (1 << 20)
)

// What a request may cost that reads many worlds: time of a core. What is over is told of
// the worlds that were not read any more.
const request = 60 * time.Second

// large is what a reading may have unpacked or hold before it waits for a place at the
// gate, in bytes: what is smaller is done sooner than waited for.
const large = 1 << 20

// huge is what is given back to the system at once when a reading is done, in bytes.
const huge = 16 << 20

// gate bounds how many large readings go on at once, in this process.
var gate = make(chan struct{}, 2)

// Spent says which part of a budget was used up. It is no defect of the host, and not worth
// trying again.
type Spent struct{ What string }

func (s *Spent) Error() string { return s.What }

func spent(format string, args ...any) error { return &Spent{fmt.Sprintf(format, args...)} }

// Budget is what one reading has left. It is safe for concurrent use.
type Budget struct {
	mu             sync.Mutex
	parent         *Budget
	unpacked, held int64         // used so far
	begun          time.Time     // the zero time: nothing was asked of it yet
	waited         time.Duration // for files
	most           time.Duration // of time
	inside         bool          // it has a place at the gate
	cut            bool
	after          []func()
	now            func() time.Time
}

// World gives the budget of reading one world, or one server's files. Done gives its place
// at the gate back.
func World() *Budget { return &Budget{most: base, now: time.Now} }

// Request gives the budget of a request that reads many worlds; each has a budget of its own
// by Part.
func Request() *Budget { return &Budget{most: request, now: time.Now} }

// Part gives the budget of one world within a request: what it spends of time is spent of
// both.
func (b *Budget) Part() *Budget {
	part := World()
	part.parent = b
	return part
}

// Cut reports whether a reading ended because the others of its request had taken the time:
// alone it might have had enough.
func (b *Budget) Cut() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.cut
}

// After has something done when the reading is.
func (b *Budget) After(do func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.after = append(b.after, do)
}

// Enter waits for a place at the gate, as a large reading does by itself.
func (b *Budget) Enter() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.enter(large)
}

// Done ends a reading.
func (b *Budget) Done() {
	b.mu.Lock()
	after := b.after
	b.after = nil
	b.mu.Unlock()
	for _, do := range after {
		do()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.inside {
		b.inside = false
		<-gate
		if b.held+b.unpacked > huge {
			debug.FreeOSMemory() // else the system gets it back only minutes later
		}
	}
	if b.parent != nil && !b.begun.IsZero() {
		b.parent.use(b.now().Sub(b.begun) - b.waited)
		b.begun = time.Time{}
	}
}

// use takes time off a request's budget.
func (b *Budget) use(d time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.most -= d
}

// Time says whether there is time left.
func (b *Budget) Time() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.begun.IsZero() {
		b.begun = b.now()
	}
	used := b.now().Sub(b.begun) - b.waited
	if most := b.most + time.Duration(b.unpacked)*perByte; used > most {
		return spent("reading it takes more than the %s it may take", most.Round(time.Second))
	}
	if b.parent == nil {
		return nil
	}
	b.parent.mu.Lock()
	defer b.parent.mu.Unlock()
	if used > b.parent.most {
		b.cut = true
		return spent("what was read before it has taken all of the time of this request")
	}
	return nil
}

// Unpack counts bytes that came out of a file's layers.
func (b *Budget) Unpack(n int) error {
	b.mu.Lock()
	b.unpacked += int64(n)
	over := b.unpacked > unpacked
	b.enter(b.unpacked + b.held)
	b.mu.Unlock()
	if over {
		return spent("its files unwrap to more than %d MB", unpacked>>20)
	}
	return b.Time()
}

// Hold counts memory that what was decoded takes, as estimated by Map, Value and Text; it
// is given back with the whole reading.
func (b *Budget) Hold(n int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.held+n > held || n < 0 {
		return spent("it holds more values than the %d MB that are read", held>>20)
	}
	b.held += n
	b.enter(b.unpacked + b.held)
	return nil
}

// enter waits for a place at the gate, once a reading is large.
func (b *Budget) enter(weight int64) {
	if b.inside || weight < large {
		return
	}
	begun := b.now()
	gate <- struct{}{}
	b.inside = true
	b.waited += b.now().Sub(begun)
}

// What decoded values take of memory, in bytes, as measured for this program's maps,
// lists and numbers.
const (
	Map   = 360 // of an empty one, with room for its first entries
	Entry = 80  // of a map
	Value = 48
)

// File gives a file's reader whose waiting does not count as work.
func (b *Budget) File(in io.Reader) io.Reader { return &file{b, in} }

type file struct {
	b  *Budget
	in io.Reader
}

func (f *file) Read(p []byte) (int, error) {
	begun := f.b.now()
	n, err := f.in.Read(p)
	f.b.mu.Lock()
	f.b.waited += f.b.now().Sub(begun)
	f.b.mu.Unlock()
	return n, err
}

// Unpacked gives a reader of what comes out of a file's layers, which ends with an error
// when the budget is spent.
func (b *Budget) Unpacked(in io.Reader) io.Reader { return &counted{b, in} }

type counted struct {
	b  *Budget
	in io.Reader
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	if over := c.b.Unpack(n); over != nil {
		return 0, over
	}
	return n, err
}

// ReadFile reads a whole file of at most most bytes; what is no regular file is refused.
func ReadFile(fsys fs.FS, name string, most int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: errors.New("it is no regular file")}
	}
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = spent("%s has more than the %d bytes that are read", name, most)
	}
	return data, err
}
