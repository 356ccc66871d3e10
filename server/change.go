package server

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/verify"
	"verimorph/engine"
	"verimorph/imagestore"
	"verimorph/store"
)

// DraftChange drafts a change. Images that are missing are fetched from the release sites.
func (s *Server) DraftChange(ctx context.Context, r gen.DraftChangeRequestObject) (gen.DraftChangeResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) {
		d, err := s.device(ctx, r.Body.Device)
		if err != nil {
			return 0, err
		}
		b := r.Body
		p, err := s.find(ctx, d, gen.Aim{To: b.To, ToModel: b.ToModel, Previews: b.Previews, Reset: b.Reset, MaxHops: b.MaxHops, Services: b.Services, DropChildren: b.DropChildren})
		if err != nil {
			return 0, err
		}
		if lacks := s.Engine.Dialects[d.Dialect].LacksForFirmware(); len(lacks) > 0 {
			return 0, conflict("dialect %q cannot change firmware: it has no %s; add these verbs to it, or do it by hand", d.Dialect, strings.Join(lacks, ", "))
		}
		if len(p.Hops) == 0 {
			return 0, conflict("device %s runs %s already; there is nothing to change", d.Name, p.To)
		}
		for _, h := range p.Hops {
			for _, q := range h.Prerequisites {
				if q.State == catalog.No && q.Kind != catalog.NeedStorage { // room is computed and cleared when it runs
					return 0, conflict("before the hop to %s: %s (%s); %s", h.To, q.Text, q.Evidence, q.Remedy)
				}
			}
		}
		fetches, err := s.fetchFor(ctx, p)
		if err != nil {
			return 0, err
		}
		lacks := map[string]bool{}
		for _, f := range fetches {
			lacks[f.SHA256] = true
		}
		steps, err := s.draft(ctx, p, lacks)
		if err != nil {
			return 0, conflict("%s", err)
		}
		data, err := json.Marshal(p)
		if err != nil {
			return 0, err
		}
		c := store.Change{DeviceID: d.ID, From: p.From.String(), To: p.To.String(), Path: data, CreatedBy: user(ctx)}
		for _, st := range steps {
			c.Steps = append(c.Steps, store.Step{Plan: st})
		}
		return s.Store.AddChange(ctx, c)
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.DraftChange201JSONResponse(c), err
}

// fetchFor begins downloads of what a path lacks; it fails when no release site has it.
func (s *Server) fetchFor(ctx context.Context, p *path.Path) ([]store.Fetch, error) {
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return nil, err
	}
	var missing []catalog.Listed
	for _, l := range cat.Family(p.Family).Images() {
		if slices.Contains(imagestore.Sums(p), l.SHA256) {
			missing = append(missing, l)
		}
	}
	fetches, nowhere, err := s.Keeper.Want(ctx, missing, "", user(ctx))
	if err != nil {
		return nil, err
	}
	if len(nowhere) > 0 {
		return nil, conflict("the image store lacks %s and no release site is known for it; add each with: verimorph image add FILE", strings.Join(nowhere, ", "))
	}
	return fetches, s.handOut(ctx, fetches)
}

// draft lists the steps of a path.
func (s *Server) draft(ctx context.Context, p *path.Path, lacks map[string]bool) ([]change.Step, error) {
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return nil, err
	}
	return change.Draft(cat.Family(p.Family), p, s.Pace, func(sum string) bool { return lacks[sum] })
}

// change loads a change in the form of the contract.
func (s *Server) change(ctx context.Context, id int64) (gen.Change, error) {
	c, err := s.Store.Change(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return gen.Change{}, notFound("there is no change %d", id)
	}
	if err != nil {
		return gen.Change{}, err
	}
	return s.apiChange(c)
}

// GetChange answers with one change.
func (s *Server) GetChange(ctx context.Context, r gen.GetChangeRequestObject) (gen.GetChangeResponseObject, error) {
	c, err := s.change(ctx, r.Id)
	return gen.GetChange200JSONResponse(c), err
}

// ListChanges answers with a page of changes.
func (s *Server) ListChanges(ctx context.Context, r gen.ListChangesRequestObject) (gen.ListChangesResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	cs, err := s.Store.Changes(ctx, value(r.Params.Device), before, limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(cs, limit, func(c store.Change) any { return c.ID }, s.apiChange)
	return gen.ListChanges200JSONResponse{Items: items, Next: next}, err
}

// ActOnChange approves, starts, holds, resumes or stops.
func (s *Server) ActOnChange(ctx context.Context, r gen.ActOnChangeRequestObject) (gen.ActOnChangeResponseObject, error) {
	if !r.Action.Valid() {
		return nil, badRequest("there is no action %q; known: approve, start, hold, resume, stop", r.Action)
	}
	err := s.Engine.Act(ctx, r.Id, change.Action(r.Action), user(ctx))
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no change %d", r.Id)
	}
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, r.Id)
	return gen.ActOnChange200JSONResponse(c), err
}

