package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/replace"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// Readings that come from the portrait; the dialect's own come beside them.
const (
	readVersion    = "version"
	readUnit       = "unit"
	readComponents = "components"
	readParts      = "parts-well"
	readLicences   = "licences-there"
	readInstalled  = "installations"
	readConfig     = "configuration"
	readGuarded    = "guarded-settings"
	readSince      = "configured-since"
)

// fromPortrait adds what the portrait tells to readings.
func fromPortrait(values verify.Readings, p *portrait.Portrait) {
	values[readVersion] = verify.Value{Type: verify.Text, Text: p.Version}
	if p.Serial != "" {
		values[readUnit] = verify.Value{Type: verify.Text, Text: p.Serial}
	}
	if len(p.Slots) > 1 {
		var good []string
		for _, slot := range p.Slots {
			if slot.Good == portrait.Yes && slot.Version != "" {
				good = append(good, slot.Version)
			}
		}
		values[readInstalled] = set(good)
	}
	if p.Components != nil {
		values[readComponents] = set(components(p.Components))
	}
	if p.Modules != nil {
		var good []string
		for _, part := range p.Modules {
			if part.Good == portrait.Yes {
				good = append(good, part.Name)
			}
		}
		values[readParts] = set(good)
	}
	if p.Licences != nil {
		values[readLicences] = set(p.Licences)
	}
	unitReadings(values, p)
	childReadings(values, p)
	for table, reading := range map[string]string{"slots": readInstalled, "components": readComponents, "parts": readParts, "licences": readLicences} {
		if why := p.NotUnderstood[table]; why != "" && values[reading].Known() {
			values[reading] = verify.Value{Type: verify.NotReadable, Text: why}
		}
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
func measure(ctx context.Context, c *device.Client, rs []device.Reading) (values verify.Readings, p *portrait.Portrait, err error) {
	if p, err = c.Portrait(ctx); err != nil {
		return nil, nil, err
	}
	if values, err = c.Readings(ctx, rs); err != nil {
		return nil, nil, err
	}
	fromPortrait(values, p)
	return values, p, nil
}

// ReadingsOf lists the readings that are taken of a device: its dialect's, and those a company added.
func (e *Engine) ReadingsOf(ctx context.Context, d store.Device) ([]device.Reading, error) {
	dialect := e.Profile(d)
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
	_, hasUnits := before[readUnits] // whichever of them serves gives its own serial
	out := []verify.Expectation{{Reading: readVersion, Title: "Running version", Rule: verify.Equals, Value: verify.Value{Type: verify.Text, Text: version}, Severity: verify.Fails}}
	if _, ok := before[readUnit]; ok && !hasUnits { // another unit is not written to; one that no longer says which it is leaves a doubt
		out = append(out, verify.Expectation{Reading: readUnit, Title: "Serial of the unit", Rule: verify.Unchanged, Severity: verify.Degrades})
	}
	if b, ok := before[readComponents]; ok && b.Known() {
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
	if b, ok := before[readParts]; ok && !(b.Known() && len(b.Set) == 0) {
		out = append(out, verify.Expectation{Reading: readParts, Title: "Parts that are well", Rule: verify.KeepsAll, Severity: verify.Degrades})
	}
	if b, ok := before[readLicences]; ok && !(b.Known() && len(b.Set) == 0) { // that it has none is nothing to keep
		out = append(out, verify.Expectation{Reading: readLicences, Title: "Licences", Rule: verify.KeepsAll, Severity: verify.Degrades})
	}
	out = append(out, unitExpectations(before, version)...)
	out = append(out, childExpectations(before, version)...)
	return append(out, device.Expectations(rs)...)
}

// Readings before the change.

func readingsTaken(r *run, _ context.Context, _ *store.Step, _ bool) (bool, string, error) {
	return r.m.Readings != nil, "taken before", nil
}

// takeReadings waits until the services of the device are ready: what is measured before that proves nothing. Definitions and values are
// kept with the change, so that what is added or deleted meanwhile changes neither verdict nor way back.
func takeReadings(r *run, ctx context.Context, s *store.Step) error {
	began := r.e.now()
	patience := time.Duration(s.Plan.Expect.Limit * float64(time.Second) * 8 / 10)
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	rs, err := r.e.ReadingsOf(ctx, d)
	if err != nil {
		return err
	}
	return r.poll(ctx, s, func() (bool, string, error) {
		c, err := r.connect(ctx)
		if err != nil {
			return false, "", err
		}
		values, p, err := measure(ctx, c, rs)
		if err != nil {
			return false, "", err
		}
		if p.ServicesReady == portrait.No && !r.accepts(ready.Services) {
			if r.e.since(began) < patience {
				return false, "the device says its services are starting; readings are taken when they are ready", nil
			}
			return false, "", &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{r.named(ready.Services)}, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
				Text: fmt.Sprintf("The device has said for %s that its services are not ready. Readings that are taken now prove nothing afterwards. Nothing was written to it", ready.Rounded(r.e.since(began)))}, change.StepWaiting}
		}
		if r.changesPlatform() {
			withHostKey(values, c)
		}
		taken, err := json.Marshal(values)
		if err != nil {
			return false, "", err
		}
		defined, err := json.Marshal(rs)
		if err != nil {
			return false, "", err
		}
		if err := r.e.Store.SetReadings(ctx, r.lease, r.c.ID, r.m.DeviceID, p.Version, taken, defined); err != nil {
			return false, "", records(err)
		}
		r.m.Readings, r.m.Definitions = taken, defined
		return true, "taken", nil
	})
}

// definitions are the readings of the change, as they were when those before were taken. A change that was begun by an earlier version of
// the service kept the values only: then those that are defined now and were taken then.
func (r *run) definitions(ctx context.Context, before verify.Readings) ([]device.Reading, error) {
	if r.m.Definitions != nil {
		var rs []device.Reading
		if err := json.Unmarshal(r.m.Definitions, &rs); err != nil {
			return nil, final("the definitions of the readings cannot be read: %w", err)
		}
		return rs, nil
	}
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	rs, err := r.e.ReadingsOf(ctx, d)
	return slices.DeleteFunc(rs, func(x device.Reading) bool { _, taken := before[x.Name]; return !taken }), err
}

func countReadings(r *run, _ context.Context, _ *store.Step) (string, error) {
	var values verify.Readings
	err := json.Unmarshal(r.m.Readings, &values)
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

func awaitVerdict(r *run, ctx context.Context, s *store.Step) error {
	if r.c.Kind == change.Replacing && s.Plan.Back && s.Plan.Kind == change.Verify {
		return r.backAtOld(ctx, s)
	}
	began := r.e.now()
	limit := time.Duration(s.Plan.Expect.Limit * float64(time.Second))
	j, err := r.judgement(ctx, s)
	if err != nil {
		return err
	}
	var open []verify.Result // after the last look
	var took time.Duration   // the longest look
	for {
		// The last look must have its time before the limit is over, however slow the device is.
		settling := r.e.since(began) < limit-max(limit/10, 3*took+r.nextLook(began))
		// While something is open, that alone is asked for: a thousand devices settle at once. A verdict is from one look at all.
		only := open
		if !settling {
			only = nil
		}
		at := r.e.now()
		results, p, err := r.look(ctx, j, only, settling)
		took = max(took, r.e.since(at))
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
			r.progress(ctx, s, expectedFraction(s.Plan.Expect, r.e.since(began)), "%d of %d readings are not back yet: %s", len(open), len(j.expect), namesOf(open))
		}
		if err := pause(ctx, r.nextLook(began)); err != nil {
			return err
		}
	}
}

// settle compares as a verdict does, before the previous installation is overwritten. What fails here still has its way back.
func settle(r *run, ctx context.Context, s *store.Step) error {
	if err := awaitVerdict(r, ctx, s); err != nil {
		return err
	}
	var v verify.Verdict
	if err := json.Unmarshal([]byte(s.Note), &v); err != nil {
		return err
	}
	check, stays, next := checkOtherSlot, "the other slot is not written", "The previous installation is overwritten next"
	if r.m.Role != "" {
		check, stays, next = r.named(checkNextMember), "no other member is changed", "The change goes on with the other members next"
		if err := r.e.Store.SetConclusion(ctx, r.lease, r.c.ID, r.m.Number, []byte(s.Note)); err != nil {
			return records(err)
		}
	}
	if r.otherUnitsLater(s) {
		check, stays, next = checkOtherUnits, "no other unit is started anew", "The other units are started anew next"
	}
	switch {
	case v.Verdict == verify.Fail:
		return final("the readings do not satisfy what is expected, so %s: %s", stays, unmet(v))
	case v.Verdict != verify.Pass && !r.c.Accepts(check):
		q := change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{check}, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
			Text: next + ", and not all is as it was: " + unmet(v)}
		if r.canGoBack(r.seen) {
			q.Answers = append(q.Answers, change.GoBack)
		}
		return &askError{q, change.StepRunning}
	}
	s.Note = fmt.Sprintf("%s, by %d readings", v.Verdict, len(v.Results))
	return nil
}

