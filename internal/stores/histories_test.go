package stores

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// estate is two services with three disks, one place for each, and what was seen of them.
type estate struct {
	t      *testing.T
	r      *rand.Rand
	houses []*house
	// places are folders; disks says which disk is at each, -1 for none; aside is where disks are that are not.
	places []string
	disks  []int
	aside  string
	// kept are the copies of each house that it keeps; listed the packs that its vault ever listed.
	kept, listed []map[string]bool
	log          []string
}

func newEstate(t *testing.T, seed uint64) *estate {
	t.Helper()
	e := &estate{t: t, r: rand.New(rand.NewPCG(seed, 9)), aside: t.TempDir()}
	dir := t.TempDir()
	for i := range 3 {
		e.places = append(e.places, filepath.Join(dir, fmt.Sprintf("disk%d", i)))
		require.NoError(t, os.Mkdir(e.places[i], 0o700))
		e.disks = append(e.disks, i)
	}
	for range 2 {
		e.houses = append(e.houses, newHouse(t))
		e.kept = append(e.kept, map[string]bool{})
		e.listed = append(e.listed, map[string]bool{})
	}
	// The first has two stores, and the second has found one of them.
	ctx := context.Background()
	for i := range 2 {
		_, err := e.houses[0].stores.Add(ctx, wire.NewStore{
			Name: fmt.Sprintf("s%d", i), Kind: KindFiles, Folder: e.places[i],
		}, "ada")
		require.NoError(t, err)
	}
	for n := range uint64(4) {
		e.kept[0][e.houses[0].keep(n, 2)] = true
	}
	require.NoError(t, e.houses[0].stores.Send(ctx))
	if seed%2 == 0 {
		e.houses[1].keysOf(e.houses[0])
	}
	_, err := e.houses[1].stores.Add(ctx, wire.NewStore{
		Name: "s0", Kind: KindFiles, Folder: e.places[0], Recover: true,
	}, "bryn")
	require.NoError(t, err)
	return e
}

// disk is where a disk is now: at a place, or aside.
func (e *estate) disk(n int) string {
	for place, d := range e.disks {
		if d == n {
			return e.places[place]
		}
	}
	return filepath.Join(e.aside, fmt.Sprint(n))
}

// take takes the disk of a place out, which leaves an empty folder there; put puts one in.
func (e *estate) take(place int) {
	n := e.disks[place]
	require.NoError(e.t, os.Rename(e.places[place], filepath.Join(e.aside, fmt.Sprint(n))))
	require.NoError(e.t, os.Mkdir(e.places[place], 0o700))
	e.disks[place] = -1
}

func (e *estate) put(place, n int) {
	require.NoError(e.t, os.Remove(e.places[place]), "nothing was written to an empty mount point")
	require.NoError(e.t, os.Rename(filepath.Join(e.aside, fmt.Sprint(n)), e.places[place]))
	e.disks[place] = n
}

// seen is what is on a disk: its files with their times, and its mark.
type seen struct {
	files map[string]time.Time
	mark  mark
}

func (e *estate) look() (out [3]seen) {
	for n := range out {
		out[n].files = map[string]time.Time{}
		found, err := filepath.Glob(filepath.Join(e.disk(n), "packs", "*", "*"))
		require.NoError(e.t, err)
		for _, f := range found {
			info, err := os.Stat(f)
			require.NoError(e.t, err)
			out[n].files[filepath.Base(f)] = info.ModTime()
		}
		if data, err := os.ReadFile(filepath.Join(e.disk(n), markKey)); err == nil {
			require.NoError(e.t, json.Unmarshal(data, &out[n].mark))
		}
	}
	return out
}

// judge compares what was on the disks before one house did something with what is there now: nothing that a living
// house needs is gone, nothing is gone that the one never had, and nothing was written to a disk that is not its own.
func (e *estate) judge(who int, before [3]seen) {
	need := map[string]int{}
	for i, h := range e.houses {
		for _, id := range vaultPacks(e.t, h) {
			e.listed[i][id] = true
			need[id] = i
		}
	}
	after := e.look()
	for n := range after {
		mine := after[n].mark.Vault == e.houses[who].data
		for f, at := range after[n].files {
			if was, ok := before[n].files[f]; !ok || !was.Equal(at) {
				require.True(e.t, mine, "%s was written to disk %d of %q: %v", f, n, after[n].mark.Vault, e.log)
			}
		}
		for f := range before[n].files {
			if _, ok := after[n].files[f]; ok {
				continue
			}
			id := f[:32]
			by, needed := need[id]
			require.False(e.t, needed, "%s is gone from disk %d, and house %d needs it: %v", f, n, by, e.log)
			require.True(e.t, e.listed[who][id], "%s is gone from disk %d, house %d never had it: %v", f, n, who, e.log)
			require.True(e.t, mine, "%s is gone from disk %d, which is of %q: %v", f, n, after[n].mark.Vault, e.log)
		}
	}
}

