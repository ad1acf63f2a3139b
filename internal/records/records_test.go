package records_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/records"
	"reshard/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

func setup(t *testing.T) (*records.Records, string) {
	t.Helper()
	url := recordstest.Database(t)
	r, err := records.Open(context.Background(), url, records.Claim{Who: "test"})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r, url
}

func draft(t *testing.T, r *records.Records, server int64) int64 {
	t.Helper()
	ctx := context.Background()
	id, err := r.NextChangeoverID(ctx)
	require.NoError(t, err)
	p := plan.Plan{Kind: plan.Put, Steps: []plan.Step{{Kind: plan.Stage}, {Kind: plan.Prove}}}
	require.NoError(t, r.AddDraft(
		ctx, records.Changeover{
			ID:        id,
			ServerID:  server,
			Kind:      plan.Put,
			Plan:      records.JSON[plan.Plan]{V: p},
			CreatedBy: "ada",
		}))
	return id
}

func addServer(t *testing.T, r *records.Records, name string) records.Server {
	t.Helper()
	s, err := r.AddServer(context.Background(),
		records.Server{
			Name:    name,
			Host:    "local",
			Game:    "g",
			Kind:    "k",
			Root:    "/srv/" + name,
			Command: records.JSON[[]string]{V: []string{"x"}},
			Env:     records.JSON[map[string]string]{V: map[string]string{}},
		})
	require.NoError(t, err)
	return s
}

func TestTheJournalMovesOnlyFromTheExpectedState(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	id := draft(t, r, addServer(t, r, "north").ID)
	require.NoError(t, r.Advance(ctx, id, plan.Drafted, plan.Staging, records.Patch{}))
	require.NoError(t, r.Advance(ctx, id, plan.Drafted, plan.Staging, records.Patch{}),
		"told again after a lost answer")
	assert.ErrorIs(t, r.Advance(ctx, id, plan.Switching, plan.Proving, records.Patch{}), fault.WrongState.As())
	assert.Error(t, r.Advance(ctx, id, plan.Staging, plan.Done, records.Patch{}), "no way leads there")
	cause := &records.Failure{Code: "x", What: "why"}
	require.NoError(t, r.Advance(ctx, id, plan.Staging, plan.Undoing, records.Patch{Failure: cause}))
	require.NoError(t, r.Advance(ctx, id, plan.Undoing, plan.Undone, records.Patch{}))
	c, err := r.Changeover(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, cause, c.Failure.V, "a later move keeps it")
	assert.NotNil(t, c.StartedAt)
	assert.NotNil(t, c.EndedAt)
	assert.Len(t, c.Steps, 2)
}

func TestStepsMoveOnlyFromTheExpectedState(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	id := draft(t, r, addServer(t, r, "north").ID)
	planned, intended := []plan.StepState{plan.StepPlanned}, []plan.StepState{plan.StepIntended}
	assert.ErrorIs(t, r.AdvanceStep(ctx, id, 0, intended, plan.StepDone, nil), fault.WrongState.As())
	require.NoError(t, r.AdvanceStep(ctx, id, 0, planned, plan.StepIntended, nil))
	require.NoError(t, r.AdvanceStep(ctx, id, 0, intended, plan.StepDone, map[string]int{"tookMs": 3}))
	require.NoError(t, r.AdvanceStep(ctx, id, 0, intended, plan.StepDone, nil), "told again; the detail stays")
	c, err := r.Changeover(ctx, id)
	require.NoError(t, err)
	assert.JSONEq(t, `{"tookMs":3}`, string(c.Steps[0].Left))
	assert.Equal(t, plan.StepPlanned, c.Steps[1].State)
}