// checkNextMember, with the name of a member behind it, is the name under which it is accepted that a change goes on though something is missing at
// that member.
const checkNextMember = "next-member"

// checkOtherSlot is the name under which it is accepted that the other slot is written though something is missing.
const checkOtherSlot = "other-slot"

// checkOtherUnits is the name under which it is accepted that the other units are started anew though something is missing.
const checkOtherUnits = "other-units"

// conclusion adds what the configuration tells to what the readings tell, and notes the verdict.
func (r *run) conclusion(ctx context.Context, s *store.Step, results []verify.Result, p *portrait.Portrait) error {
	if err := r.e.recordPortrait(ctx, r.m.DeviceID, p); err != nil {
		return err
	}
	more, err := r.judgeConfiguration(ctx, s)
	if err != nil {
		return err
	}
	said, err := r.judgeMessages(ctx)
	if err != nil {
		return err
	}
	all := slices.Concat(results, more, said)
	if s.Plan.Kind == change.Verify && r.m.Role != "" && r.c.Kind != change.Replacing { // of two of which one takes the place of the other, one is off
		others, err := r.concluded(ctx)
		if err != nil {
			return err
		}
		of(r.m.Device, all)
		stand, err := r.endTogether(ctx, s)
		if err != nil {
			return err
		}
		all = slices.Concat(all, others, stand)
	}
	v, err := json.Marshal(verify.Conclude(all))
	s.Note = string(v)
	return err
}

