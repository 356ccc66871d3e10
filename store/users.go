package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// A User is somebody who may sign in.
type User struct {
	ID   int64
	Name string
}

// newPassword is a random password and what is kept of it.
func newPassword() (password, hash string, err error) {
	password = rand.Text()[:16]
	data, err := bcrypt.GenerateFromPassword([]byte(password), passwordCost)
	return password, string(data), err
}

// EnsureFirstUser makes a user with a random password when there is no user at all, and returns that password, which
// is stored nowhere in clear text; otherwise it returns "".
func (s *Store) EnsureFirstUser(ctx context.Context, name string) (password string, err error) {
	var there bool // then a start does not take the time that a hash takes
	if err := s.db.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM users)`).Scan(&there); err != nil || there {
		return "", err
	}
	password, hash, err := newPassword()
	if err != nil {
		return "", err
	}
	tag, err := s.db.Exec(ctx, `INSERT INTO users (name, password_hash) SELECT $1, $2 WHERE NOT EXISTS (SELECT 1 FROM users) ON CONFLICT DO NOTHING`, name, hash)
	if err != nil || tag.RowsAffected() == 0 {
		return "", err
	}
	return password, nil
}

// AddUser adds a user with a random password and returns it. A name that is taken is a Conflict.
func (s *Store) AddUser(ctx context.Context, name string) (password string, err error) {
	password, hash, err := newPassword()
	if err != nil {
		return "", err
	}
	_, err = s.db.Exec(ctx, `INSERT INTO users (name, password_hash) VALUES ($1, $2)`, name, hash)
	return password, err
}

// SetPassword gives a user a new random password, returns it, and ends the user's sessions.
func (s *Store) SetPassword(ctx context.Context, name string) (password string, err error) {
	password, hash, err := newPassword()
	if err != nil {
		return "", err
	}
	tag, err := s.db.Exec(ctx, `UPDATE users SET password_hash = $2 WHERE name = $1`, name, hash)
	if err == nil && tag.RowsAffected() == 0 {
		return "", ErrNotFound
	}
	if err == nil {
		_, err = s.db.Exec(ctx, `DELETE FROM sessions WHERE user_id = (SELECT id FROM users WHERE name = $1)`, name)
	}
	return password, err
}

// nobody is compared against when there is no such user, so that both answers take the same time.
var nobody = sync.OnceValue(func() string {
	hash, _ := bcrypt.GenerateFromPassword([]byte("-"), passwordCost)
	return string(hash)
})

// SignIn checks a password and opens a session for d. A wrong name and a wrong password are the same ErrNotFound.
func (s *Store) SignIn(ctx context.Context, name, password string, d time.Duration) (token string, u User, err error) {
	hash := nobody()
	err = one(s.db.QueryRow(ctx, `SELECT id, name, password_hash FROM users WHERE name = $1`, name).Scan(&u.ID, &u.Name, &hash))
	wrong := bcrypt.CompareHashAndPassword([]byte(hash), []byte(password))
	if err != nil {
		return "", u, err
	}
	if wrong != nil {
		return "", u, ErrNotFound
	}
	token = rand.Text()
	sum := sha256.Sum256([]byte(token))
	_, err = s.db.Exec(ctx, `WITH old AS (DELETE FROM sessions WHERE expires_at < now())
		INSERT INTO sessions (token_hash, user_id, expires_at) VALUES ($1, $2, now() + $3)`, sum[:], u.ID, d)
	return token, u, err
}

// SignOut ends a session.
func (s *Store) SignOut(ctx context.Context, token string) error {
	sum := sha256.Sum256([]byte(token))
	_, err := s.db.Exec(ctx, `DELETE FROM sessions WHERE token_hash = $1`, sum[:])
	return err
}

// UserOf returns whose session a token is.
func (s *Store) UserOf(ctx context.Context, token string) (u User, err error) {
	sum := sha256.Sum256([]byte(token))
	err = one(s.db.QueryRow(ctx, `SELECT u.id, u.name FROM sessions s JOIN users u ON u.id = s.user_id
		WHERE s.token_hash = $1 AND s.expires_at > now()`, sum[:]).Scan(&u.ID, &u.Name))
	return u, err
}

// Once remembers a creating call by its key. The first call gets first = true and must call Created or Forget
// afterwards; a repetition gets what the first one made. A key that was used for another request is a mismatch, and
// one whose first call has not ended yet gives an empty id.
func (s *Store) Once(ctx context.Context, userID int64, key, request string) (first bool, id string, mismatch bool, err error) {
	tag, err := s.db.Exec(ctx, `WITH old AS (DELETE FROM idempotency WHERE created_at < now() - interval '1 day')
		INSERT INTO idempotency (user_id, key, request) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, userID, key, request)
	if err != nil || tag.RowsAffected() == 1 {
		return err == nil, "", false, err
	}
	var was string
	err = s.db.QueryRow(ctx, `SELECT request, coalesce(created_id, '') FROM idempotency WHERE user_id = $1 AND key = $2`, userID, key).Scan(&was, &id)
	return false, id, was != request, err
}

// Created records what a remembered call made.
func (s *Store) Created(ctx context.Context, userID int64, key, id string) error {
	_, err := s.db.Exec(ctx, `UPDATE idempotency SET created_id = $3 WHERE user_id = $1 AND key = $2`, userID, key, id)
	return err
}

// Forget drops a remembered call that made nothing.
func (s *Store) Forget(ctx context.Context, userID int64, key string) error {
	_, err := s.db.Exec(ctx, `DELETE FROM idempotency WHERE user_id = $1 AND key = $2 AND created_id IS NULL`, userID, key)
	return err
}
