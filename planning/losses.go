package planning

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

// Losses are what going back from what runs now to an older version would lose.
type Losses struct {
	From, To    string
	Way         string // what would be done, in a sentence
	Backup      int64  // taken last under the older version; 0: there is none
	Differences []config.Difference
	Services    []string // that the older version cannot run
	Credentials []string // in the order in which they would be tried
	Notes       []string
	Carried     *Carried // what carrying the configuration across does to it; nil: it was not asked for
}

// Carried is what carrying the configuration of now across to an older version does to it.
type Carried struct {
	Complete bool
	Counts   map[string]int
	Lines    []string // those that do not stay as they are
}

// LossesOfReturn says what going back now would lose for a change that went past its point of no return.
func (s *Planner) LossesOfReturn(ctx context.Context, by access.Actor, id int64) (*Losses, error) {
	c, err := s.Change(ctx, id)
	if err != nil {
		return nil, err
	}
	if len(c.Members) > 1 {
		return s.lossesTogether(ctx, by, &c)
	}
	hop, ok := c.Passed()
	if !ok || hop >= len(c.Back) {
		return nil, conflict("change %d has not changed what the device runs, so there is nothing to go back from", c.ID)
	}
	d, err := s.Store.DeviceByID(ctx, c.First().DeviceID)
	if err != nil {
		return nil, err
	}
	var way path.Path
	if err := json.Unmarshal(c.Path, &way); err != nil {
		return nil, err
	}
	old := engine.Leaving{OldModel: way.ModelAt(hop), Old: way.Hops[hop].From.String()}
	if p := PortraitOf(d); p != nil {
		old.Ports = way.Renamed(old.OldModel, p.Model)
	}
	return s.Losses(ctx, by, d, old, c.Back[hop].Text)
}

// lossesTogether are those of the first member that would be taken back; the notes name the others.
func (s *Planner) lossesTogether(ctx context.Context, by access.Actor, c *store.Change) (*Losses, error) {
	if !c.CanGoBack() {
		return nil, conflict("change %d has nothing to go back from as its members stand; that is looked at when it comes to rest", c.ID)
	}
	var first *Losses
	for i, m := range c.Members {
		d, err := s.Store.DeviceByID(ctx, m.DeviceID)
		if err != nil {
			return nil, err
		}
		to := c.HalfWay.To[i]
		if p := PortraitOf(d); p == nil || p.Version == to {
			continue
		}
		if first != nil {
			first.Notes = append(first.Notes, fmt.Sprintf("%s goes back to %s, too; what it would lose is shown by: verimorph change back %s -preview", m.Device, to, m.Device))
			continue
		}
		if first, err = s.Losses(ctx, by, d, engine.Leaving{Old: to}, c.HalfWay.Why); err != nil {
			return nil, err
		}
		first.Notes = append([]string{"this is what " + m.Device + " would lose"}, first.Notes...)
	}
	if first == nil {
		return nil, conflict("no member of change %d runs anything else than it ran before", c.ID)
	}
	return first, nil
}

