// Package cli drives devices by their command line, over SSH, a console line or a session into a module. A [Dialect], which is a YAML file
// (docs/formats/dialect.md), says which commands a verb is on a kind of device and how to read what comes back; it is the driver of that kind.
// [Client] is a connection.
//
// # Errors
//
// They are *device.Error. A device's own "no" has the kind that the dialect gives it, [device.Refused] as a rule; an answer that the dialect does not
// know is [device.NotUnderstood] and quotes it.
package cli

import (
	"context"
	"fmt"
	"io"
	"net"
	"time"

	"github.com/pkg/sftp"

	"verimorph/device"
	"verimorph/device/link"
)

// A Client is a signed-in connection to one device. It is for one user at a time.
type Client struct {
	d      *Dialect
	t      device.Target
	link   link.Link
	term   *session       // the conversation; nil until it is first needed
	in     *device.SignIn // what let us in; nil: not known
	tries  int            // sign-ins refused so far
	raises int            // privileged passwords refused so far
	parent device.Conn    // the device that is signed in to first; nil: none

	callers   callers   // its management protocols
	leave     func()    // gives the seat back that its session takes; nil: it takes none
	rec       *recorder // keeps what is said over its terminal; nil: nobody does
	words     string    // the answer to the last verb
	before    device.Check
	tokenUsed bool
}

// Every Client has all capabilities; what the dialect has no words for is refused by name.
var _ interface {
	device.Conn
	device.Describer
	device.Files
	device.Installer
	device.Booter
	device.Restarter
	device.Servicer
	device.Configurer
	device.Components
	device.Licensor
	device.Parts
	device.Reader
	device.Through
} = (*Client)(nil)

// Dial implements device.Driver.
func (d *Dialect) Dial(ctx context.Context, t device.Target) (device.Conn, error) {
	c, err := d.dial(ctx, t)
	if err != nil {
		return nil, err
	}
	return c, nil
}

func (d *Dialect) dial(ctx context.Context, t device.Target) (*Client, error) {
	return d.dialKeeping(ctx, t, nil)
}

// dialKeeping is dial with a recorder that keeps what is said; nil: none.
func (d *Dialect) dialKeeping(ctx context.Context, t device.Target, rec *recorder) (*Client, error) {
	if s := &d.Session; s.Terminal != "" || s.Columns > 0 || s.Rows > 0 || s.KeepAlive > 0 {
		t.Screen, t.KeepAlive = device.Screen{Term: s.Terminal, Columns: s.Columns, Rows: s.Rows}, time.Duration(s.KeepAlive*float64(time.Second))
	}
	leave, err := sessions.take(ctx, t.Address, d.Session.AtOnce)
	if err != nil {
		return nil, err
	}
	c, err := d.connect(ctx, &Client{d: d, t: t, rec: rec})
	if err != nil {
		leave()
		return nil, err
	}
	c.leave = leave
	return c, nil
}

// connect connects and signs in.
func (d *Dialect) connect(ctx context.Context, c *Client) (*Client, error) {
	t := c.t
	if len(t.SignIns) == 0 {
		return nil, link.NoSignIn(t.Address)
	}
	if t.Console != "" && t.Via == nil {
		line, err := link.DialLine(ctx, t.Console)
		if err != nil {
			return nil, err
		}
		return c, c.signInOn(ctx, line, t.Console, t.Record)
	}
	var through device.Through
	if t.Via != nil {
		var err error
		if c.parent, err = t.Via.Driver.Dial(ctx, t.Via.Target); err != nil {
			return nil, fmt.Errorf("on the way, at %s: %w", t.Via.Target.Address, err)
		}
		if t.Enter != "" {
			return c, c.enter(ctx)
		}
		if through, err = device.As[device.Through](c.parent, "pass a connection on"); err != nil {
			c.parent.Close()
			return nil, err
		}
	}
	if !d.overSSH() {
		c.link = link.Apart{Address: t.Address}
		return c, d.answers(ctx, &t, through)
	}
	over, err := link.Dial(ctx, t, through)
	if err != nil {
		c.closeParent()
		return nil, err
	}
	c.link, c.in = over, over.SignedIn()
	return c, nil
}

// signInOn signs in on a link that is a conversation; where that fails, the link is closed.
func (c *Client) signInOn(ctx context.Context, l link.Link, address string, record func([]byte)) error {
	rw, err := l.Terminal()
	if err != nil {
		return err
	}
	rw = c.rec.wrap(rw)
	s := newStream(c.d, address, rw, rw, l.Close)
	s.heard.tell(record)
	c.link = l
	if err := c.signInAt(ctx, s); err != nil {
		c.Close()
		return err
	}
	c.term = s
	return nil
}

// enter opens a session into a module of another device, over that device's own session.
func (c *Client) enter(ctx context.Context) error {
	parent, ok := c.parent.(*Client)
	if !ok {
		c.closeParent()
		return device.Fail(device.Lacking, c.t.Address, "enter the module", "the device that it is in has no command line")
	}
	if parent.term == nil {
		if _, err := parent.query(ctx, Query{Send: ""}, nil, nil); err != nil && parent.term == nil {
			c.closeParent()
			return err
		}
	}
	p := parent.term
	p.screen.clear()
	if _, err := io.WriteString(p.in, c.t.Enter+"\r"); err != nil {
		c.closeParent()
		return device.Fail(device.Lost, c.t.Address, "enter the module", "the connection ended")
	}
	s := &session{d: c.d, address: c.t.Address, in: p.in, out: p.out, close: parent.Close, heard: p.heard, modes: c.d.modes()}
	s.mode = s.modes[0].Name
	s.heard.tell(c.t.Record)
	c.link = link.NewLine(ctx, c.t.Address, nil, parent.Cut)
	if err := c.signInAt(ctx, s); err != nil {
		c.Close()
		return err
	}
	c.term = s
	return nil
}

// Profile implements device.Session.
func (c *Client) Profile() *device.Profile { return c.d.Profile() }

// HostKey implements device.Session.
func (c *Client) HostKey() string { return c.link.HostKey() }

// SignedIn implements device.Session.
func (c *Client) SignedIn() device.SignIn {
	if c.in == nil {
		return device.SignIn{}
	}
	return *c.in
}

// Before implements device.Session.
func (c *Client) Before(check device.Check) { c.before = check }

// Transfers implements device.Session.
func (c *Client) Transfers() bool { return c.link.Transfers() }

// SFTP implements device.Files.
func (c *Client) SFTP() (*sftp.Client, error) { return c.link.SFTP() }

// CloseFiles implements device.Session.
func (c *Client) CloseFiles() { c.link.CloseFiles() }

// DialThrough implements device.Through.
func (c *Client) DialThrough(ctx context.Context, address string) (net.Conn, error) {
	return c.link.DialThrough(ctx, address)
}

// Cut implements device.Session.
func (c *Client) Cut() {
	c.callers.end()
	c.link.Cut()
}

// Close implements device.Session.
func (c *Client) Close() {
	c.callers.end()
	if c.term != nil {
		c.term.close()
	}
	c.link.Close()
	c.closeParent()
	if c.leave != nil {
		c.leave()
	}
}

func (c *Client) closeParent() {
	if c.parent != nil {
		c.parent.Close()
	}
}

func (c *Client) refused(s device.SignIn, privileged bool) {
	if c.t.Refused != nil {
		c.t.Refused(s, privileged)
	}
}