// Many begin at once on one server, exactly one wins; another server is free.
func TestOneOpenChangeoverAServer(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	north, south := addServer(t, r, "north"), addServer(t, r, "south")
	var ids []int64
	for range 12 {
		ids = append(ids, draft(t, r, north.ID))
	}
	var wins, busy atomic.Int64
	var wg sync.WaitGroup
	for _, id := range ids {
		wg.Go(func() {
			err := r.Advance(ctx, id, plan.Drafted, plan.Staging, records.Patch{})
			switch fault.CodeOf(err) {
			case "":
				wins.Add(1)
			case fault.Busy:
				busy.Add(1)
			}
		})
	}
	wg.Wait()
	assert.Equal(t, int64(1), wins.Load())
	assert.Equal(t, int64(11), busy.Load())
	assert.NoError(t, r.Advance(ctx, draft(t, r, south.ID), plan.Drafted, plan.Staging, records.Patch{}))
	open, err := r.OpenChangeovers(ctx)
	require.NoError(t, err)
	assert.Len(t, open, 2)
	holders, err := r.Holders(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"north": open[0].ID, "south": open[1].ID}, holders)
}

// A query that is not answered within its limit is one that found no database: it is
// tried again, and is no cancellation, which would take a changeover back.
func TestALimitIsNoCancellation(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	id := draft(t, r, addServer(t, r, "north").ID)
	late, done := context.WithTimeout(context.Background(), -time.Second)
	defer done()
	for name, err := range map[string]error{
		"read":    func() error { _, _, err := r.ChangeoverPage(late, records.ChangeoverQuery{}); return err }(),
		"advance": r.Advance(late, id, plan.Drafted, plan.Staging, records.Patch{}),
		"step":    r.AdvanceStep(late, id, 0, []plan.StepState{plan.StepPlanned}, plan.StepIntended, nil),
	} {
		assert.ErrorIs(t, err, fault.Unreachable.As(), name)
		assert.True(t, fault.Passing(err), name)
	}
	left, leave := context.WithCancel(context.Background())
	leave()
	_, _, err := r.ChangeoverPage(left, records.ChangeoverQuery{})
	assert.ErrorIs(t, err, fault.Interrupted.As())
	assert.False(t, fault.Passing(err), "a person who leaves is not waited for")
}

func TestAddressesThatDoNotWork(t *testing.T) {
	t.Parallel()
	_, err := records.Open(context.Background(), "postgres://nobody@127.0.0.1:1/x?connect_timeout=2", records.Claim{})
	assert.ErrorIs(t, err, fault.Unreachable.As())
	_, err = records.Open(context.Background(), "::not an address", records.Claim{})
	assert.ErrorIs(t, err, fault.Invalid.As())
	assert.NotContains(t, err.Error(), "not an address", "an address may hold a password")
}

func copyOf(id byte, title string) records.Copy {
	return records.Copy{
		ID:        strings.Repeat(fmt.Sprintf("%02x", id), 32),
		Kind:      "arrival",
		Facts:     records.JSON[world.Facts]{V: world.Facts{Game: "g", Title: title, Folder: "f"}},
		Source:    "s",
		CreatedBy: "ada",
	}
}

func TestWorldNames(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	names := map[string]bool{}
	for i, title := range []string{
		"Fen Garden", "fen garden!", "🍎", "", "Château Über", strings.Repeat("long ", 30),
	} {
		c, isNew, err := r.AddCopy(ctx, copyOf(byte(i+1), title))
		require.NoError(t, err)
		assert.True(t, isNew)
		assert.False(t, names[c.World], c.World)
		names[c.World] = true
	}
	for _, want := range []string{"fen-garden", "fen-garden-2", "world", "f", "chateau-uber"} {
		assert.True(t, names[want], "%s in %v", want, names)
	}
	same, isNew, err := r.AddCopy(ctx, copyOf(1, "Another title"))
	require.NoError(t, err)
	assert.False(t, isNew)
	assert.Equal(t, "fen-garden", same.World)

	found, err := r.FindCopy(ctx, "fen-garden-2")
	require.NoError(t, err)
	assert.Equal(t, copyOf(2, "").ID, found.ID)
	found, err = r.FindCopy(ctx, "020202")
	require.NoError(t, err)
	assert.Equal(t, "fen-garden-2", found.World)
	for _, ref := range []string{"", "0", "02020", "%", "ffffffff"} {
		_, err = r.FindCopy(ctx, ref)
		assert.ErrorIs(t, err, fault.NotFound.As(), ref)
	}
}

