package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"
	"unicode"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/imagestore"
	"verimorph/store"
)

// DraftChange drafts a change. Images that are missing are fetched from the release sites.
func (s *Server) DraftChange(ctx context.Context, r gen.DraftChangeRequestObject) (gen.DraftChangeResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) { return s.drafted(ctx, r.Body) })
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.DraftChange201JSONResponse(c), err
}

// drafted drafts what is asked for and records it.
func (s *Server) drafted(ctx context.Context, b *gen.NewChange) (int64, error) {
	d, err := s.device(ctx, b.Device)
	if err != nil {
		return 0, err
	}
	if s.Engine.Dialects[d.Dialect] == nil {
		return 0, conflict("dialect %q is not known here", d.Dialect)
	}
	if lacks := s.Engine.Dialects[d.Dialect].LacksForFirmware(); len(lacks) > 0 && b.Acts == nil {
		return 0, conflict("dialect %q cannot change firmware: it has no %s; add these verbs to it, or do it by hand", d.Dialect, strings.Join(lacks, ", "))
	}
	var c store.Change
	switch {
	case b.Acts != nil:
		c, err = s.draftActs(ctx, d, *b.Acts)
	case value(b.Back):
		c, err = s.draftBack(ctx, d, value(b.Carry))
	default:
		c, err = s.draftFirmware(ctx, d, b)
	}
	if err != nil {
		return 0, err
	}
	if p := portraitOf(d); p != nil {
		c.Planned = store.Planned{Model: p.Model, Serial: p.Serial}
	}
	if at := value(b.ComesBackAt); at != "" {
		if host, port, err := net.SplitHostPort(at); err != nil || host == "" || !goodPort(port) {
			return 0, badRequest("comesBackAt %q should look like 192.0.2.7:22", at)
		}
		c.Planned.ComesBackAt = at
	}
	t, err := s.terms(ctx, b.Terms)
	if err != nil {
		return 0, err
	}
	c.WindowFrom, c.WindowTo, c.RestartFrom, c.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	c.DeviceID, c.CreatedBy = d.ID, user(ctx)
	if c.Wish, err = json.Marshal(keyless(b)); err != nil {
		return 0, err
	}
	id, err := s.Store.AddChange(ctx, c)
	if err != nil {
		return 0, err
	}
	return id, s.look(ctx, id)
}

// keyless is what is asked for without the keys in it; those are kept sealed, with the change that brings them.
func keyless(b *gen.NewChange) *gen.NewChange {
	out := *b
	if b.Licences != nil {
		out.Licences = &[]gen.NewLicence{}
		for _, l := range *b.Licences {
			*out.Licences = append(*out.Licences, gen.NewLicence{Name: l.Name})
		}
	}
	if b.Acts != nil {
		acts := slices.Clone(*b.Acts)
		for i := range acts {
			acts[i].Key = nil
		}
		out.Acts = &acts
	}
	return &out
}

// withKeys puts the keys of licences back where keyless took them out.
func withKeys(b *gen.NewChange, keys map[string]string) {
	for i, l := range value(b.Licences) {
		(*b.Licences)[i].Key = keys[l.Name]
	}
	for i, a := range value(b.Acts) {
		if key, ok := keys[value(a.Part)]; ok && a.Kind == gen.ActKindLicence {
			(*b.Acts)[i].Key = &key
		}
	}
}

