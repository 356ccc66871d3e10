package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"verimorph/core/change"
	"verimorph/core/media"
)

// Media that are kept somewhere to bring a device back.

// A Medium is one of them.
type Medium struct {
	ID        int64         `db:"id"`
	Label     string        `db:"label"`
	Kind      string        `db:"kind"` // media.Snapshot or media.Recovery
	DeviceID  *int64        `db:"device_id"`
	Device    string        `db:"device"`
	Site      string        `db:"site"` // of the device
	Model     string        `db:"model"`
	Version   string        `db:"version"`
	Place     string        `db:"place"`
	ChangeID  *int64        `db:"change_id"`
	Change    *change.State `db:"change"` // its state
	Backup    *int64        `db:"backup_id"`
	Holds     string        `db:"holds"`
	Files     []media.File  `db:"files"`
	WrittenAt *time.Time    `db:"written_at"`
	CheckedAt *time.Time    `db:"checked_at"`
	Problems  []string      `db:"problems"`
	RetiredAt *time.Time    `db:"retired_at"`
	Retired   string        `db:"retired"` // why
	CreatedAt time.Time     `db:"created_at"`
	CreatedBy string        `db:"created_by"`
}

// Medium is the medium as core works with it.
func (m *Medium) Medium() media.Medium {
	out := media.Medium{Label: m.Label, Kind: m.Kind, Device: m.Device, Place: m.Place, Model: m.Model, Version: m.Version,
		Holds: m.Holds, Problems: m.Problems, Retired: m.RetiredAt != nil}
	if m.Change != nil {
		out.Change = *m.Change
	}
	if m.WrittenAt != nil {
		out.Written = *m.WrittenAt
	}
	if m.CheckedAt != nil {
		out.Checked = *m.CheckedAt
	}
	return out
}

const mediumColumns = `m.id, m.label, m.kind, m.device_id, coalesce(d.name, m.device) AS device, coalesce(d.site, '') AS site,
	m.model, m.version, m.place, m.change_id, c.state AS change, m.backup_id, m.holds, m.files,
	m.written_at, m.checked_at, m.problems, m.retired_at, m.retired, m.created_at, m.created_by
	FROM media m LEFT JOIN devices d ON d.id = m.device_id LEFT JOIN changes c ON c.id = m.change_id`

func (s *Store) media(ctx context.Context, where string, args ...any) ([]Medium, error) {
	rows, err := s.db.Query(ctx, `SELECT `+mediumColumns+` `+where, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Medium])
}

// Media lists the media by device and age, those that were retired only when all are asked for.
func (s *Store) Media(ctx context.Context, all bool) ([]Medium, error) {
	return s.media(ctx, `WHERE $1 OR m.retired_at IS NULL ORDER BY device, m.created_at DESC, m.id`, all)
}

// Medium returns the medium with a label; ErrNotFound.
func (s *Store) Medium(ctx context.Context, label string) (Medium, error) {
	all, err := s.media(ctx, `WHERE m.label = $1`, label)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Medium{}, err
	}
	return all[0], nil
}

// ErrKnownLabel says that a medium with the label is there already.
var ErrKnownLabel = errors.New("a medium with that label is there already")

// AddMedium records a medium that is going to be made. ErrKnownLabel: one is there already.
func (s *Store) AddMedium(ctx context.Context, m Medium) error {
	_, err := s.db.Exec(ctx, `INSERT INTO media (label, kind, device_id, device, model, version, place, change_id, created_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
		m.Label, m.Kind, m.DeviceID, m.Device, m.Model, m.Version, m.Place, m.ChangeID, m.CreatedBy)
	if bad := (*pgconn.PgError)(nil); errors.As(err, &bad) && bad.Code == "23505" {
		return ErrKnownLabel
	}
	return err
}

// MediumAgain has another change make a medium: what was written before counts no more.
func (s *Store) MediumAgain(ctx context.Context, id, changeID int64, version string) error {
	_, err := s.db.Exec(ctx, `UPDATE media SET change_id = $2, version = $3, written_at = NULL, checked_at = NULL,
		problems = '{}', files = '[]', backup_id = NULL, holds = '' WHERE id = $1`, id, changeID, version)
	return err
}

// MediumWritten records what a change wrote onto its medium, which was read back.
func (s *Store) MediumWritten(ctx context.Context, l Lease, changeID int64, files []media.File, backup int64, holds string) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE media SET files = $2, backup_id = nullif($3::bigint, 0), holds = $4,
			written_at = now(), checked_at = now(), problems = '{}' WHERE change_id = $1`, changeID, files, backup, holds)
		return err
	})
}

// MediumPacked records what was given out for a medium; nobody has read it back yet.
func (s *Store) MediumPacked(ctx context.Context, id int64, version string, files []media.File, backup int64, holds string) error {
	_, err := s.db.Exec(ctx, `UPDATE media SET version = $2, files = $3, backup_id = $4, holds = $5,
		written_at = now(), checked_at = NULL, problems = '{}' WHERE id = $1`, id, version, files, backup, holds)
	return err
}

// MediumChecked records what came of a look at a medium.
func (s *Store) MediumChecked(ctx context.Context, id int64, problems []string) error {
	_, err := s.db.Exec(ctx, `UPDATE media SET checked_at = now(), problems = $2 WHERE id = $1`, id, notNil(problems))
	return err
}

// PlaceMedium records where a medium lies.
func (s *Store) PlaceMedium(ctx context.Context, id int64, place string) error {
	_, err := s.db.Exec(ctx, `UPDATE media SET place = $2 WHERE id = $1`, id, place)
	return err
}

// RetireMedium takes a medium out of use for good.
func (s *Store) RetireMedium(ctx context.Context, id int64, why string) error {
	_, err := s.db.Exec(ctx, `UPDATE media SET retired_at = now(), retired = $2, label = label || ' (retired ' || id || ')' WHERE id = $1`, id, why)
	return err
}