// step has one house do something, or something happen to the disks.
func (e *estate) step() {
	ctx := context.Background()
	who := e.r.IntN(len(e.houses))
	h, place := e.houses[who], e.r.IntN(len(e.places))
	name := fmt.Sprintf("s%d", place)
	before := e.look()
	note := func(what string, err error) { e.log = append(e.log, fmt.Sprintf("%d %s %s: %v", who, what, name, err)) }
	crash := errors.New("the service dies")
	cut := func(do func() error) error {
		at := e.r.IntN(12)
		h.trace = func(string) {
			if at--; at == 0 {
				panic(crash)
			}
		}
		err := fault.Safely(do)
		h.trace = nil
		if at <= 0 {
			h.restart()
		}
		return err
	}
	act := e.r.IntN(20)
	if act >= 5 && act <= 7 && e.disks[place] < 0 { // nobody begins with a disk that is not there
		return
	}
	switch act {
	case 0, 1, 2:
		e.kept[who][h.keep(e.r.Uint64N(40), 1+e.r.IntN(4))] = true
	case 3:
		for id := range e.kept[who] {
			delete(e.kept[who], id)
			h.gone(id)
			break
		}
	case 4:
		var keep []string
		for id := range e.kept[who] {
			keep = append(keep, id)
		}
		_, err := h.vault.Collect(ctx, keep, time.Now(), nil)
		require.NoError(e.t, err)
		note("collect", err)
	case 5, 6:
		_, err := h.stores.Add(ctx, wire.NewStore{Name: name, Kind: KindFiles, Folder: e.places[place]}, "ada")
		note("add", err)
	case 7:
		_, err := h.stores.Add(ctx, wire.NewStore{Name: name, Kind: KindFiles, Folder: e.places[place], Recover: true},
			"ada")
		note("add --recover", err)
	case 8:
		note("recover", cut(func() error {
			_, err := h.stores.Recover(ctx, name, func(_, _ int64) {})
			if err == nil && e.r.IntN(2) == 0 {
				err = h.stores.Recovered(ctx, name)
			}
			return err
		}))
	case 9:
		holder, err := h.stores.Holder(ctx, name)
		if err == nil {
			err = cut(func() error { _, err := h.stores.TakeOver(ctx, name, holder.Mark); return err })
		}
		note("take-over", err)
	case 10, 11, 12:
		note("send", cut(func() error { return h.stores.Send(ctx) }))
	case 13:
		note("standing", cut(func() error {
			_, err := h.stores.Standing(ctx, time.Duration(e.r.Int64N(int64(round))))
			return err
		}))
	case 14:
		s, err := h.stores.Store(ctx, name)
		if err == nil {
			var due []string
			for _, d := range s.Deletes {
				if d.Due && e.r.IntN(4) > 0 {
					due = append(due, d.Pack)
				}
			}
			err = cut(func() error { _, err := h.stores.Tidy(ctx, name, due); return err })
		}
		note("tidy", err)
	case 15: // a disk is taken out, or put in, perhaps at another place
		if e.disks[place] >= 0 {
			e.take(place)
		} else {
			for n := range e.places {
				if filepath.Dir(e.disk(n)) == e.aside {
					e.put(place, n)
					break
				}
			}
		}
	case 16:
		other := (place + 1) % len(e.places)
		a, b := e.disks[place], e.disks[other]
		if a >= 0 && b >= 0 {
			e.take(place)
			e.take(other)
			e.put(place, b)
			e.put(other, a)
		}
	case 17:
		switch e.r.IntN(6) {
		case 0:
			note("remove", h.stores.Remove(ctx, name))
		case 1:
			_, err := h.stores.Rotate(ctx)
			note("new key", err)
		case 2: // the file of keys is lost
			_ = os.Remove(filepath.Join(h.data, KeyFile))
			h.restart()
		case 3: // or what the other one had comes here
			if _, err := os.Stat(filepath.Join(e.houses[1-who].data, KeyFile)); err == nil {
				h.keysOf(e.houses[1-who])
			}
		}
	case 18: // time passes
		h.later(time.Duration(e.r.Int64N(int64(20 * 24 * time.Hour))))
	case 19: // the clock leaps
		h.leap.Add(e.r.Int64N(int64(400*24*time.Hour)) - int64(90*24*time.Hour))
	}
	e.judge(who, before)
}

// Random lives of two services with the same disks: stores are added, recovered from, taken over, sent to, checked
// and tidied, disks are taken out and exchanged, keys lost and made, clocks leap, and the services die anywhere.
func TestNoPackThatIsNeededIsEverRemoved(t *testing.T) {
	t.Parallel()
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			e := newEstate(t, seed)
			for range 150 {
				e.step()
			}
			// At last each disk is at its place, and whose store is well has everything that is kept.
			for place := range e.places {
				if e.disks[place] >= 0 {
					e.take(place)
				}
			}
			for place := range e.places {
				e.put(place, place)
			}
			ctx := context.Background()
			for i, h := range e.houses {
				h.stores.now = func() time.Time { return time.Now().Add(3 * time.Hour) } // nothing waits
				_ = h.stores.Send(ctx)                                                   // some belong to the other
				all, err := h.stores.Stores(ctx)
				require.NoError(t, err)
				for _, s := range all {
					if s.ReadOnly || s.Trouble != "" {
						continue
					}
					assert.Zero(t, s.Lacks, s.Name)
					var ids []string
					for id := range e.kept[i] {
						ids = append(ids, id)
					}
					h.recovered(s.Folder).verify(ids...)
				}
			}
		})
	}
}
