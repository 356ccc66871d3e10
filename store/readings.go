package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// A ReadingSet is what was measured of a device at one moment. Readings is JSON.
type ReadingSet struct {
	ID       int64
	DeviceID int64
	Device   string
	ChangeID *int64
	At       time.Time
	Version  string
	Readings []byte
	By       string
}

const setColumns = `r.id, r.device_id, d.name AS device, r.change_id, r.at, r.version, r.readings, r.taken_by AS by FROM reading_sets r JOIN devices d ON d.id = r.device_id`

// AddReadings keeps a set.
func (s *Store) AddReadings(ctx context.Context, r ReadingSet) (ReadingSet, error) {
	err := s.db.QueryRow(ctx, `INSERT INTO reading_sets (device_id, change_id, version, readings, taken_by) VALUES ($1, $2, $3, $4, $5) RETURNING id, at`,
		r.DeviceID, r.ChangeID, r.Version, r.Readings, r.By).Scan(&r.ID, &r.At)
	return r, err
}

// ReadingSets lists the sets of a device, newest first, before a number (0: from the newest).
func (s *Store) ReadingSets(ctx context.Context, deviceID, before int64, limit int) ([]ReadingSet, error) {
	rows, err := s.db.Query(ctx, `SELECT `+setColumns+` WHERE r.device_id = $1 AND ($2 = 0 OR r.id < $2) ORDER BY r.id DESC LIMIT $3`, deviceID, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[ReadingSet])
}

// ReadingSet returns one set of a device.
func (s *Store) ReadingSet(ctx context.Context, deviceID, id int64) (ReadingSet, error) {
	rows, err := s.db.Query(ctx, `SELECT `+setColumns+` WHERE r.device_id = $1 AND r.id = $2`, deviceID, id)
	if err != nil {
		return ReadingSet{}, err
	}
	r, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[ReadingSet])
	return r, one(err)
}

// An OwnReading is a reading that a company adds for a group of devices; "" is every device of the dialect.
type OwnReading struct {
	ID                   int64
	Group, Dialect, Name string
	Definition           string // YAML, as in a dialect file
	AddedBy              string
	AddedAt              time.Time
}

// OwnReadings lists those for devices of a dialect in some groups; an empty dialect lists all. Those of a group come after
// those of every device, so that they win.
func (s *Store) OwnReadings(ctx context.Context, dialect string, groups []string) ([]OwnReading, error) {
	rows, err := s.db.Query(ctx, `SELECT id, group_name AS "group", dialect, name, definition, added_by, added_at FROM own_readings
		WHERE $1 = '' OR dialect = $1 AND (group_name = '' OR group_name = ANY($2)) ORDER BY group_name, dialect, name`, dialect, groups)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[OwnReading])
}

// PutOwnReading adds a reading, or replaces the one of that name.
func (s *Store) PutOwnReading(ctx context.Context, o OwnReading) (id int64, err error) {
	err = s.db.QueryRow(ctx, `INSERT INTO own_readings (group_name, dialect, name, definition, added_by) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (group_name, dialect, name) DO UPDATE SET definition = $4, added_by = $5, added_at = now() RETURNING id`, o.Group, o.Dialect, o.Name, o.Definition, o.AddedBy).Scan(&id)
	return id, err
}

// DeleteOwnReading takes one away.
func (s *Store) DeleteOwnReading(ctx context.Context, id int64) error {
	tag, err := s.db.Exec(ctx, `DELETE FROM own_readings WHERE id = $1`, id)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}
