package engine

import (
	"context"
	"os"
	"strconv"
	"time"

	"verimorph/store"
	"verimorph/syslog"
)

// Forwarding: every line of the audit, alarms among them, goes to a collector of syslog messages. What could not be sent is sent later:
// nothing is left out, and after trouble a line may come twice.

// sentSetting is how far the audit was forwarded.
const sentSetting = "syslog sent"

// How often new lines are looked for, how many go at once, and how long a collector that does not answer is left alone.
const (
	forwardEvery = 2 * time.Second
	forwardBatch = 200
	forwardRests = 15 * time.Second
	forwardTakes = time.Minute
)

// forward forwards the audit until ctx ends.
func (e *Engine) forward(ctx context.Context) {
	if e.Collector == nil {
		<-ctx.Done()
		return
	}
	defer e.Collector.Close()
	for troubled := false; ctx.Err() == nil; {
		more, err := e.forwardSome(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			if !troubled {
				e.Log.Warn("the audit cannot be forwarded; it is tried again", "err", err)
			}
			troubled = true
			_ = pause(ctx, forwardRests)
		case more:
		default:
			troubled = false
			_ = pause(ctx, forwardEvery)
		}
	}
}

// forwardSome sends the next lines and notes how far that went. Of several processes one does it at a time. more says that there may be others.
func (e *Engine) forwardSome(ctx context.Context) (more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, forwardTakes) // a slow collector does not keep a transaction open for long
	defer cancel()
	deadline, _ := ctx.Deadline()
	var failed error // that of the collector: how far it went before is noted all the same
	err = e.Store.Alone(ctx, "forward the audit", func(tx *store.Store) error {
		var sent int64
		known, err := tx.Setting(ctx, sentSetting, &sent)
		if err != nil {
			return err
		}
		if !known { // what was before somebody wanted it is not forwarded
			if sent, err = tx.LastAudit(ctx); err != nil {
				return err
			}
			return tx.PutSetting(ctx, sentSetting, sent)
		}
		lines, err := tx.AuditAfter(ctx, sent, forwardBatch)
		if err != nil || len(lines) == 0 {
			return err
		}
		more = len(lines) == forwardBatch
		for _, l := range lines {
			if time.Until(deadline) < forwardTakes/2 { // there must be time to note how far it went
				more = true
				break
			}
			if failed = e.Collector.Send(ctx, e.auditMessage(&l)); failed != nil {
				break
			}
			sent = l.ID
		}
		return tx.PutSetting(ctx, sentSetting, sent)
	})
	if err == nil {
		err = failed
	}
	return more && err == nil, err
}

// auditMessage is a line of the audit as a message: alarms are warnings.
func (e *Engine) auditMessage(l *store.AuditLine) *syslog.Message {
	host, _ := os.Hostname()
	m := &syslog.Message{Facility: syslog.Audit, Severity: syslog.Notice, At: l.At, Host: host, App: "verimorphd", Process: strconv.Itoa(os.Getpid()), ID: "audit",
		Text: l.Who + ": " + l.Event}
	if l.Event == alarmRaised {
		m.Severity, m.ID = syslog.Warning, "alarm"
	}
	if l.Device != "" {
		m.Text += ", " + l.Device
	}
	if l.Detail != "" {
		m.Text += ", " + l.Detail
	}
	return m
}

// alarmRaised is the event of the audit for a notice.
const alarmRaised = "alarm"
