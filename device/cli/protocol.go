package cli

import (
	"context"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"verimorph/device"
	"verimorph/device/gnoi"
	"verimorph/device/link"
	"verimorph/device/netconf"
	"verimorph/device/restconf"
	"verimorph/device/snmp"
)

// Management protocols beside the command line: a dialect says of each query, verb, reading and part by which it goes. Nothing of a protocol
// is opened before it is needed.

// callLasts is how long a call may take when the dialect does not say.
const callLasts = time.Minute

// callers are what was opened of a device's protocols.
type callers struct {
	mu     sync.Mutex
	open   map[string]device.Caller
	closed bool
	ended  bool // the connection ended with the last call
}

// hungUp reports whether the connection ended with the last call, before the device said that it took it.
func (cs *callers) hungUp() bool {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	return cs.ended
}

func (cs *callers) noteEnd(ended bool) {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	cs.ended = ended
}

// end closes all of them; what is asked of them afterwards is lost.
func (cs *callers) end() {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	for _, c := range cs.open {
		c.Close()
	}
	cs.open, cs.closed = nil, true
}

// answers reports whether something answers where a device that has no SSH side offers its first protocol.
func (d *Dialect) answers(ctx context.Context, t *device.Target, through device.Through) error {
	for _, by := range device.Protocols {
		s, offered := d.Services[by]
		if !offered || by == device.BySNMP {
			continue
		}
		conn, err := link.DialService(ctx, through, t.Endpoint(by, s))
		if err != nil {
			return err
		}
		return conn.Close()
	}
	return nil
}

// byProtocol reports whether something is not said on the command line.
func (q *Query) byProtocol() bool { return q.By != "" && q.By != device.ByCLI }

// echoed reports whether an answer is known to be that of its question: protocols say so, command lines by their echo.
func (c *Client) echoed(by string) bool {
	return by != "" && by != device.ByCLI || c.term != nil && c.term.echo == echoes
}

// overSSH reports whether something of a dialect needs the SSH side of a device. The jump host has nothing else.
func (d *Dialect) overSSH() bool {
	if d.Name == jumpHost || d.speaks() {
		return true
	}
	_, apart := d.Services[device.ByNETCONF]
	ways := slices.Clone(d.ways())
	for _, p := range d.Backup {
		ways = append(ways, p.By)
		if p.Restore != nil {
			ways = append(ways, p.Restore.By)
		}
	}
	return slices.ContainsFunc(ways, func(by string) bool {
		return by == BySFTP || by == BySCP || by == ByNETCONF && !apart
	}) || d.Medium == "" && d.Files.By != byGnoi && !d.Verbs["fetch-image"].given() && len(d.lacksForFirmware()) == 0 // images are sent over SFTP
}

// ways are the protocols that queries, verbs and readings go by.
func (d *Dialect) ways() (out []string) {
	for _, q := range d.Portrait {
		out = append(out, q.By)
	}
	for _, q := range d.Verbs {
		out = append(out, q.By)
	}
	for _, r := range d.Readings {
		out = append(out, r.By)
	}
	return out
}

// speaks reports whether something of a dialect is said on the command line.
func (d *Dialect) speaks() bool {
	if slices.ContainsFunc(d.ways(), func(by string) bool { return by == "" || by == device.ByCLI }) || len(d.Setup) > 0 {
		return true
	}
	return slices.ContainsFunc(d.Backup, func(p PartSource) bool {
		return p.Send != "" || p.By == ByCLI || p.Restore != nil && (p.Restore.Send != "" || p.Restore.By == ByCLI)
	})
}

// call says what a query says over its protocol, and returns the last answer.
func (c *Client) call(ctx context.Context, q Query, args map[string]string) (text string, err error) {
	caller, err := c.caller(ctx, q.By)
	if err != nil {
		return "", err
	}
	c.callers.noteEnd(false)
	for _, st := range q.steps() {
		what, err := fill(st.Send, args)
		if err != nil {
			return "", device.Fail(device.Refused, c.t.Address, st.Send, "%s", err)
		}
		text, err = c.callOnce(ctx, caller, st, what)
		c.rec.called(q.By, what, text)
		if err != nil {
			return text, err
		}
	}
	return text, nil
}

