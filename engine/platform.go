package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"

	"golang.org/x/crypto/ssh"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/replace"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// A hop may take a device onto another platform: it goes on as another model, on the same machine. What others know it by changes as the catalogue foretells,
// and nothing else does.

// readHostKey is the host key that a device shows, by its fingerprint; it is read of a device that goes on as another model.
const readHostKey = "host-key"

// changesPlatform reports whether the device goes on as another model.
func (r *run) changesPlatform() bool {
	return slices.ContainsFunc(r.path.Hops, func(h path.Hop) bool { return h.NewModel != "" })
}

// hopsDone is how many hops of the path are behind the device where a step leads.
func (r *run) hopsDone(s *store.Step) int {
	switch {
	case s.Plan.Hop < 0 && r.c.Returning != nil:
		return *r.c.Returning
	case s.Plan.Hop < 0:
		return len(r.path.Hops)
	case s.Plan.Back:
		return s.Plan.Hop
	}
	return s.Plan.Hop + 1
}

// modelAfter is the model of the device where a step leads.
func (r *run) modelAfter(s *store.Step) string { return r.path.ModelAt(r.hopsDone(s)) }

// begunPlatform is the last hop onto another platform that the device may have taken by now: its next start was chosen, or it was installed over what ran. It is
// -1 when there is none.
func (r *run) begunPlatform() int {
	last := -1
	for i := range r.c.Steps {
		s := &r.c.Steps[i]
		h := s.Plan.Hop
		starts := s.Plan.Kind == change.ChooseSlot || s.Plan.Kind == change.Restart || s.Plan.InPlace()
		if starts && !s.Plan.Back && h >= 0 && h < len(r.path.Hops) && r.path.Hops[h].NewModel != "" && r.path.Hops[h].Platform != nil && s.State != change.StepWaiting && s.State != change.StepSkipped {
			last = max(last, h)
		}
	}
	return last
}

// wentOn reports whether what answers is the device as another model: the one that it goes on as, with the serial that it had or, where that changes as foretold,
// with the one that was seen first. What was seen first is recorded.
func (r *run) wentOn(ctx context.Context, p *portrait.Portrait) (bool, error) {
	hop := r.begunPlatform()
	if hop < 0 || p.Model != r.path.ModelAt(hop+1) {
		return false, nil
	}
	want := &r.m.Planned
	if b := want.Became; b != nil && b.Model == p.Model {
		return b.Serial == p.Serial, nil
	}
	i := slices.IndexFunc(r.path.Hops[hop].Platform.Changes, func(f catalog.Foretold) bool { return f.Value == catalog.ValueSerial })
	was, err := r.nameBefore(ctx)
	switch {
	case err != nil:
		return false, err
	case was != "" && p.Name != "" && p.Name != was: // another box at its address
		return false, nil
	case p.Serial == want.Serial:
	case i < 0 || !looksAs(r.path.Hops[hop].Platform.Changes[i].Becomes, p.Serial):
		return false, nil
	}
	want.Became = &store.Became{Model: p.Model, Serial: p.Serial}
	if err := r.e.Store.SetPlanned(ctx, r.lease, r.c.ID, r.m.Number, *want); err != nil {
		return false, records(err)
	}
	note := fmt.Sprintf("the device goes on as %s with the serial %s; it was %s %s", p.Model, p.Serial, want.Model, want.Serial)
	return true, records(r.e.Store.NoteStep(ctx, r.lease, r.c.ID, 0, "platform", note))
}

// nameBefore is the name that the device gave itself when it was last looked at; "" when that is not known.
func (r *run) nameBefore(ctx context.Context) (string, error) {
	d, err := r.e.Store.DeviceByID(ctx, r.m.DeviceID)
	var p portrait.Portrait
	if err != nil || d.Portrait == nil || json.Unmarshal(d.Portrait, &p) != nil {
		return "", records(err)
	}
	return p.Name, nil
}

// looksAs reports whether a value looks as it was foretold.
func looksAs(pattern, value string) bool {
	ok, err := regexp.MatchString("^(?:"+pattern+")$", value)
	return value != "" && (pattern == "" || err == nil && ok)
}

