package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/device"
	"verimorph/store"
)

// What is looked at right before a device is written to: that it is the unit the change is for, that it stands where the change left it,
// and, before what cannot be undone, that the go/no-go check holds, that the window is open, that the configuration is the one that was
// backed up, and that this worker still holds the lease.

// sameUnit compares model and serial with what was planned, on every new connection. Another unit is a matter for a person: nothing is
// written to it, and what is recorded of the device stays.
func (r *run) sameUnit(ctx context.Context, c *device.Client) (*portrait.Portrait, error) {
	p, err := c.Identity(ctx)
	if err != nil {
		return nil, err
	}
	want := &r.m.Planned
	if want.Model == "" && want.Serial == "" && (p.Model != "" || p.Serial != "") { // the draft did not say: it is this one from now on
		want.Model, want.Serial = p.Model, p.Serial
		return p, records(r.e.Store.SetPlanned(ctx, r.lease, r.c.ID, r.m.Number, *want))
	}
	var wrong []string
	for _, x := range [][3]string{{"serial", want.Serial, p.Serial}, {"model", want.Model, p.Model}} {
		if x[0] == "serial" && unitHas(r.c, p.Serial) { // whichever unit serves gives its own
			continue
		}
		if x[1] != "" && x[2] != "" && x[1] != x[2] {
			wrong = append(wrong, fmt.Sprintf("its %s is %s, not %s", x[0], x[2], x[1]))
		}
	}
	if len(wrong) == 0 {
		return p, nil
	}
	if same, err := r.wentOn(ctx, p); same || err != nil {
		return p, err
	}
	return nil, &askError{q: change.Question{Kind: change.AskUnit, Answers: []change.Action{change.Retry, change.Leave},
		Text: fmt.Sprintf("Another unit answers where %s should: %s. Nothing was written to it. Put the right unit back, then answer retry; for the other one, leave this change and draft another", r.m.Device, strings.Join(wrong, ", "))}}
}

// A standing is how a device stood when a hop was found ready.
type standing struct {
	Hop     int
	Version string
	Running string            // slot
	Next    string            // slot of the next start; "" when the device does not say
	Slots   map[string]string // version by slot
}

func standingOf(p *portrait.Portrait, hop int) standing {
	s := standing{Hop: hop, Version: p.Version, Slots: map[string]string{}}
	for _, slot := range p.Slots {
		s.Slots[slot.Name] = slot.Version
		if slot.Running {
			s.Running = slot.Name
		}
		if slot.Next == portrait.Yes {
			s.Next = slot.Name
		}
	}
	return s
}

// asLeft compares the device with how the change left it, on a connection over which that was not done yet: somebody may have changed it by
// hand while the change rested, or while its worker was gone.
func (r *run) asLeft(ctx context.Context, s *store.Step) error {
	if !s.Plan.Kind.Spec().Writes || r.m.Stands == nil {
		return nil
	}
	c, err := r.connect(ctx)
	if err != nil || r.looked == c {
		return err
	}
	var left standing
	if err := json.Unmarshal(r.m.Stands, &left); err != nil {
		return final("the record of how the device stood cannot be read: %w", err)
	}
	now, err := r.sameUnit(ctx, c) // over a console line a connection is older than what runs now
	if err != nil {
		return err
	}
	if other := r.otherwise(left, standingOf(now, left.Hop), s); len(other) > 0 {
		q := change.Question{Kind: change.AskStands, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
			Text: fmt.Sprintf("The device does not stand where this change left it: %s. Somebody else changed it. Nothing was written after that. Put it back and answer retry; or leave it, and draft the rest anew from where it stands: verimorph change redraft %d", strings.Join(other, "; "), r.c.ID)}
		if r.canGoBack(now) {
			q.Answers = append(q.Answers, change.GoBack)
		}
		return &askError{q, s.State}
	}
	r.looked = c
	return nil
}

