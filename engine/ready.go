package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/store"
)

// CorePortrait is what a device says of itself, in the form that the catalogue's rules look at.
func CorePortrait(name string, p *device.Portrait) *portrait.Portrait {
	out := &portrait.Portrait{Name: name, Model: p.Model, Version: p.Version, Generation: p.Generation, Components: p.Components, Licences: p.Licences, BootVariables: p.Variables}
	if p.Total > 0 {
		out.Storage = map[string]portrait.Room{"flash": {Total: p.Total, Free: p.Free}}
	}
	for _, s := range p.Slots {
		out.Slots = append(out.Slots, portrait.Slot{Name: s.Name, Version: s.Version, Running: s.Running})
	}
	return out
}

// Ready looks at the device now and says whether a change may start. What it found is recorded with the change.
func (e *Engine) Ready(ctx context.Context, c *store.Change, by string) ([]ready.Check, error) {
	d, err := e.Store.DeviceByID(ctx, c.DeviceID)
	if err != nil {
		return nil, err
	}
	var p path.Path
	if err := json.Unmarshal(c.Path, &p); err != nil {
		return nil, err
	}
	var now *device.Portrait
	in, unreachable := "", ""
	var empty, unread []string
	var since *ready.Facts
	asking, client, done, err := e.ask(ctx, d, by, fmt.Sprintf("see whether change %d may start", c.ID))
	if err == nil {
		if empty, unread, now, err = e.wouldCompare(asking, client, d); err == nil {
			since = &ready.Facts{}
			err = e.undone(asking, since, c, d, now, client)
		}
		in = client.SignedIn().User
		done()
	}
	if record := (*recordError)(nil); errors.As(err, &record) {
		return nil, err
	}
	if err != nil {
		unreachable = err.Error()
		if e := e.Store.LookFailed(ctx, d.ID, unreachable); e != nil {
			return nil, e
		}
	} else if err := e.recordPortrait(ctx, d.ID, now); err != nil {
		return nil, err
	}
	f, err := e.facts(ctx, c, &p, d, now, 0)
	if err != nil {
		return nil, err
	}
	f.Empty, f.NotRead = empty, unread
	if since != nil {
		f.GoesBack, f.Carried, f.Undone, f.UndoneUnknown, f.UndoneBackup, f.CanCarry = since.GoesBack, since.Carried, since.Undone, since.UndoneUnknown, since.UndoneBackup, since.CanCarry
	}
	f.Unreachable, f.SignedInAs = unreachable, in
	if err := e.openConversion(ctx, f, c, &p, d, now); err != nil {
		return nil, err
	}
	if d.OpenChange != nil && *d.OpenChange != c.ID {
		f.OtherChange = *d.OpenChange
	}
	checks := ready.Checks(*f)
	data, err := json.Marshal(checks)
	if err != nil {
		return nil, err
	}
	return checks, e.Store.SetChecks(ctx, c.ID, data, nil)
}

// wouldCompare takes the readings as a change would before it begins, and names those that would prove nothing afterwards.
func (e *Engine) wouldCompare(ctx context.Context, c *device.Client, d store.Device) (empty, unread []string, p *device.Portrait, err error) {
	rs, err := e.readingsOf(ctx, d)
	if err != nil {
		return nil, nil, nil, err
	}
	values, p, err := measure(ctx, c, rs)
	if err != nil {
		return nil, nil, nil, err
	}
	empty, unread = proveNothing(rs, values)
	return empty, unread, p, nil
}

// proveNothing names the readings before a change that there will be nothing to compare with: those with nothing in them, and those that
// could not be read.
func proveNothing(rs []device.Reading, before verify.Readings) (empty, unread []string) {
	for _, x := range expectations(rs, before, "", nil, nil) {
		if x.Title == "" {
			x.Title = x.Reading
		}
		switch why := x.Nothing(before[x.Reading]); {
		case why == "" || x.Reading == readVersion:
		case x.Vacuous(before[x.Reading]):
			empty = append(empty, fmt.Sprintf("%s (%s before)", x.Title, before[x.Reading]))
		default:
			unread = append(unread, fmt.Sprintf("%s (%s)", x.Title, why))
		}
	}
	return empty, unread
}

