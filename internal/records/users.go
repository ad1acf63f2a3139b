package records

import (
	"context"
	"time"

	"reshard/internal/core/fault"
)

// User is a person who may sign in.
type User struct {
	ID        int64     `db:"id"`
	Name      string    `db:"name"`
	Password  string    `db:"password"` // argon2id, encoded
	CreatedAt time.Time `db:"created_at"`
}

// AddUser records a user; the name must be new, whatever its capitals.
func (r *Records) AddUser(ctx context.Context, name, password string) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO users (name, password) VALUES ($1, $2)`, name, password)
	if e := classify("add user", name, err); fault.CodeOf(e) == fault.Exists {
		return fault.New(fault.Exists, "add user", name, "there is a user of that name")
	}
	return classify("add user", name, err)
}

// SetPassword changes a password and ends every session and token of the user.
func (r *Records) SetPassword(ctx context.Context, name, password string) error {
	res, err := r.db.ExecContext(
		ctx, `WITH u AS (UPDATE users SET password = $2 WHERE lower(name) = lower($1) RETURNING id), k AS (DELETE
			FROM keys USING u WHERE user_id = u.id) SELECT id FROM u`, name, password)
	if err != nil {
		return classify("change password of", name, err)
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return fault.New(fault.NotFound, "change password of", name, "there is no user of that name")
	}
	return nil
}

// RemoveUser removes a user with all of their sessions and tokens.
func (r *Records) RemoveUser(ctx context.Context, name string) error {
	res, err := r.db.ExecContext(ctx, `DELETE FROM users WHERE lower(name) = lower($1)`, name)
	if err != nil {
		return classify("remove user", name, err)
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return fault.New(fault.NotFound, "remove user", name, "there is no user of that name")
	}
	return nil
}

// Users gives all users in the order of their names.
func (r *Records) Users(ctx context.Context) (out []User, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM users ORDER BY lower(name)`)
	return out, classify("list", "users", err)
}

// User gives a user by name, whatever its capitals.
func (r *Records) User(ctx context.Context, name string) (u User, err error) {
	err = r.db.GetContext(ctx, &u, `SELECT * FROM users WHERE lower(name) = lower($1)`, name)
	return u, named(classify("find user", name, err), "user", name, "reshard users")
}

// AddKey records the hash of a session's or token's secret.
func (r *Records) AddKey(ctx context.Context, hash []byte, user int64, kind, label string, expires time.Time) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO keys (hash, user_id, kind, label, expires_at) VALUES ($1,$2,$3,$4,$5)`,
		hash, user, kind, label, expires)
	return classify("add", kind, err)
}

// UserByKey gives the user whose unexpired key has that hash.
func (r *Records) UserByKey(ctx context.Context, hash []byte) (u User, err error) {
	err = r.db.GetContext(ctx, &u, `SELECT u.* FROM users u JOIN keys k ON k.user_id = u.id WHERE k.hash = $1
		AND k.expires_at > now()`, hash)
	return u, classify("find", "key", err)
}

// RemoveKey ends a session or token.
func (r *Records) RemoveKey(ctx context.Context, hash []byte) error {
	_, err := r.db.ExecContext(ctx, `DELETE FROM keys WHERE hash = $1 OR expires_at < now()`, hash)
	return classify("remove", "key", err)
}