// LossesOfBack says what starting the previous installation again would lose; with carry, also what carrying the configuration across does.
func (s *Planner) LossesOfBack(ctx context.Context, by access.Actor, device string, carry bool) (*Losses, error) {
	d, err := s.Device(ctx, device)
	if err != nil {
		return nil, err
	}
	p := PortraitOf(d)
	if p == nil {
		return nil, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	idle := p.IdleSlot()
	if profile := s.Engine.Profile(d); profile != nil && many(&profile.Abilities) {
		if idle, err = previousOf(d, p, &profile.Abilities); err != nil {
			return nil, err
		}
	}
	if idle == nil || idle.Version == "" {
		return nil, conflict("device %s shows no installation beside the running one", d.Name)
	}
	if idle.Broken() {
		return nil, conflict("the installation in slot %s of device %s is no way back: the device says that it is %q", idle.Name, d.Name, idle.State)
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	was, platform := platformBefore(cat.FamilyOfModel(p.Model), p, idle)
	old := engine.Leaving{OldModel: was, Old: idle.Version}
	if platform != nil {
		for _, c := range platform.Ports {
			old.Ports = append(old.Ports, catalog.PortChange{From: c.To, To: c.From})
		}
	}
	out, err := s.Losses(ctx, by, d, old, "start the installation in slot "+idle.Name+" again")
	if err == nil && carry {
		out.Carried, err = s.carried(ctx, by, d, p, idle.Version)
	}
	return out, err
}

// Losses says what going back from what runs now to an older version, which may be of another platform, would lose. way is what would be done.
func (s *Planner) Losses(ctx context.Context, by access.Actor, d store.Device, old engine.Leaving, way string) (*Losses, error) {
	to := old.Old
	out := &Losses{To: to, Way: way}
	p := PortraitOf(d)
	if p == nil {
		return out, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	out.From = p.Version
	if err := s.lostConfiguration(ctx, by, out, d, old); err != nil {
		return out, err
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return out, err
	}
	older, bad := version.Parse(to)
	newer, worse := version.Parse(out.From)
	if f := cat.FamilyOfModel(p.Model); f != nil && bad == nil && worse == nil {
		uses := s.Engine.Uses(ctx, f, d)
		for _, sv := range f.Services {
			if !sv.Runs.Contains(newer) || sv.Runs.Contains(older) {
				continue
			}
			used, known := uses[sv.Condition]
			switch {
			case sv.Condition == "" || !known:
				out.Services = append(out.Services, fmt.Sprintf("%s, if this device uses it: %s", sv.Name, sv.Text))
			case used:
				out.Services = append(out.Services, fmt.Sprintf("%s, which this device uses: %s", sv.Name, sv.Text))
			}
		}
	}
	cs, err := s.Engine.Order(ctx, d, to)
	if err != nil {
		return out, err
	}
	for _, c := range cs {
		if c.Kind == engine.KindToken || c.Kind == engine.KindSNMP {
			continue // they let nobody in
		}
		text := fmt.Sprintf("credential %d, %s", c.ID, c.Kind)
		if c.Username != "" {
			text += " of " + c.Username
		}
		if c.Versions != "" {
			text += ", for " + c.Versions
		}
		out.Credentials = append(out.Credentials, text)
	}
	return out, nil
}

// lostConfiguration compares what runs now with the last backup that was taken under the older version.
func (s *Planner) lostConfiguration(ctx context.Context, by access.Actor, out *Losses, d store.Device, old engine.Leaving) error {
	p, _, now, err := s.runningNow(ctx, by, d)
	if err != nil {
		out.Notes = append(out.Notes, "the configuration of now cannot be read, so nobody can say what would be lost: "+s.told(err))
		return nil
	}
	old.Model, old.Version = p.Model, out.From
	since, err := s.Engine.SinceLeft(ctx, d, old, now)
	if err != nil {
		return err
	}
	out.Backup = since.Backup
	if since.Unknown != "" {
		out.Notes = append(out.Notes, since.Unknown)
	}
	out.Notes = append(out.Notes, since.Notes...)
	out.Differences = since.Differences
	if len(out.Differences) > 0 && since.CanCarry && (old.OldModel == "" || old.OldModel == p.Model) {
		out.Notes = append(out.Notes, fmt.Sprintf("what was configured since can be carried across: verimorph change back %s -carry converts it and puts it onto %s, and -carry -preview shows what that does; after another way back, convert the last backup to %s@%s and restore it", d.Name, out.To, p.Model, out.To))
	}
	return nil
}

// runningNow reads what a device is, and its running configuration.
func (s *Planner) runningNow(ctx context.Context, by access.Actor, d store.Device) (*portrait.Portrait, *device.Part, []byte, error) {
	part := s.Engine.Profile(d).Role(backup.Running)
	if part == nil {
		return nil, nil, nil, conflict("dialect %q declares no running configuration", d.Dialect)
	}
	p, now, unread, err := s.Engine.PartsNow(ctx, d, []string{part.Name}, by)
	if err == nil && unread[part.Name] != "" {
		err = conflict("the configuration of now cannot be read: %s", unread[part.Name])
	}
	return p, part, now[part.Name], err
}

// carried says what carrying the configuration of now across to an older version does to it.
func (s *Planner) carried(ctx context.Context, by access.Actor, d store.Device, p *portrait.Portrait, to string) (*Carried, error) {
	_, part, now, err := s.runningNow(ctx, by, d)
	if err != nil {
		return nil, err
	}
	l, err := s.Engine.Carry(ctx, p.Model, part.File, p.Version, to, now)
	if err != nil {
		return nil, conflict("the configuration of now cannot be carried across: %s", err)
	}
	out := &Carried{Complete: l.Complete(), Counts: l.Counts}
	for _, item := range l.Source {
		if item.State != convert.Kept && item.State != convert.Moved {
			out.Lines = append(out.Lines, strings.TrimSuffix(fmt.Sprintf("line %d, %s: %s, %s", item.Line, item.Path, strings.ReplaceAll(string(item.State), "-", " "), item.Reason), ", "))
		}
	}
	return out, nil
}

// told is an error as a person is told it: what a device said or what the planner found in full, anything else in the log only.
func (s *Planner) told(err error) string {
	if errors.As(err, new(*device.Error)) || errors.As(err, new(*Error)) {
		return err.Error()
	}
	s.Log.Error("the configuration of a device cannot be read", "err", err)
	return "the service could not do it; its log says why"
}
