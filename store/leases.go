package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"verimorph/core/change"
)

// ErrFenced is returned for a write by a worker that has lost its lease: another one carries on.
var ErrFenced = errors.New("the lease on the device was lost to another worker")

// A Lease is the right to work on a device. Its fence grows with every holder; writes with an old one fail.
type Lease struct {
	DeviceID int64
	Fence    int64
	holder   string
}

// Acquire takes the lease of a device when it is free or has run out; ok is false when somebody else holds it.
func (s *Store) Acquire(ctx context.Context, deviceID int64, holder string, ttl time.Duration) (l Lease, ok bool, err error) {
	l = Lease{DeviceID: deviceID, holder: holder}
	err = s.db.QueryRow(ctx, `INSERT INTO leases (device_id, holder, fence, expires_at) VALUES ($1, $2, 1, now() + $3)
		ON CONFLICT (device_id) DO UPDATE SET holder = $2, fence = leases.fence + 1, expires_at = now() + $3
		WHERE leases.expires_at < now() RETURNING fence`, deviceID, holder, ttl).Scan(&l.Fence)
	if errors.Is(err, pgx.ErrNoRows) {
		return l, false, nil
	}
	return l, err == nil, err
}

// RenewAll extends leases in one statement and returns the devices whose lease is still ours; the others are lost.
func (s *Store) RenewAll(ctx context.Context, ls []Lease, ttl time.Duration) (ours []int64, err error) {
	var devices, fences []int64
	for _, l := range ls {
		devices, fences = append(devices, l.DeviceID), append(fences, l.Fence)
	}
	rows, err := s.db.Query(ctx, `UPDATE leases l SET expires_at = now() + $3 FROM unnest($1::bigint[], $2::bigint[]) AS v (device_id, fence)
		WHERE l.device_id = v.device_id AND l.fence = v.fence RETURNING l.device_id`, devices, fences, ttl)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// Release gives a lease back at once.
func (s *Store) Release(ctx context.Context, l Lease) error {
	_, err := s.db.Exec(ctx, `UPDATE leases SET expires_at = now() - interval '1 second' WHERE device_id = $1 AND fence = $2`, l.DeviceID, l.Fence)
	return err
}

// Orphans are running changes that nobody holds the lease of. The changes that are held are listed once (NOT IN, which is hashed); looked up for each
// running change they would take a thousand times a thousand comparisons.
func (s *Store) Orphans(ctx context.Context) (ids []int64, err error) {
	rows, err := s.db.Query(ctx, `SELECT c.id FROM changes c WHERE c.state IN ('running', 'pausing')
		AND c.id NOT IN (SELECT m.change_id FROM leases l JOIN members m ON m.device_id = l.device_id WHERE l.expires_at >= now())`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// fenced runs f in a transaction that only the holder of the lease can commit, and tells listeners.
func (s *Store) fenced(ctx context.Context, l Lease, changeID int64, f func(pgx.Tx) error) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var ok bool
		if err := tx.QueryRow(ctx, `SELECT fence = $2 FROM leases WHERE device_id = $1 FOR SHARE`, l.DeviceID, l.Fence).Scan(&ok); err != nil {
			return err
		}
		if !ok {
			return ErrFenced
		}
		if err := f(tx); err != nil {
			return err
		}
		return notify(ctx, tx, changeID)
	})
}

// fencedNote writes a line of the journal and, with it, what set says of its step ("" leaves the step alone), and tells
// listeners: one statement, so one transaction, that fails when the fence is not ours any more. set may use $7 and $8. It
// returns the state of the change.
func (s *Store) fencedNote(ctx context.Context, l Lease, changeID int64, number int, event, detail, set string, args ...any) (state change.State, err error) {
	write := ""
	if set != "" {
		write = `written AS (UPDATE steps SET ` + set + ` FROM fence WHERE ours = 1 AND change_id = $3 AND number = $4),`
	}
	err = s.db.QueryRow(ctx, `WITH fence AS MATERIALIZED (SELECT 1 / (CASE WHEN (SELECT fence FROM leases WHERE device_id = $1 FOR SHARE) = $2 THEN 1 ELSE 0 END) AS ours),
		`+write+` noted AS (INSERT INTO journal (change_id, step, fence, event, detail) SELECT $3, $4, $2, $5, $6 FROM fence WHERE ours = 1)
		SELECT c.state FROM fence, changes c, pg_notify('verimorph_change', $3::bigint::text) WHERE c.id = $3`,
		append([]any{l.DeviceID, l.Fence, changeID, number, event, detail}, args...)...).Scan(&state)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "22012" { // division by zero
		return "", ErrFenced
	}
	return state, err
}
