// Package store keeps the records of an installation in PostgreSQL. It knows tables, not devices. Every function is one transaction or less. The
// database enforces what must hold between records: one open change a device, and writes about a running change only by the holder of its lease.
//
// [Open] connects and migrates. [Store.Act] is how a person changes the state of a change; it passes the gate ([access.Decide]) inside its
// transaction. [Store.Audited] runs a function and its audit line in one transaction. Each concern has a file of its own: changes, acts, steps, leases,
// journal, devices, credentials, backups and so on.
//
// # Errors
//
// [ErrNotFound] is a record that is not there, [ErrFenced] a write by somebody whose lease has passed to another, [*BusyError] a device on which another
// change works. [Conflict] tells which uniqueness rule an error violates.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var scripts embed.FS

// A Store is the records of an installation: a pool of connections to the database, or, inside [Store.Audited], one transaction.
type Store struct {
	Pool *pgxpool.Pool
	db   db
}

// db is a pool or a transaction.
type db interface {
	Begin(ctx context.Context) (pgx.Tx, error)
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
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
	// Compiling a query pays for analyses that run for long. Ours are short, but some look costly to the planner, and compiling them takes a second each time.
	cfg.ConnConfig.RuntimeParams["jit"] = "off"
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
	s := &Store{pool, pool}
	if err := s.migrate(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("bring the tables up to date: %w", err)
	}
	return s, nil
}

// upgradeVersion is the number of the migration that upgradeRecords is: after 00009_refused.sql, before 00011_members.sql.
const upgradeVersion = 10

// migrations are those of the tables, to be run by one service at a time.
func migrations(db *sql.DB) (*goose.Provider, error) {
	sub, err := fs.Sub(scripts, "migrations")
	if err != nil {
		return nil, err
	}
	upgrade := goose.NewGoMigration(upgradeVersion, &goose.GoFunc{RunTx: upgradeRecords}, nil)
	return goose.NewProvider(goose.DialectPostgres, db, sub, goose.WithGoMigrations(upgrade))
}

// migrationLock is the number of the lock under which the tables are brought up to date, ours and those of River.
const migrationLock = 0x766d6d69

// migrate brings the tables up to date. Services that start at the same time do it one after the other; the lock goes with the connection of whoever
// holds it.
func (s *Store) migrate(ctx context.Context) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, `SELECT pg_advisory_lock($1)`, migrationLock); err != nil {
		return err
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, migrationLock) }()
	db := stdlib.OpenDBFromPool(s.Pool)
	defer db.Close()
	p, err := migrations(db)
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
	return pgx.BeginFunc(ctx, s.db, f)
}

// Together runs f in a transaction: all of it is recorded, or nothing.
func (s *Store) Together(ctx context.Context, f func(tx *Store) error) error {
	return s.tx(ctx, func(tx pgx.Tx) error { return f(&Store{s.Pool, tx}) })
}

// Alone runs f in a transaction while no other process does the same; where one does, f is not run.
func (s *Store) Alone(ctx context.Context, what string, f func(tx *Store) error) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var mine bool
		if err := tx.QueryRow(ctx, `SELECT pg_try_advisory_xact_lock(hashtext($1))`, what).Scan(&mine); err != nil || !mine {
			return err
		}
		return f(&Store{s.Pool, tx})
	})
}
