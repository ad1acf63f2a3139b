package accounts

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

	"reshard/internal/core/fault"
	"reshard/internal/records"
)

func TestPasswords(t *testing.T) {
	t.Parallel()
	one, two := hashPassword("marrows and leeks"), hashPassword("marrows and leeks")
	assert.NotEqual(t, one, two, "salted")
	assert.True(t, strings.HasPrefix(one, "$argon2id$v=19$m=19456,t=2,p=1$"))
	assert.True(t, checkPassword(one, "marrows and leeks"))
	assert.False(t, checkPassword(one, "marrows and leek"))
	for _, damaged := range []string{
		"",
		"$argon2id$",
		"plain",
		one[:40],
		strings.Replace(one, "argon2id", "argon2i", 1),
	} {
		assert.False(t, checkPassword(damaged, "marrows and leeks"), damaged)
	}
}

// book is a book of users in memory.
type book struct {
	Records
	users map[string]records.User
	keys  map[string]records.User
}

func (b *book) User(_ context.Context, name string) (records.User, error) {
	u, ok := b.users[strings.ToLower(name)]
	if !ok {
		return u, fault.New(fault.NotFound, "find user", name, "there is no user of that name")
	}
	return u, nil
}

func (b *book) AddUser(_ context.Context, name, password string) error {
	b.users[strings.ToLower(name)] = records.User{ID: int64(len(b.users) + 1), Name: name, Password: password}
	return nil
}

func (b *book) AddKey(_ context.Context, hash []byte, id int64, _, _ string, _ time.Time) error {
	for _, u := range b.users {
		if u.ID == id {
			b.keys[string(hash)] = u
		}
	}
	return nil
}

func (b *book) UserByKey(_ context.Context, hash []byte) (records.User, error) {
	u, ok := b.keys[string(hash)]
	if !ok {
		return u, fault.New(fault.NotFound, "find", "key", "there is none")
	}
	return u, nil
}

func (b *book) RemoveKey(_ context.Context, hash []byte) error {
	delete(b.keys, string(hash))
	return nil
}

func withAda(t *testing.T) *Accounts {
	t.Helper()
	acc := New(&book{users: map[string]records.User{}, keys: map[string]records.User{}})
	require.NoError(t, acc.Add(t.Context(), "Ada", "marrows and leeks"))
	return acc
}

func TestASecretIsGoodUntilItIsSignedOut(t *testing.T) {
	t.Parallel()
	acc := withAda(t)
	key, err := acc.SignIn(t.Context(), Attempt{
		Name:     "ada",
		Password: "marrows and leeks",
		Address:  "192.0.2.1",
		Kind:     "session",
	})
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(sessionLasts), key.Expires, time.Minute)
	name, err := acc.UserOf(t.Context(), key.Secret)
	require.NoError(t, err)
	assert.Equal(t, "Ada", name)
	require.NoError(t, acc.SignOut(t.Context(), key.Secret))
	_, err = acc.UserOf(t.Context(), key.Secret)
	assert.ErrorIs(t, err, fault.Denied.As())
}

func TestGuessingIsSlow(t *testing.T) {
	t.Parallel()
	acc := withAda(t)
	now := time.Now()
	acc.now = func() time.Time { return now }
	try := func(name, password string) string {
		_, err := acc.SignIn(t.Context(), Attempt{Name: name, Password: password, Address: "192.0.2.1", Kind: "token"})
		what, _ := fault.Words(err)
		return what
	}
	for range mostFailures {
		assert.Contains(t, try("ada", "wrong words"), "is wrong")
	}
	assert.Contains(t, try("ada", "marrows and leeks"), "too many", "also with the right one")
	assert.Contains(t, try("bryn", "wrong words"), "is wrong", "another name is not touched")
	now = now.Add(failureEvery + time.Second)
	_, err := acc.SignIn(t.Context(), Attempt{
		Name:     "ADA",
		Password: "marrows and leeks",
		Address:  "192.0.2.1",
		Kind:     "token",
	})
	require.NoError(t, err, "one more try after a minute")
}

func TestNobodyIsLeftWithoutAUser(t *testing.T) {
	t.Parallel()
	acc := withAda(t)
	require.ErrorIs(t, acc.Remove(t.Context(), "ADA", "Ada"), fault.Invalid.As())
	require.ErrorIs(t, acc.Add(t.Context(), " x", "marrows and leeks"), fault.Invalid.As())
	require.ErrorIs(t, acc.Add(t.Context(), "x", "short"), fault.Invalid.As())
	long := NewPassword{Name: "x", Password: strings.Repeat("x", 2000)}
	require.ErrorIs(t, acc.SetPassword(t.Context(), long), fault.Invalid.As())
}

