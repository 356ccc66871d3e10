package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
	"verimorph/vault"
)

// Services are put onto a device that serves already, or taken off one. What is put was approved statement by statement.
// The configuration that it goes into is the one that the device has then, read right before.

// A ServicesWork is what such a change knows beside what it puts.
type ServicesWork struct {
	At   string `json:"at"` // MODEL@VERSION of the device of the change when that was drafted
	Part string `json:"part"`
	File string `json:"file"`
	// Of services that are put onto it: the device that they come from, MODEL@VERSION of that, and the services as they were there, sealed.
	Source     int64  `json:"source,omitempty"`
	SourceName string `json:"sourceName,omitempty"`
	SourceAt   string `json:"sourceAt,omitempty"`
	SourceFile string `json:"sourceFile,omitempty"`
	Carved     []byte `json:"carved,omitempty"`
	Put        []byte `json:"put,omitempty"` // sealed: what is put, in the language of the device
	Note       string `json:"note,omitempty"`
	// Of services that are taken off: where each is served by now, by name; none: nobody knows.
	Elsewhere map[string]ServedAt `json:"elsewhere,omitempty"`
	// Learnt when it was worked out: what the source said of each service, by its name on the device, and which targets answered before.
	Served  map[string]bool `json:"served,omitempty"`
	Answers map[string]bool `json:"answers,omitempty"`
}

// A ServedAt is where a service is served.
type ServedAt struct {
	Device int64  `json:"device"`
	Name   string `json:"name"` // of the device
	As     string `json:"as"`   // name of the service there
	Change int64  `json:"change"`
}

func servicesLabel(device, what string) string { return what + " of services of " + device }

// NewServicesWork seals what a change puts onto a device; carved is that as its source has it.
func NewServicesWork(v *vault.Vault, device string, w ServicesWork, carved, put string) ([]byte, error) {
	var err error
	if w.Source != 0 {
		if w.Carved, err = v.Seal(servicesLabel(device, "source"), []byte(carved)); err == nil {
			w.Put, err = v.Seal(servicesLabel(device, "text"), []byte(put))
		}
		if err != nil {
			return nil, err
		}
	}
	return json.Marshal(hopWork{Hops: map[int][]RestorePart{}, Services: &w})
}

// services is that part of the work of a change.
func (r *run) services() (w hopWork, err error) {
	if w, err = r.hopWork(); err != nil {
		return w, final("the record of what is put cannot be read: %w; draft the change anew", err)
	}
	if w.Services == nil || r.c.Wish == nil || r.c.Wish.Move == nil {
		return w, final("the records do not say which services it is about; draft the change anew")
	}
	return w, nil
}

// A Gateway is what a device that offers services was found to be.
type Gateway struct {
	Portrait *portrait.Portrait
	File     string // of its configuration
	Text     string
	Says     verify.Readings // of the readings whose values begin with the names of services
}

// Serves reports whether the device shows a service; known is false when it tells of none, or could not be read.
func (g *Gateway) Serves(name string) (up, known bool) { return serves(g.Says, name) }

func serves(says verify.Readings, name string) (up, known bool) {
	for _, v := range says {
		known = known || v.Known()
		up = up || slices.ContainsFunc(v.Set, func(element string) bool {
			first, _, _ := strings.Cut(element, " ")
			return first == name
		})
	}
	return up, known
}

// LookAtServices reads the configuration of a device, and what it says of its services.
func (e *Engine) LookAtServices(ctx context.Context, d store.Device, by access.Actor) (*Gateway, error) {
	profile := e.Profile(d)
	if profile == nil {
		return nil, final("dialect %q of %s is not known here", d.Dialect, d.Name)
	}
	i := slices.IndexFunc(profile.Parts, func(p device.Part) bool { return p.Kind == backup.Configuration })
	if i < 0 {
		return nil, final("dialect %q of %s reads no configuration", d.Dialect, d.Name)
	}
	rs, err := e.ReadingsOf(ctx, d)
	if err != nil {
		return nil, err
	}
	rs = slices.DeleteFunc(rs, func(x device.Reading) bool { return !x.Services })
	ctx, c, done, err := e.ask(ctx, d, by, "look at its services")
	if err != nil {
		return nil, err
	}
	defer done()
	g := &Gateway{File: profile.Parts[i].File}
	if g.Portrait, err = c.Portrait(ctx); err != nil {
		return nil, err
	}
	if g.Says, err = c.Readings(ctx, rs); err != nil {
		return nil, err
	}
	data, _, err := c.FetchPart(ctx, profile.Parts[i].Name)
	g.Text = string(data)
	return g, err
}

