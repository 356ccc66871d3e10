package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Backup is the record of a bundle; its content is in the backup store.
type Backup struct {
	ID       int64
	DeviceID int64
	Device   string
	ChangeID *int64
	Hop      *int
	Version  string // firmware that ran when it was taken
	File     string // exact name of its main configuration; "" when it has none
	SHA256   string // of that
	Size     int64  // of all parts, in bytes
	TakenAt  time.Time
	Manifest string // sum of the manifest in the backup store
	Reason   string
	Complete bool
	Model    string
	Lacks    []string // titles of parts that a complete bundle has
	Held     string   // why it must be kept; "" when it is not held
	HeldBy   string
	GoneAt   *time.Time // it was let go; its content is gone or will be
	GoneWhy  string
}

const backupColumns = `b.id, b.device_id, d.name AS device, b.change_id, b.hop, b.version, b.file, b.sha256, b.size, b.taken_at, b.manifest, b.reason, b.complete, b.model, b.lacks,
	b.held, b.held_by, b.gone_at, b.gone_why FROM backups b JOIN devices d ON d.id = b.device_id`

// AddBackup records a bundle and returns its number. A bundle that is recorded already keeps its number.
func (s *Store) AddBackup(ctx context.Context, b Backup) (id int64, err error) {
	if b.Lacks == nil {
		b.Lacks = []string{}
	}
	err = s.db.QueryRow(ctx, `INSERT INTO backups (device_id, change_id, hop, version, file, sha256, size, taken_at, manifest, reason, complete, model, lacks)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) ON CONFLICT (manifest) WHERE manifest <> '' DO UPDATE
		SET change_id = coalesce(backups.change_id, excluded.change_id), hop = coalesce(backups.hop, excluded.hop) RETURNING id`,
		b.DeviceID, b.ChangeID, b.Hop, b.Version, b.File, b.SHA256, b.Size, b.TakenAt, b.Manifest, b.Reason, b.Complete, b.Model, b.Lacks).Scan(&id)
	return id, err
}

// A BackupList says which backups are listed.
type BackupList struct {
	Device string // "": of all
	Find   string // text in device, model or version; "": all
	Before int64  // a number; 0: from the newest
	Limit  int
}

// Backups lists bundles that are kept, newest first.
func (s *Store) Backups(ctx context.Context, l BackupList) ([]Backup, error) {
	find := "%"
	if l.Find != "" {
		find = like(l.Find)
	}
	return s.backups(ctx, `WHERE b.gone_at IS NULL AND ($1 = '' OR d.name = $1) AND ($2 = 0 OR b.id < $2) AND concat_ws(' ', d.name, b.model, b.version) ILIKE $3
		ORDER BY b.id DESC LIMIT $4`, l.Device, l.Before, find, l.Limit)
}

func (s *Store) backups(ctx context.Context, where string, args ...any) ([]Backup, error) {
	rows, err := s.db.Query(ctx, `SELECT `+backupColumns+` `+where, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Backup])
}

func (s *Store) oneBackup(ctx context.Context, where string, args ...any) (Backup, error) {
	bs, err := s.backups(ctx, where, args...)
	if err == nil && len(bs) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Backup{}, err
	}
	return bs[0], nil
}

// Backup returns one bundle's record, also of one that is gone.
func (s *Store) Backup(ctx context.Context, id int64) (Backup, error) {
	return s.oneBackup(ctx, `WHERE b.id = $1`, id)
}

// BackupOf returns the bundle that a change took of one of its devices before a hop.
func (s *Store) BackupOf(ctx context.Context, changeID, deviceID int64, hop int) (Backup, error) {
	return s.oneBackup(ctx, `WHERE b.change_id = $1 AND b.device_id = $2 AND b.hop = $3 ORDER BY b.id DESC LIMIT 1`, changeID, deviceID, hop)
}

// BackupsOf lists the bundles that a change took of one of its devices, oldest first.
func (s *Store) BackupsOf(ctx context.Context, changeID, deviceID int64) ([]Backup, error) {
	return s.backups(ctx, `WHERE b.change_id = $1 AND b.device_id = $2 ORDER BY b.id`, changeID, deviceID)
}

