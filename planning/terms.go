package planning

import (
	"context"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/store"
)

// Policy is what is set, or what holds where nothing is.
func (s *Planner) Policy(ctx context.Context) (change.Policy, error) {
	p := change.Policy{WayBack: change.Offered}
	_, err := s.Store.Setting(ctx, store.PolicySetting, &p)
	return p, err
}

// SetPolicy sets it, with a line in the audit.
func (s *Planner) SetPolicy(ctx context.Context, by access.Actor, p change.Policy) error {
	if p.WayBack != change.Offered && p.WayBack != change.Automatic {
		return invalid("wayBack is offered or automatic")
	}
	if h := p.RestartHours; h != nil && (*h < 0.25 || *h > 168) {
		return invalid("restartHours is between a quarter of an hour and a week")
	}
	return s.Store.PutPolicy(ctx, by, p)
}

// Terms completes and checks when a change may run and what happens when it fails. What is not said is as the policy says.
func (s *Planner) Terms(ctx context.Context, t store.Terms) (store.Terms, error) {
	p, err := s.Policy(ctx)
	if err != nil {
		return t, err
	}
	switch t.BackPolicy {
	case "":
		t.BackPolicy = p.WayBack
	case change.Offered, change.Automatic:
	default:
		return t, invalid("wayBack is offered or automatic")
	}
	if t.WindowTo == nil && t.RestartFrom != nil { // a service that was away then does not restart the device hours later
		end := p.RestartEnd(*t.RestartFrom)
		t.WindowTo = &end
	}
	switch {
	case t.WindowTo == nil:
	case t.WindowFrom != nil && !t.WindowFrom.Before(*t.WindowTo):
		return t, invalid("the window ends before it begins")
	case t.RestartFrom != nil && !t.RestartFrom.Before(*t.WindowTo):
		return t, invalid("the window ends before the change may pass its point of no return")
	}
	return t, nil
}

// SetTerms says when a change may run, and looks again whether it may start.
func (s *Planner) SetTerms(ctx context.Context, by access.Actor, id int64, t store.Terms) error {
	t, err := s.Terms(ctx, t)
	if err != nil {
		return err
	}
	if _, err := s.Change(ctx, id); err != nil {
		return err
	}
	if err := s.Store.SetTerms(ctx, id, t, by); err != nil {
		return err
	}
	return s.Look(ctx, by, id)
}
