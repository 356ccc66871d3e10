package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/device"
	"verimorph/store"
	"verimorph/transfer"
)

// One step: inspect, record the intent, perform, confirm.

// A step's work. Any function may be nil.
//
// inspect looks whether the step is done already; taken says that its intent was recorded before, by this worker or an
// earlier one. perform does it. confirm looks at the device and returns the evidence, or an error.
type work struct {
	inspect func(r *run, ctx context.Context, s *store.Step, taken bool) (done bool, evidence string, err error)
	intent  func(r *run, ctx context.Context, s *store.Step) (any, error) // what to remember of the device before
	perform func(r *run, ctx context.Context, s *store.Step) error
	confirm func(r *run, ctx context.Context, s *store.Step) (evidence string, err error)
}

// attempts is how often a step is done when a later one finds that it did not come off. A connection that fails is tried again for
// as long as the step has time.
const attempts = 3

// step does the work of a step.
func (r *run) step(ctx context.Context, s *store.Step) (evidence string, err error) {
	w, ok := works[s.Plan.Kind]
	if !ok {
		return "", final("this version does not know the step %q", s.Plan.Kind)
	}
	return r.within(ctx, w, s)
}

// within inspects, records the intent, performs and confirms, with retries where the connection failed, in the time for it.
func (r *run) within(ctx context.Context, w work, s *store.Step) (evidence string, err error) {
	limit := time.Duration(s.Plan.Expect.Limit * float64(time.Second))
	if s.Plan.Kind.Is(change.Verify, change.Settle) { // that is the time to settle; the last look at everything has a time of its own, however slow the device is
		limit += limit / 2
	}
	limited, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("the hard limit of %s is over", limit.Round(time.Second)))
	defer cancel()
	r.hear(ctx, s)
	r.tentative = r.mayRefuse(s)
	// Whatever waits for the device when the time is over stops waiting.
	stop := context.AfterFunc(limited, r.cut)
	defer stop()
	seen := "" // why the last try failed
	for try := 1; ; try++ {
		evidence, err = r.once(limited, w, s)
		var f *finalError
		var again *againError
		var record *recordError
		if err == nil || errors.As(err, &f) || errors.As(err, new(*faultError)) || errors.As(err, &again) || errors.Is(err, store.ErrFenced) || ctx.Err() != nil {
			return evidence, err
		}
		if limited.Err() != nil { // before anything else: with the time over, every call fails, also those to our records
			if errors.As(err, &record) && !r.e.recordsAnswer(ctx) {
				return "", err // it was they that took the time
			}
			return "", fmt.Errorf("%w; last seen: %s", context.Cause(limited), cmp.Or(s.Note, seen, "nothing"))
		}
		if errors.As(err, &record) {
			return "", err
		}
		switch k := device.KindOf(err); {
		case k == device.Unreachable, k == device.Lost, k == device.Silent, k == device.NotReady, errors.Is(err, transfer.ErrBroken): // until the time is over
		default:
			return "", err
		}
		r.hangUp()
		seen = err.Error()
		r.log.Warn("step is tried again", "step", s.Plan.Number, "kind", s.Plan.Kind, "try", try, "err", err)
		if e := r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "retry", err.Error()); e != nil {
			return "", records(e)
		}
		if err := pause(limited, time.Duration(min(try, 10))*r.wait(2*time.Second)); err != nil {
			continue
		}
	}
}

// recordsAnswer reports whether the database answers now.
func (e *Engine) recordsAnswer(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	return e.Store.Pool.Ping(ctx) == nil
}

func (r *run) once(ctx context.Context, w work, s *store.Step) (evidence string, err error) {
	defer func() {
		r.strict = nil
		if p := recover(); p != nil {
			r.log.Error("a step broke off by a fault of the service", "step", s.Plan.Number, "kind", s.Plan.Kind, "panic", p, "stack", string(debug.Stack()))
			r.hangUp()
			err = &faultError{p}
		}
	}()
	taken := s.State == change.StepRunning
	if w.inspect != nil {
		done, evidence, err := w.inspect(r, ctx, s, taken)
		if err == nil && !done && taken && s.Plan.Kind.Spec().OnlyOnce {
			done, evidence, err = r.inspectAgain(ctx, w, s)
		}
		if err != nil {
			return "", err
		}
		if done {
			return evidence, nil
		}
	}
	if err := r.gate(ctx, s); err != nil {
		if taken && w.inspect != nil && errors.As(err, new(*askError)) { // what the gate found may be the step itself, which was on its way
			if done, evidence, e := w.inspect(r, ctx, s, true); e == nil && done {
				return evidence, nil
			}
		}
		return "", err
	}
	var intent []byte
	if w.intent != nil && s.Intent == nil {
		v, err := w.intent(r, ctx, s)
		if err != nil {
			return "", err
		}
		if v != nil {
			if intent, err = json.Marshal(v); err != nil {
				return "", err
			}
			s.Intent = intent
		}
	}
	if err := r.e.Store.BeginStep(ctx, r.lease, r.c.ID, s.Plan.Number, intent, s.Plan.Title); err != nil {
		return "", records(err)
	}
	s.State = change.StepRunning
	s.Attempts++
	r.e.struck(r, s, "begun")
	if w.perform != nil {
		ctx, err := r.remembering(ctx, s, taken)
		if err != nil {
			return "", err
		}
		if r.cutsOff(s) || s.Plan.Irreversible() {
			r.strict = s
		}
		err = w.perform(r, ctx, s)
		r.strict = nil
		if err != nil {
			return "", err
		}
	}
	r.e.struck(r, s, "performed")
	if w.confirm == nil {
		return s.Note, nil
	}
	return w.confirm(r, ctx, s)
}

// inspectAgain looks at a step that had begun and does not show on the device, until no command for it can be on its way any more.
func (r *run) inspectAgain(ctx context.Context, w work, s *store.Step) (done bool, evidence string, err error) {
	for until := r.e.now().Add(max(r.wait(onItsWay), leastOnItsWay)); err == nil && !done && r.e.now().Before(until); {
		r.progress(ctx, s, 0, "it was begun before and does not show on the device; the command for it may still be on its way")
		if err = pause(ctx, r.wait(5*time.Second)); err == nil {
			done, evidence, err = w.inspect(r, ctx, s, true)
		}
	}
	return done, evidence, err
}

// struck lets tests strike in the middle of a step.
func (e *Engine) struck(r *run, s *store.Step, at string) {
	if e.strike != nil {
		e.strike(r, s, at)
	}
}

// progress says how far a step is and what is happening; only what changed is written, with that of all other changes.
func (r *run) progress(_ context.Context, s *store.Step, fraction float64, format string, args ...any) {
	s.Note = fmt.Sprintf(format, args...)
	if s.Note == r.told && fraction-r.fraction < 0.02 && fraction >= r.fraction {
		return
	}
	r.told, r.fraction = s.Note, fraction
	r.e.progress.note(store.Progress{Lease: r.lease, ChangeID: r.c.ID, Step: s.Plan.Number, Fraction: fraction, Note: s.Note})
}

// expectedFraction is the fraction of the expected time that has passed, never quite 1.
func expectedFraction(s catalog.Span, passed time.Duration) float64 {
	if s.High <= 0 {
		return 0
	}
	return min(passed.Seconds()/s.High, 0.99)
}
