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
	sum := func(steps []change.Step) (half, most time.Duration, err error) {
		fs, err := e.Forecasts(ctx, c.First().Planned.Model, steps)
		for _, x := range fs {
			half += time.Duration(x.Half * float64(time.Second))
			most += time.Duration(x.Most * float64(time.Second))
		}
		return half, most, err
	}
	var err error
	if f.Half, f.Rest, err = sum(rest); err != nil {
		return err
	}
	for _, b := range c.Back {
		_, most, err := sum(b.Steps)
		if err != nil {
			return err
		}
		f.Back = max(f.Back, most)
	}
	return nil
}
