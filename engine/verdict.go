package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// Readings that come from the portrait; the dialect's own come beside them.
const (
	readVersion    = "version"
	readComponents = "components"
	readParts      = "parts-well"
	readLicences   = "licences-there"
	readInstalled  = "installations"
	readConfig     = "configuration"
	readGuarded    = "guarded-settings"
)

// fromPortrait adds what the portrait tells to readings.
func fromPortrait(values verify.Readings, p *device.Portrait) {
	values[readVersion] = verify.Value{Type: verify.Text, Text: p.Version}
	if len(p.Slots) > 1 {
		var good []string
		for _, slot := range p.Slots {
			if slot.Good && slot.Version != "" {
				good = append(good, slot.Version)
			}
		}
		values[readInstalled] = set(good)
	}
	if p.Components != nil {
		values[readComponents] = set(components(p.Components))
	}
	if p.Parts != nil {
		var good []string
		for _, part := range p.Parts {
			if part.Good {
				good = append(good, part.Name)
			}
		}
		values[readParts] = set(good)
	}
	if p.Licences != nil {
		values[readLicences] = set(p.Licences)
	}
}

func components(m map[string]string) (out []string) {
	for name, v := range m {
		out = append(out, name+" "+v)
	}
	return out
}

func set(names []string) verify.Value {
	names = slices.Clone(names)
	slices.Sort(names)
	return verify.Value{Type: verify.Set, Set: slices.Compact(names)}
}

// measure takes readings of a device, and what its portrait tells.
func measure(ctx context.Context, c *device.Client, rs []device.Reading) (values verify.Readings, p *device.Portrait, missing []string, err error) {
	if p, err = c.Portrait(ctx); err != nil {
		return nil, nil, nil, err
	}
	if values, missing, err = c.Readings(ctx, rs); err != nil {
		return nil, nil, nil, err
	}
	fromPortrait(values, p)
	return values, p, missing, nil
}

// readingsOf lists the readings that are taken of a device: its dialect's, and those a company added.
func (e *Engine) readingsOf(ctx context.Context, d store.Device) ([]device.Reading, error) {
	dialect := e.Dialects[d.Dialect]
	if dialect == nil {
		return nil, final("dialect %q is not known here", d.Dialect)
	}
	own, err := e.Store.OwnReadings(ctx, d.Dialect, d.Groups)
	if err != nil {
		return nil, records(err)
	}
	rs := slices.Clone(dialect.Readings)
	for _, o := range own {
		r, err := device.ReadReading([]byte(o.Definition))
		if err != nil {
			return nil, final("the reading %s of group %q cannot be used: %w", o.Name, o.Group, err)
		}
		rs = slices.DeleteFunc(rs, func(x device.Reading) bool { return x.Name == r.Name })
		rs = append(rs, *r)
	}
	return rs, nil
}

// expectations are those of the readings taken of a device, and of what its portrait tells.
// brought is the versions of components that the change brings, installed the versions that lie on the device afterwards.
func expectations(rs []device.Reading, before verify.Readings, version string, brought map[string]string, installed []string) []verify.Expectation {
	out := []verify.Expectation{{Reading: readVersion, Title: "Running version", Rule: verify.Equals, Value: verify.Value{Type: verify.Text, Text: version}, Severity: verify.Fails}}
	if b, ok := before[readComponents]; ok {
		now := map[string]string{}
		for _, s := range b.Set {
			name, v, _ := strings.Cut(s, " ")
			now[name] = v
		}
		maps.Copy(now, brought)
		out = append(out, verify.Expectation{Reading: readComponents, Title: "Components", Rule: verify.Equals, Value: set(components(now)), Severity: verify.Fails})
	}
	if _, ok := before[readInstalled]; ok && len(installed) > 0 {
		out = append(out, verify.Expectation{Reading: readInstalled, Title: "Installations", Rule: verify.Contains, Value: set(installed), Severity: verify.Degrades})
	}
	if _, ok := before[readParts]; ok {
		out = append(out, verify.Expectation{Reading: readParts, Title: "Parts that are well", Rule: verify.KeepsAll, Severity: verify.Degrades})
	}
	if _, ok := before[readLicences]; ok {
		out = append(out, verify.Expectation{Reading: readLicences, Title: "Licences", Rule: verify.KeepsAll, Severity: verify.Degrades})
	}
	return append(out, device.Expectations(rs)...)
}

// Readings before the change.

func readingsTaken(r *run, _ context.Context, _ *store.Step, _ bool) (bool, string, error) {
	return r.c.Readings != nil, "taken before", nil
}

