package engine

import (
	"context"
	"strings"

	"verimorph/device"
	"verimorph/store"
)

// Jobs that a device carries out in the background are remembered in the journal, so that whoever takes a change over asks for them.

// jobMemory is what is remembered for a step.
type jobMemory struct {
	r    *run
	step int
	open map[string]string // by verb
}

// remembering is a context whose verbs remember the jobs of a step. What an earlier worker began, when the step was taken up before, is read from the
// journal, once.
func (r *run) remembering(ctx context.Context, s *store.Step, taken bool) (context.Context, error) {
	m := r.jobs
	if m == nil || m.step != s.Plan.Number {
		m = &jobMemory{r, s.Plan.Number, map[string]string{}}
		if taken { // another worker was at it, or this one in another life
			note, err := r.e.Store.LastJob(ctx, r.c.ID, s.Plan.Number)
			if err != nil {
				return ctx, records(err)
			}
			if verb, job, ok := strings.Cut(note, " "); ok {
				m.open[verb] = job
			}
		}
		r.jobs = m
	}
	return device.WithJobs(ctx, m), nil
}

// Open implements device.Jobs.
func (m *jobMemory) Open(verb string) string { return m.open[verb] }

// Begun implements device.Jobs.
func (m *jobMemory) Begun(ctx context.Context, verb, job string) error {
	m.open[verb] = job
	return records(m.r.e.Store.NoteStep(ctx, m.r.lease, m.r.c.ID, m.step, store.JobBegun, verb+" "+job))
}

// Over implements device.Jobs.
func (m *jobMemory) Over(ctx context.Context, verb string) error {
	delete(m.open, verb)
	return records(m.r.e.Store.NoteStep(ctx, m.r.lease, m.r.c.ID, m.step, store.JobOver, verb))
}
