package store

import (
	"context"
	"time"

	"verimorph/access"

	"github.com/jackc/pgx/v5"
)

// A Credential is one way into a device, or into every device of a group.
type Credential struct {
	ID        int64
	DeviceID  *int64
	Device    string // name; "" for a group's
	Group     string
	Kind      string
	Username  string
	Secret    []byte // sealed
	Versions  string
	CreatedBy string
	CreatedAt time.Time
	UsedAt    *time.Time
}

const credentialColumns = `c.id, c.device_id, coalesce(d.name, '') AS device, c.group_name AS "group", c.kind, c.username, c.secret, c.versions,
	c.created_by, c.created_at, c.used_at`

const allCredentials = `credentials c LEFT JOIN devices d ON d.id = c.device_id`

// credentialsOf are those of a device ($1) and of its groups. Both halves are looks into indexes; an OR, or a list of numbers, would read all
// credentials of the fleet at every sign-in.
const credentialsOf = `(SELECT * FROM credentials WHERE device_id = $1 UNION ALL
	SELECT * FROM credentials WHERE device_id IS NULL AND group_name = ANY ((SELECT groups FROM devices WHERE id = $1)::text[])) c
	LEFT JOIN devices d ON d.id = c.device_id`

// AddCredential records a credential and returns its number. seal gets the number, because what is sealed is bound to it.
func (s *Store) AddCredential(ctx context.Context, c Credential, seal func(id int64) ([]byte, error)) (id int64, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		id, err = addCredential(ctx, tx, c, seal)
		return err
	})
	return id, err
}

func addCredential(ctx context.Context, tx pgx.Tx, c Credential, seal func(id int64) ([]byte, error)) (id int64, err error) {
	if err := tx.QueryRow(ctx, `INSERT INTO credentials (device_id, group_name, kind, username, secret, versions, created_by)
		VALUES ($1, $2, $3, $4, '', $5, $6) RETURNING id`,
		c.DeviceID, c.Group, c.Kind, c.Username, c.Versions, c.CreatedBy).Scan(&id); err != nil {
		return 0, err
	}
	secret, err := seal(id)
	if err != nil {
		return 0, err
	}
	_, err = tx.Exec(ctx, `UPDATE credentials SET secret = $2 WHERE id = $1`, id, secret)
	if err == nil { // whoever gives a new key may try it at once
		_, err = tx.Exec(ctx, `UPDATE devices SET refused_tries = 0, refused_raises = 0 WHERE id = $1 OR $2 = ANY(groups)`, c.DeviceID, c.Group)
	}
	return id, err
}

// Credentials lists those of one device (its own, then those of its groups), or of all (0), in the order in which they
// are tried.
func (s *Store) Credentials(ctx context.Context, deviceID int64) ([]Credential, error) {
	from, args := allCredentials, []any(nil)
	if deviceID != 0 {
		from, args = credentialsOf, []any{deviceID}
	}
	rows, err := s.db.Query(ctx, `SELECT `+credentialColumns+` FROM `+from+`
		ORDER BY c.device_id IS NULL, c.device_id, c.group_name, c.versions = '', c.id`, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Credential])
}

// AllCredentials lists a page of those of the whole fleet, by device or group, that have a text in the name of their device or group, their kind
// or their user ("": all), after a number of rows.
func (s *Store) AllCredentials(ctx context.Context, find string, after, limit int) ([]Credential, error) {
	rows, err := s.db.Query(ctx, `SELECT `+credentialColumns+` FROM `+allCredentials+`
		WHERE $1 = '' OR concat_ws(' ', d.name, c.group_name, c.kind, c.username) ILIKE $2
		ORDER BY c.device_id IS NULL, d.name, c.group_name, c.versions = '', c.id OFFSET $3 LIMIT $4`, find, like(find), after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Credential])
}

// RemoveCredential deletes one. ErrNotFound: there is none.
func (s *Store) RemoveCredential(ctx context.Context, id int64) error {
	tag, err := s.db.Exec(ctx, `DELETE FROM credentials WHERE id = $1`, id)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}