func takeReadings(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	rs, err := r.e.readingsOf(ctx, d)
	if err != nil {
		return err
	}
	values, p, missing, err := measure(ctx, c, rs)
	if err != nil {
		return err
	}
	if len(missing) > 0 {
		return final("these readings cannot be taken, so nothing could be compared afterwards: %s", strings.Join(missing, ", "))
	}
	if r.c.Readings, err = json.Marshal(values); err != nil {
		return err
	}
	return records(r.e.Store.SetReadings(ctx, r.lease, r.c.ID, r.c.DeviceID, p.Version, r.c.Readings))
}

func countReadings(r *run, _ context.Context, _ *store.Step) (string, error) {
	var values verify.Readings
	err := json.Unmarshal(r.c.Readings, &values)
	var parts []string
	for name, v := range values {
		parts = append(parts, name+" "+short(v))
	}
	slices.Sort(parts)
	return strings.Join(parts, ", "), err
}

func short(v verify.Value) string {
	if v.Type == verify.Set {
		return fmt.Sprint(len(v.Set))
	}
	return v.String()
}

// The verdict: compare until everything is met or the time to settle is over.

func settle(r *run, ctx context.Context, s *store.Step) error {
	began := time.Now()
	patience := time.Duration(s.Plan.Expect.Limit * float64(time.Second) * 9 / 10)
	j, err := r.judgement(ctx, s)
	if err != nil {
		return err
	}
	var open []verify.Result // after the last look
	for {
		settling := time.Since(began) < patience
		// While something is open, that alone is asked for: a thousand devices settle at once. A verdict is from one look at all.
		only := open
		if !settling {
			only = nil
		}
		results, p, err := r.look(ctx, j, only, settling)
		switch k := device.KindOf(err); {
		case k == device.Unreachable || k == device.Lost || k == device.NotReady || k == device.Silent:
			r.hangUp()
			r.progress(ctx, s, 0, "%s", err)
			if !settling {
				return err
			}
		case err != nil:
			return err
		default:
			open = slices.DeleteFunc(slices.Clone(results), func(res verify.Result) bool { return res.State != verify.Pending })
			switch {
			case len(open) == 0 && only != nil:
				open = nil
				continue
			case len(open) == 0:
				return r.conclusion(ctx, s, results, p)
			}
			r.progress(ctx, s, expectedFraction(s.Plan.Expect, began), "%d of %d readings are not back yet: %s", len(open), len(j.expect), namesOf(open))
		}
		if err := pause(ctx, r.nextLook(began)); err != nil {
			return err
		}
	}
}

// settleFirst compares as a verdict does, before the previous installation is overwritten. What fails here still has its way back.
func settleFirst(r *run, ctx context.Context, s *store.Step) error {
	if err := settle(r, ctx, s); err != nil {
		return err
	}
	var v verify.Verdict
	if err := json.Unmarshal([]byte(s.Note), &v); err != nil {
		return err
	}
	switch {
	case v.Verdict == verify.Fail:
		return final("the readings do not satisfy what is expected, so the other slot is not written: %s", unmet(v))
	case v.Verdict == verify.Degraded && !r.c.Accepts(checkOtherSlot):
		q := change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{checkOtherSlot}, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
			Text: "The previous installation is overwritten next, and not all is as it was: " + unmet(v)}
		if r.c.CanGoBack() {
			q.Answers = append(q.Answers, change.GoBack)
		}
		return &askError{q, change.StepRunning}
	}
	s.Note = fmt.Sprintf("%s, by %d readings", v.Verdict, len(v.Results))
	return nil
}

// checkOtherSlot is the name under which it is accepted that the other slot is written though something is missing.
const checkOtherSlot = "other-slot"

// conclusion adds what the configuration tells to what the readings tell, and notes the verdict.
func (r *run) conclusion(ctx context.Context, s *store.Step, results []verify.Result, p *device.Portrait) error {
	if err := r.e.recordPortrait(ctx, r.c.DeviceID, p); err != nil {
		return err
	}
	more, err := r.judgeConfiguration(ctx, s)
	if err != nil {
		return err
	}
	v, err := json.Marshal(verify.Conclude(append(results, more...)))
	s.Note = string(v)
	return err
}

func namesOf(results []verify.Result) string {
	var names []string
	for _, res := range results {
		names = append(names, res.Title+" ("+res.Evidence+")")
	}
	return strings.Join(names, "; ")
}

