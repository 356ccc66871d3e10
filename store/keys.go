package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"verimorph/vault"
)

// DataKeys implements vault.Ring.
func (s *Store) DataKeys(ctx context.Context) ([]vault.DataKey, error) {
	rows, err := s.db.Query(ctx, `SELECT id, wrapped, recipient, made_at FROM data_keys ORDER BY id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[vault.DataKey])
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
		keys, err := pgx.CollectRows(rows, pgx.RowToStructByName[vault.DataKey])
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
	{"credential", `SELECT id::text AS key, secret AS sealed FROM credentials ORDER BY id`, `UPDATE credentials SET secret = $2 WHERE id::text = $1 AND secret = $3`},
	{"site", `SELECT name AS key, password AS sealed FROM sites ORDER BY name`, `UPDATE sites SET password = $2 WHERE name = $1 AND password = $3`},
	{"conversion", `SELECT id::text AS key, work AS sealed FROM conversions ORDER BY id`, `UPDATE conversions SET work = $2 WHERE id::text = $1 AND work = $3`},
	{"evidence", `SELECT change_id::text AS key, content AS sealed FROM evidence ORDER BY id`, `UPDATE evidence SET content = $2 WHERE change_id::text = $1 AND content = $3`},
	{"template", `SELECT name AS key, sealed FROM templates ORDER BY name`, `UPDATE templates SET sealed = $2 WHERE name = $1 AND sealed = $3`},
	{"call", `SELECT serial AS key, sealed FROM calls ORDER BY change_id`, `UPDATE calls SET sealed = $2 WHERE serial = $1 AND sealed = $3`},
	{"setting", `SELECT name AS key, decode(value->>'sealed', 'base64') AS sealed FROM settings WHERE value->>'sealed' <> '' ORDER BY name`,
		`UPDATE settings SET value = jsonb_set(value, '{sealed}', to_jsonb(translate(encode($2, 'base64'), E'\n', ''))) WHERE name = $1 AND decode(value->>'sealed', 'base64') = $3`},
}

// Reseal gives every sealed text in the records to f, with its kind and key, and puts back what f returns; nil leaves it.
// Each is a transaction of its own: it can be cut short and begun again.
func (s *Store) Reseal(ctx context.Context, f func(kind, key string, sealed []byte) ([]byte, error)) error {
	for _, c := range sealedColumns {
		rows, err := s.db.Query(ctx, c.list)
		if err != nil {
			return err
		}
		type row struct {
			Key    string
			Sealed []byte
		}
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[row])
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
			if _, err := s.db.Exec(ctx, c.put, r.Key, fresh, r.Sealed); err != nil {
				return err
			}
		}
	}
	return nil
}
