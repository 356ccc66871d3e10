package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// imagesBy is how images get onto a device; nil where its dialect is not known.
func (s *Server) imagesBy(d store.Device) *string {
	p := s.Engine.Profile(d)
	if p == nil {
		return nil
	}
	by, fetched := strings.CutPrefix(d.Settings.Transfer, "pull-")
	fetched = p.Fetches && (fetched || by != "sftp")
	switch {
	case p.Medium != "":
		return ptr("a medium that a person puts in")
	case fetched:
		return ptr(strings.ToUpper(by) + ", fetched by the device")
	case p.Pushes == device.ByGNOI:
		return ptr("gNOI (os.Install)")
	case p.Pushes != "":
		return ptr(strings.ToUpper(p.Pushes))
	}
	return ptr("SFTP")
}

func (s *Server) apiDevice(d store.Device) (gen.Device, error) {
	out := gen.Device{Name: d.Name, Site: d.Site, Address: d.Address, Dialect: d.Dialect, OpenChange: d.OpenChange(), Groups: d.Groups, Ensemble: d.Ensemble}
	showSettings(&out, d.Settings)
	out.ImagesBy = s.imagesBy(d)
	if d.RefusedTries > 0 {
		out.RefusedTries = &d.RefusedTries
	}
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(d.HostKey)); err == nil {
		out.HostKey = ptr(ssh.FingerprintSHA256(key))
	}
	if len(d.Pins) > 0 {
		out.Pins = &d.Pins
	}
	out.LookedAt, out.LookError = d.LookedAt, d.LookError
	if d.Portrait == nil {
		out.Standing = standing(d, nil)
		return out, nil
	}
	var p portrait.Portrait
	if err := json.Unmarshal(d.Portrait, &p); err != nil {
		return out, err
	}
	out.Portrait = &gen.Portrait{Maker: p.Maker, Model: p.Model, Serial: p.Serial, Version: p.Version,
		ServicesReady: p.ServicesReady.Bool(), Unsaved: p.Unsaved.Bool(), TakenAt: value(d.PortraitAt), Slots: []gen.Slot{}}
	if _, room, _ := p.ImageRoom(); room.Total > 0 {
		out.Portrait.StorageTotal, out.Portrait.StorageFree = &room.Total, &room.Free
	}
	for _, table := range slices.Sorted(maps.Keys(p.NotUnderstood)) {
		add(&out.Portrait.NotUnderstood, table+": "+p.NotUnderstood[table])
	}
	out.Standing = standing(d, &p)
	out.Follows = optional(p.Follows)
	if profile := s.Engine.Profile(d); profile != nil && profile.Abilities.Follow && p.Follows == "" {
		out.CanFollow = ptr(true)
	}
	for _, sl := range p.Slots {
		slot := gen.Slot{Name: sl.Name, Version: sl.Version, State: sl.State, Running: sl.Running, Next: sl.Next == portrait.Yes, Good: sl.Good.Bool()}
		if sl.Broken() {
			slot.Broken = ptr(true)
		}
		slot.Second, slot.Description, slot.Written = sl.Second.Bool(), optional(sl.Description), optional(sl.Written)
		if sl.Size > 0 {
			slot.Size = &sl.Size
		}
		out.Portrait.Slots = append(out.Portrait.Slots, slot)
	}
	inside(out.Portrait, &p)
	return out, nil
}

// standing says how a device stands, with its age and who knows it: the change that works on it, or whoever looked last. A look that failed
// is told, and what was seen before it is not shown as if it were now.
func standing(d store.Device, p *portrait.Portrait) *gen.DeviceStanding {
	if o := d.Open; o != nil {
		text := fmt.Sprintf("change %d %s", o.ID, o.State)
		at := o.Since
		if o.Step != "" && (o.State == "running" || o.State == "holding") {
			text = fmt.Sprintf("change %d: %s", o.ID, o.Step)
			if o.Note != "" {
				text += ", " + o.Note
			}
			if o.Began != nil {
				at = *o.Began
			}
		}
		switch {
		case o.State == "held" && o.PausedBy != nil:
			text = fmt.Sprintf("change %d is paused by %s", o.ID, *o.PausedBy)
		case o.State == "asking":
			text = fmt.Sprintf("change %d asks", o.ID)
		case o.State == "scheduled":
			text = fmt.Sprintf("change %d is scheduled", o.ID)
		}
		return &gen.DeviceStanding{State: gen.StandingInChange, Text: text, Source: gen.DeviceStandingSourceChange, At: &at, Change: &o.ID}
	}
	if d.LookError != nil {
		return &gen.DeviceStanding{State: gen.StandingNoAnswer, Text: "the last look failed: " + *d.LookError, Source: gen.DeviceStandingSourceLook, At: d.LookedAt}
	}
	if p == nil {
		return &gen.DeviceStanding{State: gen.StandingUnknown, Text: "nobody has looked at it yet", Source: gen.DeviceStandingSourceNone}
	}
	out := &gen.DeviceStanding{State: gen.StandingUnknown, Text: "it does not say whether its services are ready", Source: gen.DeviceStandingSourceLook, At: d.PortraitAt}
	switch p.ServicesReady {
	case portrait.Yes:
		out.State, out.Text = gen.StandingReady, "its services are ready"
	case portrait.No:
		out.State, out.Text = gen.StandingStarting, "its services are starting"
	}
	return out
}

