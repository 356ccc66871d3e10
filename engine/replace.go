package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/replace"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
	"verimorph/vault"
)

// A device of another model takes the place of one. The new one is brought up with the converted configuration of the old one, hands move the cables, and
// what was read of the old one is held against the new one, through the mapping of ports. The old one is not written to.

// The roles of the two members of such a change.
const (
	RoleNew = "new"
	RoleOld = "old"
)

// bringsUp reports whether the first device of a change, or that of a view of one, was blank before.
func bringsUp(c *store.Change) bool {
	return c.Kind == change.BringingUp || c.Kind == change.Replacing && c.First().Number == change.TheNew
}

// A ReplaceWork is what such a change knows beside what it puts.
type ReplaceWork struct {
	Cables  []replace.Cable   `json:"cables"`
	Labels  map[string]string `json:"labels,omitempty"` // of cables, by the port of the old device
	Address string            `json:"address,omitempty"`
	// Source is the configuration that was converted, sealed; At is the MODEL@VERSION that wrote it, File its name.
	Source []byte `json:"source"`
	At     string `json:"at"`
	File   string `json:"file"`
	To     string `json:"to"` // MODEL@VERSION that it was converted for
	// Before are readings of the old device that does not answer any more, as they were recorded last.
	Before verify.Readings `json:"before,omitempty"`
}

// WithReplacement adds it to the work of a change (see [BringUpWork]); source is what was converted.
func WithReplacement(v *vault.Vault, old string, work []byte, rw ReplaceWork, source string) ([]byte, error) {
	var w hopWork
	err := json.Unmarshal(work, &w)
	if err == nil {
		rw.Source, err = v.Seal(sourceLabel(old), []byte(source))
	}
	if err != nil {
		return nil, err
	}
	w.Replace = &rw
	return json.Marshal(w)
}

// Replaced is that part of the work of a change; nil when it replaces nothing.
func Replaced(c *store.Change) (*ReplaceWork, error) {
	var w hopWork
	if len(c.Work) == 0 {
		return nil, nil
	}
	err := json.Unmarshal(c.Work, &w)
	return w.Replace, err
}

// replacedBy is that part of a change that has to have one.
func replacedBy(c *store.Change) (*ReplaceWork, error) {
	w, err := Replaced(c)
	switch {
	case err != nil:
		return nil, final("the record of what is replaced cannot be read: %w; draft the change anew", err)
	case w == nil:
		return nil, final("the records do not say what is replaced; draft the change anew")
	}
	return w, nil
}

func sourceLabel(old string) string { return "configuration of " + old + ", which is replaced" }

// whole is the change with all of its members, as it is in the records.
func (r *run) whole(ctx context.Context) (*store.Change, *ReplaceWork, error) {
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return nil, nil, records(err)
	}
	w, err := replacedBy(&c)
	return &c, w, err
}

// checkSource holds what was converted against what the old device was backed up with just now. What somebody worked out of the newer one takes its place.
func checkSource(r *run, ctx context.Context, s *store.Step) error {
	c, w, err := r.whole(ctx)
	if err != nil {
		return err
	}
	old := &c.Members[change.TheOld-1]
	b, err := r.e.Store.BackupOf(ctx, c.ID, old.DeviceID, 0)
	if errors.Is(err, store.ErrNotFound) {
		s.Note = fmt.Sprintf("%s does not answer, so nobody can say whether it was changed since it was backed up", old.Device)
		return nil
	}
	if err != nil {
		return records(err)
	}
	now, err := r.e.Main(b)
	if err != nil {
		return final("%w", err)
	}
	was, err := r.e.Vault.Open(sourceLabel(old.Device), w.Source)
	if err != nil {
		return final("what was converted cannot be read from our own records: %w", err)
	}
	if now == string(was) {
		s.Note = fmt.Sprintf("%s has the configuration that was converted, by backup %d", old.Device, b.ID)
		return nil
	}
	if r.e.Worked != nil {
		text, note, ok, err := r.e.Worked(ctx, b, now, w.To)
		if err != nil {
			return unusable(err)
		}
		if ok && c.Wish != nil && c.Wish.Replace != nil && c.Wish.Replace.Defaults == change.KeepDefaults {
			return final("the configuration of %s was changed since it was converted, and what %s says by itself is to be kept, which is worked out at the draft; "+
				"draft it anew: verimorph change redraft %d", old.Device, r.m.Device, c.ID)
		}
		if ok {
			return r.putOther(ctx, s, w, now, text, note)
		}
	}
	other, err := r.differsFrom(ctx, old, w, string(was), now)
	if err != nil {
		return err
	}
	if len(other) == 0 {
		s.Note = fmt.Sprintf("%s has the configuration that was converted, by what backup %d means", old.Device, b.ID)
		return nil
	}
	text := fmt.Sprintf("The configuration of %s was changed since it was converted; %d statements differ: %s. Nothing was put onto %s. ", old.Device, len(other), first(other, 5), r.m.Device) +
		fmt.Sprintf("Convert it as it is now with: verimorph conversion start -backup %d -to %s; decide what is open there, then answer retry", b.ID, w.To)
	return &askError{change.Question{Kind: change.AskPerson, Step: s.Plan.Number, Text: text, Answers: []change.Action{change.Retry, change.Leave},
		Backup: b.ID, To: w.To}, change.StepRunning}
}

