package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"verimorph/core/change"
	"verimorph/core/spare"
)

// Units in stock.

// A Spare is a unit in stock, on its way, or in service where it took the place of another one.
type Spare struct {
	ID         int64         `db:"id"`
	Serial     string        `db:"serial"`
	Model      string        `db:"model"`
	Version    string        `db:"version"`
	Licences   []string      `db:"licences"`
	Place      string        `db:"place"` // where it lies
	Bench      string        `db:"bench"` // device by which it is reached on the bench; "": none
	BenchID    *int64        `db:"bench_id"`
	For        string        `db:"for"` // device that it is prepared for; "": none
	ForID      *int64        `db:"for_id"`
	Site       string        `db:"site"`      // of that device
	Backup     *int64        `db:"backup_id"` // whose configuration it holds
	Holds      string        `db:"holds"`     // digest of that configuration
	Prepare    *int64        `db:"prepare_id"`
	Prepared   *change.State `db:"prepared"` // state of the change that prepares it
	PreparedAt *time.Time    `db:"prepared_at"`
	Swap       *int64        `db:"swap_id"`
	Swapped    *change.State `db:"swapped"`
	Out        *int64        `db:"out_id"` // the change by which another unit took its place
	OutState   *change.State `db:"out_state"`
	Was        string        `db:"was"` // the device that it was when it came out of service; "": none
	WasID      *int64        `db:"was_id"`
	ShippedAt  *time.Time    `db:"shipped_at"`
	Parcel     string        `db:"parcel"` // how it travels: a number to follow it by
	ArrivedAt  *time.Time    `db:"arrived_at"`
	WipedAt    *time.Time    `db:"wiped_at"`
	Wiped      string        `db:"wiped"` // the proof
	RetiredAt  *time.Time    `db:"retired_at"`
	Retired    string        `db:"retired"` // why
	CreatedAt  time.Time     `db:"created_at"`
}

// Unit is the unit as core works with it.
func (x *Spare) Unit() spare.Unit {
	of := func(s *change.State) change.State {
		if s == nil {
			return ""
		}
		return *s
	}
	return spare.Unit{Serial: x.Serial, Model: x.Model, Licences: x.Licences, For: x.For, Holds: x.Holds,
		Prepare: of(x.Prepared), Swap: of(x.Swapped), Out: of(x.OutState),
		Shipped: x.ShippedAt != nil, Arrived: x.ArrivedAt != nil, Retired: x.RetiredAt != nil}
}

const spareColumns = `s.id, s.serial, s.model, s.version, s.licences, s.place, coalesce(b.name, '') AS bench, s.bench_id,
	coalesce(f.name, '') AS "for", s.for_id, coalesce(f.site, '') AS site, s.backup_id, s.holds,
	s.prepare_id, p.state AS prepared, p.ended_at AS prepared_at, s.swap_id, w.state AS swapped, s.out_id, o.state AS out_state, coalesce(d.name, '') AS was, s.was_id,
	s.shipped_at, s.parcel, s.arrived_at, s.wiped_at, s.wiped, s.retired_at, s.retired, s.created_at
	FROM spares s LEFT JOIN devices b ON b.id = s.bench_id LEFT JOIN devices f ON f.id = s.for_id LEFT JOIN devices d ON d.id = s.was_id
	LEFT JOIN changes p ON p.id = s.prepare_id LEFT JOIN changes w ON w.id = s.swap_id LEFT JOIN changes o ON o.id = s.out_id`

func (s *Store) spares(ctx context.Context, where string, args ...any) ([]Spare, error) {
	rows, err := s.db.Query(ctx, `SELECT `+spareColumns+` `+where, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Spare])
}

// Spares lists the units by model and serial, those that were retired only when all are asked for. A unit that is still in service, and for which a change is
// drafted that would take it out, is not in stock.
func (s *Store) Spares(ctx context.Context, all bool) ([]Spare, error) {
	return s.spares(ctx, `WHERE ($1 OR s.retired_at IS NULL) AND NOT (s.out_id IS NOT NULL AND o.state <> 'done' AND s.swap_id IS NULL)
		ORDER BY s.model, s.serial, s.id`, all)
}