// inside adds what a device has in it, as far as it says.
func inside(out *gen.Portrait, p *portrait.Portrait) {
	for _, name := range slices.Sorted(maps.Keys(p.Storage)) {
		if room := p.Storage[name]; room.NoImages {
			add(&out.Stores, gen.Room{Name: name, Total: room.Total, Free: room.Free})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Components)) {
		add(&out.Components, gen.InsideVersion{Name: name, Version: p.Components[name]})
	}
	for _, part := range p.Modules {
		add(&out.Parts, gen.InsidePart{Name: part.Name, State: part.State, Good: part.Good.Bool()})
	}
	for _, name := range slices.Sorted(maps.Keys(p.BootVariables)) {
		add(&out.Variables, gen.BootVariable{Name: name, Value: p.BootVariables[name]})
	}
	if p.Licences != nil {
		out.Licences = &p.Licences
	}
	units(out, p)
	for _, l := range p.Told() {
		add(&out.Facts, gen.DeviceFact{Name: l.Name, Text: l.Text})
	}
}

// units adds the units of a device, and counts those that follow it.
func units(out *gen.Portrait, p *portrait.Portrait) {
	for i := range p.Units {
		u := &p.Units[i]
		unit := gen.Unit{Name: u.Name, Role: optional(u.Role), Model: optional(u.Model), Serial: optional(u.Serial), Version: optional(u.Version), State: optional(u.State),
			Good: u.Good.Bool(), Hot: u.Hot.Bool()}
		if u.Holds != nil {
			unit.Holds = &u.Holds
		}
		if u.Room != nil {
			unit.Total, unit.Free = &u.Room.Total, &u.Room.Free
		}
		for _, name := range slices.Sorted(maps.Keys(u.Components)) {
			add(&unit.Components, gen.InsideVersion{Name: name, Version: u.Components[name]})
		}
		for _, f := range u.Files {
			add(&unit.Files, f.Name)
		}
		add(&out.Units, unit)
	}
	if len(p.Children) == 0 {
		return
	}
	n, well := len(p.Children), 0
	for i := range p.Children {
		c := &p.Children[i]
		if c.Good == portrait.Yes {
			well++
		}
		child := gen.Child{Name: c.Name, Model: c.Model, Serial: optional(c.Serial), Version: optional(c.Version), Next: optional(c.Next), Place: optional(c.Place), Group: optional(c.Group), State: optional(c.State),
			Good: c.Good.Bool()}
		if c.Waiting == portrait.Yes {
			child.Waiting = c.Waiting.Bool()
		}
		add(&out.Children, child)
	}
	out.ChildCount, out.ChildrenWell = &n, &well
}

// listedDevice is a device as lists show it: without those that follow it.
func (s *Server) listedDevice(d store.Device) (gen.Device, error) {
	out, err := s.apiDevice(d)
	if out.Portrait != nil {
		out.Portrait.Children = nil
	}
	return out, err
}

// add appends to a list that is left out while it is empty.
func add[T any](list **[]T, x T) {
	if *list == nil {
		*list = &[]T{}
	}
	**list = append(**list, x)
}