// keepsModel tells what is wrong with the model of a device that came back; "" when it is the one that the step leads to.
func (r *run) keepsModel(s *store.Step, p *portrait.Portrait) string {
	want := r.modelAfter(s)
	if !r.changesPlatform() || want == "" || p.Model == want {
		return ""
	}
	return fmt.Sprintf("the device came back as %s with %s, not as %s with %s", p.Model, p.Version, want, r.goal(s))
}

// foretold turns what is expected of a device that went on as another model: its ports have other names, what was foretold to change has to have changed, and its
// licences are the ones that it had.
func (r *run) foretold(s *store.Step, j *judgement) {
	hops := r.path.Hops[:r.hopsDone(s)]
	byPort := map[string]bool{}
	for _, x := range j.readings {
		byPort[x.Name] = x.Ports
	}
	was := maps.Clone(j.before)
	for i := range hops {
		h := &hops[i]
		if h.NewModel == "" || h.Platform == nil {
			continue
		}
		var cables []replace.Cable
		for _, p := range h.Platform.Ports {
			cables = append(cables, replace.Cable{From: p.From, To: p.To})
		}
		j.before, _ = replace.Expected(j.before, byPort, cables)
		for _, f := range h.Platform.Changes {
			j.change(f, h.NewModel)
		}
		j.keepLicences()
	}
	for i := range j.expect {
		if x := &j.expect[i]; byPort[x.Reading] && !slices.Equal(was[x.Reading].Set, j.before[x.Reading].Set) {
			x.Title += ", renamed"
		}
	}
}

// foretoldReading is the reading by which a foretold value is looked at.
func foretoldReading(f catalog.Foretold) string {
	if f.Value == catalog.ValueSerial {
		return readUnit
	}
	return f.Value
}

// change expects a value to be another one than before.
func (j *judgement) change(f catalog.Foretold, model string) {
	name := foretoldReading(f)
	x := verify.Expectation{Reading: name, Title: f.Value, Rule: verify.Changed, Matches: f.Becomes, Severity: verify.Degrades}
	if i := slices.IndexFunc(j.expect, func(o verify.Expectation) bool { return o.Reading == name }); i >= 0 {
		x.Title = j.expect[i].Title
		j.expect = slices.Delete(j.expect, i, i+1)
	} else if name == readHostKey {
		x.Title = "Host key"
	}
	x.Title += " as " + model
	j.expect = append(j.expect, x)
}

// keepLicences has a device that lost a licence fail, and one that tells none leave a doubt.
func (j *judgement) keepLicences() {
	j.expect = slices.DeleteFunc(j.expect, func(x verify.Expectation) bool { return x.Reading == readLicences })
	if before, ok := j.before[readLicences]; !ok || !before.Known() || len(before.Set) > 0 { // that it has none is nothing to keep
		j.expect = append(j.expect, verify.Expectation{Reading: readLicences, Title: "Licences", Rule: verify.KeepsAll, Severity: verify.Fails})
	}
}

// withHostKey adds the host key that a device shows to its readings.
func withHostKey(values verify.Readings, c *device.Client) {
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(c.HostKey())); err == nil {
		values[readHostKey] = verify.Value{Type: verify.Text, Text: ssh.FingerprintSHA256(key)}
	}
}

// stop names a model at a release, as conversions do.
func stop(model, release string) string { return model + "@" + release }

// crossing is what a hop converts a configuration from and to.
func (r *run) crossing(hop int) crossing {
	h := &r.path.Hops[hop]
	return crossing{from: stop(r.path.ModelAt(hop), h.From.String()), to: stop(r.path.ModelAt(hop+1), h.To.String()), ports: r.path.Renamed(r.path.ModelAt(hop), r.path.ModelAt(hop+1))}
}

// portsOf are changes of ports as a conversion is told them.
func portsOf(ps []catalog.PortChange) (out []convert.PortChoice) {
	for _, p := range ps {
		out = append(out, convert.PortChoice{Port: p.From, To: p.To, Chosen: true})
	}
	return out
}
