package store

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Device is one managed box.
type Device struct {
	ID            int64             `db:"id"`
	Name          string            `db:"name"`
	Site          string            `db:"site"`
	Address       string            `db:"address"`
	Dialect       string            `db:"dialect"`
	Groups        []string          `db:"groups"`
	HostKey       string            `db:"host_key"`
	CreatedAt     time.Time         `db:"created_at"`
	Portrait      []byte            `db:"portrait"` // JSON; nil before the first refresh
	PortraitAt    *time.Time        `db:"portrait_at"`
	LookedAt      *time.Time        `db:"looked_at"`      // the last try to look at it
	LookError     *string           `db:"look_error"`     // why that failed; nil when it did not
	RefusedTries  int               `db:"refused_tries"`  // sign-ins in a row that the device refused
	RefusedLast   int64             `db:"refused_last"`   // the credential of the last of them
	RefusedRaises int               `db:"refused_raises"` // privileged passwords
	RefusedAt     *time.Time        `db:"refused_at"`
	Open          *OpenChange       `db:"open"` // the change that works on it; nil: none
	Settings      Settings          `db:"settings"`
	Pins          map[string]string `db:"pins"`     // by management protocol: the pinned key of its certificate
	Ensemble      *string           `db:"ensemble"` // that it belongs to; nil: none
}

// OpenChange is the number of the change that works on a device; nil: none does.
func (d *Device) OpenChange() *int64 {
	if d.Open == nil {
		return nil
	}
	return &d.Open.ID
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

// Settings are what people say about how a device is dealt with.
type Settings struct {
	Web      string `json:"web"`      // URL of its HTTP side; "" when it has none
	Transfer string `json:"transfer"` // "sftp": images are pushed; "http", "https", "ftp", "tftp", "pull-sftp": the device fetches them
	Reach    Reach  `json:"reach"`
	// Services says where it offers management protocols, host:port by protocol, where that is not the port of its kind.
	Services map[string]string `json:"services"` // also when it is empty: it takes the place of what was there
	Probes   []string          `json:"probes"`   // what is asked all the time while a change of the device runs
}

// Reach says how a device is reached where that is not simply its address.
type Reach struct {
	Console string `json:"console,omitempty"` // host:port of its console line at a console server
	Only    bool   `json:"only,omitempty"`    // there is no other way
	Via     string `json:"via,omitempty"`     // device that is signed in to first; its SSH passes the connection on
	Enter   string `json:"enter,omitempty"`   // command on that device that opens a session into this one, a module of it
}

// deviceColumns are those of a [Device], by name.
const deviceColumns = `d.id, d.name, d.site, d.address, d.dialect, d.groups, d.host_key, d.created_at, d.portrait, d.portrait_at,
	d.looked_at, d.look_error, d.refused_tries, d.refused_last, d.refused_raises, d.refused_at, d.settings, d.pins,
	(SELECT jsonb_build_object('id', c.id, 'state', c.state, 'since', c.state_since, 'paused_by', c.paused_by, 'waits_until', c.waits_until, 'step', coalesce(s.plan->>'title', ''), 'note', coalesce(s.note, ''), 'began', s.started_at)
		FROM members m JOIN changes c ON c.id = m.change_id LEFT JOIN LATERAL (SELECT * FROM steps s WHERE s.change_id = c.id AND s.state = 'running'
			AND (c.ensemble IS NULL OR (s.plan->>'member')::int IN (0, m.number)) ORDER BY s.number LIMIT 1) s ON true WHERE m.device_id = d.id AND m.open) AS open,
	(SELECT e.name FROM ensemble_members em JOIN ensembles e ON e.id = em.ensemble_id WHERE em.device_id = d.id) AS ensemble
	FROM devices d`

// devices runs a query for devices.
func (s *Store) devices(ctx context.Context, where string, args ...any) ([]Device, error) {
	rows, err := s.db.Query(ctx, `SELECT `+deviceColumns+` `+where, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Device])
}

func (s *Store) device(ctx context.Context, where string, args ...any) (d Device, err error) {
	ds, err := s.devices(ctx, where, args...)
	if err == nil && len(ds) == 0 {
		err = ErrNotFound
	}
	if err == nil {
		d = ds[0]
	}
	return d, err
}

