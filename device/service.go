package device

import (
	"context"
	"fmt"
	"net"
	"strconv"
)

// Management protocols: by what something is said to a device. The command line is one of them.
const (
	ByCLI      = "cli"
	ByNETCONF  = "netconf"  // RFC 6241
	ByRESTCONF = "restconf" // RFC 8040
	ByGNMI     = "gnmi"
	ByGNOI     = "gnoi"
	BySNMP     = "snmp" // RFC 3411 and on
)

// Protocols are the management protocols beside the command line.
var Protocols = []string{ByNETCONF, ByRESTCONF, ByGNMI, ByGNOI, BySNMP}

// A Caller says things to a device over a management protocol.
type Caller interface {
	// Call says one thing in the words of the protocol, and returns the answer as text that a pattern or a layout reads. Errors are *Error.
	Call(ctx context.Context, what string) (answer string, err error)
	// Close ends it, also under a call that waits.
	Close()
}

// A Service says where a kind of device offers a management protocol, and how that is secured.
type Service struct {
	Port    int    `yaml:"port"`    // the usual one of the protocol when left out
	TLS     string `yaml:"tls"`     // pinned, trusted or off; pinned when left out, but for netconf, which goes over SSH then
	Root    string `yaml:"root"`    // of restconf: where it begins; asked for when left out (RFC 8040, section 3.1)
	Version string `yaml:"version"` // of snmp: 3 or 2c; 3 when left out
}

// How the other side of a TLS connection is known.
const (
	TLSPinned  = "pinned"  // its key is kept when it is first seen, and has to stay the same
	TLSTrusted = "trusted" // its certificate is signed by an authority that this machine trusts, for its name
	TLSOff     = "off"     // there is no TLS: passwords travel in clear text
)

// usualPorts are those that are registered for the protocols.
var usualPorts = map[string]int{ByNETCONF: 830, ByRESTCONF: 443, ByGNMI: 9339, ByGNOI: 9339, BySNMP: 161}

// Endpoint is where a device offers a protocol, host:port: as its settings say, else at the port of its kind.
func (t *Target) Endpoint(protocol string, s Service) string {
	if at := t.Services[protocol]; at != "" {
		return at
	}
	port := s.Port
	if port == 0 {
		port = usualPorts[protocol]
	}
	host, _, err := net.SplitHostPort(t.Address)
	if err != nil {
		host = t.Address
	}
	return net.JoinHostPort(host, strconv.Itoa(port))
}

// Check reports what is wrong with how a protocol is offered.
func (s *Service) Check(protocol string) error {
	switch {
	case s.Port < 0 || s.Port > 65535:
		return fmt.Errorf("port %d is none", s.Port)
	case s.TLS != "" && s.TLS != TLSPinned && s.TLS != TLSTrusted && s.TLS != TLSOff:
		return fmt.Errorf("tls %q is none of %s, %s and %s", s.TLS, TLSPinned, TLSTrusted, TLSOff)
	case s.TLS != "" && protocol == BySNMP:
		return fmt.Errorf("tls is not for snmp, which has protections of its own")
	case s.TLS == TLSOff && protocol == ByNETCONF:
		return fmt.Errorf("netconf goes over SSH, or over TLS with tls: %s or %s", TLSPinned, TLSTrusted)
	case s.Root != "" && protocol != ByRESTCONF:
		return fmt.Errorf("root is for restconf")
	case s.Version != "" && (protocol != BySNMP || s.Version != "3" && s.Version != "2c"):
		return fmt.Errorf("version %q: snmp has 3 and 2c, the others have none", s.Version)
	}
	return nil
}
