package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// run is one worker's work on one change.
type run struct {
	e        *Engine
	c        *store.Change
	m        *store.Member // whose device this lane works on
	board    *board        // of the lanes of the change
	first    bool          // it does the steps of the change as a whole
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
	pausing  bool        // somebody may have asked the change to pause
	deafen   func()      // stops listening at the console line; nil while nobody does
	unsure   bool        // the connection was lost with the command to restart: the device may not have heard it

	silentSince time.Time          // nothing has answered since then; zero: something did
	tentative   bool               // the step waits for a device that starts anew: it may not know its users yet
	ready       map[int]bool       // hops whose go/no-go check this worker has done
	looked      *device.Client     // the connection over which the device was found to stand as the change left it
	seen        *portrait.Portrait // what the device said of itself last, as far as it was asked
	jobs        *jobMemory         // what the device does in the background for the step
	strict      *store.Step        // what is sent now belongs to this step, and cannot be undone; nil: it can
}

func (e *Engine) newRun(c *store.Change, lease store.Lease, b *board, first bool) *run {
	return &run{e: e, c: c, m: c.First(), board: b, first: first, lease: lease, log: e.Log.With("change", c.ID, "device", c.Devices()), redone: map[int]int{}, ready: map[int]bool{}, pausing: true}
}

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
		if s.Plan.SafePoint || i == 0 {
			if rests, err := r.rests(ctx); rests || err != nil {
				return err
			}
		}
		if mine, goes, err := r.turn(ctx, s); err != nil || !goes {
			return err
		} else if !mine {
			continue
		}
		evidence, err := r.step(ctx, s)
		var next int
		var goes bool
		if err != nil {
			next, goes, err = r.broke(ctx, i, err)
		} else {
			next, goes, err = r.went(ctx, i, evidence)
		}
		if err != nil || !goes {
			return err
		}
		i = next - 1
	}
	return fmt.Errorf("change %d has no step that concludes it", r.c.ID)
}

// went records that the step with index i did its work, and says which comes next. goes is false when the lane is over: the change has ended.
func (r *run) went(ctx context.Context, i int, evidence string) (next int, goes bool, err error) {
	s := &r.c.Steps[i]
	if s.Plan.Kind == change.Verify {
		turned, err := r.conclude(ctx, s, evidence)
		return 0, turned, err
	}
	state, err := r.e.Store.EndStep(ctx, r.lease, r.c.ID, s.Plan.Number, change.StepDone, evidence)
	if err != nil {
		return 0, false, err
	}
	r.pausing = state == change.Pausing
	r.board.done(s.Plan.Number)
	StepsEnded.WithLabelValues(string(s.Plan.Kind), string(change.StepDone)).Inc()
	r.log.Info("step done", "step", s.Plan.Number, "kind", s.Plan.Kind, "evidence", evidence)
	s.State = change.StepDone
	return i + 1, true, nil
}