// facts gathers what the checks of a hop look at. p is nil when the device cannot be reached.
func (e *Engine) facts(ctx context.Context, c *store.Change, way *path.Path, d store.Device, p *device.Portrait, hop int) (*ready.Facts, error) {
	dialect := e.Dialects[d.Dialect]
	if dialect == nil {
		return nil, final("dialect %q is not known here", d.Dialect)
	}
	can := dialect.Abilities()
	f := &ready.Facts{Now: c.Now.In(e.Zone), BackIsAuto: c.BackPolicy == store.BackAutomatic, HasSlots: !can.InPlace, CanSave: can.Save,
		WantModel: way.Model, WantSerial: c.Planned.Serial, WantVersion: c.From}
	for _, s := range c.Steps {
		k := s.Plan.Kind
		f.Writes = f.Writes || !s.Plan.Back && (k == change.Install || k == change.Clone)
		f.SavesFirst = f.SavesFirst || k == change.Save
		f.Starts = f.Starts || k == change.Restart || s.Plan.InPlace
		f.Touches = f.Touches || slices.Contains(losing, k) && !s.Plan.Back
		f.BackupSoon = f.BackupSoon || k == change.Backup && !s.Plan.Back
	}
	f.Single = c.Kind == store.Acts
	if hop < len(way.Hops) {
		f.WantVersion = way.Hops[hop].From.String()
	}
	if c.WindowFrom != nil {
		f.From = c.WindowFrom.In(e.Zone)
	}
	if c.WindowTo != nil {
		f.To = c.WindowTo.In(e.Zone)
	}
	if p != nil {
		f.Model, f.Serial, f.Version, f.Total, f.Free, f.Unsaved = p.Model, p.Serial, p.Version, p.Total, p.Free, p.Unsaved
		f.Services, f.NotUnderstood = p.ServicesReady, p.NotUnderstood
		for _, part := range p.Parts {
			f.Parts = append(f.Parts, ready.Part{Name: part.Name, State: part.State, Good: part.Good})
		}
		if idle := p.IdleSlot(); idle != nil {
			f.Idle, f.IdleHolds, f.IdleBusy, f.IdleBroken = idle.Name, idle.Version, idle.Busy == portrait.Yes, idle.Broken()
		}
		if running := p.RunningSlot(); running != nil {
			f.RunningIn = running.Name
		}
	}
	if p != nil {
		e.stores(ctx, f, dialect, way, p, hop)
	}
	if err := e.waysIn(ctx, f, d, way); err != nil {
		return nil, err
	}
	if c.RestartFrom != nil {
		f.RestartFrom = c.RestartFrom.In(e.Zone)
	}
	if hop < len(c.Back) && c.Back[hop].Way != change.NoWayBack {
		f.BackText, f.BackNeedless = c.Back[hop].Text, c.Back[hop].Way == change.BackNotNeeded
	}
	if c.Kind == store.Firmware || c.Kind == store.Acts {
		if err := e.files(ctx, f, c, way, p, hop, can.Media); err != nil {
			return nil, err
		}
	} else {
		f.Total, f.Need = max(f.Total, 1), 0 // nothing is sent
	}
	if last, err := e.Store.LastGoodBackup(ctx, d.ID); err == nil {
		age := time.Since(last)
		f.BackupAge = &age
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, records(err)
	}
	if err := e.needs(ctx, f, c, way, d, p, hop); err != nil {
		return nil, err
	}
	if err := e.older(ctx, f, c, way); err != nil {
		return nil, err
	}
	return f, e.forecastInto(ctx, f, c)
}

// losing are the kinds of steps that could lose configuration.
var losing = []change.Kind{change.CleanUp, change.Clone, change.Component, change.PowerCycle, change.Install, change.Save, change.ChooseSlot, change.Restart, change.PutPart}

// stores looks at the storages beside that for files. What the idle slot holds makes room for what is written into it, by what the
// catalogue says it takes.
func (e *Engine) stores(ctx context.Context, f *ready.Facts, d *device.Dialect, way *path.Path, p *device.Portrait, hop int) {
	for _, s := range p.Stores {
		out := ready.Store{Name: s.Name, Total: s.Total, Free: s.Free}
		if s.Name == d.Places && f.Writes && hop < len(way.Hops) {
			out.Need = max(way.Hops[hop].Image.Installed-e.takes(ctx, way, f.IdleHolds), 0)
		}
		f.Stores = append(f.Stores, out)
	}
}

