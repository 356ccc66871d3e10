package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/vault"
)

// DataKeys implements vault.Ring.
func (s *Store) DataKeys(ctx context.Context) ([]vault.DataKey, error) {
	rows, err := s.Pool.Query(ctx, `SELECT id, wrapped, recipient, made_at FROM data_keys ORDER BY id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[vault.DataKey])
}

// AddDataKey implements vault.Ring. The table is locked, so that of two services that start at once one makes the first.
func (s *Store) AddDataKey(ctx context.Context, k vault.DataKey, first bool) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `LOCK TABLE data_keys IN EXCLUSIVE MODE`); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `INSERT INTO data_keys (wrapped, recipient) SELECT $1, $2 WHERE NOT $3 OR NOT EXISTS (SELECT 1 FROM data_keys)`, k.Wrapped, k.Recipient, first)
		return err
	})
}

// Rewrap implements vault.Ring.
func (s *Store) Rewrap(ctx context.Context, wrap func(vault.DataKey) (vault.DataKey, error)) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT id, wrapped, recipient, made_at FROM data_keys ORDER BY id FOR UPDATE`)
		if err != nil {
			return err
		}
		keys, err := pgx.CollectRows(rows, pgx.RowToStructByPos[vault.DataKey])
		if err != nil {
			return err
		}
		for _, k := range keys {
			if k, err = wrap(k); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `UPDATE data_keys SET wrapped = $2, recipient = $3 WHERE id = $1`, k.ID, k.Wrapped, k.Recipient); err != nil {
				return err
			}
		}
		return nil
	})
}

// sealedColumns are all places where sealed texts lie: what selects them, and what puts one back if it has not changed.
var sealedColumns = []struct{ kind, list, put string }{
	{"credential", `SELECT id::text, secret FROM credentials ORDER BY id`, `UPDATE credentials SET secret = $2 WHERE id::text = $1 AND secret = $3`},
	{"site", `SELECT name, password FROM sites ORDER BY name`, `UPDATE sites SET password = $2 WHERE name = $1 AND password = $3`},
	{"conversion", `SELECT id::text, work FROM conversions ORDER BY id`, `UPDATE conversions SET work = $2 WHERE id::text = $1 AND work = $3`},
	{"evidence", `SELECT change_id::text, content FROM evidence ORDER BY id`, `UPDATE evidence SET content = $2 WHERE change_id::text = $1 AND content = $3`},
	{"setting", `SELECT name, decode(value->>'sealed', 'base64') FROM settings WHERE value->>'sealed' <> '' ORDER BY name`,
		`UPDATE settings SET value = jsonb_set(value, '{sealed}', to_jsonb(translate(encode($2, 'base64'), E'\n', ''))) WHERE name = $1 AND decode(value->>'sealed', 'base64') = $3`},
}

// Reseal gives every sealed text in the records to f, with its kind and key, and puts back what f returns; nil leaves it.
// Each is a transaction of its own: it can be cut short and begun again.
func (s *Store) Reseal(ctx context.Context, f func(kind, key string, sealed []byte) ([]byte, error)) error {
	for _, c := range sealedColumns {
		rows, err := s.Pool.Query(ctx, c.list)
		if err != nil {
			return err
		}
		type row struct {
			Key    string
			Sealed []byte
		}
		all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[row])
		if err != nil {
			return err
		}
		for _, r := range all {
			fresh, err := f(c.kind, r.Key, r.Sealed)
			if err != nil {
				return err
			}
			if fresh == nil {
				continue
			}
			if _, err := s.Pool.Exec(ctx, c.put, r.Key, fresh, r.Sealed); err != nil {
				return err
			}
		}
	}
	return nil
}

// An AuditLine says who did what with a secret.
type AuditLine struct {
	ID     int64
	At     time.Time
	Who    string
	Event  string
	Device string
	Detail string
}

// Audit writes a line that nobody changes afterwards.
func (s *Store) Audit(ctx context.Context, who, event, device, detail string) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO audit (who, event, device, detail) VALUES ($1, $2, $3, $4)`, who, event, device, detail)
	return err
}

// AuditLines lists them, newest first, of one device or of all (""), before a number (0: from the newest).
func (s *Store) AuditLines(ctx context.Context, device string, before int64, limit int) ([]AuditLine, error) {
	rows, err := s.Pool.Query(ctx, `SELECT id, at, who, event, device, detail FROM audit WHERE ($1 = '' OR device = $1) AND ($2 = 0 OR id < $2) ORDER BY id DESC LIMIT $3`, device, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[AuditLine])
}

// Setting reads a setting into v; false when there is none.
func (s *Store) Setting(ctx context.Context, name string, v any) (bool, error) {
	err := one(s.Pool.QueryRow(ctx, `SELECT value FROM settings WHERE name = $1`, name).Scan(v))
	if err == ErrNotFound {
		return false, nil
	}
	return err == nil, err
}

// PutSetting writes a setting.
func (s *Store) PutSetting(ctx context.Context, name string, v any) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO settings (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = $2`, name, v)
	return err
}
