package fleet

import (
	"context"
	"math/rand/v2"
	"path"
	"strings"
	"time"

	"reshard/internal/core/life"
	"reshard/internal/feed"
	"reshard/internal/observe"
	"reshard/internal/records"
)

// How often servers are looked at in the background.
const (
	// paceWatched and paceAlone: between two looks at a server while somebody watches,
	// and while nobody does.
	paceWatched = 2 * time.Second
	paceAlone   = 20 * time.Second
	// paceMoving is for a server that starts or stops, or that a changeover holds, while
	// somebody watches.
	paceMoving = 500 * time.Millisecond
	// looksASecond bounds the looks at all servers together, looksAtOnce how many go on at
	// a time, and restShare how long a server is left alone: so many times what a look at
	// it took.
	looksASecond = 200
	looksAtOnce  = 8
	restShare    = 20
	// filesAnew is after how long files are read again of which a host would have said
	// that they have changed.
	filesAnew = time.Minute
	// stillWatched is how long after a list somebody is taken to watch.
	stillWatched = 30 * time.Second
)

// Watch looks at all servers again and again until ctx ends.
func (fl *Fleet) Watch(ctx context.Context) error {
	list, err := fl.allListed(ctx)
	if err != nil {
		return err
	}
	fl.watching = ctx
	for _, rec := range list {
		fl.know(rec.Server, rec.Holder)
	}
	fl.running.Go(func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-fl.Feed.Begun(): // whoever comes sees soon how it is now
				fl.pokeAll()
			}
		}
	})
	return nil
}

// allListed gives all servers on record, each with the changeover that holds it.
func (fl *Fleet) allListed(ctx context.Context) (out []records.Listed, err error) {
	q := records.ServerQuery{Page: records.Page{Limit: 1000}}
	for {
		page, next, err := fl.records.ServerPage(ctx, q)
		out = append(out, page...)
		if err != nil || next == "" {
			return out, err
		}
		q.After = next
	}
}

// know notes what is on record of a server, and begins to watch one that is new.
func (fl *Fleet) know(rec records.Server, holder int64) {
	fl.book.mu.Lock()
	defer fl.book.mu.Unlock()
	k := fl.book.servers[rec.Name]
	if k != nil && k.rec.ID != rec.ID { // another one of the name
		k.end()
		k = nil
	}
	if k != nil {
		k.rec, k.holder, k.meant = rec, holder, nil
		return
	}
	if fl.watching == nil || fl.watching.Err() != nil {
		return
	}
	ctx, end := context.WithCancel(fl.watching)
	k = &known{rec: rec, holder: holder, poke: make(chan struct{}, 1), end: end}
	fl.book.servers[rec.Name] = k
	fl.running.Go(func() { fl.watch(ctx, rec.Name, k.poke) })
}

// forget ends the watching of a server that is no longer on record.
func (fl *Fleet) forget(name string) {
	fl.book.mu.Lock()
	if k := fl.book.servers[name]; k != nil {
		k.end()
		delete(fl.book.servers, name)
	}
	fl.book.mu.Unlock()
	fl.Feed.Tell(feed.Event{Kind: feed.Gone, Key: name, Value: name})
}

// Placing says whether a changeover moves a server's files at this moment, while players are
// locked out. One far away is not looked at then: questions would keep the changeover waiting on
// the same line, and what they see is gone a moment later.
func (fl *Fleet) Placing(name string, now bool) {
	fl.book.mu.Lock()
	defer fl.book.mu.Unlock()
	if k := fl.book.servers[name]; k != nil {
		k.placing = now
		if !now {
			poke(k.poke)
		}
	}
}

// letBe reports whether a server is not to be looked at now.
func (fl *Fleet) letBe(ctx context.Context, name string) bool {
	fl.book.mu.Lock()
	k := fl.book.servers[name]
	placing := k != nil && k.placing
	fl.book.mu.Unlock()
	if !placing {
		return false
	}
	l, err := fl.Reach(ctx, name)
	return err == nil && l.Files.Distant()
}

