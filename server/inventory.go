package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"verimorph/api/gen"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

func (s *Server) device(ctx context.Context, name string) (store.Device, error) {
	d, err := s.Store.Device(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return d, notFound("there is no device %q; the fleet is listed by: verimorph device list", name)
	}
	return d, err
}

func apiDevice(d store.Device) (gen.Device, error) {
	out := gen.Device{Name: d.Name, Site: d.Site, Address: d.Address, Dialect: d.Dialect, Transfer: gen.Transfer(d.Transfer), OpenChange: d.OpenChange, Groups: d.Groups, Reach: apiReach(d.Reach)}
	if d.Web != "" {
		out.Web = &d.Web
	}
	if d.RefusedTries > 0 {
		out.RefusedTries = &d.RefusedTries
	}
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(d.HostKey)); err == nil {
		out.HostKey = ptr(ssh.FingerprintSHA256(key))
	}
	out.LookedAt, out.LookError = d.LookedAt, d.LookError
	if d.Portrait == nil {
		out.Standing = standing(d, nil)
		return out, nil
	}
	var p device.Portrait
	if err := json.Unmarshal(d.Portrait, &p); err != nil {
		return out, err
	}
	out.Portrait = &gen.Portrait{Maker: p.Maker, Model: p.Model, Serial: p.Serial, Version: p.Version,
		ServicesReady: p.ServicesReady.Bool(), Unsaved: p.Unsaved.Bool(), TakenAt: value(d.PortraitAt), Slots: []gen.Slot{}}
	if p.Total > 0 {
		out.Portrait.StorageTotal, out.Portrait.StorageFree = &p.Total, &p.Free
	}
	for _, table := range slices.Sorted(maps.Keys(p.NotUnderstood)) {
		add(&out.Portrait.NotUnderstood, table+": "+p.NotUnderstood[table])
	}
	out.Standing = standing(d, &p)
	for _, sl := range p.Slots {
		slot := gen.Slot{Name: sl.Name, Version: sl.Version, State: sl.State, Running: sl.Running, Next: sl.Next == portrait.Yes, Good: sl.Good.Bool()}
		if sl.Broken() {
			slot.Broken = ptr(true)
		}
		out.Portrait.Slots = append(out.Portrait.Slots, slot)
	}
	inside(out.Portrait, &p)
	return out, nil
}

// standing says how a device stands, with its age and who knows it: the change that works on it, or whoever looked last. A look that failed
// is told, and what was seen before it is not shown as if it were now.
func standing(d store.Device, p *device.Portrait) *gen.DeviceStanding {
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
		return &gen.DeviceStanding{State: gen.DeviceStandingStateInChange, Text: text, Source: gen.DeviceStandingSourceChange, At: &at, Change: &o.ID}
	}
	if d.LookError != nil {
		return &gen.DeviceStanding{State: gen.DeviceStandingStateNoAnswer, Text: "the last look failed: " + *d.LookError, Source: gen.DeviceStandingSourceLook, At: d.LookedAt}
	}
	if p == nil {
		return &gen.DeviceStanding{State: gen.DeviceStandingStateUnknown, Text: "nobody has looked at it yet", Source: gen.DeviceStandingSourceNone}
	}
	out := &gen.DeviceStanding{State: gen.DeviceStandingStateUnknown, Text: "it does not say whether its services are ready", Source: gen.DeviceStandingSourceLook, At: d.PortraitAt}
	switch p.ServicesReady {
	case portrait.Yes:
		out.State, out.Text = gen.DeviceStandingStateReady, "its services are ready"
	case portrait.No:
		out.State, out.Text = gen.DeviceStandingStateStarting, "its services are starting"
	}
	return out
}

