package server

import (
	"context"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"verimorph/api/gen"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/planning"
	"verimorph/store"
)

// What people enter about a device: the device itself, and its settings.

// AddDevice adds a device; its passwords are sealed before they are stored.
func (s *Server) AddDevice(ctx context.Context, r gen.AddDeviceRequestObject) (gen.AddDeviceResponseObject, error) {
	b := r.Body
	switch host, port, err := net.SplitHostPort(b.Address); {
	case !planning.GoodName(b.Name):
		return nil, badRequest("name %q: use up to 63 letters, digits, dots, dashes and underscores", b.Name)
	case err != nil || host == "" || !planning.GoodPort(port):
		return nil, badRequest("address %q should look like 192.0.2.7:22", b.Address)
	case s.Engine.Driver(b.Dialect) == nil:
		return nil, badRequest("dialect %q is not known; known: %s", b.Dialect, strings.Join(s.Engine.DriverNames(), ", "))
	case b.User == "" || b.Password == "":
		return nil, badRequest("user and password are needed")
	}
	hostKey, err := parseHostKey(value(b.HostKey))
	if err != nil {
		return nil, err
	}
	d := store.Device{Name: b.Name, Site: value(b.Site), Address: b.Address, Dialect: b.Dialect, HostKey: hostKey, Settings: store.Settings{Transfer: string(gen.Sftp)}}
	entered := gen.DeviceSettings{Groups: b.Groups, Web: b.Web, Transfer: b.Transfer, Reach: b.Reach, Services: b.Services, Probes: b.Probes}
	if _, err := s.enter(ctx, &d, &entered); err != nil {
		return nil, err
	}
	privileged := value(b.PrivilegedPassword)
	cs := engine.PasswordCredentials(b.User, privileged != "", actor(ctx))
	if token := value(b.Token); token != "" {
		cs = append(cs, store.Credential{Kind: engine.KindToken, CreatedBy: user(ctx)})
	}
	_, err = s.once(ctx, r.Params.IdempotencyKey, b, func() (string, error) {
		seal := s.sealer(b.Password, privileged)
		err := s.audited(ctx, "device added", b.Name, b.Address+", "+b.Dialect, func(tx *store.Store) error {
			return tx.AddDevice(ctx, d, cs, func(c *store.Credential, id int64) ([]byte, error) {
				if c.Kind == engine.KindToken {
					return engine.SealCredential(s.Vault, id, engine.Secret{Token: *b.Token})
				}
				return seal(c, id)
			})
		})
		if _, taken := store.Conflict(err); taken {
			return "", conflict("there is a device %q already", b.Name)
		}
		return b.Name, err
	})
	if err != nil {
		return nil, err
	}
	if d, err = s.Planner.Device(ctx, b.Name); err != nil {
		return nil, err
	}
	out, err := s.apiDevice(d)
	return gen.AddDevice201JSONResponse(out), err
}

// SetDevice changes what people have entered about a device.
func (s *Server) SetDevice(ctx context.Context, r gen.SetDeviceRequestObject) (gen.SetDeviceResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	changed, err := s.enter(ctx, &d, r.Body)
	if err != nil {
		return nil, err
	}
	if err := s.audited(ctx, "device changed", d.Name, strings.Join(changed, ", "), func(tx *store.Store) error {
		return tx.EnterDevice(ctx, d, changed)
	}); err != nil {
		return nil, err
	}
	if d, err = s.Planner.Device(ctx, r.Name); err != nil {
		return nil, err
	}
	out, err := s.apiDevice(d)
	return gen.SetDevice200JSONResponse(out), err
}

// showSettings adds the settings of a device to what is told of it.
func showSettings(out *gen.Device, v store.Settings) {
	if v.Web != "" {
		out.Web = &v.Web
	}
	out.Transfer, out.Reach = gen.Transfer(v.Transfer), apiReach(v.Reach)
	if len(v.Services) > 0 {
		out.Services = &v.Services
	}
	if len(v.Probes) > 0 {
		out.Probes = &v.Probes
	}
}

