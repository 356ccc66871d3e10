package cli

import (
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"os"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/netconf"
	"verimorph/simfleet/box"
	"verimorph/simfleet/calderpath"
)

// free returns a free address at a host.
func free(t *testing.T, host string) string {
	ln, err := net.Listen("tcp", host+":0")
	require.NoError(t, err)
	defer ln.Close()
	return ln.Addr().String()
}

func calderpathBox(t *testing.T) (*calderpath.Box, testTarget) {
	dialects, err := ReadDialects(Builtin())
	require.NoError(t, err)
	text, err := os.ReadFile("../../demo/configs/tern-rt1.xml")
	require.NoError(t, err)
	ssh, grpc := free(t, "127.62.9.8"), free(t, "127.62.9.8")
	b, err := calderpath.Open(calderpath.Spec{Name: "box-1", Model: "V1", Serial: "S7", Version: "7.4.7", Address: ssh, GRPC: grpc, User: "hand", Config: string(text)}, t.TempDir(), 200, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	a := b.Access()
	return b, testTarget{Target: device.Target{Address: ssh, SignIns: []device.SignIn{{User: "hand", Password: a.Password}}, HostKey: a.HostKey, SNMP: []device.SNMPUser{{Community: a.Community}},
		Services: map[string]string{"gnoi": grpc, "gnmi": grpc}}, Dialect: dialects["calderpath"]}
}

// chooses is the dialect of such boxes that chooses what is started next in another way.
func chooses(t *testing.T, how string) *Dialect {
	text, err := fs.ReadFile(Builtin(), "calderpath.yaml")
	require.NoError(t, err)
	other := regexp.MustCompile(`(?m)^  choose-slot: .*$`).ReplaceAllLiteralString(string(text), "  choose-slot: "+how)
	read, err := ReadDialects(fstest.MapFS{"calderpath.yaml": {Data: []byte(other)}})
	require.NoError(t, err)
	return read["calderpath"]
}

// A dialect says of each thing by which protocol it goes: the portrait and the configuration over NETCONF, firmware and files over gNOI, readings over gNMI.
func TestProtocolsOfOneDevice(t *testing.T) {
	b, target := calderpathBox(t)
	d := dial(t, target)
	p, err := d.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"box-1", "Calderpath", "V1", "S7", "7.4.7"}, []string{p.Name, p.Maker, p.Model, p.Serial, p.Version})
	assert.Equal(t, portrait.Yes, p.ServicesReady)
	assert.Equal(t, portrait.No, p.Unsaved)
	require.Len(t, p.Slots, 1)
	assert.True(t, p.Slots[0].Running)
	assert.Equal(t, portrait.Yes, p.Slots[0].Good)

	running := target.Dialect.part("running")
	data, proof, err := d.fetchPart(t.Context(), running)
	require.NoError(t, err)
	assert.Equal(t, "read twice", proof)
	changed := strings.Replace(string(data), "10.71.0.5", "10.71.0.6", 1)
	require.NoError(t, d.putPart(t.Context(), running, []byte(changed)))
	assert.Contains(t, b.Config(), "10.71.0.6")
	assert.ErrorContains(t, d.putPart(t.Context(), running, []byte("<other/>")), "there is no router in it")
	_, err = netconf.Fetch(t.Context(), d.link, d.t.Address, "startup")
	assert.ErrorContains(t, err, "operation-not-supported")

	keys, _, err := d.fetchPart(t.Context(), target.Dialect.part("keys"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(keys), "key ring "))

	read, err := d.Readings(t.Context(), target.Dialect.Readings)
	require.NoError(t, err)
	assert.Equal(t, verify.Value{Type: verify.Set, Set: []string{"port0", "port1", "port2", "port3"}}, read["ports-up"])
	assert.Equal(t, verify.Value{Type: verify.Text}, read["last-activation"])
	assert.Equal(t, verify.Value{Type: verify.Set, Set: []string{"beside-port0", "beside-port1", "beside-port2", "beside-port3"}}, read["neighbours"])
	for says, users := range map[string][]device.SNMPUser{"no credential of kind snmp-community": nil, "no answer in 2s": {{Community: "another"}}} {
		other := target
		other.SNMP = users
		read, err := dial(t, other).Readings(t.Context(), target.Dialect.Readings)
		require.NoError(t, err, "what goes by SNMP says nothing about the connection")
		assert.Equal(t, verify.NotReadable, read["neighbours"].Type)
		assert.Contains(t, read["neighbours"].Text, says)
		assert.Equal(t, verify.Set, read["ports-up"].Type)
	}

	sum, err := d.Checksum(t.Context(), "v1-7.4.7.bin")
	require.NoError(t, err)
	assert.Equal(t, "sha256", sum.Algorithm)
	_, err = d.Checksum(t.Context(), "v1-9.9.9.bin")
	assert.Equal(t, device.NotUnderstood, device.KindOf(err))
	assert.ErrorContains(t, d.RemoveFile(t.Context(), "v1-7.4.7.bin"), "that package is in use")
	assert.ErrorContains(t, d.ChooseSlot(t.Context(), "v1-9.9.9.bin", ""), "there is no such package that could be started")
	require.NoError(t, d.ChooseSlot(t.Context(), "v1-7.4.7.bin", ""))
	other := target
	other.Dialect = chooses(t, `{by: gnoi, send: 'os.Activate {"version": "{version}", "no_reboot": true}', success: '"activate_ok"'}`)
	byVersion := dial(t, other)
	assert.ErrorContains(t, byVersion.ChooseSlot(t.Context(), "v1-9.9.9.bin", ""), "which version v1-9.9.9.bin holds is not known")
	require.NoError(t, byVersion.ChooseSlot(t.Context(), "v1-7.4.7.bin", ""))
	require.NoError(t, d.Restart(t.Context()))
	_, _, boots := b.Stands()
	assert.Equal(t, 2, boots)
}