// Of very many attempts at once no more are looked at than may fail: each counts before its
// password does.
func TestAnAttemptCountsBeforeItIsLookedAt(t *testing.T) {
	t.Parallel()
	acc := withAda(t)
	var wg sync.WaitGroup
	var in, looked atomic.Int64
	for i := range 200 {
		wg.Go(func() {
			password := "wrong words"
			if i == 150 {
				password = "marrows and leeks"
			}
			_, err := acc.SignIn(
				t.Context(), Attempt{Name: "ada", Password: password, Address: "192.0.2.1:5", Kind: "token"})
			what, _ := fault.Words(err)
			switch {
			case err == nil:
				in.Add(1)
				looked.Add(1)
			case strings.Contains(what, "is wrong"):
				looked.Add(1)
			}
		})
	}
	wg.Wait()
	assert.LessOrEqual(t, looked.Load(), int64(mostFailures+1), "the right one takes its attempt back")
	assert.LessOrEqual(t, in.Load(), int64(1))
}

// Guessing from elsewhere locks nobody out who is known at another place.
func TestGuessingDoesNotLockTheOwnerOut(t *testing.T) {
	t.Parallel()
	acc := withAda(t)
	mine := Attempt{Name: "ada", Password: "marrows and leeks", Address: "192.0.2.1:5", Kind: "token"}
	_, err := acc.SignIn(t.Context(), mine)
	require.NoError(t, err)
	for i := range 3 * mostOfName {
		_, _ = acc.guard.attempt(t.Context(), "ada", fmt.Sprintf("198.51.100.%d:1", i%250), acc.now())
	}
	_, err = acc.guard.attempt(t.Context(), "ada", "203.0.113.9", acc.now())
	require.Error(t, err, "a stranger's further tries are refused")
	_, err = acc.SignIn(t.Context(), mine)
	require.NoError(t, err)
	_, err = acc.guard.attempt(t.Context(), "bryn", "203.0.113.9", acc.now())
	assert.NoError(t, err, "and other names are not touched")
}

// Wrong names from one address lock out nobody who is behind it too: what comes after them waits, each attempt longer
// than the one before. Guessing is no faster for it: who does not wait is refused.
func TestWrongNamesFromAnAddressMakeTheNextWait(t *testing.T) {
	t.Parallel()
	g, now := newGuard(), time.Now()
	var waits []time.Duration
	g.wait = func(ctx context.Context, d time.Duration) error {
		waits = append(waits, d.Round(time.Second))
		return ctx.Err()
	}
	for i := range mostOfAddress {
		_, err := g.attempt(t.Context(), fmt.Sprint("user", i), "2001:db8::1", now)
		require.NoError(t, err)
	}
	require.Empty(t, waits)
	_, err := g.attempt(t.Context(), "bryn", "[2001:db8::ffff]:80", now)
	require.NoError(t, err, "of IPv6 a network is one place")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = g.attempt(gone, "cai", "2001:db8::2", now)
	require.ErrorIs(t, err, context.Canceled)
	_, err = g.attempt(t.Context(), "dai", "2001:db8::3", now)
	require.NoError(t, err)
	assert.Equal(t, []time.Duration{10 * time.Second, 20 * time.Second, 20 * time.Second}, waits,
		"who gave up holds nobody up")
	_, err = g.attempt(t.Context(), "ellis", "2001:db8::4", now)
	require.ErrorContains(t, err, "too many sign-ins from your address failed")
	_, err = g.attempt(t.Context(), "ellis", "2001:db8:1::1", now)
	require.NoError(t, err, "another place is not touched")
	assert.Len(t, waits, 3)
}

// Whoever hashes gives up with its caller.
func TestHashingGivesUpWithItsCaller(t *testing.T) {
	t.Parallel()
	g := newGuard()
	for range hashesAtOnce {
		_, err := g.hashing(t.Context())
		require.NoError(t, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := g.hashing(ctx)
	assert.ErrorIs(t, err, fault.TooSlow.As())
}

// What somebody asks for ends with the right to ask for it.
func TestWhatIsAskedForEndsWithItsUser(t *testing.T) {
	t.Parallel()
	acc := withAda(t)
	key, err := acc.SignIn(t.Context(), Attempt{Name: "ada", Password: "marrows and leeks", Kind: "token"})
	require.NoError(t, err)
	ctx, leave := acc.Stay(t.Context(), "Ada", key.Secret)
	defer leave()
	other, leaveOther := acc.Stay(t.Context(), "Bryn", "x")
	defer leaveOther()
	require.NoError(t, acc.SignOut(t.Context(), key.Secret))
	assert.ErrorIs(t, context.Cause(ctx), fault.Denied.As())
	acc.present.endOf("ADA")
	assert.NoError(t, other.Err())
}