func (c *Client) callOnce(ctx context.Context, caller device.Caller, st Step, what string) (string, error) {
	lasts := callLasts
	if st.Wait > 0 {
		lasts = time.Duration(st.Wait * float64(time.Second))
	}
	limited, cancel := context.WithTimeout(ctx, lasts)
	defer cancel()
	text, err := caller.Call(limited, what)
	if st.Ends && device.KindOf(err) == device.Lost {
		c.callers.noteEnd(true)
		return "", nil
	}
	if err != nil {
		return text, err
	}
	if err := c.d.refusal(c.t.Address, firstWord(what), text); err != nil {
		return text, err
	}
	if st.Success.Regexp != nil && !st.Success.MatchString(text) {
		return text, notSuccess(c.t.Address, firstWord(what), text)
	}
	return text, nil
}

// firstWord is what a call is called in messages: its content may be long.
func firstWord(what string) string {
	word, _, _ := strings.Cut(strings.TrimSpace(what), " ")
	return word
}

// caller is what speaks a protocol with the device; it is opened when it is first asked for.
func (c *Client) caller(ctx context.Context, by string) (device.Caller, error) {
	c.callers.mu.Lock()
	open, closed := c.callers.open[by], c.callers.closed
	c.callers.mu.Unlock()
	if closed {
		return nil, device.Fail(device.Lost, c.t.Address, "speak "+by, "the connection was ended")
	}
	if open != nil {
		return open, nil
	}
	made, err := c.openCaller(ctx, by)
	if err != nil {
		return nil, err
	}
	c.callers.mu.Lock()
	defer c.callers.mu.Unlock()
	if c.callers.closed {
		made.Close()
		return nil, device.Fail(device.Lost, c.t.Address, "speak "+by, "the connection was ended")
	}
	if c.callers.open == nil {
		c.callers.open = map[string]device.Caller{}
	}
	c.callers.open[by] = made
	return made, nil
}

func (c *Client) openCaller(ctx context.Context, by string) (device.Caller, error) {
	s, apart := c.d.Services[by]
	through, err := c.beyond()
	if err != nil {
		return nil, err
	}
	switch by {
	case device.ByNETCONF:
		if !apart {
			return netconf.NewCaller(c.link, c.t.Address), nil
		}
		if s.TLS != "" {
			return netconf.DialTLS(&c.t, s, through)
		}
		return c.netconfApart(ctx, s, through)
	case device.ByGNMI, device.ByGNOI:
		return gnoi.Dial(&c.t, by, s, through, c.in)
	case device.ByRESTCONF:
		return restconf.Dial(&c.t, s, through, c.in), nil
	case device.BySNMP:
		if through != nil {
			return nil, device.Fail(device.Lacking, c.t.Address, "speak SNMP", "SNMP is not passed on through another device")
		}
		return snmp.Dial(&c.t, s)
	}
	return nil, device.Fail(device.Lacking, c.t.Address, "speak "+by, "this protocol is not spoken here")
}

// beyond is the device that connections go through; nil: none.
func (c *Client) beyond() (device.Through, error) {
	if c.parent == nil {
		return nil, nil
	}
	return device.As[device.Through](c.parent, "pass a connection on")
}

// netconfApart opens the way to a NETCONF server that has an SSH port of its own.
func (c *Client) netconfApart(ctx context.Context, s device.Service, through device.Through) (device.Caller, error) {
	t := c.t
	t.Address = c.t.Endpoint(device.ByNETCONF, s)
	if c.in != nil {
		t.SignIns = []device.SignIn{*c.in}
	}
	l, err := link.Dial(context.WithoutCancel(ctx), t, through)
	if err != nil {
		return nil, err
	}
	return &overLink{netconf.NewCaller(l, t.Address), l}, nil
}