// otherwise tells how a device stands otherwise than the change left it. Between the command to start another installation and the confirmed
// version either may run.
func (r *run) otherwise(left, now standing, s *store.Step) (other []string) {
	say := func(format string, args ...any) { other = append(other, fmt.Sprintf(format, args...)) }
	h := r.hop(s)
	begun, confirmed, chosen := false, false, false
	written := map[string]bool{}
	for i := range r.c.Steps {
		st := &r.c.Steps[i]
		if st.State == change.StepWaiting || st.State == change.StepSkipped || st.Plan.Hop != left.Hop && !st.Plan.Back {
			continue
		}
		switch k := st.Plan.Kind; {
		case r.starts(st) && !(st.Plan.Number == s.Plan.Number && st.State == change.StepWaiting):
			begun = true
		case k == change.Confirm && st.State == change.StepDone:
			confirmed = true
		case k == change.ChooseSlot || k == change.KeepSlot:
			chosen = true
		case k == change.Install || k == change.Clone || k == change.Unpack:
			if in, err := r.written(st); err == nil {
				written[in.Slot] = true
			}
		}
	}
	switch {
	case s.Plan.Back || r.c.Returning != nil || s.Plan.Hop >= 0 && s.Plan.Hop != left.Hop:
		return nil // what runs meanwhile is for the steps to find out
	case begun && !confirmed:
		if h.To.String() != "" && now.Version != left.Version && now.Version != r.goal(s) {
			say("it runs %s; %s or %s was expected", now.Version, left.Version, r.goal(s))
		}
		return other
	case begun:
		if want := r.goal(s); now.Version != want {
			say("it runs %s; %s was expected", now.Version, want)
		}
		return other
	}
	if now.Version != left.Version {
		say("it runs %s; %s was expected", now.Version, left.Version)
	}
	if now.Running != left.Running {
		say("it runs from slot %s; slot %s was expected", now.Running, left.Running)
	}
	for name, v := range left.Slots {
		if is, ok := now.Slots[name]; (!ok || is != v) && !written[name] && name != left.Running {
			say("slot %s holds %s; %s was expected", name, orNothing(is), orNothing(v))
		}
	}
	if left.Next != "" && now.Next != left.Next && !chosen {
		say("the next start is from slot %s; slot %s was expected", orNothing(now.Next), left.Next)
	}
	return other
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// cutsOff reports whether a step interrupts what the device does for its users, or puts something in the place of its configuration: it must
// not begin outside the window.
func (r *run) cutsOff(s *store.Step) bool {
	switch k := s.Plan.Kind; {
	case s.Plan.Back || r.c.Returning != nil:
		return false // a device that is on its way back is not left half-way
	case k == change.PutPart:
		return (r.c.Kind == change.Restoring || s.Plan.Irreversible()) && !r.begunBefore(s, change.PutPart)
	case k == change.Component:
		return s.Plan.File() != nil
	}
	return s.Plan.Irreversible() && !r.between(s) ||
		s.Plan.Kind == change.Restart && s.Plan.Component() != "" ||
		s.Plan.Kind == change.PowerCycle && !s.Plan.ByHand()
}

// between reports whether the device is between two installations already: another one was started in the hop of a step, before it, or on one of its units.
func (r *run) between(s *store.Step) bool {
	for i := range r.c.Steps {
		st := &r.c.Steps[i]
		begun := st.State != change.StepWaiting && st.State != change.StepSkipped
		if st.Plan.Kind == change.RestartUnits && st.Plan.Number <= s.Plan.Number && st.Plan.Hop == s.Plan.Hop && !st.Plan.Back && begun {
			return true
		}
		if st.Plan.Number < s.Plan.Number && st.Plan.Hop == s.Plan.Hop && !st.Plan.Back && st.State == change.StepDone && r.starts(st) {
			return true
		}
	}
	return false
}

func (r *run) begunBefore(s *store.Step, kind change.Kind) bool {
	return slices.ContainsFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Kind == kind && st.Plan.Number < s.Plan.Number && st.State != change.StepWaiting && st.State != change.StepSkipped
	})
}

// gate is passed before every step that writes.
func (r *run) gate(ctx context.Context, s *store.Step) error {
	if s.Plan.Back {
		if err := r.backUpBeforeBack(ctx, s); err != nil {
			return err
		}
	}
	if err := r.asLeft(ctx, s); err != nil {
		return err
	}
	if err := r.standsBy(ctx, s); err != nil {
		return err
	}
	prepares := (s.Plan.Kind == change.Drain || s.Plan.Kind == change.Save) && !s.Plan.Back // for what cannot be undone
	if prepares || r.cutsOff(s) {
		if err := r.goNoGo(ctx, s); err != nil {
			return err
		}
	}
	if !r.cutsOff(s) {
		return nil
	}
	if err := r.sameConfiguration(ctx, s); err != nil {
		return err
	}
	return r.lastLook(ctx, s)
}

// goNoGo does the go/no-go check of a hop again when it was another worker that did it, or this one before a rest.
func (r *run) goNoGo(ctx context.Context, s *store.Step) error {
	if r.ready[s.Plan.Hop] || s.Plan.Kind == change.Component || s.Plan.Kind == change.PowerCycle || s.Plan.Kind == change.PutPart || r.between(s) {
		return nil
	}
	for i := range r.c.Steps {
		st := r.c.Steps[i]
		before := st.Plan.Hop == s.Plan.Hop && !st.Plan.Back && st.State == change.StepDone && st.Plan.Number < s.Plan.Number
		if before && st.Plan.Kind.Is(change.GoNoGo, change.Check) {
			again := *s
			if err := r.goOn(ctx, &again); err != nil {
				return err
			}
			return records(r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "checked again", again.Note))
		}
	}
	return nil
}

