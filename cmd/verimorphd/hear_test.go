package main

import (
	"encoding/pem"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/engine"
	"verimorph/internal/selfsigned"
)

// Relays are networks or single addresses; anything else is an error that names it.
func TestRelays(t *testing.T) {
	got, err := (&hearing{relays: "192.0.2.0/28, 198.51.100.7,2001:db8::1"}).networks()
	require.NoError(t, err)
	assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("192.0.2.0/28"), netip.MustParsePrefix("198.51.100.7/32"), netip.MustParsePrefix("2001:db8::1/128")}, got)
	for _, bad := range []string{"relay.example", "192.0.2.0/40", "192.0.2"} {
		_, err := (&hearing{relays: bad}).networks()
		assert.ErrorContains(t, err, `"`+bad+`" is no network`)
	}
}

// A collector needs an address that can be used, and an authority that can be read.
func TestCollectors(t *testing.T) {
	none, err := (&hearing{}).collector()
	require.NoError(t, err)
	assert.Nil(t, none)
	dir := t.TempDir()
	c, err := selfsigned.New("collector")
	require.NoError(t, err)
	good, empty := filepath.Join(dir, "ca.pem"), filepath.Join(dir, "empty.pem")
	require.NoError(t, os.WriteFile(good, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Certificate[0]}), 0o600))
	require.NoError(t, os.WriteFile(empty, []byte("nothing"), 0o600))
	s, err := (&hearing{send: "tls://192.0.2.9:6514", authority: good}).collector()
	require.NoError(t, err)
	assert.NotNil(t, s)
	for says, h := range map[string]hearing{"is no collector": {send: "192.0.2.9"}, "holds no certificate": {send: "tls://192.0.2.9:6514", authority: empty}, "-syslog-ca": {send: "tls://192.0.2.9:6514", authority: filepath.Join(dir, "none")}} {
		_, err := h.collector()
		assert.ErrorContains(t, err, says)
	}
}

// An address that cannot be listened at, and a certificate that is missing, are told before the service starts.
func TestHearingThatCannotBegin(t *testing.T) {
	for says, h := range map[string]hearing{"syslog over UDP": {udp: "192.0.2.1:514"}, "syslog over TCP": {tcp: "192.0.2.1:514"}, "-syslog-cert and -syslog-key": {tls: "127.0.0.1:0"}} {
		closes, err := h.listen(t.Context(), &engine.Engine{}, slog.New(slog.DiscardHandler))
		assert.ErrorContains(t, err, says)
		for _, f := range closes {
			f()
		}
	}
}
