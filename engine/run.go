package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
	"verimorph/transfer"
)

// run is one worker's work on one change.
type run struct {
	e        *Engine
	c        *store.Change
	lease    store.Lease
	log      *slog.Logger
	path     path.Path
	mu       sync.Mutex // guards conn, which the end of a step's time cuts from outside
	conn     *device.Client
	told     string // and fraction: the last progress
	fraction float64
	record   store.Device // of the device, and when it was read
	readAt   time.Time
	way      waiting     // how to get in, while nobody answers
	redone   map[int]int // how often a step was set back, by index
	holding  bool        // somebody asked the change to hold
	deafen   func()      // stops listening at the console line; nil while nobody does
	unsure   bool        // the connection was lost with the command to restart: the device may not have heard it

	silentSince time.Time        // nothing has answered since then; zero: something did
	tentative   bool             // the step waits for a device that starts anew: it may not know its users yet
	ready       map[int]bool     // hops whose go/no-go check this worker has done
	looked      *device.Client   // the connection over which the device was found to stand as the change left it
	seen        *device.Portrait // what the device said of itself last, as far as it was asked
	strict      *store.Step      // what is sent now belongs to this step, and cannot be undone; nil: it can
}

func (e *Engine) newRun(c *store.Change, lease store.Lease) *run {
	return &run{e: e, c: c, lease: lease, log: e.Log.With("change", c.ID, "device", c.Device), redone: map[int]int{}, ready: map[int]bool{}, holding: true}
}

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

// A finalError must not be retried.
type finalError struct{ err error }

func (e *finalError) Error() string { return e.err.Error() }
func (e *finalError) Unwrap() error { return e.err }

func final(format string, args ...any) error { return &finalError{fmt.Errorf(format, args...)} }

// A recordError is trouble with our own records, not with the device. It never fails a change: the change stays running
// and goes on when the database answers again.
type recordError struct{ err error }

func (e *recordError) Error() string {
	return "the records cannot be read or written: " + e.err.Error()
}
func (e *recordError) Unwrap() error { return e.err }

// Records marks an error of the store in what Config is given: trouble with our own records never fails a change.
func Records(err error) error { return records(err) }

// records marks an error of the store.
func records(err error) error {
	if err == nil || errors.Is(err, store.ErrFenced) {
		return err
	}
	return &recordError{err}
}

// An againError says that an earlier step of the same hop has to be done again. often says what to think when that was done in vain.
type againError struct {
	kind       change.Kind
	why, often string
}

func (e *againError) Error() string { return e.why }

// attempts is how often a step is done when a later one finds that it did not come off. A connection that fails is tried again for
// as long as the step has time.
const attempts = 3

// An askError says that a person is needed before the step can go on.
type askError struct {
	q     change.Question
	state change.StepState // of the step meanwhile
}

func (e *askError) Error() string { return e.q.Text }

// A laterError says that the step has to wait for a moment that is far enough away to let go of the device meanwhile.
type laterError struct{ until time.Time }

func (e *laterError) Error() string { return "it waits until " + e.until.Format(ready.Stamp) }

// all goes through the steps. It returns an error only when the change stays running: interrupted, fenced, or the
// records cannot be written.
func (r *run) all(ctx context.Context) error {
	if err := json.Unmarshal(r.c.Path, &r.path); err != nil {
		return err
	}
	r.c.Path, r.c.Checks = nil, nil // not needed any more, and a thousand of them are no trifle
	for i := 0; i < len(r.c.Steps); i++ {
		s := &r.c.Steps[i]
		over := s.State == change.StepDone && s.Plan.Kind != change.Verify // a verdict ends the change in the same moment
		if over || s.State == change.StepSkipped || s.State == change.StepFailed {
			continue
		}
		if (s.Plan.StopsBefore || i == 0) && r.holding {
			if held, err := r.e.Store.HeldNow(ctx, r.lease, r.c.ID); held || err != nil {
				return err
			}
			r.holding = false
		}
		evidence, err := r.step(ctx, s)
		var again *againError
		var record *recordError
		var ask *askError
		var later *laterError
		switch {
		case errors.Is(err, store.ErrFenced) || ctx.Err() != nil:
			return errors.Join(err, ctx.Err())
		case errors.As(err, &record):
			return err
		case errors.As(err, &later):
			r.log.Info("the change waits for its time", "until", later.until)
			return r.e.Store.RestUntil(ctx, r.lease, r.c.ID, later.until)
		case errors.As(err, &ask):
			if ask.q.Step == 0 { // it came up while connecting
				ask.q.Step, ask.state = s.Plan.Number, s.State
			}
			r.log.Info("the change needs a person", "step", s.Plan.Number, "kind", ask.q.Kind)
			return r.ask(ctx, ask)
		case errors.As(err, &again):
			next, err := r.goBack(ctx, i, again)
			if err != nil {
				return err
			}
			if i = next; i < 0 { // it was done often enough
				return r.failed(ctx, s, fmt.Errorf("%s; it was done %d times, so %s", again.why, attempts, again.often))
			}
			i--
			continue
		case errors.As(err, new(*dataError)):
			q := change.Question{Kind: change.AskData, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
				Text: fmt.Sprintf("%s: %s. The device waits. Put that right, then answer retry", r.where(s), err)}
			if r.canGoBack(r.seen) {
				q.Answers = append(q.Answers, change.GoBack)
			}
			return r.ask(ctx, &askError{q, s.State})
		case errors.As(err, new(*faultError)):
			return r.fault(ctx, s, err)
		case err != nil:
			if turned, err := r.turnBack(ctx, s, err); turned || err != nil {
				if err != nil {
					return err
				}
				i = -1
				continue
			}
			return r.failed(ctx, s, err)
		}
		if s.Plan.Kind == change.Verify {
			turned, err := r.conclude(ctx, s, evidence)
			if !turned || err != nil {
				return err
			}
			i = -1
			continue
		}
		state, err := r.e.Store.EndStep(ctx, r.lease, r.c.ID, s.Plan.Number, change.StepDone, evidence)
		if err != nil {
			return err
		}
		r.holding = state == change.Holding
		StepsEnded.WithLabelValues(string(s.Plan.Kind), string(change.StepDone)).Inc()
		r.log.Info("step done", "step", s.Plan.Number, "kind", s.Plan.Kind, "evidence", evidence)
		s.State = change.StepDone
	}
	return fmt.Errorf("change %d has no step that concludes it", r.c.ID)
}