// overLink is a caller that has its link for itself.
type overLink struct {
	*netconf.Caller
	l link.Link
}

// Close implements device.Caller.
func (o *overLink) Close() {
	o.Caller.Close()
	o.l.Close()
}

// Listen implements device.Teller.
func (c *Client) Listen(ctx context.Context, hear func(text string, bad bool)) error {
	e := &c.d.Events
	told := func(text string) { hear(text, e.Trouble.Regexp != nil && e.Trouble.MatchString(text)) }
	if e.By == "" {
		return device.Fail(device.Lacking, c.t.Address, "listen", "its dialect does not say what the device says by itself")
	}
	caller, err := c.caller(ctx, e.By)
	if err != nil {
		return err
	}
	s, ok := caller.(subscriber)
	if !ok {
		return device.Fail(device.Lacking, c.t.Address, "listen", "by %s a device says nothing by itself here", e.By)
	}
	return s.Subscribe(ctx, e.Stream, told)
}

// A subscriber hears what a device says by itself.
type subscriber interface {
	Subscribe(ctx context.Context, stream string, hear func(text string)) error
}

// installOS hands an image to the device by gNOI.
func (c *Client) installOS(ctx context.Context, im device.Image, content io.Reader, sent func(int64)) error {
	if c.before != nil {
		if err := c.before(ctx); err != nil {
			return err
		}
	}
	g, err := c.caller(ctx, device.ByGNOI)
	if err != nil {
		return err
	}
	return g.(*gnoi.Client).InstallOS(ctx, im.Version, im.Size, content, sent)
}

// validated asks a device whether it holds a version whole, where it tells no sums.
func (c *Client) validated(ctx context.Context, version string) (device.Digest, error) {
	g, err := c.caller(ctx, device.ByGNOI)
	if err != nil {
		return device.Digest{}, err
	}
	holds, err := g.(*gnoi.Client).HoldsOS(ctx, version)
	if err != nil || !holds {
		return device.Digest{Algorithm: device.Validated}, err
	}
	return device.Digest{Algorithm: device.Validated, Sum: version}, nil
}

// versionOf fills in the version that a slot holds, where a verb says it: some devices name installations by nothing else.
func (c *Client) versionOf(ctx context.Context, q *Query, args map[string]string) error {
	says := slices.ContainsFunc(q.steps(), func(st Step) bool { return strings.Contains(st.Send, "{version}") })
	if !says || args["slot"] == "" {
		return nil
	}
	p, err := c.Identity(ctx)
	if err != nil {
		return err
	}
	for _, s := range p.Slots {
		if s.Name == args["slot"] {
			args["version"] = s.Version
		}
	}
	if args["version"] == "" {
		return device.Fail(device.NotUnderstood, c.t.Address, q.says(), "which version %s holds is not known", args["slot"])
	}
	return nil
}

// A keeper reads and writes whole parts.
type keeper interface {
	Fetch(ctx context.Context, name string) ([]byte, error)
	Replace(ctx context.Context, name string, data []byte) error
}

// keeper is what reads and writes parts by a management protocol.
func (c *Client) keeper(ctx context.Context, by string) (keeper, error) {
	caller, err := c.caller(ctx, by)
	if err != nil {
		return nil, err
	}
	k, ok := caller.(keeper)
	if !ok {
		return nil, device.Fail(device.Lacking, c.t.Address, "move a part by "+by, "this protocol does not move parts here")
	}
	return k, nil
}

func (c *Client) fetchBy(ctx context.Context, p *PartSource) ([]byte, error) {
	k, err := c.keeper(ctx, p.By)
	if err != nil {
		return nil, err
	}
	return k.Fetch(ctx, p.Path)
}

func (c *Client) putBy(ctx context.Context, r *Put, data []byte) error {
	k, err := c.keeper(ctx, r.By)
	if err != nil {
		return err
	}
	return k.Replace(ctx, r.Path, data)
}
