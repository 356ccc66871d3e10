package engine

import (
	"context"
	"encoding/json"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/internal/opensshd"
	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

// field is an engine with one simulated box of a maker that makes no firewalls.
type field struct {
	*rig
	plain    *shellbox.Box
	licences map[string]string // keys by name, that the next draft brings
}

func newField(t *testing.T, spec shellbox.Spec, config, transfer string) *field {
	r := newRig(t, nil)
	r.box.Stop()
	text, err := os.ReadFile("../demo/configs/" + config)
	require.NoError(t, err)
	if spec.Config != "" {
		text = []byte(spec.Config)
	}
	free := func() string {
		ln, err := net.Listen("tcp", place())
		require.NoError(t, err)
		defer ln.Close()
		return ln.Addr().String()
	}
	spec.Name, spec.Serial, spec.User, spec.Config, spec.MediumDir = "box", "S", "hand", string(text), t.TempDir()
	if spec.LineOnly {
		spec.Line = free()
	} else {
		spec.Address = free()
	}
	b, err := simfleet.OpenShellBox(spec, t.TempDir(), factor, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	r.Engine.Catalogue = func(context.Context) (*catalog.Catalogue, error) { return r.cat, nil }
	f := &field{rig: r, plain: b}
	a := b.Access()
	password, token, web, dialect, older, plate := a.Password, a.Token, a.Web, a.Dialect, a.OlderPassword, a.Plate
	cs := []store.Credential{{Kind: KindPassword, Username: "hand"}}
	secrets := []Secret{{Password: password}}
	for _, more := range []struct{ versions, password string }{{spec.Older, older}, {"", plate}} {
		if more.password != "" {
			cs = append(cs, store.Credential{Kind: KindPassword, Username: "hand", Versions: more.versions})
			secrets = append(secrets, Secret{Password: more.password})
		}
	}
	if token != "" {
		cs = append(cs, store.Credential{Kind: KindToken})
		secrets = append(secrets, Secret{Token: token})
	}
	d := store.Device{Name: "field", Address: spec.Address, Dialect: dialect,
		Settings: store.Settings{Web: web, Transfer: transfer, Reach: store.Reach{Console: spec.Line, Only: spec.LineOnly}}}
	if spec.LineOnly {
		d.Address = spec.Line
	}
	n := 0
	require.NoError(t, r.Store.AddDevice(t.Context(), d, cs, func(c *store.Credential, id int64) ([]byte, error) {
		n++
		return SealCredential(r.Vault, id, secrets[n-1])
	}))
	r.d, err = r.Store.Device(t.Context(), "field")
	require.NoError(t, err)
	return f
}

// draft drafts a change to a version, with the images of its path in the store and on the card.
func (f *field) draft(to string) int64 {
	return f.draftTo(to, f.licences, f.plain.MediumDir)
}

// rest waits until the change ends or asks.
func (r *rig) rest(id int64) store.Change {
	r.t.Helper()
	return r.until(id, func(s change.State) bool { return s.Over() || s == change.Asking })
}

// asks fails the test unless the change asks something.
func (f *field) asks(id int64, kind, text string) store.Change {
	f.t.Helper()
	c := f.rest(id)
	require.Equal(f.t, change.Asking, c.State, "%s", failure(c))
	require.Equal(f.t, kind, c.Question.Kind, c.Question.Text)
	require.Contains(f.t, c.Question.Text, text)
	return c
}

func (f *field) answer(id int64, a change.Action, text string) {
	f.t.Helper()
	require.NoError(f.t, f.Act(f.t.Context(), id, a, access.Person("me", ""), text))
}

func failure(c store.Change) string {
	out := ""
	if c.Failure != nil {
		out = *c.Failure
	}
	if c.Question != nil {
		out += c.Question.Text
	}
	return out + string(c.Verdict)
}

func verdictOf(t *testing.T, c store.Change) verify.Verdict {
	var v verify.Verdict
	require.NoError(t, json.Unmarshal(c.Verdict, &v), failure(c))
	return v
}

func gateway(t *testing.T) *field {
	return newField(t, shellbox.Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Older: "3.8.2", OlderPasswords: true}, "control-sg1.json", "http")
}

func TestAGatewayIsDrainedAndBroughtUp(t *testing.T) {
	t.Parallel()
	f := gateway(t)
	f.Pace.Factor /= 8 // a busy machine is not to cut off what would have drained
	f.start()
	id := f.draft("3.8.5")
	f.release(id)
	c := f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	st := f.plain.Status()
	assert.Equal(t, "3.8.5", st.Version)
	assert.Equal(t, 1, st.Installs)
	assert.False(t, st.Resting, "it is in service again")
	assert.Equal(t, "no running work is left", f.step(id, change.Drain).Outcome)
}

// A gateway fetches its image over TLS, when its settings say so; a service that hands nothing out over TLS says how to begin.
func TestAGatewayFetchesOverTLS(t *testing.T) {
	t.Parallel()
	f := newField(t, shellbox.Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Older: "3.8.2", OlderPasswords: true}, "control-sg1.json", "https")
	f.start()
	id := f.draft("3.8.5")
	f.release(id)
	c := f.rest(id)
	require.Equal(t, change.Failed, c.State, failure(c))
	assert.Contains(t, failure(c), "hands no files out over https; start it with -transfer-tls-listen")

	var fetched atomic.Int64
	web := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		fetched.Add(1)
		f.Serve.ServeHTTP(w, q)
	}))
	t.Cleanup(web.Close)
	f.Serve.Secure = web.URL
	id = f.draft("3.8.5")
	f.release(id)
	c = f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, "3.8.5", f.plain.Status().Version)
	assert.Positive(t, fetched.Load())
}