// concluded is what was concluded of the other members of an ensemble, under their names. One of which nothing was concluded is a doubt.
func (r *run) concluded(ctx context.Context) (out []verify.Result, err error) {
	c, err := r.e.Store.Change(ctx, r.c.ID)
	if err != nil {
		return nil, records(err)
	}
	for _, m := range c.Members {
		if m.Number == r.m.Number {
			continue
		}
		v := verify.Verdict{Results: []verify.Result{{Reading: "readings", Title: "Readings", State: verify.NotProven, Severity: verify.Degrades, Evidence: "nothing was concluded of this member"}}}
		if m.Verdict != nil {
			if err := json.Unmarshal(m.Verdict, &v); err != nil {
				return nil, final("what was concluded of %s cannot be read: %w", m.Device, err)
			}
		}
		of(m.Device, v.Results)
		out = append(out, v.Results...)
	}
	return out, nil
}

// of puts the name of a member before results that are told beside those of others.
func of(device string, results []verify.Result) {
	for i := range results {
		r := &results[i]
		r.Reading, r.Title = device+" "+r.Reading, device+": "+cmp.Or(r.Title, r.Reading)
	}
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
		if r.c.Kind == change.SingleOperations && st.Plan.Kind == change.Component {
			out[st.Plan.Component()] = st.Plan.Version()
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
	both := slices.ContainsFunc(r.c.Steps, func(st store.Step) bool { return st.Plan.OtherSlot() && st.State == change.StepDone })
	if n := len(r.path.Hops); n > 0 && !s.Plan.Back && !both && (r.c.Kind == change.Firmware || r.c.Kind == change.Return || bringsUp(r.c) && n > 1) {
		out = append(out, r.path.Hops[n-1].From.String())
	}
	return out
}

// A judgement is what a verdict is made from.
type judgement struct {
	before   verify.Readings
	readings []device.Reading
	expect   []verify.Expectation
	byPort   bool // of a device that takes the place of another one: readings follow the cables
	services bool // something is expected of services and targets, beside the readings
}

func (r *run) judgement(ctx context.Context, s *store.Step) (j judgement, err error) {
	if r.c.Kind == change.BringingUp {
		return r.promised(ctx, s)
	}
	if bringsUp(r.c) {
		return r.takesPlace(ctx, s)
	}
	if err := json.Unmarshal(r.m.Readings, &j.before); err != nil {
		return j, final("the readings from before the change cannot be read: %w", err)
	}
	if j.readings, err = r.definitions(ctx, j.before); err != nil {
		return j, err
	}
	j.expect = expectations(j.readings, j.before, r.goal(s), r.brought(s), r.installed(s))
	r.foretold(s, &j)
	if r.c.Kind == change.Swapping {
		j.swapped(r.m.Planned.Serial)
	}
	if change.MovesServices(r.c.Kind) {
		if err := r.ofServices(s, &j); err != nil {
			return j, err
		}
	}
	r.withoutDropped(j.before)
	if r.c.Kind == change.SingleOperations { // which version each has is for the steps to say
		j.expect = slices.DeleteFunc(j.expect, func(x verify.Expectation) bool { return x.Reading == readChildVersions })
	}
	if r.c.Ensemble != nil { // they follow whoever serves, and are looked at for all members at the end
		j.expect = slices.DeleteFunc(j.expect, func(x verify.Expectation) bool {
			return slices.Contains([]string{readChildren, readChildVersions}, x.Reading)
		})
	}
	if r.otherUnitsLater(s) { // they still are as before
		j.expect = slices.DeleteFunc(j.expect, func(x verify.Expectation) bool {
			return slices.Contains([]string{readUnitVersions, readUnitsWell, readComponents}, x.Reading)
		})
	}
	if r.c.Kind == change.Restoring || r.c.Kind == change.Return {
		// Another state was wanted: what was up before need not be up after. It is shown, as a doubt.
		for i := range j.expect[1:] {
			j.expect[i+1].Severity = verify.Degrades
		}
	}
	return j, nil
}

// look takes the readings that some results are of, or all (nil), and judges them.
func (r *run) look(ctx context.Context, j judgement, only []verify.Result, settling bool) ([]verify.Result, *portrait.Portrait, error) {
	c, err := r.connect(ctx)
	if err != nil {
		return nil, nil, err
	}
	if j.services {
		only = nil // they are read from the other readings
	}
	wanted := func(reading string) bool {
		return only == nil || slices.ContainsFunc(only, func(res verify.Result) bool { return res.Reading == reading })
	}
	expect := slices.DeleteFunc(slices.Clone(j.expect), func(x verify.Expectation) bool { return !wanted(x.Reading) })
	readings := slices.DeleteFunc(slices.Clone(j.readings), func(x device.Reading) bool { return !wanted(x.Name) })
	var after verify.Readings
	var p *portrait.Portrait
	if len(readings) == len(expect) { // nothing that the portrait tells
		after, err = c.Readings(ctx, readings)
	} else {
		after, p, err = measure(ctx, c, readings)
	}
	if err != nil {
		return nil, nil, err
	}
	if r.changesPlatform() {
		withHostKey(after, c)
	}
	if j.services {
		r.lookedAtServices(ctx, j, after)
	}
	if !j.byPort {
		return verify.Judge(expect, j.before, after, settling), p, nil
	}
	for _, x := range readings {
		if x.Ports {
			after[x.Name] = replace.Spaced(after[x.Name])
		}
	}
	results := verify.Judge(expect, j.before, after, settling)
	j.misplaced(results)
	return results, p, nil
}

func verdict(_ *run, _ context.Context, s *store.Step) (string, error) { return s.Note, nil }

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
func (e *Engine) TakeReadings(ctx context.Context, d store.Device, by access.Actor) (store.ReadingSet, error) {
	set, _, err := e.readNow(ctx, d, by)
	return set, err
}

func (e *Engine) readNow(ctx context.Context, d store.Device, by access.Actor) (store.ReadingSet, []device.Reading, error) {
	ctx, c, done, err := e.ask(ctx, d, by, "take readings")
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	defer done()
	rs, err := e.ReadingsOf(ctx, d)
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	values, p, err := measure(ctx, c, rs)
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	data, err := json.Marshal(values)
	if err != nil {
		return store.ReadingSet{}, nil, err
	}
	set, err := e.Store.AddReadings(ctx, store.ReadingSet{DeviceID: d.ID, Device: d.Name, Version: p.Version, Readings: data, By: by.String()})
	return set, rs, err
}

// Verify measures a device now and holds it against readings of before. No change is needed.
func (e *Engine) Verify(ctx context.Context, d store.Device, before store.ReadingSet, by access.Actor) (*Comparison, error) {
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
