package engine

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"

	"verimorph/access"
	"verimorph/backupstore"
	"verimorph/core/backup"
	"verimorph/core/ready"
	"verimorph/store"
)

// Backups by schedule, and which of them are kept.

// BackupsTaken counts attempts to take a bundle by outcome.
var BackupsTaken = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "verimorph_backup_attempts_total", Help: "Attempts to take a backup by outcome."}, []string{"outcome"})

// backupJob is the River job: take a bundle of a device by schedule.
type backupJob struct {
	DeviceID int64     `json:"device_id"`
	Due      time.Time `json:"due"`
}

// Kind implements river.JobArgs.
func (backupJob) Kind() string { return "backup" }

// InsertOpts implements river.JobArgsWithInsertOpts: two tries, since a device that did not answer may a minute later;
// a queue of their own, so that a night's backups never wait for changes nor changes for them.
func (backupJob) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 2, Queue: backupQueue}
}

type backupWorker struct {
	river.WorkerDefaults[backupJob]
	e *Engine
}

// Timeout implements river.Worker.
func (w *backupWorker) Timeout(*river.Job[backupJob]) time.Duration { return askLimit + time.Minute }

// NextRetry implements river.Worker.
func (w *backupWorker) NextRetry(*river.Job[backupJob]) time.Time { return w.e.now().Add(time.Minute) }

// Work implements river.Worker. A device that a change works on is left alone: the change takes backups itself.
func (w *backupWorker) Work(ctx context.Context, job *river.Job[backupJob]) error {
	d, err := w.e.Store.DeviceByID(ctx, job.Args.DeviceID)
	if err != nil {
		return err
	}
	if d.Open != nil {
		w.e.Log.Info("no backup by schedule: a change is under way", "device", d.Name, "change", d.Open.ID)
		return nil
	}
	if under := Follows(&d); under != "" {
		w.e.Log.Info("no backup by schedule: it has its configuration from whom it follows", "device", d.Name, "follows", under)
		return nil
	}
	_, err = w.e.Backup(ctx, d, backup.OnSchedule, access.Service("the schedule"))
	return err
}

// lateBy is how long after its time an occurrence counts as missed: nobody was there to take it.
const lateBy = 30 * time.Minute

// schedule hands out what is due. An occurrence that nobody was there for is recorded as missed, and made up for now.
func (e *Engine) schedule(ctx context.Context, now time.Time) error {
	due, err := e.Store.DueDevices(ctx, now, now.AddDate(0, 0, 400))
	if err != nil || len(due) == 0 {
		return err
	}
	schedules, err := e.Store.BackupSchedules(ctx)
	if err != nil {
		return err
	}
	for _, d := range due {
		s := store.ScheduleOf(schedules, &d.Device)
		never := now.AddDate(1, 0, 0)
		next := &never
		var sched backup.Schedule
		if s != nil && s.Cron != "" {
			if sched, err = backup.ReadSchedule(s.Cron, time.Duration(s.Spread)*time.Second); err != nil {
				e.Log.Error("a schedule cannot be read", "schedule", s.ID, "err", err)
			} else {
				at := sched.Next(d.Device.Name, now)
				next = &at
			}
		}
		fresh := d.Next == nil || d.Next.After(now) || s == nil || s.Cron == ""
		missed := 0
		if !fresh && now.Sub(*d.Next) > lateBy {
			missed = sched.Missed(d.Device.Name, d.Next.Add(-time.Second), now.Add(-lateBy))
		}
		if _, err := e.Store.SetNextBackup(ctx, d.ID, d.Next, next, func(tx pgx.Tx) error {
			if fresh {
				return nil
			}
			_, err := e.river.InsertTx(ctx, tx, backupJob{d.ID, *d.Next}, nil)
			return err
		}); err != nil {
			return err
		}
		if missed > 0 {
			detail := fmt.Sprintf("nobody took it at %s; %d missed in all; it is made up for now", d.Next.In(e.Zone).Format(ready.Stamp), missed)
			if err := e.Store.NoteAttempt(ctx, d.ID, backup.OnSchedule, store.AttemptMissed, detail); err != nil {
				return err
			}
			BackupsTaken.WithLabelValues(store.AttemptMissed).Inc()
			e.notify(ctx, Notice{Event: "backup.missed", Device: d.Device.Name, Text: fmt.Sprintf("The backup of %s was missed: %s", d.Device.Name, detail)})
		}
	}
	return nil
}

// Prune lets bundles go that retention does not keep, and tidies the store.
func (e *Engine) Prune(ctx context.Context) (let int, err error) {
	schedules, err := e.Store.BackupSchedules(ctx)
	if err != nil {
		return 0, err
	}
	for d, err := range e.Store.AllDevices(ctx) {
		if err != nil {
			return let, err
		}
		s := store.ScheduleOf(schedules, &d)
		if s == nil {
			continue
		}
		kept, err := e.Store.Retained(ctx, d.ID)
		if err != nil {
			return let, err
		}
		var bundles []backup.Kept
		for _, k := range kept {
			bundles = append(bundles, backup.Kept(k))
		}
		for _, f := range (backup.Retention{Days: s.KeepDays, Count: s.KeepCount}).Fates(e.now(), bundles) {
			if !f.Go {
				continue
			}
			if err := e.Store.LetGo(ctx, f.ID, f.Why); err != nil {
				return let, err
			}
			let++
		}
	}
	return let, e.tidy(ctx, false)
}

// tidy joins volumes and leaves out what was let go. What the records do not know stays.
func (e *Engine) tidy(ctx context.Context, anew bool) error {
	_, gone, err := e.Store.Manifests(ctx)
	if err != nil {
		return err
	}
	_, err = e.Backups.Tidy(ctx, backupstore.Tidying{Gone: func(sum string) bool { return gone[sum] }, Anew: anew})
	return err
}
