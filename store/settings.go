package store

import (
	"context"
)

// Setting reads a setting into v; false when there is none.
func (s *Store) Setting(ctx context.Context, name string, v any) (bool, error) {
	err := one(s.db.QueryRow(ctx, `SELECT value FROM settings WHERE name = $1`, name).Scan(v))
	if err == ErrNotFound {
		return false, nil
	}
	return err == nil, err
}

// PutSetting writes a setting.
func (s *Store) PutSetting(ctx context.Context, name string, v any) error {
	_, err := s.db.Exec(ctx, `INSERT INTO settings (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = $2`, name, v)
	return err
}