// inside adds what a device has in it, as far as it says.
func inside(out *gen.Portrait, p *device.Portrait) {
	for _, st := range p.Stores {
		add(&out.Stores, gen.Room{Name: st.Name, Total: st.Total, Free: st.Free})
	}
	for _, name := range slices.Sorted(maps.Keys(p.Components)) {
		add(&out.Components, gen.InsideVersion{Name: name, Version: p.Components[name]})
	}
	for _, part := range p.Parts {
		add(&out.Parts, gen.InsidePart{Name: part.Name, State: part.State, Good: part.Good.Bool()})
	}
	for _, name := range slices.Sorted(maps.Keys(p.Variables)) {
		add(&out.Variables, gen.BootVariable{Name: name, Value: p.Variables[name]})
	}
	if p.Licences != nil {
		out.Licences = &p.Licences
	}
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
	ds, err := s.Store.Devices(ctx, value(r.Params.Cursor), limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(ds, limit, func(d store.Device) any { return d.Name }, apiDevice)
	return gen.ListDevices200JSONResponse{Items: items, Next: next}, err
}

var deviceName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// AddDevice adds a device; its passwords are sealed before they are stored.
func (s *Server) AddDevice(ctx context.Context, r gen.AddDeviceRequestObject) (gen.AddDeviceResponseObject, error) {
	b := r.Body
	switch host, port, err := net.SplitHostPort(b.Address); {
	case !deviceName.MatchString(b.Name):
		return nil, badRequest("name %q: use up to 63 letters, digits, dots, dashes and underscores", b.Name)
	case err != nil || host == "" || !goodPort(port):
		return nil, badRequest("address %q should look like 192.0.2.7:22", b.Address)
	case s.Engine.Dialects[b.Dialect] == nil:
		return nil, badRequest("dialect %q is not known; known: %s", b.Dialect, strings.Join(dialectNames(s.Engine.Dialects), ", "))
	case b.User == "" || b.Password == "":
		return nil, badRequest("user and password are needed")
	}
	transfer := gen.Sftp
	if b.Transfer != nil {
		transfer = *b.Transfer
	}
	if !transfer.Valid() {
		return nil, badRequest("transfer %q is not known; known: sftp, http, ftp, tftp, pull-sftp", transfer)
	}
	hostKey, err := parseHostKey(value(b.HostKey))
	if err == nil {
		err = errors.Join(checkGroups(value(b.Groups)), checkWeb(value(b.Web)))
	}
	if err != nil {
		return nil, err
	}
	reach, err := s.checkReach(ctx, b.Name, b.Dialect, b.Reach)
	if err != nil {
		return nil, err
	}
	privileged := value(b.PrivilegedPassword)
	cs := engine.PasswordCredentials(b.User, privileged != "", user(ctx))
	if token := value(b.Token); token != "" {
		cs = append(cs, store.Credential{Kind: engine.KindToken, CreatedBy: user(ctx)})
	}
	_, err = s.once(ctx, r.Params.IdempotencyKey, b, func() (string, error) {
		seal := s.sealer(b.Password, privileged)
		err := s.Store.AddDevice(ctx, store.Device{Name: b.Name, Site: value(b.Site), Address: b.Address, Dialect: b.Dialect, Groups: value(b.Groups), Web: value(b.Web), HostKey: hostKey, Transfer: string(transfer), Reach: reach}, cs,
			func(c *store.Credential, id int64) ([]byte, error) {
				if c.Kind == engine.KindToken {
					return engine.SealCredential(s.Vault, id, engine.Secret{Token: *b.Token})
				}
				return seal(c, id)
			})
		if _, taken := store.Conflict(err); taken {
			return "", conflict("there is a device %q already", b.Name)
		}
		return b.Name, err
	})
	if err != nil {
		return nil, err
	}
	d, err := s.device(ctx, b.Name)
	if err != nil {
		return nil, err
	}
	out, err := apiDevice(d)
	return gen.AddDevice201JSONResponse(out), err
}

func goodPort(s string) bool {
	n, err := strconv.Atoi(s)
	return err == nil && n > 0 && n < 65536
}

func dialectNames(ds map[string]*device.Dialect) (names []string) {
	for n := range ds {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// GetDevice answers with one device.
func (s *Server) GetDevice(ctx context.Context, r gen.GetDeviceRequestObject) (gen.GetDeviceResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out, err := apiDevice(d)
	return gen.GetDevice200JSONResponse(out), err
}

// RefreshDevice takes a new portrait.
func (s *Server) RefreshDevice(ctx context.Context, r gen.RefreshDeviceRequestObject) (gen.RefreshDeviceResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if _, err := s.Engine.Refresh(ctx, d, user(ctx)); err != nil {
		return nil, err
	}
	if d, err = s.device(ctx, r.Name); err != nil {
		return nil, err
	}
	out, err := apiDevice(d)
	return gen.RefreshDevice200JSONResponse(out), err
}

// ForgetHostKey drops the pinned host key.
func (s *Server) ForgetHostKey(ctx context.Context, r gen.ForgetHostKeyRequestObject) (gen.ForgetHostKeyResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	return gen.ForgetHostKey204Response{}, s.Store.ForgetHostKey(ctx, d.ID)
}

// ListReleases answers with the releases of a device's family, newest first.
func (s *Server) ListReleases(ctx context.Context, r gen.ListReleasesRequestObject) (gen.ListReleasesResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := gen.ListReleases200JSONResponse{Items: []gen.Release{}}
	var p device.Portrait
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
	return out, err
}