// lastLook is the last one before a command that cannot be undone: the window, by the clock of the database, and the lease.
func (r *run) lastLook(ctx context.Context, s *store.Step) error {
	if err := r.e.renewNow(ctx, r.lease); err != nil {
		return err
	}
	if !r.cutsOff(s) {
		return nil
	}
	t, err := r.e.Store.Times(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	switch {
	case !t.RestartFrom.IsZero() && t.Now.Before(t.RestartFrom):
		return r.tooSoon(s, "the point of no return must not be passed before", t.RestartFrom, t.Now)
	case !t.WindowFrom.IsZero() && t.Now.Before(t.WindowFrom):
		return r.tooSoon(s, "the window opens at", t.WindowFrom, t.Now)
	case !t.WindowTo.IsZero() && !t.Now.Before(t.WindowTo):
		return r.tooSoon(s, "the window closed at", t.WindowTo, t.Now)
	}
	return nil
}

// tooSoon asks a person, because it is not the time for what comes next.
func (r *run) tooSoon(s *store.Step, what string, at, now time.Time) error {
	return r.askTime(s, fmt.Sprintf("%s %s, and it is %s", what, r.e.moment(at), r.e.moment(now)))
}

// moment tells a moment in the zone of the installation, which is named.
func (e *Engine) moment(t time.Time) string { return t.In(e.Zone).Format(ready.Stamp) }

func (r *run) askTime(s *store.Step, why string) error {
	q := change.Question{Kind: change.AskTime, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
		Text: sentences(fmt.Sprintf("It is not the time for %q: %s", s.Plan.Title, why), r.armed(r.seen),
			fmt.Sprintf("Give it another time (verimorph change terms %d), have that approved, then answer retry", r.c.ID))}
	if r.canGoBack(r.seen) {
		q.Answers = append(q.Answers, change.GoBack)
	}
	return &askError{q, s.State}
}

// armed tells which installation the device would start if its power went off and on; "" when that is the one that runs.
func (r *run) armed(p *portrait.Portrait) string {
	if p != nil {
		for _, slot := range p.Slots {
			if slot.Next == portrait.Yes && !slot.Running {
				return fmt.Sprintf("The next start of the device is from slot %s, which holds %s: a restart or a loss of power starts that.",
					slot.Name, orNothing(slot.Version))
			}
		}
	}
	chosen := ""
	for i := range r.c.Steps {
		st := &r.c.Steps[i]
		switch {
		case st.Plan.Kind == change.ChooseSlot && st.State == change.StepDone:
			if name, v, err := r.target(st); err == nil {
				chosen = fmt.Sprintf("Slot %s, which holds %s, was chosen for the next start: a restart or a loss of power starts that, unless it has been started by now.", name, v)
			}
		case st.Plan.Kind == change.Confirm && st.State == change.StepDone:
			chosen = ""
		}
	}
	if p != nil && len(p.Slots) > 0 && slices.ContainsFunc(p.Slots, func(s portrait.Slot) bool { return s.Next != portrait.Unknown }) {
		return "" // the device says: what runs is next
	}
	return chosen
}

// canGoBack reports whether there is a way back that can be taken, by the slots as the device shows them; p is nil when nobody can look.
func (r *run) canGoBack(p *portrait.Portrait) bool {
	hop, ok := r.c.Passed()
	return ok && r.wayBack(hop, p)
}

// wayBack is canGoBack of one hop.
func (r *run) wayBack(hop int, p *portrait.Portrait) bool {
	b := r.c.WayBack(hop)
	if b == nil || b.Way != change.BackBySlot || p == nil || len(p.Slots) == 0 {
		return b != nil
	}
	from := ""
	if hop < len(r.path.Hops) {
		from = r.path.Hops[hop].From.String()
	}
	return slices.ContainsFunc(p.Slots, func(s portrait.Slot) bool { return s.Version == from && (s.Running || s.Good != portrait.No) })
}

// lookNow tries to see how the device stands now, for what is told about it; nil when it cannot be seen in a short time. A busy worker gets ten seconds
// of its own clock, whatever the pace of the device.
func (r *run) lookNow(ctx context.Context) *portrait.Portrait {
	ctx, cancel := context.WithTimeout(ctx, max(r.wait(20*time.Second), 10*time.Second))
	defer cancel()
	r.hangUp()
	p, err := r.portrait(ctx)
	if err != nil {
		return nil
	}
	return p
}

// errStale says that this worker was away for so long that another one may hold the device.
var errStale = fmt.Errorf("this worker stood still for longer than its lease lasts: %w", store.ErrFenced)

// renewNow makes sure that the lease of a device lasts for longer than a command takes: it is renewed, and where the records do not answer
// at once, there must be enough left of it by both clocks.
func (e *Engine) renewNow(ctx context.Context, l store.Lease) error {
	limited, cancel := context.WithTimeout(ctx, e.Lease/4)
	defer cancel()
	began := e.now()
	ours, err := e.Store.RenewAll(limited, []store.Lease{l}, e.Lease)
	e.leases.mu.Lock()
	defer e.leases.mu.Unlock()
	k := e.leases.by[l.DeviceID]
	switch {
	case err == nil && !slices.Contains(ours, l.DeviceID):
		return store.ErrFenced
	case err == nil && k != nil && k.lease == l:
		k.good = began
	case err == nil:
	case k == nil || k.lease != l:
		return records(err)
	}
	if k != nil && k.lease == l && k.left(e.Lease, e.now()) < e.Lease/2 {
		if err != nil {
			return errors.Join(records(err), errStale)
		}
		return errStale
	}
	return nil
}