// takes is how much an installation of a version takes in its slot; 0 when nobody knows.
func (e *Engine) takes(ctx context.Context, way *path.Path, v string) int64 {
	parsed, err := version.Parse(v)
	if err != nil || e.Catalogue == nil {
		return 0
	}
	cat, err := e.Catalogue(ctx)
	if err != nil {
		return 0
	}
	f := cat.Family(way.Family)
	if f == nil || f.Release(parsed) == nil || f.Release(parsed).Image(way.Model) == nil {
		return 0
	}
	return f.Release(parsed).Image(way.Model).Installed
}

// waysIn looks for versions on the way for which no credential is meant.
func (e *Engine) waysIn(ctx context.Context, f *ready.Facts, d store.Device, way *path.Path) error {
	cs, err := e.Store.Credentials(ctx, d.ID)
	if err != nil {
		return records(err)
	}
	var versions []string
	for _, h := range way.Hops {
		versions = append(versions, h.From.String(), h.To.String())
	}
	for _, v := range versions {
		known := slices.ContainsFunc(cs, func(c store.Credential) bool {
			if c.Kind != KindPassword && c.Kind != KindKey && c.Kind != KindConsole {
				return false
			}
			r, err := version.ParseRange(c.Versions)
			parsed, bad := version.Parse(v)
			return c.Versions == "" || err == nil && bad == nil && r.Contains(parsed)
		})
		if !known && !slices.Contains(f.NoCredential, v) {
			f.NoCredential = append(f.NoCredential, v)
		}
	}
	return nil
}

// files looks at the files of the change: in our store, and what of this hop is still to come onto the device.
func (e *Engine) files(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, p *device.Portrait, hop int, media bool) error {
	seen := map[string]bool{}
	var mine []string
	clean := map[string]bool{}
	for i := range c.Steps {
		s := &c.Steps[i].Plan
		if s.Kind == change.CleanUp && s.Hop == hop {
			for _, n := range s.Names {
				clean[n] = true
			}
		}
		if s.Kind != change.Checksum || s.Hop < 0 || s.Back {
			continue
		}
		file := s.File
		if file == nil {
			file = change.Image(&way.Hops[s.Hop])
		}
		if s.Hop == hop && !seen["hop "+file.Name] {
			seen["hop "+file.Name] = true
			mine = append(mine, file.Name)
			there := int64(0)
			if p != nil && p.File(file.Name) != nil {
				there = p.File(file.Name).Size
			}
			if !media {
				f.Need += max(file.Size-there, 0)
			}
		}
		if seen[file.SHA256] {
			continue
		}
		seen[file.SHA256] = true
		rf := ready.File{Name: file.Name, Size: file.Size, There: true}
		if fetch, err := e.Store.FetchOf(ctx, file.SHA256); err == nil && fetch.Open() {
			rf.There, rf.Comes = false, true
		} else if media && !e.Images.Has(file.SHA256) {
			// It is carried in: what lies on the medium is compared with the catalogue's hash on the device.
		} else if err := e.fileFits(ctx, file, way.Model); err != nil {
			var record *recordError
			if errors.As(err, &record) {
				return err
			}
			rf.There, rf.Why = false, err.Error()
		}
		f.Files = append(f.Files, rf)
	}
	if p != nil {
		installed := e.installed(ctx, way, p)
		files := slices.SortedFunc(slices.Values(p.Files), func(a, b device.File) int { return int(min(max(b.Size-a.Size, -1), 1)) })
		for _, file := range files {
			switch {
			case clean[file.Name]:
				f.Free += file.Size
			case slices.Contains(mine, file.Name):
			case installed[file.Name] != "":
				f.Installed = append(f.Installed, fmt.Sprintf("%s (%s, the image of %s)", file.Name, ready.MiB(file.Size), installed[file.Name]))
			case len(f.Removable) < 3:
				f.Removable = append(f.Removable, fmt.Sprintf("%s (%s)", file.Name, ready.MiB(file.Size)))
			}
		}
	}
	if hop < len(c.Back) && c.Back[hop].Way == change.BackByReinstall {
		for _, s := range c.Back[hop].Steps {
			if s.Kind == change.Install && s.File != nil && !e.Images.Has(s.File.SHA256) {
				f.BackFile = s.File.Name
			}
		}
	}
	return nil
}

// installed are the files that the catalogue lists for what runs on a device and for what it could fall back to: the version of each.
func (e *Engine) installed(ctx context.Context, way *path.Path, p *device.Portrait) map[string]string {
	out := map[string]string{}
	if e.Catalogue == nil {
		return out
	}
	cat, err := e.Catalogue(ctx)
	if err != nil || cat.Family(way.Family) == nil {
		return out
	}
	family := cat.Family(way.Family)
	for _, name := range append([]string{p.Version}, slotVersions(p)...) {
		v, err := version.Parse(name)
		release := family.Release(v)
		if err != nil || release == nil {
			continue
		}
		for _, r := range []*catalog.Release{release, family.Release(release.Base)} { // what it builds on is part of it
			if r != nil && r.Image(p.Model) != nil {
				out[r.Image(p.Model).File] = name
			}
		}
	}
	return out
}

