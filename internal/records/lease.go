package records

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"reshard/internal/core/fault"
)

// Claim is how a service asks to be the one that acts on the records.
type Claim struct {
	// Who names it for people: its machine and address.
	Who string
	// Data is what its data folder is known by. Alone says that it holds that folder's
	// lock, which the system takes from a process that ends: a holder of the lease that
	// held it, too, is then known to be dead, and need not be waited out.
	Data  string
	Alone func() bool
	// Term is how long a lease lasts; 0: LeaseTerm.
	Term time.Duration
	// StandsBy is told, now and then, who has the lease while this one waits for it.
	StandsBy func(who string)
}

// LeaseTerm is how long a lease lasts without being renewed.
const LeaseTerm = 10 * time.Second

// A lease is one row. Whoever has it renews it; whoever cannot must not begin an act once
// the term has passed since it last asked, by its own clock, which also counts while a
// machine sleeps. A successor takes it over when it has seen no renewal for longer than
// that by its own clock. A database cannot hold back a rename on a host, but it can see
// to it that only one service thinks that it may.
type lease struct {
	pool   *pgxpool.Pool
	claim  Claim
	holder string
	epoch  int64
	clock  func() time.Duration

	mu    sync.Mutex
	until time.Duration // on the clock
	why   error         // why it is lost
	lost  chan struct{}
	stop  context.CancelFunc
	ended chan struct{}
}

const leaseTable = `CREATE TABLE IF NOT EXISTS service_lease (
	one     boolean PRIMARY KEY DEFAULT true CHECK (one),
	holder  text NOT NULL DEFAULT '',
	who     text NOT NULL DEFAULT '',
	data    text NOT NULL DEFAULT '',
	alone   boolean NOT NULL DEFAULT false,
	epoch   bigint NOT NULL DEFAULT 0,
	beat    bigint NOT NULL DEFAULT 0
)`

// leaseLock keeps two services that start at once from making the table both.
const leaseLock = 0x52657369

// takeLease waits until this service is the one that acts, or ctx ends.
func takeLease(ctx context.Context, pool *pgxpool.Pool, c Claim) (*lease, error) {
	if c.Term == 0 {
		c.Term = LeaseTerm
	}
	if c.Alone == nil {
		c.Alone = func() bool { return false }
	}
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	l := &lease{
		pool:   pool,
		claim:  c,
		holder: hex.EncodeToString(b[:]),
		clock:  awake,
		lost:   make(chan struct{}),
		ended:  make(chan struct{}),
	}
	if err := l.makeTable(ctx); err != nil {
		return nil, err
	}
	if err := l.wait(ctx); err != nil {
		return nil, err
	}
	kept, stop := context.WithCancel(context.WithoutCancel(ctx))
	l.stop = stop
	go l.keep(kept)
	return l, nil
}

func (l *lease) makeTable(ctx context.Context) error {
	tx, err := l.pool.Begin(ctx)
	if err != nil {
		return classify("open", "database", err)
	}
	defer tx.Rollback(ctx) //nolint:errcheck // no effect after Commit
	for _, sql := range []string{
		fmt.Sprintf(`SELECT pg_advisory_xact_lock(%d)`, leaseLock), leaseTable,
		`INSERT INTO service_lease DEFAULT VALUES ON CONFLICT DO NOTHING`,
	} {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return classify("prepare", "database", err)
		}
	}
	return classify("prepare", "database", tx.Commit(ctx))
}

// seen is the lease as it stood when it was looked at.
type seenLease struct {
	holder, who, data string
	alone             bool
	epoch, beat       int64
}

func (l *lease) wait(ctx context.Context) error {
	var last seenLease
	var since time.Duration // when last was seen first
	for {
		asked := l.clock()
		now, taken, err := l.try(ctx, func(now seenLease) bool {
			switch {
			case now.holder == "":
				return true
			case now.alone && now.data == l.claim.Data && l.claim.Alone():
				return true // its lock is ours, so it is dead
			}
			return now == last && asked-since > l.claim.Term+l.claim.Term/10
		})
		switch {
		case taken:
			l.until = asked + l.claim.Term - l.claim.Term/10
			return nil
		case err != nil && fault.CodeOf(err) != fault.Unreachable:
			return err
		case err == nil && now != last:
			last, since = now, asked
		}
		if err == nil && l.claim.StandsBy != nil {
			l.claim.StandsBy(now.who)
		}
		select {
		case <-ctx.Done():
			return fault.New(fault.StandsBy, "open", "database", "another service works on it: %s", last.who).
				With("Stop the other service, or give this one a database of its own.")
		case <-time.After(l.claim.Term / 20):
		}
	}
}