// broke does what has to be done when the step with index i did not come off: it waits for a time, asks a person, does steps again, goes back, or
// fails the change. It says which step comes next; goes is false when the lane is over. An error leaves the change running.
func (r *run) broke(ctx context.Context, i int, why error) (next int, goes bool, err error) {
	s := &r.c.Steps[i]
	var again *againError
	var record *recordError
	var ask *askError
	var later *laterError
	switch {
	case errors.Is(why, store.ErrFenced) || ctx.Err() != nil:
		return 0, false, errors.Join(why, ctx.Err())
	case errors.As(why, &record):
		return 0, false, why
	case errors.As(why, &later):
		r.log.Info("the change waits for its time", "until", later.until)
		if err := r.board.stop(ctx); err != nil {
			return 0, false, err
		}
		if !r.alone() {
			if _, err := r.halfWay(ctx); err != nil {
				return 0, false, err
			}
		}
		return 0, false, r.e.Store.RestUntil(ctx, r.lease, r.c.ID, later.until)
	case errors.As(why, &ask):
		if ask.q.Step == 0 { // it came up while connecting
			ask.q.Step, ask.state = s.Plan.Number, s.State
		}
		r.log.Info("the change needs a person", "step", s.Plan.Number, "kind", ask.q.Kind)
		return 0, false, r.ask(ctx, ask)
	case errors.As(why, &again):
		next, err := r.redo(ctx, i, again)
		if err == nil && next < 0 { // it was done often enough
			return 0, false, r.failed(ctx, s, fmt.Errorf("%s; it was done %d times, so %s", again.why, attempts, again.often))
		}
		return next, true, err
	case errors.As(why, new(*dataError)):
		q := change.Question{Kind: change.AskData, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
			Text: fmt.Sprintf("%s: %s. The device waits. Put that right, then answer retry", r.where(s), why)}
		if r.canGoBack(r.seen) {
			q.Answers = append(q.Answers, change.GoBack)
		}
		return 0, false, r.ask(ctx, &askError{q, s.State})
	case errors.As(why, new(*faultError)):
		return 0, false, r.fault(ctx, s, why)
	}
	if turned, err := r.turnBack(ctx, s, why); turned || err != nil {
		return 0, err == nil, err
	}
	return 0, false, r.failed(ctx, s, why)
}

// rests reports whether the change comes to rest at this safe point: another lane rests it, or somebody asked it to pause.
func (r *run) rests(ctx context.Context) (bool, error) {
	if r.board.rests() {
		return true, nil
	}
	if !r.pausing {
		return false, nil
	}
	asked, err := r.e.Store.PauseAsked(ctx, r.lease, r.c.ID)
	if err != nil || !asked {
		r.pausing = false
		return false, err
	}
	if err := r.board.stop(ctx); err != nil {
		return false, err
	}
	if !r.alone() {
		if _, err := r.halfWay(ctx); err != nil {
			return false, err
		}
	}
	return r.e.Store.PausedNow(ctx, r.lease, r.c.ID)
}

// turn waits until it is a step's turn: what has to come first in other lanes is over. A step of the change as a whole is done by the first
// lane; for the others it is not theirs, and they wait until it is over. goes is false when the change comes to rest meanwhile.
func (r *run) turn(ctx context.Context, s *store.Step) (mine, goes bool, err error) {
	if s.Plan.Member == 0 && !r.first {
		goes, err = r.board.await(ctx, s.Plan.Number)
		return false, goes, err
	}
	goes, err = r.board.await(ctx, r.board.needs(&s.Plan)...)
	return true, goes, err
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
	if err := r.board.stop(ctx); err != nil { // while a change asks, nothing of it goes on
		return err
	}
	if !r.alone() {
		if err := r.askTogether(ctx, &a.q); err != nil {
			return err
		}
	}
	a.q.Step = max(a.q.Step, 1)
	asked, err := r.e.Store.Ask(ctx, r.lease, r.c.ID, a.q, a.state, a.q.Text)
	if asked {
		r.e.notify(ctx, Notice{Event: "change.asks", Device: r.m.Device, Text: fmt.Sprintf("Change %d on %s needs a person: %s", r.c.ID, r.m.Device, a.q.Text)})
	}
	return err
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

// onItsWay is how long a command may be on its way after the connection broke, or its worker died: what was sent before that may still
// arrive. It lasts no less than a busy machine takes, however fast the fleet is simulated.
const (
	onItsWay      = 30 * time.Second
	leastOnItsWay = time.Second
)

// redo sets the step that has to be done again, and those after it, to waiting, and returns its index; -1 when it was done
// often enough.
func (r *run) redo(ctx context.Context, i int, again *againError) (int, error) {
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
		r.board.again(s.Plan.Number)
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

// hop is the hop a step belongs to.
func (r *run) hop(s *store.Step) path.Hop {
	if s.Plan.Hop < 0 || s.Plan.Hop >= len(r.path.Hops) {
		return path.Hop{}
	}
	return r.path.Hops[s.Plan.Hop]
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
	own := time.Duration(float64(r.e.since(since)) * max(r.e.Pace.Factor, 1))
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
