// Package store keeps the records of an installation in PostgreSQL. It knows tables, not devices: every function is
// one transaction or less, and what must hold between them (one open change a device, writes only by the holder of a
// lease) is enforced by the database.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// A Store is a pool of connections to the database.
type Store struct {
	Pool *pgxpool.Pool
}

// ErrNotFound is returned for a record that is not there.
var ErrNotFound = errors.New("not found")

// A BusyError says that a device is taken by another change.
type BusyError struct {
	Device string
	Change int64
	State  string
}

func (e *BusyError) Error() string {
	return fmt.Sprintf("device %s is taken by change %d, which is %s; wait until it has ended, or stop it", e.Device, e.Change, e.State)
}

// Open connects and brings the tables up to date. It tries for as long as wait says, since at boot the database may
// come up after the service; the last error says what is wrong, without the password of the address.
func Open(ctx context.Context, url string, wait time.Duration, retrying func(error)) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New("the database address cannot be read; it should look like postgres://user@host:5432/name")
	}
	cfg.MaxConns = max(cfg.MaxConns, 20)
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	until := time.Now().Add(wait)
	for {
		pingCtx, cancel := context.WithTimeout(ctx, 5*time.Second)
		err = pool.Ping(pingCtx)
		cancel()
		if err == nil {
			break
		}
		if time.Now().After(until) || ctx.Err() != nil {
			pool.Close()
			c := cfg.ConnConfig
			return nil, fmt.Errorf("the database %s at %s:%d does not answer: %w", c.Database, c.Host, c.Port, err)
		}
		retrying(err)
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
	s := &Store{pool}
	if err := s.migrate(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("bring the tables up to date: %w", err)
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	db := stdlib.OpenDBFromPool(s.Pool)
	defer db.Close()
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker() // two services may start at once
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, sub, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return err
	}
	river, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
	if err != nil {
		return err
	}
	_, err = river.Migrate(ctx, rivermigrate.DirectionUp, nil)
	return err
}

// Close ends all connections.
func (s *Store) Close() { s.Pool.Close() }

// one turns pgx's "no rows" into ErrNotFound.
func one(err error) error {
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Conflict reports whether err is the violation of a unique constraint, and of which.
func Conflict(err error) (constraint string, ok bool) {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return pg.ConstraintName, true
	}
	return "", false
}

// tx runs f in a transaction.
func (s *Store) tx(ctx context.Context, f func(pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.Pool, f)
}

// Listen calls f for every change whose record was touched, until the context ends; after a lost connection it
// connects again and calls f with 0, since something may have been missed.
func (s *Store) Listen(ctx context.Context, f func(changeID int64)) {
	for ctx.Err() == nil {
		s.listenOnce(ctx, f)
		f(0)
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func (s *Store) listenOnce(ctx context.Context, f func(int64)) {
	c, err := s.Pool.Acquire(ctx)
	if err != nil {
		return
	}
	conn := c.Hijack() // a listening connection must not go back to the pool
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN verimorph_change"); err != nil {
		return
	}
	f(0)
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return
		}
		var id int64
		if _, err := fmt.Sscan(strings.TrimSpace(n.Payload), &id); err == nil {
			f(id)
		}
	}
}

func notify(ctx context.Context, tx pgx.Tx, changeID int64) error {
	_, err := tx.Exec(ctx, "SELECT pg_notify('verimorph_change', $1::text)", fmt.Sprint(changeID))
	return err
}
