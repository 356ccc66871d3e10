package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Device is one managed box.
type Device struct {
	ID                  int64
	Name, Site, Address string
	Dialect             string
	Groups              []string
	Web                 string // URL of its HTTP side; "" when it has none
	HostKey             string
	Transfer            string // "sftp" or "http"
	CreatedAt           time.Time
	Portrait            []byte // JSON; nil before the first refresh
	PortraitAt          *time.Time
	LookedAt            *time.Time // the last try to look at it
	LookError           *string    // why that failed; nil when it did not
	RefusedTries        int        // sign-ins in a row that the device refused
	RefusedLast         int64      // the credential of the last of them
	RefusedRaises       int        // second passwords
	RefusedAt           *time.Time
	OpenChange          *int64
	Open                *OpenChange // what OpenChange is doing
	Reach               Reach
}

// An OpenChange is what is known of a device from the change that works on it.
type OpenChange struct {
	ID         int64      `json:"id"`
	State      string     `json:"state"`
	Since      time.Time  `json:"since"`
	PausedBy   *string    `json:"paused_by"`
	WaitsUntil *time.Time `json:"waits_until"`
	Step       string     `json:"step"` // that runs; "" when none does
	Note       string     `json:"note"`
	Began      *time.Time `json:"began"`
}

// Reach says how a device is reached where that is not simply its address.
type Reach struct {
	Console string `json:"console,omitempty"` // host:port of its console line at a console server
	Only    bool   `json:"only,omitempty"`    // there is no other way
	Via     string `json:"via,omitempty"`     // device that is signed in to first; its SSH passes the connection on
	Enter   string `json:"enter,omitempty"`   // command on that device that opens a session into this one, a module of it
}

var deviceColumns = `d.id, d.name, d.site, d.address, d.dialect, d.groups, d.web, d.host_key, d.transfer,
	d.created_at, d.portrait, d.portrait_at, d.looked_at, d.look_error, d.refused_tries, d.refused_last, d.refused_raises, d.refused_at, (SELECT c.id FROM changes c WHERE c.device_id = d.id AND ` + occupies("c") + `), d.reach,
	(SELECT jsonb_build_object('id', c.id, 'state', c.state, 'since', c.state_since, 'paused_by', c.paused_by, 'waits_until', c.waits_until, 'step', coalesce(s.plan->>'Title', ''), 'note', coalesce(s.note, ''), 'began', s.started_at)
		FROM changes c LEFT JOIN LATERAL (SELECT * FROM steps s WHERE s.change_id = c.id AND s.state = 'running' ORDER BY s.number LIMIT 1) s ON true WHERE c.device_id = d.id AND ` + occupies("c") + `)`

// columns are where deviceColumns go.
func (d *Device) columns() []any {
	return []any{&d.ID, &d.Name, &d.Site, &d.Address, &d.Dialect, &d.Groups, &d.Web, &d.HostKey, &d.Transfer,
		&d.CreatedAt, &d.Portrait, &d.PortraitAt, &d.LookedAt, &d.LookError, &d.RefusedTries, &d.RefusedLast, &d.RefusedRaises, &d.RefusedAt, &d.OpenChange, &d.Reach, &d.Open}
}

func scanDevice(r pgx.Row) (d Device, err error) {
	err = one(r.Scan(d.columns()...))
	return d, err
}

// AddDevice records a device with its credentials. A name that is taken is a Conflict.
func (s *Store) AddDevice(ctx context.Context, d Device, cs []Credential, seal func(c *Credential, id int64) ([]byte, error)) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if d.Groups == nil {
			d.Groups = []string{}
		}
		var id int64
		if err := tx.QueryRow(ctx, `INSERT INTO devices (name, site, address, dialect, groups, web, host_key, transfer, reach) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`,
			d.Name, d.Site, d.Address, d.Dialect, d.Groups, d.Web, d.HostKey, d.Transfer, d.Reach).Scan(&id); err != nil {
			return err
		}
		for i := range cs {
			cs[i].DeviceID = &id
			if _, err := addCredential(ctx, tx, cs[i], func(n int64) ([]byte, error) { return seal(&cs[i], n) }); err != nil {
				return err
			}
		}
		return nil
	})
}

// SetGroups says which groups a device belongs to.
func (s *Store) SetGroups(ctx context.Context, deviceID int64, groups []string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET groups = $2, next_backup_at = NULL WHERE id = $1`, deviceID, groups)
	return err
}

// Device returns a device by name.
func (s *Store) Device(ctx context.Context, name string) (Device, error) {
	return scanDevice(s.Pool.QueryRow(ctx, `SELECT `+deviceColumns+` FROM devices d WHERE d.name = $1`, name))
}

// DeviceByID returns a device by its number.
func (s *Store) DeviceByID(ctx context.Context, id int64) (Device, error) {
	return scanDevice(s.Pool.QueryRow(ctx, `SELECT `+deviceColumns+` FROM devices d WHERE d.id = $1`, id))
}

// Devices lists devices by name, after a name, at most limit.
func (s *Store) Devices(ctx context.Context, after string, limit int) ([]Device, error) {
	rows, err := s.Pool.Query(ctx, `SELECT `+deviceColumns+` FROM devices d WHERE d.name > $1 ORDER BY d.name LIMIT $2`, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (Device, error) { return scanDevice(r) })
}

// SetWeb says where a device's HTTP side is.
func (s *Store) SetWeb(ctx context.Context, deviceID int64, url string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET web = $2 WHERE id = $1`, deviceID, url)
	return err
}

// SetReach says how a device is reached.
func (s *Store) SetReach(ctx context.Context, deviceID int64, r Reach) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET reach = $2 WHERE id = $1`, deviceID, r)
	return err
}

// SetTransfer says how files get onto a device.
func (s *Store) SetTransfer(ctx context.Context, deviceID int64, transfer string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET transfer = $2 WHERE id = $1`, deviceID, transfer)
	return err
}

// SetAddress says where a device answers from now on.
func (s *Store) SetAddress(ctx context.Context, deviceID int64, address string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET address = $2 WHERE id = $1`, deviceID, address)
	return err
}

// SetPortrait records what a device was found to be.
func (s *Store) SetPortrait(ctx context.Context, deviceID int64, portrait []byte) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET portrait = $2, portrait_at = now(), looked_at = now(), look_error = NULL WHERE id = $1`, deviceID, portrait)
	return err
}

// LookFailed records that a device could not be looked at, and why. What was seen of it before stays, with its age.
func (s *Store) LookFailed(ctx context.Context, deviceID int64, why string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET looked_at = now(), look_error = $2 WHERE id = $1`, deviceID, why)
	return err
}

// PinHostKey records a device's host key when none is recorded.
func (s *Store) PinHostKey(ctx context.Context, deviceID int64, key string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET host_key = $2 WHERE id = $1 AND host_key = ''`, deviceID, key)
	return err
}

// ReplaceHostKey records a new key where an old one was expected to change.
func (s *Store) ReplaceHostKey(ctx context.Context, deviceID int64, key string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET host_key = $2 WHERE id = $1`, deviceID, key)
	return err
}

// ForgetHostKey drops the pinned key.
func (s *Store) ForgetHostKey(ctx context.Context, deviceID int64) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET host_key = '' WHERE id = $1`, deviceID)
	return err
}