// A device that knows its images by their versions proves one by saying that it holds it; one that it does not say that of is not proven.
func TestAVersionThatIsNotHeld(t *testing.T) {
	_, target := calderpathBox(t)
	apart := *target.Dialect
	apart.Verbs = maps.Clone(apart.Verbs)
	delete(apart.Verbs, "checksum")
	target.Dialect = &apart
	require.True(t, apart.Profile().Abilities.ByVersion)
	d := dial(t, target)
	for version, want := range map[string]string{"7.4.7": "7.4.7", "9.9.9": ""} {
		sum, err := d.Checksum(t.Context(), version)
		require.NoError(t, err)
		assert.Equal(t, device.Digest{Algorithm: device.Validated, Sum: want}, sum)
	}
}

// A verb that the dialect does not have is refused by its name, and nothing is said to the device.
func TestVerbsThatAreNotThere(t *testing.T) {
	_, target := calderpathBox(t)
	d := dial(t, target)
	err := d.TakeOver(t.Context())
	assert.Equal(t, device.Lacking, device.KindOf(err))
	assert.ErrorContains(t, err, "take-over: the dialect calderpath does not say how")
}

// A certificate is kept when it is first seen, and another one is refused afterwards; one that is expected to have changed is kept anew.
func TestCertificatesThatChange(t *testing.T) {
	b, target := calderpathBox(t)
	pins := map[string]string{}
	target.Pin = func(protocol, pin string) error { pins[protocol] = pin; return nil }
	read := func(target testTarget) error {
		d := dial(t, target)
		_, err := d.query(t.Context(), Query{By: device.ByGNOI, Send: "os.Verify"}, nil, nil)
		return err
	}
	require.NoError(t, read(target))
	require.NotEmpty(t, pins["gnoi"])
	target.Pins = map[string]string{"gnoi": pins["gnoi"]}
	require.NoError(t, read(target))
	require.NoError(t, b.Arm(calderpath.NewKey, box.Fault{}))
	require.Eventually(t, func() bool { return device.KindOf(read(target)) == device.HostKeyChanged }, 10*time.Second, 50*time.Millisecond)
	before := pins["gnoi"]
	target.AnyHostKey = true
	require.NoError(t, read(target))
	assert.NotEqual(t, before, pins["gnoi"])
}