// RedraftChange drafts the aim of a change anew, from where its device stands now.
func (s *Server) RedraftChange(ctx context.Context, r gen.RedraftChangeRequestObject) (gen.RedraftChangeResponseObject, error) {
	c, err := s.found(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	switch {
	case c.State.Open():
		return nil, conflict("change %d is %s; it is drafted anew once it has ended", c.ID, c.State)
	case c.Wish == nil:
		return nil, conflict("what was asked for with change %d was not recorded; draft it again", c.ID)
	}
	d, err := s.Store.DeviceByID(ctx, c.DeviceID)
	if err != nil {
		return nil, err
	}
	if _, err := s.Engine.Refresh(ctx, d, user(ctx)); err != nil {
		return nil, err
	}
	id, err := s.again(ctx, &c, d)
	if err != nil {
		return nil, err
	}
	if !c.State.Over() {
		if err := s.Engine.Act(ctx, c.ID, change.Stop, user(ctx), fmt.Sprintf("drafted anew as change %d", id)); err != nil {
			return nil, err
		}
	}
	out, err := s.change(ctx, id)
	return gen.RedraftChange201JSONResponse(out), err
}

// again drafts what was asked for with a change once more.
func (s *Server) again(ctx context.Context, c *store.Change, d store.Device) (int64, error) {
	if c.Kind == store.Restore {
		var w gen.RestoreWish
		var work engine.RestoreWork
		if err := errors.Join(json.Unmarshal(c.Wish, &w), json.Unmarshal(c.Work, &work)); err != nil {
			return 0, err
		}
		w.AcceptGuarded = nil // of what was shown then
		return s.draftedRestore(ctx, work.Backup, w)
	}
	var b gen.NewChange
	if err := json.Unmarshal(c.Wish, &b); err != nil {
		return 0, err
	}
	keys, err := engine.LicenceKeys(s.Vault, d.Name, c.Work)
	if err != nil {
		return 0, conflict("the keys of its licences cannot be read any more (%s); draft it again with them", err)
	}
	withKeys(&b, keys)
	b.Device = d.Name
	way := gen.TermsWayBack(c.BackPolicy)
	b.Terms = &gen.Terms{WindowFrom: c.WindowFrom, WindowTo: c.WindowTo, RestartFrom: c.RestartFrom, WayBack: &way}
	return s.drafted(ctx, &b)
}

// look sees whether a change may start. That the device does not answer is one of the answers.
func (s *Server) look(ctx context.Context, id int64) error {
	c, err := s.Store.Change(ctx, id)
	if err != nil {
		return err
	}
	_, err = s.Engine.Ready(ctx, &c, user(ctx))
	return err
}

// terms reads when a change may run and what happens when it fails.
func (s *Server) terms(ctx context.Context, t *gen.Terms) (out store.Terms, err error) {
	p, err := s.changePolicy(ctx)
	if err != nil {
		return out, err
	}
	out.BackPolicy = string(p.WayBack)
	if t == nil {
		return out, nil
	}
	if t.WayBack != nil {
		if !t.WayBack.Valid() {
			return out, badRequest("wayBack is offered or automatic")
		}
		out.BackPolicy = string(*t.WayBack)
	}
	out.WindowFrom, out.WindowTo, out.RestartFrom = t.WindowFrom, t.WindowTo, t.RestartFrom
	if out.WindowTo == nil && out.RestartFrom != nil { // a service that was away then does not restart the device hours later
		within := store.RestartWithin
		if p.RestartHours != nil {
			within = time.Duration(*p.RestartHours * float64(time.Hour))
		}
		end := out.RestartFrom.Add(within)
		out.WindowTo = &end
	}
	switch {
	case t.WindowTo == nil:
	case t.WindowFrom != nil && !t.WindowFrom.Before(*t.WindowTo):
		return out, badRequest("the window ends before it begins")
	case t.RestartFrom != nil && !t.RestartFrom.Before(*t.WindowTo):
		return out, badRequest("the window ends before the change may pass its point of no return")
	}
	return out, nil
}

// draftFirmware drafts a change along the path to a version.
func (s *Server) draftFirmware(ctx context.Context, d store.Device, b *gen.NewChange) (store.Change, error) {
	none := store.Change{}
	licences, err := licencesOf(value(b.Licences))
	if err != nil {
		return none, err
	}
	names := slices.Sorted(maps.Keys(licences))
	p, err := s.find(ctx, d, gen.Aim{To: b.To, ToModel: b.ToModel, Previews: b.Previews, Reset: b.Reset, MaxHops: b.MaxHops, Services: b.Services, DropChildren: b.DropChildren}, names...)
	if err != nil {
		return none, err
	}
	if len(p.Hops) == 0 {
		return none, conflict("device %s runs %s already; there is nothing to change", d.Name, p.To)
	}
	lacks := map[string]bool{}
	if s.Engine.Dialects[d.Dialect].Medium == "" { // else the files are carried in, and compared on the device
		fetches, err := s.fetchFor(ctx, p)
		if err != nil {
			return none, err
		}
		for _, f := range fetches {
			lacks[f.SHA256] = true
		}
	}
	for _, name := range value(b.CleanUp) {
		for _, h := range p.Hops {
			if name == h.Image.File {
				return none, badRequest("%s is an image of this change", name)
			}
		}
	}
	plan, err := s.draft(ctx, s.Engine.Dialects[d.Dialect].Abilities(), p, func(j *change.Job) {
		j.Lacks = func(sum string) bool { return lacks[sum] }
		j.CleanUp, j.Licences, j.Both = value(b.CleanUp), names, value(b.Both)
	})
	if err != nil {
		return none, conflict("%s", err)
	}
	data, err := json.Marshal(p)
	if err != nil {
		return none, err
	}
	c := store.Change{From: p.From.String(), To: p.To.String(), Path: data, Kind: store.Firmware, Back: plan.Back}
	if len(licences) > 0 {
		if c.Work, err = engine.LicenceWork(s.Vault, d.Name, licences); err != nil {
			return none, err
		}
	}
	return withSteps(c, plan.Steps), nil
}

// licencesOf are the keys of licences by name.
func licencesOf(list []gen.NewLicence) (map[string]string, error) {
	out := map[string]string{}
	for _, l := range list {
		switch _, twice := out[l.Name]; {
		case !deviceName.MatchString(l.Name):
			return nil, badRequest("licence %q: a name has letters, digits, dots, dashes and underscores", l.Name)
		case twice:
			return nil, badRequest("licence %s is given twice", l.Name)
		case l.Key == "" || len(l.Key) > 4096 || strings.ContainsFunc(l.Key, unicode.IsControl):
			return nil, badRequest("the key of licence %s has to be one line of up to 4096 characters", l.Name)
		}
		out[l.Name] = l.Key
	}
	return out, nil
}

func withSteps(c store.Change, steps []change.Step) store.Change {
	for _, st := range steps {
		c.Steps = append(c.Steps, store.Step{Plan: st})
	}
	return c
}

// draftBack drafts the start of the installation in the other slot; with carry, the configuration of now comes along.
func (s *Server) draftBack(ctx context.Context, d store.Device, carry bool) (store.Change, error) {
	none := store.Change{}
	p := portraitOf(d)
	if p == nil {
		return none, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	dialect := s.Engine.Dialects[d.Dialect]
	idle := p.IdleSlot()
	if dialect.Installs == device.BySlots && (idle == nil || idle.Version == "" || idle.Good != portrait.Yes) {
		return none, conflict("device %s shows no installation beside the running one that it calls good; draft a change to a version instead", d.Name)
	}
	previous := ""
	if idle != nil {
		previous = idle.Version
	}
	if previous == p.Version {
		return none, conflict("both slots of %s hold %s; there is no previous installation", d.Name, previous)
	}
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return none, err
	}
	f := cat.FamilyOfModel(p.Model)
	plan, err := change.DraftBack(f, dialect.Abilities(), s.Pace, p.Version, previous, carry)
	if err != nil {
		return none, conflict("%s", err)
	}
	from, err := version.Parse(p.Version)
	if err != nil {
		return none, conflict("the version %q cannot be read", p.Version)
	}
	to, err := version.Parse(previous)
	if err != nil {
		return none, conflict("the version %q in the other slot cannot be read", previous)
	}
	way := path.Path{Model: p.Model, From: from, To: to, Hops: []path.Hop{{From: from, To: to, Config: catalog.ConfigKept, Restarts: 1,
		Permit: catalog.Citation{Text: "the installation lies in slot " + idle.Name + "; it starts with the configuration that was saved under it"}}}}
	if f != nil {
		way.Family = f.Name
	}
	data, err := json.Marshal(way)
	if err != nil {
		return none, err
	}
	c := store.Change{From: p.Version, To: previous, Path: data, Kind: store.GoBack, Back: plan.Back}
	return withSteps(c, plan.Steps), nil
}

// fetchFor begins downloads of what a path lacks; it fails when no release site has it.
func (s *Server) fetchFor(ctx context.Context, p *path.Path) ([]store.Fetch, error) {
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return nil, err
	}
	var needed []catalog.Listed
	for _, l := range cat.Family(p.Family).Images() {
		if slices.Contains(imagestore.Sums(p), l.SHA256) {
			needed = append(needed, l)
		}
	}
	return s.fetchListed(ctx, needed)
}

