package planning

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/portrait"
	"verimorph/engine"
	"verimorph/store"
)

// What putting services onto a gateway, or taking them off one, would do: worked out for whoever asks, and drafted from the same.

// A ServicesPlan is what putting services onto a device, or taking them off it, would do.
type ServicesPlan struct {
	Device, From string // From "": they are taken off
	At, SourceAt string // MODEL@VERSION of both
	Services     []ServiceStand
	Needs        []convert.Need
	Conversion   int64
	Decisions    int      // that are open in it
	Sealed       []string // secrets that go along, by path; they are never shown
	OwnKey       []string // secrets that only the device can read that they come from, and are open
	Compared     *config.Comparison
	Text         string   // what is put, secrets masked
	Both         []string // addresses that both would serve
	Remains      []string // services that remain where they are now, with that device or without the ones taken off
	Refusals     []string
	Notes        []string

	d          store.Device
	source     store.Device
	part       *engine.ServicesWork
	carved     string
	put        string
	wish       change.ServicesWish
	portrait   *portrait.Portrait
	elsewhere  map[string]engine.ServedAt
	configured change.Restored
}

func (p *ServicesPlan) refuse(format string, args ...any) {
	p.Refusals = append(p.Refusals, fmt.Sprintf(format, args...))
}
func (p *ServicesPlan) note(format string, args ...any) {
	p.Notes = append(p.Notes, fmt.Sprintf(format, args...))
}

// PreviewServices says what it would do. Both devices are read; nothing is written to either.
func (s *Planner) PreviewServices(ctx context.Context, by access.Actor, device string, w change.ServicesWish) (*ServicesPlan, error) {
	d, err := s.Device(ctx, device)
	if err != nil {
		return nil, err
	}
	if err := s.movable(d, &w); err != nil {
		return nil, err
	}
	profile := s.Engine.Profile(d)
	i := -1
	if profile != nil {
		i = slices.IndexFunc(profile.Abilities.Parts, func(p change.Restored) bool { return p.Configuration })
	}
	if i < 0 {
		return nil, conflict("no configuration can be put onto %s: dialect %q restores none", d.Name, d.Dialect)
	}
	p := &ServicesPlan{Device: d.Name, From: w.From, d: d, wish: w, configured: profile.Abilities.Parts[i]}
	whole, g, err := s.gatewayNow(ctx, by, d)
	if err != nil {
		return nil, err
	}
	p.At, p.portrait = whole.At.String(), g.Portrait
	p.part = &engine.ServicesWork{At: p.At, Part: p.configured.Name, File: g.File}
	if w.From == "" {
		return p, s.takeOff(ctx, p, whole, g)
	}
	return p, s.putServices(ctx, by, p, whole)
}

// movable refuses what can never be done.
func (s *Planner) movable(d store.Device, w *change.ServicesWish) error {
	switch {
	case len(w.Services) == 0:
		return invalid("name at least one service")
	case w.From == d.Name:
		return invalid("the services are on %s already", d.Name)
	case d.Ensemble != nil:
		return conflict("%s is a member of %s: its configuration is that of all of them, and is not changed of one alone", d.Name, *d.Ensemble)
	case engine.Follows(&d) != "":
		return &engine.FollowsError{Device: d.Name, Controller: engine.Follows(&d)}
	}
	seen := map[string]bool{}
	for _, name := range w.Services {
		if seen[name] {
			return invalid("service %q is named twice", name)
		}
		seen[name] = true
	}
	for _, target := range w.Checks {
		if err := engine.CheckProbe(target); err != nil {
			return invalid("check %q: %s", target, err)
		}
	}
	return nil
}

// putServices works out what is put.
func (s *Planner) putServices(ctx context.Context, by access.Actor, p *ServicesPlan, whole *Source) error {
	var err error
	if p.source, err = s.Device(ctx, p.wish.From); err != nil {
		return err
	}
	src, g, err := s.gatewayNow(ctx, by, p.source)
	if err != nil {
		return err
	}
	p.SourceAt = src.At.String()
	carving := convert.Carving{Services: p.wish.Services, Rename: p.wish.Rename, Use: p.wish.Use}
	c, err := convert.CarveOut(src.Schema, src.Document, carving)
	if err != nil {
		return conflict("%s: %s", p.source.Name, err)
	}
	p.Needs, p.carved, p.wish.As = c.Needs, c.Text, nil
	for i := range c.Services {
		e := c.Services[i]
		x := ServiceStand{ServiceEntry: e, Stands: change.ServiceHere, To: p.Device, As: carving.NewName(src.Schema, &e)}
		if up, known := g.Serves(e.Name); known {
			x.Up = &up
			if !up {
				p.note("%s is not up on %s now; that it is up on %s is not asked of the verdict as a must", e.Name, p.source.Name, p.Device)
			}
		}
		p.wish.As = append(p.wish.As, x.As)
		p.Services = append(p.Services, x)
	}
	for _, missing := range c.Missing {
		p.refuse("%s; say which one of %s takes its place (use)", missing, p.Device)
	}
	if err := s.movedBefore(ctx, p); err != nil {
		return err
	}
	p.part.Source, p.part.SourceName, p.part.SourceAt, p.part.SourceFile = p.source.ID, p.source.Name, p.SourceAt, g.File
	p.remains(src, nil)
	r, err := s.convertServices(ctx, p, src)
	if err != nil || r == nil {
		return err
	}
	p.secretsOf(r)
	p.put = r.Text
	p.Text = r.T.MaskText(whole.Name, r.Text)
	placed := convert.Place(whole.Schema, whole.Document, r.Document, whole.At)
	p.Compared = placed.Compared
	for _, x := range placed.Conflicts {
		p.refuse("%s: %s", x.Path, x.Message)
	}
	p.guards()
	p.addresses(src, whole.Schema, placed.Document)
	return nil
}

