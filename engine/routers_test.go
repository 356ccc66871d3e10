package engine

import (
	"context"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/device/cli"
	"verimorph/simfleet/box"
	"verimorph/simfleet/calderpath"
	"verimorph/store"
)

// routed is an engine with a router whose configuration goes over NETCONF and its firmware over gNOI.
type routed struct {
	*rig
	router *calderpath.Box
}

func newRouted(t *testing.T, model, version, other string, dialect ...*cli.Dialect) *routed {
	return routerOf(t, calderpath.Spec{Model: model, Version: version, Other: other}, dialect...)
}

func routerOf(t *testing.T, spec calderpath.Spec, dialect ...*cli.Dialect) *routed {
	r := newRig(t, nil)
	r.box.Stop()
	r.Engine.Catalogue = func(context.Context) (*catalog.Catalogue, error) { return r.cat, nil }
	text, err := os.ReadFile("../demo/configs/tern-rt1.xml")
	require.NoError(t, err)
	var at []string
	for range 2 {
		ln, err := net.Listen("tcp", place())
		require.NoError(t, err)
		at = append(at, ln.Addr().String())
		_ = ln.Close()
	}
	spec.Name, spec.Serial, spec.Address, spec.GRPC, spec.User, spec.Config = "rt1", spec.Model+"-1", at[0], at[1], "helm", string(text)
	b, err := calderpath.Open(spec, t.TempDir(), factor, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	a := b.Access()
	services := map[string]string{"gnoi": at[1], "gnmi": at[1]}
	for _, d := range dialect {
		a.Dialect, r.Engine.Drivers[d.Name] = d.Name, d
	}
	require.NoError(t, r.Store.AddDevice(t.Context(), store.Device{Name: "rt1", Address: a.Address, Dialect: a.Dialect, Settings: store.Settings{Transfer: "sftp", Services: services}}, append(PasswordCredentials(a.User, false, access.Person("me", "")), store.Credential{Kind: KindCommunity, CreatedBy: "me"}), func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(r.Vault, id, Secret{Password: map[string]string{KindPassword: a.Password, KindCommunity: a.Community}[c.Kind]})
	}))
	r.d, err = r.Store.Device(t.Context(), "rt1")
	require.NoError(t, err)
	return &routed{r, b}
}

func (r *routed) carryOut(to string) store.Change {
	id := r.draftTo(to, nil, "")
	r.release(id)
	return r.rest(id)
}

// Each of the routers is upgraded, downgraded and taken back, with its configuration over NETCONF and its firmware over gNOI.
func TestRoutersOverOpenProtocols(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ model, from, up, down string }{{"R2", "7.2.4", "7.4.6", "7.4.4"}, {"V1", "7.4.4", "7.4.7", "7.4.6"}, {"V2", "7.4.4", "7.4.7", "7.4.6"}} {
		t.Run(c.model, func(t *testing.T) {
			t.Parallel()
			r := newRouted(t, c.model, c.from, "")
			r.start()
			for _, to := range []string{c.up, c.down} {
				done := r.carryOut(to)
				require.Equal(t, change.Done, done.State, failure(done))
				assert.Equal(t, verify.Pass, verdictOf(t, done).Verdict, failure(done))
				version, _, _ := r.router.Stands()
				assert.Equal(t, to, version)
				assert.Contains(t, resultOf(verdictOf(t, done), "neighbours").After.Set, "beside-port0", "over SNMP")
			}
			d, err := r.Store.Device(t.Context(), "rt1")
			require.NoError(t, err)
			assert.True(t, strings.HasPrefix(d.Pins["gnoi"], "sha256:"), "the key of its certificate is kept")
			assert.Equal(t, d.Pins["gnoi"], d.Pins["gnmi"])
		})
	}
}

// byVersion is the dialect of a router that knows its images by their versions alone and tells no sums.
func byVersion(t *testing.T) *cli.Dialect {
	text, err := fs.ReadFile(cli.Builtin(), "calderpath.yaml")
	require.NoError(t, err)
	lines := strings.Split(string(text), "\n")
	take := func(from string, n int) {
		i := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, from) })
		require.GreaterOrEqual(t, i, 0, from)
		lines = slices.Delete(lines, i, i+n)
	}
	take("  checksum:", 5)
	take("  remove-file:", 1)
	i := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "rows: files") })
	lines = slices.Delete(lines, i-2, i+2)
	i = slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "  choose-slot:") })
	lines[i] = `  choose-slot: {by: gnoi, send: 'os.Activate {"version": "{version}", "no_reboot": true}', success: '"activate_ok"'}`
	whole := strings.NewReplacer("dialect: calderpath", "dialect: by-version", "slot: running, next: activated", "slot: running-version, next: activated-version",
		"slot: file, version", "slot: version, version").Replace(strings.Join(lines, "\n"))
	read, err := cli.ReadDialects(fstest.MapFS{"by-version.yaml": {Data: []byte(whole)}})
	require.NoError(t, err, whole)
	require.Empty(t, read["by-version"].Profile().Lacks)
	return read["by-version"]
}

