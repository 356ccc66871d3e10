package netconf

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"verimorph/device"
	"verimorph/device/link"
)

// A Caller makes rpcs one after the other over a session that stays open. It implements device.Caller: what it is told is what stands inside <rpc>, such as
//
//	<get><filter type="subtree"><system-state xmlns="urn:ietf:params:xml:ns:yang:ietf-system"/></filter></get>
//
// and the answer is the whole <rpc-reply>. A session that broke is opened anew by the next call; what was asked is never asked twice.
type Caller struct {
	l       link.Link
	address string
	life    context.Context // it ends with Close
	over    func()

	mu     sync.Mutex
	s      *session // nil: none is open
	closed bool
}

// NewCaller makes a caller over a link, on which the first call opens a session.
func NewCaller(l link.Link, address string) *Caller {
	c := &Caller{l: l, address: address}
	c.life, c.over = context.WithCancel(context.Background())
	return c
}

// Call implements device.Caller.
func (c *Caller) Call(ctx context.Context, what string) (string, error) {
	doing, err := operation(what)
	if err != nil {
		return "", device.Fail(device.NotUnderstood, c.address, doing, "what is to be asked is no XML: %s", err)
	}
	s, err := c.session(ctx, doing)
	if err != nil {
		return "", err
	}
	defer context.AfterFunc(ctx, s.close)()
	reply, err := s.call(what)
	if err == nil {
		return string(reply), nil
	}
	late := ctx.Err() != nil
	if _, refused := err.(rpcErrors); !refused {
		c.end()
	}
	if err = s.failed(err, doing); late && device.KindOf(err) == device.Lost {
		err = device.Fail(device.Silent, c.address, doing, "no answer in time")
	}
	return "", err
}

// Subscribe passes notifications of the device on, over a session of its own beside that of the calls; see [Subscribe].
func (c *Caller) Subscribe(ctx context.Context, stream string, hear func(text string)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(c.life, cancel)()
	return Subscribe(ctx, c.l, c.address, stream, hear)
}

// session is the open session, or a new one.
func (c *Caller) session(ctx context.Context, doing string) (*session, error) {
	c.mu.Lock()
	s, closed := c.s, c.closed
	c.mu.Unlock()
	switch {
	case closed:
		return nil, device.Fail(device.Lost, c.address, doing, "the connection was ended")
	case s != nil:
		return s, nil
	}
	s, err := openFor(context.WithoutCancel(ctx), ctx, c.l, c.address, doing)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		s.close()
		return nil, device.Fail(device.Lost, c.address, doing, "the connection was ended")
	}
	c.s = s
	return s, nil
}

func (c *Caller) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.s != nil {
		c.s.close()
	}
	c.s = nil
}

// Close implements device.Caller.
func (c *Caller) Close() {
	c.over()
	c.end()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
}

// operation is the name of what an rpc asks for, for messages. It is one element, and nothing is said when it is broken: it would break the message around it.
func operation(what string) (name string, err error) {
	name = "NETCONF"
	d := xml.NewDecoder(strings.NewReader(what))
	for depth, n := 0, 0; ; {
		t, err := d.Token()
		switch {
		case errors.Is(err, io.EOF) && n == 1:
			return name, nil
		case errors.Is(err, io.EOF):
			return name, fmt.Errorf("there are %d elements, not one", n)
		case err != nil:
			return name, err
		}
		switch e := t.(type) {
		case xml.StartElement:
			if depth == 0 {
				n++
				name = e.Name.Local
			}
			depth++
		case xml.EndElement:
			depth--
		case xml.Directive, xml.ProcInst:
			return name, fmt.Errorf("a document type and processing instructions are not said")
		}
	}
}
