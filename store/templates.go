package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Template is a configuration with placeholders, sealed.
type Template struct {
	Name, Title string
	Sealed      []byte
	UpdatedBy   string
	UpdatedAt   time.Time
}

const templateColumns = `name, title, sealed, updated_by, updated_at FROM templates`

// Templates lists them by name.
func (s *Store) Templates(ctx context.Context) ([]Template, error) {
	rows, err := s.db.Query(ctx, `SELECT `+templateColumns+` ORDER BY name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Template])
}

// Template returns one; ErrNotFound: there is none.
func (s *Store) Template(ctx context.Context, name string) (Template, error) {
	rows, err := s.db.Query(ctx, `SELECT `+templateColumns+` WHERE name = $1`, name)
	if err != nil {
		return Template{}, err
	}
	t, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Template])
	return t, one(err)
}

// PutTemplate adds a template, or takes the place of the one of that name.
func (s *Store) PutTemplate(ctx context.Context, t Template) error {
	_, err := s.db.Exec(ctx, `INSERT INTO templates (name, title, sealed, updated_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (name) DO UPDATE SET title = excluded.title, sealed = excluded.sealed, updated_by = excluded.updated_by, updated_at = now()`, t.Name, t.Title, t.Sealed, t.UpdatedBy)
	return err
}

// DeleteTemplate forgets one; ErrNotFound: there is none.
func (s *Store) DeleteTemplate(ctx context.Context, name string) error {
	tag, err := s.db.Exec(ctx, `DELETE FROM templates WHERE name = $1`, name)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}

// DeviceOfSerial is the name of a device that said a serial when it was last looked at; "" when none did.
func (s *Store) DeviceOfSerial(ctx context.Context, serial string) (name string, err error) {
	err = one(s.db.QueryRow(ctx, `SELECT coalesce((SELECT name FROM devices WHERE portrait->>'serial' = $1 ORDER BY id LIMIT 1), '')`, serial).Scan(&name))
	return name, err
}