// LatestBackups returns the newest bundle with a configuration of every device.
func (s *Store) LatestBackups(ctx context.Context) ([]Backup, error) {
	return s.backups(ctx, `WHERE b.id IN (SELECT max(id) FROM backups WHERE gone_at IS NULL AND file <> '' GROUP BY device_id) ORDER BY d.name`)
}

// States lists the distinct states of a device's main configuration, newest first: for each run of equal sums the first
// bundle that showed it, and how many showed it.
func (s *Store) States(ctx context.Context, deviceID int64, limit int) ([]Backup, []int, []time.Time, error) {
	rows, err := s.db.Query(ctx, `WITH runs AS (
			SELECT id, sha256, taken_at, lag(sha256) OVER (ORDER BY id) IS DISTINCT FROM sha256 AS starts FROM backups WHERE device_id = $1
				AND gone_at IS NULL AND file <> ''
		), numbered AS (SELECT id, taken_at, sum(starts::int) OVER (ORDER BY id) AS run FROM runs)
		SELECT min(id), count(*), max(taken_at) FROM numbered GROUP BY run ORDER BY min(id) DESC LIMIT $2`, deviceID, limit)
	if err != nil {
		return nil, nil, nil, err
	}
	var ids []int64
	var counts []int
	var last []time.Time
	var id int64
	var n int
	var at time.Time
	if _, err := pgx.ForEachRow(rows, []any{&id, &n, &at}, func() error { ids, counts, last = append(ids, id), append(counts, n), append(last, at); return nil }); err != nil {
		return nil, nil, nil, err
	}
	bs, err := s.backups(ctx, `WHERE b.id = ANY($1) ORDER BY b.id DESC`, ids)
	return bs, counts, last, err
}

// Unadopted lists records of the first versions, whose content is still to be taken over into the backup store.
func (s *Store) Unadopted(ctx context.Context) ([]Backup, error) {
	return s.backups(ctx, `WHERE b.manifest = '' AND b.gone_at IS NULL ORDER BY b.id`)
}

// AdoptBackup gives a record of the first versions its manifest.
func (s *Store) AdoptBackup(ctx context.Context, id int64, manifest string) error {
	_, err := s.db.Exec(ctx, `UPDATE backups SET manifest = $2 WHERE id = $1 AND manifest = ''`, id, manifest)
	return err
}

// Manifests returns the sums of the manifests of all records: those that are kept, and those that were let go.
func (s *Store) Manifests(ctx context.Context) (kept map[string]int64, gone map[string]bool, err error) {
	rows, err := s.db.Query(ctx, `SELECT id, manifest, gone_at IS NOT NULL FROM backups WHERE manifest <> ''`)
	if err != nil {
		return nil, nil, err
	}
	kept, gone = map[string]int64{}, map[string]bool{}
	var id int64
	var sum string
	var went bool
	_, err = pgx.ForEachRow(rows, []any{&id, &sum, &went}, func() error {
		if went {
			gone[sum] = true
		} else {
			kept[sum] = id
		}
		return nil
	})
	return kept, gone, err
}

// HoldBackup keeps a bundle whatever retention says; an empty reason lets it go its way again.
func (s *Store) HoldBackup(ctx context.Context, id int64, why, by string) error {
	tag, err := s.db.Exec(ctx, `UPDATE backups SET held = $2, held_by = CASE WHEN $2 = '' THEN '' ELSE $3 END WHERE id = $1 AND gone_at IS NULL`, id, why, by)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}

// wholeBackup is the condition under which a bundle counts as good: it is complete, and was proved whole since damage in it was last found.
const wholeBackup = `(b.complete AND (b.damaged_at IS NULL OR coalesce(b.proved_at > b.damaged_at, false)))`

