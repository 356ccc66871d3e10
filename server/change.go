package server

import (
	"context"
	"slices"
	"strings"

	"verimorph/api/gen"
	"verimorph/core/change"
	"verimorph/core/ready"
	"verimorph/store"
)

// DraftChange drafts a change. Images that are missing are fetched from the release sites.
func (s *Server) DraftChange(ctx context.Context, r gen.DraftChangeRequestObject) (gen.DraftChangeResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) {
		w, keys, err := wishOf(r.Body)
		if err != nil {
			return 0, err
		}
		return s.Planner.Draft(ctx, actor(ctx), w, keys, termsOf(r.Body.Terms))
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.DraftChange201JSONResponse(c), err
}

// aimOf is an aim of the contract as one of the core.
func aimOf(a gen.Aim) change.Aim {
	return change.Aim{To: a.To, ToModel: value(a.ToModel), Previews: value(a.Previews), Reset: value(a.Reset), MaxHops: value(a.MaxHops), Services: value(a.Services), DropChildren: value(a.DropChildren), Alternatives: value(a.Alternatives)}
}

// wishOf is what a call asks for, and the keys of its licences by name.
func wishOf(b *gen.NewChange) (w change.Wish, keys map[string]string, err error) {
	w = change.Wish{Device: b.Device, Back: value(b.Back), Carry: value(b.Carry), Both: value(b.Both), CleanUp: value(b.CleanUp), ComesBackAt: value(b.ComesBackAt), SwitchBack: value(b.SwitchBack),
		Together: value(b.Together), Authorise: value(b.Authorise), Release: value(b.Release), Empty: value(b.Empty),
		Aim: aimOf(gen.Aim{To: b.To, ToModel: b.ToModel, Previews: b.Previews, Reset: b.Reset, MaxHops: b.MaxHops, Services: b.Services, DropChildren: b.DropChildren})}
	if j := b.Join; j != nil {
		w.Join, w.To = &change.JoinWish{Controller: j.Controller, Address: value(j.Address), Group: value(j.Group)}, ""
	}
	if w.Release {
		w.To = ""
	}
	keys = map[string]string{}
	for _, l := range value(b.Licences) {
		w.Licences, keys[l.Name] = append(w.Licences, l.Name), value(l.Key)
	}
	slices.Sort(w.Licences)
	if b.Operations != nil {
		w.Operations = []change.Asked{}
		for _, o := range *b.Operations {
			w.Operations = append(w.Operations, change.Asked{Kind: change.Kind(o.Kind), File: value(o.File), Files: value(o.Files), Part: value(o.Part), Text: value(o.Text), Once: value(o.Once), Slot: value(o.Slot), Name: value(o.Name), Key: value(o.Key)})
		}
	}
	return w, keys, nil
}

// termsOf are terms of the contract as those of the records.
func termsOf(t *gen.Terms) store.Terms {
	if t == nil {
		return store.Terms{}
	}
	return store.Terms{WindowFrom: t.WindowFrom, WindowTo: t.WindowTo, RestartFrom: t.RestartFrom, BackPolicy: string(value(t.WayBack))}
}

