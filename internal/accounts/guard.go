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
// A name from an address has a few of its own, and all that is tried for one name has more: beyond them attempts are
// refused. Beyond what an address has, its attempts wait, each longer than the one before, so that wrong names lock out
// nobody behind the same address, and guessing is no faster. Who has signed in from an address before waits for nobody.
const (
	mostFailures   = 10 // of a name from an address
	failureEvery   = time.Minute
	mostOfAddress  = 60 // of an address, whatever the name, before its attempts wait
	addressEvery   = 10 * time.Second
	mostWait       = 25 * time.Second // of an attempt: who would wait longer is told to come again
	mostOfName     = 100              // of a name, from wherever
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
	wait   func(context.Context, time.Duration) error
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
		wait:   wait,
	}
}

func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
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

// attempt counts one attempt, and waits where an address has had its share. succeeded takes it back.
func (g *guard) attempt(ctx context.Context, name, address string, now time.Time) (succeeded func(), err error) {
	name, address = strings.ToLower(name), place(address)
	taken, delay, err := g.take(name, address, now)
	if err != nil {
		return nil, err
	}
	if delay > 0 {
		if err := g.wait(ctx, delay); err != nil {
			g.giveBack(taken, now)
			return nil, err
		}
	}
	return func() {
		g.giveBack(taken, now)
		g.known.Add(address+" "+name, true)
	}, nil
}

// take reserves one attempt of each share that it counts for, and says how long it has to wait.
func (g *guard) take(name, address string, now time.Time) ([]*rate.Reservation, time.Duration, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	pair := address + " " + name
	shares := []share{{limiter(g.pairs, pair, failureEvery, mostFailures), 0}}
	if _, known := g.known.Get(pair); !known {
		shares = append(shares, share{limiter(g.names, name, nameEvery, mostOfName), 0},
			share{limiter(g.from, address, addressEvery, mostOfAddress), mostWait})
	}
	var taken []*rate.Reservation
	var delay time.Duration
	for _, s := range shares {
		r := s.ReserveN(now, 1)
		taken = append(taken, r)
		delay = r.DelayFrom(now)
		if delay <= s.patience {
			continue
		}
		for _, t := range taken {
			t.CancelAt(now)
		}
		if s.patience > 0 {
			return nil, 0, fault.New(fault.Denied, "sign in", name, "too many sign-ins from your address failed").
				With("Try again in a minute.")
		}
		return nil, 0, fault.New(fault.Denied, "sign in", name, "too many wrong passwords").
			With("Wait a minute for one more try, or ten for all of them.")
	}
	return taken, delay, nil
}

// share is a number of attempts, and how long one may wait when they are used up.
type share struct {
	*rate.Limiter
	patience time.Duration
}

func (g *guard) giveBack(taken []*rate.Reservation, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, t := range taken {
		t.CancelAt(now)
	}
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
