package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Messages: what devices say by themselves while a change works on them. They stand in its journal.

// Events of the journal for messages of a device.
const (
	DeviceSaid     = "device"          // a message
	DeviceError    = "device error"    // one that reports trouble
	DeviceForetold = "device expected" // trouble that the catalogue foretells
	DeviceLost     = "device lost"     // messages were dropped, and may have been of any device
)

// AtWork is a device that a change works on now.
type AtWork struct {
	ChangeID int64
	DeviceID int64
	Device   string
	Address  string  // host:port
	Name     *string // that it gives itself
	Path     []byte
	Family   string
}

// DevicesAtWork lists the devices that changes work on now.
func (s *Store) DevicesAtWork(ctx context.Context) ([]AtWork, error) {
	rows, err := s.db.Query(ctx, `SELECT c.id AS change_id, d.id AS device_id, d.name AS device, d.address, d.portrait->>'name' AS name, c.path, coalesce(c.path->>'family', '') AS family
		FROM changes c JOIN members m ON m.change_id = c.id AND m.open JOIN devices d ON d.id = m.device_id
		WHERE c.started_at IS NOT NULL AND c.ended_at IS NULL`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[AtWork])
}

// A SaidLine is a message as it is kept in a journal.
type SaidLine struct {
	ChangeID      int64
	At            time.Time
	Event, Detail string
}

// KeepMessages writes messages into the journals of changes, beside whatever their workers write there.
func (s *Store) KeepMessages(ctx context.Context, all []SaidLine) error {
	var ids []int64
	var at []time.Time
	var events, details []string
	for _, l := range all {
		ids, at, events, details = append(ids, l.ChangeID), append(at, l.At), append(events, l.Event), append(details, l.Detail)
	}
	_, err := s.db.Exec(ctx, `INSERT INTO journal (change_id, step, fence, at, event, detail)
		SELECT v.change_id, coalesce((SELECT number FROM steps WHERE change_id = v.change_id AND state = 'running' ORDER BY number LIMIT 1), 0), 0, v.at, v.event, v.detail
		FROM unnest($1::bigint[], $2::timestamptz[], $3::text[], $4::text[]) AS v (change_id, at, event, detail) JOIN changes c ON c.id = v.change_id`, ids, at, events, details)
	return err
}

// Messages are what a device said in a change.
type Messages struct {
	Heard    int
	Foretold int      // trouble that was expected
	Errors   int      // trouble that was not
	Lost     int      // times at which messages were dropped
	Texts    []string // of errors, each once
}

// MessagesOf counts what a device said in a change; of its errors it has the texts of the first so many.
func (s *Store) MessagesOf(ctx context.Context, changeID int64, most int) (m Messages, err error) {
	rows, err := s.db.Query(ctx, `SELECT count(*) FILTER (WHERE event <> 'device lost') AS heard, count(*) FILTER (WHERE event = 'device expected') AS foretold,
		count(*) FILTER (WHERE event = 'device error') AS errors, count(*) FILTER (WHERE event = 'device lost') AS lost,
		coalesce((SELECT array_agg(DISTINCT detail) FROM (SELECT detail FROM journal WHERE change_id = $1 AND event = 'device error' ORDER BY id LIMIT $2) t), '{}') AS texts
		FROM journal WHERE change_id = $1 AND event IN ('device', 'device error', 'device expected', 'device lost')`, changeID, most)
	if err != nil {
		return m, err
	}
	return pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Messages])
}

// AuditAfter lists lines of the audit after a number, oldest first, up to the first behind which another one may still come to stand: numbers
// are given out before a transaction ends, so a line with a lower one may appear later. A line is safe when it was written before every
// transaction that still writes had begun.
func (s *Store) AuditAfter(ctx context.Context, after int64, limit int) ([]AuditLine, error) {
	rows, err := s.db.Query(ctx, `SELECT id, at, who, event, device, detail FROM audit WHERE id > $1 AND at < (SELECT coalesce(min(xact_start), 'infinity') FROM pg_stat_activity
		WHERE datname = current_database() AND backend_xid IS NOT NULL AND pid <> pg_backend_pid()) ORDER BY id LIMIT $2`, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[AuditLine])
}

// LastAudit is the number of the newest line of the audit.
func (s *Store) LastAudit(ctx context.Context) (id int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT coalesce(max(id), 0) FROM audit`).Scan(&id)
	return id, err
}