func slotVersions(p *device.Portrait) (out []string) {
	for _, s := range p.Slots {
		out = append(out, s.Version)
	}
	return out
}

// needs holds the device against the prerequisites of the hop.
func (e *Engine) needs(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, d store.Device, p *device.Portrait, hop int) error {
	if e.Catalogue == nil || hop >= len(way.Hops) || c.Kind != store.Firmware {
		return nil
	}
	cat, err := e.Catalogue(ctx)
	if err != nil {
		return unusable(err)
	}
	family := cat.Family(way.Family)
	if family == nil {
		return nil
	}
	facts := &portrait.Portrait{}
	if p != nil {
		facts = CorePortrait(d.Name, p)
	}
	facts.Uses, facts.Given = e.uses(ctx, family, d), c.Licences()
	kinds := map[string]string{catalog.NeedBootVariable: ready.Variables, catalog.NeedLicence: ready.Licences}
	for _, q := range way.Hops[hop].Prerequisites {
		i := slices.IndexFunc(family.Requirements, func(r catalog.Requirement) bool { return r.ID == q.ID })
		if i < 0 || q.ID == "" { // the room for the images is counted from the files
			continue
		}
		r := &family.Requirements[i]
		state, evidence := r.Met(facts)
		if r.Kind == catalog.NeedContent {
			state, evidence = q.State, q.Evidence // the way itself may bring it along
		}
		n := ready.Need{Check: kinds[r.Kind], Text: q.Text, Evidence: evidence, What: q.Remedy}
		if n.Check == "" {
			n.Check = ready.Prerequisites
		}
		if state != catalog.Unknown {
			met := state == catalog.Yes
			n.Met = &met
		}
		n.Check += " " + q.ID
		f.Needs = append(f.Needs, n)
	}
	return nil
}

// uses says which conditions of the catalogue the newest saved configuration fulfils; nil when nobody knows.
func (e *Engine) uses(ctx context.Context, family *catalog.Family, d store.Device) map[string]bool {
	bs, err := e.Store.Backups(ctx, d.Name, 0, 1)
	if err != nil || len(bs) == 0 || bs[0].File == "" {
		return nil
	}
	text, err := e.Main(bs[0])
	if err != nil {
		return nil
	}
	schema, err := e.reading(ctx, bs[0].Model, bs[0].Version, config.Syntax(family.Configuration.Syntax), bs[0].File, text)
	if err != nil {
		return nil
	}
	doc, broken := schema.Parse(bs[0].File, text)
	if len(broken) > 0 {
		return nil
	}
	return family.Fulfilled(doc)
}