// Every bad thing that a protocol can be told, or can answer, has an error of its own kind.
func TestProtocolsThatFail(t *testing.T) {
	b, target := calderpathBox(t)
	ask := func(by, what string) error {
		_, err := dial(t, target).query(t.Context(), Query{By: by, Send: what}, nil, nil)
		return err
	}
	for what, want := range map[string]device.ErrorKind{
		"os.Verify": "", "os.Explode": device.NotUnderstood, "weather.Get": device.NotUnderstood, "os.Install": device.NotUnderstood, `os.Activate {"version": 7`: device.NotUnderstood,
		`os.Activate {"colour": 7}`: device.NotUnderstood, `os.Activate {"version": "9", "no_reboot": true}`: device.Refused, "healthz.List": device.Lacking, `system.Reboot {"method": "WARM"}`: device.Refused,
		`system.Ping {"destination": "a"}`: device.Lacking,
	} {
		assert.Equal(t, want, device.KindOf(ask(device.ByGNOI, what)), what)
	}
	for what, want := range map[string]device.ErrorKind{
		"get /system": "", "subscribe once /interfaces": "", "get": device.NotUnderstood, "get system": device.NotUnderstood, "look /system": device.NotUnderstood, "get /weather": device.Refused,
		"set update /system/state/hostname x": device.NotUnderstood, `set update /system/state/hostname "x"`: device.Lacking, "set delete /system": device.Lacking, "subscribe /system": device.NotUnderstood,
	} {
		assert.Equal(t, want, device.KindOf(ask(device.ByGNMI, what)), what)
	}
	for what, want := range map[string]device.ErrorKind{"<get/>": "", "<get": device.NotUnderstood, "<get/><get/>": device.NotUnderstood, "get": device.NotUnderstood, "<fly-to-the-moon/>": device.Refused} {
		assert.Equal(t, want, device.KindOf(ask(device.ByNETCONF, what)), what)
	}
	wrong := target
	wrong.SignIns = []device.SignIn{{ID: 4, User: "hand", Password: "wrong"}}
	refused := 0
	wrong.Refused = func(device.SignIn, bool) { refused++ }
	apart := *target.Dialect
	apart.Portrait, apart.Backup = []Query{{By: device.ByGNOI, Send: "os.Verify"}}, nil
	apart.Verbs, apart.Readings = nil, nil
	wrong.Dialect = &apart
	_, err := dial(t, wrong).query(t.Context(), Query{By: device.ByGNOI, Send: "os.Verify"}, nil, nil)
	assert.Equal(t, device.SignInRefused, device.KindOf(err))
	assert.Equal(t, 1, refused, "it is counted like any other refusal")
	require.NoError(t, b.Arm(calderpath.Mute, box.Fault{Times: -1}))
	_, err = dial(t, func() testTarget { x := target; x.Dialect = &apart; return x }()).query(t.Context(), Query{By: device.ByGNOI, Send: "os.Verify", Wait: 0.2}, nil, nil)
	assert.Equal(t, device.Silent, device.KindOf(err))
	b.Stop()
	_, err = apart.Dial(t.Context(), target.Target)
	assert.Equal(t, device.Unreachable, device.KindOf(err))
}

// What is said over protocols is recorded and replayed like the rest, without secrets; what the recording does not hold is told by name.
func TestProtocolsAreRecorded(t *testing.T) {
	_, target := calderpathBox(t)
	d := target.Dialect
	all := d.Askable()
	var tried []Asked
	for _, a := range all {
		if !a.Writes && a.Kind != AskedPart && a.Kind != AskedVerb {
			tried = append(tried, a)
		}
	}
	require.GreaterOrEqual(t, len(tried), 5)
	var live []Trial
	rec, err := d.TryAll(t.Context(), target.Target, tried, nil, func(x Trial) { live = append(live, x) })
	require.NoError(t, err)
	var file strings.Builder
	rec.Dialect = d.Name
	require.NoError(t, rec.Write(&file))
	again, err := ReadRecording("x", []byte(file.String()))
	require.NoError(t, err)
	n := 0
	lacks, err := d.Replay(t.Context(), again, tried, func(x Trial) {
		assert.Empty(t, x.Trouble, x.Name)
		assert.Equal(t, live[n].Fields, x.Fields)
		assert.Equal(t, live[n].Value, x.Value)
		n++
	})
	require.NoError(t, err)
	assert.Empty(t, lacks)
	assert.Equal(t, len(tried), n)
	again.Pieces = again.Pieces[:2]
	lacks, err = d.Replay(t.Context(), again, tried, func(Trial) {})
	require.NoError(t, err)
	assert.NotEmpty(t, lacks)
	r := &recorder{}
	r.called("netconf", "<get/>", "<password>hush-1</password> \"token\": \"hush-2\" secret hush-3")
	r.called("gnoi", "x", "")
	kept := r.kept()
	assert.NotContains(t, kept[1].Came, "hush")
	assert.Equal(t, Piece{By: "gnoi", Came: "\n"}, kept[3])
}
