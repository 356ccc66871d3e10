package device

import (
	"context"
	"fmt"
	"io"

	"github.com/pkg/sftp"

	"verimorph/core/portrait"
	"verimorph/core/verify"
)

// A Route is a target with the driver that speaks with it.
type Route struct {
	Driver Driver
	Target
}

// Dial connects and signs in.
func (r *Route) Dial(ctx context.Context) (*Client, error) {
	if r.Driver == nil {
		return nil, &Error{Kind: Lacking, Address: r.Address, Doing: "connect", Message: "no driver is known for the device"}
	}
	c, err := r.Driver.Dial(ctx, r.Target)
	if err != nil {
		return nil, err
	}
	return &Client{c}, nil
}

// LoadSlot starts a slot from the boot loader over the console line, where the driver can.
func (r *Route) LoadSlot(ctx context.Context, slot string) error {
	l, err := As[Loader](r.Driver, "start a slot from the boot loader")
	if err != nil {
		return err
	}
	return l.LoadSlot(ctx, r.Target, slot)
}

// A Client is a connection with every verb. A verb that its driver lacks is an *Error of kind Lacking, never a call into nothing.
type Client struct{ Conn }

func do[T any](c *Client, what string, f func(T) error) error {
	t, err := As[T](c.Conn, what)
	if err != nil {
		return err
	}
	return f(t)
}

// Portrait asks the device what it is.
func (c *Client) Portrait(ctx context.Context) (p *portrait.Portrait, err error) {
	err = do(c, "tell what it is", func(d Describer) (err error) { p, err = d.Portrait(ctx); return err })
	return p, err
}

// Identity asks only what tells the device apart and what runs on it.
func (c *Client) Identity(ctx context.Context) (p *portrait.Portrait, err error) {
	err = do(c, "tell what it is", func(d Describer) (err error) { p, err = d.Identity(ctx); return err })
	return p, err
}

// Readings takes readings.
func (c *Client) Readings(ctx context.Context, rs []Reading) (out verify.Readings, err error) {
	err = do(c, "take readings", func(r Reader) (err error) { out, err = r.Readings(ctx, rs); return err })
	return out, err
}

// SFTP is the file side.
func (c *Client) SFTP() (out *sftp.Client, err error) {
	err = do(c, "open SFTP", func(f Files) (err error) { out, err = f.SFTP(); return err })
	return out, err
}

// PushImage sends an image from its begin to its end.
func (c *Client) PushImage(ctx context.Context, im Image, content io.Reader, sent func(int64)) error {
	return do(c, "send "+im.File, func(f Files) error { return f.PushImage(ctx, im, content, sent) })
}

// FetchImage lets the device download a file.
func (c *Client) FetchImage(ctx context.Context, url, file string, p Progress) error {
	return do(c, "fetch "+file, func(f Files) error { return f.FetchImage(ctx, url, file, p) })
}

// Checksum lets the device compute the SHA-256 of a file on it.
func (c *Client) Checksum(ctx context.Context, file string) (sum Digest, err error) {
	err = do(c, "compute a checksum", func(f Files) (err error) { sum, err = f.Checksum(ctx, file); return err })
	return sum, err
}

// RemoveFile deletes a file on the device.
func (c *Client) RemoveFile(ctx context.Context, file string) error {
	return do(c, "remove "+file, func(f Files) error { return f.RemoveFile(ctx, file) })
}

// Install writes an image that is on the device into a slot.
func (c *Client) Install(ctx context.Context, file, slot string, p Progress) error {
	return do(c, "install", func(i Installer) error { return i.Install(ctx, file, slot, p) })
}

// Unpack unpacks what was installed into a slot.
func (c *Client) Unpack(ctx context.Context, slot string, p Progress) error {
	return do(c, "unpack", func(i Installer) error { return i.Unpack(ctx, slot, p) })
}

// Clone copies the running installation into a slot.
func (c *Client) Clone(ctx context.Context, slot string, p Progress) error {
	return do(c, "clone", func(i Installer) error { return i.Clone(ctx, slot, p) })
}

