package peers

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/device/snmp"
)

// users are one of each usual protection.
var users = []device.SNMPUser{
	{User: "nobody-checks"},
	{User: "md5-only", AuthProtocol: "MD5", AuthPassword: "authentic-1"},
	{User: "sha-only", AuthProtocol: "SHA", AuthPassword: "authentic-2"},
	{User: "sha256-only", AuthProtocol: "SHA-256", AuthPassword: "authentic-3"},
	{User: "md5-des", AuthProtocol: "MD5", AuthPassword: "authentic-4", PrivProtocol: "DES", PrivPassword: "private-4"},
	{User: "sha-aes", AuthProtocol: "SHA", AuthPassword: "authentic-5", PrivProtocol: "AES", PrivPassword: "private-5"},
	{User: "sha512-aes", AuthProtocol: "SHA-512", AuthPassword: "authentic-6", PrivProtocol: "AES-128", PrivPassword: "private-6"},
	{Community: "harbour-only"},
}

// agent starts net-snmp's agent with those users.
func agent(t *testing.T) (at string) {
	dir := t.TempDir()
	at = free(t)
	conf := "rocommunity harbour-only\nsysName peer-1\nsysLocation Pier 4\nsysContact \"the harbour office\"\n"
	for _, u := range users {
		if u.User == "" {
			continue
		}
		line, level := "createUser "+u.User, "noauth"
		if u.AuthPassword != "" {
			line, level = line+fmt.Sprintf(" %s \"%s\"", u.AuthProtocol, u.AuthPassword), "auth"
		}
		if u.PrivPassword != "" {
			line, level = line+fmt.Sprintf(" %s \"%s\"", strings.TrimSuffix(u.PrivProtocol, "-128"), u.PrivPassword), "priv"
		}
		conf += line + "\nrouser " + u.User + " " + level + "\n"
	}
	file := write(t, filepath.Join(dir, "snmpd.conf"), "%s", conf)
	daemon(t, []string{"SNMP_PERSISTENT_DIR=" + dir, "MIBS="}, program(t, "snmpd", "snmpd"), "-f", "-Lo", "-C", "-c", file, "-I", "-smux,mteTrigger,mteTriggerConf", "udp:"+at)
	require.Eventually(t, func() bool {
		_, err := ask(t, at, "2c", users[len(users)-1], "get sysName.0")
		return err == nil
	}, 30*time.Second, 200*time.Millisecond)
	return at
}

func ask(t *testing.T, at, version string, u device.SNMPUser, what string) (string, error) {
	c, err := snmp.Dial(&device.Target{Address: at, Services: map[string]string{device.BySNMP: at}, SNMP: []device.SNMPUser{u}}, device.Service{Version: version})
	if err != nil {
		return "", err
	}
	defer c.Close()
	return c.Call(t.Context(), what)
}

// Every protection that net-snmp has by default: readings from the standard MIBs come, and whoever is not let in is told so.
func TestNetSNMP(t *testing.T) {
	at := agent(t)
	for _, u := range users {
		version := map[bool]string{true: "2c", false: "3"}[u.Community != ""]
		text, err := ask(t, at, version, u, "get sysName.0 sysLocation.0 sysUpTime.0")
		require.NoError(t, err, u.User)
		var got struct {
			Values []struct {
				Name  string
				Value any
			}
		}
		require.NoError(t, json.Unmarshal([]byte(text), &got))
		require.Len(t, got.Values, 3)
		assert.Equal(t, []any{"sysName.0", "peer-1", "Pier 4"}, []any{got.Values[0].Name, got.Values[0].Value, got.Values[1].Value}, u.User)
	}
	good := users[5]
	text, err := ask(t, at, "3", good, "table ifDescr ifOperStatus ifPhysAddress")
	require.NoError(t, err)
	assert.Contains(t, text, `"ifDescr": "lo"`)
	assert.Contains(t, text, `"ifOperStatus": "up"`)
	text, err = ask(t, at, "3", good, "walk 1.3.6.1.2.1.1")
	require.NoError(t, err)
	assert.Contains(t, text, `"sysContact.0"`)
	for what, kind := range map[string]device.ErrorKind{"get sysName.7": device.Refused, "get sysNmae.0": device.NotUnderstood, "set sysName.0": device.NotUnderstood, "get": device.NotUnderstood, "get 1.2.x": device.NotUnderstood, "get sysName.0.x": device.NotUnderstood} {
		_, err := ask(t, at, "3", good, what)
		assert.Equal(t, kind, device.KindOf(err), "%s: %v", what, err)
	}
	text, err = ask(t, at, "3", good, "table dot1dTpFdbPort")
	require.NoError(t, err)
	assert.Contains(t, text, `"rows": []`, "a machine that is no bridge has no such table")
	wrong := good
	wrong.AuthPassword = "not-the-right-one"
	_, err = ask(t, at, "3", wrong, "get sysName.0")
	assert.Equal(t, device.SignInRefused, device.KindOf(err), "%v", err)
	wrong = good
	wrong.User = "stranger"
	_, err = ask(t, at, "3", wrong, "get sysName.0")
	assert.Equal(t, device.SignInRefused, device.KindOf(err), "%v", err)
	wrong = good
	wrong.PrivPassword = "not-the-right-one"
	_, err = ask(t, at, "3", wrong, "get sysName.0")
	assert.Error(t, err)
	_, err = ask(t, at, "2c", device.SNMPUser{Community: "public"}, "get sysName.0")
	assert.Equal(t, device.Silent, device.KindOf(err), "%v", err)
	_, err = ask(t, at, "3", users[len(users)-1], "get sysName.0")
	assert.Equal(t, device.SignInRefused, device.KindOf(err), "a community is no user")
}