// placeServices holds the services against what was drafted, and works out the configuration that the device is to have:
// the one of its backup, with them in it or without them.
func placeServices(r *run, ctx context.Context, s *store.Step) error {
	w, err := r.services()
	if err != nil {
		return err
	}
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	if at := stop(p.Model, p.Version); at != w.Services.At {
		return final("the device is %s by now; this change was drafted for %s. Draft it anew: verimorph change redraft %d", at, w.Services.At, r.c.ID)
	}
	b, source, err := r.backedUp(ctx, s.Plan.Hop)
	if err != nil {
		return err
	}
	if source == nil {
		return final("this change has no backup with the configuration of %s", r.m.Device)
	}
	text, err := r.e.Main(b)
	if err != nil {
		return final("%w", err)
	}
	at, whole, schema, err := r.understood(ctx, w.Services.At, b.File, text)
	if err != nil {
		return err
	}
	var placed *convert.Placed
	from := ""
	if w.Services.Source != 0 {
		if from, err = r.sameAtSource(ctx, s, w.Services); err != nil {
			return err
		}
		placed, err = r.withServices(w.Services, schema, whole, at)
	} else {
		if from, err = r.servedElsewhere(ctx, s, w.Services); err != nil {
			return err
		}
		placed, err = r.withoutServices(schema, whole, at)
	}
	if err != nil {
		return err
	}
	if len(placed.Conflicts) > 0 {
		c := placed.Conflicts[0]
		return final("%s: %s (%d in all). Nothing was put onto %s. Draft it anew: verimorph change redraft %d",
			c.Path, c.Message, len(placed.Conflicts), r.m.Device, r.c.ID)
	}
	part := RestorePart{Name: w.Services.Part, Title: source.Title, File: b.File, Kind: source.Kind, Syntax: string(schema.Syntax), Note: w.Services.Note}
	if part.Sealed, err = r.e.Vault.Seal(RestoreLabel(r.m.Device, part.Name), []byte(placed.Document.Print())); err != nil {
		return err
	}
	w.Hops[s.Plan.Hop] = []RestorePart{part}
	w.Services.Answers = answering(ctx, r.c.Wish.Move.Checks)
	data, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if err := r.e.Store.SetWork(ctx, r.lease, r.c.ID, data); err != nil {
		return records(err)
	}
	r.c.Work = data
	changes := placed.Changes()
	s.Note = fmt.Sprintf("%d statements of the configuration in backup %d are other: %s%s", len(changes), b.ID, first(changes, 5), from)
	return nil
}

// understood is a configuration as a tree, by what is known about a MODEL@VERSION.
func (r *run) understood(ctx context.Context, stop, file, text string) (at convert.Stop, d *config.Document, schema *config.Schema, err error) {
	lib, err := r.e.library(ctx)
	if err != nil {
		return at, nil, nil, err
	}
	if at, err = lib.ParseStop(stop); err != nil {
		return at, nil, nil, unusable(err)
	}
	schema = lib.Schema(at)
	d, broken := schema.Parse(file, text)
	if len(broken) > 0 {
		return at, nil, nil, final("%d lines of the configuration are not understood, the first: %s", len(broken), broken[0])
	}
	return at, d, schema, nil
}

// withServices is a configuration with the services of the change in it.
func (r *run) withServices(w *ServicesWork, schema *config.Schema, whole *config.Document, at convert.Stop) (*convert.Placed, error) {
	put, err := r.e.Vault.Open(servicesLabel(r.m.Device, "text"), w.Put)
	if err != nil {
		return nil, final("what is put cannot be read from our own records: %w", err)
	}
	part, broken := schema.Parse(w.File, string(put))
	if len(broken) > 0 {
		return nil, final("what is put cannot be read: %s", broken[0])
	}
	return convert.Place(schema, whole, part, at), nil
}

// withoutServices is a configuration without the services of the change.
func (r *run) withoutServices(schema *config.Schema, whole *config.Document, at convert.Stop) (*convert.Placed, error) {
	all, err := convert.AllServices(schema, whole)
	if err != nil {
		return nil, final("%w", err)
	}
	there := slices.DeleteFunc(slices.Clone(r.c.Wish.Move.Services), func(name string) bool {
		return !slices.ContainsFunc(all, func(e convert.ServiceEntry) bool { return e.Name == name })
	})
	placed, err := convert.TakeOut(schema, whole, there, at)
	if err != nil {
		return nil, final("%w", err)
	}
	return placed, nil
}

// What is accepted of the other device of a move, by the names of these checks.
const (
	CheckSourceAway = "source"
	CheckElsewhere  = "elsewhere"
)

