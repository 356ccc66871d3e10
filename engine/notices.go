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
	"verimorph/access"

	"github.com/riverqueue/river"
)

// Notices: what somebody wants to hear of, by webhook and mail.

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
	n.At = e.now().UTC()
	if err := e.Store.Audit(ctx, access.Service("the service"), alarmRaised, n.Device, n.Event+": "+n.Text); err != nil {
		e.Log.Error("an alarm cannot be recorded", "event", n.Event, "device", n.Device, "err", err)
	}
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
	n.At = e.now().UTC()
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