// brought is the versions of the components that the hops up to the end of a step bring along.
func (r *run) brought(s *store.Step) map[string]string {
	out := map[string]string{}
	last := len(r.path.Hops) - 1
	if s.Plan.Back {
		last = s.Plan.Hop - 1
	}
	for _, st := range r.c.Steps {
		if r.c.Kind == store.Acts && st.Plan.Kind == change.Component {
			out[st.Plan.Part] = st.Plan.Wants
		}
	}
	for i := 0; i <= last; i++ {
		for _, c := range r.path.Hops[i].Components {
			out[c.Name] = c.To
		}
	}
	return out
}

// installed is the versions that lie on the device at the end of a step's part of the change: the one that runs, and beside it the
// one that ran before, which is the way back.
func (r *run) installed(s *store.Step) []string {
	out := []string{r.goal(s)}
	both := slices.ContainsFunc(r.c.Steps, func(st store.Step) bool { return st.Plan.Other && st.State == change.StepDone })
	if n := len(r.path.Hops); n > 0 && !s.Plan.Back && !both && (r.c.Kind == store.Firmware || r.c.Kind == store.GoBack) {
		out = append(out, r.path.Hops[n-1].From.String())
	}
	return out
}

// A judgement is what a verdict is made from.
type judgement struct {
	before   verify.Readings
	readings []device.Reading
	expect   []verify.Expectation
}

func (r *run) judgement(ctx context.Context, s *store.Step) (j judgement, err error) {
	if err := json.Unmarshal(r.c.Readings, &j.before); err != nil {
		return j, final("the readings from before the change cannot be read: %w", err)
	}
	d, err := r.device(ctx)
	if err != nil {
		return j, err
	}
	if j.readings, err = r.e.readingsOf(ctx, d); err != nil {
		return j, err
	}
	j.expect = expectations(j.readings, j.before, r.goal(s), r.brought(s), r.installed(s))
	if r.c.Kind == store.Restore || r.c.Kind == store.GoBack {
		// Another state was wanted: what was up before need not be up after. It is shown, as a doubt.
		for i := range j.expect[1:] {
			j.expect[i+1].Severity = verify.Degrades
		}
	}
	return j, nil
}

// look takes the readings that some results are of, or all (nil), and judges them.
func (r *run) look(ctx context.Context, j judgement, only []verify.Result, settling bool) ([]verify.Result, *device.Portrait, error) {
	c, err := r.connect(ctx)
	if err != nil {
		return nil, nil, err
	}
	wanted := func(reading string) bool {
		return only == nil || slices.ContainsFunc(only, func(res verify.Result) bool { return res.Reading == reading })
	}
	expect := slices.DeleteFunc(slices.Clone(j.expect), func(x verify.Expectation) bool { return !wanted(x.Reading) })
	readings := slices.DeleteFunc(slices.Clone(j.readings), func(x device.Reading) bool { return !wanted(x.Name) })
	var after verify.Readings
	var p *device.Portrait
	if len(readings) == len(expect) { // nothing that the portrait tells
		after, _, err = c.Readings(ctx, readings)
	} else {
		after, p, _, err = measure(ctx, c, readings)
	}
	if err != nil {
		return nil, nil, err
	}
	return verify.Judge(expect, j.before, after, settling), p, nil
}

func verdict(_ *run, _ context.Context, s *store.Step) (string, error) { return s.Note, nil }