func TestKeysExpire(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	require.NoError(t, r.AddUser(ctx, "Ada", "hash"))
	u, err := r.User(ctx, "aDA")
	require.NoError(t, err)
	require.NoError(t, r.AddKey(ctx, []byte("live"), u.ID, "token", "", time.Now().Add(time.Hour)))
	require.NoError(t, r.AddKey(ctx, []byte("dead"), u.ID, "token", "", time.Now().Add(-time.Second)))
	got, err := r.UserByKey(ctx, []byte("live"))
	require.NoError(t, err)
	assert.Equal(t, "Ada", got.Name)
	_, err = r.UserByKey(ctx, []byte("dead"))
	assert.ErrorIs(t, err, fault.NotFound.As())
	require.NoError(t, r.RemoveKey(ctx, []byte("live")))
	_, err = r.UserByKey(ctx, []byte("live"))
	assert.ErrorIs(t, err, fault.NotFound.As())
}

// A changeover holds its own server and the one that it copies from, from its start to
// its end, and nobody else can begin there.
func TestAChangeoverHoldsItsSource(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	north, south := addServer(t, r, "north"), addServer(t, r, "south")
	id, err := r.NextChangeoverID(ctx)
	require.NoError(t, err)
	require.NoError(t, r.AddDraft(
		ctx, records.Changeover{
			ID:        id,
			ServerID:  south.ID,
			SourceID:  &north.ID,
			Kind:      plan.Clone,
			Plan:      records.JSON[plan.Plan]{V: plan.Plan{Steps: []plan.Step{{Kind: plan.Wait}}}},
			CreatedBy: "ada",
		}))
	other := draft(t, r, north.ID)
	require.NoError(t, r.Advance(ctx, id, plan.Drafted, plan.Staging, records.Patch{}))
	holders, err := r.Holders(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"north": id, "south": id}, holders)
	err = r.Advance(ctx, other, plan.Drafted, plan.Staging, records.Patch{})
	assert.ErrorIs(t, err, fault.Busy.As())
	c, err := r.Changeover(ctx, other)
	require.NoError(t, err)
	assert.Equal(t, plan.Drafted, c.State, "it has not moved")

	require.NoError(t, r.Advance(ctx, id, plan.Staging, plan.Waiting, records.Patch{}))
	require.NoError(t, r.SetStepDetail(ctx, id, 0, map[string]string{"by": "ada"}))
	require.NoError(t, r.SetStepDetail(ctx, id, 0, map[string]string{"more": "x"}))
	steps, err := r.Steps(ctx, id)
	require.NoError(t, err)
	assert.JSONEq(t, `{"by":"ada","more":"x"}`, string(steps[0].Left))
	open, err := r.OpenChangeovers(ctx)
	require.NoError(t, err)
	assert.Len(t, open, 1, "one that waits is taken up again")
	require.NoError(t, r.Advance(ctx, id, plan.Waiting, plan.Undoing, records.Patch{}))
	require.NoError(t, r.Advance(ctx, id, plan.Undoing, plan.Undone, records.Patch{}))
	require.NoError(t, r.Advance(ctx, other, plan.Drafted, plan.Staging, records.Patch{}))
}

