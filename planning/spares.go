package planning

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/ready"
	"verimorph/core/spare"
	"verimorph/store"
)

// Units in stock: prepared for a site, sent, put in the place of the one there, back, wiped.

// AddSpare puts a unit in stock.
func (s *Planner) AddSpare(ctx context.Context, by access.Actor, x store.Spare) (store.Spare, error) {
	if err := access.May(by, access.Draft); err != nil {
		return x, err
	}
	x.Serial, x.Model, x.Place = strings.TrimSpace(x.Serial), strings.TrimSpace(x.Model), strings.TrimSpace(x.Place)
	if x.Serial == "" || x.Model == "" || len(x.Serial) > 120 || len(x.Model) > 120 || len(x.Place) > 400 {
		return x, invalid("a unit has a serial and a model, of up to 120 characters each")
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return x, err
	}
	if cat.FamilyOfModel(x.Model) == nil {
		return x, invalid("no catalogue that is loaded knows a model %q", x.Model)
	}
	other, err := s.Store.DeviceOfSerial(ctx, x.Serial)
	if err != nil {
		return x, err
	}
	if other != "" && other != x.Bench {
		return x, conflict("the unit with the serial %s is known as %s. Where that is how it is reached on the bench, say so (-bench %s); else it is in service there",
			x.Serial, other, other)
	}
	if x.Bench != "" {
		d, err := s.Device(ctx, x.Bench)
		if err != nil {
			return x, err
		}
		x.BenchID = &d.ID
	}
	err = s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "spare added", Detail: x.Model + " " + x.Serial}, tx.AddSpare(ctx, x)
	})
	if errors.Is(err, store.ErrKnownSerial) {
		return x, conflict("a unit with the serial %s is in stock already", x.Serial)
	}
	if err != nil {
		return x, err
	}
	return s.Spare(ctx, x.Serial)
}

// Spare is the unit with a serial.
func (s *Planner) Spare(ctx context.Context, serial string) (store.Spare, error) {
	x, err := s.Store.Spare(ctx, serial)
	if errors.Is(err, store.ErrNotFound) {
		return x, notFound("no unit with the serial %q is in stock", serial)
	}
	return x, err
}

// spareIn is the unit with a serial, which has to stand in one of some places.
func (s *Planner) spareIn(ctx context.Context, serial, doing string, states ...spare.State) (store.Spare, error) {
	x, err := s.Spare(ctx, serial)
	if err != nil {
		return x, err
	}
	u := x.Unit()
	if at := u.State(); !slices.Contains(states, at) {
		return x, conflict("unit %s is %s, and cannot be %s", serial, strings.ReplaceAll(string(at), "-", " "), doing)
	}
	return x, nil
}

// A Preparing is what a unit is prepared for.
type Preparing struct {
	For   string // device that it is to stand by for
	Bench string // device by which the unit is reached on the bench
	To    string // release; "": that of the newest backup of the device
	// SameKey: the unit was given the key under which the device writes its secrets.
	SameKey bool
	Terms   store.Terms
	// Instead is the draft that is drafted anew; 0: none.
	Instead int64
}

// PrepareSpare drafts bringing a unit to what a device at a site needs: its release, and the configuration of its newest backup.
func (s *Planner) PrepareSpare(ctx context.Context, by access.Actor, serial string, p Preparing) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	x, err := s.spareIn(ctx, serial, "prepared", spare.InStock, spare.Preparing, spare.Prepared)
	if err != nil {
		return 0, err
	}
	if err := taken(x.Prepare, x.Prepared, p.Instead, serial, "prepares"); err != nil {
		return 0, err
	}
	site, err := s.Device(ctx, p.For)
	if err != nil {
		return 0, err
	}
	bench, err := s.Device(ctx, p.Bench)
	if err != nil {
		return 0, err
	}
	if bench.ID == site.ID {
		return 0, invalid("%s is the device at the site; the unit on the bench has a record of its own, with its address and its password there", site.Name)
	}
	b, err := s.newestBackup(ctx, site)
	if err != nil {
		return 0, err
	}
	if b == nil {
		return 0, conflict("there is no complete backup of %s, so nobody can say what it is configured with; take one first: verimorph backup take %s",
			site.Name, site.Name)
	}
	w := change.Wish{Device: bench.Name, Aim: change.Aim{To: p.To}}
	w.BringUp = &change.BringUpWish{Backup: b.ID, Serial: x.Serial, For: site.Name, SameKey: p.SameKey}
	if w.To == "" {
		w.To = b.Version
	}
	if profile := s.Engine.Profile(bench); profile != nil && !profile.Abilities.Password {
		w.BringUp.KeepPassword = true
	}
	return s.draftBringUp(ctx, by, w, BringUp{}, nil, p.Terms, func(tx *store.Store, id int64, c *store.Change) error {
		return tx.PrepareSpare(ctx, x.ID, id, bench.ID, site.ID, b.ID, b.SHA256, c.To)
	})
}