// Spare returns the unit with a serial that is not retired; ErrNotFound.
func (s *Store) Spare(ctx context.Context, serial string) (Spare, error) {
	all, err := s.spares(ctx, `WHERE s.serial = $1 AND s.retired_at IS NULL`, serial)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Spare{}, err
	}
	return all[0], nil
}

// ErrKnownSerial says that a unit with the serial is there already.
var ErrKnownSerial = errors.New("a unit with that serial is there already")

// AddSpare puts a unit in stock. ErrKnownSerial: it is there already.
func (s *Store) AddSpare(ctx context.Context, x Spare) error {
	_, err := s.db.Exec(ctx, `INSERT INTO spares (serial, model, version, licences, place, bench_id) VALUES ($1, $2, $3, $4, $5, $6)`,
		x.Serial, x.Model, x.Version, notNil(x.Licences), x.Place, x.BenchID)
	if bad := (*pgconn.PgError)(nil); errors.As(err, &bad) && bad.Code == "23505" {
		return ErrKnownSerial
	}
	return err
}

func notNil(l []string) []string {
	if l == nil {
		return []string{}
	}
	return l
}

// PrepareSpare records what a unit is prepared for, and by which change.
func (s *Store) PrepareSpare(ctx context.Context, id, changeID, benchID, forID, backup int64, holds, version string) error {
	_, err := s.db.Exec(ctx, `UPDATE spares SET prepare_id = $2, bench_id = $3, for_id = $4, backup_id = $5, holds = $6, version = $7,
		shipped_at = NULL, parcel = '', swap_id = NULL WHERE id = $1`,
		id, changeID, benchID, forID, backup, holds, version)
	return err
}

// ShipSpare records that a unit travels.
func (s *Store) ShipSpare(ctx context.Context, id int64, parcel string) error {
	_, err := s.db.Exec(ctx, `UPDATE spares SET shipped_at = now(), parcel = $2, place = '' WHERE id = $1`, id, parcel)
	return err
}

// SwapSpare records by which change a unit goes into service, and that the one in whose place it goes comes out by it.
func (s *Store) SwapSpare(ctx context.Context, id, changeID, deviceID int64, old Spare) error {
	if _, err := s.db.Exec(ctx, `UPDATE spares SET swap_id = $2 WHERE id = $1`, id, changeID); err != nil || old.Serial == "" {
		return err
	}
	_, err := s.db.Exec(ctx, `INSERT INTO spares (serial, model, version, licences, out_id, was_id) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (serial) WHERE retired_at IS NULL
		DO UPDATE SET out_id = excluded.out_id, was_id = excluded.was_id, version = excluded.version, arrived_at = NULL, wiped_at = NULL`,
		old.Serial, old.Model, old.Version, notNil(old.Licences), changeID, deviceID)
	return err
}

// FreeBench has the record by which a unit was reached on the bench forget that unit, which serves elsewhere by now: what it was, and its keys.
func (s *Store) FreeBench(ctx context.Context, deviceID int64) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET portrait = NULL, portrait_at = NULL, looked_at = NULL, look_error = NULL, host_key = '', pins = '{}' WHERE id = $1`, deviceID)
	return err
}

// ArriveSpare records that a unit that came out of service is back.
func (s *Store) ArriveSpare(ctx context.Context, id int64, place string) error {
	_, err := s.db.Exec(ctx, `UPDATE spares SET arrived_at = now(), place = $2 WHERE id = $1`, id, place)
	return err
}

// WipeSpare records that nothing of what a unit held is on it any more, and has it in stock again.
func (s *Store) WipeSpare(ctx context.Context, id, benchID int64, version string, licences []string, proof string) error {
	_, err := s.db.Exec(ctx, `UPDATE spares SET wiped_at = now(), wiped = $2, bench_id = $3, version = $4, licences = $5,
		out_id = NULL, was_id = NULL, arrived_at = NULL, for_id = NULL, backup_id = NULL, holds = '',
		prepare_id = NULL, swap_id = NULL, shipped_at = NULL, parcel = '' WHERE id = $1`, id, proof, benchID, version, notNil(licences))
	return err
}

// RetireSpare takes a unit out of the stock for good.
func (s *Store) RetireSpare(ctx context.Context, id int64, why string) error {
	_, err := s.db.Exec(ctx, `UPDATE spares SET retired_at = now(), retired = $2 WHERE id = $1`, id, why)
	return err
}
