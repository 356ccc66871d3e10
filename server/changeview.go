package server

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/engine"
	"verimorph/store"
)

// A change in the form of the contract.

func (s *Server) apiChange(ctx context.Context, c store.Change) (gen.Change, error) {
	out := gen.Change{
		Id: c.ID, Device: c.Devices(), State: gen.ChangeState(c.State), From: c.From, To: c.To, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt,
		ApprovedBy: c.ApprovedBy, ApprovedAt: c.ApprovedAt, StartedAt: c.StartedAt, EndedAt: c.EndedAt, Failure: c.Failure,
		Kind: gen.ChangeKind(c.Kind), Steps: []gen.Step{}, Actions: []gen.Action{}, Now: time.Now(),
	}
	if c.First().Planned.ComesBackAt != "" {
		out.ComesBackAt = &c.First().Planned.ComesBackAt
	}
	if c.Wish != nil && c.Wish.BringUp != nil {
		used := []gen.UsedValue{}
		for _, u := range c.Wish.BringUp.Used {
			x := gen.UsedValue{Name: u.Name, Value: u.Value, From: u.From}
			if len(u.Over) > 0 {
				x.Over = &u.Over
			}
			used = append(used, x)
		}
		out.Used = &used
	}
	if c.ExpectsHostKey {
		out.ExpectsHostKey = &c.ExpectsHostKey
	}
	if err := s.apiWork(&out, &c); err != nil {
		return gen.Change{}, err
	}
	if err := apiTogether(&out, &c); err != nil {
		return gen.Change{}, err
	}
	apiTerms(&out, &c)
	apiChecks(&out, &c)
	if len(c.Steps) > 0 { // of a list no more is told
		if err := s.apiForecasts(ctx, &out, &c); err != nil {
			return gen.Change{}, err
		}
	}
	for _, a := range c.Possible() {
		out.Actions = append(out.Actions, gen.Action(a))
	}
	for i := range c.Steps {
		st := apiStep(&c.Steps[i])
		if len(c.Members) > 1 {
			st.Member, st.After = &c.Steps[i].Plan.Member, &c.Steps[i].Plan.After
		}
		out.Steps = append(out.Steps, st)
	}
	out.RemainingLow, out.RemainingHigh = remaining(&c, out.Now)
	out.Awaited = awaited(&c)
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

// apiWork adds what a change is about: what a restore puts back, or the path of any other change.
func (s *Server) apiWork(out *gen.Change, c *store.Change) error {
	if c.Kind == change.Restoring {
		var w engine.RestoreWork
		if err := json.Unmarshal(c.Work, &w); err != nil {
			return err
		}
		out.Restore = &gen.RestoreSummary{Backup: w.Backup, Replacement: w.Replacement, Parts: []string{}}
		for _, p := range w.Parts {
			out.Restore.Parts = append(out.Restore.Parts, strings.TrimSuffix(p.File+", "+p.Note, ", "))
		}
		return nil
	}
	if c.Wish != nil && c.Wish.Medium != nil {
		out.Medium = &c.Wish.Medium.Label
	}
	if c.Wish != nil && c.Wish.Move != nil {
		m := c.Wish.Move
		out.Services = &struct {
			As       []string `json:"as"`
			From     *string  `json:"from,omitempty"`
			Services []string `json:"services"`
		}{m.As, optional(m.From), m.Services}
	}
	var p path.Path
	if err := json.Unmarshal(c.Path, &p); err != nil {
		return err
	}
	var plans []change.Step
	for _, st := range c.Steps {
		plans = append(plans, st.Plan)
	}
	out.Path = ptr(view.Path(&p, func(*path.Path) []change.Step { return plans }, s.Blobs.Has))
	return nil
}

func apiStep(st *store.Step) gen.Step {
	out := gen.Step{
		Number: st.Plan.Number, Hop: max(st.Plan.Hop+1, 0), Kind: string(st.Plan.Kind), Title: st.Plan.Title, State: gen.StepState(st.State),
		Low: st.Plan.Expect.Low, High: st.Plan.Expect.High, Limit: st.Plan.Expect.Limit,
		StartedAt: st.StartedAt, EndedAt: st.EndedAt, Attempts: st.Attempts, Fraction: st.Fraction, Note: st.Note, Outcome: st.Outcome,
		Safe: ptr(st.Plan.SafePoint),
	}
	if st.Plan.Back {
		out.Back = ptr(true)
	}
	switch st.Plan.Kind {
	case change.Hand:
		out.Text = ptr(change.Of[change.HandParams](&st.Plan).Task)
	case change.CleanUp:
		out.Text = ptr(strings.Join(change.Of[change.CleanUpParams](&st.Plan).Files, ", "))
	}
	return out
}

// remaining is how long a change still takes as expected, in seconds; lanes go side by side.
func remaining(c *store.Change, now time.Time) (low, high float64) {
	var rest []change.Step
	gone := map[int]float64{} // by number: seconds of a step that are over
	for i := range c.Steps {
		st := &c.Steps[i]
		if st.State == change.StepRunning && st.StartedAt != nil {
			gone[st.Plan.Number] = now.Sub(*st.StartedAt).Seconds()
		}
		if st.State == change.StepRunning || st.State == change.StepWaiting {
			rest = append(rest, st.Plan)
		}
	}
	least := change.Lay(rest, func(s *change.Step) float64 { return max(s.Expect.Low-gone[s.Number], 0) }, nil, 0)
	most := change.Lay(rest, func(s *change.Step) float64 { return max(s.Expect.High-gone[s.Number], 0) }, nil, 0)
	return least.Seconds, most.Seconds
}

// awaited is the return of the device while it is waited for: since its start, until its services are up.
func awaited(c *store.Change) *gen.Awaited {
	now := slices.IndexFunc(c.Steps, func(s store.Step) bool { return s.State == change.StepRunning })
	if c.State != change.Running && c.State != change.Pausing || now < 0 || len(c.Members) > 1 { // of several, the lanes show it
		return nil
	}
	first := now
	for first >= 0 && c.Steps[first].Plan.Kind.Spec().Returning {
		first--
	}
	if first < 0 || c.Steps[first].StartedAt == nil {
		return nil
	}
	if s := &c.Steps[first].Plan; s.Kind != change.Restart && !(s.Kind == change.Install && s.InPlace()) {
		return nil
	}
	out := &gen.Awaited{Since: *c.Steps[first].StartedAt}
	var told []string
	for i := first; i < len(c.Steps) && (i == first || c.Steps[i].Plan.Kind.Spec().Returning); i++ {
		s := &c.Steps[i]
		if text := s.Plan.Kind.Spec().Told; text != "" && i < now && !slices.Contains(told, text) {
			told = append(told, text)
		}
		out.Low, out.High = out.Low+s.Plan.Expect.Low, out.High+s.Plan.Expect.High
		if s.Plan.Kind == change.Services {
			break
		}
	}
	if note := c.Steps[now].Note; note != "" {
		told = append(told, note)
	}
	out.Text = strings.Join(told, ", ")
	return out
}

// apiTerms adds the terms of a change, who paused it, what it asks and whether it goes back.
func apiTerms(out *gen.Change, c *store.Change) {
	wayBack := gen.TermsWayBack(c.BackPolicy)
	out.Terms = &gen.Terms{WindowFrom: c.WindowFrom, WindowTo: c.WindowTo, RestartFrom: c.RestartFrom, WayBack: &wayBack}
	out.WaitsUntil, out.StateSince = c.WaitsUntil, &c.StateSince
	if c.State == change.Paused || c.State == change.Pausing {
		out.PausedBy = c.PausedBy
	}
	if c.Returning != nil {
		out.Returning, out.ReturnWhy = ptr(*c.Returning+1), c.ReturnWhy
	}
	q := c.Question
	if q == nil {
		return
	}
	out.Question = &gen.Question{Kind: gen.QuestionKind(q.Kind), Step: q.Step, Text: q.Text, Answers: []gen.Action{}}
	for _, a := range q.Answers {
		out.Question.Answers = append(out.Question.Answers, gen.Action(a))
	}
	if len(q.Checks) > 0 {
		out.Question.Checks = &q.Checks
	}
	if q.Backup != 0 {
		out.Question.Backup, out.Question.To = &q.Backup, &q.To
	}
}

// apiChecks adds what was found by the checks, and which warnings were accepted.
func apiChecks(out *gen.Change, c *store.Change) {
	if len(c.Accepted) > 0 {
		list := []gen.Accepted{}
		for _, a := range c.Accepted {
			list = append(list, gen.Accepted{Check: a.Check, By: a.By, Reason: a.Reason, At: a.At})
		}
		out.Accepted = &list
	}
	if len(c.Checks) == 0 {
		return
	}
	list := []gen.Check{}
	for _, k := range c.Checks {
		item := gen.Check{Name: k.Name, Title: k.Title, State: gen.CheckState(k.State), Evidence: k.Evidence}
		if k.Remedy != "" {
			item.Remedy = &k.Remedy
		}
		item.Device = optional(k.Member)
		for _, a := range c.Accepted {
			if a.Check == k.Name && k.State == ready.Warn {
				item.AcceptedBy, item.Reason = ptr(a.By), ptr(a.Reason)
			}
		}
		list = append(list, item)
	}
	out.Checks, out.CheckedAt = &list, c.CheckedAt
}

// apiForecasts adds how long the rest of a change takes, until when it cannot be paused, and how long each way back takes.
func (s *Server) apiForecasts(ctx context.Context, out *gen.Change, c *store.Change) error {
	var rest []change.Step
	until := 0 // how many of the rest come before it may pause, while it may not be interrupted
	for i, st := range c.Steps {
		if st.State == change.StepWaiting || st.State == change.StepRunning {
			rest = append(rest, st.Plan)
		}
		if st.State == change.StepRunning && (c.State == change.Running || c.State == change.Pausing) && i+1 < len(c.Steps) && !c.Steps[i+1].Plan.SafePoint {
			if next := slices.IndexFunc(c.Steps[i+1:], func(x store.Step) bool { return x.Plan.SafePoint }); next >= 0 {
				out.PausesAt, until = ptr(c.Steps[i+1+next].Plan.Title), next+1
			}
		}
	}
	if len(c.Members) > 1 { // each lane comes to rest by itself
		out.PausesAt = nil
	}
	if out.PausesAt != nil {
		_, most, err := s.Engine.Last(ctx, c, rest[:min(until, len(rest))])
		if err != nil {
			return err
		}
		out.PausesMost = ptr(most.Seconds())
	}
	if !c.State.Over() {
		half, most, err := s.Engine.Last(ctx, c, rest)
		if err != nil {
			return err
		}
		out.Half, out.Most = ptr(half.Seconds()), ptr(most.Seconds())
	}
	if len(c.Back) == 0 {
		return nil
	}
	ways := []gen.WayBack{}
	for i, b := range c.Back {
		w := gen.WayBack{Hop: i + 1, Way: gen.WayBackWay(b.Way), Text: b.Text}
		_, most, err := s.Engine.Last(ctx, c, b.Steps)
		if err != nil {
			return err
		}
		if b.Leads() {
			w.Most = ptr(most.Seconds())
		}
		ways = append(ways, w)
	}
	out.WaysBack = &ways
	return nil
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
