package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/access"
	"verimorph/core/change"
)

// What people do with changes: one function, one gate.

// Act carries out an act of somebody on a change, if the gate lets it pass ([access.Decide]): it moves the state, does what the act says
// with the records, writes the audit, and calls then in the same transaction. text is what the actor says with it: a reason, what was seen. What
// the gate refuses is an *access.Refusal; a device that is taken is a *BusyError.
func (s *Store) Act(ctx context.Context, id int64, a change.Action, by access.Actor, text string, then func(pgx.Tx, change.State) error) error {
	var c Change
	err := s.tx(ctx, func(tx pgx.Tx) (err error) {
		var to change.State
		if c, to, err = s.admitted(ctx, tx, id, a, by, text); err != nil {
			return err
		}
		// Going before the approved time changes what was approved: the time, and the window that was given for it.
		if _, err := tx.Exec(ctx, `UPDATE changes SET state = $2,
			question    = CASE WHEN $3 = 'approve' THEN question END,
			waits_until = CASE WHEN $3 = 'approve' THEN waits_until WHEN $3 = 'arm' THEN window_from END,
			restart_from = CASE WHEN $3 = 'early' THEN NULL ELSE restart_from END,
			window_from  = CASE WHEN $3 = 'early' THEN NULL ELSE window_from END,
			approved_by = CASE $3 WHEN 'approve' THEN $4 WHEN 'early' THEN NULL ELSE approved_by END,
			approved_at = CASE $3 WHEN 'approve' THEN now() WHEN 'early' THEN NULL ELSE approved_at END,
			paused_by   = CASE WHEN $3 IN ('pause', 'early') THEN $4 WHEN $3 IN ('approve', 'arm') THEN paused_by END,
			pause_asked  = CASE WHEN $3 = 'approve' THEN pause_asked ELSE false END,
			half_way = CASE WHEN $2 IN ('running', 'pausing') AND $3 <> 'go-back' THEN NULL ELSE half_way END,
			started_at  = CASE WHEN $3 = 'start' THEN now() ELSE started_at END,
			ended_at    = CASE WHEN $3 IN ('stop', 'leave') THEN now() ELSE ended_at END
			WHERE id = $1`, id, to, a, by); err != nil {
			return err
		}
		if err := note(ctx, tx, id, 0, 0, string(a), strings.TrimSuffix("by "+by.String()+": "+text, ": ")); err != nil {
			return err
		}
		if err := c.answer(ctx, tx, a, by.String(), text); err != nil {
			return err
		}
		if then != nil {
			if err := then(tx, to); err != nil {
				return err
			}
		}
		return notify(ctx, tx, id)
	})
	if constraint, ok := Conflict(err); ok && constraint == "one_open_change" {
		busy := &BusyError{}
		if err := one(s.db.QueryRow(ctx, `SELECT d.name, c.id, c.state FROM members mine JOIN members m ON m.device_id = mine.device_id AND m.open
			JOIN changes c ON c.id = m.change_id JOIN devices d ON d.id = m.device_id
			WHERE mine.change_id = $1 AND c.id <> $1 LIMIT 1`, id).Scan(&busy.Device, &busy.Change, &busy.State)); err != nil {
			return err
		}
		return busy
	}
	return err
}

// admitted locks a change, asks the gate whether somebody may act on it, and writes the audit line of the act. It returns the state that
// the change is to have.
func (s *Store) admitted(ctx context.Context, tx pgx.Tx, id int64, a change.Action, by access.Actor, text string) (c Change, to change.State, err error) {
	if c, err = locked(ctx, tx, id); err != nil {
		return c, "", err
	}
	facts := access.Facts{Change: id, CreatedBy: c.CreatedBy, Situation: c.Situation(), Policy: change.Policy{WayBack: change.Offered}, Now: c.Now,
		Looked: c.IsLooked(), Checks: c.Checks, Accepts: c.Accepts}
	if c.CheckedAt != nil {
		facts.CheckedAt = *c.CheckedAt
	}
	if c.Units != nil {
		facts.Unsafe = c.Units.Proof.Text
	}
	if c.Ensemble != nil {
		facts.Unsafe = c.Ensemble.Proof.Text
	}
	if err = one(tx.QueryRow(ctx, `SELECT value FROM settings WHERE name = $1`, PolicySetting).Scan(&facts.Policy)); err != nil && !errors.Is(err, ErrNotFound) {
		return c, "", err
	}
	if to, err = access.Decide(by, a, text, &facts); err != nil {
		return c, "", err
	}
	return c, to, audit(ctx, tx, by, "change "+string(a), c.First().DeviceID, strings.TrimSuffix(fmt.Sprintf("change %d: %s", id, text), ": "))
}