// A licence that a change brings: a key that is not for the device is a failure before anything is touched and stands nowhere; the
// right one is there before the installation begins, and once only.
func TestALicenceIsAdded(t *testing.T) {
	t.Parallel()
	f := gateway(t)
	require.NoError(t, f.plain.Arm(shellbox.NoLicence, box.Fault{}))
	f.start()
	f.licences = map[string]string{"gateway-full": "not the key"}
	id := f.draft("3.8.5")
	f.release(id)
	c := f.rest(id)
	require.Equal(t, change.Failed, c.State, failure(c))
	assert.Contains(t, *c.Failure, "that key is not for gateway-full")
	assert.Zero(t, f.plain.Status().Installs)
	key := shellbox.LicenceKey(f.plain.Serial, "gateway-full")
	f.licences["gateway-full"] = key
	id = f.draft("3.8.5")
	f.release(id)
	c = f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	assert.Equal(t, "the device has the licence gateway-full", f.step(id, change.Licence).Outcome)
	// Again, with a key that would be refused: the device has it, so it is not even tried.
	f.licences["gateway-full"] = "not the key"
	w := f.prepare(f.draft("4.0.3"))
	done, _, err := licenceThere(w, t.Context(), w.of(change.Licence), false)
	require.NoError(t, err)
	assert.True(t, done)
	journal, err := f.Store.Journal(t.Context(), id, 0, 1000)
	require.NoError(t, err)
	for _, e := range journal {
		assert.NotContains(t, e.Detail, key)
	}
	work := f.change(id).Work
	assert.NotContains(t, string(work), key)
	keys, err := LicenceKeys(f.Vault, f.d.Name, work)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"gateway-full": key}, keys, "for a draft that is made anew")
	_, err = LicenceKeys(f.Vault, "another-device", work)
	assert.Error(t, err, "they are bound to the device")
	_, err = change.Draft(change.Job{Family: &catalog.Family{}, Path: &path.Path{Hops: []path.Hop{{Restarts: 1}}}, Licences: []string{"x"}})
	assert.ErrorContains(t, err, "no licence can be given to such a device")
}

// A power cycle whose command was lost with the connection is given again once the part takes longer than it should: it may never have
// been heard. One that was heard is waited for until the time is over.
func TestAPowerCycleThatWasNotHeard(t *testing.T) {
	t.Parallel()
	f, _, _ := kinds["chassis"](t)
	w := f.prepare(f.draft("12.2.3"))
	s := w.of(change.PowerCycle)
	require.NotNil(t, s)
	s.Plan.Expect.High = 0.2
	err := w.awaitComponent(t.Context(), s, true)
	assert.Equal(t, device.Lost, device.KindOf(err), "so that the step is tried again: %v", err)
	assert.ErrorContains(t, err, "the connection was lost with the command, and "+s.Plan.Component()+" is ")
	short, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	assert.ErrorIs(t, w.awaitComponent(short, s, false), context.DeadlineExceeded)
	p := s.Plan.Params.(change.PowerParams)
	p.Version = f.portraitOf(w).Components[p.Component]
	s.Plan.Params = p
	require.NoError(t, w.awaitComponent(t.Context(), s, true))
}

