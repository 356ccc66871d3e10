package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/access"
	"verimorph/core/change"
)

// Ensembles: devices that depend on each other.

// An Ensemble is one, as somebody declared it.
type Ensemble struct {
	ID        int64               `db:"id"`
	Name      string              `db:"name"`
	Kind      change.EnsembleKind `db:"kind"`
	CreatedBy string              `db:"created_by"`
	CreatedAt time.Time           `db:"created_at"`
	Members   []EnsembleMember    `db:"members"` // in the order in which they were declared
}

// An EnsembleMember is a device of it.
type EnsembleMember struct {
	DeviceID int64           `json:"device_id"`
	Device   string          `json:"device"`
	Portrait json.RawMessage `json:"portrait"` // as it was last looked at; nil: never
}

const ensembleColumns = `e.id, e.name, e.kind, e.created_by, e.created_at,
	(SELECT coalesce(jsonb_agg(jsonb_build_object('device_id', d.id, 'device', d.name, 'portrait', d.portrait) ORDER BY m.number), '[]')
		FROM ensemble_members m JOIN devices d ON d.id = m.device_id WHERE m.ensemble_id = e.id) AS members FROM ensembles e`

// Ensembles lists all of them by name.
func (s *Store) Ensembles(ctx context.Context) ([]Ensemble, error) {
	rows, err := s.db.Query(ctx, `SELECT `+ensembleColumns+` ORDER BY e.name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Ensemble])
}

// Ensemble returns one by name.
func (s *Store) Ensemble(ctx context.Context, name string) (Ensemble, error) {
	rows, err := s.db.Query(ctx, `SELECT `+ensembleColumns+` WHERE e.name = $1`, name)
	if err != nil {
		return Ensemble{}, err
	}
	e, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Ensemble])
	return e, one(err)
}

// A NameTaken says that a name belongs to something else already: devices and ensembles are named in one space.
type NameTaken struct{ Name, By string }

func (e *NameTaken) Error() string {
	return fmt.Sprintf("the name %s is taken by %s; choose another one", e.Name, e.By)
}

// Declare records an ensemble with its devices, with a line in the audit; one of that name gets these members instead. A device that belongs to another
// one is a Conflict ("one_ensemble"); a name that a device has is a *NameTaken; a device that is not there is ErrNotFound.
func (s *Store) Declare(ctx context.Context, by access.Actor, name string, kind change.EnsembleKind, devices []string) error {
	if err := access.May(by, access.Administer); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		if err := nameIsFree(ctx, tx, `SELECT EXISTS (SELECT FROM devices WHERE name = $1)`, name, "a device"); err != nil {
			return err
		}
		if err := nothingOpen(ctx, tx, name, devices); err != nil {
			return err
		}
		var id int64
		if err := tx.QueryRow(ctx, `INSERT INTO ensembles (name, kind, created_by) VALUES ($1, $2, $3)
			ON CONFLICT (name) DO UPDATE SET kind = excluded.kind, created_by = excluded.created_by, created_at = now() RETURNING id`, name, kind, by).Scan(&id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `DELETE FROM ensemble_members WHERE ensemble_id = $1`, id); err != nil {
			return err
		}
		for i, d := range devices {
			tag, err := tx.Exec(ctx, `INSERT INTO ensemble_members (ensemble_id, number, device_id) SELECT $1, $2, id FROM devices WHERE name = $3`, id, i+1, d)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				return fmt.Errorf("%w: device %s", ErrNotFound, d)
			}
		}
		return audit(ctx, tx, by, "ensemble declared", 0, fmt.Sprintf("%s, %s of %s", name, kind, strings.Join(devices, ", ")))
	})
}

// nothingOpen refuses while a change works on a device that is or is to be a member: what it was drafted from must not move under it.
func nothingOpen(ctx context.Context, tx pgx.Tx, name string, devices []string) error {
	busy := &BusyError{}
	err := one(tx.QueryRow(ctx, `SELECT d.name, c.id, c.state FROM members m JOIN changes c ON c.id = m.change_id JOIN devices d ON d.id = m.device_id
		WHERE m.open AND (d.name = ANY($2) OR d.id IN (SELECT em.device_id FROM ensemble_members em JOIN ensembles e ON e.id = em.ensemble_id WHERE e.name = $1))
		ORDER BY d.name LIMIT 1`, name, devices).Scan(&busy.Device, &busy.Change, &busy.State))
	switch {
	case err == nil:
		return busy
	case errors.Is(err, ErrNotFound):
		return nil
	}
	return err
}

// nameIsFree refuses a name that a query says is taken. Whoever takes a name holds the lock, so that two cannot take the same one side by side.
func nameIsFree(ctx context.Context, tx pgx.Tx, taken, name, by string) error {
	if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtext('name ' || $1))`, name); err != nil {
		return err
	}
	var is bool
	if err := tx.QueryRow(ctx, taken, name).Scan(&is); err != nil {
		return err
	}
	if is {
		return &NameTaken{name, by}
	}
	return nil
}

// DeleteEnsemble forgets an ensemble; its devices stay.
func (s *Store) DeleteEnsemble(ctx context.Context, by access.Actor, name string) error {
	if err := access.May(by, access.Administer); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		if err := nothingOpen(ctx, tx, name, nil); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `DELETE FROM ensembles WHERE name = $1`, name)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return audit(ctx, tx, by, "ensemble deleted", 0, name)
	})
}

// EnsemblesOf names the ensemble that each device belongs to, by the name of the device.
func (s *Store) EnsemblesOf(ctx context.Context) (map[string]string, error) {
	rows, err := s.db.Query(ctx, `SELECT d.name, e.name FROM ensemble_members m JOIN devices d ON d.id = m.device_id JOIN ensembles e ON e.id = m.ensemble_id`)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var device, name string
	_, err = pgx.ForEachRow(rows, []any{&device, &name}, func() error { out[device] = name; return nil })
	return out, err
}
