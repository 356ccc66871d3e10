package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/config"
	"verimorph/core/path"
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
	out := gen.Device{Name: d.Name, Site: d.Site, Address: d.Address, Dialect: d.Dialect, Transfer: gen.Transfer(d.Transfer), OpenChange: d.OpenChange}
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(d.HostKey)); err == nil {
		out.HostKey = ptr(ssh.FingerprintSHA256(key))
	}
	if d.Portrait == nil {
		return out, nil
	}
	var p device.Portrait
	if err := json.Unmarshal(d.Portrait, &p); err != nil {
		return out, err
	}
	out.Portrait = &gen.Portrait{Maker: p.Maker, Model: p.Model, Serial: p.Serial, Version: p.Version, StorageTotal: p.Total, StorageFree: p.Free,
		ServicesReady: p.ServicesReady, Unsaved: p.Unsaved, TakenAt: value(d.PortraitAt), Slots: []gen.Slot{}}
	for _, sl := range p.Slots {
		out.Portrait.Slots = append(out.Portrait.Slots, gen.Slot{Name: sl.Name, Version: sl.Version, State: sl.State, Running: sl.Running, Next: sl.Next})
	}
	return out, nil
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
	out := gen.ListDevices200JSONResponse{Items: []gen.Device{}}
	for i, d := range ds {
		if i == limit {
			out.Next = &ds[limit-1].Name
			break
		}
		ad, err := apiDevice(d)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, ad)
	}
	return out, nil
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
		return nil, badRequest("transfer %q is not known; known: sftp, http", transfer)
	}
	hostKey := strings.TrimSpace(value(b.HostKey))
	if hostKey != "" {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(hostKey))
		if err != nil {
			return nil, badRequest("hostKey is not a public key in authorized-keys form")
		}
		hostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	}
	_, err := s.once(ctx, r.Params.IdempotencyKey, b, func() (string, error) {
		password, privileged, err := s.seal(b.Name, b.Password, value(b.PrivilegedPassword))
		if err != nil {
			return "", err
		}
		err = s.Store.AddDevice(ctx, store.Device{Name: b.Name, Site: value(b.Site), Address: b.Address, Dialect: b.Dialect, Username: b.User,
			Password: password, Privileged: privileged, HostKey: hostKey, Transfer: string(transfer)})
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

func (s *Server) seal(name, password, privileged string) (p, q []byte, err error) {
	if p, err = s.Vault.Seal(engine.PasswordLabel(name), []byte(password)); err != nil {
		return nil, nil, err
	}
	q, err = s.Vault.Seal(engine.PrivilegedLabel(name), []byte(privileged))
	return p, q, err
}

// SetCredentials replaces a device's user and passwords.
func (s *Server) SetCredentials(ctx context.Context, r gen.SetCredentialsRequestObject) (gen.SetCredentialsResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if r.Body.User == "" || r.Body.Password == "" {
		return nil, badRequest("user and password are needed")
	}
	p, q, err := s.seal(d.Name, r.Body.Password, value(r.Body.PrivilegedPassword))
	if err != nil {
		return nil, err
	}
	return gen.SetCredentials204Response{}, s.Store.SetCredentials(ctx, d.ID, r.Body.User, p, q)
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
	if _, err := s.Engine.Refresh(ctx, d); err != nil {
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

// ListBackups answers with a page of backups.
func (s *Server) ListBackups(ctx context.Context, r gen.ListBackupsRequestObject) (gen.ListBackupsResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	bs, err := s.Store.Backups(ctx, value(r.Params.Device), before, limit+1)
	if err != nil {
		return nil, err
	}
	out := gen.ListBackups200JSONResponse{Items: []gen.Backup{}}
	for i, b := range bs {
		if i == limit {
			out.Next = ptr(fmt.Sprint(bs[limit-1].ID))
			break
		}
		out.Items = append(out.Items, apiBackup(b))
	}
	return out, nil
}

func apiBackup(b store.Backup) gen.Backup {
	out := gen.Backup{Id: b.ID, Device: b.Device, Change: b.ChangeID, Version: b.Version, File: b.File, Sha256: b.SHA256, Size: b.Size, TakenAt: b.TakenAt}
	if b.Hop != nil {
		out.Hop = ptr(*b.Hop + 1)
	}
	return out
}

// TakeBackup fetches a device's configuration now.
func (s *Server) TakeBackup(ctx context.Context, r gen.TakeBackupRequestObject) (gen.TakeBackupResponseObject, error) {
	d, err := s.device(ctx, r.Body.Device)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Backup(ctx, d)
	if err != nil {
		return nil, err
	}
	if b, err = s.Store.Backup(ctx, b.ID); err != nil {
		return nil, err
	}
	return gen.TakeBackup201JSONResponse(apiBackup(b)), nil
}

// backupText reads a backup and what its family says about its words.
func (s *Server) backupText(ctx context.Context, id int64) (store.Backup, string, *config.Schema, error) {
	b, err := s.Store.Backup(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return b, "", nil, notFound("there is no backup %d", id)
	}
	if err != nil {
		return b, "", nil, err
	}
	data, err := s.Backups.Read(b.SHA256)
	if err != nil {
		return b, "", nil, newProblem(http.StatusInternalServerError, "internal", "The backup cannot be read", "backup %d: %s", id, err)
	}
	schema, err := s.schemaOf(ctx, b)
	return b, string(data), schema, err
}

// schemaOf is what is known about the configuration in a backup: by the model of its device and the release it was taken
// from, else by the family that speaks the device's dialect.
func (s *Server) schemaOf(ctx context.Context, b store.Backup) (*config.Schema, error) {
	d, err := s.device(ctx, b.Device)
	if err != nil {
		return nil, err
	}
	now, err := s.Loaded.Now(ctx)
	if err != nil {
		return nil, err
	}
	if p := portraitOf(d); p != nil {
		if at, err := now.Library().ParseStop(p.Model + "@" + b.Version); err == nil {
			return now.Library().Schema(at), nil
		}
	}
	for _, f := range now.Catalogue.Families {
		if f.Dialect == d.Dialect {
			return f.Schema(), nil
		}
	}
	// Without a family nobody knows what is secret, so nothing may be shown.
	return nil, conflict("no catalogue file speaks about dialect %q, so it is not known which words are secret; load one first", d.Dialect)
}

// ReadBackup answers with a configuration, secrets masked.
func (s *Server) ReadBackup(ctx context.Context, r gen.ReadBackupRequestObject) (gen.ReadBackupResponseObject, error) {
	_, text, schema, err := s.backupText(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return gen.ReadBackup200TextResponse(schema.MaskText("backup", text)), nil
}

// CompareBackups answers with what differs between two configurations.
func (s *Server) CompareBackups(ctx context.Context, r gen.CompareBackupsRequestObject) (gen.CompareBackupsResponseObject, error) {
	old, err := s.source(ctx, gen.ConfigurationSource{Backup: &r.Id})
	if err != nil {
		return nil, err
	}
	new, err := s.source(ctx, gen.ConfigurationSource{Backup: &r.Other})
	if err != nil {
		return nil, err
	}
	c, err := compare(old, new)
	if err != nil {
		return nil, err
	}
	return gen.CompareBackups200JSONResponse{Items: view.Differences(c)}, nil
}
