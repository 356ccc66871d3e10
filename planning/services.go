package planning

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/engine"
	"verimorph/store"
)

// Services move from one gateway to another one that serves as well.

// A ServiceList is the services of a device, grouped, with where each stands.
type ServiceList struct {
	Device string
	Source string // where its configuration was read
	At     time.Time
	Live   bool
	Groups []ServiceGroup
	Counts map[string]int // by where they stand
}

// A ServiceGroup is services that belong together.
type ServiceGroup struct {
	Name     string
	Services []ServiceStand
}

// A ServiceStand is a service of a device and where it stands.
type ServiceStand struct {
	convert.ServiceEntry
	Stands string // change.ServiceHere ...
	Up     *bool  // what the device says of it; nil: not asked, or it does not tell
	To, As string // the device to which it moves or moved, and its name there; "": none
	Put    int64  // the change that puts it there; 0: none
	Off    int64  // the change that takes it off; 0: none
}

// ServicesOf lists the services of a device: those that its newest backup holds, or that it has now. by groups them; search leaves those that say it.
func (s *Planner) ServicesOf(ctx context.Context, by access.Actor, name, groupBy, search string, live bool) (*ServiceList, error) {
	d, err := s.Device(ctx, name)
	if err != nil {
		return nil, err
	}
	var src *Source
	out := &ServiceList{Device: d.Name, Live: live, Counts: map[string]int{}}
	var g *engine.Gateway
	if live {
		if err := access.May(by, access.Draft); err != nil {
			return nil, err
		}
		if src, g, err = s.gatewayNow(ctx, by, d); err != nil {
			return nil, err
		}
		out.Source, out.At = "read from "+d.Name+" just now", time.Now()
	} else {
		b, err := s.newestBackup(ctx, d)
		if err != nil {
			return nil, err
		}
		if b == nil {
			return nil, conflict("there is no complete backup of %s; take one (verimorph backup take %s), or have the device asked (live)", d.Name, d.Name)
		}
		if src, err = s.Source(ctx, SourceRef{Backup: &b.ID}); err != nil {
			return nil, err
		}
		out.Source, out.At = fmt.Sprintf("backup %d", b.ID), b.TakenAt
	}
	groups, err := convert.FindServices(src.Schema, src.Document, groupBy)
	if err != nil {
		return nil, invalid("%s", err)
	}
	all, err := s.Store.ServicesChanges(ctx, d.Name)
	if err != nil {
		return nil, err
	}
	moved := movedServices(all, d.Name)
	for _, group := range groups {
		var list []ServiceStand
		for _, e := range group.Services {
			there := !moved.takenOffSince(e.Name, out.At)
			x := moved.stand(e, there)
			delete(moved, e.Name)
			if g != nil {
				if up, known := g.Serves(e.Name); known {
					x.Up = &up
				}
			}
			out.Counts[x.Stands]++
			if search == "" || e.Says(src.Schema, search) {
				list = append(list, x)
			}
		}
		if list != nil {
			out.Groups = append(out.Groups, ServiceGroup{group.Name, list})
		}
	}
	return out, out.gone(moved, search)
}

// gone adds the services that the configuration has no more.
func (l *ServiceList) gone(moved servicesMoved, search string) error {
	var list []ServiceStand
	for _, name := range slices.Sorted(maps.Keys(moved)) {
		x := moved.stand(convert.ServiceEntry{Name: name}, false)
		if x.Stands == change.ServiceHere { // it went without a change of ours
			continue
		}
		l.Counts[x.Stands]++
		if strings.Contains(strings.ToLower(name), strings.ToLower(search)) {
			list = append(list, x)
		}
	}
	if list != nil {
		l.Groups = append(l.Groups, ServiceGroup{"(no longer in its configuration)", list})
	}
	return nil
}

// servicesMoved are the newest changes of services of a device, by their names there.
type servicesMoved map[string]*struct{ put, off *store.ServicesChange }

func movedServices(all []store.ServicesChange, device string) servicesMoved {
	out := servicesMoved{}
	type there struct {
		device int64
		name   string
	}
	takenOff := map[there]bool{} // again, off the devices to which they went
	for i := range all {
		c := &all[i]
		if c.Wish == nil || c.Wish.Move == nil {
			continue
		}
		if c.Kind == change.Withdrawing && c.Device != device {
			for _, name := range c.Wish.Move.Services {
				takenOff[there{c.DeviceID, name}] = takenOff[there{c.DeviceID, name}] || c.State == change.Done
			}
			continue
		}
		if c.Kind == change.Moving && c.Wish.Move.From != device {
			continue // it came from elsewhere
		}
		for i, name := range c.Wish.Move.Services {
			if c.Kind == change.Moving && i < len(c.Wish.Move.As) && takenOff[there{c.DeviceID, c.Wish.Move.As[i]}] {
				continue
			}
			if out[name] == nil {
				out[name] = &struct{ put, off *store.ServicesChange }{}
			}
			switch x := out[name]; {
			case c.Kind == change.Withdrawing && x.off == nil && x.put == nil: // one that was put elsewhere after it was taken off is here again
				x.off = c
			case c.Kind == change.Moving && x.put == nil:
				x.put = c
			}
		}
	}
	return out
}

// stand is where a service stands; there: the device has it now.
func (m servicesMoved) stand(e convert.ServiceEntry, there bool) ServiceStand {
	out := ServiceStand{ServiceEntry: e, Stands: change.ServiceHere}
	x := m[e.Name]
	if x == nil {
		return out
	}
	var moved change.Moved
	if x.put != nil {
		moved.Put, out.Put, out.To = x.put.State, x.put.ID, x.put.Device
		if i := slices.Index(x.put.Wish.Move.Services, e.Name); i >= 0 && i < len(x.put.Wish.Move.As) {
			out.As = x.put.Wish.Move.As[i]
		}
	}
	if x.off != nil {
		moved.TakenOff, out.Off = x.off.State, x.off.ID
	}
	out.Stands = moved.Stands(there)
	return out
}

// takenOffSince reports whether a service was taken off after a moment, such as that of a backup which still has it.
func (m servicesMoved) takenOffSince(name string, at time.Time) bool {
	x := m[name]
	return x != nil && x.off != nil && x.off.State == change.Done && x.off.EndedAt != nil && x.off.EndedAt.After(at)
}

// gatewayNow reads what a device is configured with and what it says of its services.
func (s *Planner) gatewayNow(ctx context.Context, by access.Actor, d store.Device) (*Source, *engine.Gateway, error) {
	g, err := s.Engine.LookAtServices(ctx, d, by)
	if err != nil {
		return nil, nil, conflict("%s cannot be asked now: %s", d.Name, err)
	}
	src, err := s.Source(ctx, SourceRef{Text: &g.Text, Name: g.File, From: g.Portrait.Model + "@" + g.Portrait.Version})
	return src, g, err
}
