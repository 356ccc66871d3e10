package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"verimorph/core/change"
	"verimorph/core/portrait"
)

// Records of older versions of the service, brought to the formats of now. Each is read, upgraded by the core, and written back; what is
// of the current format already stays as it is, so an upgrade that was cut short is simply run again.

// upgradeRecords is the migration that does it: plans, ways back and wishes of changes, and portraits of devices.
func upgradeRecords(ctx context.Context, tx *sql.Tx) error {
	for _, u := range []struct{ what, list, put string }{
		{"step", `SELECT change_id || ' ' || number, plan::text, '', 0 FROM steps WHERE NOT plan ? 'kind'`, `UPDATE steps SET plan = $2::jsonb WHERE change_id = split_part($1, ' ', 1)::bigint AND number = split_part($1, ' ', 2)::int`},
		{"way back", `SELECT id::text, back::text, '', 0 FROM changes WHERE back <> '[]'`, `UPDATE changes SET back = $2::jsonb WHERE id = $1::bigint`},
		{"wish", `SELECT id::text, wish::text, kind, CASE WHEN kind = 'restore' THEN coalesce((work->>'backup')::bigint, 0) ELSE 0 END FROM changes WHERE wish IS NOT NULL AND wish <> 'null'`, `UPDATE changes SET wish = $2::jsonb WHERE id = $1::bigint`},
		{"portrait", `SELECT id::text, portrait::text, '', 0 FROM devices WHERE portrait IS NOT NULL`, `UPDATE devices SET portrait = $2::jsonb WHERE id = $1::bigint`},
	} {
		if err := upgradeEach(ctx, tx, u.what, u.list, u.put); err != nil {
			return err
		}
	}
	return nil
}

// upgradeEach upgrades what a query lists: key, JSON, kind of change, backup.
func upgradeEach(ctx context.Context, tx *sql.Tx, what, list, put string) error {
	type row struct {
		key, data, kind string
		backup          int64
	}
	rows, err := tx.QueryContext(ctx, list)
	if err != nil {
		return err
	}
	defer rows.Close()
	var all []row
	for rows.Next() {
		var r row
		if err := rows.Scan(&r.key, &r.data, &r.kind, &r.backup); err != nil {
			return err
		}
		all = append(all, r)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	stmt, err := tx.PrepareContext(ctx, put)
	if err != nil {
		return err
	}
	defer stmt.Close()
	for _, r := range all {
		fresh, err := upgraded(what, r.kind, r.backup, []byte(r.data))
		if err != nil {
			return fmt.Errorf("%s %s cannot be brought to the format of now: %w", what, r.key, err)
		}
		if _, err := stmt.ExecContext(ctx, r.key, string(fresh)); err != nil {
			return err
		}
	}
	return nil
}

func upgraded(what, kind string, backup int64, data []byte) ([]byte, error) {
	switch what {
	case "step":
		return change.Upgrade(data)
	case "wish":
		return change.UpgradeWish(kind, backup, data)
	case "portrait":
		return portrait.Upgrade(data)
	}
	var ways []struct {
		Way, Text string
		Steps     []json.RawMessage
	}
	if err := json.Unmarshal(data, &ways); err != nil {
		return nil, err
	}
	out := make([]change.Back, len(ways))
	for i, w := range ways {
		out[i] = change.Back{Way: w.Way, Text: w.Text}
		for _, s := range w.Steps {
			fresh, err := change.Upgrade(s)
			if err != nil {
				return nil, err
			}
			var step change.Step
			if err := json.Unmarshal(fresh, &step); err != nil {
				return nil, err
			}
			out[i].Steps = append(out[i].Steps, step)
		}
	}
	return json.Marshal(out)
}