// PolicySetting is the name of the setting that holds the change.Policy.
const PolicySetting = "change policy"

// answer does with the records what an answer to a question says.
func (c *Change) answer(ctx context.Context, tx pgx.Tx, a change.Action, by, text string) error {
	switch a {
	case change.SignOff:
		said := strings.TrimSuffix("signed off by "+by+": "+text, ": ")
		if _, err := tx.Exec(ctx, `UPDATE steps SET state = $3, started_at = coalesce(started_at, now()), ended_at = now(), fraction = 1, note = '', outcome = $4 WHERE change_id = $1 AND number = $2`,
			c.ID, c.Question.Step, change.StepDone, said); err != nil {
			return err
		}
		return note(ctx, tx, c.ID, c.Question.Step, 0, string(change.StepDone), said)
	case change.Accept: // how long the person took is not how long the step takes
		if _, err := tx.Exec(ctx, `UPDATE steps SET started_at = now(), paused = false WHERE change_id = $1 AND number = $2
			AND state <> 'waiting'`, c.ID, c.Question.Step); err != nil {
			return err
		}
		return accept(ctx, tx, c, c.Question.Checks, by, text)
	case change.Retry: // what was intended stays known: the step begins with a look at the device
		_, err := tx.Exec(ctx, `UPDATE steps SET state = CASE WHEN state = 'waiting' THEN state ELSE $3 END, started_at = CASE WHEN state <> 'waiting' THEN now() END, paused = false, ended_at = NULL, outcome = '' WHERE change_id = $1 AND number = $2`, c.ID, c.Question.Step, change.StepRunning)
		return err
	case change.Leave:
		_, err := tx.Exec(ctx, `UPDATE changes SET failure = $2 WHERE id = $1`, c.ID, fmt.Sprintf("%s. %s left the device as it stands.", strings.TrimSuffix(c.Question.Text, "."), by))
		return err
	case change.GoBack:
		why := "a person asked for it"
		if c.Question != nil {
			why = c.Question.Text
		}
		hop, _ := c.Passed()
		return takeBack(ctx, tx, c, hop, 0, why)
	}
	return nil
}

func accept(ctx context.Context, tx pgx.Tx, c *Change, checks []string, by, reason string) error {
	for _, check := range checks {
		if !c.Accepts(check) {
			c.Accepted = append(c.Accepted, Acceptance{check, by, reason, time.Now().UTC()})
		}
	}
	_, err := tx.Exec(ctx, `UPDATE changes SET accepted = $2 WHERE id = $1`, c.ID, c.Accepted)
	return err
}

// TakeOn records that a person takes warnings on, before the start.
func (s *Store) TakeOn(ctx context.Context, id int64, checks []string, by access.Actor, reason string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, to, err := s.admitted(ctx, tx, id, change.TakeOn, by, reason)
		if err != nil {
			return err
		}
		if err := accept(ctx, tx, &c, checks, by.String(), reason); err != nil {
			return err
		}
		detail := fmt.Sprintf("%s, by %s: %s", strings.Join(checks, ", "), by, reason)
		if to != c.State { // who approved it did not know of that
			if err := void(ctx, tx, id, to); err != nil {
				return err
			}
			detail += "; it has to be approved again"
		}
		if err := note(ctx, tx, id, 0, 0, "accepted", detail); err != nil {
			return err
		}
		return notify(ctx, tx, id)
	})
}

