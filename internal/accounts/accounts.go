// Package accounts knows who may use the service: users, their passwords, sessions and
// tokens.
package accounts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode"

	"golang.org/x/crypto/argon2"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Argon2id parameters: the second choice of RFC 9106, section 4, halved in
// memory, as OWASP's password storage cheat sheet allows for busy services.
const (
	argonTime    = 2
	argonMemory  = 19 << 10 // KiB
	argonThreads = 1
	argonKey     = 32
)

// How long sessions of the console and tokens of the command line last.
const (
	sessionLasts = 7 * 24 * time.Hour
	tokenLasts   = 365 * 24 * time.Hour
	shortest     = 10 // characters of a password
)

func hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b64.EncodeToString(salt), b64.EncodeToString(key))
}

func checkPassword(encoded, password string) bool {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var memory, passes uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, threads, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// nobody is checked when there is no such user, so that the time taken does not
// tell which names exist.
var nobody = sync.OnceValue(func() string { return hashPassword("nobody has this password") })

// Records is what accounts need of the records; see records.Records.
type Records interface {
	User(ctx context.Context, name string) (records.User, error)
	Users(ctx context.Context) ([]records.User, error)
	AddUser(ctx context.Context, name, password string) error
	SetPassword(ctx context.Context, name, password string) error
	RemoveUser(ctx context.Context, name string) error
	AddKey(ctx context.Context, hash []byte, userID int64, kind, label string, expires time.Time) error
	UserByKey(ctx context.Context, hash []byte) (records.User, error)
	RemoveKey(ctx context.Context, hash []byte) error
}

// Accounts knows users. It is safe for concurrent use.
type Accounts struct {
	records Records
	now     func() time.Time
	guard   *guard
	present present
}

// New makes accounts over the records.
func New(r Records) *Accounts {
	return &Accounts{records: r, now: time.Now, guard: newGuard(), present: present{here: map[*visit]bool{}}}
}

// Attempt is somebody's wish to sign in.
type Attempt struct {
	Name, Password string
	// Address is where it comes from, with or without a port.
	Address string
	// Kind is session, for the console, or token, for the command line.
	Kind, Label string
}

// SignIn checks a password and makes a key: a session or a token.
func (acc *Accounts) SignIn(ctx context.Context, a Attempt) (wire.Token, error) {
	name := a.Name
	succeeded, err := acc.guard.attempt(ctx, name, a.Address, acc.now())
	if err != nil {
		return wire.Token{}, err
	}
	u, err := acc.records.User(ctx, name)
	if err != nil && fault.CodeOf(err) != fault.NotFound {
		return wire.Token{}, err
	}
	encoded := u.Password
	if err != nil {
		encoded = nobody()
	}
	done, herr := acc.guard.hashing(ctx)
	if herr != nil {
		return wire.Token{}, herr
	}
	ok := checkPassword(encoded, a.Password)
	done()
	if !ok || err != nil {
		return wire.Token{}, fault.New(fault.Denied, "sign in", name, "the name or the password is wrong").
			With("Try again. Another user can set a new password: reshard users password NAME.")
	}
	succeeded()
	return acc.newKey(ctx, u, a.Kind, a.Label)
}

func (acc *Accounts) newKey(ctx context.Context, u records.User, kind, label string) (wire.Token, error) {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	secret := base64.RawURLEncoding.EncodeToString(raw)
	lasts := tokenLasts
	if kind == "session" {
		lasts = sessionLasts
	}
	expires := acc.now().Add(lasts).UTC()
	sum := sha256.Sum256([]byte(secret))
	err := acc.records.AddKey(ctx, sum[:], u.ID, kind, label, expires)
	return wire.Token{User: u.Name, Secret: secret, Expires: expires}, err
}

// UserOf gives the user whose session or token a secret is.
func (acc *Accounts) UserOf(ctx context.Context, secret string) (string, error) {
	sum := sha256.Sum256([]byte(secret))
	u, err := acc.records.UserByKey(ctx, sum[:])
	if fault.CodeOf(err) == fault.NotFound {
		return "", fault.New(fault.Denied, "sign in", "", "the session or token is not valid any more")
	}
	return u.Name, err
}

// SignOut ends a session or token.
func (acc *Accounts) SignOut(ctx context.Context, secret string) error {
	sum := sha256.Sum256([]byte(secret))
	err := acc.records.RemoveKey(ctx, sum[:])
	if err == nil {
		acc.present.end(func(v *visit) bool { return v.key == sum })
	}
	return err
}

// Add records a user. Every user may do everything: who may start a server's
// command may do what the service's account may.
func (acc *Accounts) Add(ctx context.Context, name, password string) error {
	if strings.TrimSpace(name) != name || name == "" || len(name) > 64 ||
		strings.ContainsFunc(name, unicode.IsControl) {
		return fault.New(fault.Invalid, "add user", name,
			"a user's name has 1 to 64 characters, none of which is a control character, and no blanks at its ends")
	}
	if err := checkNewPassword(name, password); err != nil {
		return err
	}
	hash, err := acc.hashed(ctx, password)
	if err != nil {
		return err
	}
	return acc.records.AddUser(ctx, name, hash)
}

// NewPassword is a wish to change a password.
type NewPassword struct {
	Name, Password string
	// By is who asks for it, Present the password that they have now: of one's own it has to be known.
	By, Present string
	// Address is where it comes from.
	Address string
}

// SetPassword changes a user's password and ends all of their sessions and tokens. Code NotAllowed: it is one's own,
// and the present one is not given or another.
func (acc *Accounts) SetPassword(ctx context.Context, n NewPassword) error {
	name, password := n.Name, n.Password
	if err := checkNewPassword(name, password); err != nil {
		return err
	}
	if strings.EqualFold(name, n.By) {
		if err := acc.knows(ctx, n); err != nil {
			return err
		}
	}
	hash, err := acc.hashed(ctx, password)
	if err != nil {
		return err
	}
	if err := acc.records.SetPassword(ctx, name, hash); err != nil {
		return err
	}
	acc.present.endOf(name)
	return nil
}

// knows is nil when somebody knows their present password. Who has their session alone cannot lock them out. It counts
// as an attempt to sign in.
func (acc *Accounts) knows(ctx context.Context, n NewPassword) error {
	succeeded, err := acc.guard.attempt(ctx, n.Name, n.Address, acc.now())
	if err != nil {
		return err
	}
	u, err := acc.records.User(ctx, n.Name)
	if err != nil {
		return err
	}
	done, err := acc.guard.hashing(ctx)
	if err != nil {
		return err
	}
	defer done()
	if !checkPassword(u.Password, n.Present) {
		return fault.New(fault.NotAllowed, "set password of", n.Name, "your current password is missing or wrong").
			With("Give your current password, too.")
	}
	succeeded()
	return nil
}

// Get gives a user.
func (acc *Accounts) Get(ctx context.Context, name string) (wire.User, error) {
	u, err := acc.records.User(ctx, name)
	return wire.User{Name: u.Name, CreatedAt: u.CreatedAt}, err
}

func (acc *Accounts) hashed(ctx context.Context, password string) (string, error) {
	done, err := acc.guard.hashing(ctx)
	if err != nil {
		return "", err
	}
	defer done()
	return hashPassword(password), nil
}

func checkNewPassword(name, password string) error {
	if len([]rune(password)) < shortest {
		return fault.New(fault.Invalid, "set password of", name, "a password needs at least %d characters", shortest)
	}
	if len(password) > 1024 {
		return fault.New(fault.Invalid, "set password of", name, "a password may have at most 1024 bytes")
	}
	return nil
}

// Remove removes a user; nobody can remove themselves, so one always stays.
func (acc *Accounts) Remove(ctx context.Context, name, by string) error {
	if strings.EqualFold(name, by) {
		return fault.New(fault.Invalid, "remove user", name, "you cannot remove yourself").
			With("Ask another user to do it.")
	}
	if err := acc.records.RemoveUser(ctx, name); err != nil {
		return err
	}
	acc.present.endOf(name)
	return nil
}

// List lists all users.
func (acc *Accounts) List(ctx context.Context) ([]wire.User, error) {
	users, err := acc.records.Users(ctx)
	out := make([]wire.User, 0, len(users))
	for _, u := range users {
		out = append(out, wire.User{Name: u.Name, CreatedAt: u.CreatedAt})
	}
	return out, err
}
