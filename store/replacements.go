package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/core/change"
)

// Devices that took the place of others.

// A Replacement is a change by which a device takes the place of another one.
type Replacement struct {
	Change     int64        `db:"change_id"`
	State      change.State `db:"state"` // of the change
	Old        string       `db:"old"`
	New        string       `db:"new"`
	OldModel   string       `db:"old_model"` // as they were seen last; "": nobody has looked
	NewModel   string       `db:"new_model"`
	Conversion *int64       `db:"conversion"`
	CreatedAt  time.Time    `db:"created_at"`
	EndedAt    *time.Time   `db:"ended_at"`
	ReleasedAt *time.Time   `db:"released_at"`
	ReleasedBy string       `db:"released_by"`
	PutBack    *int64       `db:"put_back"` // the change by which the old one serves again; nil: none
}

// Kept reports whether the old device is the way back: the new one took its place, nobody put it back, and nobody released it.
func (r *Replacement) Kept() bool {
	return r.State == change.Done && r.ReleasedAt == nil && r.PutBack == nil
}

const replacementColumns = `r.change_id, c.state, o.name AS old, n.name AS new, coalesce(o.portrait->>'model', '') AS old_model, coalesce(n.portrait->>'model', '') AS new_model,
	r.conversion, c.created_at, c.ended_at, r.released_at, r.released_by,
	(SELECT p.id FROM changes p WHERE p.kind = 'put-back' AND p.state = 'done' AND (p.wish->'putBack'->>'change')::bigint = r.change_id ORDER BY p.id DESC LIMIT 1) AS put_back
	FROM replacements r JOIN changes c ON c.id = r.change_id JOIN devices o ON o.id = r.old_id JOIN devices n ON n.id = r.new_id`

func (s *Store) replacements(ctx context.Context, where string, args ...any) ([]Replacement, error) {
	rows, err := s.db.Query(ctx, `SELECT `+replacementColumns+` `+where, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Replacement])
}

// Replacements lists them, newest first, of one device or of all (""), before a change (0: from the newest).
func (s *Store) Replacements(ctx context.Context, device string, before int64, limit int) ([]Replacement, error) {
	return s.replacements(ctx, `WHERE ($1 = '' OR o.name = $1 OR n.name = $1) AND ($2 = 0 OR r.change_id < $2) ORDER BY r.change_id DESC LIMIT $3`, device, before, limit)
}

// Replacement returns that of a change; ErrNotFound: it is none.
func (s *Store) Replacement(ctx context.Context, id int64) (Replacement, error) {
	all, err := s.replacements(ctx, `WHERE r.change_id = $1`, id)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Replacement{}, err
	}
	return all[0], nil
}

// AddReplacement records what a change replaces.
func (s *Store) AddReplacement(ctx context.Context, id, old, new int64, conversion *int64) error {
	_, err := s.db.Exec(ctx, `INSERT INTO replacements (change_id, old_id, new_id, conversion) VALUES ($1, $2, $3, $4)`, id, old, new, conversion)
	return err
}

// ReleaseReplaced gives an old device free, which is the way back no longer. ErrNotFound: it is not kept.
func (s *Store) ReleaseReplaced(ctx context.Context, id int64, by string) error {
	tag, err := s.db.Exec(ctx, `UPDATE replacements SET released_at = now(), released_by = $2 WHERE change_id = $1 AND released_at IS NULL`, id, by)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// A KeptError says that a device is kept as it is, since it is the way back of a replacement.
type KeptError struct {
	Device, New string
	Change      int64
}

func (e *KeptError) Error() string {
	return fmt.Sprintf("%s is kept as it was: it is the way back of change %d, in which %s took its place. Put it back (verimorph replace back %d), or release it first (verimorph replace release %d)",
		e.Device, e.Change, e.New, e.Change, e.Change)
}

// NotKept refuses with a *KeptError when a device is kept as the way back of a replacement.
func (s *Store) NotKept(ctx context.Context, deviceID int64) error {
	kept := &KeptError{}
	err := one(s.db.QueryRow(ctx, `SELECT o.name, n.name, r.change_id FROM replacements r JOIN changes c ON c.id = r.change_id JOIN devices o ON o.id = r.old_id JOIN devices n ON n.id = r.new_id
		WHERE r.old_id = $1 AND c.state = 'done' AND r.released_at IS NULL
		AND NOT EXISTS (SELECT FROM changes p WHERE p.kind = 'put-back' AND p.state = 'done' AND (p.wish->'putBack'->>'change')::bigint = r.change_id)
		ORDER BY r.change_id DESC LIMIT 1`, deviceID).Scan(&kept.Device, &kept.New, &kept.Change))
	switch {
	case err == nil:
		return kept
	case errors.Is(err, ErrNotFound):
		return nil
	}
	return err
}

// notKept is NotKept for all devices of a change, but for one by which such a device serves again.
func (s *Store) notKept(ctx context.Context, c *Change) error {
	if c.Kind == change.PuttingBack {
		return nil
	}
	for _, m := range c.Members {
		if err := s.NotKept(ctx, m.DeviceID); err != nil {
			return err
		}
	}
	return nil
}
