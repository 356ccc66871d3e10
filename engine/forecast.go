package engine

import (
	"context"
	"slices"
	"time"

	"verimorph/core/change"
	"verimorph/core/ready"
	"verimorph/store"
)

// How long steps take, by what was seen before.

// A Forecast is how long a step is expected to take, in seconds: the middle, and what is not passed in 19 of 20 cases.
type Forecast struct{ Half, Most float64 }

// samples is how often a kind of step must have been seen before what was seen counts more than the catalogue.
const samples = 5

// Forecasts are those of some steps on a model, from what was seen before or else from the catalogue.
func (e *Engine) Forecasts(ctx context.Context, model string, steps []change.Step) ([]Forecast, error) {
	seen, err := e.Store.StepSeconds(ctx, model, 200)
	if err != nil {
		return nil, records(err)
	}
	out := make([]Forecast, len(steps))
	for i, s := range steps {
		out[i] = Forecast{(s.Expect.Low + s.Expect.High) / 2, s.Expect.High}
		if past := seen[string(s.Kind)]; len(past) >= samples && !s.Kind.Spec().Moves && s.Kind != change.Hand {
			out[i] = Forecast{ready.P(past, 0.5), ready.P(past, 0.95)}
		}
	}
	return out, nil
}

// Learn puts what was seen before on such devices into the expected ranges of steps, where enough was seen. Limits only grow.
func (e *Engine) Learn(ctx context.Context, model string, steps []change.Step) error {
	seen, err := e.Store.StepSeconds(ctx, model, 200)
	if err != nil {
		return err
	}
	for i := range steps {
		s := &steps[i]
		past := seen[string(s.Kind)]
		if len(past) < samples || s.Kind.Spec().Moves || s.Kind == change.Hand {
			continue
		}
		s.Expect.Low, s.Expect.High = ready.P(past, 0.1), ready.P(past, 0.95)
		s.Expect.Limit = max(s.Expect.Limit, 2*s.Expect.High)
	}
	return nil
}

// forecastInto says how long the rest of a change takes, and the longest of its ways back.
func (e *Engine) forecastInto(ctx context.Context, f *ready.Facts, c *store.Change) error {
	if c.WindowFrom == nil && c.WindowTo == nil {
		return nil
	}
	if c.Ensemble != nil || joins(c) || c.Kind == change.Replacing { // the window is that of the whole, and a lane sees only its own steps
		whole, err := e.Store.Change(ctx, c.ID)
		if err != nil {
			return records(err)
		}
		whole.Now, c = c.Now, &whole
	}
	var rest []change.Step
	for _, s := range c.Steps {
		if s.State == change.StepWaiting || s.State == change.StepRunning {
			rest = append(rest, s.Plan)
		}
	}
	// What comes before the time at which it may go on has that long; only what comes after it is pressed by the window.
	if i := slices.IndexFunc(rest, func(s change.Step) bool { return s.Kind == change.GoNoGo }); c.RestartFrom != nil && i >= 0 && c.Now.Before(*c.RestartFrom) {
		rest = rest[i:]
	}
	var err error
	if f.Half, f.Rest, err = e.Last(ctx, c, rest); err != nil {
		return err
	}
	for _, m := range c.Members { // one after the other, where there are several
		longest := time.Duration(0)
		for _, b := range c.WaysBack(&m) {
			_, most, err := e.Last(ctx, c, b.Steps)
			if err != nil {
				return err
			}
			longest = max(longest, most)
		}
		f.Back += longest
	}
	return nil
}

// Last is how long steps of a change take, with lanes side by side: the middle, and what is not passed in 19 of 20 cases.
func (e *Engine) Last(ctx context.Context, c *store.Change, steps []change.Step) (half, most time.Duration, err error) {
	if len(steps) > 0 && steps[0].Number == 0 { // of a way back, which is numbered when it is taken
		steps = slices.Clone(steps)
		for i := range steps {
			steps[i].Number = i + 1
		}
	}
	lasts, err := e.Lasting(ctx, c, steps)
	if err != nil {
		return 0, 0, err
	}
	seconds := func(of func(Forecast) float64) time.Duration {
		t := change.Lay(steps, func(s *change.Step) float64 { return of(lasts[s.Number]) }, nil, 0)
		return time.Duration(t.Seconds * float64(time.Second))
	}
	return seconds(func(f Forecast) float64 { return f.Half }), seconds(func(f Forecast) float64 { return f.Most }), nil
}

// Lasting is how long each step of a change takes, by its number: each on the model of its member.
func (e *Engine) Lasting(ctx context.Context, c *store.Change, steps []change.Step) (map[int]Forecast, error) {
	out := map[int]Forecast{}
	for i := range c.Members {
		m := &c.Members[i]
		var mine []change.Step
		for _, s := range steps {
			if s.Member == m.Number || i == 0 && (s.Member == 0 || len(c.Members) == 1) {
				mine = append(mine, s)
			}
		}
		fs, err := e.Forecasts(ctx, m.Planned.Model, mine)
		if err != nil {
			return nil, err
		}
		for k, f := range fs {
			out[mine[k].Number] = f
		}
	}
	return out, nil
}