// ChooseSlot sets the slot of the next starts.
func (c *Client) ChooseSlot(ctx context.Context, slot, second string) error {
	return do(c, "choose-slot", func(b Booter) error { return b.ChooseSlot(ctx, slot, second) })
}

// WriteMedium has the device write what it is onto the medium in it.
func (c *Client) WriteMedium(ctx context.Context, file string, p Progress) error {
	return do(c, "write a medium", func(w MediumWriter) error { return w.WriteMedium(ctx, file, p) })
}

// ReadMedium has the device read what lies on the medium in it.
func (c *Client) ReadMedium(ctx context.Context, file string) (on OnMedium, err error) {
	err = do(c, "read a medium", func(w MediumWriter) (err error) {
		on, err = w.ReadMedium(ctx, file)
		return err
	})
	return on, err
}

// RenameSlot gives a copy of an installation another name.
func (c *Client) RenameSlot(ctx context.Context, slot, name string) error {
	return do(c, "rename-slot", func(k Copier) error { return k.RenameSlot(ctx, slot, name) })
}

// RemoveSlot deletes a copy of an installation.
func (c *Client) RemoveSlot(ctx context.Context, slot string) error {
	return do(c, "remove-slot", func(k Copier) error { return k.RemoveSlot(ctx, slot) })
}

// ChooseSlotOnce sets the slot of the next start only; the one after it is from the slot chosen before.
func (c *Client) ChooseSlotOnce(ctx context.Context, slot string) error {
	return do(c, "choose-slot-once", func(b Booter) error { return b.ChooseSlotOnce(ctx, slot) })
}

// Restart restarts the device; the connection ends with it.
func (c *Client) Restart(ctx context.Context) error {
	return do(c, "restart", func(r Restarter) error { return r.Restart(ctx) })
}

// Drain makes the device take no new work.
func (c *Client) Drain(ctx context.Context) error {
	return do(c, "drain", func(s Servicer) error { return s.Drain(ctx) })
}

// Undrain returns the device to service.
func (c *Client) Undrain(ctx context.Context) error {
	return do(c, "undrain", func(s Servicer) error { return s.Undrain(ctx) })
}

// TakeOver makes a member of an ensemble the active one.
func (c *Client) TakeOver(ctx context.Context) error {
	return do(c, "take over", func(s Standby) error { return s.TakeOver(ctx) })
}

// Spread brings what a slot holds onto all units.
func (c *Client) Spread(ctx context.Context, slot, file string, p Progress) error {
	return do(c, "spread", func(u Units) error { return u.Spread(ctx, slot, file, p) })
}

// BringAlong gives a unit the release of the active one.
func (c *Client) BringAlong(ctx context.Context, unit string) error {
	return do(c, "bring unit "+unit+" along", func(u Units) error { return u.BringAlong(ctx, unit) })
}

// CleanUnit removes a file from a unit.
func (c *Client) CleanUnit(ctx context.Context, unit, file string) error {
	return do(c, "remove "+file+" from unit "+unit, func(u Units) error { return u.CleanUnit(ctx, unit, file) })
}

// RestartUnit starts one unit anew.
func (c *Client) RestartUnit(ctx context.Context, unit string) error {
	return do(c, "restart unit "+unit, func(u Units) error { return u.RestartUnit(ctx, unit) })
}

// UpdateUnit updates firmware beside the main image on one unit.
func (c *Client) UpdateUnit(ctx context.Context, unit, component, file string, p Progress) error {
	return do(c, "update "+component+" of unit "+unit, func(u Units) error { return u.UpdateUnit(ctx, unit, component, file, p) })
}

// Preload has children fetch an image while they work: all of them, or one where they are told one by one.
func (c *Client) Preload(ctx context.Context, child, file, version string) error {
	return do(c, "preload "+version, func(k Children) error { return k.Preload(ctx, child, file, version) })
}