// AddDevice records a device with its credentials. A name that a device has is a Conflict, one that an ensemble has a *NameTaken.
func (s *Store) AddDevice(ctx context.Context, d Device, cs []Credential, seal func(c *Credential, id int64) ([]byte, error)) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if d.Groups == nil {
			d.Groups = []string{}
		}
		if err := nameIsFree(ctx, tx, `SELECT EXISTS (SELECT FROM ensembles WHERE name = $1)`, d.Name, "an ensemble"); err != nil {
			return err
		}
		var id int64
		if err := tx.QueryRow(ctx, `INSERT INTO devices (name, site, address, dialect, groups, host_key, settings) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`,
			d.Name, d.Site, d.Address, d.Dialect, d.Groups, d.HostKey, d.Settings).Scan(&id); err != nil {
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

// Device returns a device by name.
func (s *Store) Device(ctx context.Context, name string) (Device, error) {
	return s.device(ctx, `WHERE d.name = $1`, name)
}

// DeviceByID returns a device by its number.
func (s *Store) DeviceByID(ctx context.Context, id int64) (Device, error) {
	return s.device(ctx, `WHERE d.id = $1`, id)
}

// Orders in which devices are listed: what each is by, as text.
var deviceOrders = map[string]string{
	"name":     `d.name`,
	"site":     `d.site`,
	"model":    `coalesce(d.portrait->>'model', '')`,
	"standing": standingOf,
	"asOf":     `coalesce(to_char(coalesce(d.looked_at, d.portrait_at) AT TIME ZONE 'UTC', 'YYYYMMDDHH24MISS'), '')`,
}

// standingOf is how a device stands, as text: what a change does with it, or what was seen last.
const standingOf = `CASE WHEN EXISTS (SELECT FROM members m WHERE m.device_id = d.id AND m.open) THEN 'in-change' WHEN d.look_error IS NOT NULL THEN 'no-answer'
	WHEN d.portrait->>'services_ready' = 'yes' THEN 'ready' WHEN d.portrait->>'services_ready' = 'no' THEN 'starting' ELSE 'unknown' END`

// A DeviceList says which devices are listed, and in which order.
type DeviceList struct {
	Find       string // text in name, site, model or version; "": all
	Standing   string // "": all
	Model      string // "": all
	Version    string // "": all
	Sort       string // name, site, model, standing or asOf; "": name
	Descending bool
	After      DeviceCursor
	Limit      int
}

// A DeviceCursor is the last device of a page.
type DeviceCursor struct {
	Key  string `json:"k,omitempty"`
	Name string `json:"n"` // "": the list begins
}

// Devices lists a page of devices; next is where the rest begins, and has no name at the end.
func (s *Store) Devices(ctx context.Context, l DeviceList) (ds []Device, next DeviceCursor, err error) {
	by, ok := deviceOrders[cmp.Or(l.Sort, "name")]
	if !ok {
		return nil, next, fmt.Errorf("there is no order %q", l.Sort)
	}
	dir, beyond := "ASC", ">"
	if l.Descending {
		dir, beyond = "DESC", "<"
	}
	where, args := l.where()
	if l.After.Name != "" {
		args = append(args, l.After.Key, l.After.Name)
		where += fmt.Sprintf(` AND (%s, d.name) %s ($%d, $%d)`, by, beyond, len(args)-1, len(args))
	}
	args = append(args, l.Limit+1)
	if ds, err = s.devices(ctx, fmt.Sprintf(`WHERE %s ORDER BY %s %s, d.name %s LIMIT $%d`, where, by, dir, dir, len(args)), args...); err != nil || len(ds) <= l.Limit {
		return ds, next, err
	}
	ds = ds[:l.Limit]
	next.Name = ds[l.Limit-1].Name
	err = s.db.QueryRow(ctx, `SELECT `+by+` FROM devices d WHERE d.name = $1`, next.Name).Scan(&next.Key)
	return ds, next, err
}

// AllDevices goes through the fleet by name, some hundred devices at a time. An error ends it.
func (s *Store) AllDevices(ctx context.Context) iter.Seq2[Device, error] {
	return func(yield func(Device, error) bool) {
		l := DeviceList{Limit: 500}
		for {
			ds, next, err := s.Devices(ctx, l)
			if err != nil {
				yield(Device{}, err)
				return
			}
			for _, d := range ds {
				if !yield(d, nil) {
					return
				}
			}
			if l.After = next; next.Name == "" {
				return
			}
		}
	}
}

// CountDevices counts the devices that a list has, whatever its page.
func (s *Store) CountDevices(ctx context.Context, l DeviceList) (n int, err error) {
	where, args := l.where()
	err = s.db.QueryRow(ctx, `SELECT count(*) FROM devices d WHERE `+where, args...).Scan(&n)
	return n, err
}

func (l *DeviceList) where() (where string, args []any) {
	where = `true`
	if l.Find != "" {
		args = append(args, like(l.Find))
		where += fmt.Sprintf(` AND concat_ws(' ', d.name, d.site, d.portrait->>'model', d.portrait->>'version') ILIKE $%d`, len(args))
	}
	if l.Standing != "" {
		args = append(args, l.Standing)
		where += fmt.Sprintf(` AND %s = $%d`, standingOf, len(args))
	}
	for column, value := range map[string]string{"model": l.Model, "version": l.Version} {
		if value != "" {
			args = append(args, value)
			where += fmt.Sprintf(` AND d.portrait->>'%s' = $%d`, column, len(args))
		}
	}
	return where, args
}

// like is a pattern for what has a text in it.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}

// EnterDevice writes what people entered about a device: its groups and settings, those of the names that are given. Other groups may mean another
// schedule for its backups, so that is worked out anew.
func (s *Store) EnterDevice(ctx context.Context, d Device, names []string) error {
	if d.Groups == nil {
		d.Groups = []string{}
	}
	_, err := s.db.Exec(ctx, `UPDATE devices SET groups = CASE WHEN 'groups' = ANY($2) THEN $3 ELSE groups END,
		next_backup_at = CASE WHEN 'groups' = ANY($2) THEN NULL ELSE next_backup_at END,
		settings = settings || (SELECT coalesce(jsonb_object_agg(key, value), '{}') FROM jsonb_each($4::jsonb) WHERE key = ANY($2)) WHERE id = $1`,
		d.ID, names, d.Groups, d.Settings)
	return err
}

// SetAddress records where a device answers now.
func (s *Store) SetAddress(ctx context.Context, deviceID int64, address string) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET address = $2 WHERE id = $1`, deviceID, address)
	return err
}

// SetPortrait records what a device was found to be.
func (s *Store) SetPortrait(ctx context.Context, deviceID int64, portrait []byte) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET portrait = $2, portrait_at = now(), looked_at = now(), look_error = NULL WHERE id = $1`, deviceID, portrait)
	return err
}