// taken refuses a second change for a unit while another one is not over; instead is the draft that is drafted anew.
func taken(by *int64, state *change.State, instead int64, serial, does string) error {
	if by == nil || state == nil || state.Over() || *by == instead {
		return nil
	}
	return conflict("change %d %s unit %s already; carry it out, or stop it first", *by, does, serial)
}

// newestBackup is the newest complete backup of a device with a configuration in it; nil: there is none.
func (s *Planner) newestBackup(ctx context.Context, d store.Device) (*store.Backup, error) {
	all, err := s.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 50})
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(b store.Backup) bool { return b.Complete && b.File != "" })
	if i < 0 {
		return nil, nil
	}
	return &all[i], nil
}

// ShipSpare records that a prepared unit travels.
func (s *Planner) ShipSpare(ctx context.Context, by access.Actor, serial, parcel string) error {
	if err := access.May(by, access.Draft); err != nil {
		return err
	}
	x, err := s.spareIn(ctx, serial, "shipped", spare.Prepared)
	if err != nil {
		return err
	}
	if len(parcel) > 400 {
		return invalid("the number of the parcel has up to 400 characters")
	}
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "spare shipped", Device: x.For, Detail: strings.TrimSpace(x.Serial + " " + parcel)}, tx.ShipSpare(ctx, x.ID, parcel)
	})
}

// SwapSpare drafts that a unit takes the place of the one that stands at its site. at is where it is found then, host:port; "": where the device is.
// instead is the draft that is drafted anew; 0: none.
func (s *Planner) SwapSpare(ctx context.Context, by access.Actor, serial, at string, t store.Terms, instead int64) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	t, err := s.Terms(ctx, t)
	if err != nil {
		return 0, err
	}
	x, err := s.spareIn(ctx, serial, "put in service", spare.Prepared, spare.Shipped)
	if err != nil {
		return 0, err
	}
	if err := taken(x.Swap, x.Swapped, instead, serial, "puts into service"); err != nil {
		return 0, err
	}
	if at != "" && !GoodAddress(at) {
		return 0, invalid("address %q should look like 192.0.2.7:22", at)
	}
	site, err := s.Device(ctx, x.For)
	if err != nil {
		return 0, err
	}
	if site.Ensemble != nil {
		return 0, conflict("%s is a member of %s; take it out of that first, so that the others do not wait for it", site.Name, *site.Ensemble)
	}
	c, old, err := s.swap(ctx, &x, site, at)
	if err != nil {
		return 0, err
	}
	c.WindowFrom, c.WindowTo, c.RestartFrom, c.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	var id int64
	return id, s.Store.Together(ctx, func(tx *store.Store) (err error) {
		if id, err = tx.AddChange(ctx, by, c); err != nil {
			return err
		}
		return tx.SwapSpare(ctx, x.ID, id, site.ID, old)
	})
}