// BackupsChecked records what a check of the whole store found: which of the bundles that were looked at are damaged. The others are proved.
func (s *Store) BackupsChecked(ctx context.Context, looked, damaged []int64) error {
	_, err := s.db.Exec(ctx, `UPDATE backups SET damaged_at = CASE WHEN id = ANY($2) THEN now() ELSE damaged_at END, proved_at = CASE WHEN id = ANY($2) THEN proved_at ELSE now() END WHERE id = ANY($1)`, looked, damaged)
	return err
}

// A Retained is what retention has to know of a bundle.
type Retained struct {
	ID       int64
	TakenAt  time.Time
	Complete bool
	Change   int64
	Held     string
}

// Retained lists the bundles of a device that are kept. A change points to the bundles it took and to the one it restores.
func (s *Store) Retained(ctx context.Context, deviceID int64) ([]Retained, error) {
	rows, err := s.db.Query(ctx, `SELECT b.id, b.taken_at, `+wholeBackup+` AS complete, coalesce(b.change_id, (SELECT min(c.id) FROM changes c
		WHERE c.kind = 'restore' AND (c.work->>'backup')::bigint = b.id), 0) AS change, b.held
		FROM backups b WHERE b.device_id = $1 AND b.gone_at IS NULL`, deviceID)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Retained])
}

// LetGo marks bundles as gone, unless one was put on hold in the meantime.
func (s *Store) LetGo(ctx context.Context, id int64, why string) error {
	_, err := s.db.Exec(ctx, `UPDATE backups SET gone_at = now(), gone_why = $2 WHERE id = $1 AND gone_at IS NULL AND held = ''`, id, why)
	return err
}

// A BackupSchedule says when bundles are taken by themselves and how long they are kept.
type BackupSchedule struct {
	ID        int64
	DeviceID  *int64
	Device    string
	Group     string // "" without a device: every device that has no other
	Cron      string // "": none by schedule
	Spread    int64  // seconds
	KeepDays  int
	KeepCount int
	ChangedBy string
	ChangedAt time.Time
}

const scheduleColumns = `s.id, s.device_id, coalesce(d.name, '') AS device, s.group_name AS "group", s.cron, s.spread, s.keep_days, s.keep_count, s.changed_by, s.changed_at FROM backup_schedules s LEFT JOIN devices d ON d.id = s.device_id`

// BackupSchedules lists all.
func (s *Store) BackupSchedules(ctx context.Context) ([]BackupSchedule, error) {
	rows, err := s.db.Query(ctx, `SELECT `+scheduleColumns+` ORDER BY d.name NULLS FIRST, s.group_name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[BackupSchedule])
}

// ScheduleOf picks the schedule of a device from all: its own, else that of the first of its groups that has one, else
// that of every device.
func ScheduleOf(all []BackupSchedule, d *Device) *BackupSchedule {
	var every *BackupSchedule
	for i := range all {
		if all[i].DeviceID != nil && *all[i].DeviceID == d.ID {
			return &all[i]
		}
		if all[i].DeviceID == nil && all[i].Group == "" {
			every = &all[i]
		}
	}
	for _, g := range d.Groups {
		for i := range all {
			if all[i].DeviceID == nil && all[i].Group == g {
				return &all[i]
			}
		}
	}
	return every
}

// PutBackupSchedule writes the schedule of a device, a group or every device, and has all next times worked out anew.
func (s *Store) PutBackupSchedule(ctx context.Context, b BackupSchedule) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `DELETE FROM backup_schedules WHERE device_id IS NOT DISTINCT FROM $1 AND group_name = $2`, b.DeviceID, b.Group); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO backup_schedules (device_id, group_name, cron, spread, keep_days, keep_count, changed_by)
			VALUES ($1, $2, $3, $4, $5, $6, $7)`,
			b.DeviceID, b.Group, b.Cron, b.Spread, b.KeepDays, b.KeepCount, b.ChangedBy); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `UPDATE devices SET next_backup_at = NULL`)
		return err
	})
}