// sameAtSource holds the services against the device that they come from: what was approved is what it had then.
func (r *run) sameAtSource(ctx context.Context, s *store.Step, w *ServicesWork) (string, error) {
	d, err := r.e.Store.DeviceByID(ctx, w.Source)
	if err != nil {
		return "", records(err)
	}
	g, err := r.e.LookAtServices(ctx, d, access.Carrying(r.c.ID))
	if record := (*recordError)(nil); errors.As(err, &record) || ctx.Err() != nil {
		return "", err
	}
	if err != nil {
		if r.accepts(CheckSourceAway) {
			return fmt.Sprintf("; %s cannot be asked, which was accepted", w.SourceName), nil
		}
		return "", r.doubt(s, CheckSourceAway, "%s cannot be asked: %s. Whether its services are still as they were drafted is not known, "+
			"and what they did there cannot be compared. Nothing was put onto %s", w.SourceName, err, r.m.Device)
	}
	if at := stop(g.Portrait.Model, g.Portrait.Version); at != w.SourceAt {
		return "", final("%s is %s by now; the services were worked out of %s. Draft it anew: verimorph change redraft %d", w.SourceName, at, w.SourceAt, r.c.ID)
	}
	was, err := r.e.Vault.Open(servicesLabel(r.m.Device, "source"), w.Carved)
	if err != nil {
		return "", final("what the services were cannot be read from our own records: %w", err)
	}
	_, doc, schema, err := r.understood(ctx, w.SourceAt, g.File, g.Text)
	if err != nil {
		return "", err
	}
	wish := r.c.Wish.Move
	is, err := convert.CarveOut(schema, doc, convert.Carving{Services: wish.Services, Rename: wish.Rename, Use: wish.Use})
	if err != nil {
		return "", final("%s: %w. Draft it anew: verimorph change redraft %d", w.SourceName, err, r.c.ID)
	}
	guarded, other, _, err := differ(g.File, string(was), is.Text, schema, func(config.Difference) bool { return true })
	if err != nil {
		return "", final("%w", err)
	}
	if other = append(guarded, other...); len(other) > 0 {
		return "", final("these services were changed on %s since this was drafted: %s. Nothing was put onto %s. Draft it anew: verimorph change redraft %d",
			w.SourceName, first(other, 5), r.m.Device, r.c.ID)
	}
	w.Served = map[string]bool{}
	for i, name := range wish.Services {
		if up, known := g.Serves(name); known {
			w.Served[wish.As[i]] = up
		}
	}
	return fmt.Sprintf("; on %s they are as drafted", w.SourceName), nil
}

// servedElsewhere looks whether the services that are taken off are up where they were put. It asks a person about one that is not.
func (r *run) servedElsewhere(ctx context.Context, s *store.Step, w *ServicesWork) (string, error) {
	looked, doubts := map[int64]*Gateway{}, []string{}
	for _, name := range r.c.Wish.Move.Services {
		at, ok := w.Elsewhere[name]
		if !ok {
			continue // that was accepted when it was drafted
		}
		g, ok := looked[at.Device]
		if !ok {
			d, err := r.e.Store.DeviceByID(ctx, at.Device)
			if err != nil {
				return "", records(err)
			}
			g, err = r.e.LookAtServices(ctx, d, access.Carrying(r.c.ID))
			if record := (*recordError)(nil); errors.As(err, &record) || ctx.Err() != nil {
				return "", err
			}
			if err != nil {
				doubts = append(doubts, fmt.Sprintf("%s cannot be asked: %s", at.Name, err))
				g = nil
			}
			looked[at.Device] = g
		}
		if g == nil {
			continue
		}
		switch up, known := g.Serves(at.As); {
		case !known:
			doubts = append(doubts, fmt.Sprintf("%s does not tell whether %s is up", at.Name, at.As))
		case !up:
			doubts = append(doubts, fmt.Sprintf("%s is not up on %s", at.As, at.Name))
		}
	}
	switch {
	case len(doubts) == 0 && len(w.Elsewhere) > 0:
		return "; what is served elsewhere is up there", nil
	case len(doubts) == 0:
		return "", nil
	case r.accepts(CheckElsewhere):
		return "; " + strings.Join(doubts, "; ") + ", which was accepted", nil
	}
	return "", r.doubt(s, CheckElsewhere, "%s. When they are taken off %s, nobody may serve them. Nothing was taken off", strings.Join(doubts, "; "), r.m.Device)
}

// doubt asks a person to take something on, under the name of a check, or to put it right and answer retry.
func (r *run) doubt(s *store.Step, check, format string, args ...any) error {
	return &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{r.named(check)}, Text: fmt.Sprintf(format, args...),
		Answers: []change.Action{change.Accept, change.Retry, change.Leave}}, change.StepRunning}
}