// fetchListed begins downloads of those images that the image store lacks; it fails when no release site has one.
func (s *Server) fetchListed(ctx context.Context, images []catalog.Listed) ([]store.Fetch, error) {
	fetches, nowhere, err := s.Keeper.Want(ctx, images, "", user(ctx))
	if err != nil {
		return nil, err
	}
	if len(nowhere) > 0 {
		return nil, conflict("the image store lacks %s and no release site is known for it; add each with: verimorph image add FILE", strings.Join(nowhere, ", "))
	}
	return fetches, s.handOut(ctx, fetches)
}

// draft lists the steps of a path and its ways back.
func (s *Server) draft(ctx context.Context, can change.Abilities, p *path.Path, wish func(*change.Job)) (*change.Plan, error) {
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return nil, err
	}
	f := cat.Family(p.Family)
	j := change.Job{Family: f, Path: p, Can: can, Pace: s.Pace, Old: s.old(ctx, f, p)}
	wish(&j)
	plan, err := change.Draft(j)
	if err != nil {
		return nil, err
	}
	return plan, s.Engine.Learn(ctx, p.Model, plan.Steps)
}

// old says which image brings the version back that a hop leaves, where a supported hop leads back.
func (s *Server) old(ctx context.Context, f *catalog.Family, p *path.Path) func(int) *change.File {
	return func(hop int) *change.File {
		h := &p.Hops[hop]
		rel := f.Release(h.From)
		if rel == nil || rel.Image(p.Model) == nil {
			return nil
		}
		var back *path.Path
		err := s.plan(ctx, func(_ *catalog.Catalogue, planner *path.Planner) (err error) {
			back, err = planner.Find(path.Question{Portrait: &portrait.Portrait{Model: p.Model, Version: h.To.String()}, Aim: path.Aim{Version: h.From.String()}, Policy: path.Policy{Reset: true, MaxHops: 1}})
			return err
		})
		if err != nil || len(back.Hops) != 1 {
			return nil
		}
		im := rel.Image(p.Model)
		return &change.File{Name: im.File, SHA256: im.SHA256, Size: im.Size, Version: h.From.String()}
	}
}