// judgeConfiguration holds the configuration that runs now against what should have become of the one that ran before: what
// the conversions account for may differ, guarded settings may not.
func (r *run) judgeConfiguration(ctx context.Context, s *store.Step) ([]verify.Result, error) {
	work, err := r.hopWork()
	if err != nil {
		return nil, final("the record of what was put back cannot be read: %w", err)
	}
	last := len(r.path.Hops) - 1
	if r.c.Kind != store.Firmware && (r.c.Kind != store.GoBack || s.Plan.Back || len(work.Hops[last]) == 0) {
		return nil, nil
	}
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	source := r.e.Dialects[d.Dialect].Part("running")
	hop := 0
	if s.Plan.Back {
		hop = s.Plan.Hop
	}
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, hop)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, records(err) // a verdict without the configuration is not made because the records are away
	}
	if source == nil || err != nil || b.File == "" {
		return nil, nil // nothing is known to compare with; the readings speak
	}
	result := func(reading, title, severity string, met bool, format string, args ...any) verify.Result {
		state := verify.Met
		if !met {
			state = verify.Unmet
		}
		return verify.Result{Reading: reading, Title: title, State: state, Severity: severity, Evidence: fmt.Sprintf(format, args...)}
	}
	text, err := r.e.Main(b)
	if err != nil {
		return nil, final("%w", err)
	}
	from, to := r.path.Hops[hop].From.String(), r.goal(s)
	schema, err := r.e.schema(ctx, r.path.Model, to)
	if err != nil {
		return nil, err
	}
	if old, err := r.e.schema(ctx, r.path.Model, from); old == nil || schema == nil {
		return nil, err // nobody described this configuration; the readings speak
	}
	note := fmt.Sprintf("as it was in backup %d", b.ID)
	switch {
	case !s.Plan.Back && len(work.Hops[last]) > 0: // what should be there is what was put back
		for _, p := range work.Hops[last] {
			if p.Name != source.Name {
				continue
			}
			data, err := r.e.Vault.Open(RestoreLabel(d.Name, p.Name), p.Sealed)
			if err != nil {
				return nil, final("what was put back cannot be read: %w", err)
			}
			text, note = string(data), p.Note
		}
	case from != to:
		out, told, err := r.e.convert(ctx, b, b.File, text, r.path.Model, from, to)
		if record := (*recordError)(nil); errors.As(err, &record) {
			return nil, err
		}
		if err != nil { // nobody can say what it should be: that is a doubt, not a fault
			return []verify.Result{result(readConfig, "Configuration", verify.Degrades, false, "cannot be compared: %s", err)}, nil
		}
		text, note = out, told
	}
	c, err := r.connect(ctx)
	if err != nil {
		return nil, err
	}
	now, _, err := c.FetchPart(ctx, source)
	if err != nil {
		return nil, err
	}
	want, bad1 := config.Parse(b.File, text, schema.Syntax)
	have, bad2 := config.Parse(source.File, string(now), schema.Syntax)
	if len(bad1)+len(bad2) > 0 {
		return []verify.Result{result(readConfig, "Configuration", verify.Degrades, false, "cannot be compared: %d lines of it are not understood", len(bad1)+len(bad2))}, nil
	}
	var guarded, other []string
	for _, x := range config.Compare(want, have, schema).Differences {
		switch {
		case x.Kind == config.Cosmetic:
		case x.Guarded != "":
			guarded = append(guarded, x.Path+" ("+x.Guarded+")")
		default:
			other = append(other, x.Path)
		}
	}
	var out []verify.Result
	held := 0
	for _, it := range schema.Items(want) {
		if it.Guarded != "" {
			held++
		}
	}
	switch {
	case len(guarded) > 0:
		out = append(out, result(readGuarded, "Guarded settings", verify.Fails, false, "%d differ: %s", len(guarded), first(guarded, 5)))
	case held > 0:
		out = append(out, result(readGuarded, "Guarded settings", verify.Fails, true, "all %d are as they should be, read from the device", held))
	}
	if len(other) > 0 {
		return append(out, result(readConfig, "Configuration", verify.Degrades, false, "%d statements differ from what it should be (%s): %s", len(other), note, first(other, 5))), nil
	}
	return append(out, result(readConfig, "Configuration", verify.Degrades, true, "%s", note)), nil
}

func first(list []string, n int) string {
	if len(list) <= n {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:n], ", "), len(list)-n)
}

// A Comparison is the readings of now held against those of an earlier moment.
type Comparison struct {
	Before, Now store.ReadingSet
	Verdict     verify.Verdict
}

// TakeReadings measures a device and keeps what it found, so that it can be compared with later.
func (e *Engine) TakeReadings(ctx context.Context, d store.Device, by string) (store.ReadingSet, error) {
	set, _, err := e.readNow(ctx, d, by)
	return set, err
}

func (e *Engine) readNow(ctx context.Context, d store.Device, by string) (store.ReadingSet, []device.Reading, error) {
	ctx, c, done, err := e.ask(ctx, d, by, "take readings")
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	defer done()
	rs, err := e.readingsOf(ctx, d)
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	values, p, _, err := measure(ctx, c, rs)
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	data, err := json.Marshal(values)
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	set, err := e.Store.AddReadings(ctx, store.ReadingSet{DeviceID: d.ID, Device: d.Name, Version: p.Version, Readings: data, By: by})
	return set, rs, err
}

// Verify measures a device now and holds it against readings of before. No change is needed.
func (e *Engine) Verify(ctx context.Context, d store.Device, before store.ReadingSet, by string) (*Comparison, error) {
	now, rs, err := e.readNow(ctx, d, by)
	if err != nil {
		return nil, err
	}
	var b, a verify.Readings
	if err := json.Unmarshal(before.Readings, &b); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(now.Readings, &a); err != nil {
		return nil, err
	}
	version := now.Version // another version than before is shown by the two sets; by itself it is no fault
	return &Comparison{before, now, verify.Conclude(verify.Judge(expectations(rs, b, version, nil, nil), b, a, false))}, nil
}