// LookFailed records that a device could not be looked at, and why. What was seen of it before stays, with its age.
func (s *Store) LookFailed(ctx context.Context, deviceID int64, why string) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET looked_at = now(), look_error = $2 WHERE id = $1`, deviceID, why)
	return err
}

// PinHostKey records a device's host key when none is recorded.
func (s *Store) PinHostKey(ctx context.Context, deviceID int64, key string) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET host_key = $2 WHERE id = $1 AND host_key = ''`, deviceID, key)
	return err
}

// ReplaceHostKey records a new key where an old one was expected to change.
func (s *Store) ReplaceHostKey(ctx context.Context, deviceID int64, key string) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET host_key = $2 WHERE id = $1`, deviceID, key)
	return err
}

// PinCertificate records the key of the certificate that a device shows for a management protocol.
func (s *Store) PinCertificate(ctx context.Context, deviceID int64, protocol, pin string) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET pins = pins || jsonb_build_object($2::text, $3::text) WHERE id = $1`, deviceID, protocol, pin)
	return err
}

// ForgetHostKey drops the pinned keys: that of SSH and those of certificates.
func (s *Store) ForgetHostKey(ctx context.Context, deviceID int64) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET host_key = '', pins = '{}' WHERE id = $1`, deviceID)
	return err
}