// enter checks what is entered about a device, puts it into d and names it.
func (s *Server) enter(ctx context.Context, d *store.Device, b *gen.DeviceSettings) (changed []string, err error) {
	if b.Groups != nil {
		d.Groups, changed, err = *b.Groups, append(changed, "groups"), checkGroups(*b.Groups)
	}
	if b.Web != nil && err == nil {
		d.Settings.Web, changed, err = *b.Web, append(changed, "web"), checkWeb(*b.Web)
	}
	if b.Transfer != nil && err == nil {
		if !b.Transfer.Valid() {
			err = badRequest("transfer %q is not known; known: sftp, http, https, ftp, tftp, pull-sftp", *b.Transfer)
		}
		d.Settings.Transfer, changed = string(*b.Transfer), append(changed, "transfer")
	}
	if b.Reach != nil && err == nil {
		d.Settings.Reach, err = s.checkReach(ctx, d.Name, b.Reach)
		changed = append(changed, "reach")
	}
	if b.Services != nil && err == nil {
		d.Settings.Services, changed, err = *b.Services, append(changed, "services"), checkServices(*b.Services)
	}
	if b.Probes != nil && err == nil {
		d.Settings.Probes, changed = *b.Probes, append(changed, "probes")
		for _, target := range *b.Probes {
			if wrong := engine.CheckProbe(target); wrong != nil {
				err = badRequest("probe %q: %s", target, wrong)
			}
		}
	}
	return changed, err
}

// checkServices finds what is wrong with where management protocols are offered.
func checkServices(services map[string]string) error {
	for protocol, at := range services {
		host, port, err := net.SplitHostPort(at)
		switch {
		case !slices.Contains(device.Protocols, protocol):
			return badRequest("protocol %q is not known; known: %s", protocol, strings.Join(device.Protocols, ", "))
		case err != nil || host == "" || !planning.GoodPort(port):
			return badRequest("%s: %q should look like 192.0.2.7:9339", protocol, at)
		}
	}
	return nil
}

var groupName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,62}$`)

func checkGroups(groups []string) error {
	if len(groups) > 20 {
		return badRequest("a device is in at most 20 groups")
	}
	for _, g := range groups {
		if !groupName.MatchString(g) {
			return badRequest("group %q: use up to 63 letters, digits, blanks, dots, dashes and underscores", g)
		}
	}
	return nil
}

func checkWeb(web string) error {
	if web == "" {
		return nil
	}
	if u, err := url.Parse(web); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return badRequest("web %q should look like https://192.0.2.7:8443, without a password", web)
	}
	return nil
}

// checkReach says what is wrong with how a device is to be reached.
func (s *Server) checkReach(ctx context.Context, name string, r *gen.Reach) (store.Reach, error) {
	out := store.Reach{Console: value(r.Console), Only: value(r.Only), Via: value(r.Via), Enter: value(r.Enter)}
	if out.Console != "" {
		if host, port, err := net.SplitHostPort(out.Console); err != nil || host == "" || !planning.GoodPort(port) {
			return out, badRequest("console %q should look like 192.0.2.7:7001", out.Console)
		}
	}
	switch {
	case out.Only && out.Console == "":
		return out, badRequest("a device that is reached over its console line only needs the address of that line")
	case out.Enter != "" && out.Via == "":
		return out, badRequest("enter is a command on the device that via names")
	case out.Via == name:
		return out, badRequest("a device cannot be reached through itself")
	case strings.ContainsAny(out.Enter, "\r\n\x00"):
		return out, badRequest("enter is one command on one line")
	}
	for next, hops := out.Via, 0; next != ""; hops++ {
		d, err := s.Planner.Device(ctx, next)
		if err != nil {
			return out, err
		}
		if d.Name == name || hops > 4 {
			return out, badRequest("going through %s leads round in a circle, or through more than 5 devices", out.Via)
		}
		next = d.Settings.Reach.Via
	}
	return out, nil
}

func apiReach(r store.Reach) *gen.Reach {
	if r == (store.Reach{}) {
		return nil
	}
	return &gen.Reach{Console: &r.Console, Only: &r.Only, Via: &r.Via, Enter: &r.Enter}
}
