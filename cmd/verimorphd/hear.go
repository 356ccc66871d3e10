package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"flag"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"strings"
	"time"

	"verimorph/device/snmp"
	"verimorph/engine"
	"verimorph/syslog"
)

// hearing says where messages of devices are heard, and where ours go.
type hearing struct {
	udp, tcp, tls, certificate, key string
	relays, send, authority         string
	traps                           string
}

func (h *hearing) flags(fs *flag.FlagSet) {
	fs.StringVar(&h.udp, "syslog-udp", "", "`address` where messages of devices are heard by syslog over UDP; empty: not at all")
	fs.StringVar(&h.tcp, "syslog-tcp", "", "`address` for syslog over TCP")
	fs.StringVar(&h.tls, "syslog-tls", "", "`address` for syslog over TLS")
	fs.StringVar(&h.certificate, "syslog-cert", "", "`file` with the certificate for that, PEM")
	fs.StringVar(&h.key, "syslog-key", "", "`file` with its key, PEM")
	fs.StringVar(&h.relays, "syslog-relays", "", "`networks` of relays, with commas, such as 192.0.2.0/28: from there the host that a message names counts, not where it came from")
	fs.StringVar(&h.send, "syslog-send", "", "`URL` of a collector that the audit goes to: udp://host:514, tcp://host:601 or tls://host:6514")
	fs.StringVar(&h.authority, "syslog-ca", "", "`file` with the authority that signed its certificate, PEM; by default those that this machine trusts")
	fs.StringVar(&h.traps, "snmp-traps", "", "`address` where traps and informs of SNMP are heard (UDP); they count from users and communities whose credentials are known")
}

// networks are the relays.
func (h *hearing) networks() (out []netip.Prefix, err error) {
	for text := range strings.FieldsFuncSeq(h.relays, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			if a, e := netip.ParseAddr(text); e == nil {
				p, err = a.Prefix(a.BitLen())
			}
		}
		if err != nil {
			return nil, fmt.Errorf("-syslog-relays: %q is no network such as 192.0.2.0/28", text)
		}
		out = append(out, p)
	}
	return out, nil
}

// collector is where the audit goes; nil: nowhere.
func (h *hearing) collector() (*syslog.Sender, error) {
	if h.send == "" {
		return nil, nil
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if h.authority != "" {
		text, err := os.ReadFile(h.authority)
		if err != nil {
			return nil, fmt.Errorf("-syslog-ca: %w", err)
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("-syslog-ca: %s holds no certificate", h.authority)
		}
	}
	return syslog.NewSender(h.send, config)
}

// listen begins to hear messages, until the functions that it returns are called.
func (h *hearing) listen(ctx context.Context, e *engine.Engine, log *slog.Logger) (closes []func(), err error) {
	c := syslog.Config{UDP: h.udp, TCP: h.tcp, TLS: h.tls, Hear: e.HeardSyslog, Now: time.Now, Log: log}
	if h.tls != "" {
		pair, err := tls.LoadX509KeyPair(h.certificate, h.key)
		if err != nil {
			return nil, fmt.Errorf("-syslog-cert and -syslog-key: %w", err)
		}
		c.Certificate = &pair
	}
	l, err := syslog.Listen(c)
	if err != nil {
		return nil, err
	}
	closes = append(closes, l.Close)
	if h.traps == "" {
		return closes, nil
	}
	users, err := e.TrapUsers(ctx)
	if err != nil {
		return closes, err
	}
	t, err := snmp.ListenTraps(snmp.TrapConfig{Listen: h.traps, Users: users, Log: log, Hear: func(t snmp.Trap) {
		e.Heard(engine.Said{From: t.From, By: "SNMP", Bad: t.Bad(), Text: t.Text, Weight: "trap"})
	}})
	if err != nil {
		return closes, err
	}
	go keepTrusting(ctx, t, e, log)
	return append(closes, t.Close), nil
}

// trustAgain is how long it takes until traps of a new user are heard.
const trustAgain = 30 * time.Second

// keepTrusting has credentials that come and go known to whoever hears traps.
func keepTrusting(ctx context.Context, t *snmp.Traps, e *engine.Engine, log *slog.Logger) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(trustAgain):
		}
		users, err := e.TrapUsers(ctx)
		if err != nil {
			log.Warn("which SNMP users there are cannot be read", "err", err)
			continue
		}
		t.Trust(users)
	}
}
