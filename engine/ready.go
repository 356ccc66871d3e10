package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// Ready looks at the devices now and says whether a change may start. What it found is recorded with the change.
func (e *Engine) Ready(ctx context.Context, c *store.Change, by access.Actor) (checks []ready.Check, err error) {
	if len(c.Members) > 1 {
		checks, err = e.readyTogether(ctx, c, by)
	} else {
		checks, _, err = e.readyMember(ctx, c, by)
	}
	if err != nil {
		return nil, err
	}
	return checks, e.Store.SetChecks(ctx, c.ID, checks)
}

// readyMember looks at the one device of a change, or of its view from one member. The portrait is nil when it cannot be reached.
func (e *Engine) readyMember(ctx context.Context, c *store.Change, by access.Actor) (checks []ready.Check, now *portrait.Portrait, err error) {
	d, err := e.Store.DeviceByID(ctx, c.First().DeviceID)
	if err != nil {
		return nil, nil, err
	}
	var p path.Path
	if err := json.Unmarshal(c.Path, &p); err != nil {
		return nil, nil, err
	}
	if c.Kind == change.BringingUp {
		if checks, err = e.readyToBeCalled(ctx, c, d); err != nil || checks != nil {
			return checks, nil, err
		}
	}
	in, unreachable := "", ""
	var empty, unread []string
	var since *ready.Facts
	asking, client, done, err := e.ask(ctx, d, by, fmt.Sprintf("see whether change %d may start", c.ID))
	if err == nil {
		if empty, unread, now, err = e.wouldCompare(asking, client, d); err == nil {
			since = &ready.Facts{}
			err = e.undone(asking, since, c, &p, d, now, client)
		}
		in = client.SignedIn().User
		done()
	}
	if record := (*recordError)(nil); errors.As(err, &record) {
		return nil, nil, err
	}
	if err != nil {
		unreachable, now = err.Error(), nil
		if e := e.Store.LookFailed(ctx, d.ID, unreachable); e != nil {
			return nil, nil, e
		}
	} else if err := e.recordPortrait(ctx, d.ID, now); err != nil {
		return nil, nil, err
	}
	f, err := e.facts(ctx, c, &p, d, now, 0)
	if err != nil {
		return nil, nil, err
	}
	if !bringsUp(c) { // nothing of before is compared with
		f.Empty, f.NotRead = empty, unread
	}
	if since != nil {
		f.GoesBack, f.Carried, f.Undone, f.UndoneUnknown, f.UndoneBackup, f.CanCarry = since.GoesBack, since.Carried, since.Undone, since.UndoneUnknown, since.UndoneBackup, since.CanCarry
	}
	f.Unreachable, f.SignedInAs = unreachable, in
	if err := e.openConversion(ctx, f, c, &p, d, now); err != nil {
		return nil, nil, err
	}
	if d.Open != nil && d.Open.ID != c.ID {
		f.OtherChange = d.Open.ID
	}
	checks = ready.Checks(*f)
	if c.Units != nil {
		checks = append([]ready.Check{provedCheck(&c.Units.Proof)}, checks...)
	}
	return checks, now, nil
}

// wouldCompare takes the readings as a change would before it begins, and names those that would prove nothing afterwards.
func (e *Engine) wouldCompare(ctx context.Context, c *device.Client, d store.Device) (empty, unread []string, p *portrait.Portrait, err error) {
	rs, err := e.ReadingsOf(ctx, d)
	if err != nil {
		return nil, nil, nil, err
	}
	values, p, err := measure(ctx, c, rs)
	if err != nil {
		return nil, nil, nil, err
	}
	empty, unread = proveNothing(rs, values)
	return empty, unread, p, nil
}

// proveNothing names the readings before a change that there will be nothing to compare with: those with nothing in them, and those that
// could not be read.
func proveNothing(rs []device.Reading, before verify.Readings) (empty, unread []string) {
	for _, x := range expectations(rs, before, "", nil, nil) {
		if x.Title == "" {
			x.Title = x.Reading
		}
		switch why := x.Nothing(before[x.Reading]); {
		case why == "" || x.Reading == readVersion:
		case x.Vacuous(before[x.Reading]):
			empty = append(empty, fmt.Sprintf("%s (%s before)", x.Title, before[x.Reading]))
		default:
			unread = append(unread, fmt.Sprintf("%s (%s)", x.Title, why))
		}
	}
	return empty, unread
}

