package netconf

import (
	"bytes"
	"context"

	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/link"
)

// A Driver speaks with devices that offer NETCONF, by the standard models.
type Driver struct {
	// Name is what devices name as the way to speak with them.
	Name string
	// Syntax is that of the configuration in the datastore. Defaults to xml.
	Syntax string
}

// running is the one part of a backup: the running datastore.
const running = "running"

// Profile implements device.Driver.
func (d *Driver) Profile() *device.Profile {
	syntax := d.Syntax
	if syntax == "" {
		syntax = "xml"
	}
	return &device.Profile{Name: d.Name, Lacks: []string{"checksum", "install"}, Readings: []device.Reading{interfacesUp},
		Abilities: change.Abilities{Save: true, Restart: true, InPlace: true, Parts: []change.Restored{{Name: running, Title: "running.xml", Save: true, Configuration: true}}},
		Parts:     []device.Part{{Name: running, Title: "Running configuration", Kind: backup.Configuration, File: "running.xml", Syntax: syntax, Role: backup.Running, Restore: &device.Put{Save: true}}}}
}

// Dial implements device.Driver.
func (d *Driver) Dial(ctx context.Context, t device.Target) (device.Conn, error) {
	if t.Console != "" && t.Via == nil {
		return nil, device.Fail(device.Lacking, t.Console, "connect", "NETCONF needs SSH; a console line cannot carry it")
	}
	c := &conn{d: d, t: t}
	var through device.Through
	if t.Via != nil {
		var err error
		if c.parent, err = t.Via.Driver.Dial(ctx, t.Via.Target); err != nil {
			return nil, err
		}
		if through, err = device.As[device.Through](c.parent, "pass a connection on"); err != nil {
			c.parent.Close()
			return nil, err
		}
	}
	l, err := link.Dial(ctx, t, through)
	if err != nil {
		if c.parent != nil {
			c.parent.Close()
		}
		return nil, err
	}
	c.Link = l
	return c, nil
}

// conn is a connection.
type conn struct {
	link.Link
	d      *Driver
	t      device.Target
	parent device.Conn // nil: it is reached directly
	before device.Check
}

var _ interface {
	device.Conn
	device.Configurer
	device.Describer
	device.Parts
	device.Restarter
	device.Reader
	device.Through
} = (*conn)(nil)

// Portrait implements device.Describer, from ietf-system and ietf-hardware.
func (c *conn) Portrait(ctx context.Context) (p *portrait.Portrait, err error) {
	err = within(ctx, c.Link, c.t.Address, "tell what it is", func(s *session) (err error) {
		p, err = s.describe()
		return err
	})
	return p, err
}

// Identity implements device.Describer.
func (c *conn) Identity(ctx context.Context) (*portrait.Portrait, error) { return c.Portrait(ctx) }

// Readings implements device.Reader. There is one: the interfaces that are up.
func (c *conn) Readings(ctx context.Context, rs []device.Reading) (verify.Readings, error) {
	out := verify.Readings{}
	for _, r := range rs {
		if r.Name != interfacesUp.Name {
			out[r.Name] = verify.Value{Type: verify.NotReadable, Text: "it is no reading that is taken over NETCONF"}
			continue
		}
		err := within(ctx, c.Link, c.t.Address, "read interfaces", func(s *session) (err error) {
			out[r.Name], err = s.up()
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Save makes the running configuration the one of the next start.
func (c *conn) Save(ctx context.Context) error {
	if err := c.asked(ctx); err != nil {
		return err
	}
	return save(ctx, c.Link, c.t.Address)
}

// TryConfiguration implements device.Configurer: validating is part of putting a configuration.
func (c *conn) TryConfiguration(context.Context, []byte) ([]device.Message, error) {
	return nil, device.Fail(device.Lacking, c.t.Address, "try a configuration", "over NETCONF a configuration is validated when it is put")
}

// Restart restarts the device.
func (c *conn) Restart(ctx context.Context) error {
	if err := c.asked(ctx); err != nil {
		return err
	}
	return restart(ctx, c.Link, c.t.Address)
}

// asked asks whether what comes next may be sent.
func (c *conn) asked(ctx context.Context) error {
	if c.before == nil {
		return nil
	}
	return c.before(ctx)
}

func (c *conn) Profile() *device.Profile  { return c.d.Profile() }
func (c *conn) SignedIn() device.SignIn   { return *c.Link.SignedIn() }
func (c *conn) Words() string             { return "" }
func (c *conn) HungUp() bool              { return false }
func (c *conn) Before(check device.Check) { c.before = check }

// Close implements device.Session.
func (c *conn) Close() {
	c.Link.Close()
	if c.parent != nil {
		c.parent.Close()
	}
}

// FetchPart implements device.Parts. The datastore is read twice, since the protocol has no checksum.
func (c *conn) FetchPart(ctx context.Context, name string) (data []byte, proof string, err error) {
	if name != running {
		return nil, "", device.Fail(device.Lacking, c.t.Address, "fetch "+name, "over NETCONF there is only the running datastore")
	}
	var both [2][]byte
	for i := range both {
		if both[i], err = Fetch(ctx, c.Link, c.t.Address, running); err != nil {
			return nil, "", err
		}
	}
	if !bytes.Equal(both[0], both[1]) {
		return nil, "", device.Fail(device.NotUnderstood, c.t.Address, "fetch "+name, "two readings in a row differ; somebody is changing it")
	}
	return both[0], "read twice", nil
}

// PutPart implements device.Parts.
func (c *conn) PutPart(ctx context.Context, name string, data []byte) error {
	if name != running {
		return device.Fail(device.Lacking, c.t.Address, "put "+name, "over NETCONF there is only the running datastore")
	}
	if err := c.asked(ctx); err != nil {
		return err
	}
	return Replace(ctx, c.Link, c.t.Address, running, data)
}
