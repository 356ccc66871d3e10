package engine

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/store"
)

// The change of an ensemble that comes to rest half-done: all of its members are looked at, and how they stand says whether those that moved are
// taken back or the others brought along.

// errAnew says that the steps of a change are other ones now, for all of its lanes.
var errAnew = errors.New("the change goes on with other steps")

// alone reports whether the change has one member, whose lane decides everything by itself.
func (r *run) alone() bool { return r.board == nil || r.board.lanes == 1 }

// named is the name of a check: in a change of several, what is accepted of one member is not accepted of another.
func (r *run) named(check string) string {
	if r.alone() {
		return check
	}
	return ready.MemberName(check, r.m.Device)
}

// accepts reports whether a warning about this member was taken on.
func (r *run) accepts(check string) bool { return r.c.Accepts(r.named(check)) }

// passed reports whether the change is past a point of no return, with any of its members.
func (r *run) passed(ctx context.Context) (bool, error) {
	if r.alone() {
		_, passed := r.c.Passed()
		return passed, nil
	}
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return false, records(err)
	}
	_, passed := c.Passed()
	return passed, nil
}

// halfWay looks at all members and records how the change goes on from where it rests; nil where nothing is to be decided. No lane may be under way.
func (r *run) halfWay(ctx context.Context) (*change.HalfWay, error) {
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return nil, records(err)
	}
	if _, passed := c.Passed(); !passed || c.Returning != nil || c.Ensemble == nil && !joins(&c) && c.Kind != change.Replacing {
		return nil, nil
	}
	if c.Ensemble == nil {
		half := r.halfJoined
		if c.Kind == change.Replacing {
			half = r.halfReplaced
		}
		h, err := half(ctx, &c)
		if err != nil {
			return nil, err
		}
		return h, records(r.e.Store.SetHalfWay(ctx, r.lease, c.ID, h))
	}
	plan, err := r.e.ensemblePlan(ctx, &c)
	if err != nil {
		return nil, err
	}
	var stands []change.Stand
	for i, p := range r.lookAtAllAgain(ctx) {
		lane := r.board.run(i)
		lane.hangUp()
		stands = append(stands, lane.stand(&c, p))
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	h := plan.FromHere(stands)
	return &h, records(r.e.Store.SetHalfWay(ctx, r.lease, c.ID, &h))
}

// stand is how this member stands; p is nil when nobody can look.
func (r *run) stand(c *store.Change, p *portrait.Portrait) change.Stand {
	if p == nil {
		return change.Stand{}
	}
	s := change.Stand{Up: true, Active: p.Serves(), Runs: p.Version, Starts: p.Version}
	known := false // whether the device says what it starts next
	for _, slot := range p.Slots {
		known = known || slot.Next != portrait.Unknown
		if slot.Next == portrait.Yes && !slot.Running && slot.Version != "" {
			s.Starts = slot.Version
		}
	}
	var failed verify.Verdict
	doubted := json.Unmarshal(c.Verdict, &failed) == nil && failed.Verdict == verify.Fail
	for i := range c.Steps {
		st := &c.Steps[i]
		begun := st.State != change.StepWaiting && st.State != change.StepSkipped
		if st.Plan.Member != r.m.Number || st.Plan.Back || !begun || st.Plan.Hop < 0 || st.Plan.Hop >= len(r.path.Hops) {
			continue
		}
		to := r.path.Hops[st.Plan.Hop].To.String()
		switch {
		case st.Plan.Kind == change.ChooseSlot && !known:
			s.Starts = to
		case st.Plan.Kind == change.Settle && st.State == change.StepDone && to == s.Runs:
			s.Shown = !doubted
		}
	}
	return s
}

// ensemblePlan is the plan of a change as far as it takes to say how it goes on.
func (e *Engine) ensemblePlan(ctx context.Context, c *store.Change) (*change.EnsemblePlan, error) {
	j := change.EnsembleJob{Kind: c.Ensemble.Kind, Turns: c.Ensemble.Turns, SwitchBack: c.Ensemble.SwitchBack, Together: c.Ensemble.Together}
	if c.Children != nil {
		j.Children, j.Authorise = c.Children.Children, c.Children.Authorise
	}
	for _, m := range c.Members {
		job, err := e.memberJob(ctx, &m)
		if err != nil {
			return nil, err
		}
		j.Members = append(j.Members, change.EnsembleMember{Name: m.Device, Job: job, Back: m.Back})
	}
	return change.PlanOf(&j), nil
}

// memberJob is the job of a member of a change of several, as far as it takes to say how the change goes on.
func (e *Engine) memberJob(ctx context.Context, m *store.Member) (change.Job, error) {
	way := &path.Path{}
	if err := json.Unmarshal(m.Path, way); err != nil {
		return change.Job{}, final("the path of %s cannot be read: %w", m.Device, err)
	}
	d, err := e.Store.DeviceByID(ctx, m.DeviceID)
	if err != nil {
		return change.Job{}, records(err)
	}
	profile := e.Profile(d)
	if profile == nil {
		return change.Job{}, final("dialect %q is not known here", d.Dialect)
	}
	return change.Job{Family: e.family(ctx, way.Family), Path: way, Can: profile.Abilities, Pace: e.Pace}, nil
}

// family is a family of the catalogue; an empty one where it is not there any more: then durations are the usual ones.
func (e *Engine) family(ctx context.Context, name string) *catalog.Family {
	if e.Catalogue != nil {
		if cat, err := e.Catalogue(ctx); err == nil && cat.Family(name) != nil {
			return cat.Family(name)
		}
	}
	return &catalog.Family{}
}

// askTogether makes a question of one member one of the whole change: it names the member, and offers the way back where the ensemble has one.
func (r *run) askTogether(ctx context.Context, q *change.Question) error {
	q.Text = r.m.Device + ": " + q.Text
	had := slices.Contains(q.Answers, change.GoBack) || q.Kind == change.AskFailed
	q.Answers = slices.DeleteFunc(slices.Clone(q.Answers), func(a change.Action) bool { return a == change.GoBack })
	h, err := r.halfWay(ctx)
	if err != nil || h == nil {
		return err
	}
	if q.Kind != change.AskHand || r.c.Kind != change.Replacing { // whoever moves cables knows
		q.Text = sentences(q.Text, "How they stand: "+h.Why)
	}
	switch {
	case h.Back && had:
		q.Answers = slices.Insert(q.Answers, 0, change.GoBack)
	case h.Back:
		q.Answers = append(q.Answers, change.GoBack)
	}
	return nil
}

// turnBackTogether takes the members back that moved, where that is to be done without asking and the rule says so. All lanes begin anew then.
func (r *run) turnBackTogether(ctx context.Context, s *store.Step, why string) error {
	if r.c.BackPolicy != change.Automatic || r.c.Returning != nil {
		return nil
	}
	if err := r.board.stop(ctx); err != nil {
		return err
	}
	h, err := r.halfWay(ctx)
	if err != nil || h == nil || !h.Back {
		return err
	}
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	r.log.Warn("going back", "step", s.Plan.Number, "kind", s.Plan.Kind, "why", why, "rule", h.Why)
	if err := r.e.Store.TakeBack(ctx, r.lease, &c, 0, s.Plan.Number, r.m.Device+": "+why); err != nil {
		return err
	}
	StepsEnded.WithLabelValues(string(s.Plan.Kind), string(change.StepFailed)).Inc()
	return errAnew
}