// Poke has a server looked at soon: something has been done to it.
func (fl *Fleet) Poke(name string) {
	fl.book.mu.Lock()
	defer fl.book.mu.Unlock()
	if k := fl.book.servers[name]; k != nil {
		poke(k.poke)
	}
}

func (fl *Fleet) pokeAll() {
	fl.book.mu.Lock()
	defer fl.book.mu.Unlock()
	for _, k := range fl.book.servers {
		if k.sight != nil && fl.now().Sub(k.sight.at) > paceWatched {
			poke(k.poke)
		}
	}
}

func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default: // it has been poked and has not looked yet
	}
}

// Refresh takes what is on record of a server anew, and has it looked at soon.
func (fl *Fleet) Refresh(ctx context.Context, name string) {
	rec, err := fl.records.ServerHeld(ctx, name)
	if err != nil {
		return // the next who asks for it is told
	}
	fl.know(rec.Server, rec.Holder)
	if rec.Holder == 0 && fl.watching != nil {
		fl.checkDoubted(fl.watching, rec.Host)
	}
	if s := fl.book.sightOf(name); s != nil {
		fl.tell(name)
	}
	fl.Poke(name)
}

// tell tells those who watch how a server is known, when that has changed.
func (fl *Fleet) tell(name string) {
	if s := fl.book.sightOf(name); s != nil {
		fl.see(name, s)
	}
}

// watch looks at one server again and again.
func (fl *Fleet) watch(ctx context.Context, name string, poked chan struct{}) {
	var files changes
	defer files.stop()
	for first := true; ctx.Err() == nil; first = false {
		select {
		case fl.looking <- struct{}{}:
		case <-ctx.Done():
			return
		}
		begun := fl.now()
		if !fl.letBe(ctx, name) {
			fl.glance(ctx, name, &files)
		}
		took := fl.now().Sub(begun)
		<-fl.looking
		pace := fl.pace(name, took)
		if first { // not all in step
			pace = time.Duration(rand.Int64N(int64(pace)) + int64(pace)/2)
		}
		files.watch(ctx, fl, name, poked)
		if !rest(ctx, pace, poked) {
			return
		}
	}
}

// rest waits for a pace, or, after a moment, until something is said to have changed.
func rest(ctx context.Context, pace time.Duration, poked chan struct{}) bool {
	moment, whole := time.NewTimer(min(pace, paceMoving)), time.NewTimer(pace)
	defer moment.Stop()
	defer whole.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-moment.C: // however much changes, it is looked at now and then
	}
	select {
	case <-ctx.Done():
		return false
	case <-poked:
	case <-whole.C:
	}
	return true
}

// glance looks at a server: at its process, and at its files unless its host would have
// said that they have changed.
func (fl *Fleet) glance(ctx context.Context, name string, files *changes) {
	rec, _, ok := fl.book.record(name)
	if !ok {
		return
	}
	was := fl.book.sightOf(name)
	if was == nil || was.heads == nil || files.unsure(fl.now()) {
		files.read(fl.now())
		into := was == nil || was.heads == nil || files.deep(fl.now())
		now := fl.look(ctx, rec, was, into)
		fl.see(name, now)
		if fl.OnSeen != nil && now.heads != nil && (was == nil || was.heads == nil) {
			fl.running.Go(func() { fl.OnSeen(ctx, name) }) // who looks next is not kept waiting
		}
		return
	}
	meant := fl.intention(ctx, rec)
	l, err := fl.Reach(ctx, name)
	if err != nil {
		fl.see(name, fl.look(ctx, rec, was, false))
		return
	}
	now := *was
	heads := *was.heads
	heads.At, heads.Status = fl.now(), l.Control.Status(ctx)
	now.at, now.heads, now.status = heads.At, &heads, &heads
	if heads.Status.State != was.heads.Status.State {
		now.join, now.joinNote = fl.joinOf(ctx, l, &heads)
	}
	fl.compareRunning(ctx, l, rec, &now, meant)
	fl.see(name, &now)
}