// resumed notes that a step which had begun goes on with another worker, or after a pause.
func (r *run) resumed(ctx context.Context) error {
	for i := range r.c.Steps {
		if s := &r.c.Steps[i]; s.State == change.StepRunning {
			return records(r.e.Store.ResumeStep(ctx, r.lease, r.c.ID, s.Plan.Number, "it had no worker for a while; what goes on begins with a look at the device"))
		}
	}
	return nil
}

func (r *run) ask(ctx context.Context, a *askError) error {
	a.q.Step = max(a.q.Step, 1)
	err := r.e.Store.Ask(ctx, r.lease, r.c.ID, a.q, a.state, a.q.Text)
	if err == nil {
		r.e.notify(ctx, Notice{Event: "change.asks", Device: r.c.Device, Text: fmt.Sprintf("Change %d on %s needs a person: %s", r.c.ID, r.c.Device, a.q.Text)})
	}
	return err
}

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
	limited, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("the hard limit of %s is over", limit.Round(time.Second)))
	defer cancel()
	r.hear(ctx, s)
	r.tentative = r.mayRefuse(s)
	// Whatever waits for the device when the time is over stops waiting.
	stop := context.AfterFunc(limited, r.cut)
	defer stop()
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
			return "", fmt.Errorf("%w; last seen: %s", context.Cause(limited), s.Note)
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

// A faultError is a fault of ours: the code of a step broke off.
type faultError struct{ what any }

func (e *faultError) Error() string {
	return fmt.Sprintf("the service broke off by a fault of its own: %v", e.what)
}

// faultsBorne is how often a step may break off by a fault of ours before a person is asked. Until then the next worker takes it up, as
// after a crash.
const faultsBorne = 3