// convertServices turns the services into the language of the new home. nil: why not is among the refusals.
func (s *Planner) convertServices(ctx context.Context, p *ServicesPlan, src *Source) (*convert.Result, error) {
	w := workOf(&p.wish, src, p.carved, p.At)
	p.Conversion = p.wish.Conversion
	if p.Conversion == 0 { // what somebody began to work out says more than the rules alone
		list, err := s.Store.ConversionsOf(ctx, p.carved, p.At)
		if err != nil {
			return nil, err
		}
		for _, c := range list {
			if x, err := s.WorkOf(c); err == nil && x.Source == p.carved && x.Fragment && x.From == p.SourceAt {
				w, p.Conversion = x, c.ID
				break
			}
		}
	} else {
		_, x, err := s.OpenWork(ctx, p.Conversion)
		if err != nil {
			return nil, err
		}
		if x.Source != p.carved || !x.Fragment || x.To != p.At {
			return nil, conflict("conversion %d is not of these services as %s has them now, to %s; start another one", p.Conversion, p.source.Name, p.At)
		}
		w = x
	}
	if p.wish.SameKey {
		w = withSameKey(w, src)
	}
	r, err := s.Convert(ctx, w)
	if IsKind(err, NoRules) {
		p.refuse("%s. Start a conversion by hand: verimorph service convert %s", err, p.command("-by-hand"))
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, row := range r.Ledger.Source {
		if row.State != convert.NeedsPerson {
			continue
		}
		p.Decisions++
		if row.Ask == convert.AskSecret {
			p.OwnKey = append(p.OwnKey, row.Path)
		}
	}
	if n := len(p.OwnKey); n > 0 {
		p.refuse("%s written under a key that %s keeps for itself: %s. Use one that %s has (use), "+
			"type each in again (verimorph service convert %s, then conversion secrets), or give both the same key and say so (sameKey)",
			plural(n, "secret is", "secrets are"), p.source.Name, strings.Join(p.OwnKey, ", "), p.Device, p.command(""))
	}
	if open := p.Decisions - len(p.OwnKey); open > 0 || !r.Ledger.Complete() && len(p.OwnKey) == 0 {
		how := fmt.Sprintf("decide in conversion %d", p.Conversion)
		if p.Conversion == 0 {
			how = "start a conversion of them (verimorph service convert " + p.command("") + "), and decide there"
		}
		p.refuse("%s open between %s and %s; %s", plural(max(open, 1), "decision is", "decisions are"), p.SourceAt, p.At, how)
	}
	return r, nil
}

// workOf is the conversion of services, cut out of the configuration of their gateway, for another unit.
func workOf(w *change.ServicesWish, src *Source, carved, to string) *Work {
	name := fmt.Sprintf("%s, of %s", strings.Join(w.Services, ", "), w.From)
	return &Work{Name: name, Source: carved, From: src.At.String(), To: to, Fragment: true, Other: true, Answers: map[string]string{}}
}

// withSameKey is a conversion with the answer that both gateways have the same key, where secrets are written under one at all.
func withSameKey(w *Work, src *Source) *Work {
	if len(convert.OwnSecrets(src.Schema, src.Document)) == 0 {
		return w
	}
	out := *w
	out.Answers = maps.Clone(w.Answers)
	out.Answers[convert.OwnKey] = convert.SameKey
	return &out
}

// command is how a person names these services to the client.
func (p *ServicesPlan) command(flags string) string {
	return strings.TrimSpace(fmt.Sprintf("%s %s -to %s %s", p.source.Name, strings.Join(p.wish.Services, ","), p.Device, flags))
}

// secretsOf lists the secrets that go along.
func (p *ServicesPlan) secretsOf(r *convert.Result) {
	r.Document.Root.Walk(func(n *config.Node) {
		if len(n.Words) > 0 && len(n.Children) == 0 && r.T.IsSecret(n) {
			p.Sealed = append(p.Sealed, r.T.Path(n))
		}
	})
}

// guards refuses what would change a guarded setting: services come beside what is there.
func (p *ServicesPlan) guards() {
	for _, x := range p.Compared.Differences {
		if x.Guarded != "" && x.Kind != config.Cosmetic {
			p.refuse("%s is a guarded setting (%s)", x.Path, x.Guarded)
		}
	}
}

// addresses says which ones both devices would serve.
func (p *ServicesPlan) addresses(src *Source, schema *config.Schema, placed *config.Document) {
	here, there := convert.Listens(src.Schema, src.Document), convert.Listens(schema, placed)
	for i, name := range p.wish.Services {
		for _, a := range there[p.wish.As[i]] {
			if text := a.String(); slices.Contains(here[name], a) && !slices.Contains(p.Both, text) {
				p.Both = append(p.Both, text)
			}
		}
	}
	if n := len(p.Both); n > 0 {
		p.note("%s on both devices until the services are taken off %s: %s. See to it that one of them answers at a time, or give the services other addresses on %s",
			plural(n, "address is", "addresses are"), p.source.Name, strings.Join(p.Both, ", "), p.Device)
	}
}

// remains lists the services that are still served by the device that has them now alone, without some.
func (p *ServicesPlan) remains(src *Source, without []string) {
	all, err := convert.AllServices(src.Schema, src.Document)
	if err != nil {
		return
	}
	for _, e := range all {
		if !slices.Contains(without, e.Name) {
			p.Remains = append(p.Remains, e.Name)
		}
	}
}

// movedBefore refuses services that another change, which is not over, moves as well, and those that were moved.
func (s *Planner) movedBefore(ctx context.Context, p *ServicesPlan) error {
	all, err := s.Store.ServicesChanges(ctx, p.source.Name)
	if err != nil {
		return err
	}
	moved := movedServices(all, p.source.Name)
	for _, name := range p.wish.Services {
		switch x := moved.stand(convert.ServiceEntry{Name: name}, true); x.Stands {
		case change.ServiceMoving:
			if x.Put != p.wish.Instead {
				p.refuse("change %d puts %s onto %s already; carry it out, or stop it first", x.Put, name, x.To)
			}
		case change.ServiceWithdrawing:
			p.refuse("change %d takes %s off %s; carry it out, or stop it first", x.Off, name, p.source.Name)
		case change.ServiceBoth:
			p.note("change %d put %s onto %s as %s already", x.Put, name, x.To, x.As)
		}
	}
	return nil
}

// takeOff works out what is left without some services.
func (s *Planner) takeOff(ctx context.Context, p *ServicesPlan, whole *Source, g *engine.Gateway) error {
	all, err := s.Store.ServicesChanges(ctx, p.Device)
	if err != nil {
		return err
	}
	moved := movedServices(all, p.Device)
	c, err := convert.CarveOut(whole.Schema, whole.Document, convert.Carving{Services: p.wish.Services})
	if err != nil {
		return conflict("%s: %s", p.Device, err)
	}
	p.elsewhere, p.wish.As = map[string]engine.ServedAt{}, p.wish.Services
	for _, need := range c.Needs {
		if !need.Shared {
			p.Needs = append(p.Needs, need)
		}
	}
	for _, e := range c.Services {
		x := moved.stand(e, true)
		if up, known := g.Serves(e.Name); known {
			x.Up = &up
		}
		p.Services = append(p.Services, x)
		m := moved[e.Name]
		switch {
		case x.Stands == change.ServiceWithdrawing && x.Off != p.wish.Instead:
			p.refuse("change %d takes %s off already; carry it out, or stop it first", x.Off, e.Name)
		case x.Stands == change.ServiceMoving:
			p.refuse("change %d, which puts %s onto %s, is not over", x.Put, e.Name, x.To)
		case m != nil && m.put != nil && m.put.State == change.Done:
			p.elsewhere[e.Name] = engine.ServedAt{Device: m.put.DeviceID, Name: m.put.Device, As: x.As, Change: m.put.ID}
			if m.put.Verdict != "pass" {
				p.note("the verdict of change %d, which put %s onto %s, is %s", m.put.ID, e.Name, m.put.Device, m.put.Verdict)
			}
		case s.cameFrom(ctx, all, p, e.Name):
		case !p.wish.Unproven:
			p.refuse("no change put %s onto another device, so nothing proves that it is served elsewhere; if nobody needs it, say so (unproven)", e.Name)
		default:
			p.note("nothing proves that %s is served elsewhere", e.Name)
		}
	}
	placed, err := convert.TakeOut(whole.Schema, whole.Document, p.wish.Services, whole.At)
	if err != nil {
		return conflict("%s", err)
	}
	p.Compared = placed.Compared
	for _, x := range placed.Conflicts {
		p.refuse("%s: %s", x.Path, x.Message)
	}
	p.guards()
	p.remains(whole, p.wish.Services)
	return nil
}

// cameFrom finds the gateway that a service was put from onto the device; it serves it still as far as is known, and is asked before anything is taken off.
func (s *Planner) cameFrom(ctx context.Context, all []store.ServicesChange, p *ServicesPlan, name string) bool {
	for _, c := range all {
		if c.Kind != change.Moving || c.State != change.Done || c.DeviceID != p.d.ID || c.Wish == nil || c.Wish.Move == nil {
			continue
		}
		i := slices.Index(c.Wish.Move.As, name)
		if i < 0 {
			continue
		}
		from, err := s.Store.Device(ctx, c.Wish.Move.From)
		if err != nil {
			return false
		}
		p.elsewhere[name] = engine.ServedAt{Device: from.ID, Name: from.Name, As: c.Wish.Move.Services[i], Change: c.ID}
		p.note("change %d put %s onto %s from %s; it is taken off only while %s serves it", c.ID, name, p.Device, from.Name, from.Name)
		return true
	}
	return false
}

// DraftServices drafts putting services onto a device, or taking them off it.
func (s *Planner) DraftServices(ctx context.Context, by access.Actor, device string, w change.ServicesWish, t store.Terms) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	t, err := s.Terms(ctx, t)
	if err != nil {
		return 0, err
	}
	p, err := s.PreviewServices(ctx, by, device, w)
	if err != nil {
		return 0, err
	}
	if len(p.Refusals) > 0 {
		return 0, conflict("%s", strings.Join(p.Refusals, "; "))
	}
	c, err := s.servicesChange(ctx, p)
	if err != nil {
		return 0, err
	}
	c.WindowFrom, c.WindowTo, c.RestartFrom, c.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	return s.Store.AddChange(ctx, by, c)
}