// ListDevices answers with a page of the fleet.
func (s *Server) ListDevices(ctx context.Context, r gen.ListDevicesRequestObject) (gen.ListDevicesResponseObject, error) {
	limit, _, err := page(r.Params.Limit, nil)
	if err != nil {
		return nil, err
	}
	l := store.DeviceList{Find: value(r.Params.Find), Standing: string(value(r.Params.Standing)), Model: value(r.Params.Model), Version: value(r.Params.Version),
		Sort: string(value(r.Params.Sort)), Descending: value(r.Params.Descending), Limit: limit}
	if r.Params.Sort != nil && !r.Params.Sort.Valid() || r.Params.Standing != nil && !r.Params.Standing.Valid() {
		return nil, badRequest("sort and standing are among those that the contract lists")
	}
	if err := readCursor(r.Params.Cursor, &l.After); err != nil {
		return nil, err
	}
	out := gen.ListDevices200JSONResponse{}
	if l.After.Name == "" {
		n, err := s.Store.CountDevices(ctx, l)
		if err != nil {
			return nil, err
		}
		out.Total = &n
	}
	ds, next, err := s.Store.Devices(ctx, l)
	if err != nil {
		return nil, err
	}
	if out.Items, _, err = listed(ds, limit, func(d store.Device) any { return d.Name }, s.listedDevice); next.Name != "" {
		out.Next = cursorOf(next)
	}
	return out, err
}

// GetDevice answers with one device.
func (s *Server) GetDevice(ctx context.Context, r gen.GetDeviceRequestObject) (gen.GetDeviceResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out, err := s.apiDevice(d)
	if err != nil {
		return nil, err
	}
	out.Replacements, err = s.replacementsOf(ctx, d.Name)
	return gen.GetDevice200JSONResponse(out), err
}

// RefreshDevice has a worker take a new portrait.
func (s *Server) RefreshDevice(ctx context.Context, r gen.RefreshDeviceRequestObject) (gen.RefreshDeviceResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	asked, err := s.Engine.AskRefresh(ctx, d, actor(ctx))
	return gen.RefreshDevice202JSONResponse(apiRefresh(&asked)), err
}

// GetRefresh tells how far the newest refresh of a device is.
func (s *Server) GetRefresh(ctx context.Context, r gen.GetRefreshRequestObject) (gen.GetRefreshResponseObject, error) {
	if _, err := s.Planner.Device(ctx, r.Name); err != nil {
		return nil, err
	}
	last, err := s.Store.LastRefresh(ctx, r.Name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("device %s was never refreshed", r.Name)
	}
	return gen.GetRefresh200JSONResponse(apiRefresh(&last)), err
}

func apiRefresh(r *store.Refresh) gen.Refresh {
	out := gen.Refresh{Id: r.ID, Device: r.Device, State: gen.RefreshState(r.State), AskedBy: r.AskedBy, AskedAt: r.AskedAt, StartedAt: r.StartedAt, EndedAt: r.EndedAt,
		Fraction: float32(r.Fraction)}
	if r.Doing != "" {
		out.Doing = &r.Doing
	}
	if r.Usual != nil {
		out.UsualSeconds = ptr(float32(*r.Usual))
	}
	switch {
	case r.ByDevice:
		out.Problem = (*gen.Problem)(newProblem(http.StatusBadGateway, "device", "The device could not be asked", "%s", r.Problem))
	case r.Problem != "":
		out.Problem = (*gen.Problem)(conflict("%s", r.Problem))
	}
	return out
}

// ForgetHostKey drops the pinned host key.
func (s *Server) ForgetHostKey(ctx context.Context, r gen.ForgetHostKeyRequestObject) (gen.ForgetHostKeyResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	return gen.ForgetHostKey204Response{}, s.audited(ctx, "host key forgotten", d.Name, "", func(tx *store.Store) error { return tx.ForgetHostKey(ctx, d.ID) })
}

// ListReleases answers with the releases of a device's family, newest first.
func (s *Server) ListReleases(ctx context.Context, r gen.ListReleasesRequestObject) (gen.ListReleasesResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := gen.ListReleases200JSONResponse{Items: []gen.Release{}}
	var p portrait.Portrait
	if d.Portrait == nil {
		return out, nil
	}
	if err := json.Unmarshal(d.Portrait, &p); err != nil {
		return nil, err
	}
	items, err := s.releases(ctx, p.Model, p.Version)
	var unknown *path.UnknownError
	if errors.As(err, &unknown) { // the catalogue knows nothing about the device
		return out, nil
	}
	out.Items = items
	if err != nil {
		return out, err
	}
	return out, s.Planner.Ask(ctx, func(c *catalog.Catalogue, _ *path.Planner) error {
		for _, r := range c.FamilyOfModel(p.Model).Rules {
			if r.Kind == catalog.KindPlatformChange && r.InPlace && r.FromModel == p.Model {
				out.GoesOnAs = ptr(append(value(out.GoesOnAs), r.ToModel))
			}
		}
		return nil
	})
}