// differsFrom names what differs between two configurations of the old device, by what they mean.
func (r *run) differsFrom(ctx context.Context, old *store.Member, w *ReplaceWork, was, now string) ([]string, error) {
	d, err := r.e.Store.DeviceByID(ctx, old.DeviceID)
	if err != nil {
		return nil, records(err)
	}
	if p := r.e.Profile(d); p != nil {
		part := p.File(w.File)
		was, now = part.Steady(was), part.Steady(now)
	}
	model, version, _ := strings.Cut(w.At, "@")
	schema, err := r.e.reading(ctx, model, version, "", w.File, now)
	if err != nil {
		return nil, err
	}
	guarded, other, _, err := differ(w.File, was, now, schema, func(config.Difference) bool { return true })
	if err != nil {
		return []string{err.Error()}, nil
	}
	return append(guarded, other...), nil
}

// putOther has the change put what was worked out of the configuration as it is now.
func (r *run) putOther(ctx context.Context, s *store.Step, rw *ReplaceWork, source, text, note string) error {
	w, err := r.hopWork()
	if err != nil {
		return err
	}
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	last := len(r.path.Hops) - 1
	if len(w.Hops[last]) == 0 {
		return final("the records do not say what is put; draft the change anew")
	}
	part := &w.Hops[last][0]
	if part.Sealed, err = r.e.Vault.Seal(RestoreLabel(r.m.Device, part.Name), []byte(text)); err != nil {
		return err
	}
	part.Note = note
	if rw.Source, err = r.e.Vault.Seal(sourceLabel(c.Members[change.TheOld-1].Device), []byte(source)); err != nil {
		return err
	}
	w.Replace = rw
	data, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if err := r.e.Store.SetWork(ctx, r.lease, r.c.ID, data); err != nil {
		return records(err)
	}
	r.c.Work = data
	s.Note = "it was changed since, and is " + note
	return nil
}

// stillPut looks, before hands begin to move cables, whether the new device still has what was put onto it: it may have lost its power before that was saved.
// Then it is put once more.
func (r *run) stillPut(ctx context.Context, s *store.Step) error {
	if r.c.Kind != change.Replacing || s.Plan.Kind != change.GoNoGo || s.Plan.Hop != len(r.path.Hops)-1 {
		return nil
	}
	w, err := r.hopWork()
	if err != nil {
		return final("the record of what is put cannot be read: %w; draft the change anew", err)
	}
	if len(w.Hops[s.Plan.Hop]) == 0 {
		return final("the records do not say what is put; draft the change anew")
	}
	there, err := r.partIsThere(ctx, putStep(s.Plan.Hop, w.Hops[s.Plan.Hop][0].Name))
	if err != nil || there {
		return err
	}
	return &againError{change.PutPart, "the device does not have the configuration any more that was put onto it", "it does not keep what is put onto it"}
}

// plugged waits until the port into which a cable was moved shows a link. What it shows else helps whoever stands there.
func plugged(r *run, ctx context.Context, s *store.Step) error {
	port := change.Of[change.PortParams](&s.Plan).Port
	want, _, err := r.byCables(ctx)
	if err != nil {
		return err
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	all, err := r.e.ReadingsOf(ctx, d)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(x device.Reading) bool { return !x.Ports })
	expected := false // the old one showed something there
	for _, x := range all {
		expected = expected || len(at(want[x.Name], port)) > 0
	}
	began, patience := r.e.now(), time.Duration(s.Plan.Expect.Limit*float64(time.Second)*6/10)
	seen := ""
	err = r.poll(ctx, s, func() (bool, string, error) {
		if len(all) == 0 {
			return true, "such a device does not tell what is in its ports; that is for the readings of the verdict to say", nil
		}
		values, err := r.portReadings(ctx, all)
		if err == nil {
			var there bool
			if there, seen = showsAt(all, values, port); there {
				return true, seen, nil
			}
		} else if k := device.KindOf(err); k == device.Unreachable || k == device.Lost || k == device.Silent || k == device.NotReady {
			r.hangUp()
			seen = err.Error()
		} else {
			return false, "", err
		}
		switch {
		case !expected && err == nil:
			return true, fmt.Sprintf("port %s shows no link, and the old device showed none there either", port), nil
		case r.accepts(CheckCable + " " + port):
			return true, seen + "; that was accepted", nil
		case r.e.since(began) < patience:
			return false, seen, nil
		}
		return false, "", &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{r.named(CheckCable + " " + port)},
			Answers: []change.Action{change.Accept, change.Retry, change.Leave},
			Text:    fmt.Sprintf("The cable to port %s: %s. Look at it, and answer retry; or accept it, then the readings at the end say whether it matters", port, seen)}, change.StepRunning}
	})
	return err
}

