package cli

import (
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/device"
	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
	"verimorph/transfer"
)

// receiver starts a receiver of every protocol.
func receiver(t *testing.T) *transfer.Receiver {
	r, err := transfer.Receive(transfer.ReceiverConfig{SFTP: "127.0.0.1:0", FTP: "127.0.0.1:0", TFTP: "127.0.0.1:0", HostKey: filepath.Join(t.TempDir(), "hostkey"), Give: &transfer.Server{}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

// Every part of a firewall comes whole, each in its own way, and goes back.
func TestPartsOfAFirewall(t *testing.T) {
	b, target := firewall(t, nil)
	target.Exchange = receiver(t)
	c := dial(t, target)
	got := map[string]string{}
	for i := range target.Dialect.Backup {
		p := &target.Dialect.Backup[i]
		data, proof, err := c.fetchPart(t.Context(), p)
		require.NoError(t, err, p.Name)
		got[p.Name] = string(data)
		want := "read twice"
		if p.By == PushSFTP {
			want = "the device's own SHA-256"
		}
		assert.Equal(t, want, proof, p.Name)
	}
	st := b.Status()
	assert.Equal(t, st.Config, got["running"])
	for part, name := range map[string]string{"users": "users", "licences": "licences", "certificates": "certs", "cables": "cables"} {
		assert.Equal(t, st.Holding[name], got[part], part)
	}
	assert.Contains(t, got["system"], "TARNHOLM SYSTEM 1")
	assert.Greater(t, len(got["system"]), 60_000)
	assert.Contains(t, got["boot"], "from a, then a")

	// What is changed on the box is put back as it was, and no copy is left lying there.
	for _, part := range []string{"users", "licences", "certificates", "cables", "running"} {
		changed := strings.Replace(got[part], "\n", "\n"+map[bool]string{true: "# more\n", false: "more\n"}[part == "running"], 1)
		require.NoError(t, c.putPart(t.Context(), target.Dialect.part(part), []byte(changed)), part)
		again, _, err := c.fetchPart(t.Context(), target.Dialect.part(part))
		require.NoError(t, err)
		assert.Equal(t, changed, string(again), part)
		require.NoError(t, c.putPart(t.Context(), target.Dialect.part(part), []byte(got[part])), part)
	}
	assert.Equal(t, st.Config, b.Status().Config)
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	for _, f := range p.Files {
		assert.NotContains(t, f.Name, "back-")
	}
	assert.NotEmpty(t, p.Started)

	// Refused by the box: nothing changes, nothing is left.
	err = c.putPart(t.Context(), target.Dialect.part("running"), []byte("nonsense here\n"))
	assert.Equal(t, device.Refused, device.KindOf(err))
	assert.ErrorContains(t, err, "nothing was taken")
	err = c.putPart(t.Context(), target.Dialect.part("licences"), []byte("S-other\tall\n"))
	assert.ErrorContains(t, err, "not for")
	assert.Equal(t, st.Config, b.Status().Config)
	assert.Equal(t, device.Refused, device.KindOf(c.putPart(t.Context(), target.Dialect.part("boot"), []byte("x"))))
	p, err = c.Portrait(t.Context())
	require.NoError(t, err)
	for _, f := range p.Files {
		assert.NotContains(t, f.Name, "back-")
	}
}

// What is empty, half, or never sent is no part, and the address that lets somebody in is in no error.
func TestPartsThatAreNotWhole(t *testing.T) {
	b, target := firewall(t, nil)
	target.Exchange = receiver(t)
	c := dial(t, target)
	for _, by := range []string{"running", "users", "certificates"} {
		require.NoError(t, b.Arm(tarnholm.EmptyParts, box.Fault{Times: 2}))
		_, _, err := c.fetchPart(t.Context(), target.Dialect.part(by))
		if by == "users" { // the command line knows another way to it
			require.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, "empty", by)
	}
	require.NoError(t, b.Heal(tarnholm.EmptyParts))
	require.NoError(t, b.Arm(tarnholm.SendsHalf, box.Fault{}))
	_, _, err := c.fetchPart(t.Context(), target.Dialect.part("system"))
	assert.ErrorContains(t, err, "the device says it sent")
	system := *target.Dialect.part("system")
	system.Send = "send nothing.box to {url}"
	_, _, err = c.fetchPart(t.Context(), &system)
	assert.ErrorContains(t, err, "there is nothing called nothing.box")
	assert.NotContains(t, err.Error(), "deliver:")
	target.Exchange = nil
	_, _, err = dial(t, target).fetchPart(t.Context(), target.Dialect.part("system"))
	assert.ErrorContains(t, err, "no receiver")
}

func TestNothingIsSent(t *testing.T) {
	if testing.Short() {
		t.Skip("waits")
	}
	b, target := firewall(t, nil)
	target.Exchange = receiver(t)
	require.NoError(t, b.Arm(tarnholm.SendsNothing, box.Fault{}))
	_, _, err := dial(t, target).fetchPart(t.Context(), target.Dialect.part("system"))
	assert.ErrorContains(t, err, "says it has sent it, but nothing came")
}

// The other makers' boxes: NETCONF, HTTP with a token, FTP and TFTP.
func TestPartsOfOtherMakers(t *testing.T) {
	dialects, err := ReadDialects(Builtin())
	require.NoError(t, err)
	for i, c := range []struct{ maker, model, version, config string }{
		{"Brackmoor", "SG-5", "3.8.4", "control-sg1.json"}, {"Pellworth", "RC-6", "F1.06", "marrow-ramp1.ini"},
	} {
		t.Run(c.maker, func(t *testing.T) {
			text, err := os.ReadFile("../../demo/configs/" + c.config)
			require.NoError(t, err)
			ln, err := net.Listen("tcp", fmt.Sprintf("127.62.9.%d:0", i+1))
			require.NoError(t, err)
			_ = ln.Close()
			b, err := simfleet.OpenShellBox(shellbox.Spec{Name: "box-1", Maker: c.maker, Model: c.model, Serial: "S7", Version: c.version, Address: ln.Addr().String(), User: "hand", Config: string(text)}, t.TempDir(), 200, slog.New(slog.NewTextHandler(io.Discard, nil)))
			require.NoError(t, err)
			require.NoError(t, b.Start())
			t.Cleanup(b.Stop)
			a := b.Access()
			password, token, web, key, name := a.Password, a.Token, a.Web, a.HostKey, a.Dialect
			target := testTarget{Target: device.Target{Address: b.Address, SignIns: []device.SignIn{{User: "hand", Password: password}}, Token: token, Web: web, HostKey: key, Exchange: receiver(t)}, Dialect: dialects[name]}
			d := dial(t, target)
			p, err := d.Portrait(t.Context())
			require.NoError(t, err)
			assert.Equal(t, [3]string{c.maker, c.model, c.version}, [3]string{p.Maker, p.Model, p.Version})
			assert.Empty(t, target.Dialect.lacksForFirmware())
			for i := range target.Dialect.Backup {
				part := &target.Dialect.Backup[i]
				data, proof, err := d.fetchPart(t.Context(), part)
				require.NoError(t, err, part.Name)
				assert.Equal(t, "read twice", proof)
				if part.Name == "running" {
					assert.Contains(t, string(data), strings.TrimSpace(string(text[len(text)-200:])))
				}
				if part.Restore == nil {
					continue
				}
				changed := strings.Replace(string(data), "4", "3", 1)
				require.NoError(t, d.putPart(t.Context(), part, []byte(changed)), part.Name)
				again, _, err := d.fetchPart(t.Context(), part)
				require.NoError(t, err)
				assert.Equal(t, changed, string(again))
			}
			bad := target
			bad.Token = "wrong"
			if web != "" {
				_, _, err := dial(t, bad).fetchPart(t.Context(), target.Dialect.part("running"))
				assert.Equal(t, device.SignInRefused, device.KindOf(err))
				assert.Equal(t, device.Refused, device.KindOf(d.putPart(t.Context(), &PartSource{File: "x", Restore: &Put{By: ByHTTP, Path: "parts/none"}}, []byte("{}"))))
			}
		})
	}
}

// Trying never locks an account: the bound holds over sign-in and privileged password together.
func TestTriesAreBounded(t *testing.T) {
	b, target := firewall(t, nil)
	require.NoError(t, b.Arm(tarnholm.LockAccount, box.Fault{Value: 3}))
	good := target.SignIns[0]
	wrong := device.SignIn{ID: 9, User: "bosun", Password: "older-one"}
	var refused, used []int64
	target.Refused, target.Used = func(s device.SignIn, _ bool) { refused = append(refused, s.ID) }, func(s device.SignIn, _ bool) { used = append(used, s.ID) }
	target.SignIns, target.Tries = []device.SignIn{wrong, wrong, wrong, wrong, good}, 2
	_, err := Dial(t.Context(), target)
	assert.Equal(t, device.SignInRefused, device.KindOf(err))
	assert.ErrorContains(t, err, "2 of 5 credentials were tried and refused")
	assert.NotContains(t, err.Error(), "older-one")
	assert.Equal(t, []int64{9, 9}, refused)
	assert.Equal(t, 2, b.Status().Refusals, "one try a credential, whatever the ways to ask")
	// In order, the second is let in, and the refusals of the box begin anew.
	target.SignIns, refused = []device.SignIn{wrong, good}, nil
	require.NoError(t, b.Arm(tarnholm.LockAccount, box.Fault{Value: 10}))
	c := dial(t, target)
	assert.Equal(t, good.ID, c.SignedIn().ID)
	assert.Equal(t, 0, b.Status().Refusals)
	assert.Equal(t, []int64{1}, used)
	c.t.Privileged = []device.SignIn{{ID: 7, Password: "no"}, target.Privileged[0]}
	err = c.Save(t.Context())
	assert.Equal(t, device.SignInRefused, device.KindOf(err), "one refusal is risked")
	for range 3 {
		assert.ErrorContains(t, c.Save(t.Context()), "not risked again")
	}
	assert.Equal(t, []int64{9, 7}, refused)
	target.RaiseTries = -1
	assert.ErrorContains(t, dial(t, target).Save(t.Context()), "not risked again")
	target.RaiseTries, target.Privileged = 5, []device.SignIn{{ID: 7, Password: "no"}, target.Privileged[0]}
	require.NoError(t, dial(t, target).Save(t.Context()))
	assert.Contains(t, used, int64(2))
}

func TestDialectsWithPartsThatCannotBe(t *testing.T) {
	head := "format: verimorph-dialect/1\ndialect: d\nprompt: 'x'\nportrait: [{send: a}]\nbackup:\n"
	for part, says := range map[string]string{
		"- {title: T}": "each part has a name",
		"- {part: a, kind: users, file: f, by: sftp}":                                              "a title is missing",
		"- {part: a, title: T, kind: secrets, file: f, by: sftp}":                                  "kind \"secrets\" is none of",
		"- {part: a, title: T, kind: users, file: ../f, by: sftp}":                                 "no file name",
		"- {part: a, title: T, kind: users, file: f, by: pigeon}":                                  "by \"pigeon\" is none of",
		"- {part: a, title: T, kind: users, file: f, by: cli}":                                     "needs a command to send",
		"- {part: a, title: T, kind: users, file: f, by: push-ftp, send: go}":                      "does not say {url}",
		"- {part: a, title: T, kind: users, file: f, syntax: morse, by: sftp}":                     "syntax \"morse\"",
		"- {part: a, title: T, kind: users, file: f, by: sftp, restore: {by: cli}}":                "restore: by cli needs send, ask and end, or each",
		"- {part: a, title: T, kind: users, file: f, by: sftp, restore: {by: pull-tftp, send: x}}": "restore: the command does not say {url}",
	} {
		_, err := ReadDialect([]byte(head + part + "\n"))
		assert.ErrorContains(t, err, says)
	}
}