// RemoveBackupSchedule deletes the schedule of a device or group; that of every device stays.
func (s *Store) RemoveBackupSchedule(ctx context.Context, id int64) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM backup_schedules WHERE id = $1 AND (device_id IS NOT NULL OR group_name <> '')`, id)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if err == nil {
			_, err = tx.Exec(ctx, `UPDATE devices SET next_backup_at = NULL`)
		}
		return err
	})
}

// A DueDevice is one whose next backup by schedule has come, or has to be worked out.
type DueDevice struct {
	Device
	Next *time.Time `db:"next_backup_at"`
}

// DueDevices lists devices whose next backup is due at a moment, or not worked out yet, or later than a bound (a clock
// that was ahead may have put it there).
func (s *Store) DueDevices(ctx context.Context, now, bound time.Time) ([]DueDevice, error) {
	rows, err := s.db.Query(ctx, `SELECT d.next_backup_at, `+deviceColumns+`
		WHERE d.next_backup_at IS NULL OR d.next_backup_at <= $1 OR d.next_backup_at > $2`, now, bound)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[DueDevice])
}

// SetNextBackup moves a device's next backup from one moment to another, and calls then in the same transaction; false
// when another process was quicker.
func (s *Store) SetNextBackup(ctx context.Context, deviceID int64, from, to *time.Time, then func(pgx.Tx) error) (ok bool, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE devices SET next_backup_at = $3 WHERE id = $1 AND next_backup_at IS NOT DISTINCT FROM $2`, deviceID, from, to)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		ok = true
		if then != nil {
			return then(tx)
		}
		return nil
	})
	return ok && err == nil, err
}

// Outcomes of attempts to take a bundle.
const (
	AttemptRunning    = "running"
	AttemptComplete   = "complete"
	AttemptIncomplete = "incomplete"
	AttemptFailed     = "failed"
	AttemptMissed     = "missed"
)

// An Attempt is one try to take a bundle of a device.
type Attempt struct {
	ID       int64
	DeviceID int64
	Device   string
	Reason   string
	BeganAt  time.Time
	EndedAt  *time.Time
	Outcome  string
	Detail   string
	BackupID *int64
}

// BeginAttempt records that a bundle is being taken.
func (s *Store) BeginAttempt(ctx context.Context, deviceID int64, reason string) (id int64, err error) {
	err = s.db.QueryRow(ctx, `INSERT INTO backup_attempts (device_id, reason, outcome) VALUES ($1, $2, $3)
		RETURNING id`, deviceID, reason, AttemptRunning).Scan(&id)
	return id, err
}

// EndAttempt records what came of it.
func (s *Store) EndAttempt(ctx context.Context, id int64, outcome, detail string, backup *int64) error {
	_, err := s.db.Exec(ctx, `UPDATE backup_attempts SET ended_at = now(), outcome = $2, detail = $3, backup_id = $4 WHERE id = $1`, id, outcome, detail, backup)
	return err
}

// NoteAttempt records an attempt that never began, or that ended with the process that made it.
func (s *Store) NoteAttempt(ctx context.Context, deviceID int64, reason, outcome, detail string) error {
	_, err := s.db.Exec(ctx, `INSERT INTO backup_attempts (device_id, reason, ended_at, outcome, detail)
		VALUES ($1, $2, now(), $3, $4)`, deviceID, reason, outcome, detail)
	return err
}

// LostAttempts closes attempts that are older than a span and still running, as failed: their process is gone.
func (s *Store) LostAttempts(ctx context.Context, older time.Duration) error {
	_, err := s.db.Exec(ctx, `UPDATE backup_attempts SET ended_at = now(), outcome = $1, detail = 'the service ended in the middle' WHERE outcome = $2 AND began_at < now() - $3::interval`, AttemptFailed, AttemptRunning, older)
	return err
}

// Attempts lists attempts of a device, newest first.
func (s *Store) Attempts(ctx context.Context, deviceID int64, limit int) ([]Attempt, error) {
	rows, err := s.db.Query(ctx, `SELECT a.id, a.device_id, d.name AS device, a.reason, a.began_at, a.ended_at, a.outcome, a.detail, a.backup_id
		FROM backup_attempts a JOIN devices d ON d.id = a.device_id
		WHERE a.device_id = $1 ORDER BY a.id DESC LIMIT $2`, deviceID, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Attempt])
}