// CheckCable, with a port behind it, is the name under which a cable is accepted that shows no link.
const CheckCable = "cable"

func (r *run) portReadings(ctx context.Context, all []device.Reading) (verify.Readings, error) {
	c, err := r.connect(ctx)
	if err != nil {
		return nil, err
	}
	return c.Readings(ctx, all)
}

// at is what a value says of a port.
func at(v verify.Value, port string) (out []string) {
	for _, element := range v.Set {
		if name, rest, _ := strings.Cut(element, " "); name == port {
			out = append(out, strings.TrimSpace(rest))
		}
	}
	return out
}

// showsAt tells what readings show at a port, and where they show something instead when there is nothing.
func showsAt(all []device.Reading, values verify.Readings, port string) (there bool, seen string) {
	var says, elsewhere []string
	for _, x := range all {
		v := values[x.Name]
		if !v.Known() {
			says = append(says, x.Title+": "+v.String())
			continue
		}
		for _, what := range at(v, port) {
			there = true
			says = append(says, strings.TrimSuffix(x.Title+": "+strings.TrimSpace(port+" "+what), ": "))
		}
		elsewhere = append(elsewhere, x.Title+": "+v.String())
	}
	if there {
		return true, strings.Join(says, "; ")
	}
	return false, fmt.Sprintf("port %s shows no link; %s", port, strings.Join(append(says, elsewhere...), "; "))
}

// byCables are the readings of the old device as the new one should show them, and what is not looked for.
func (r *run) byCables(ctx context.Context) (want verify.Readings, notes map[string]string, err error) {
	c, w, err := r.whole(ctx)
	if err != nil {
		return nil, nil, err
	}
	old := &c.Members[change.TheOld-1]
	before := w.Before
	var rs []device.Reading
	if old.Readings != nil {
		if err := errors.Join(json.Unmarshal(old.Readings, &before), json.Unmarshal(old.Definitions, &rs)); err != nil {
			return nil, nil, final("the readings of %s cannot be read: %w", old.Device, err)
		}
	} else {
		d, err := r.e.Store.DeviceByID(ctx, old.DeviceID)
		if err != nil {
			return nil, nil, records(err)
		}
		if rs, err = r.e.ReadingsOf(ctx, d); err != nil {
			return nil, nil, err
		}
	}
	byPort := map[string]bool{}
	for _, x := range rs {
		byPort[x.Name] = x.Ports
	}
	want, notes = replace.Expected(before, byPort, w.Cables)
	return want, notes, nil
}

// takesPlace is what a device is held against that took the place of another one: what its configuration promises, and what the old one did.
func (r *run) takesPlace(ctx context.Context, s *store.Step) (j judgement, err error) {
	if j, err = r.promised(ctx, s); err != nil {
		return j, err
	}
	want, notes, err := r.byCables(ctx)
	if err != nil {
		return j, err
	}
	d, err := r.device(ctx)
	if err != nil {
		return j, err
	}
	all, err := r.e.ReadingsOf(ctx, d)
	if err != nil {
		return j, err
	}
	for _, x := range device.Expectations(all) {
		was := want[x.Reading]
		promised := slices.ContainsFunc(j.expect, func(o verify.Expectation) bool { return o.Reading == x.Reading })
		if !x.Compares() || x.Rule == verify.NoNew || x.Vacuous(was) || !was.Known() && promised {
			continue // nothing of before, or what it promises says more
		}
		x.Title += ", as of the old device"
		if note := notes[x.Reading]; note != "" {
			x.Title += " (" + note + ")"
		}
		j.before[x.Reading] = was
		j.expect = slices.DeleteFunc(j.expect, func(o verify.Expectation) bool { return o.Reading == x.Reading })
		j.readings = slices.DeleteFunc(j.readings, func(o device.Reading) bool { return o.Name == x.Reading })
		i := slices.IndexFunc(all, func(o device.Reading) bool { return o.Name == x.Reading })
		j.expect, j.readings = append(j.expect, x), append(j.readings, all[i])
		j.byPort = j.byPort || all[i].Ports
	}
	for name, was := range want { // what only the old one tells
		if was.Known() && was.Type == verify.Set && len(was.Set) > 0 && onlyOld(name, all) {
			j.before[name] = was
			j.expect = append(j.expect, verify.Expectation{Reading: name, Title: name + ", which only the old device tells", Rule: verify.KeepsAll, Severity: verify.Degrades})
		}
	}
	return j, nil
}

