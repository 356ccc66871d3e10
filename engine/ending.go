package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/store"
)

// How a change ends: the way back, a failure, a verdict.

// turnBack takes the declared way back of the hop in which a step failed, where that is to be done without asking.
func (r *run) turnBack(ctx context.Context, s *store.Step, why error) (turned bool, err error) {
	if !r.alone() {
		return false, r.turnBackTogether(ctx, s, fmt.Sprintf("%s: %s", r.where(s), why))
	}
	hop, ok := r.pastPoint(s)
	if !ok || r.c.BackPolicy != change.Automatic || r.c.WayBack(hop) == nil {
		return false, nil
	}
	if p := r.lookNow(ctx); !r.wayBack(hop, p) {
		r.log.Warn("the way back is not there any more", "step", s.Plan.Number)
		return false, nil
	}
	r.hangUp()
	r.log.Warn("going back", "step", s.Plan.Number, "kind", s.Plan.Kind, "err", why)
	if err := r.e.Store.TakeBack(ctx, r.lease, r.c, hop, s.Plan.Number, fmt.Sprintf("%s: %s", r.where(s), why)); err != nil {
		return false, err
	}
	StepsEnded.WithLabelValues(string(s.Plan.Kind), string(change.StepFailed)).Inc()
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return false, err
	}
	r.board.replan(&c)
	r.c = &c
	r.redone = map[int]int{}
	return true, nil
}

// where says which step that is.
func (r *run) where(s *store.Step) string {
	if s.Plan.Hop < 0 || s.Plan.Hop >= len(r.path.Hops) {
		return s.Plan.Title
	}
	h := r.path.Hops[s.Plan.Hop]
	return fmt.Sprintf("%s (hop %d, %s to %s)", s.Plan.Title, s.Plan.Hop+1, h.From, h.To)
}

// failed asks a person where the device may stand between two installations, and ends the change where it stands as before.
func (r *run) failed(ctx context.Context, s *store.Step, err error) error {
	hop, past := r.pastPoint(s)
	if !r.alone() && !past {
		var e error
		if past, e = r.passed(ctx); e != nil {
			return e
		}
	}
	switch {
	case s.Plan.Back:
		return r.ask(ctx, &askError{change.Question{Kind: change.AskBack, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
			Text: sentences(fmt.Sprintf("Going back failed at %s: %s", r.where(s), err), r.armed(r.lookNow(ctx)), "The device needs a person")}, change.StepFailed})
	case past && r.c.Kind != change.Restoring:
		p := r.lookNow(ctx)
		q := change.Question{Kind: change.AskFailed, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave}, Text: sentences(fmt.Sprintf("%s: %s", r.where(s), err), r.armed(p))}
		if r.wayBack(hop, p) {
			q.Answers = []change.Action{change.GoBack, change.Retry, change.Leave}
		}
		return r.ask(ctx, &askError{q, change.StepFailed})
	}
	if e := r.restoreService(ctx, s); e != nil {
		err = fmt.Errorf("%w. It was drained, and could not be returned to service: %w", err, e)
	}
	StepsEnded.WithLabelValues(string(s.Plan.Kind), string(change.StepFailed)).Inc()
	ChangesEnded.WithLabelValues(string(change.Failed)).Inc()
	r.log.Error("step failed", "step", s.Plan.Number, "kind", s.Plan.Kind, "err", err)
	stands := ""
	if n, ok := r.c.Passed(); ok && r.c.Kind != change.Restoring {
		stands = fmt.Sprintf("The device runs %s, where the hop before left it", r.path.Hops[n].To)
	}
	if err := r.board.stop(ctx); err != nil {
		return err
	}
	return r.e.Store.EndChange(ctx, r.lease, r.c.ID, store.Ending{Step: s.Plan.Number, StepState: change.StepFailed, Outcome: err.Error(), State: change.Failed,
		Failure: sentences(fmt.Sprintf("%s: %s", r.where(s), err), stands, r.traces(s), r.armed(r.seen)) + "."})
}

// sentences joins sentences that may end with a full stop; the last of them does not.
func sentences(parts ...string) string {
	var out []string
	for _, p := range parts {
		if p = strings.TrimRight(strings.TrimSpace(p), "."); p != "" {
			out = append(out, p)
		}
	}
	return strings.Join(out, ". ")
}

// restoreService returns a device to service that was drained for a hop that fails before its point of no return.
func (r *run) restoreService(ctx context.Context, s *store.Step) error {
	drained := false
	for _, st := range r.c.Steps {
		if st.Plan.Kind == change.Drain && st.Plan.Hop == s.Plan.Hop && st.State != change.StepWaiting {
			drained = true
		}
	}
	if !drained {
		return nil
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.Undrain(ctx)
}

// conclude closes the change with its verdict, or begins the way back.
func (r *run) conclude(ctx context.Context, s *store.Step, verdict string) (turned bool, err error) {
	var v verify.Verdict
	if err := json.Unmarshal([]byte(verdict), &v); err != nil {
		return false, err
	}
	state, failure := change.Done, ""
	switch {
	case v.Verdict == verify.Fail && r.c.Returning != nil:
		state, failure = change.Failed, "The way back was taken, but the readings afterwards do not satisfy what is expected; see the verdict. It was taken because: "+*r.c.ReturnWhy
	case r.c.Returning != nil:
		state, failure = change.Returned, "The way back was taken because: "+*r.c.ReturnWhy
	case v.Verdict == verify.Fail:
		if err := r.e.Store.SetVerdict(ctx, r.lease, r.c.ID, []byte(verdict)); err != nil {
			return false, err
		}
		why := fmt.Errorf("the readings after the change do not satisfy what is expected: %s", unmet(v))
		if turned, err := r.turnBack(ctx, s, why); turned || err != nil {
			return turned, err
		}
		if _, past := r.pastPoint(s); (past || !r.alone()) && r.c.Kind != change.Restoring {
			return false, r.failed(ctx, s, why)
		}
		state, failure = change.Failed, "The readings after the change do not satisfy what is expected; see the verdict."
	}
	if r.c.Kind == change.Swapping && state == change.Done {
		if err := r.freeBench(ctx); err != nil {
			return false, err
		}
	}
	ChangesEnded.WithLabelValues(string(state)).Inc()
	r.log.Info("change ended", "state", state, "verdict", v.Verdict)
	if err := r.board.stop(ctx); err != nil {
		return false, err
	}
	return false, r.e.Store.EndChange(ctx, r.lease, r.c.ID, store.Ending{Step: s.Plan.Number, StepState: change.StepDone, Outcome: "verdict: " + v.Verdict, State: state, Verdict: []byte(verdict), Failure: failure})
}

// unmet tells what of a verdict is not met.
func unmet(v verify.Verdict) string {
	var out []string
	for _, res := range v.Open() {
		out = append(out, res.Title+" ("+res.Evidence+")")
	}
	return first(out, 4)
}
