package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Device is one managed box with its sealed passwords.
type Device struct {
	ID                   int64
	Name, Site, Address  string
	Dialect, Username    string
	Password, Privileged []byte // sealed
	HostKey              string
	Transfer             string // "sftp" or "http"
	CreatedAt            time.Time
	Portrait             []byte // JSON; nil before the first refresh
	PortraitAt           *time.Time
	OpenChange           *int64
}

const deviceColumns = `d.id, d.name, d.site, d.address, d.dialect, d.username, d.password, d.privileged, d.host_key, d.transfer,
	d.created_at, d.portrait, d.portrait_at, (SELECT c.id FROM changes c WHERE c.device_id = d.id AND c.state IN ('running', 'holding', 'held'))`

func scanDevice(r pgx.Row) (d Device, err error) {
	err = one(r.Scan(&d.ID, &d.Name, &d.Site, &d.Address, &d.Dialect, &d.Username, &d.Password, &d.Privileged, &d.HostKey, &d.Transfer,
		&d.CreatedAt, &d.Portrait, &d.PortraitAt, &d.OpenChange))
	return d, err
}

// AddDevice records a device. A name that is taken is a Conflict.
func (s *Store) AddDevice(ctx context.Context, d Device) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO devices (name, site, address, dialect, username, password, privileged, host_key, transfer)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
		d.Name, d.Site, d.Address, d.Dialect, d.Username, d.Password, d.Privileged, d.HostKey, d.Transfer)
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

// SetPortrait records what a device was found to be.
func (s *Store) SetPortrait(ctx context.Context, deviceID int64, portrait []byte) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET portrait = $2, portrait_at = now() WHERE id = $1`, deviceID, portrait)
	return err
}

// PinHostKey records a device's host key when none is recorded.
func (s *Store) PinHostKey(ctx context.Context, deviceID int64, key string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET host_key = $2 WHERE id = $1 AND host_key = ''`, deviceID, key)
	return err
}

// ForgetHostKey drops the pinned key.
func (s *Store) ForgetHostKey(ctx context.Context, deviceID int64) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET host_key = '' WHERE id = $1`, deviceID)
	return err
}

// SetCredentials replaces a device's user and sealed passwords.
func (s *Store) SetCredentials(ctx context.Context, deviceID int64, username string, password, privileged []byte) error {
	_, err := s.Pool.Exec(ctx, `UPDATE devices SET username = $2, password = $3, privileged = $4 WHERE id = $1`, deviceID, username, password, privileged)
	return err
}

// A Backup is a saved configuration; its content is in the blob store.
type Backup struct {
	ID       int64
	DeviceID int64
	Device   string
	ChangeID *int64
	Hop      *int
	Version  string
	File     string
	SHA256   string
	Size     int64
	TakenAt  time.Time
}

const backupColumns = `b.id, b.device_id, d.name, b.change_id, b.hop, b.version, b.file, b.sha256, b.size, b.taken_at FROM backups b JOIN devices d ON d.id = b.device_id`

// AddBackup records a backup and returns its number.
func (s *Store) AddBackup(ctx context.Context, b Backup) (id int64, err error) {
	err = s.Pool.QueryRow(ctx, `INSERT INTO backups (device_id, change_id, hop, version, file, sha256, size) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`,
		b.DeviceID, b.ChangeID, b.Hop, b.Version, b.File, b.SHA256, b.Size).Scan(&id)
	return id, err
}

// Backups lists backups, newest first, of one device or of all (""), before a number (0: from the newest).
func (s *Store) Backups(ctx context.Context, device string, before int64, limit int) ([]Backup, error) {
	rows, err := s.Pool.Query(ctx, `SELECT `+backupColumns+` WHERE ($1 = '' OR d.name = $1) AND ($2 = 0 OR b.id < $2) ORDER BY b.id DESC LIMIT $3`, device, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Backup])
}

// Backup returns one backup.
func (s *Store) Backup(ctx context.Context, id int64) (b Backup, err error) {
	rows, err := s.Pool.Query(ctx, `SELECT `+backupColumns+` WHERE b.id = $1`, id)
	if err != nil {
		return b, err
	}
	b, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Backup])
	return b, one(err)
}

// BackupOf returns the backup that a change took before a hop.
func (s *Store) BackupOf(ctx context.Context, changeID int64, hop int) (b Backup, err error) {
	rows, err := s.Pool.Query(ctx, `SELECT `+backupColumns+` WHERE b.change_id = $1 AND b.hop = $2 ORDER BY b.id DESC LIMIT 1`, changeID, hop)
	if err != nil {
		return b, err
	}
	b, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Backup])
	return b, one(err)
}