// PreloadsEach reports whether children are told one by one to fetch an image.
func (c *Client) PreloadsEach() bool {
	k, err := As[Children](c.Conn, "preload")
	return err == nil && k.PreloadsEach()
}

// RestartChild starts a child anew.
func (c *Client) RestartChild(ctx context.Context, child string) error {
	return do(c, "restart "+child, func(k Children) error { return k.RestartChild(ctx, child) })
}

// Authorise lets a child join.
func (c *Client) Authorise(ctx context.Context, serial string) error {
	return do(c, "authorise "+serial, func(k Children) error { return k.Authorise(ctx, serial) })
}

// DrainChild has a child serve nobody new.
func (c *Client) DrainChild(ctx context.Context, child string) error {
	return do(c, "drain "+child, func(k Children) error { return k.DrainChild(ctx, child) })
}

// UndrainChild has a child serve again.
func (c *Client) UndrainChild(ctx context.Context, child string) error {
	return do(c, "return "+child+" to service", func(k Children) error { return k.UndrainChild(ctx, child) })
}

// GroupChild gives a child the settings of a group.
func (c *Client) GroupChild(ctx context.Context, child, group string) error {
	return do(c, "put "+child+" into "+group, func(k Children) error { return k.GroupChild(ctx, child, group) })
}

// ReleaseChild has a child stand alone again.
func (c *Client) ReleaseChild(ctx context.Context, child string) error {
	return do(c, "give "+child+" back to stand-alone", func(k Children) error { return k.ReleaseChild(ctx, child) })
}

// BecomeManaged has the device follow the controller at an address.
func (c *Client) BecomeManaged(ctx context.Context, controller string) error {
	return do(c, "become managed by "+controller, func(f Follower) error { return f.BecomeManaged(ctx, controller) })
}

// HandOver has the unit that stands by take over. The connection may end with it.
func (c *Client) HandOver(ctx context.Context) error {
	return do(c, "hand over", func(u Units) error { return u.HandOver(ctx) })
}

// Save makes the running configuration the saved one.
func (c *Client) Save(ctx context.Context) error {
	return do(c, "save", func(k Configurer) error { return k.Save(ctx) })
}

// TryConfiguration has the device read a configuration as it would before using it.
func (c *Client) TryConfiguration(ctx context.Context, text []byte) (out []Message, err error) {
	err = do(c, "try a configuration", func(k Configurer) (err error) { out, err = k.TryConfiguration(ctx, text); return err })
	return out, err
}

// UpdateComponent updates firmware beside the main image from a file on the device.
func (c *Client) UpdateComponent(ctx context.Context, component, file string, p Progress) error {
	return do(c, "update "+component, func(k Components) error { return k.UpdateComponent(ctx, component, file, p) })
}

// PowerCycle switches what a component runs on off and on.
func (c *Client) PowerCycle(ctx context.Context, component string) error {
	return do(c, "power-cycle "+component, func(k Components) error { return k.PowerCycle(ctx, component) })
}

// AddLicence gives the device a licence.
func (c *Client) AddLicence(ctx context.Context, licence, key string) error {
	return do(c, "add licence "+licence, func(l Licensor) error { return l.AddLicence(ctx, licence, key) })
}

// FetchPart fetches one part of a backup and proves that it is whole.
func (c *Client) FetchPart(ctx context.Context, name string) (data []byte, proof string, err error) {
	err = do(c, fmt.Sprintf("fetch part %s", name), func(p Parts) (err error) { data, proof, err = p.FetchPart(ctx, name); return err })
	return data, proof, err
}

// PutPart puts a part of a backup back.
func (c *Client) PutPart(ctx context.Context, name string, data []byte) error {
	return do(c, "put part "+name, func(p Parts) error { return p.PutPart(ctx, name, data) })
}

// SetPassword gives a user another password.
func (c *Client) SetPassword(ctx context.Context, user, password string) error {
	return do(c, "set a password", func(p Passworder) error { return p.SetPassword(ctx, user, password) })
}
