package store

import (
	"context"
	"time"

	"verimorph/access"

	"github.com/jackc/pgx/v5"
)

// An AuditLine says who did what with a secret.
type AuditLine struct {
	ID     int64
	At     time.Time
	Who    string
	Event  string
	Device string
	Detail string
}

// A Line of the audit, as it is written.
type Line struct {
	Event, Device, Detail string
}

// Audited runs f in one transaction together with the line that it returns: neither is ever there without the other. f gets the records as that
// transaction sees them.
func (s *Store) Audited(ctx context.Context, by access.Actor, f func(tx *Store) (Line, error)) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		in := &Store{s.Pool, tx}
		l, err := f(in)
		if err != nil {
			return err
		}
		return in.Audit(ctx, by, l.Event, l.Device, l.Detail)
	})
}

// Audit writes a line that nobody changes afterwards.
func (s *Store) Audit(ctx context.Context, by access.Actor, event, device, detail string) error {
	_, err := s.db.Exec(ctx, `INSERT INTO audit (who, event, device, detail) VALUES ($1, $2, $3, $4)`, by, event, device, detail)
	return err
}

// AuditLines lists them, newest first, of one device or of all (""), before a number (0: from the newest).
func (s *Store) AuditLines(ctx context.Context, device string, before int64, limit int) ([]AuditLine, error) {
	rows, err := s.db.Query(ctx, `SELECT id, at, who, event, device, detail FROM audit WHERE ($1 = '' OR device = $1) AND ($2 = 0 OR id < $2) ORDER BY id DESC LIMIT $3`, device, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[AuditLine])
}

// audit writes a line in the transaction of what it records; deviceID is 0 where no device is concerned.
func audit(ctx context.Context, tx pgx.Tx, by access.Actor, event string, deviceID int64, detail string) error {
	_, err := tx.Exec(ctx, `INSERT INTO audit (who, event, device, detail) VALUES ($1, $2, coalesce((SELECT name FROM devices WHERE id = $3), ''), $4)`, by, event, deviceID, detail)
	return err
}