// pace is how long a server is left alone after a look that took so long.
func (fl *Fleet) pace(name string, took time.Duration) time.Duration {
	fl.book.mu.Lock()
	watched := fl.now().Sub(fl.book.listed) < stillWatched
	all := len(fl.book.servers)
	moving := false
	if k := fl.book.servers[name]; k != nil && k.sight != nil {
		moving = k.holder != 0
		if k.sight.status != nil {
			switch k.sight.status.Status.State {
			case life.Starting, life.Stopping:
				moving = true
			case life.Running, life.Stopped, life.Unknown:
			}
		}
	}
	fl.book.mu.Unlock()
	watched = watched || fl.Feed.Watched(feed.Server, name)
	pace := paceAlone
	switch {
	case watched && moving:
		pace = paceMoving
	case watched:
		pace = max(paceWatched, time.Duration(all)*time.Second/looksASecond)
	default:
		pace = max(paceAlone, time.Duration(all)*time.Second*4/looksASecond)
	}
	return max(pace, restShare*took)
}

// changes is what a host says of changes of a server's files.
type changes struct {
	cancel func()
	of     *Server // whose folders are watched, as it is in hand
	dirs   string
	heard  chan struct{}
	readAt time.Time
	deepAt time.Time
}

// unsure reports whether files must be read to know how they are.
func (c *changes) unsure(now time.Time) bool {
	if c.cancel == nil || now.Sub(c.readAt) > filesAnew {
		return true
	}
	select {
	case <-c.heard:
		return true
	default:
		return false
	}
}

func (c *changes) read(now time.Time) { c.readAt = now }

// deep reports whether the active world is to be looked into again, too.
func (c *changes) deep(now time.Time) bool {
	if now.Sub(c.deepAt) < filesAnew {
		return false
	}
	c.deepAt = now
	return true
}

func (c *changes) stop() {
	if c.cancel != nil {
		c.cancel()
	}
	c.cancel, c.of = nil, nil
}

// watch asks the host to say when something changes in the folders that a server's heads
// are read from. A host that cannot, or has no room for one more, is looked at at a pace.
func (c *changes) watch(ctx context.Context, fl *Fleet, name string, poked chan struct{}) {
	s := fl.book.sightOf(name)
	if s == nil || s.heads == nil {
		c.stop()
		return
	}
	dirs := headFolders(s.heads)
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return
	}
	key := strings.Join(dirs, "\x00")
	if c.of == l && key == c.dirs {
		return // also when it has been tried and cannot be
	}
	c.stop()
	c.of, c.dirs = l, key
	if len(dirs) > mostFolders {
		return
	}
	heard := make(chan struct{}, 1)
	cancel, err := l.Files.Watch(ctx, dirs, func() {
		poke(heard)
		poke(poked)
	})
	if err == nil {
		c.cancel, c.heard = cancel, heard
	}
}

// mostFolders bounds how many folders of a server are watched.
const mostFolders = 8

// headFolders are the folders that a server's heads are read from.
func headFolders(h *observe.Heads) []string {
	seen := map[string]bool{}
	var out []string
	add := func(dir string) {
		if !seen[dir] {
			seen[dir] = true
			out = append(out, dir)
		}
	}
	add(".")
	if h.State.WorldsWhy == "" {
		add(h.State.WorldsFolder)
	}
	for _, d := range h.State.Settings {
		add(path.Dir(d.File))
		for _, in := range d.Includes {
			add(path.Dir(in))
		}
	}
	for _, f := range []string{h.State.Version.File, h.State.Mods.File} {
		if f != "" {
			add(path.Dir(f))
		}
	}
	return out
}