// RedraftChange drafts the aim of a change anew, from where its device stands now.
func (s *Server) RedraftChange(ctx context.Context, r gen.RedraftChangeRequestObject) (gen.RedraftChangeResponseObject, error) {
	id, err := s.Planner.Redraft(ctx, actor(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	out, err := s.change(ctx, id)
	return gen.RedraftChange201JSONResponse(out), err
}

// ListStepKinds answers with the registry of step kinds.
func (s *Server) ListStepKinds(context.Context, gen.ListStepKindsRequestObject) (gen.ListStepKindsResponseObject, error) {
	out := gen.ListStepKinds200JSONResponse{Items: []gen.StepKind{}}
	for _, k := range change.Kinds {
		item := gen.StepKind{Kind: string(k.Kind), Title: k.Title}
		if k.Alone != nil {
			takes := gen.StepKindOperationTakes(k.Alone.Takes)
			item.Operation = &struct {
				Help  string                     `json:"help"`
				Once  *bool                      `json:"once,omitempty"`
				Takes gen.StepKindOperationTakes `json:"takes"`
			}{Help: k.Alone.Help, Takes: takes}
			if k.Alone.Once {
				item.Operation.Once = ptr(true)
			}
		}
		out.Items = append(out.Items, item)
	}
	return out, nil
}

// change loads a change in the form of the contract.
func (s *Server) change(ctx context.Context, id int64) (gen.Change, error) {
	c, err := s.Planner.Change(ctx, id)
	if err != nil {
		return gen.Change{}, err
	}
	return s.apiChange(ctx, c)
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
	items, next, err := listed(cs, limit, func(c store.Change) any { return c.ID }, func(c store.Change) (gen.Change, error) { return s.apiChange(ctx, c) })
	return gen.ListChanges200JSONResponse{Items: items, Next: next}, err
}

// ActOnChange approves, starts, holds, resumes, stops, or answers a question.
func (s *Server) ActOnChange(ctx context.Context, r gen.ActOnChangeRequestObject) (gen.ActOnChangeResponseObject, error) {
	if !r.Action.Valid() {
		return nil, badRequest("there is no action %q; known: approve, start, arm, early, hold, resume, stop, sign-off, accept, retry, go-back, leave", r.Action)
	}
	text := ""
	if r.Body != nil {
		text = strings.TrimSpace(value(r.Body.Text))
	}
	if err := s.Planner.Act(ctx, actor(ctx), r.Id, change.Action(r.Action), text); err != nil {
		return nil, err
	}
	out, err := s.change(ctx, r.Id)
	return gen.ActOnChange200JSONResponse(out), err
}

// GetChangePolicy answers with the policy.
func (s *Server) GetChangePolicy(ctx context.Context, _ gen.GetChangePolicyRequestObject) (gen.GetChangePolicyResponseObject, error) {
	p, err := s.Planner.Policy(ctx)
	return gen.GetChangePolicy200JSONResponse{SecondPerson: p.SecondPerson, WayBack: gen.ChangePolicyWayBack(p.WayBack), RestartHours: p.RestartHours}, err
}

// PutChangePolicy sets the policy.
func (s *Server) PutChangePolicy(ctx context.Context, r gen.PutChangePolicyRequestObject) (gen.PutChangePolicyResponseObject, error) {
	p := change.Policy{SecondPerson: r.Body.SecondPerson, WayBack: string(r.Body.WayBack), RestartHours: r.Body.RestartHours}
	return gen.PutChangePolicy204Response{}, s.Planner.SetPolicy(ctx, actor(ctx), p)
}

// CheckChange looks at the device now and says whether the change may start.
func (s *Server) CheckChange(ctx context.Context, r gen.CheckChangeRequestObject) (gen.CheckChangeResponseObject, error) {
	c, err := s.Planner.Change(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	if c.State != change.Drafted && c.State != change.Approved {
		return nil, conflict("change %d is %s; it is checked before it starts, and by itself while it runs", c.ID, c.State)
	}
	if err := s.Planner.Look(ctx, actor(ctx), c.ID); err != nil {
		return nil, err
	}
	out, err := s.change(ctx, r.Id)
	return gen.CheckChange200JSONResponse(out), err
}

// AcceptWarnings takes warnings on before the start.
func (s *Server) AcceptWarnings(ctx context.Context, r gen.AcceptWarningsRequestObject) (gen.AcceptWarningsResponseObject, error) {
	reason := strings.TrimSpace(r.Body.Reason)
	if len(reason) < 3 || len(r.Body.Checks) == 0 {
		return nil, badRequest("name the warnings and say why they are accepted")
	}
	c, err := s.Planner.Change(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	checks := c.Checks
	for _, name := range r.Body.Checks {
		i := slices.IndexFunc(checks, func(k ready.Check) bool { return k.Name == name })
		switch {
		case i < 0:
			return nil, badRequest("there is no check %q", name)
		case checks[i].State != ready.Warn:
			return nil, conflict("%s is %s; only warnings can be accepted", checks[i].Title, checks[i].State)
		}
	}
	if err := s.Store.TakeOn(ctx, r.Id, r.Body.Checks, actor(ctx), reason); err != nil {
		return nil, err
	}
	out, err := s.change(ctx, r.Id)
	return gen.AcceptWarnings200JSONResponse(out), err
}

// SetTerms says when a change may run and what happens when it fails.
func (s *Server) SetTerms(ctx context.Context, r gen.SetTermsRequestObject) (gen.SetTermsResponseObject, error) {
	if err := s.Planner.SetTerms(ctx, actor(ctx), r.Id, termsOf(r.Body)); err != nil {
		return nil, err
	}
	out, err := s.change(ctx, r.Id)
	return gen.SetTerms200JSONResponse(out), err
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