// asBackedUp has a configuration put only in the place of the one that was backed up. Where somebody changed that since, it is
// backed up anew, and what is put is worked out of it.
func (r *run) asBackedUp(ctx context.Context, s *store.Step, begun bool) error {
	b, source, err := r.backedUp(ctx, s.Plan.Hop)
	if err != nil {
		return err
	}
	if source == nil {
		return final("this change has no backup with the configuration of %s", r.m.Device)
	}
	was, err := r.e.Main(b)
	if err != nil {
		return final("%w", err)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	now, _, err := c.FetchPart(ctx, source.Name)
	if err != nil {
		return err
	}
	if source.Same([]byte(was), now) {
		return nil
	}
	if begun { // it may be half of what we put
		return final("%s has neither the configuration of backup %d nor the one that was put", r.m.Device, b.ID)
	}
	if _, err := r.backUpAgain(ctx, s, b); err != nil {
		return err
	}
	return &againError{change.PlaceServices, fmt.Sprintf("the configuration was changed after backup %d was taken", b.ID), "it is changed all the time"}
}

// Readings of services and targets, beside those of the dialect.
const (
	readService = "service "
	readAnswers = "answers "
)

// ofServices adds what is expected of the services that are put onto a device or taken off it: those are up, or gone, and targets answer.
func (r *run) ofServices(s *store.Step, j *judgement) error {
	w, err := r.services()
	if err != nil {
		return err
	}
	wish := r.c.Wish.Move
	comes := w.Services.Source != 0 && !s.Plan.Back
	goes := w.Services.Source == 0 && !s.Plan.Back
	names := wish.As
	if goes {
		for _, x := range j.readings {
			if v := j.before[x.Name]; x.Services && v.Type == verify.Set {
				v.Set = slices.DeleteFunc(slices.Clone(v.Set), func(element string) bool {
					name, _, _ := strings.Cut(element, " ")
					return slices.Contains(names, name)
				})
				j.before[x.Name] = v
			}
		}
	}
	yes := verify.Value{Type: verify.Flag, Flag: true}
	for _, name := range names {
		x := verify.Expectation{Reading: readService + name, Title: "Service " + name, Rule: verify.Equals, Severity: verify.Fails,
			Value: verify.Value{Type: verify.Flag, Flag: comes}}
		if comes {
			up, known := w.Services.Served[name]
			if known {
				j.before[x.Reading] = verify.Value{Type: verify.Flag, Flag: up}
			}
			if !known || !up {
				x.Severity = verify.Degrades
			}
		}
		if comes || goes {
			j.expect = append(j.expect, x)
		}
	}
	for _, target := range wish.Checks {
		if v, known := w.Services.Answers[target]; known {
			j.before[readAnswers+target] = verify.Value{Type: verify.Flag, Flag: v}
		}
		if !s.Plan.Back {
			j.expect = append(j.expect, verify.Expectation{Reading: readAnswers + target, Title: "Answers: " + target,
				Rule: verify.Equals, Value: yes, Severity: verify.Fails})
		}
	}
	j.services = true
	return nil
}

// lookedAtServices adds to readings what they say of services, and whether targets answer.
func (r *run) lookedAtServices(ctx context.Context, j judgement, after verify.Readings) {
	says := verify.Readings{}
	for _, x := range j.readings {
		if v, ok := after[x.Name]; ok && x.Services {
			says[x.Name] = v
		}
	}
	var targets []string
	for _, x := range j.expect {
		if name, ok := strings.CutPrefix(x.Reading, readService); ok {
			up, known := serves(says, name)
			after[x.Reading] = verify.Value{Type: verify.Flag, Flag: up}
			if !known {
				after[x.Reading] = verify.Value{Type: verify.NotReadable, Text: "the device does not tell which services are up"}
			}
		}
		if target, ok := strings.CutPrefix(x.Reading, readAnswers); ok {
			targets = append(targets, target)
		}
	}
	for target, does := range answering(ctx, targets) {
		after[readAnswers+target] = verify.Value{Type: verify.Flag, Flag: does}
	}
}

// answering asks targets, all at once: one that is silent takes its time.
func answering(ctx context.Context, targets []string) map[string]bool {
	out := map[string]bool{}
	var mu sync.Mutex
	var asked sync.WaitGroup
	for _, target := range targets {
		asked.Go(func() {
			does := answers(ctx, target)
			mu.Lock()
			out[target] = does
			mu.Unlock()
		})
	}
	asked.Wait()
	return out
}