// check says whether the hop may go on, from the device as it is now. It is the step before anything is sent, and again the
// one before the point of no return.
func check(r *run, ctx context.Context, s *store.Step) error {
	t, err := r.e.Store.Times(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	// Whether its time has come is for the clock of the database to say, which all workers share.
	if s.Plan.Kind == change.GoNoGo && t.Now.Before(t.RestartFrom) {
		if _, passed := r.c.Passed(); !passed {
			return &laterError{t.RestartFrom.In(r.e.Zone)}
		}
	}
	return r.goOn(ctx, s)
}

// goOn is check whatever the time.
func (r *run) goOn(ctx context.Context, s *store.Step) error {
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	if err := r.e.recordPortrait(ctx, r.m.DeviceID, p); err != nil {
		return err
	}
	r.seen = p
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	t, err := r.e.Store.Times(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	r.c.Now = t.Now
	f, err := r.e.facts(ctx, r.c, &r.path, d, p, s.Plan.Hop)
	if err != nil {
		return err
	}
	f.From, f.To = inZone(t.WindowFrom, r.e.Zone), inZone(t.WindowTo, r.e.Zone)
	if f.Empty, f.NotRead, err = r.nothingToCompare(); err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	f.SignedInAs = c.SignedIn().User
	if err := r.e.undone(ctx, f, r.c, &r.path, d, p, c); err != nil {
		return err
	}
	sends := slices.ContainsFunc(r.c.Steps, func(st store.Step) bool { return st.Plan.Kind == change.Send })
	if sends && d.Settings.Transfer != "sftp" && d.Settings.Transfer != "" && !c.Profile().Fetches {
		return final("dialect %q has no fetch-image, so the device cannot download its image; add that verb to the dialect", d.Dialect)
	}
	checks, of := ready.Checks(*f), ""
	if !r.alone() {
		checks, of = ready.OfMember(checks, r.m.Device), r.m.Device
	}
	stands, err := json.Marshal(standingOf(p, s.Plan.Hop))
	if err != nil {
		return err
	}
	if err := r.notReady(ctx, s, checks); err != nil {
		return errors.Join(err, records(r.e.Store.SetMemberChecks(ctx, r.c.ID, r.m.Number, of, checks, nil)))
	}
	if !r.chosen(s.Plan.Hop) { // from here on it is ours that moves
		r.m.Stands = stands
	}
	if err := r.e.Store.SetMemberChecks(ctx, r.c.ID, r.m.Number, of, checks, r.m.Stands); err != nil {
		return records(err)
	}
	if err := r.stillPut(ctx, s); err != nil {
		return err
	}
	s.Note = fmt.Sprintf("%s %s runs %s; %d checks, none stops", p.Model, p.Serial, p.Version, len(checks))
	if n := len(ready.Of(checks, ready.Warn)); n > 0 {
		s.Note += fmt.Sprintf(", %d warnings were accepted", n)
	}
	r.ready[s.Plan.Hop] = s.Plan.Kind != change.Check
	return nil
}

// inZone leaves the zero time, which means none, as it is.
func inZone(t time.Time, zone *time.Location) time.Time {
	if t.IsZero() {
		return t
	}
	return t.In(zone)
}

// chosen reports whether a step that decides what the device starts was begun in a hop.
func (r *run) chosen(hop int) bool {
	return slices.ContainsFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Hop == hop && st.Plan.Irreversible() && !st.Plan.Back && st.State != change.StepWaiting && st.State != change.StepSkipped
	})
}

// nothingToCompare names the readings before the change that will prove nothing.
func (r *run) nothingToCompare() (empty, unread []string, err error) {
	if r.m.Readings == nil || r.m.Definitions == nil {
		return nil, nil, nil
	}
	var before verify.Readings
	var rs []device.Reading
	if err := errors.Join(json.Unmarshal(r.m.Readings, &before), json.Unmarshal(r.m.Definitions, &rs)); err != nil {
		return nil, nil, final("the readings from before the change cannot be read: %w", err)
	}
	empty, unread = proveNothing(rs, before)
	return empty, unread, nil
}

// notReady is the error, or the question, of checks that keep a hop from going on; nil when none does.
func (r *run) notReady(ctx context.Context, s *store.Step, checks []ready.Check) error {
	if stops := ready.Of(checks, ready.Stop); len(stops) > 0 {
		if len(stops) == 1 && stops[0].Name == r.named(ready.Window) {
			return r.askTime(s, stops[0].Evidence)
		}
		err := fmt.Errorf("not ready: %s", ready.Text(stops))
		passed, e := r.passed(ctx)
		if e != nil {
			return e
		}
		if passed { // an earlier hop is done, or another member; what goes on from here is for a person to say
			q := change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Text: strings.TrimSpace(err.Error() + ". " + r.armed(r.seen)), Answers: []change.Action{change.Retry, change.Leave}}
			if r.canGoBack(r.seen) {
				q.Answers = append(q.Answers, change.GoBack)
			}
			return &askError{q, s.State}
		}
		return &finalError{err}
	}
	var open []ready.Check
	var names []string
	for _, w := range ready.Of(checks, ready.Warn) {
		if !r.c.Accepts(w.Name) {
			open, names = append(open, w), append(names, w.Name)
		}
	}
	if len(open) == 0 {
		return nil
	}
	return &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: names, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
		Text: "Before it goes on: " + ready.Text(open)}, s.State}
}