// fault counts in the journal that a step broke off.
func (r *run) fault(ctx context.Context, s *store.Step, err error) error {
	if e := r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "fault", err.Error()); e != nil {
		return e
	}
	n, e := r.e.Store.Faults(ctx, r.c.ID, s.Plan.Number)
	if e != nil || n < faultsBorne {
		return errors.Join(err, e)
	}
	q := change.Question{Kind: change.AskFault, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
		Text: fmt.Sprintf("%s: %s; that is %d times now. %s Report it with the journal and the log of the service", r.where(s), err, n, r.traces(s))}
	if r.canGoBack(r.seen) {
		q.Answers = append(q.Answers, change.GoBack)
	}
	return r.ask(ctx, &askError{q, s.State})
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
		if err == nil && !done && taken && slices.Contains(onlyOnce, s.Plan.Kind) {
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
		if r.cutsOff(s) || s.Plan.Irreversible() {
			r.strict = s
		}
		err := w.perform(r, ctx, s)
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

// onlyOnce are the kinds of steps whose command must not be sent twice for nothing.
var onlyOnce = []change.Kind{change.Install, change.Clone, change.Unpack, change.Component, change.PowerCycle, change.Restart}

// onItsWay is how long a command may be on its way after the connection broke, or its worker died: what was sent before that may still
// arrive. It lasts no less than a busy machine takes, however fast the fleet is simulated.
const (
	onItsWay      = 30 * time.Second
	leastOnItsWay = time.Second
)

// inspectAgain looks at a step that had begun and does not show on the device, until no command for it can be on its way any more.
func (r *run) inspectAgain(ctx context.Context, w work, s *store.Step) (done bool, evidence string, err error) {
	for until := time.Now().Add(max(r.wait(onItsWay), leastOnItsWay)); err == nil && !done && time.Now().Before(until); {
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

// goBack sets the step that has to be done again, and those after it, to waiting, and returns its index; -1 when it was done
// often enough.
func (r *run) goBack(ctx context.Context, i int, again *againError) (int, error) {
	first := i
	for r.c.Steps[first].Plan.Kind != again.kind {
		first--
	}
	if r.redone[first]++; r.redone[first] >= attempts {
		return -1, nil
	}
	for k := first; k <= i; k++ {
		s := &r.c.Steps[k]
		if err := r.e.Store.RedoStep(ctx, r.lease, r.c.ID, s.Plan.Number, again.why); err != nil {
			return i, err
		}
		s.State, s.Intent = change.StepWaiting, nil
	}
	return first, nil
}

// pastPoint is the hop whose point of no return is behind a step.
func (r *run) pastPoint(s *store.Step) (hop int, ok bool) {
	if r.c.Returning != nil {
		return 0, false
	}
	if hop, ok = r.c.Passed(); !ok {
		return 0, false
	}
	// A hop that has not come to its own point yet left the device as the hop before it did: nothing is to be undone.
	return hop, s.Plan.Hop == hop || s.Plan.Kind == change.Verify
}

// turnBack takes the declared way back of the hop in which a step failed, where that is to be done without asking.
func (r *run) turnBack(ctx context.Context, s *store.Step, why error) (turned bool, err error) {
	hop, ok := r.pastPoint(s)
	if !ok || r.c.BackPolicy != store.BackAutomatic || r.c.WayBack(hop) == nil {
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
	switch {
	case s.Plan.Back:
		return r.ask(ctx, &askError{change.Question{Kind: change.AskBack, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
			Text: sentences(fmt.Sprintf("Going back failed at %s: %s", r.where(s), err), r.armed(r.lookNow(ctx)), "The device needs a person")}, change.StepFailed})
	case past && r.c.Kind != store.Restore:
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
	if n, ok := r.c.Passed(); ok && r.c.Kind != store.Restore {
		stands = fmt.Sprintf("The device runs %s, where the hop before left it", r.path.Hops[n].To)
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
		if _, past := r.pastPoint(s); past && r.c.Kind != store.Restore {
			return false, r.failed(ctx, s, why)
		}
		state, failure = change.Failed, "The readings after the change do not satisfy what is expected; see the verdict."
	}
	ChangesEnded.WithLabelValues(string(state)).Inc()
	r.log.Info("change ended", "state", state, "verdict", v.Verdict)
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

// hop is the hop a step belongs to.
func (r *run) hop(s *store.Step) path.Hop {
	if s.Plan.Hop < 0 || s.Plan.Hop >= len(r.path.Hops) {
		return path.Hop{}
	}
	return r.path.Hops[s.Plan.Hop]
}

// progress says how far a step is and what is happening; only what changed is written, with that of all other changes.
func (r *run) progress(_ context.Context, s *store.Step, fraction float64, format string, args ...any) {
	s.Note = fmt.Sprintf(format, args...)
	if s.Note == r.told && fraction-r.fraction < 0.02 && fraction >= r.fraction {
		return
	}
	r.told, r.fraction = s.Note, fraction
	r.e.tell(store.Progress{Lease: r.lease, ChangeID: r.c.ID, Step: s.Plan.Number, Fraction: fraction, Note: s.Note})
}

// wait scales a waiting time to the pace of the installation.
func (r *run) wait(d time.Duration) time.Duration {
	if r.e.Pace.Factor <= 1 {
		return d
	}
	return max(time.Duration(float64(d)/r.e.Pace.Factor), 50*time.Millisecond)
}

// nextLook is how long to wait before a device is looked at again: the longer it takes, the longer, up to a quarter of a
// minute of the device's own time. A thousand devices that settle at once are not asked more than they can be answered for.
func (r *run) nextLook(since time.Time) time.Duration {
	own := time.Duration(float64(time.Since(since)) * max(r.e.Pace.Factor, 1))
	return r.wait(min(max(own/10, 3*time.Second), 15*time.Second))
}

// pause waits, or returns why the context ended.
func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(d):
		return nil
	}
}

// fraction of the expected time that has passed, never quite 1.
func expectedFraction(s catalog.Span, since time.Time) float64 {
	if s.High <= 0 {
		return 0
	}
	return min(time.Since(since).Seconds()/s.High, 0.99)
}