// swap makes the record of such a change, and that of the unit that comes out of service.
func (s *Planner) swap(ctx context.Context, x *store.Spare, site store.Device, at string) (c store.Change, old store.Spare, err error) {
	profile := s.Engine.Profile(site)
	if profile == nil {
		return c, old, conflict("dialect %q of %s is not known here", site.Dialect, site.Name)
	}
	if x.BenchID == nil {
		return c, old, conflict("the record by which unit %s was reached on the bench is gone, so nobody can tell it from another one; prepare it again", x.Serial)
	}
	bench, err := s.Store.DeviceByID(ctx, *x.BenchID)
	if err != nil {
		return c, old, err
	}
	job, err := s.staying(ctx, profile.Abilities, x.Model, x.Version, "the unit was prepared on the bench", 1)
	if err != nil {
		return c, old, err
	}
	j := &change.SwapJob{Job: job, NewUnit: x.Serial}
	if p := PortraitOf(site); p != nil {
		j.OldUnit = p.Serial
		old = store.Spare{Serial: p.Serial, Model: p.Model, Version: p.Version, Licences: p.Licences}
	}
	labels, ports := s.cableLabels(ctx, site)
	for _, port := range ports {
		j.Cables = append(j.Cables, [2]string{port, labels[port]})
	}
	c = store.Change{Kind: change.Swapping, From: x.Version, To: x.Version, ExpectsHostKey: true}
	if c.Path, err = json.Marshal(job.Path); err != nil {
		return c, old, err
	}
	m := store.Member{DeviceID: site.ID}
	m.Planned = store.Planned{Model: x.Model, Serial: x.Serial, ComesBackAt: at, HostKey: bench.HostKey, Pins: bench.Pins, Bench: bench.ID}
	if m.Readings, m.Definitions, err = s.lastReadings(ctx, site); err != nil {
		return c, old, err
	}
	c.Members = []store.Member{m}
	w := &change.Wish{Format: change.WishFormat, Device: site.Name, ComesBackAt: at, Swap: &change.SwapWish{Serial: x.Serial}}
	b, err := s.newestBackup(ctx, site)
	if err != nil {
		return c, old, err
	}
	if b != nil {
		w.Swap.Backup = b.ID
	}
	c.Wish = w
	return withSteps(c, change.DraftSwap(j)), old, nil
}

// lastReadings are what was measured of a device last, with the definitions of now; both are empty objects where nothing was.
func (s *Planner) lastReadings(ctx context.Context, d store.Device) (values, definitions []byte, err error) {
	rs, err := s.Engine.ReadingsOf(ctx, d)
	if err != nil {
		return nil, nil, err
	}
	if definitions, err = json.Marshal(rs); err != nil {
		return nil, nil, err
	}
	sets, err := s.Store.ReadingSets(ctx, d.ID, 0, 1)
	if err != nil || len(sets) == 0 {
		return []byte(`{}`), definitions, err
	}
	return sets[0].Readings, definitions, nil
}

// ArriveSpare records that a unit that came out of service is back.
func (s *Planner) ArriveSpare(ctx context.Context, by access.Actor, serial, place string) error {
	if err := access.May(by, access.Draft); err != nil {
		return err
	}
	x, err := s.spareIn(ctx, serial, "taken back", spare.ComingBack)
	if err != nil {
		return err
	}
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "spare is back", Device: x.Was, Detail: x.Serial}, tx.ArriveSpare(ctx, x.ID, place)
	})
}

// RetireSpare takes a unit out of the stock for good.
func (s *Planner) RetireSpare(ctx context.Context, by access.Actor, serial, why string) error {
	if err := access.May(by, access.Approve); err != nil {
		return err
	}
	if len(strings.TrimSpace(why)) < 3 || len(why) > 400 {
		return invalid("say why it is retired, in up to 400 characters")
	}
	x, err := s.spareIn(ctx, serial, "retired", spare.InStock, spare.Prepared, spare.Shipped, spare.ComingBack, spare.Arrived)
	if err != nil {
		return err
	}
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "spare retired", Detail: x.Serial + ": " + why}, tx.RetireSpare(ctx, x.ID, why)
	})
}

// Covers says of each device which unit would stand in for it today. Devices by which units are reached on the bench need none.
func (s *Planner) Covers(ctx context.Context) ([]spare.Cover, error) {
	all, err := s.Store.Spares(ctx, false)
	if err != nil {
		return nil, err
	}
	bench := map[int64]bool{}
	var units []spare.Unit
	for i := range all {
		if all[i].BenchID != nil {
			bench[*all[i].BenchID] = true
		}
		units = append(units, all[i].Unit())
	}
	var needs []spare.Need
	for d, err := range s.Store.AllDevices(ctx) {
		if err != nil {
			return nil, err
		}
		if bench[d.ID] {
			continue
		}
		n := spare.Need{Device: d.Name, Site: d.Site}
		if p := PortraitOf(d); p != nil {
			n.Model, n.Licences = p.Model, p.Licences
		}
		for _, u := range all {
			if u.ForID == nil || *u.ForID != d.ID {
				continue
			}
			if n.Config, err = s.configNow(ctx, d, u.Holds, u.Backup); err != nil {
				return nil, err
			}
		}
		needs = append(needs, n)
	}
	return spare.Of(needs, units), nil
}

