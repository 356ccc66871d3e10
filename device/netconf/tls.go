package netconf

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"strings"

	"verimorph/device"
	"verimorph/device/link"
)

// portTLS is the port of NETCONF over TLS (RFC 7589, section 2).
const portTLS = 6513

// DialTLS makes a caller over TLS (RFC 7589). Who we are is said by a certificate of ours; the messages are framed as over SSH. Nothing is
// opened before the first call. through is a device that passes the connection on; nil: none.
func DialTLS(t *device.Target, s device.Service, through device.Through) (*Caller, error) {
	if s.Port == 0 {
		s.Port = portTLS
	}
	address := t.Endpoint(device.ByNETCONF, s)
	if t.Certificate == nil {
		return nil, device.Fail(device.SignInRefused, address, "speak NETCONF over TLS",
			"no certificate of ours is known for it; add one with: verimorph credential add -kind certificate")
	}
	return NewCaller(&overTLS{Apart: link.Apart{Address: address}, trust: link.NewTrust(t, device.ByNETCONF, s), through: through}, address), nil
}

// overTLS is a link that carries NETCONF over TLS and nothing else.
type overTLS struct {
	link.Apart
	trust   *link.Trust
	through device.Through
}

// Subsystem implements link.Link.
func (o *overTLS) Subsystem(ctx context.Context, _, doing string) (*link.Stream, error) {
	plain, err := link.DialService(ctx, o.through, o.Address)
	if err != nil {
		return nil, err
	}
	conn := tls.Client(plain, o.trust.Config)
	if err := conn.HandshakeContext(ctx); err != nil {
		_ = plain.Close()
		return nil, o.failed(err, doing)
	}
	stop := context.AfterFunc(ctx, func() { _ = plain.Close() })
	return &link.Stream{In: conn, Out: &told{conn, o, doing}, Close: func() { stop(); _ = conn.Close() }}, nil
}

// told reads, and remembers what an alert means: with TLS 1.3 a server says only after the handshake that it does not take our certificate.
type told struct {
	conn  net.Conn
	o     *overTLS
	doing string
}

// Read implements io.Reader.
func (r *told) Read(p []byte) (int, error) {
	n, err := r.conn.Read(p)
	if err != nil {
		err = r.o.failed(err, r.doing)
	}
	return n, err
}

// failed is an error of TLS as one of the device.
func (o *overTLS) failed(err error, doing string) error {
	if changed := o.trust.Changed(o.Address, doing); changed != nil {
		return changed
	}
	if alert, ok := asAlert(err); ok {
		return device.Fail(device.SignInRefused, o.Address, doing, "the device does not take our certificate: %s", alert)
	}
	return device.Fail(device.Lost, o.Address, doing, "%s", err)
}

// asAlert is an alert of the other side about our certificate (RFC 8446, section 6.2).
func asAlert(err error) (alert string, ok bool) {
	var op *net.OpError
	if !errors.As(err, &op) || op.Op != "remote error" {
		return "", false
	}
	return op.Err.Error(), strings.Contains(op.Err.Error(), "certificate")
}