// Uses is uses for callers that know the device's model only.
func (e *Engine) Uses(ctx context.Context, family *catalog.Family, d store.Device) map[string]bool {
	return e.uses(ctx, family, d)
}

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
		if past := seen[string(s.Kind)]; len(past) >= samples && !s.Kind.Moves() && s.Kind != change.Hand {
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
		if len(past) < samples || s.Kind.Moves() || s.Kind == change.Hand {
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
	if i := slices.IndexFunc(rest, func(s change.Step) bool { return s.Kind == change.Point }); c.RestartFrom != nil && i >= 0 && c.Now.Before(*c.RestartFrom) {
		rest = rest[i:]
	}
	sum := func(steps []change.Step) (half, most time.Duration, err error) {
		fs, err := e.Forecasts(ctx, c.Planned.Model, steps)
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

// check says whether the hop may go on, from the device as it is now. It is the step before anything is sent, and again the
// one before the point of no return.
func check(r *run, ctx context.Context, s *store.Step) error {
	t, err := r.e.Store.Times(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	// Whether its time has come is for the clock of the database to say, which all workers share.
	if s.Plan.Kind == change.Point && t.Now.Before(t.RestartFrom) {
		if _, passed := r.c.Passed(); !passed {
			return &laterError{t.RestartFrom.In(r.e.Zone)}
		}
	}
	return r.goOn(ctx, s)
}

// goOn is check whatever the time.
func (r *run) goOn(ctx context.Context, s *store.Step) error {
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	if err := r.e.recordPortrait(ctx, r.c.DeviceID, p); err != nil {
		return err
	}
	r.seen = p
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	t, err := r.e.Store.Times(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	r.c.Now = t.Now
	f, err := r.e.facts(ctx, r.c, &r.path, d, p, s.Plan.Hop)
	if err != nil {
		return err
	}
	f.From, f.To = inZone(t.WindowFrom, r.e.Zone), inZone(t.WindowTo, r.e.Zone)
	if f.Empty, f.NotRead, err = r.nothingToCompare(); err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	f.SignedInAs = c.SignedIn().User
	if err := r.e.undone(ctx, f, r.c, d, p, c); err != nil {
		return err
	}
	sends := slices.ContainsFunc(r.c.Steps, func(st store.Step) bool { return st.Plan.Kind == change.Send })
	if sends && d.Transfer != "sftp" && d.Transfer != "" && !c.Has("fetch-image") {
		return final("dialect %q has no fetch-image, so the device cannot download its image; add that verb to the dialect", d.Dialect)
	}
	checks := ready.Checks(*f)
	data, err := json.Marshal(checks)
	if err != nil {
		return err
	}
	stands, err := json.Marshal(standingOf(p, s.Plan.Hop))
	if err != nil {
		return err
	}
	if err := r.notReady(s, checks); err != nil {
		return errors.Join(err, records(r.e.Store.SetChecks(ctx, r.c.ID, data, nil)))
	}
	if !r.chosen(s.Plan.Hop) { // from here on it is ours that moves
		r.c.Stands = stands
	}
	if err := r.e.Store.SetChecks(ctx, r.c.ID, data, r.c.Stands); err != nil {
		return records(err)
	}
	s.Note = fmt.Sprintf("%s %s runs %s; %d checks, none stops", p.Model, p.Serial, p.Version, len(checks))
	if n := len(ready.Of(checks, ready.Warn)); n > 0 {
		s.Note += fmt.Sprintf(", %d warnings were accepted", n)
	}
	r.ready[s.Plan.Hop] = s.Plan.Kind != change.Check
	return nil
}

// inZone leaves the zero time, which means none, as it is.
func inZone(t time.Time, zone *time.Location) time.Time {
	if t.IsZero() {
		return t
	}
	return t.In(zone)
}

// chosen reports whether a step that decides what the device starts was begun in a hop.
func (r *run) chosen(hop int) bool {
	return slices.ContainsFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Hop == hop && st.Plan.Irreversible() && !st.Plan.Back && st.State != change.StepWaiting && st.State != change.StepSkipped
	})
}

// nothingToCompare names the readings before the change that will prove nothing.
func (r *run) nothingToCompare() (empty, unread []string, err error) {
	if r.c.Readings == nil || r.c.Definitions == nil {
		return nil, nil, nil
	}
	var before verify.Readings
	var rs []device.Reading
	if err := errors.Join(json.Unmarshal(r.c.Readings, &before), json.Unmarshal(r.c.Definitions, &rs)); err != nil {
		return nil, nil, final("the readings from before the change cannot be read: %w", err)
	}
	empty, unread = proveNothing(rs, before)
	return empty, unread, nil
}

// notReady is the error, or the question, of checks that keep a hop from going on; nil when none does.
func (r *run) notReady(s *store.Step, checks []ready.Check) error {
	if stops := ready.Of(checks, ready.Stop); len(stops) > 0 {
		if len(stops) == 1 && stops[0].Name == ready.Window {
			return r.askTime(s, stops[0].Evidence)
		}
		err := fmt.Errorf("not ready: %s", ready.Text(stops))
		if _, passed := r.c.Passed(); passed { // an earlier hop is done; what goes on from here is for a person to say
			q := change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Text: strings.TrimSpace(err.Error() + ". " + r.armed(r.seen)), Answers: []change.Action{change.Retry, change.Leave}}
			if r.canGoBack(r.seen) {
				q.Answers = append(q.Answers, change.GoBack)
			}
			return &askError{q, s.State}
		}
		return &finalError{err}
	}
	var open []ready.Check
	var names []string
	for _, w := range ready.Of(checks, ready.Warn) {
		if !r.c.Accepts(w.Name) {
			open, names = append(open, w), append(names, w.Name)
		}
	}
	if len(open) == 0 {
		return nil
	}
	return &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: names, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
		Text: "Before it goes on: " + ready.Text(open)}, s.State}
}