// ReplaceCredentials puts new credentials of some kinds in the place of a device's own that apply to every version. With a
// version in keepFor, those that once let us in are kept for that version, unless there is one for it already: they may
// still apply to an installation in another slot.
func (s *Store) ReplaceCredentials(ctx context.Context, deviceID int64, kinds []string, keepFor string, cs []Credential, seal func(c *Credential,
	id int64) ([]byte, error)) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if keepFor != "" {
			if _, err := tx.Exec(ctx, `UPDATE credentials c SET versions = $3 WHERE device_id = $1 AND versions = '' AND kind = ANY($2) AND used_at IS NOT NULL
				AND NOT EXISTS (SELECT 1 FROM credentials o WHERE o.device_id = $1 AND o.kind = c.kind AND o.versions = $3)`, deviceID, kinds, keepFor); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `DELETE FROM credentials WHERE device_id = $1 AND versions = '' AND kind = ANY($2)`, deviceID, kinds); err != nil {
			return err
		}
		for i := range cs {
			cs[i].DeviceID = &deviceID
			if _, err := addCredential(ctx, tx, cs[i], func(id int64) ([]byte, error) { return seal(&cs[i], id) }); err != nil {
				return err
			}
		}
		return nil
	})
}

// CredentialUsed notes that a credential let us in, with a line in the audit: the count of refusals of its kind begins anew.
func (s *Store) CredentialUsed(ctx context.Context, id, deviceID int64, second bool, by access.Actor, why string) error {
	_, err := s.db.Exec(ctx, `WITH u AS (UPDATE credentials SET used_at = now() WHERE id = $1),
		a AS (INSERT INTO audit (who, event, device, detail) SELECT $4, 'credential used', d.name, format('credential %s, %s', $1::bigint, $5::text)
			FROM devices d WHERE d.id = $2)
		UPDATE devices SET refused_tries = CASE WHEN $3 THEN refused_tries ELSE 0 END, refused_raises = CASE WHEN $3 THEN 0 ELSE refused_raises END
		WHERE id = $2 AND refused_tries + refused_raises <> 0`, id, deviceID, second, by, why)
	return err
}

// CredentialNoted records that a credential was used with which nobody signs in: a token, a community, a certificate. What was refused of the others counts on.
func (s *Store) CredentialNoted(ctx context.Context, id, deviceID int64, by access.Actor, why string) error {
	_, err := s.db.Exec(ctx, `WITH u AS (UPDATE credentials SET used_at = now() WHERE id = $1)
		INSERT INTO audit (who, event, device, detail) SELECT $3, 'credential used', d.name, format('credential %s, %s', $1::bigint, $4::text)
			FROM devices d WHERE d.id = $2`, id, deviceID, by, why)
	return err
}

// TryRefused counts a sign-in, or a privileged password, that the device refused, with the credential that was tried.
func (s *Store) TryRefused(ctx context.Context, id, deviceID int64, second bool) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET refused_tries = refused_tries + CASE WHEN $3 THEN 0 ELSE 1 END, refused_raises = refused_raises + CASE WHEN $3 THEN 1 ELSE 0 END,
		refused_last = CASE WHEN $3 THEN refused_last ELSE $1 END, refused_at = now() WHERE id = $2`, id, deviceID, second)
	return err
}

// ForgiveTries begins the count of refusals anew.
func (s *Store) ForgiveTries(ctx context.Context, deviceID int64) error {
	_, err := s.db.Exec(ctx, `UPDATE devices SET refused_tries = 0, refused_raises = 0 WHERE id = $1`, deviceID)
	return err
}

// OldPasswords are those that the first versions kept with the device.
type OldPasswords struct {
	DeviceID             int64
	Device, Username     string
	Password, Privileged []byte // sealed
}

// OldPasswords lists what is still to be moved to credentials, and MoveOldPasswords does it for one device.
func (s *Store) OldPasswords(ctx context.Context) ([]OldPasswords, error) {
	rows, err := s.db.Query(ctx, `SELECT id AS device_id, name AS device, username, password, privileged FROM devices WHERE password IS NOT NULL`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[OldPasswords])
}

// MoveOldPasswords gives a device credentials in place of the passwords that the first versions kept with it.
func (s *Store) MoveOldPasswords(ctx context.Context, deviceID int64, cs []Credential, seal func(c *Credential, id int64) ([]byte, error)) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE devices SET username = NULL, password = NULL, privileged = NULL WHERE id = $1 AND password IS NOT NULL`, deviceID)
		if err != nil || tag.RowsAffected() == 0 { // another process was quicker
			return err
		}
		for i := range cs {
			cs[i].DeviceID = &deviceID
			if _, err := addCredential(ctx, tx, cs[i], func(id int64) ([]byte, error) { return seal(&cs[i], id) }); err != nil {
				return err
			}
		}
		return nil
	})
}