// servicesChange is the change that does what a plan says.
func (s *Planner) servicesChange(ctx context.Context, p *ServicesPlan) (c store.Change, err error) {
	text, kind := "services are put onto it; its release stays", change.Moving
	if p.From == "" {
		text, kind = "services are taken off it; its release stays", change.Withdrawing
		p.part.Elsewhere = p.elsewhere
	}
	restarts := 0
	if p.configured.Restart {
		restarts = 1
	}
	job, err := s.staying(ctx, s.Engine.Profile(p.d).Abilities, p.portrait.Model, p.portrait.Version, text, restarts)
	if err != nil {
		return c, err
	}
	plan, err := change.DraftServices(&change.ServicesJob{Job: job, Services: p.wish.As, Other: p.From})
	if err != nil {
		return c, conflict("%s", err)
	}
	c = store.Change{Kind: kind, From: p.portrait.Version, To: p.portrait.Version}
	if c.Path, err = json.Marshal(job.Path); err != nil {
		return c, err
	}
	if c.Work, err = engine.NewServicesWork(s.Vault, p.d.Name, *p.part, p.carved, p.put); err != nil {
		return c, err
	}
	wish := p.wish
	wish.Conversion, wish.Instead = p.Conversion, 0
	c.Wish = &change.Wish{Format: change.WishFormat, Device: p.d.Name, Move: &wish}
	c.Members = []store.Member{{DeviceID: p.d.ID, Planned: store.Planned{Model: p.portrait.Model, Serial: p.portrait.Serial}}}
	return withSteps(c, plan), nil
}

// ConvertServices begins a conversion of services as their device has them now, for the gateway that they are to be put onto.
func (s *Planner) ConvertServices(ctx context.Context, by access.Actor, device string, w change.ServicesWish, byHand bool) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	d, err := s.Device(ctx, device)
	if err != nil {
		return 0, err
	}
	if err := s.movable(d, &w); err != nil {
		return 0, err
	}
	if w.From == "" {
		return 0, invalid("say which device has them (from)")
	}
	source, err := s.Device(ctx, w.From)
	if err != nil {
		return 0, err
	}
	to, _, err := s.gatewayNow(ctx, by, d)
	if err != nil {
		return 0, err
	}
	src, _, err := s.gatewayNow(ctx, by, source)
	if err != nil {
		return 0, err
	}
	c, err := convert.CarveOut(src.Schema, src.Document, convert.Carving{Services: w.Services, Rename: w.Rename, Use: w.Use})
	if err != nil {
		return 0, conflict("%s: %s", source.Name, err)
	}
	work := workOf(&w, src, c.Text, to.At.String())
	work.ByHand = byHand
	if w.SameKey {
		work = withSameKey(work, src)
	}
	return s.StartConversion(ctx, by, work)
}