// void takes the approval of a change back, since what was approved has changed.
func void(ctx context.Context, tx pgx.Tx, id int64, to change.State) error {
	_, err := tx.Exec(ctx, `UPDATE changes SET state = $2, approved_by = NULL, approved_at = NULL WHERE id = $1`, id, to)
	return err
}

// Terms say when a change may run, and what happens when it fails.
type Terms struct {
	WindowFrom, WindowTo *time.Time
	RestartFrom          *time.Time
	BackPolicy           string
}

// SetTerms sets them. What was approved has to be approved again. A change that rests or asks may be given other times; the way back
// stays as it was declared.
func (s *Store) SetTerms(ctx context.Context, id int64, t Terms, by access.Actor) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, to, err := s.admitted(ctx, tx, id, change.SetTerms, by, "")
		if err != nil {
			return err
		}
		if c.StartedAt != nil {
			t.BackPolicy = c.BackPolicy
		}
		if _, err := tx.Exec(ctx, `UPDATE changes SET window_from = $2, window_to = $3, restart_from = $4, back_policy = $5, waits_until = NULL,
			paused_by = CASE WHEN state = 'scheduled' THEN $6 ELSE paused_by END
				WHERE id = $1`, id, t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy, by); err != nil {
			return err
		}
		if err := void(ctx, tx, id, to); err != nil {
			return err
		}
		detail := "by " + by.String()
		if c.ApprovedBy != nil {
			detail += "; it has to be approved again"
		}
		if err := note(ctx, tx, id, 0, 0, "terms", detail); err != nil {
			return err
		}
		return notify(ctx, tx, id)
	})
}

// wayBack is the way back that can be taken now, with the hop that it undoes, of the first member.
func (c *Change) wayBack(hop int) (int, *change.Back) {
	if len(c.Members) < 2 {
		return hop, c.WayBack(hop)
	}
	if !c.CanGoBack() {
		return 0, nil
	}
	return c.HalfWay.Hops[0], &change.Back{Text: c.HalfWay.Why, Steps: c.HalfWay.Steps}
}

// takeBack skips what is left and adds the steps of a hop's way back; of an ensemble those that lead back from where it rests.
func takeBack(ctx context.Context, tx pgx.Tx, c *Change, hop int, fence int64, why string) error {
	hop, back := c.wayBack(hop)
	if back == nil {
		return fmt.Errorf("change %d declares no way back for hop %d", c.ID, hop+1)
	}
	if _, err := tx.Exec(ctx, `UPDATE steps SET state = CASE WHEN state = 'running' THEN 'failed' ELSE 'skipped' END, ended_at = CASE WHEN state = 'running' THEN now() END, note = '' WHERE change_id = $1 AND state IN ('waiting', 'running')`, c.ID); err != nil {
		return err
	}
	var last int // of all members
	if err := tx.QueryRow(ctx, `SELECT max(number) FROM steps WHERE change_id = $1`, c.ID).Scan(&last); err != nil {
		return err
	}
	var more []Step
	for i, st := range back.Steps {
		st.Number = last + i + 1
		if st.After != nil {
			after := make([]int, len(st.After))
			for k, n := range st.After {
				after[k] = last + n
			}
			st.After = after
		}
		more = append(more, Step{Plan: st})
	}
	if err := addSteps(ctx, tx, c.ID, more); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `UPDATE changes SET going_back = $2, return_why = $3 WHERE id = $1`, c.ID, hop, why); err != nil {
		return err
	}
	return note(ctx, tx, c.ID, 0, fence, "going back", back.Text)
}

// PutPolicy sets the policy, with a line in the audit.
func (s *Store) PutPolicy(ctx context.Context, by access.Actor, p change.Policy) error {
	if err := access.May(by, access.Administer); err != nil {
		return err
	}
	return s.Audited(ctx, by, func(tx *Store) (Line, error) {
		return Line{Event: "change policy set", Detail: fmt.Sprintf("second person %t, way back %s", p.SecondPerson, p.WayBack)}, tx.PutSetting(ctx, PolicySetting, p)
	})
}