// ListJournal answers with a page of a change's journal.
func (s *Server) ListJournal(ctx context.Context, r gen.ListJournalRequestObject) (gen.ListJournalResponseObject, error) {
	limit, after, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	if _, err := s.change(ctx, r.Id); err != nil {
		return nil, err
	}
	entries, err := s.Store.Journal(ctx, r.Id, after, limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(entries, limit, func(e store.JournalEntry) any { return e.ID }, always(func(e store.JournalEntry) gen.JournalEntry {
		return gen.JournalEntry{Id: e.ID, Step: e.Step, At: e.At, Event: e.Event, Detail: e.Detail}
	}))
	return gen.ListJournal200JSONResponse{Items: items, Next: next}, err
}

func (s *Server) apiChange(c store.Change) (gen.Change, error) {
	var plans []change.Step
	for _, st := range c.Steps {
		plans = append(plans, st.Plan)
	}
	out := gen.Change{
		Id: c.ID, Device: c.Device, State: gen.ChangeState(c.State), From: c.From, To: c.To, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt,
		ApprovedBy: c.ApprovedBy, ApprovedAt: c.ApprovedAt, StartedAt: c.StartedAt, EndedAt: c.EndedAt, Failure: c.Failure,
		Kind: gen.ChangeKind(c.Kind), Steps: []gen.Step{}, Actions: []gen.Action{}, Now: time.Now(),
	}
	if c.ExpectsHostKey {
		out.ExpectsHostKey = &c.ExpectsHostKey
	}
	if c.Kind == store.Restore {
		var w engine.RestoreWork
		if err := json.Unmarshal(c.Work, &w); err != nil {
			return gen.Change{}, err
		}
		out.Restore = &gen.RestoreSummary{Backup: w.Backup, Replacement: w.Replacement, Parts: []string{}}
		for _, p := range w.Parts {
			out.Restore.Parts = append(out.Restore.Parts, strings.TrimSuffix(p.File+", "+p.Note, ", "))
		}
	} else {
		var p path.Path
		if err := json.Unmarshal(c.Path, &p); err != nil {
			return gen.Change{}, err
		}
		out.Path = ptr(view.Path(&p, func(*path.Path) []change.Step { return plans }, s.Images.Has))
	}
	for _, a := range change.Possible(c.State) {
		out.Actions = append(out.Actions, gen.Action(a))
	}
	for _, st := range c.Steps {
		as := gen.Step{
			Number: st.Plan.Number, Hop: max(st.Plan.Hop+1, 0), Kind: string(st.Plan.Kind), Title: st.Plan.Title, State: gen.StepState(st.State),
			Low: st.Plan.Expect.Low, High: st.Plan.Expect.High, Limit: st.Plan.Expect.Limit,
			StartedAt: st.StartedAt, EndedAt: st.EndedAt, Attempts: st.Attempts, Fraction: st.Fraction, Note: st.Note, Outcome: st.Outcome,
		}
		out.Steps = append(out.Steps, as)
		switch st.State {
		case change.StepWaiting:
			out.RemainingLow += as.Low
			out.RemainingHigh += as.High
		case change.StepRunning:
			gone := 0.0
			if st.StartedAt != nil {
				gone = out.Now.Sub(*st.StartedAt).Seconds()
			}
			out.RemainingLow += max(as.Low-gone, 0)
			out.RemainingHigh += max(as.High-gone, 0)
		}
	}
	if c.State.Over() {
		out.RemainingLow, out.RemainingHigh = 0, 0
	}
	if c.Verdict != nil {
		var v verify.Verdict
		if err := json.Unmarshal(c.Verdict, &v); err != nil {
			return gen.Change{}, err
		}
		out.Verdict = apiVerdict(v)
	}
	return out, nil
}

func apiVerdict(v verify.Verdict) *gen.Verdict {
	out := &gen.Verdict{Verdict: gen.VerdictVerdict(v.Verdict), Results: []gen.Result{}}
	for _, r := range v.Results {
		ar := gen.Result{Reading: r.Reading, Title: r.Title, State: gen.ResultState(r.State), Severity: r.Severity, Evidence: r.Evidence}
		if r.Before != nil {
			ar.Before = ptr(r.Before.String())
		}
		if r.After != nil {
			ar.After = ptr(r.After.String())
		}
		out.Results = append(out.Results, ar)
	}
	return out
}