// configNow is the digest of the newest saved configuration of a device. It is holds, that of what a unit or a medium holds from a backup, where the two say the same but for lines that differ at
// every look.
func (s *Planner) configNow(ctx context.Context, d store.Device, holds string, from *int64) (string, error) {
	b, err := s.newestBackup(ctx, d)
	if b == nil || err != nil || b.SHA256 == holds || from == nil {
		if b == nil {
			return "", err
		}
		return b.SHA256, err
	}
	held, err := s.Store.Backup(ctx, *from)
	if err != nil {
		return b.SHA256, nil // it is gone: what cannot be compared counts as changed
	}
	was, bad := s.Engine.Main(held)
	is, worse := s.Engine.Main(*b)
	profile := s.Engine.Profile(d)
	if bad != nil || worse != nil || profile == nil {
		return b.SHA256, nil
	}
	if part := profile.File(b.File); part.Steady(was) == part.Steady(is) {
		return holds, nil
	}
	return b.SHA256, nil
}

// Stale reports whether the configuration of the device that a unit is prepared for was changed since.
func (s *Planner) Stale(ctx context.Context, x *store.Spare) (bool, error) {
	if x.ForID == nil {
		return true, nil
	}
	d, err := s.Store.DeviceByID(ctx, *x.ForID)
	if err != nil {
		return false, err
	}
	now, err := s.configNow(ctx, d, x.Holds, x.Backup)
	return now != x.Holds, err
}

// A Packing is what travels with a unit.
type Packing struct {
	Site, Device, Serial, Model, Version, Parcel string
	Back                                         string      // serial of the unit that comes back; "": not known
	Facts                                        [][2]string // name and text
	Cables                                       [][2]string // port and label
	Tasks                                        []string
}

// Packing says what somebody does with a prepared unit at its site, who need not know anything of networks.
func (s *Planner) Packing(ctx context.Context, serial string) (*Packing, error) {
	x, err := s.spareIn(ctx, serial, "packed", spare.Prepared, spare.Shipped)
	if err != nil {
		return nil, err
	}
	d, err := s.Device(ctx, x.For)
	if err != nil {
		return nil, err
	}
	out := &Packing{Site: d.Site, Device: d.Name, Serial: x.Serial, Model: x.Model, Version: x.Version, Parcel: x.Parcel}
	if p := PortraitOf(d); p != nil && p.Serial != x.Serial {
		out.Back = p.Serial
	}
	out.Facts = append(out.Facts, [2]string{"Unit", x.Model + ", serial " + x.Serial}, [2]string{"Release", x.Version})
	if x.Backup != nil && x.PreparedAt != nil {
		when := x.PreparedAt.In(s.Engine.Zone).Format(ready.Stamp)
		out.Facts = append(out.Facts, [2]string{"Configuration", fmt.Sprintf("backup %d of %s, tested on the bench %s", *x.Backup, d.Name, when)})
	}
	labels, ports := s.cableLabels(ctx, d)
	for _, p := range ports {
		out.Cables = append(out.Cables, [2]string{p, labels[p]})
	}
	old := "the unit that stands there"
	if out.Back != "" {
		old = "the unit with the serial " + out.Back
	}
	out.Tasks = []string{
		"Call the operations room before you begin. They wait for this unit",
		"See that the serial on the unit is " + x.Serial,
		"Switch off " + old + ". Pull its cables; leave the label on each",
		"Put the new unit in its place. Put each cable into the port of the same name",
		"Switch the new unit on, and wait ten minutes. Do not switch it off meanwhile",
		"Tell the operations room that it is on, and wait until they say that it works",
		"Only then pack " + old + " into this box and send it back. It still holds passwords: send it as valuable",
	}
	return out, nil
}
