package engine

import (
	"context"
	"log/slog"
	"net"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/simfleet/box"
	"verimorph/simfleet/calderpath"
	"verimorph/store"
)

// routed is an engine with a router whose configuration goes over NETCONF and its firmware over gNOI.
type routed struct {
	*rig
	router *calderpath.Box
}

func newRouted(t *testing.T, model, version, other string) *routed {
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
	b, err := calderpath.Open(calderpath.Spec{Name: "rt1", Model: model, Serial: model + "-1", Address: at[0], GRPC: at[1], User: "helm", Version: version, Other: other, Config: string(text)}, t.TempDir(), factor, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	a := b.Access()
	services := map[string]string{"gnoi": at[1], "gnmi": at[1]}
	require.NoError(t, r.Store.AddDevice(t.Context(), store.Device{Name: "rt1", Address: a.Address, Dialect: a.Dialect, Settings: store.Settings{Transfer: "sftp", Services: services}}, PasswordCredentials(a.User, false, access.Person("me", "")), func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(r.Vault, id, Secret{Password: a.Password})
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
			}
			d, err := r.Store.Device(t.Context(), "rt1")
			require.NoError(t, err)
			assert.True(t, strings.HasPrefix(d.Pins["gnoi"], "sha256:"), "the key of its certificate is kept")
			assert.Equal(t, d.Pins["gnoi"], d.Pins["gnmi"])
		})
	}
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
