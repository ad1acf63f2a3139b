package accounts

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"reshard/internal/core/fault"
)

// How many sign-ins may fail. An attempt counts before its password is looked at, so that of
// many at once no more are looked at; one that succeeds does not count.
//
// A name from an address has a few of its own. All that comes from one address, and all that
// is tried for one name, has more; but who has signed in from an address before is not held up
// by what others try: guessing at a name locks nobody out who is known there.
const (
	mostFailures   = 10 // of a name from an address
	failureEvery   = time.Minute
	mostOfAddress  = 60 // of an address, whatever the name
	addressEvery   = 10 * time.Second
	mostOfName     = 100 // of a name, from wherever
	nameEvery      = 30 * time.Second
	mostRemembered = 10_000
)

// Hashing a password takes 19 MB and a core for a moment: so many at once, and who would wait
// longer is told to come again.
const (
	hashesAtOnce = 2
	hashPatience = 5 * time.Second
)

// guard counts attempts and bounds what hashing takes. It is safe for concurrent use.
type guard struct {
	mu     sync.Mutex
	pairs  *lru.Cache[string, *rate.Limiter]
	from   *lru.Cache[string, *rate.Limiter]
	names  *lru.Cache[string, *rate.Limiter]
	known  *lru.Cache[string, bool] // who has signed in from where
	hashes *semaphore.Weighted
}

func cache[V any]() *lru.Cache[string, V] {
	c, err := lru.New[string, V](mostRemembered)
	if err != nil {
		panic(err) // the size is right
	}
	return c
}

func newGuard() *guard {
	return &guard{
		pairs: cache[*rate.Limiter](), from: cache[*rate.Limiter](), names: cache[*rate.Limiter](),
		known:  cache[bool](),
		hashes: semaphore.NewWeighted(hashesAtOnce),
	}
}

// place is where an attempt comes from, as it counts: of IPv6 a whole network is one's own.
func place(address string) string {
	if ap, err := netip.ParseAddrPort(address); err == nil {
		address = ap.Addr().String()
	}
	a, err := netip.ParseAddr(address)
	if err != nil {
		return "elsewhere" // anything that is not an address counts as one place
	}
	if a = a.Unmap(); a.Is6() {
		if p, err := a.WithZone("").Prefix(64); err == nil {
			return p.String()
		}
	}
	return a.String()
}

// attempt counts one attempt. succeeded takes it back.
func (g *guard) attempt(name, address string, now time.Time) (succeeded func(), err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	name, address = strings.ToLower(name), place(address)
	pair := address + " " + name
	limits := []*rate.Limiter{limiter(g.pairs, pair, failureEvery, mostFailures)}
	if _, known := g.known.Get(pair); !known {
		limits = append(limits, limiter(g.from, address, addressEvery, mostOfAddress),
			limiter(g.names, name, nameEvery, mostOfName))
	}
	var taken []*rate.Reservation
	for _, l := range limits {
		r := l.ReserveN(now, 1)
		taken = append(taken, r)
		if !r.OK() || r.DelayFrom(now) > 0 {
			for _, t := range taken {
				t.CancelAt(now)
			}
			return nil, fault.New(fault.Denied, "sign in", name, "too many wrong passwords").
				With("Wait a minute for one more try, or ten for all of them.")
		}
	}
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		for _, t := range taken {
			t.CancelAt(now)
		}
		g.known.Add(pair, true)
	}, nil
}

func limiter(in *lru.Cache[string, *rate.Limiter], key string, every time.Duration, most int) *rate.Limiter {
	if l, ok := in.Get(key); ok {
		return l
	}
	l := rate.NewLimiter(rate.Every(every), most)
	in.Add(key, l)
	return l
}

// hashing waits for a turn to hash a password. It gives up with its caller, and when too many
// others wait.
func (g *guard) hashing(ctx context.Context) (done func(), err error) {
	waiting, cancel := context.WithTimeout(ctx, hashPatience)
	defer cancel()
	if err := g.hashes.Acquire(waiting, 1); err != nil {
		return nil, fault.New(fault.TooSlow, "sign in", "", "very many sign-ins are under way").
			With("Try again in a moment.")
	}
	return func() { g.hashes.Release(1) }, nil
}