// Landmarks belong to a world, sightings to a changeover; what is told last counts.
func TestLandmarks(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	c, _, err := r.AddCopy(ctx, copyOf(1, "Fen"))
	require.NoError(t, err)
	roof, err := r.AddLandmark(ctx, c.WorldID, records.Landmark{Say: "red roof", Place: "120 / -30", CreatedBy: "ada"})
	require.NoError(t, err)
	_, err = r.AddLandmark(ctx, c.WorldID, records.Landmark{Say: "bean row", CreatedBy: "ada"})
	require.NoError(t, err)
	change := draft(t, r, addServer(t, r, "north").ID)
	for _, seen := range []bool{false, true} {
		require.NoError(t, r.Sight(ctx, change, roof, seen, "bryn"))
	}
	list, err := r.Sightings(ctx, c.WorldID, change)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.True(t, *list[0].Seen)
	assert.Equal(t, "bryn", *list[0].ToldBy)
	assert.Nil(t, list[1].Seen)
	// A copy that is told to be of a world joins it; the same content stays what it was.
	older := copyOf(2, "Fen, later")
	older.WorldID = c.WorldID
	second, isNew, err := r.AddCopy(ctx, older)
	require.NoError(t, err)
	assert.True(t, isNew)
	assert.Equal(t, c.World, second.World)
	assert.ErrorIs(t, r.RemoveLandmark(ctx, c.WorldID+1, roof), fault.NotFound.As())
	require.NoError(t, r.RemoveLandmark(ctx, c.WorldID, roof))
	left, err := r.Landmarks(ctx, c.WorldID)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

func TestTidiedIsToldOnce(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	server := addServer(t, r, "north")
	id := draft(t, r, server.ID)
	for range 2 {
		require.NoError(t, r.AddTidied(ctx, records.Tidied{ChangeoverID: id, Bytes: 7, By: "ada"}))
	}
	got, err := r.TidiedOf(ctx, server.ID)
	require.NoError(t, err)
	assert.Equal(t, int64(7), got[id].Bytes)
}

// The same world that arrives several times at once is one copy of one world.
func TestACopyThatArrivesTwiceAtOnce(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	var group errgroup.Group
	var added atomic.Int32
	for range 8 {
		group.Go(func() error {
			c, isNew, err := r.AddCopy(ctx, copyOf(0x77, "Fen"))
			if isNew {
				added.Add(1)
			}
			if err == nil && c.World != "fen" {
				err = fmt.Errorf("it is %q", c.World)
			}
			return err
		})
	}
	require.NoError(t, group.Wait())
	assert.EqualValues(t, 1, added.Load())
	worlds, err := r.Worlds(ctx)
	require.NoError(t, err)
	assert.Len(t, worlds, 1)
}

// A copy that is set aside goes by the rule, unless it is pinned; what has gone is not
// changed any more, and comes back only by arriving again.
func TestCopiesGo(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	var copies []records.Copy
	for i := range 3 {
		c, _, err := r.AddCopy(ctx, copyOf(byte(0x50+i), fmt.Sprintf("Plot %d", i)))
		require.NoError(t, err)
		copies = append(copies, c)
	}
	yesterday := time.Now().Add(-24 * time.Hour)
	for i := range 2 {
		copies[i].AsideAt, copies[i].AsideBy, copies[i].Pinned = &yesterday, "ada", i == 1
		require.NoError(t, r.SetCopy(ctx, copies[i]))
	}
	gone, err := r.CopiesGone(ctx, yesterday.Add(-time.Hour))
	require.NoError(t, err)
	assert.Empty(t, gone, "not for long enough")
	gone, err = r.CopiesGone(ctx, time.Now())
	require.NoError(t, err)
	assert.Equal(t, []string{copies[0].ID}, gone, "neither the pinned one nor one that is not set aside")
	copies[0].AsideAt = nil
	require.ErrorIs(t, r.SetCopy(ctx, copies[0]), fault.NotFound.As(), "it was read before it went")
	_, err = r.FindCopy(ctx, copies[0].ID)
	require.ErrorIs(t, err, fault.NotFound.As())
	left, err := r.CopiesOf(ctx, copies[0].WorldID)
	require.NoError(t, err)
	assert.Empty(t, left)
	h, err := r.Holdings(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, h.Copies)

	again, _, err := r.AddCopy(ctx, copyOf(0x50, "Plot 0"))
	require.NoError(t, err)
	assert.Nil(t, again.AsideAt)
	left, err = r.CopiesOf(ctx, again.WorldID)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}