// Health is how a device's backups are.
type Health struct {
	DeviceID   int64
	Device     string
	Site       string
	Groups     []string
	LastGood   *time.Time // when the newest complete bundle was taken
	LastGoodID *int64
	Last       *Attempt // the newest attempt
	Failures   int      // attempts in a row that gave no complete bundle
	Next       *time.Time
	Bundles    int
	Bytes      int64
}

// Health looks at the backups of all devices that have a text in name, site or groups ("": all), by name.
func (s *Store) Health(ctx context.Context, find string) ([]Health, error) {
	rows, err := s.db.Query(ctx, `SELECT d.id, d.name, d.site, d.groups, d.next_backup_at, g.id, g.taken_at, coalesce(n.count, 0), coalesce(n.bytes, 0),
			a.id, a.reason, a.began_at, a.ended_at, a.outcome, a.detail, a.backup_id,
			(SELECT count(*) FROM backup_attempts f WHERE f.device_id = d.id AND f.outcome IN ('failed', 'missed', 'incomplete')
				AND f.id > coalesce((SELECT max(id) FROM backup_attempts WHERE device_id = d.id AND outcome = 'complete'), 0))
		FROM devices d
		LEFT JOIN LATERAL (SELECT id, taken_at FROM backups WHERE device_id = d.id AND complete AND gone_at IS NULL
			AND reason <> 'import' ORDER BY id DESC LIMIT 1) g ON true
		LEFT JOIN LATERAL (SELECT count(*) AS count, sum(size) AS bytes FROM backups WHERE device_id = d.id AND gone_at IS NULL) n ON true
		LEFT JOIN LATERAL (SELECT * FROM backup_attempts WHERE device_id = d.id ORDER BY id DESC LIMIT 1) a ON true
		WHERE $1 = '' OR concat_ws(' ', d.name, d.site, array_to_string(d.groups, ' ')) ILIKE $2 ORDER BY d.name`, find, like(find))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (h Health, err error) {
		var a struct {
			id              *int64
			reason, outcome *string
			detail          *string
			began, ended    *time.Time
			backup          *int64
		}
		err = r.Scan(&h.DeviceID, &h.Device, &h.Site, &h.Groups, &h.Next, &h.LastGoodID, &h.LastGood, &h.Bundles, &h.Bytes, &a.id, &a.reason, &a.began, &a.ended, &a.outcome, &a.detail, &a.backup, &h.Failures)
		if err == nil && a.id != nil {
			h.Last = &Attempt{*a.id, h.DeviceID, h.Device, *a.reason, *a.began, a.ended, *a.outcome, *a.detail, a.backup}
		}
		return h, err
	})
}

// CountBackupHealth counts devices by the outcome of their newest attempt, for metrics; "never" has none.
func (s *Store) CountBackupHealth(ctx context.Context) (map[string]int64, error) {
	return s.counts(ctx, `SELECT coalesce((SELECT outcome FROM backup_attempts a WHERE a.device_id = d.id
		ORDER BY a.id DESC LIMIT 1), 'never') AS o, count(*) FROM devices d GROUP BY o`)
}

// CountBackupAttempts counts attempts by outcome, for metrics.
func (s *Store) CountBackupAttempts(ctx context.Context) (map[string]int64, error) {
	return s.counts(ctx, `SELECT outcome, count(*) FROM backup_attempts GROUP BY outcome`)
}

// LastGoodBackup is when the last complete backup of a device was taken.
func (s *Store) LastGoodBackup(ctx context.Context, deviceID int64) (at time.Time, err error) {
	err = one(s.db.QueryRow(ctx, `SELECT taken_at FROM backups b WHERE device_id = $1 AND `+wholeBackup+` AND gone_at IS NULL
		ORDER BY taken_at DESC LIMIT 1`, deviceID).Scan(&at))
	return at, err
}