// found loads a change, or answers that there is none.
func (s *Server) found(ctx context.Context, id int64) (store.Change, error) {
	c, err := s.Store.Change(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return c, notFound("there is no change %d", id)
	}
	return c, err
}

// change loads a change in the form of the contract.
func (s *Server) change(ctx context.Context, id int64) (gen.Change, error) {
	c, err := s.found(ctx, id)
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
	c, err := s.found(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	switch a := change.Action(r.Action); {
	case a == change.Accept && len(text) < 3:
		return nil, badRequest("say why the warnings are accepted")
	case a == change.Early && len(text) < 3:
		return nil, badRequest("say why it has to go before the approved time")
	case a == change.Approve:
		err = s.mayApprove(ctx, &c)
	case a == change.Accept && slices.Contains(c.Possible(), a):
		err = s.mayApprove(ctx, &c) // what is accepted after the approval is not what was approved
	case a == change.Start && slices.Contains(c.Possible(), a):
		err = s.mayStart(ctx, &c)
	}
	if err != nil {
		return nil, err
	}
	if err := s.Engine.Act(ctx, r.Id, change.Action(r.Action), user(ctx), text); err != nil {
		return nil, err
	}
	out, err := s.change(ctx, r.Id)
	return gen.ActOnChange200JSONResponse(out), err
}

// mayApprove asks the policy.
func (s *Server) mayApprove(ctx context.Context, c *store.Change) error {
	p, err := s.changePolicy(ctx)
	if err != nil {
		return err
	}
	if p.SecondPerson && c.CreatedBy == user(ctx) {
		return conflict("change %d was drafted by you; the policy asks for the approval of somebody else, also of what is accepted after that", c.ID)
	}
	return nil
}

// mayStart looks at the device once more: nothing that stops it may be there, and every warning must have been accepted.
func (s *Server) mayStart(ctx context.Context, c *store.Change) error {
	if c.Kind == store.Restore {
		return nil
	}
	checks, err := s.Engine.Ready(ctx, c, user(ctx))
	if err != nil {
		return err
	}
	if stops := ready.Of(checks, ready.Stop); len(stops) > 0 {
		return conflict("not ready: %s", ready.Text(stops))
	}
	var open []ready.Check
	for _, w := range ready.Of(checks, ready.Warn) {
		if !c.Accepts(w.Name) {
			open = append(open, w)
		}
	}
	if len(open) > 0 {
		var names []string
		for _, w := range open {
			names = append(names, w.Name)
		}
		return conflict("there are warnings: %s. Put them right, or accept each by name with a reason: %s", ready.Text(open), strings.Join(names, ", "))
	}
	return nil
}

// policySetting is the name of the setting.
const policySetting = "change policy"

func (s *Server) changePolicy(ctx context.Context) (gen.ChangePolicy, error) {
	p := gen.ChangePolicy{WayBack: gen.ChangePolicyWayBackOffered}
	_, err := s.Store.Setting(ctx, policySetting, &p)
	return p, err
}

// GetChangePolicy answers with the policy.
func (s *Server) GetChangePolicy(ctx context.Context, _ gen.GetChangePolicyRequestObject) (gen.GetChangePolicyResponseObject, error) {
	p, err := s.changePolicy(ctx)
	return gen.GetChangePolicy200JSONResponse(p), err
}

// PutChangePolicy sets the policy.
func (s *Server) PutChangePolicy(ctx context.Context, r gen.PutChangePolicyRequestObject) (gen.PutChangePolicyResponseObject, error) {
	if !r.Body.WayBack.Valid() {
		return nil, badRequest("wayBack is offered or automatic")
	}
	if h := r.Body.RestartHours; h != nil && (*h < 0.25 || *h > 168) {
		return nil, badRequest("restartHours is between a quarter of an hour and a week")
	}
	if err := s.Store.PutSetting(ctx, policySetting, r.Body); err != nil {
		return nil, err
	}
	return gen.PutChangePolicy204Response{}, s.Store.Audit(ctx, user(ctx), "change policy set", "", fmt.Sprintf("second person %t, way back %s", r.Body.SecondPerson, r.Body.WayBack))
}

// CheckChange looks at the device now and says whether the change may start.
func (s *Server) CheckChange(ctx context.Context, r gen.CheckChangeRequestObject) (gen.CheckChangeResponseObject, error) {
	c, err := s.found(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	if c.State != change.Drafted && c.State != change.Approved {
		return nil, conflict("change %d is %s; it is checked before it starts, and by itself while it runs", c.ID, c.State)
	}
	if err := s.look(ctx, c.ID); err != nil {
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
	c, err := s.found(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	checks, err := checksOf(&c)
	if err != nil {
		return nil, err
	}
	for _, name := range r.Body.Checks {
		i := slices.IndexFunc(checks, func(k ready.Check) bool { return k.Name == name })
		switch {
		case i < 0:
			return nil, badRequest("there is no check %q", name)
		case checks[i].State != ready.Warn:
			return nil, conflict("%s is %s; only warnings can be accepted", checks[i].Title, checks[i].State)
		}
	}
	if err := s.Store.AcceptChecks(ctx, r.Id, r.Body.Checks, user(ctx), reason); err != nil {
		return nil, err
	}
	out, err := s.change(ctx, r.Id)
	return gen.AcceptWarnings200JSONResponse(out), err
}

func checksOf(c *store.Change) (checks []ready.Check, err error) {
	if c.Checks != nil {
		err = json.Unmarshal(c.Checks, &checks)
	}
	return checks, err
}

// SetTerms says when a change may run and what happens when it fails.
func (s *Server) SetTerms(ctx context.Context, r gen.SetTermsRequestObject) (gen.SetTermsResponseObject, error) {
	t, err := s.terms(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	err = s.Store.SetTerms(ctx, r.Id, t, user(ctx))
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no change %d", r.Id)
	}
	if err == nil {
		err = s.look(ctx, r.Id)
	}
	if err != nil {
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

func (s *Server) apiChange(ctx context.Context, c store.Change) (gen.Change, error) {
	var plans []change.Step
	for _, st := range c.Steps {
		plans = append(plans, st.Plan)
	}
	out := gen.Change{
		Id: c.ID, Device: c.Device, State: gen.ChangeState(c.State), From: c.From, To: c.To, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt,
		ApprovedBy: c.ApprovedBy, ApprovedAt: c.ApprovedAt, StartedAt: c.StartedAt, EndedAt: c.EndedAt, Failure: c.Failure,
		Kind: gen.ChangeKind(c.Kind), Steps: []gen.Step{}, Actions: []gen.Action{}, Now: time.Now(),
	}
	if c.Planned.ComesBackAt != "" {
		out.ComesBackAt = &c.Planned.ComesBackAt
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
	if err := s.apiCarrying(ctx, &out, &c); err != nil {
		return gen.Change{}, err
	}
	for _, a := range c.Possible() {
		out.Actions = append(out.Actions, gen.Action(a))
	}
	for _, st := range c.Steps {
		as := gen.Step{
			Number: st.Plan.Number, Hop: max(st.Plan.Hop+1, 0), Kind: string(st.Plan.Kind), Title: st.Plan.Title, State: gen.StepState(st.State),
			Low: st.Plan.Expect.Low, High: st.Plan.Expect.High, Limit: st.Plan.Expect.Limit,
			StartedAt: st.StartedAt, EndedAt: st.EndedAt, Attempts: st.Attempts, Fraction: st.Fraction, Note: st.Note, Outcome: st.Outcome,
			Safe: ptr(st.Plan.StopsBefore),
		}
		if st.Plan.Back {
			as.Back = ptr(true)
		}
		switch st.Plan.Kind {
		case change.Hand:
			as.Text = &st.Plan.Text
		case change.CleanUp:
			names := strings.Join(st.Plan.Names, ", ")
			as.Text = &names
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

// stages are the steps of a return, and how each is told when it is over.
var stages = map[change.Kind]string{change.Restart: "it went down", change.Install: "it went down", change.Link: "link up", change.Login: "sign-in works", change.Confirm: "the version is right", change.PutPart: "files put back"}

// between are the kinds of steps that a return is made of, besides the restart.
var between = []change.Kind{change.Link, change.Login, change.Confirm, change.KeepSlot, change.Validate, change.PutPart, change.Save, change.Ahead, change.Services}

// awaited is the return of the device while it is waited for: since its start, until its services are up.
func awaited(c *store.Change) *gen.Awaited {
	now := slices.IndexFunc(c.Steps, func(s store.Step) bool { return s.State == change.StepRunning })
	if c.State != change.Running && c.State != change.Holding || now < 0 {
		return nil
	}
	first := now
	for first >= 0 && slices.Contains(between, c.Steps[first].Plan.Kind) {
		first--
	}
	if first < 0 || c.Steps[first].StartedAt == nil {
		return nil
	}
	if s := &c.Steps[first].Plan; s.Kind != change.Restart && !(s.Kind == change.Install && s.InPlace) {
		return nil
	}
	out := &gen.Awaited{Since: *c.Steps[first].StartedAt}
	var told []string
	for i := first; i < len(c.Steps) && (i == first || slices.Contains(between, c.Steps[i].Plan.Kind)); i++ {
		s := &c.Steps[i]
		if text := stages[s.Plan.Kind]; text != "" && i < now && !slices.Contains(told, text) {
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

// apiCarrying adds what a change says about being ready, its ways back, and what it asks.
func (s *Server) apiCarrying(ctx context.Context, out *gen.Change, c *store.Change) error {
	wayBack := gen.TermsWayBack(c.BackPolicy)
	out.Terms = &gen.Terms{WindowFrom: c.WindowFrom, WindowTo: c.WindowTo, RestartFrom: c.RestartFrom, WayBack: &wayBack}
	out.WaitsUntil, out.PausedBy, out.StateSince = c.WaitsUntil, c.PausedBy, &c.StateSince
	if c.State != change.Held && c.State != change.Holding {
		out.PausedBy = nil
	}
	if len(c.Accepted) > 0 {
		list := []gen.Accepted{}
		for _, a := range c.Accepted {
			list = append(list, gen.Accepted{Check: a.Check, By: a.By, Reason: a.Reason, At: a.At})
		}
		out.Accepted = &list
	}
	if q := c.Question; q != nil {
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
	checks, err := checksOf(c)
	if err != nil {
		return err
	}
	if len(checks) > 0 {
		list := []gen.Check{}
		for _, k := range checks {
			item := gen.Check{Name: k.Name, Title: k.Title, State: gen.CheckState(k.State), Evidence: k.Evidence}
			if k.Remedy != "" {
				item.Remedy = &k.Remedy
			}
			for _, a := range c.Accepted {
				if a.Check == k.Name && k.State == ready.Warn {
					item.AcceptedBy, item.Reason = ptr(a.By), ptr(a.Reason)
				}
			}
			list = append(list, item)
		}
		out.Checks, out.CheckedAt = &list, c.CheckedAt
	}
	if c.Returning != nil {
		out.Returning, out.ReturnWhy = ptr(*c.Returning+1), c.ReturnWhy
	}
	if len(c.Steps) == 0 { // of a list: no more is told
		return nil
	}
	var rest []change.Step
	until := 0 // how many of the rest come before it may rest, while it may not be interrupted
	for i, st := range c.Steps {
		if st.State == change.StepWaiting || st.State == change.StepRunning {
			rest = append(rest, st.Plan)
		}
		if st.State == change.StepRunning && (c.State == change.Running || c.State == change.Holding) && i+1 < len(c.Steps) && !c.Steps[i+1].Plan.StopsBefore {
			if next := slices.IndexFunc(c.Steps[i+1:], func(x store.Step) bool { return x.Plan.StopsBefore }); next >= 0 {
				out.RestingAt, until = ptr(c.Steps[i+1+next].Plan.Title), next+1
			}
		}
	}
	forecasts, err := s.Engine.Forecasts(ctx, c.Planned.Model, rest)
	if err != nil {
		return err
	}
	if out.RestingAt != nil {
		sum := 0.0
		for _, f := range forecasts[:min(until, len(forecasts))] {
			sum += f.Most
		}
		out.RestingMost = &sum
	}
	var half, most float64
	for _, f := range forecasts {
		half, most = half+f.Half, most+f.Most
	}
	if !c.State.Over() {
		out.Half, out.Most = &half, &most
	}
	if len(c.Back) > 0 {
		ways := []gen.WayBack{}
		for i, b := range c.Back {
			w := gen.WayBack{Hop: i + 1, Way: gen.WayBackWay(b.Way), Text: b.Text}
			fs, err := s.Engine.Forecasts(ctx, c.Planned.Model, b.Steps)
			if err != nil {
				return err
			}
			sum := 0.0
			for _, f := range fs {
				sum += f.Most
			}
			if b.Leads() {
				w.Most = &sum
			}
			ways = append(ways, w)
		}
		out.WaysBack = &ways
	}
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
