package service

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

// failures slows down guessing: after mostFailures for a name within the
// window, sign-ins of that name are refused for the rest of it.
type failures struct {
	mu   sync.Mutex
	seen map[string][]time.Time
	hash sync.Mutex // one password hash at a time bounds the memory that guessing costs
}

const (
	mostFailures  = 10
	failureWindow = 10 * time.Minute
	mostNames     = 10_000
)

func (f *failures) tooMany(name string, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	recent := f.seen[name][:0]
	for _, t := range f.seen[name] {
		if now.Sub(t) < failureWindow {
			recent = append(recent, t)
		}
	}
	if len(recent) == 0 {
		delete(f.seen, name)
	} else {
		f.seen[name] = recent
	}
	return len(recent) >= mostFailures
}

func (f *failures) add(name string, now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.seen == nil || len(f.seen) > mostNames {
		f.seen = map[string][]time.Time{}
	}
	f.seen[name] = append(f.seen[name], now)
}

// SignIn checks a password and makes a key: a session for the console or a
// token for the command line.
func (s *Service) SignIn(ctx context.Context, name, password, kind, label string) (wire.Token, error) {
	key := strings.ToLower(name)
	if s.signIns.tooMany(key, s.now()) {
		return wire.Token{}, fault.New(fault.Denied, "sign in", name, "too many wrong passwords").
			With("Wait ten minutes.")
	}
	u, err := s.records.User(ctx, name)
	if err != nil && fault.CodeOf(err) != fault.NotFound {
		return wire.Token{}, err
	}
	encoded := u.Password
	if err != nil {
		encoded = nobody()
	}
	s.signIns.hash.Lock()
	ok := checkPassword(encoded, password)
	s.signIns.hash.Unlock()
	if !ok || err != nil {
		s.signIns.add(key, s.now())
		return wire.Token{}, fault.New(fault.Denied, "sign in", name, "the name or the password is wrong").
			With("Try again. Another user can set a new password: reshard users password NAME.")
	}
	return s.newKey(ctx, u, kind, label)
}

func (s *Service) newKey(ctx context.Context, u records.User, kind, label string) (wire.Token, error) {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	secret := base64.RawURLEncoding.EncodeToString(raw)
	lasts := tokenLasts
	if kind == "session" {
		lasts = sessionLasts
	}
	expires := s.now().Add(lasts).UTC()
	sum := sha256.Sum256([]byte(secret))
	err := s.records.AddKey(ctx, sum[:], u.ID, kind, label, expires)
	return wire.Token{User: u.Name, Secret: secret, Expires: expires}, err
}

// UserOf gives the user whose session or token a secret is.
func (s *Service) UserOf(ctx context.Context, secret string) (string, error) {
	sum := sha256.Sum256([]byte(secret))
	u, err := s.records.UserByKey(ctx, sum[:])
	if fault.CodeOf(err) == fault.NotFound {
		return "", fault.New(fault.Denied, "sign in", "", "the session or token is not valid any more")
	}
	return u.Name, err
}

// SignOut ends a session or token.
func (s *Service) SignOut(ctx context.Context, secret string) error {
	sum := sha256.Sum256([]byte(secret))
	return s.records.RemoveKey(ctx, sum[:])
}

// AddUser records a user. Every user may do everything: who may start a server's
// command may do what the service's account may.
func (s *Service) AddUser(ctx context.Context, name, password string) error {
	if strings.TrimSpace(name) != name || name == "" || len(name) > 64 {
		return fault.New(fault.Invalid, "add user", name,
			"a user's name has 1 to 64 characters and no blanks at its ends")
	}
	if err := checkNewPassword(name, password); err != nil {
		return err
	}
	return s.records.AddUser(ctx, name, hashPassword(password))
}

// SetPassword changes a user's password and ends all of their sessions and tokens.
func (s *Service) SetPassword(ctx context.Context, name, password string) error {
	if err := checkNewPassword(name, password); err != nil {
		return err
	}
	return s.records.SetPassword(ctx, name, hashPassword(password))
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

// RemoveUser removes a user; nobody can remove themselves, so one always stays.
func (s *Service) RemoveUser(ctx context.Context, name, by string) error {
	if strings.EqualFold(name, by) {
		return fault.New(fault.Invalid, "remove user", name, "you cannot remove yourself").
			With("Ask another user to do it.")
	}
	return s.records.RemoveUser(ctx, name)
}

// Users lists all users.
func (s *Service) Users(ctx context.Context) ([]wire.User, error) {
	users, err := s.records.Users(ctx)
	out := make([]wire.User, 0, len(users))
	for _, u := range users {
		out = append(out, wire.User{Name: u.Name, CreatedAt: u.CreatedAt})
	}
	return out, err
}
