package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/core/change"
)

// New devices that call by themselves.

// A Voucher says that a device belongs to this installation (RFC 8366).
type Voucher struct {
	Serial  string
	Voucher []byte
	AddedBy string
	AddedAt time.Time
}

// PutVoucher keeps the voucher of a device.
func (s *Store) PutVoucher(ctx context.Context, v Voucher) error {
	_, err := s.db.Exec(ctx, `INSERT INTO vouchers (serial, voucher, added_by) VALUES ($1, $2, $3) ON CONFLICT (serial) DO UPDATE SET voucher = excluded.voucher, added_by = excluded.added_by, added_at = now()`,
		v.Serial, v.Voucher, v.AddedBy)
	return err
}

// Voucher returns that of a device; ErrNotFound: there is none.
func (s *Store) Voucher(ctx context.Context, serial string) (Voucher, error) {
	rows, err := s.db.Query(ctx, `SELECT serial, voucher, added_by, added_at FROM vouchers WHERE serial = $1`, serial)
	if err != nil {
		return Voucher{}, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Voucher])
	return v, one(err)
}

// A Report is what a device that was handed its data says about how far it is.
type Report struct {
	At      time.Time `json:"at"`
	Type    string    `json:"type"` // a progress-type of RFC 8572, section 7.3
	Message string    `json:"message,omitempty"`
}

// A Call is a device that is expected to call, with what it is handed.
type Call struct {
	Serial     string
	ChangeID   int64
	Device     string
	State      change.State // of the change
	Sealed     []byte
	CalledAt   *time.Time
	Reports    []Report
	CompleteAt *time.Time
	HostKey    string // of SSH, that it reported; "": none
}

const callColumns = `k.serial, k.change_id, d.name AS device, c.state, k.sealed, k.called_at, k.reports, k.complete_at, k.host_key
	FROM calls k JOIN changes c ON c.id = k.change_id JOIN members m ON m.change_id = c.id AND m.number = 1 JOIN devices d ON d.id = m.device_id`

// PutCall records what a change hands a device once it calls.
func (s *Store) PutCall(ctx context.Context, serial string, changeID int64, sealed []byte) error {
	_, err := s.db.Exec(ctx, `INSERT INTO calls (change_id, serial, sealed) VALUES ($1, $2, $3)`, changeID, serial, sealed)
	return err
}

// Call returns that of a change; ErrNotFound: it expects none.
func (s *Store) Call(ctx context.Context, changeID int64) (Call, error) {
	rows, err := s.db.Query(ctx, `SELECT `+callColumns+` WHERE k.change_id = $1`, changeID)
	if err != nil {
		return Call{}, err
	}
	c, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Call])
	return c, one(err)
}

// Expected is the call of the change that runs and waits for a device, or that has handed it its data already and rests now; ErrNotFound: nobody expects it.
// Of several it is the one that was drafted first.
func (s *Store) Expected(ctx context.Context, serial string) (Call, error) {
	rows, err := s.db.Query(ctx, `SELECT `+callColumns+` WHERE k.serial = $1 AND (c.state = ANY($2) OR k.called_at IS NOT NULL AND c.state = ANY($3))
		ORDER BY k.change_id LIMIT 1`, serial, []change.State{change.Running, change.Pausing}, []change.State{change.Paused, change.Scheduled, change.Asking})
	if err != nil {
		return Call{}, err
	}
	c, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Call])
	return c, one(err)
}

// Calls lists the devices that are, or were, expected to call.
func (s *Store) Calls(ctx context.Context) ([]Call, error) {
	rows, err := s.db.Query(ctx, `SELECT `+callColumns+` ORDER BY k.change_id DESC`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Call])
}

// Called notes that a device has called and was handed its data.
func (s *Store) Called(ctx context.Context, changeID int64) error {
	_, err := s.db.Exec(ctx, `UPDATE calls SET called_at = coalesce(called_at, now()) WHERE change_id = $1`, changeID)
	return err
}

// mostReports is how many reports of a device are kept.
const mostReports = 50

// Reported notes what a device says about how far it is; with complete it is done, and shows a host key then.
func (s *Store) Reported(ctx context.Context, changeID int64, r Report, complete bool, hostKey string) error {
	_, err := s.db.Exec(ctx, `UPDATE calls SET reports = CASE WHEN jsonb_array_length(reports) < $5 THEN reports || jsonb_build_array($2::jsonb) ELSE reports END,
		complete_at = CASE WHEN $3 THEN coalesce(complete_at, now()) ELSE complete_at END, host_key = CASE WHEN $3 AND complete_at IS NULL THEN $4 ELSE host_key END WHERE change_id = $1`, changeID, r, complete, hostKey, mostReports)
	return err
}
