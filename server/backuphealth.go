package server

import (
	"context"
	"strconv"
	"time"

	"verimorph/api/gen"
	"verimorph/core/backup"
	"verimorph/store"
)

// How the backups of devices are.

// lateAfter is how much older than its schedule's last occurrence the last good backup may be.
const lateAfter = 2 * time.Hour

// GetBackupHealth answers with how the backups of each device are.
func (s *Server) GetBackupHealth(ctx context.Context, r gen.GetBackupHealthRequestObject) (gen.GetBackupHealthResponseObject, error) {
	limit, after, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	hs, err := s.Store.Health(ctx, value(r.Params.Find))
	if err != nil {
		return nil, err
	}
	schedules, err := s.Store.BackupSchedules(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	out := gen.GetBackupHealth200JSONResponse{Items: []gen.BackupHealth{}, Total: len(hs)}
	var good []gen.BackupHealth
	for _, h := range hs {
		item := apiHealth(h, store.ScheduleOf(schedules, &store.Device{ID: h.DeviceID, Groups: h.Groups}), now)
		if item.Health == gen.BackupHealthHealthGood {
			good = append(good, item)
		} else {
			out.Items = append(out.Items, item)
		}
	}
	out.Bad = len(out.Items)
	all := append(out.Items, good...) // what needs a look comes first
	from := min(int(after), len(all))
	to := min(from+limit, len(all))
	if out.Items = all[from:to]; to < len(all) {
		out.Next = ptr(strconv.Itoa(to))
	}
	return out, nil
}

func apiHealth(h store.Health, sch *store.BackupSchedule, now time.Time) gen.BackupHealth {
	out := gen.BackupHealth{Device: h.Device, Site: h.Site, LastGood: h.LastGood, LastGoodId: h.LastGoodID, Failures: h.Failures, Bundles: h.Bundles, Bytes: h.Bytes, Health: gen.BackupHealthHealthGood}
	scheduled := sch != nil && sch.Cron != ""
	if scheduled {
		out.Next = h.Next
	}
	if h.Last != nil {
		out.Last = ptr(apiAttempt(*h.Last))
	}
	switch {
	case h.Last == nil && h.LastGood == nil:
		out.Health = gen.BackupHealthHealthNever
	case h.Last != nil && h.Last.Outcome == store.AttemptFailed:
		out.Health = gen.BackupHealthHealthFailed
	case h.Last != nil && h.Last.Outcome == store.AttemptMissed:
		out.Health = gen.BackupHealthHealthMissed
	case h.Last != nil && h.Last.Outcome == store.AttemptIncomplete || h.LastGood == nil:
		out.Health = gen.BackupHealthHealthIncomplete
	case scheduled:
		if rhythm, err := backup.ReadSchedule(sch.Cron, time.Duration(sch.Spread)*time.Second); err == nil {
			if due := rhythm.Next(h.Device, *h.LastGood); now.Sub(due) > lateAfter {
				out.Health = gen.BackupHealthHealthLate
			}
		}
	}
	return out
}

func apiAttempt(a store.Attempt) gen.BackupAttempt {
	return gen.BackupAttempt{Id: a.ID, Device: a.Device, Reason: a.Reason, BeganAt: a.BeganAt, EndedAt: a.EndedAt, Outcome: gen.BackupAttemptOutcome(a.Outcome), Detail: a.Detail, Backup: a.BackupID}
}

// ListBackupAttempts answers with the latest attempts of a device.
func (s *Server) ListBackupAttempts(ctx context.Context, r gen.ListBackupAttemptsRequestObject) (gen.ListBackupAttemptsResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	as, err := s.Store.Attempts(ctx, d.ID, 50)
	if err != nil {
		return nil, err
	}
	out := gen.ListBackupAttempts200JSONResponse{Items: []gen.BackupAttempt{}}
	for _, a := range as {
		out.Items = append(out.Items, apiAttempt(a))
	}
	return out, nil
}
