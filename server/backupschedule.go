package server

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"verimorph/api/gen"
	"verimorph/core/backup"
	"verimorph/store"
)

// When backups are taken, how long they are kept, and the check of the store.

// PruneBackups lets go what retention does not keep.
func (s *Server) PruneBackups(ctx context.Context, _ gen.PruneBackupsRequestObject) (gen.PruneBackupsResponseObject, error) {
	n, err := s.Engine.Prune(ctx)
	return gen.PruneBackups200JSONResponse{Let: n}, err
}

// CheckBackups proves the whole store.
func (s *Server) CheckBackups(ctx context.Context, r gen.CheckBackupsRequestObject) (gen.CheckBackupsResponseObject, error) {
	c, err := s.Engine.CheckBackups(ctx, value(r.Body.Deep))
	if err != nil {
		return nil, err
	}
	out := gen.CheckBackups200JSONResponse{Volumes: c.Volumes, Bundles: c.Bundles, Objects: c.Objects, Stored: c.Stored, Content: c.Content, Seconds: c.Took.Seconds(), Damages: []gen.BackupDamage{}}
	for _, d := range c.Damages {
		ad := gen.BackupDamage{Volume: d.Volume, What: d.What, Backups: []gen.Backup{}}
		for _, b := range d.Backups {
			ad.Backups = append(ad.Backups, apiBackup(b))
		}
		out.Damages = append(out.Damages, ad)
	}
	return out, nil
}

// ListBackupSchedules answers with all schedules.
func (s *Server) ListBackupSchedules(ctx context.Context, _ gen.ListBackupSchedulesRequestObject) (gen.ListBackupSchedulesResponseObject, error) {
	all, err := s.Store.BackupSchedules(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.ListBackupSchedules200JSONResponse{Items: []gen.BackupSchedule{}}
	for _, b := range all {
		out.Items = append(out.Items, apiSchedule(b))
	}
	return out, nil
}

func apiSchedule(b store.BackupSchedule) gen.BackupSchedule {
	out := gen.BackupSchedule{Id: &b.ID, When: b.Cron, SpreadMinutes: int(b.Spread / 60), KeepDays: b.KeepDays, KeepCount: b.KeepCount, ChangedBy: &b.ChangedBy, ChangedAt: &b.ChangedAt}
	if b.Device != "" {
		out.Device = &b.Device
	}
	if b.Group != "" {
		out.Group = &b.Group
	}
	return out
}

// PutBackupSchedule writes a schedule.
func (s *Server) PutBackupSchedule(ctx context.Context, r gen.PutBackupScheduleRequestObject) (gen.PutBackupScheduleResponseObject, error) {
	q := r.Body
	b := store.BackupSchedule{Group: value(q.Group), Cron: strings.TrimSpace(q.When), Spread: int64(q.SpreadMinutes) * 60, KeepDays: q.KeepDays, KeepCount: q.KeepCount, ChangedBy: user(ctx)}
	switch {
	case value(q.Device) != "" && b.Group != "":
		return nil, badRequest("a schedule is for a device or a group, not both")
	case q.KeepDays < 0 || q.KeepDays > 36500 || q.KeepCount < 0 || q.KeepCount > 100000:
		return nil, badRequest("keepDays is from 0 to 36500, keepCount from 0 to 100000")
	case q.SpreadMinutes < 0 || q.SpreadMinutes > 1440:
		return nil, badRequest("spreadMinutes is from 0 to 1440")
	}
	if b.Cron != "" {
		if _, err := backup.ReadSchedule(b.Cron, time.Duration(b.Spread)*time.Second); err != nil {
			return nil, badRequest("%s", err)
		}
	}
	if value(q.Device) != "" {
		d, err := s.Planner.Device(ctx, *q.Device)
		if err != nil {
			return nil, err
		}
		b.DeviceID = &d.ID
	}
	if err := s.audited(ctx, "backup schedule set", b.Device, fmt.Sprintf("%s, kept %d days and %d bundles", cmp.Or(b.Cron, "never"), b.KeepDays, b.KeepCount), func(tx *store.Store) error { return tx.PutBackupSchedule(ctx, b) }); err != nil {
		return nil, err
	}
	all, err := s.Store.BackupSchedules(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(x store.BackupSchedule) bool {
		return x.Group == b.Group && (x.DeviceID == nil) == (b.DeviceID == nil) && (b.DeviceID == nil || *x.DeviceID == *b.DeviceID)
	})
	if i < 0 {
		return nil, conflict("somebody else changed the schedule at the same time; look again")
	}
	return gen.PutBackupSchedule200JSONResponse(apiSchedule(all[i])), nil
}

// DeleteBackupSchedule deletes the schedule of a device or group.
func (s *Server) DeleteBackupSchedule(ctx context.Context, r gen.DeleteBackupScheduleRequestObject) (gen.DeleteBackupScheduleResponseObject, error) {
	err := s.audited(ctx, "backup schedule deleted", "", fmt.Sprintf("schedule %d", r.Id), func(tx *store.Store) error { return tx.RemoveBackupSchedule(ctx, r.Id) })
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no schedule %d of a device or group; that of every device stays, give it an empty when to end it", r.Id)
	}
	return gen.DeleteBackupSchedule204Response{}, err
}