func (f *field) portraitOf(w *run) *portrait.Portrait {
	p, err := w.portrait(f.t.Context())
	require.NoError(f.t, err)
	return p
}

func TestARampControllerComesBackFromItsFactoryState(t *testing.T) {
	t.Parallel()
	f := newField(t, shellbox.Spec{Maker: "Pellworth", Model: "RC-6", Version: "F1.06"}, "marrow-ramp1.ini", "tftp")
	f.start()
	id := f.draft("F2.12")
	c := f.change(id)
	checks, err := f.Ready(t.Context(), &c, access.Person("me", ""))
	require.NoError(t, err)
	assert.Contains(t, ready.Text(ready.Of(checks, ready.Stop)), "key switch", "somebody has to be there")
	require.NoError(t, f.plain.Arm(shellbox.ByHandKey, box.Fault{}))
	before := f.plain.Part("ramp.ini")
	f.release(id)
	c = f.asks(id, change.AskHand, "move every ramp once")
	f.answer(id, change.SignOff, "all three moved, nobody near")
	c = f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Pass, v.Verdict, failure(c))
	assert.Contains(t, failure(c), "Guarded settings")
	assert.Equal(t, strings.Replace(before, "release = F1.06", "release = F2.12", 1), strings.Replace(f.plain.Part("ramp.ini"), "; Marrow", "; Marrow", 1))
	assert.Contains(t, f.plain.Part("marks.map"), "upper 8200", "every file is back under its exact name")
	assert.Equal(t, "2.4", f.plain.Status().Components["web-manager"], "what must match the main version came along")
	assert.Equal(t, 1, f.plain.Status().Installs)
}

func TestATideGaugeOverItsConsoleLine(t *testing.T) {
	t.Parallel()
	f := newField(t, shellbox.Spec{Maker: "Pellworth", Model: "TG-1", Version: "F1.06", LineOnly: true}, "marrow-gauge1.ini", "sftp")
	f.start()
	id := f.draft("F2.12")
	f.release(id)
	f.asks(id, change.AskHand, "put the medium with tg1-F2.12.fw into the device")
	f.answer(id, change.SignOff, "")
	f.asks(id, change.AskHand, "the device does not find card/tg1-F2.12.fw")
	require.NoError(t, f.plain.Arm(shellbox.ByHandCard, box.Fault{}))
	f.answer(id, change.Retry, "")
	f.asks(id, change.AskHand, "move every ramp")
	f.answer(id, change.SignOff, "it has none")
	c := f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	assert.Contains(t, f.plain.Part("gauge.ini"), "release = F2.12")
	log, err := f.Store.ConsoleLog(t.Context(), f.d.ID, id, 0, 1000)
	require.NoError(t, err)
	var all strings.Builder
	for _, p := range log {
		all.WriteString(p.Text)
	}
	assert.Contains(t, all.String(), "done, starting anew", "the session is recorded")
	assert.NotContains(t, all.String(), "demo-", "but not what is secret in it")
}

func TestAChassisWhoseLogicFollows(t *testing.T) {
	t.Parallel()
	f := newField(t, shellbox.Spec{Maker: "Ostrevin", Model: "C8", Version: "11.2.5", Older: "11.2.3"}, "vesterkai-core1.conf", "pull-sftp")
	f.start()
	id := f.draft("12.2.3")
	f.release(id)
	c := f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	st := f.plain.Status()
	assert.Equal(t, "12.2.3", st.Version)
	assert.Equal(t, map[string]string{"boot-loader": "2.2", "logic": "52"}, st.Components)
	assert.Contains(t, st.Main, "untagged 12;")
}

