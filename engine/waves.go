package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/store"
)

// Starting children anew: in waves of which none takes all of a place, and those that can be drained one by one.

// restartChildren starts some children anew, once others at their places can stand in for them. One that can be drained is drained first, and serves
// again at the end.
func restartChildren(r *run, ctx context.Context, s *store.Step) error {
	to, names := r.childGoal(s), change.Of[change.ChildParams](&s.Plan).Names
	if err := r.placesServed(ctx, s, names); err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	drains := c.Profile().Abilities.Children.Drain
	p, err := r.seeChildren(ctx)
	if err != nil {
		return err
	}
	for _, x := range r.children(names) {
		child := childOf(p, &x)
		if child == nil || child.Version == to || child.Passing == portrait.Yes {
			continue
		}
		if drains {
			if err := r.drainChild(ctx, s, child.Name); err != nil {
				return err
			}
		}
		if err := r.restartChild(ctx, child); err != nil {
			return err
		}
	}
	back := func(c *portrait.Child) bool {
		return c.Version == to && (c.Good == portrait.Yes || drains && c.Drained == portrait.Yes)
	}
	w := childWait{r: r, s: s, wants: back, again: r.restartChild, check: checkChildren, names: names}
	if err := w.wait(ctx); err != nil || !drains {
		return err
	}
	return r.undrainChildren(ctx, s, names)
}

// placesServed waits until at every place of a wave another one serves while it is away. A place that has only those is left to what was accepted.
func (r *run) placesServed(ctx context.Context, s *store.Step, names []string) error {
	limit, began := time.Duration(s.Plan.Expect.Limit*float64(time.Second)), r.e.now()
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeChildren(ctx)
		if err != nil {
			return false, "", err
		}
		dark := slices.DeleteFunc(r.wouldBeDark(p, names), func(place string) bool { return r.accepts(checkPlace + " " + place) })
		switch {
		case len(dark) == 0:
			return true, "at every place others serve meanwhile", nil
		case r.e.since(began) > limit/2:
			var checks []string
			for _, place := range dark {
				checks = append(checks, r.named(checkPlace+" "+place))
			}
			return false, "", &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: checks,
				Answers: []change.Action{change.Accept, change.Retry, change.Leave},
				Text:    fmt.Sprintf("%s: nobody would serve at %s, since the others there do not. See to them and answer retry, or accept it", s.Plan.Title, some(dark))}, change.StepRunning}
		}
		return false, "it is waited until others serve at " + some(dark), nil
	})
}

// wouldBeDark are the places at which nobody would serve while some children are away, though the change knows others there.
func (r *run) wouldBeDark(p *portrait.Portrait, names []string) (dark []string) {
	others, serve := map[string]bool{}, map[string]bool{}
	for _, c := range r.children(nil) {
		if slices.Contains(names, c.Name) {
			continue
		}
		others[c.Place] = true
		if child := childOf(p, &c); child != nil && child.Good == portrait.Yes {
			serve[c.Place] = true
		}
	}
	for _, c := range r.children(names) {
		if others[c.Place] && !serve[c.Place] && !slices.Contains(dark, c.Place) {
			dark = append(dark, c.Place)
		}
	}
	return dark
}

// drainChild waits until a child serves nobody any more; one that will not come to that is left to a person.
func (r *run) drainChild(ctx context.Context, s *store.Step, name string) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if err := c.DrainChild(ctx, name); err != nil {
		return err
	}
	limit, began := time.Duration(s.Plan.Expect.Limit*float64(time.Second)), r.e.now()
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeChildren(ctx)
		if err != nil {
			return false, "", err
		}
		child := p.Child(name)
		switch {
		case child == nil:
			return false, "", final("%s went away while it was drained. Look whether it still serves, then answer retry", name)
		case child.Drained == portrait.Yes:
			return true, name + " serves nobody", nil
		case r.e.since(began) > limit*4/10 && r.accepts(checkDrain+" "+name):
			return true, fmt.Sprintf("%s; accepted that it is cut off", child.Text()), nil
		case r.e.since(began) > limit*4/10:
			return false, "", &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{r.named(checkDrain + " " + name)},
				Answers: []change.Action{change.Accept, change.Retry, change.Leave},
				Text:    fmt.Sprintf("%s does not drain: %s. Nothing else was done to it. See to it and answer retry, or accept that those whom it serves are cut off", name, child.Text())}, change.StepRunning}
		}
		return false, child.Text(), nil
	})
}

// undrainChildren has children serve again, and waits until they do: the next one is not touched before.
func (r *run) undrainChildren(ctx context.Context, s *store.Step, names []string) error {
	p, err := r.seeChildren(ctx)
	if err != nil {
		return err
	}
	serve := func(ctx context.Context, child *portrait.Child) error {
		c, err := r.connect(ctx)
		if err != nil {
			return err
		}
		return c.UndrainChild(ctx, child.Name)
	}
	for _, x := range r.children(names) {
		if child := childOf(p, &x); child != nil && child.Good != portrait.Yes {
			if err := serve(ctx, child); err != nil {
				return err
			}
		}
	}
	w := childWait{r: r, s: s, wants: func(c *portrait.Child) bool { return c.Good == portrait.Yes }, again: serve, check: checkChildren, names: names}
	return w.wait(ctx)
}
