package peers

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/device/link"
	"verimorph/device/netconf"
	"verimorph/internal/opensshd"
)

// server starts netconfd behind an OpenSSH server.
func server(t *testing.T) device.Target {
	dir := t.TempDir()
	socket := filepath.Join(dir, "s") // names of sockets are short
	program(t, "netconf-subsystem", "netconfd")
	host, err := opensshd.Start(dir, "Subsystem netconf \"/usr/sbin/netconf-subsystem --ncxserver-sockname=PORT@"+socket+"\"")
	require.NoError(t, err)
	t.Cleanup(host.Stop)
	// Its model of interfaces asks a program of this name for their addresses, which no package brings.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "get-interface-ipv4"), []byte("#!/bin/sh\necho 127.0.0.1/8\n"), 0o755))
	daemon(t, []string{"HOME=" + dir, "PATH=" + dir + ":" + os.Getenv("PATH")}, program(t, "netconfd", "netconfd"), "--no-startup", "--superuser="+host.User, "--module=ietf-system", "--module=ietf-interfaces", "--ncxserver-sockname="+socket, "--port="+portOf(t, host.Address), "--log-level=info")
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 20*time.Second, 50*time.Millisecond)
	return device.Target{Address: host.Address, SignIns: []device.SignIn{{User: host.User, Key: host.Signer}}, HostKey: strings.TrimSpace(string(host.HostKey.Marshal()))}
}

// netconfd is told apart, read, locked, edited and refused by what the standards say alone.
func TestNetconfd(t *testing.T) {
	target := server(t)
	target.HostKey = ""
	route := device.Route{Driver: &netconf.Driver{Name: "netconf"}, Target: target}
	c, err := route.Dial(t.Context())
	require.NoError(t, err)
	defer c.Close()
	// It fills the clock of ietf-system's state and not its platform, so what it is stays unknown to whoever asks the standard models alone.
	_, err = c.Portrait(t.Context())
	assert.Equal(t, device.NotUnderstood, device.KindOf(err), "%v", err)
	read, err := c.Readings(t.Context(), c.Profile().Readings)
	require.NoError(t, err)
	assert.Equal(t, verify.Set, read["interfaces-up"].Type, "%v", read)

	running, proof, err := c.FetchPart(t.Context(), "running")
	require.NoError(t, err)
	assert.Equal(t, "read twice", proof)
	changed := `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>the harbour office</contact></system>`
	require.NoError(t, c.PutPart(t.Context(), "running", []byte(changed)))
	again, _, err := c.FetchPart(t.Context(), "running")
	require.NoError(t, err)
	assert.Contains(t, string(again), "the harbour office")
	err = c.PutPart(t.Context(), "running", []byte(`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><colour>red</colour></system>`))
	assert.Equal(t, device.Refused, device.KindOf(err), "%v", err)
	after, _, err := c.FetchPart(t.Context(), "running")
	require.NoError(t, err)
	assert.Equal(t, string(again), string(after), "what is refused changes nothing")
	require.NoError(t, c.PutPart(t.Context(), "running", running))
	back, _, err := c.FetchPart(t.Context(), "running")
	require.NoError(t, err)
	assert.NotContains(t, string(back), "the harbour office")

	// A lock that somebody else has is told in their words, and nothing is put.
	l, err := link.Dial(t.Context(), target, nil)
	require.NoError(t, err)
	defer l.Close()
	other := netconf.NewCaller(l, target.Address)
	defer other.Close()
	_, err = other.Call(t.Context(), "<lock><target><running/></target></lock>")
	require.NoError(t, err)
	err = c.PutPart(t.Context(), "running", []byte(changed))
	assert.Equal(t, device.NotReady, device.KindOf(err), "%v", err)
	assert.ErrorContains(t, err, "has the lock: "+target.SignIns[0].User+" from 127.0.0.1, since 20")
	_, err = other.Call(t.Context(), "<unlock><target><running/></target></unlock>")
	require.NoError(t, err)
	require.NoError(t, c.PutPart(t.Context(), "running", []byte(changed)))
	_, err = other.Call(t.Context(), "<fly/>")
	assert.Equal(t, device.Refused, device.KindOf(err), "%v", err)
}

// A dialect whose every word is NETCONF says where the maker's own model has what the standard ones do not tell.
func TestDialectOverNETCONF(t *testing.T) {
	target := server(t)
	target.HostKey = ""
	d, err := cli.ReadDialect([]byte(`
format: verimorph-dialect/2
dialect: modelled
portrait:
  - by: netconf
    send: '<get><filter type="subtree"><system-state xmlns="urn:ietf:params:xml:ns:yang:ietf-system"/></filter></get>'
    table: {by: xml, path: rpc-reply.data.system-state, columns: {version: yuma.uname.release, model: yuma.uname.machine, started: yuma.sysBootDateTime}}
readings:
  - {name: links, title: Links, type: set, by: netconf, send: '<get><filter type="subtree"><interfaces-state xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"/></filter></get>', table: {by: xml, path: rpc-reply.data.interfaces-state.interface, columns: {value: name}}, expect: {rule: keeps-all, severity: fail}}
backup:
  - {part: running, title: Running, kind: configuration, file: running.xml, syntax: xml, by: netconf, path: running, restore: {by: netconf, path: running}}
`))
	require.NoError(t, err)
	c, err := d.Dial(t.Context(), target)
	require.NoError(t, err)
	defer c.Close()
	client := &device.Client{Conn: c}
	p, err := client.Portrait(t.Context())
	require.NoError(t, err)
	assert.NotEmpty(t, p.Version)
	assert.NotEmpty(t, p.Started)
	got, err := client.Readings(t.Context(), d.Readings)
	require.NoError(t, err)
	assert.Contains(t, got["links"].Set, "lo", "%v", got)
}
