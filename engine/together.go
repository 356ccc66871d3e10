package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/ensemble"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/store"
)

// Whether the change of an ensemble may start: each member is looked at as that of a change of one, and besides how they stand to each other and whether
// the order of the plan is proved.

// readyTogether looks at all members, side by side. What is found of one carries its name.
func (e *Engine) readyTogether(ctx context.Context, c *store.Change, by access.Actor) ([]ready.Check, error) {
	found := make([][]ready.Check, len(c.Members))
	seen := make([]*portrait.Portrait, len(c.Members))
	errs := make([]error, len(c.Members))
	var group sync.WaitGroup
	for i := range c.Members {
		if c.Kind == change.Releasing && i > 0 { // it has no command line; the controller tells of it
			continue
		}
		group.Go(func() { found[i], seen[i], errs[i] = e.readyMember(ctx, view(c, &c.Members[i]), by) })
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	var checks []ready.Check
	if c.Ensemble != nil {
		others, err := e.standTogether(ctx, c, seen)
		if err != nil {
			return nil, err
		}
		checks = append(checks, provedCheck(&c.Ensemble.Proof), others)
		if c.Ensemble.Together {
			dark, err := e.darkCheck(ctx, c)
			if err != nil {
				return nil, err
			}
			checks = append(checks, dark)
		}
	}
	for i, m := range c.Members {
		checks = append(checks, ready.OfMember(found[i], m.Device)...)
	}
	return checks, nil
}

// darkCheck says for how long nobody serves where all members are down at once.
func (e *Engine) darkCheck(ctx context.Context, c *store.Change) (ready.Check, error) {
	var down []change.Step
	for i := range c.Steps {
		if s := &c.Steps[i].Plan; !s.Back && (s.Kind.Is(change.Restart, change.Link, change.Login, change.Confirm, change.Services) || s.InPlace()) {
			down = append(down, *s)
		}
	}
	half, most, err := e.Last(ctx, c, down)
	return ready.AllDown(len(c.Members), half, most), err
}

// provedCheck says what was found when every order of the plan was walked.
func provedCheck(p *change.Proof) ready.Check {
	c := ready.Check{Name: ready.Proved, Title: "Order of the steps", State: ready.Pass,
		Evidence: fmt.Sprintf("every order that the plan allows was walked with every single failure, %d states: no rule is broken", p.States)}
	switch {
	case p.Text != "":
		c.State, c.Evidence = ready.Stop, fmt.Sprintf("%s; but: %s. It comes to that by: %s", p.Rule, p.Text, strings.Join(p.Trace, "; "))
		c.Remedy = "draft it anew; a plan that is not safe cannot be approved"
	case !p.Proved:
		c.State = ready.Warn
		c.Evidence = fmt.Sprintf("it is not proved: %s; nothing wrong was found in the %d states that were walked", cmp.Or(p.GaveUp, "it was not walked"), p.States)
		c.Remedy = "look through the order of the steps yourself"
	}
	return c
}

// standTogether holds the members against each other: as they say they stand, as they are declared, and as they stood when the change was drafted.
func (e *Engine) standTogether(ctx context.Context, c *store.Change, seen []*portrait.Portrait) (ready.Check, error) {
	out := ready.Check{Name: ready.Others, Title: "Members of " + c.Ensemble.Name, State: ready.Pass}
	var wrong, doubts, remedies, said []string
	add := func(to *[]string, remedy, format string, args ...any) {
		*to = append(*to, fmt.Sprintf(format, args...))
		if !slices.Contains(remedies, remedy) {
			remedies = append(remedies, remedy)
		}
	}
	declared, err := e.declaredAs(ctx, c)
	if err != nil {
		return out, err
	}
	if declared != "" {
		add(&wrong, "draft the change anew", "%s", declared)
	}
	var members []portrait.Portrait
	for i, m := range c.Members {
		p := seen[i]
		if p == nil {
			add(&wrong, "see that it can be reached", "how %s stands to the others is not known, since it cannot be reached", m.Device)
			continue
		}
		named := *p
		named.Name = m.Device
		members = append(members, named)
		said = append(said, strings.TrimSuffix(fmt.Sprintf("%s is %s, %s", m.Device, cmp.Or(p.Role, "of no role that it says"), p.Sync), ", "))
		if p.Serves() && m.Number != c.Ensemble.Active {
			add(&wrong, "draft the change anew: who goes first depends on who serves",
				"%s serves now, and %s did when the change was drafted", m.Device, c.Members[c.Ensemble.Active-1].Device)
		}
	}
	if len(members) == len(c.Members) {
		for _, f := range ensemble.Check(c.Ensemble.Kind, members) {
			if f.Wrong {
				add(&wrong, f.Remedy, "%s", f.Text)
			} else {
				add(&doubts, f.Remedy, "%s", f.Text)
			}
		}
	}
	out.Evidence = strings.Join(said, "; ")
	if len(wrong)+len(doubts) > 0 {
		out.State, out.Evidence, out.Remedy = ready.Warn, strings.Join(append(wrong, doubts...), "; "), strings.Join(remedies, "; ")
	}
	if len(wrong) > 0 {
		out.State = ready.Stop
	}
	return out, nil
}

// declaredAs says how the ensemble is declared otherwise than when the change was drafted; "" when it is not.
func (e *Engine) declaredAs(ctx context.Context, c *store.Change) (string, error) {
	now, err := e.Store.Ensemble(ctx, c.Ensemble.Name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return fmt.Sprintf("the ensemble %s is not declared any more", c.Ensemble.Name), nil
	case err != nil:
		return "", records(err)
	}
	var is []string
	for _, m := range now.Members {
		is = append(is, m.Device)
	}
	if text := strings.Join(is, ", "); text != c.Devices() {
		return fmt.Sprintf("the members of %s are %s now, and were %s when the change was drafted", c.Ensemble.Name, text, c.Devices()), nil
	}
	return "", nil
}

// readTogether is the name under which a verdict tells how the members stand to each other.
const readTogether = "ensemble"

// endTogether looks at all members at the end, until one of them serves and the others could take over: an ensemble that has lost that is not as it was.
// All other lanes have done their last step by then and wait for the verdict.
func (r *run) endTogether(ctx context.Context, s *store.Step) ([]verify.Result, error) {
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil || c.Ensemble == nil {
		return nil, records(err)
	}
	began := r.e.now()
	if i := slices.IndexFunc(c.Steps, func(st store.Step) bool { return st.Plan.Number == s.Plan.Number }); i >= 0 && c.Steps[i].StartedAt != nil {
		began = *c.Steps[i].StartedAt
	}
	patience := time.Duration(s.Plan.Expect.Limit * float64(time.Second) * 7 / 10) // the last look must have its time before the step is given up
	for {
		members, away := named(r.lookAtAll(ctx), c.Members)
		res := together(c.Ensemble.Kind, members, away)
		if res.State == verify.Met || r.e.since(began) > patience {
			return append([]verify.Result{res}, r.childrenTogether(s, members)...), context.Cause(ctx)
		}
		r.progress(ctx, s, expectedFraction(s.Plan.Expect, r.e.since(began)), "the members do not stand to each other as they should yet: %s", res.Evidence)
		if err := pause(ctx, r.nextLook(began)); err != nil {
			return nil, err
		}
	}
}

// lookAtAll looks at the devices of all lanes, side by side; one that does not answer is nil.
func (r *run) lookAtAll(ctx context.Context) []*portrait.Portrait {
	seen := make([]*portrait.Portrait, r.board.lanes)
	var group sync.WaitGroup
	for i := range seen {
		group.Go(func() { seen[i] = r.board.run(i).lookNow(ctx) })
	}
	group.Wait()
	return seen
}

// lookAtAllAgain looks at the devices of all lanes, and again at those that do not answer: what is decided of an ensemble must not hang on one connection
// that was lost.
func (r *run) lookAtAllAgain(ctx context.Context) []*portrait.Portrait {
	began := r.e.now()
	seen := r.lookAtAll(ctx)
	for slices.Contains(seen, nil) && r.e.since(began) < max(r.wait(time.Minute), 10*time.Second) && pause(ctx, r.nextLook(began)) == nil {
		for i, p := range r.lookAtAll(ctx) {
			if p != nil {
				seen[i] = p
			}
		}
	}
	return seen
}

// named puts the names of the devices to what was seen of them, and names those that do not answer.
func named(seen []*portrait.Portrait, members []store.Member) (all []portrait.Portrait, away []string) {
	for i, p := range seen {
		if p == nil {
			away = append(away, members[i].Device)
			continue
		}
		one := *p
		one.Name = members[i].Device
		all = append(all, one)
	}
	return all, away
}

// together is how the members stand to each other, as a result of a verdict.
func together(kind change.EnsembleKind, members []portrait.Portrait, away []string) verify.Result {
	res := verify.Result{Reading: readTogether, Title: "Members to each other", State: verify.Met, Severity: verify.Fails}
	if len(away) > 0 {
		res.State, res.Evidence = verify.NotProven, strings.Join(away, ", ")+" cannot be looked at"
		return res
	}
	var wrong, doubts, said []string
	for _, f := range ensemble.Check(kind, members) {
		if f.Wrong {
			wrong = append(wrong, f.Text)
		} else {
			doubts = append(doubts, f.Text)
		}
	}
	for _, m := range members {
		said = append(said, strings.TrimSuffix(fmt.Sprintf("%s is %s, %s", m.Name, m.Role, m.Sync), ", "))
	}
	res.Evidence = strings.Join(said, "; ")
	switch {
	case len(wrong) > 0:
		res.State, res.Evidence = verify.Unmet, strings.Join(append(wrong, doubts...), "; ")
	case len(doubts) > 0:
		res.State, res.Severity, res.Evidence = verify.Unmet, verify.Degrades, strings.Join(doubts, "; ")
	}
	return res
}