// A device that is reached through another one: its connection is passed on there, or it is a module that is entered from there.
func TestReachThroughOtherDevices(t *testing.T) {
	t.Parallel()
	gate := gateway(t)
	ln, err := net.Listen("tcp", place())
	require.NoError(t, err)
	behind := ln.Addr().String()
	_ = ln.Close()
	text, err := os.ReadFile("../demo/configs/marrow-ramp1.ini")
	require.NoError(t, err)
	module := newField(t, shellbox.Spec{Maker: "Pellworth", Model: "TG-1", Version: "F1.06", LineOnly: true}, "marrow-gauge1.ini", "sftp")
	ramp, err := simfleet.OpenShellBox(shellbox.Spec{Name: "ramp", Maker: "Pellworth", Model: "RC-6", Serial: "R", Version: "F1.06", Address: behind, User: "hand", Config: string(text), Lines: map[string]string{"gauge": module.plain.Line}}, t.TempDir(), factor, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, ramp.Start())
	t.Cleanup(ramp.Stop)
	add := func(d store.Device, password string) store.Device {
		require.NoError(t, gate.Store.AddDevice(t.Context(), d, []store.Credential{{Kind: KindPassword, Username: "hand"}}, func(_ *store.Credential, id int64) ([]byte, error) {
			return SealCredential(gate.Vault, id, Secret{Password: password})
		}))
		d, err := gate.Store.Device(t.Context(), d.Name)
		require.NoError(t, err)
		return d
	}
	a := ramp.Access()
	password, dialect := a.Password, a.Dialect
	d := add(store.Device{Name: "ramp", Address: behind, Dialect: dialect, Settings: store.Settings{Transfer: "tftp", Reach: store.Reach{Via: "field"}}}, password)
	_, err = gate.Refresh(t.Context(), d, access.Person("me", ""))
	require.ErrorContains(t, err, "the host key of field is not known", "whoever stands in between must be known")
	_, err = gate.Refresh(t.Context(), gate.d, access.Person("me", ""))
	require.NoError(t, err)
	p, err := gate.Refresh(t.Context(), d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, "RC-6", p.Model)

	m := module.plain.Access()
	word, dialect := m.Password, m.Dialect
	g := add(store.Device{Name: "gauge", Address: behind, Dialect: dialect, Settings: store.Settings{Transfer: "sftp", Reach: store.Reach{Via: "ramp", Enter: "call gauge"}}}, word)
	p, err = gate.Refresh(t.Context(), g, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, "TG-1", p.Model, "two devices deep, and into a module")
	b, err := gate.Backup(t.Context(), g, "on-demand", access.Person("me", ""))
	require.NoError(t, err)
	assert.True(t, b.Complete)
}

// A device behind a jump host, which is a server like any other: a change goes through it from end to end.
func TestAChangeThroughAJumpHost(t *testing.T) {
	t.Parallel()
	host, err := opensshd.Start(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(host.Stop)
	r := newRig(t, nil)
	key, err := os.ReadFile(host.KeyFile)
	require.NoError(t, err)
	require.NoError(t, r.Store.AddDevice(t.Context(), store.Device{Name: "jump", Address: host.Address, Dialect: "jump-host", Settings: store.Settings{Transfer: "sftp"}}, []store.Credential{{Kind: KindKey, Username: host.User}},
		func(_ *store.Credential, id int64) ([]byte, error) {
			return SealCredential(r.Vault, id, Secret{PrivateKey: string(key)})
		}))
	j, err := r.Store.Device(t.Context(), "jump")
	require.NoError(t, err)
	p, err := r.Refresh(t.Context(), j, access.Person("me", ""))
	require.NoError(t, err)
	assert.NotEmpty(t, p.Version)
	require.NoError(t, r.Store.EnterDevice(t.Context(), store.Device{ID: r.d.ID, Settings: store.Settings{Reach: store.Reach{Via: "jump"}}}, []string{"reach"}))
	r.start()
	c := r.awaitEnd(r.begin("5.0.7", "5.4.2"))
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, "5.4.2", r.box.Status().Version)
	assert.Equal(t, 1, r.box.Status().Fits)
	assert.Equal(t, 2, r.box.Status().Boots)
}

// A device that comes back at another address is found there when the change says so, and nowhere else.
func TestADeviceThatComesBackElsewhere(t *testing.T) {
	t.Parallel()
	for expected, want := range map[bool]change.State{true: change.Done, false: change.Asking} {
		f := gateway(t)
		f.start()
		id := f.draft("3.8.5")
		host, _, _ := net.SplitHostPort(f.d.Address)
		there := net.JoinHostPort(host, "4022")
		f.plain.MovesTo(there)
		if expected {
			_, err := f.Store.Pool.Exec(t.Context(), `UPDATE members SET planned = planned || jsonb_build_object('comesBackAt', $2::text) WHERE change_id = $1`, id, there)
			require.NoError(t, err)
		}
		f.release(id)
		c := f.rest(id)
		require.Equal(t, want, c.State, failure(c))
		d, err := f.Store.Device(t.Context(), "field")
		require.NoError(t, err)
		assert.Equal(t, expected, d.Address == there)
	}
}
