package engine

import (
	"context"
	"fmt"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/store"
)

// Members of an ensemble: waiting until one is in sync with the active one, and having it take over.

// standsBy looks, right before a member goes down, whether it serves though the plan has it stand by: somebody switched by hand, or the other one failed.
// Then nothing is done to it before a person has seen to that.
func (r *run) standsBy(ctx context.Context, s *store.Step) error {
	if r.alone() || !s.Plan.InPlace() && !s.Plan.Kind.Is(change.Drain, change.ChooseSlot, change.Restart, change.Component, change.PowerCycle) {
		return nil
	}
	p, err := r.portrait(ctx)
	if err != nil || !p.Serves() {
		return err
	}
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	who := servingByPlan(&c)
	if c.Ensemble == nil || c.Ensemble.Together || who == r.m.Number || who == 0 {
		return nil
	}
	other := c.Members[who-1].Device
	return &askError{change.Question{Kind: change.AskStands, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
		Text: fmt.Sprintf("It says that it is %s, and by the plan %s serves while it goes down: somebody switched by hand, or %s failed. "+
			"Nothing was done to it. See that %s is well and serves, then answer retry", p.Role, other, other, other)}, s.State}
}

// servingByPlan is the member that serves by what was done so far, from 1; 0 where that is not known.
func servingByPlan(c *store.Change) int {
	if c.Ensemble == nil {
		return 0
	}
	who := c.Ensemble.Active
	back := c.Returning != nil && c.HalfWay != nil
	if back {
		who = c.HalfWay.Active
	}
	for i := range c.Steps {
		if st := &c.Steps[i]; st.Plan.Kind == change.Switch && st.State == change.StepDone && st.Plan.Back == back {
			who = st.Plan.Member
		}
	}
	return who
}

// waitSync waits until a member could take over. That it says nothing about it is no proof, and a sync that stands still is told with how far it is.
func waitSync(r *run, ctx context.Context, s *store.Step) error {
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.portrait(ctx)
		switch {
		case err != nil:
			return false, "", err
		case p.Role == "":
			return false, "", final("the device does not say which role it has; look whether it still is a member of the ensemble")
		case p.Serves() && r.c.Ensemble != nil && r.c.Ensemble.Together: // one of them has to, whoever it is
			return true, "it is " + p.Role, nil
		case p.Serves(): // it may say so for a moment, until it has heard of the others
			return false, "it says that it is " + p.Role + ", though it should stand by; look whether two of them say so", nil
		case p.InSync == portrait.Yes:
			return true, fmt.Sprintf("it is %s and in sync: %s", p.Role, p.Sync), nil
		case p.InSync == portrait.Unknown:
			return false, "whether it is in sync is not known, since the device does not say", nil
		}
		return false, fmt.Sprintf("it is %s and not in sync yet: %s", p.Role, p.Sync), nil
	})
}

// tookOver reports whether a member is the active one.
func tookOver(r *run, ctx context.Context, _ *store.Step, _ bool) (bool, string, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return false, "", err
	}
	return p.Serves(), "it is " + p.Role, nil
}

// takeOver has a member become the active one, when it is in sync at this moment.
func takeOver(r *run, ctx context.Context, _ *store.Step) error {
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	if p.InSync != portrait.Yes {
		how := p.Sync
		if how == "" {
			how = "it does not say how far it is"
		}
		return final("it is not in sync with the active one, so it does not take over: %s", how)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.TakeOver(ctx)
}

// tookOverNow waits until the device shows that it is the active one: its word for it is not enough.
func tookOverNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	err := r.poll(ctx, s, func() (bool, string, error) {
		done, evidence, err := tookOver(r, ctx, s, true)
		if err != nil || done {
			return done, evidence, err
		}
		return false, "it was told to take over, and says " + evidence, nil
	})
	if err != nil {
		return "", err
	}
	return s.Note, nil
}