// onlyOld reports whether only the old device tells a reading: the new one has none of that name, and no portrait tells it.
func onlyOld(name string, all []device.Reading) bool {
	portrayed := []string{readVersion, readUnit, readInstalled, readLicences, readComponents, readParts}
	return !slices.Contains(portrayed, name) && !slices.ContainsFunc(all, func(o device.Reading) bool { return o.Name == name })
}

// misplaced adds to results of ports what they say of cables.
func (j *judgement) misplaced(results []verify.Result) {
	for i := range results {
		res := &results[i]
		k := slices.IndexFunc(j.readings, func(x device.Reading) bool { return x.Name == res.Reading && x.Ports })
		if k < 0 || res.Before == nil || res.After == nil || res.State == verify.Met {
			continue
		}
		if wrong := replace.Misplaced(*res.Before, *res.After); len(wrong) > 0 {
			res.Evidence += "; " + strings.Join(wrong, "; ")
		}
	}
}

// backAtOld concludes a way back: what was concluded of the old device is what counts, and the new one is off.
func (r *run) backAtOld(ctx context.Context, s *store.Step) error {
	results, err := r.concluded(ctx)
	if err != nil {
		return err
	}
	v, err := json.Marshal(verify.Conclude(results))
	s.Note = string(v)
	return err
}

// halfReplaced says how such a change goes on from where it rests: what hands did counts, by the steps that were begun.
func (r *run) halfReplaced(ctx context.Context, c *store.Change) (*change.HalfWay, error) {
	job, err := r.e.ReplaceJob(ctx, c)
	if err != nil {
		return nil, err
	}
	h := job.FromHere(replaceStand(c, job))
	return &h, nil
}

func replaceStand(c *store.Change, job *change.ReplaceJob) (s change.ReplaceStand) {
	begun := 0
	for i := range c.Steps {
		st := &c.Steps[i]
		if st.Plan.Kind == change.Hand && change.Of[change.HandParams](&st.Plan).Cuts && !st.Plan.Back && st.State != change.StepWaiting && st.State != change.StepSkipped {
			begun++
		}
	}
	s.Off = begun > 0
	if job.Address != "" && !job.Dead {
		begun-- // the first one is no cable
	}
	for i := 0; i < len(job.Cables) && begun > 0; i++ {
		if job.Cables[i].To != "" {
			begun--
		}
		s.Moved = i + 1
	}
	return s
}

// ReplaceJob is such a change as far as it takes to say how it goes on, and how the old device serves again.
func (e *Engine) ReplaceJob(ctx context.Context, c *store.Change) (*change.ReplaceJob, error) {
	w, err := replacedBy(c)
	if err != nil {
		return nil, err
	}
	j := &change.ReplaceJob{Cables: w.Cables, Labels: w.Labels, Address: w.Address}
	j.Dead = !slices.ContainsFunc(c.Steps, func(st store.Step) bool { return st.Plan.Kind == change.Backup && st.Plan.Member == change.TheOld })
	for i, job := range []*change.Job{&j.New, &j.Old} {
		var err error
		if *job, err = e.memberJob(ctx, &c.Members[i]); err != nil {
			return nil, err
		}
	}
	j.NewName, j.OldName = c.Members[0].Device, c.Members[1].Device
	return j, nil
}

// stillThere makes of another host key at the address that the new device is to have what it is: the old one still answers there.
func (r *run) stillThere(address string, err error) error {
	if r.c.Kind != change.Replacing && r.c.Kind != change.Swapping || device.KindOf(err) != device.HostKeyChanged {
		return err
	}
	old := "the old unit"
	if r.c.Wish != nil && r.c.Wish.Replace != nil {
		old = r.c.Wish.Replace.Old
	}
	return &device.Error{Kind: device.Unreachable, Address: address, Doing: "connect", Cause: err,
		Message: fmt.Sprintf("by its host key it is not %s that answers here; %s is still connected, or something else is. Take it off the network", r.m.Device, old)}
}