// A device of which nothing but SNMP is known: what it is and how it does comes by a dialect that says nothing else.
func TestDialectOverSNMP(t *testing.T) {
	at := agent(t)
	d, err := cli.ReadDialect([]byte(`
format: verimorph-dialect/2
dialect: watched
services: {snmp: {version: "3"}}
portrait:
  - {by: snmp, send: get sysName.0 sysDescr.0 sysUpTime.0, table: {by: json, path: values, columns: {name: value}, only: {name: .}}}
readings:
  - {name: links-up, title: Links up, type: set, by: snmp, send: table ifDescr ifOperStatus, table: {by: json, path: rows, columns: {value: ifDescr, state: ifOperStatus}, only: {state: '^up$'}}, expect: {rule: keeps-all, severity: fail}}
`))
	require.NoError(t, err)
	c, err := d.Dial(t.Context(), device.Target{Address: at, Services: map[string]string{device.BySNMP: at}, SNMP: users[5:6], SignIns: []device.SignIn{{User: "unused", Password: "unused"}}})
	require.NoError(t, err)
	defer c.Close()
	client := &device.Client{Conn: c}
	got, err := client.Readings(t.Context(), d.Readings)
	require.NoError(t, err)
	assert.Contains(t, got["links-up"].Set, "lo")
	assert.Error(t, client.RemoveFile(t.Context(), "x"))
	_, err = client.SFTP()
	assert.Equal(t, device.Lacking, device.KindOf(err))
}

// Traps and informs of snmptrap are heard from those who are known, signed as they are to sign, and from nobody else.
func TestSNMPTraps(t *testing.T) {
	var mu sync.Mutex
	var heard []string
	l, err := snmp.ListenTraps(snmp.TrapConfig{Listen: "127.0.0.1:0", Users: append(users[1:], device.SNMPUser{}), Log: slog.New(slog.DiscardHandler), Hear: func(tr snmp.Trap) {
		mu.Lock()
		defer mu.Unlock()
		heard = append(heard, fmt.Sprint(tr.From, " ", tr.Bad(), " ", tr.Text))
	}})
	require.NoError(t, err)
	defer l.Close()
	trap := program(t, "snmptrap", "snmp")
	send := func(args ...string) (string, error) {
		return run(t, trap, append(args, "-m", "", l.Address, "", "1.3.6.1.6.3.1.1.5.3", "1.3.6.1.2.1.2.2.1.2.7", "s", "bow port")...)
	}
	engine := "0x8000000001020304"
	out, err := send("-v2c", "-c", "harbour-only")
	require.NoError(t, err, out)
	for _, u := range users[1:7] {
		args := []string{"-v3", "-e", engine, "-u", u.User, "-l", "authNoPriv", "-a", u.AuthProtocol, "-A", u.AuthPassword}
		if u.PrivPassword != "" {
			args = append(args, "-l", "authPriv", "-x", strings.TrimSuffix(u.PrivProtocol, "-128"), "-X", u.PrivPassword)
		}
		out, err := send(args...)
		require.NoError(t, err, out)
	}
	want := "127.0.0.1 true linkDown: ifDescr.7=bow port"
	lines := func() []string { mu.Lock(); defer mu.Unlock(); return append([]string(nil), heard...) }
	assert.Eventually(t, func() bool { return len(lines()) == 7 }, 10*time.Second, 50*time.Millisecond, "%v", lines())
	for _, h := range lines() {
		assert.Equal(t, want, h)
	}
	// Nobody who is not known, or signs less than they are to, is heard.
	_, _ = send("-v2c", "-c", "public")
	_, _ = send("-v3", "-e", engine, "-u", "stranger", "-l", "authNoPriv", "-a", "SHA", "-A", "whatever-it-is")
	_, _ = send("-v3", "-e", engine, "-u", "sha-aes", "-l", "authNoPriv", "-a", "SHA", "-A", "authentic-5")
	_, _ = send("-v3", "-e", engine, "-u", "sha-only", "-l", "noAuthNoPriv")
	_, _ = send("-v3", "-e", engine, "-u", "sha-only", "-l", "authNoPriv", "-a", "SHA", "-A", "not-the-right-one")
	time.Sleep(time.Second)
	assert.Len(t, lines(), 7, "%v", lines())
	// An inform is answered.
	out, err = send("-v2c", "-c", "harbour-only", "-Ci", "-r", "1", "-t", "3")
	assert.NoError(t, err, out)
	assert.Eventually(t, func() bool { return len(lines()) == 8 }, 10*time.Second, 50*time.Millisecond)
	// A user that came meanwhile is heard, one that went is not.
	l.Trust([]device.SNMPUser{{User: "newcomer", AuthProtocol: "SHA", AuthPassword: "authentic-9"}})
	out, err = send("-v3", "-e", engine, "-u", "newcomer", "-l", "authNoPriv", "-a", "SHA", "-A", "authentic-9")
	require.NoError(t, err, out)
	_, _ = send("-v2c", "-c", "harbour-only")
	assert.Eventually(t, func() bool { return len(lines()) == 9 }, 10*time.Second, 50*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	assert.Len(t, lines(), 9)
}
