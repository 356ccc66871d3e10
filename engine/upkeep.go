package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/smtp"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"

	"verimorph/backupstore"
	"verimorph/core/backup"
	"verimorph/core/ready"
	"verimorph/store"
)

// BackupsTaken counts attempts to take a bundle by outcome.
var BackupsTaken = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "verimorph_backup_attempts_total", Help: "Attempts to take a backup by outcome."}, []string{"outcome"})

func checking(expect []string, deep bool) backupstore.Checking {
	return backupstore.Checking{Expect: expect, Deep: deep}
}

// backupJob is the River job: take a bundle of a device by schedule.
type backupJob struct {
	DeviceID int64     `json:"device_id"`
	Due      time.Time `json:"due"`
}

// Kind implements river.JobArgs.
func (backupJob) Kind() string { return "backup" }

const (
	backupQueue   = "backups"
	backupWorkers = 16
)

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
func (w *backupWorker) NextRetry(*river.Job[backupJob]) time.Time { return time.Now().Add(time.Minute) }

// Work implements river.Worker. A device that a change works on is left alone: the change takes backups itself.
func (w *backupWorker) Work(ctx context.Context, job *river.Job[backupJob]) error {
	d, err := w.e.Store.DeviceByID(ctx, job.Args.DeviceID)
	if err != nil {
		return err
	}
	if d.OpenChange != nil {
		w.e.Log.Info("no backup by schedule: a change is under way", "device", d.Name, "change", *d.OpenChange)
		return nil
	}
	_, err = w.e.Backup(ctx, d, backup.OnSchedule, "the schedule")
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
		if _, err := e.Store.SetNextBackup(ctx, d.Device.ID, d.Next, next, func(tx pgx.Tx) error {
			if fresh {
				return nil
			}
			_, err := e.river.InsertTx(ctx, tx, backupJob{d.Device.ID, *d.Next}, nil)
			return err
		}); err != nil {
			return err
		}
		if missed > 0 {
			detail := fmt.Sprintf("nobody took it at %s; %d missed in all; it is made up for now", d.Next.In(e.Zone).Format(ready.Stamp), missed)
			if err := e.Store.NoteAttempt(ctx, d.Device.ID, backup.OnSchedule, store.AttemptMissed, detail); err != nil {
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
	after := ""
	for {
		devices, err := e.Store.Devices(ctx, after, 500)
		if err != nil {
			return let, err
		}
		for _, d := range devices {
			after = d.Name
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
			for _, f := range (backup.Retention{Days: s.KeepDays, Count: s.KeepCount}).Fates(time.Now(), bundles) {
				if !f.Go {
					continue
				}
				if err := e.Store.LetGo(ctx, f.ID, f.Why); err != nil {
					return let, err
				}
				let++
			}
		}
		if len(devices) < 500 {
			break
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

// RotateKey makes a new key of the installation, wraps the data keys with it, encrypts every backup anew and then forgets
// the old key. It may be cut short anywhere: the next start goes on.
func (e *Engine) RotateKey(ctx context.Context, by string) error {
	if err := e.Vault.RotateKey(ctx); err != nil {
		return err
	}
	if err := e.Store.Audit(ctx, by, "installation key rotated", "", ""); err != nil {
		return err
	}
	return e.finishRotation(ctx)
}

// An OldKeyNeededError says that a new key is in use, but the older one has to stay in the key file for now.
type OldKeyNeededError struct{ Volumes []string }

func (e *OldKeyNeededError) Error() string {
	return fmt.Sprintf("the new key is in use, but the older one stays in the key file: %d volumes of the backup store still need it (the first: %s). It is tried again every hour; when that does not help, look with: verimorph backup check", len(e.Volumes), e.Volumes[0])
}

// rewrites is how often volumes are rewritten when something else is at work on them, and rewritePause the time between.
const (
	rewrites     = 30
	rewritePause = time.Second
)

// finishRotation takes older keys out of the key file once nothing needs them any more, which is looked at and not
// assumed: every volume of the store opens with the new key alone.
func (e *Engine) finishRotation(ctx context.Context) error {
	if err := e.Vault.FinishRotation(ctx); err != nil {
		return err
	}
	if err := e.Reseal(ctx); err != nil { // what the first versions sealed was sealed with the old key
		return err
	}
	for try := 1; ; try++ {
		if err := e.tidy(ctx, true); err != nil {
			return err
		}
		identities, err := e.Vault.Identities()
		if err != nil {
			return err
		}
		need, err := e.Backups.NotFor(identities[:1])
		if err != nil {
			return err
		}
		if len(need) == 0 {
			return e.Vault.DropOlder(ctx)
		}
		if try == rewrites {
			return &OldKeyNeededError{need}
		}
		if err := pause(ctx, rewritePause); err != nil {
			return err
		}
	}
}

// RotateDataKey makes a new data key and seals every secret of the records with it.
func (e *Engine) RotateDataKey(ctx context.Context, by string) error {
	if err := e.Vault.RotateDataKey(ctx); err != nil {
		return err
	}
	if err := e.Store.Audit(ctx, by, "data key rotated", "", ""); err != nil {
		return err
	}
	return e.Reseal(ctx)
}

// dataKeyAge is when a data key is replaced by itself.
const dataKeyAge = 90 * 24 * time.Hour

// upkeep is what has to be done every now and then: schedules every few seconds, tidying every hour, a check every day.
func (e *Engine) upkeep(ctx context.Context) {
	warn := func(what string, err error) {
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("cannot "+what, "err", err)
		}
	}
	warn("finish what was begun", e.catchUp(ctx))
	seldom, proved := time.Now(), time.Now()
	for {
		warn("hand out backups", e.schedule(ctx, time.Now()))
		if time.Since(seldom) > time.Hour {
			seldom = time.Now()
			_, err := e.Prune(ctx)
			warn("tidy the backup store", err)
			warn("finish what was begun", e.catchUp(ctx))
			if st, err := e.Vault.State(ctx); err == nil && time.Since(st.DataKeyAt) > dataKeyAge {
				warn("rotate the data key", e.RotateDataKey(ctx, "the service"))
			}
		}
		if time.Since(proved) > 24*time.Hour { // damage is found before somebody needs what it hit
			proved = time.Now()
			_, err := e.CheckBackups(ctx, false)
			warn("check the backup store", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
	}
}

// catchUp finishes what an earlier process was cut short in.
func (e *Engine) catchUp(ctx context.Context) error {
	if err := e.Store.LostAttempts(ctx, 10*time.Minute); err != nil {
		return err
	}
	st, err := e.Vault.State(ctx)
	if err != nil {
		return err
	}
	if len(st.Older) > 0 {
		return e.finishRotation(ctx)
	}
	if err := e.tidy(ctx, true); err != nil { // an offline recipient may have come or gone
		return err
	}
	return e.Reseal(ctx)
}

// A Notice is something that whoever is on duty should hear of.
type Notice struct {
	Event  string    `json:"event"` // backup.failed, backup.incomplete, backup.missed, backup.damage, test
	Device string    `json:"device,omitempty"`
	Text   string    `json:"text"`
	At     time.Time `json:"at"`
}

// Notify says where notices go. Sealed holds the password for mail.
type Notify struct {
	Webhook  string   `json:"webhook"`  // URL; "": none
	SMTP     string   `json:"smtp"`     // host:port; "": none
	SMTPUser string   `json:"smtpUser"` // "": without sign-in
	From     string   `json:"from"`
	To       []string `json:"to"`
	Sealed   []byte   `json:"sealed"`
}

// NotifySetting is the name of the setting, which is also in the label of its sealed password.
const NotifySetting = "notifications"

// NotifyLabel binds the sealed password to its place.
func NotifyLabel() string { return "setting " + NotifySetting }

// noticeJob is the River job: deliver a notice to one place. River tries again, with growing pauses.
type noticeJob struct {
	Notice Notice `json:"notice"`
	By     string `json:"by"` // webhook or mail
}

// Kind implements river.JobArgs.
func (noticeJob) Kind() string { return "notice" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (noticeJob) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 12, Queue: noticeQueue}
}

const noticeQueue = "notices"

type noticeWorker struct {
	river.WorkerDefaults[noticeJob]
	e *Engine
}

// Work implements river.Worker.
func (w *noticeWorker) Work(ctx context.Context, job *river.Job[noticeJob]) error {
	var n Notify
	if ok, err := w.e.Store.Setting(ctx, NotifySetting, &n); !ok || err != nil {
		return err
	}
	return w.e.deliver(ctx, n, job.Args)
}

// notify hands a notice to every place that is set up. It never fails what it tells about.
func (e *Engine) notify(ctx context.Context, n Notice) {
	n.At = time.Now().UTC()
	var set Notify
	ok, err := e.Store.Setting(ctx, NotifySetting, &set)
	if err != nil || !ok {
		return
	}
	for by, where := range map[string]string{"webhook": set.Webhook, "mail": set.SMTP} {
		if where == "" {
			continue
		}
		if _, err := e.river.Insert(ctx, noticeJob{n, by}, nil); err != nil {
			e.Log.Error("a notice cannot be handed out", "by", by, "err", err)
		}
	}
}

// Deliver sends a notice now to every place that is set up, and says what went wrong.
func (e *Engine) Deliver(ctx context.Context, n Notice) error {
	var set Notify
	ok, err := e.Store.Setting(ctx, NotifySetting, &set)
	if err != nil {
		return err
	}
	if !ok || set.Webhook == "" && set.SMTP == "" {
		return fmt.Errorf("no webhook and no mail server is set")
	}
	n.At = time.Now().UTC()
	for by, where := range map[string]string{"webhook": set.Webhook, "mail": set.SMTP} {
		if where != "" {
			if err := e.deliver(ctx, set, noticeJob{n, by}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *Engine) deliver(ctx context.Context, set Notify, j noticeJob) error {
	if j.By == "mail" {
		return e.mail(set, j.Notice)
	}
	data, err := json.Marshal(j.Notice)
	if err != nil || set.Webhook == "" {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(limited, http.MethodPost, set.Webhook, bytes.NewReader(data))
	if err != nil {
		return fmt.Errorf("the webhook's address cannot be used")
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("the webhook does not answer")
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return fmt.Errorf("the webhook answers %s", resp.Status)
	}
	return nil
}

// mail sends a notice over SMTP (RFC 5321), with STARTTLS where the server has it; a password goes over no open line but
// to this very machine.
func (e *Engine) mail(set Notify, n Notice) error {
	host, _, err := net.SplitHostPort(set.SMTP)
	if err != nil || len(set.To) == 0 {
		return err
	}
	var auth smtp.Auth
	if set.SMTPUser != "" {
		password, err := e.Vault.Open(NotifyLabel(), set.Sealed)
		if err != nil {
			return err
		}
		auth = smtp.PlainAuth("", set.SMTPUser, string(password), host)
	}
	subject := strings.NewReplacer("\r", " ", "\n", " ").Replace(fmt.Sprintf("Verimorph: %s %s", n.Event, n.Device))
	msg := fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n%s\r\n",
		set.From, strings.Join(set.To, ", "), subject, n.At.Format(time.RFC1123Z), strings.ReplaceAll(n.Text, "\n", "\r\n"))
	if err := smtp.SendMail(set.SMTP, auth, set.From, set.To, []byte(msg)); err != nil {
		return fmt.Errorf("the mail server %s does not take it: %w", set.SMTP, err)
	}
	return nil
}
