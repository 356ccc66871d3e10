package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/access"
)

// States of a refresh.
const (
	RefreshWaiting = "waiting" // for a worker
	RefreshRunning = "running"
	RefreshDone    = "done"
	RefreshFailed  = "failed"
)

// A Refresh is a look at a device that somebody asked for.
type Refresh struct {
	ID        int64      `db:"id"`
	DeviceID  int64      `db:"device_id"`
	Device    string     `db:"device"`
	AskedBy   string     `db:"asked_by"`
	AskedAt   time.Time  `db:"asked_at"`
	State     string     `db:"state"`
	StartedAt *time.Time `db:"started_at"`
	EndedAt   *time.Time `db:"ended_at"`
	Doing     string     `db:"doing"`     // what is happening now
	Fraction  float64    `db:"fraction"`  // 0 to 1
	Problem   string     `db:"problem"`   // why it failed
	ByDevice  bool       `db:"by_device"` // it was the device that failed it
	Usual     *float64   `db:"usual"`     // seconds that such a look took before; nil: not known
}

const refreshColumns = `r.id, r.device_id, d.name AS device, r.asked_by, r.asked_at, r.state, r.started_at, r.ended_at, r.doing, r.fraction, r.problem, r.by_device,
	(SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM x.ended_at - x.started_at)) FROM (
		SELECT p.started_at, p.ended_at FROM (SELECT * FROM refreshes WHERE state = 'done' ORDER BY id DESC LIMIT 200) p JOIN devices o ON o.id = p.device_id
		WHERE o.dialect = d.dialect AND p.id <> r.id ORDER BY p.id DESC LIMIT 20) x) AS usual
	FROM refreshes r JOIN devices d ON d.id = r.device_id`

// refreshKept is how long ended refreshes of a device are kept when another one is asked for.
const refreshKept = 7 * 24 * time.Hour

// AddRefresh records that somebody asks for a look at a device, and has hand called in the same transaction. One that is under way is returned as
// it is; then hand is not called.
func (s *Store) AddRefresh(ctx context.Context, by access.Actor, deviceID int64, hand func(tx pgx.Tx, id int64) error) (Refresh, error) {
	var id int64
	err := s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `DELETE FROM refreshes WHERE device_id = $1 AND ended_at < now() - make_interval(secs => $2)`, deviceID, refreshKept.Seconds()); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `INSERT INTO refreshes (device_id, asked_by) VALUES ($1, $2) ON CONFLICT (device_id) WHERE ended_at IS NULL DO NOTHING RETURNING id`, deviceID, by).Scan(&id)
		if errors.Is(err, pgx.ErrNoRows) {
			return tx.QueryRow(ctx, `SELECT id FROM refreshes WHERE device_id = $1 AND ended_at IS NULL`, deviceID).Scan(&id)
		}
		if err != nil {
			return err
		}
		if err := audit(ctx, tx, by, "refresh asked for", deviceID, ""); err != nil {
			return err
		}
		return hand(tx, id)
	})
	if err != nil {
		return Refresh{}, err
	}
	return s.refresh(ctx, `WHERE r.id = $1`, id)
}

// LastRefresh is the newest refresh of a device; ErrNotFound when there is none.
func (s *Store) LastRefresh(ctx context.Context, device string) (Refresh, error) {
	return s.refresh(ctx, `WHERE d.name = $1 ORDER BY r.id DESC LIMIT 1`, device)
}

func (s *Store) refresh(ctx context.Context, where string, args ...any) (Refresh, error) {
	rows, err := s.db.Query(ctx, `SELECT `+refreshColumns+` `+where, args...)
	if err != nil {
		return Refresh{}, err
	}
	r, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Refresh])
	return r, one(err)
}

// TakeRefresh gives a refresh to a worker; false when it has ended, or another worker was heard of within patience.
func (s *Store) TakeRefresh(ctx context.Context, id int64, patience time.Duration) (r Refresh, ok bool, err error) {
	tag, err := s.db.Exec(ctx, `UPDATE refreshes SET state = 'running', started_at = now(), touched_at = now() WHERE id = $1 AND ended_at IS NULL AND (state = 'waiting' OR touched_at < now() - make_interval(secs => $2))`, id, patience.Seconds())
	if err != nil || tag.RowsAffected() == 0 {
		return Refresh{}, false, err
	}
	r, err = s.refresh(ctx, `WHERE r.id = $1`, id)
	return r, err == nil, err
}

// NoteRefresh records how far a refresh is, and that its worker is there.
func (s *Store) NoteRefresh(ctx context.Context, id int64, doing string, fraction float64) error {
	_, err := s.db.Exec(ctx, `UPDATE refreshes SET doing = $2, fraction = $3, touched_at = now() WHERE id = $1 AND ended_at IS NULL`, id, doing, fraction)
	return err
}

// EndRefresh records how a refresh ended; problem is "" when it was done.
func (s *Store) EndRefresh(ctx context.Context, id int64, problem string, byDevice bool) error {
	_, err := s.db.Exec(ctx, `UPDATE refreshes SET state = CASE WHEN $2 = '' THEN 'done' ELSE 'failed' END, ended_at = now(), doing = '', fraction = CASE WHEN $2 = '' THEN 1 ELSE fraction END, problem = $2, by_device = $3
		WHERE id = $1 AND ended_at IS NULL`, id, problem, byDevice)
	return err
}

// LostRefreshes lists those of which nothing was heard for long, and lets another worker take them. Each is listed once in that time, by whoever
// asks first: where many wait for a worker, they are not handed out again and again.
func (s *Store) LostRefreshes(ctx context.Context, patience time.Duration) ([]int64, error) {
	rows, err := s.db.Query(ctx, `UPDATE refreshes SET state = 'waiting', touched_at = now()
		WHERE ended_at IS NULL AND touched_at < now() - make_interval(secs => $1) RETURNING id`, patience.Seconds())
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}
