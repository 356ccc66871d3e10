package link

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"net"
	"sync"

	"verimorph/device"
)

// Trust: how the other side of a TLS connection is known. As with host keys of SSH, its key is kept when it is first seen, and has to stay the same.

// errPin is beneath the error about a key that changed.
var errPin = errors.New("the key of its certificate is another one than the one that is kept")

// Trust decides for one service of a device whether a certificate is the right one.
type Trust struct {
	Config *tls.Config // nil: there is no TLS

	mu      sync.Mutex
	changed string // the pin that came instead of the one that is kept
}

// Pin is what is kept of a certificate: the SHA-256 of its public key (RFC 7469, section 2.4), so that a certificate may be renewed.
func Pin(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return "sha256:" + base64.StdEncoding.EncodeToString(sum[:])
}

// NewTrust is how a service of a device is trusted.
func NewTrust(t *device.Target, protocol string, s device.Service) *Trust {
	out := &Trust{}
	host, _, _ := net.SplitHostPort(t.Endpoint(protocol, s))
	switch s.TLS {
	case device.TLSOff:
	case device.TLSTrusted:
		out.Config = &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host}
	default:
		known := t.Pins[protocol]
		out.Config = &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host, InsecureSkipVerify: true,
			VerifyConnection: func(cs tls.ConnectionState) error { // the key is what is checked
				pin := Pin(cs.PeerCertificates[0])
				switch {
				case known == pin:
					return nil
				case known != "" && !t.AnyHostKey:
					out.mu.Lock()
					defer out.mu.Unlock()
					out.changed = pin
					return errPin
				case t.Pin != nil:
					return t.Pin(protocol, pin)
				}
				return nil
			}}
	}
	if out.Config != nil && t.Certificate != nil {
		note := sync.OnceFunc(func() {
			if t.Noted != nil {
				t.Noted(t.CertificateID)
			}
		})
		out.Config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { note(); return t.Certificate, nil }
	}
	return out
}

// Changed is the error about a key that changed, or nil when none did.
func (t *Trust) Changed(address, doing string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.changed == "" {
		return nil
	}
	e := device.Fail(device.HostKeyChanged, address, doing, "the key of its certificate changed; it is %s now; if the device was replaced or its key renewed, forget the pinned key and refresh", t.changed)
	e.Cause = errPin
	return e
}

// DialService connects to a service of a device, without TLS, directly or through another device.
func DialService(ctx context.Context, through device.Through, address string) (net.Conn, error) {
	var conn net.Conn
	var err error
	if through != nil {
		conn, err = through.DialThrough(ctx, address)
	} else {
		conn, err = (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", address)
	}
	if err != nil {
		e := device.Fail(device.Unreachable, address, "connect", "nothing answers there")
		e.Cause = err
		return nil, e
	}
	return conn, nil
}
