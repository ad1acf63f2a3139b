// Package keep computes rules of backups: when one is due, how long copies are kept, what goes
// and why. It knows no clock, no records and no server: all that it counts with is handed in.
package keep

import (
	"cmp"
	"slices"
	"time"
)

// Backup is what a rule knows of one backup.
type Backup struct {
	ID int64
	// Counted is when it was made, by the clock that rules count by (Clock).
	Counted time.Time
	// Good: it is stored, was read back, and its facts were read.
	Good bool
	// Held says why it stands above all rules, "" when it does not: it is pinned, or a changeover's
	// safety copy.
	Held string
	// Bytes is how much it holds, Written how much its series had written into the vault once it was
	// made: what changed between two backups is the difference.
	Bytes, Written int64
}

// Allowance bounds how much is kept; zero values do not.
type Allowance struct {
	Number int   `json:"number,omitempty"` // backups at most
	Bytes  int64 `json:"bytes,omitempty"`  // at most, in the vault
}

// Exceeds reports whether that much is more than is allowed.
func (a Allowance) Exceeds(number int, bytes int64) bool {
	return a.Number > 0 && number > a.Number || a.Bytes > 0 && bytes > a.Bytes
}

// Totals bounds how much all series together may have, and those of each server.
type Totals struct {
	Allowance
	// by a server's name
	Servers map[string]Allowance `json:"servers,omitempty"`
}

// Series is the backups that one rule has made of one server.
type Series struct {
	Server    string
	Backups   []Backup
	Long      Long
	Allowance Allowance
	// Zone is where days and months begin; nil is UTC.
	Zone *time.Location
}

// Fate is what becomes of a backup, and why.
type Fate struct {
	ID    int64  `json:"id"`
	Keeps bool   `json:"keeps"`
	Why   string `json:"why"`
}

// state is a backup on its way to its fate.
type state struct {
	Backup
	series int
	fate   Fate
	// protected: no allowance takes it.
	protected bool
}

// Thin tells what becomes of the backups of all series when it is now, by the clock that rules count
// by. Whatever stands above rules is kept, and of each series the last good one. Then each clause of
// how long things are kept takes its share, oldest first; what is left may be too much for the series,
// then for its server, and then for all together: the oldest go first. The fates are in order of time within
// each series.
func Thin(now time.Time, all []Series, most Totals) [][]Fate {
	states := make([][]state, len(all))
	for i, s := range all {
		states[i] = s.thin(now, i)
		bound(s.Allowance, "the rule's allowance", states[i])
	}
	for server, a := range most.Servers {
		var its [][]state
		for i, s := range all {
			if s.Server == server {
				its = append(its, states[i])
			}
		}
		bound(a, "the allowance for "+server, its...)
	}
	if most.Allowance != (Allowance{}) {
		bound(most.Allowance, "the allowance for all servers", states...)
	}
	out := make([][]Fate, len(all))
	for i, list := range states {
		out[i] = make([]Fate, len(list))
		for j, s := range list {
			out[i][j] = s.fate
		}
	}
	return out
}

func (s Series) thin(now time.Time, n int) []state {
	list := make([]state, len(s.Backups))
	for i, b := range s.Backups {
		list[i] = state{Backup: b, series: n, fate: Fate{ID: b.ID}}
	}
	slices.SortFunc(list, func(a, b state) int {
		return cmp.Or(a.Counted.Compare(b.Counted), cmp.Compare(a.ID, b.ID))
	})
	s.Long.judge(now, s.Zone, list)
	last := -1
	for i := range list {
		if list[i].Good {
			last = i
		}
		if list[i].Held != "" {
			list[i].keep(list[i].Held, true)
		}
	}
	if last >= 0 {
		list[last].keep("the last good one", false)
	}
	return list
}

// keep says that no rule and no allowance takes it. Why it is kept is told by what would keep it alone.
func (s *state) keep(why string, above bool) {
	s.protected = true
	if above || !s.fate.Keeps {
		s.fate.Keeps, s.fate.Why = true, why
	}
}

// chain is the backups of one series that are kept so far, oldest first.
type chain struct {
	list []*state
}

// at is how much of the vault the backup at i accounts for: the newest all of what it holds, an older
// one what has changed until the next.
func (c chain) at(i int) int64 {
	if i == len(c.list)-1 {
		return c.list[i].Bytes
	}
	return min(c.list[i].Bytes, max(0, c.list[i+1].Written-c.list[i].Written))
}

// bound lets the oldest go until the rest is allowed.
func bound(a Allowance, whose string, all ...[]state) {
	chains := make([]chain, len(all))
	number, bytes := 0, int64(0)
	type place struct{ chain, at int }
	var order []place
	for n, list := range all {
		for i := range list {
			if list[i].fate.Keeps {
				chains[n].list = append(chains[n].list, &list[i])
			}
		}
		for i := range chains[n].list {
			bytes += chains[n].at(i)
			order = append(order, place{n, i})
		}
		number += len(chains[n].list)
	}
	slices.SortStableFunc(order, func(x, y place) int {
		return chains[x.chain].list[x.at].Counted.Compare(chains[y.chain].list[y.at].Counted)
	})
	next := newLinks(chains)
	for _, p := range order {
		if !a.Exceeds(number, bytes) {
			return
		}
		s := chains[p.chain].list[p.at]
		if s.protected {
			continue
		}
		number--
		bytes -= next.drop(chains[p.chain], p.chain, p.at)
		s.fate.Keeps, s.fate.Why = false, "it is the oldest, and "+whose+" is used up"
	}
}

// links are the neighbours that are still kept, by chain and place; -1 is none.
type links struct{ before, after [][]int }

func newLinks(chains []chain) links {
	l := links{make([][]int, len(chains)), make([][]int, len(chains))}
	for n, c := range chains {
		l.before[n], l.after[n] = make([]int, len(c.list)), make([]int, len(c.list))
		for i := range c.list {
			l.before[n][i], l.after[n][i] = i-1, i+1
		}
		if k := len(c.list); k > 0 {
			l.after[n][k-1] = -1
		}
	}
	return l
}

// drop takes a backup out and gives how many bytes that frees.
func (l links) drop(c chain, n, i int) int64 {
	share := func(i, next int) int64 {
		if i < 0 {
			return 0
		}
		if next < 0 {
			return c.list[i].Bytes
		}
		return min(c.list[i].Bytes, max(0, c.list[next].Written-c.list[i].Written))
	}
	before, after := l.before[n][i], l.after[n][i]
	freed := share(before, i) + share(i, after) - share(before, after)
	if before >= 0 {
		l.after[n][before] = after
	}
	if after >= 0 {
		l.before[n][after] = before
	}
	return freed
}