// try looks at the lease and takes it if may says so.
func (l *lease) try(ctx context.Context, may func(seenLease) bool) (now seenLease, taken bool, err error) {
	ctx, done := context.WithTimeout(ctx, l.claim.Term)
	defer done()
	tx, err := l.pool.Begin(ctx)
	if err != nil {
		return now, false, classify("open", "database", err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx)) //nolint:errcheck // no effect after Commit
	err = tx.QueryRow(ctx, `SELECT holder, who, data, alone, epoch, beat FROM service_lease FOR UPDATE`).
		Scan(&now.holder, &now.who, &now.data, &now.alone, &now.epoch, &now.beat)
	if err != nil || !may(now) {
		return now, false, classify("look at", "lease", err)
	}
	err = tx.QueryRow(ctx, `UPDATE service_lease
		SET holder = $1, who = $2, data = $3, alone = $4, epoch = epoch + 1, beat = 0 RETURNING epoch`,
		l.holder, l.claim.Who, l.claim.Data, l.claim.Alone()).Scan(&l.epoch)
	if err == nil {
		err = tx.Commit(ctx)
	}
	return now, err == nil, classify("take", "lease", err)
}

// keep renews the lease until it is stopped or the lease is lost.
func (l *lease) keep(ctx context.Context) {
	defer close(l.ended)
	tick := time.NewTicker(l.claim.Term / 5)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		asked := l.clock()
		mine, err := l.renew(ctx)
		switch {
		case err == nil && !mine:
			l.lose(fault.New(fault.StandsBy, "act on", "records", "another service has taken over"))
			return
		case err == nil:
			l.mu.Lock()
			l.until = asked + l.claim.Term - l.claim.Term/10
			l.mu.Unlock()
		case ctx.Err() != nil:
			return
		}
		// Without an answer the lease runs out by itself. When the database is back it
		// tells whether another has taken over, or this one may go on.
	}
}

func (l *lease) renew(ctx context.Context) (mine bool, err error) {
	ctx, done := context.WithTimeout(ctx, l.claim.Term/4)
	defer done()
	tag, err := l.pool.Exec(ctx, `UPDATE service_lease SET beat = beat + 1, alone = $3 WHERE holder = $1
		AND epoch = $2`, l.holder, l.epoch, l.claim.Alone())
	return tag.RowsAffected() == 1, err
}

func (l *lease) lose(why error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.why == nil {
		l.why = why
		close(l.lost)
	}
}

// valid is nil while this service may begin an act. Code StandsBy says that it never may
// again, Unreachable that it may not now, since it has not heard from the database for too
// long: another may have taken over.
func (l *lease) valid() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.why != nil:
		return l.why
	case l.clock() >= l.until:
		return away("act on", "records",
			"the database has not answered for so long that another service may have taken over", nil)
	}
	return nil
}

// release gives the lease back, so that a successor need not wait.
func (l *lease) release() {
	l.stop()
	<-l.ended
	ctx, done := context.WithTimeout(context.Background(), 2*time.Second)
	defer done()
	// else it runs out
	_, _ = l.pool.Exec(ctx, `UPDATE service_lease SET holder = '', who = '' WHERE holder = $1 AND epoch = $2`, l.holder,
		l.epoch)
	l.lose(fault.New(fault.StandsBy, "act on", "records", "the service has ended"))
}

// Acting is nil while this service is the one that may begin an act. Code Unreachable
// says that it must wait for the database, StandsBy that another service has taken over.
func (r *Records) Acting() error { return r.lease.valid() }

// Lost is closed when another service has taken over.
func (r *Records) Lost() <-chan struct{} { return r.lease.lost }

// mineCTE begins a statement of the journal: it changes something only WHERE EXISTS
// (SELECT FROM mine), and the lease's row is held until its transaction ends. $1 and $2
// are holder and epoch.
const mineCTE = `WITH mine AS (SELECT 1 FROM service_lease WHERE holder = $1 AND epoch = $2 FOR SHARE) `

// orLost is err, unless nothing was changed because the lease is another's by now.
func (r *Records) orLost(ctx context.Context, err error) error {
	var mine bool
	qerr := r.db.GetContext(ctx, &mine, `SELECT EXISTS (SELECT FROM service_lease WHERE holder = $1 AND epoch = $2)`,
		r.lease.holder, r.lease.epoch)
	switch {
	case qerr != nil:
		return classify("look at", "lease", qerr)
	case !mine:
		lost := fault.New(fault.StandsBy, "write", "journal", "another service has taken over")
		r.lease.lose(lost)
		return lost
	}
	return err
}
