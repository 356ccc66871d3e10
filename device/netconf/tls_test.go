package netconf

import (
	"crypto/tls"
	"crypto/x509"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/device"
	"verimorph/internal/selfsigned"
)

func certificate(t *testing.T) (tls.Certificate, *x509.CertPool) {
	c, err := selfsigned.New("peer")
	require.NoError(t, err)
	return c, selfsigned.Pool(c)
}

// Over TLS both sides say by certificates who they are; the session is the same as over SSH. A certificate of ours that is not taken, and one of theirs that changed, each have
// their error.
func TestOverTLS(t *testing.T) {
	theirs, _ := certificate(t)
	ours, knows := certificate(t)
	ln, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{theirs}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: knows})
	require.NoError(t, err)
	defer ln.Close()
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				s := &server{hello: helloOf(base10), answer: datastores("", "")}
				if conn.(*tls.Conn).Handshake() != nil {
					return
				}
				stream, err := s.Subsystem(t.Context(), "netconf", "")
				if err != nil {
					return
				}
				go func() { _, _ = io.Copy(stream.In, conn) }()
				_, _ = io.Copy(conn, stream.Out)
			}()
		}
	}()
	pin := ""
	noted := []int64{}
	target := device.Target{Address: "127.0.0.1:22", Services: map[string]string{device.ByNETCONF: ln.Addr().String()}, Certificate: &ours, CertificateID: 7,
		Pin: func(_, p string) error { pin = p; return nil }, Noted: func(id int64) { noted = append(noted, id) }}
	service := device.Service{TLS: device.TLSPinned}
	c, err := DialTLS(&target, service, nil)
	require.NoError(t, err)
	defer c.Close()
	for range 2 {
		text, err := c.Call(t.Context(), "<get-config><source><running/></source></get-config>")
		require.NoError(t, err)
		assert.Contains(t, text, "<old/><router/>")
	}
	assert.NotEmpty(t, pin)
	assert.Equal(t, []int64{7}, noted)

	ask := func(target device.Target) error {
		c, err := DialTLS(&target, service, nil)
		if err != nil {
			return err
		}
		defer c.Close()
		_, err = c.Call(t.Context(), "<get/>")
		return err
	}
	changed := target
	changed.Pins = map[string]string{device.ByNETCONF: "sha256:another"}
	assert.Equal(t, device.HostKeyChanged, device.KindOf(ask(changed)))
	stranger := target
	other, _ := certificate(t)
	stranger.Certificate = &other
	err = ask(stranger)
	assert.Equal(t, device.SignInRefused, device.KindOf(err), "%v", err)
	nobody := target
	nobody.Certificate = nil
	assert.ErrorContains(t, ask(nobody), "no certificate of ours is known")
	away := target
	away.Services = map[string]string{device.ByNETCONF: "127.0.0.1:1"}
	assert.Equal(t, device.Unreachable, device.KindOf(ask(away)))
}