// A router that knows its images by their versions alone is upgraded and taken back, too: that it has checked a package itself is its proof.
func TestRoutersThatKnowVersionsAlone(t *testing.T) {
	t.Parallel()
	r := newRouted(t, "V1", "7.4.4", "", byVersion(t))
	r.start()
	done := r.carryOut("7.4.7")
	require.Equal(t, change.Done, done.State, failure(done))
	assert.Equal(t, verify.Pass, verdictOf(t, done).Verdict, failure(done))
	assert.Contains(t, r.journal(done.ID), "the device says that it has checked 7.4.7 itself and holds it whole")
	down := r.carryOut("7.4.6")
	require.Equal(t, change.Done, down.State, failure(down))

	require.NoError(t, r.router.Arm(calderpath.PortDown, box.Fault{}))
	bad := r.carryOut("7.4.7") // it lies on the storage still
	require.Equal(t, verify.Fail, verdictOf(t, bad).Verdict, failure(bad))
	require.NoError(t, r.Act(t.Context(), bad.ID, change.GoBack, access.Person("me", ""), ""))
	back := r.rest(bad.ID)
	version, installs, _ := r.router.Stands()
	assert.Equal(t, "7.4.6", version, failure(back))
	assert.Equal(t, 2, installs)

	// A package that arrives damaged is never started.
	require.NoError(t, r.router.Arm(calderpath.Damages, box.Fault{}))
	broken := newRouted(t, "V1", "7.4.4", "", byVersion(t))
	broken.start()
	require.NoError(t, broken.router.Arm(calderpath.Damages, box.Fault{}))
	failed := broken.carryOut("7.4.7")
	assert.Equal(t, change.Failed, failed.State)
	assert.Contains(t, failure(failed), "INTEGRITY_FAIL")
	version, _, _ = broken.router.Stands()
	assert.Equal(t, "7.4.4", version)
}

// What goes wrong with gNOI: nothing is called done that is not.
func TestRoutersThatFail(t *testing.T) {
	t.Parallel()
	for fault, check := range map[string]func(t *testing.T, r *routed, c store.Change){
		calderpath.BreaksStream: func(t *testing.T, r *routed, c store.Change) { // it is sent again
			assert.Equal(t, change.Done, c.State, failure(c))
			_, installs, _ := r.router.Stands()
			assert.Equal(t, 1, installs)
		},
		calderpath.Damages: func(t *testing.T, r *routed, c store.Change) {
			assert.Equal(t, change.Failed, c.State)
			assert.Contains(t, failure(c), "INTEGRITY_FAIL")
			_, _, boots := r.router.Stands()
			assert.Equal(t, 1, boots)
		},
		calderpath.NotActivated: func(t *testing.T, r *routed, c store.Change) {
			assert.NotEqual(t, change.Done, c.State)
			_, _, boots := r.router.Stands()
			assert.Equal(t, 1, boots, "what was not activated is not started")
		},
		calderpath.NewKey: func(t *testing.T, r *routed, c store.Change) {
			assert.NotEqual(t, change.Done, c.State)
			assert.Contains(t, failure(c), "certificate")
		},
		calderpath.BadStart: func(t *testing.T, r *routed, c store.Change) {
			assert.NotEqual(t, change.Done, c.State)
			version, _, _ := r.router.Stands()
			assert.Equal(t, "7.4.4", version)
		},
		calderpath.Complains: func(t *testing.T, r *routed, c store.Change) {
			v := verdictOf(t, c)
			assert.Equal(t, verify.Degraded, v.Verdict, failure(c))
			assert.Contains(t, resultOf(v, readMessages).Evidence, "the fan of slot 2 stands still")
		},
		calderpath.PortDown: func(t *testing.T, r *routed, c store.Change) {
			assert.Equal(t, verify.Fail, verdictOf(t, c).Verdict, failure(c))
		},
	} {
		t.Run(fault, func(t *testing.T) {
			t.Parallel()
			r := newRouted(t, "V1", "7.4.4", "")
			r.start()
			_, err := r.Refresh(t.Context(), r.d, access.Person("me", ""))
			require.NoError(t, err)
			if fault == calderpath.NewKey { // its certificate was seen before
				r.d, err = r.Store.Device(t.Context(), "rt1")
				require.NoError(t, err)
				done := r.carryOut("7.4.6")
				require.Equal(t, change.Done, done.State, failure(done))
			}
			id := r.draftTo("7.4.7", nil, "")
			require.NoError(t, r.router.Arm(fault, box.Fault{}))
			r.release(id)
			check(t, r, r.rest(id))
		})
	}
}
