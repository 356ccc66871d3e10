package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/core/change"
)

// Services that move from one gateway to another.

// A ServicesChange is a change that puts services of a device elsewhere, or takes them off it.
type ServicesChange struct {
	ID       int64        `db:"id"`
	Kind     string       `db:"kind"`
	State    change.State `db:"state"`
	DeviceID int64        `db:"device_id"` // that it writes to
	Device   string       `db:"device"`
	Wish     *change.Wish `db:"wish"`
	Verdict  string       `db:"verdict"` // "" while there is none
	EndedAt  *time.Time   `db:"ended_at"`
}

// ServicesChanges lists the changes that put services of a device elsewhere, put some onto it, or take some off it or off the devices to which its own went, newest first. Those that were stopped before anything was done are left out.
func (s *Store) ServicesChanges(ctx context.Context, device string) ([]ServicesChange, error) {
	rows, err := s.db.Query(ctx, `SELECT c.id, c.kind, c.state, m.device_id, d.name AS device, c.wish, coalesce(c.verdict->>'verdict', '') AS verdict, c.ended_at
		FROM changes c JOIN members m ON m.change_id = c.id AND m.number = 1 JOIN devices d ON d.id = m.device_id
		WHERE c.kind IN ($2, $3) AND c.state <> 'stopped' AND (c.wish->'move'->>'from' = $1 OR d.name = $1 OR c.kind = $3 AND m.device_id IN (
			SELECT n.device_id FROM changes o JOIN members n ON n.change_id = o.id AND n.number = 1 WHERE o.kind = $2 AND o.wish->'move'->>'from' = $1))
		ORDER BY c.id DESC`, device, change.Moving, change.Withdrawing)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[ServicesChange])
}
