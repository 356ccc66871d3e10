package snmp

import (
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gosnmp/gosnmp"

	"verimorph/device"
)

// A Trap is something that a device says by itself (RFC 3416, section 4.2.6): a trap, or an inform, which is answered.
type Trap struct {
	From netip.Addr
	Name string // of what happened, such as linkDown; its number where it has no name here
	Text string // that, and the values that come with it
}

// trapNames are the traps that every device may send (RFC 3418, section 4; RFC 2863), and those about parts and bridges.
var trapNames = map[string]string{
	"1.3.6.1.6.3.1.1.5.1": "coldStart", "1.3.6.1.6.3.1.1.5.2": "warmStart", "1.3.6.1.6.3.1.1.5.3": "linkDown", "1.3.6.1.6.3.1.1.5.4": "linkUp", "1.3.6.1.6.3.1.1.5.5": "authenticationFailure",
	"1.3.6.1.2.1.47.2.0.1": "entConfigChange", "1.3.6.1.2.1.17.0.1": "newRoot", "1.3.6.1.2.1.17.0.2": "topologyChange",
}

// badNews are the traps that report trouble.
var badNews = []string{"linkDown", "authenticationFailure"}

// Bad reports whether a trap reports trouble.
func (t *Trap) Bad() bool { return slices.Contains(badNews, t.Name) }

const (
	trapOID   = "1.3.6.1.6.3.1.1.4.1.0"
	uptimeOID = "1.3.6.1.2.1.1.3.0"
)

// A TrapConfig says where traps are heard, and from whom.
type TrapConfig struct {
	Listen string // host:port
	Users  []device.SNMPUser
	Hear   func(Trap)
	Log    *slog.Logger
}

// Traps hears traps until it is closed. Only those count that a known user signed as that user is to sign them, or that name a known community.
type Traps struct {
	Address string // where it listens

	c  TrapConfig
	l  *gosnmp.TrapListener
	mu sync.Mutex
	by trusted
}

// trusted are those whose traps count.
type trusted struct {
	users       map[string][]gosnmp.SnmpV3MsgFlags // how the traps of a user are protected at the least
	communities []string
}

// ListenTraps begins to listen.
func ListenTraps(c TrapConfig) (*Traps, error) {
	conn, err := net.ListenPacket("udp", c.Listen) // the library does not tell which port it got
	if err != nil {
		return nil, fmt.Errorf("traps of SNMP: %w", err)
	}
	t := &Traps{Address: conn.LocalAddr().String(), c: c, l: gosnmp.NewTrapListener()}
	_ = conn.Close()
	own := sha256.Sum256([]byte("verimorph " + t.Address))
	t.l.Params = &gosnmp.GoSNMP{Version: gosnmp.Version3, SecurityModel: gosnmp.UserSecurityModel, MsgFlags: gosnmp.AuthPriv, Timeout: requestWaits,
		SecurityParameters: &gosnmp.UsmSecurityParameters{AuthoritativeEngineID: "\x80\x00\x00\x00\x05" + string(own[:8])}, ContextEngineID: "\x80\x00\x00\x00\x05" + string(own[:8])}
	t.Trust(c.Users)
	t.l.OnNewTrap = t.heard
	failed := make(chan error, 1)
	go func() { failed <- t.l.Listen(t.Address) }()
	select {
	case <-t.l.Listening():
		return t, nil
	case err := <-failed:
		return nil, fmt.Errorf("traps of SNMP: %w", err)
	case <-time.After(5 * time.Second):
		return nil, fmt.Errorf("traps of SNMP: %s cannot be listened at", t.Address)
	}
}

// Trust says anew whose traps count.
func (t *Traps) Trust(users []device.SNMPUser) {
	table := gosnmp.NewSnmpV3SecurityParametersTable(gosnmp.Logger{})
	by := trusted{users: map[string][]gosnmp.SnmpV3MsgFlags{}}
	for i := range users {
		u := &users[i]
		if u.Community != "" {
			by.communities = append(by.communities, u.Community)
			continue
		}
		p, flags, err := parameters(u)
		if err == nil {
			p.Logger = gosnmp.Logger{}
			err = table.Add(u.User, p)
		}
		if err != nil {
			t.c.Log.Warn("traps of an SNMP user cannot be heard", "credential", u.ID, "err", err)
			continue
		}
		by.users[u.User] = append(by.users[u.User], flags)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.by = by
	t.l.Params.SetTrapSecurityParametersTable(table)
}

// Close ends it.
func (t *Traps) Close() { t.l.Close() }

// heard takes a trap when it comes from somebody who is known.
func (t *Traps) heard(p *gosnmp.SnmpPacket, from *net.UDPAddr) {
	at, ok := netip.AddrFromSlice(from.IP)
	if !ok || !t.counts(p) {
		t.c.Log.Debug("a trap of SNMP from somebody who is not known is not heard", "from", from)
		return
	}
	out := Trap{From: at.Unmap()}
	var values []string
	for _, v := range p.Variables {
		switch oid := strings.TrimPrefix(v.Name, "."); oid {
		case trapOID:
			text, _ := v.Value.(string)
			if out.Name = trapNames[strings.TrimPrefix(text, ".")]; out.Name == "" {
				out.Name = strings.TrimPrefix(text, ".")
			}
		case uptimeOID:
		default:
			x := valueOf(v)
			values = append(values, fmt.Sprintf("%s=%v", x.Name, x.Value))
		}
	}
	if out.Name == "" {
		return
	}
	out.Text = strings.TrimSuffix(out.Name+": "+strings.Join(values, ", "), ": ")
	t.c.Hear(out)
}

// counts reports whether a trap comes from somebody who is known, protected as theirs are to be.
func (t *Traps) counts(p *gosnmp.SnmpPacket) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if p.Version != gosnmp.Version3 {
		return p.Version == gosnmp.Version2c && slices.ContainsFunc(t.by.communities, func(c string) bool {
			return subtle.ConstantTimeCompare([]byte(c), []byte(p.Community)) == 1
		})
	}
	usm, ok := p.SecurityParameters.(*gosnmp.UsmSecurityParameters)
	return ok && slices.ContainsFunc(t.by.users[usm.UserName], func(least gosnmp.SnmpV3MsgFlags) bool {
		return p.MsgFlags&gosnmp.AuthPriv >= least&gosnmp.AuthPriv
	})
}
