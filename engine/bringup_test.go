package engine

import (
	"encoding/json"
	"net"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

const wanted = "box.name = kiosk\nwlan.crew.title = Crew\nwlan.tills.title = Tills\nwlan.tills.passphrase = \"hush hush\"\n"

// crate is an access point as it comes out of its crate.
func crate(t *testing.T) *field {
	f := newField(t, shellbox.Spec{Maker: "Gullwire", Model: "AP-31", Version: "8.5.2", Blank: true}, "innersund-sa1.conf", "pull-sftp")
	return f
}

// bringUp drafts bringing it up on its release, with a configuration and a password; comesBackAt is its address then.
func (f *field) bringUp(comesBackAt string) int64 {
	t := f.t
	p, err := f.Refresh(t.Context(), f.d, access.Person("me", ""))
	require.NoError(t, err)
	v := version.MustParse(p.Version)
	way := &path.Path{Family: "gw", Model: p.Model, From: v, To: v, Hops: []path.Hop{{From: v, To: v, Config: catalog.ConfigKept, Restarts: 1}}}
	plan, err := change.DraftBringUp(change.BringUpJob{Put: true, Password: true, Job: change.Job{Family: f.cat.Family("gw"), Path: way, Can: f.Profile(f.d).Abilities, Pace: f.Pace}})
	require.NoError(t, err)
	part := f.Profile(f.d).Parts[0]
	require.Equal(t, backup.Configuration, part.Kind)
	work, err := BringUpWork(f.Vault, f.d.Name, BringUpSecrets{Password: "ours ours ours", Part: &RestorePart{Name: part.Name, Title: part.Title, File: part.File, Kind: part.Kind, Syntax: part.Syntax}, Text: wanted})
	require.NoError(t, err)
	data, err := json.Marshal(way)
	require.NoError(t, err)
	c := store.Change{Kind: change.BringingUp, From: p.Version, To: p.Version, Path: data, Back: plan.Back, Work: work,
		Members: []store.Member{{DeviceID: f.d.ID, Planned: store.Planned{Model: p.Model, Serial: p.Serial, ComesBackAt: comesBackAt}}}}
	for _, s := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	id, err := f.Store.AddChange(t.Context(), access.Person("me", ""), c)
	require.NoError(t, err)
	return id
}

// Whatever strikes in the middle of whatever step: the device gets its password once, its configuration, and is let in with the new password alone.
func TestStrikesWhileADeviceIsBroughtUp(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for _, strike := range []string{"the connection is cut", "the database cuts every connection", "another worker takes over", "nothing is said for a while"} {
		t.Run(strike, func(t *testing.T) {
			t.Parallel()
			f := crate(t)
			s := &subject{field: f}
			first := f.plain.Status().Password
			struck := s.strikeEverywhere(strikes[strike])
			f.start()
			id := f.bringUp("")
			f.release(id)
			c := s.toTheEnd(id)
			require.Equal(t, change.Done, c.State, failure(c))
			assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
			assert.Equal(t, wanted, f.plain.Status().Main)
			assert.Equal(t, "ours ours ours", f.plain.Status().Password)
			assert.NotEqual(t, first, f.plain.Status().Password)
			all, err := f.Store.Credentials(t.Context(), f.d.ID)
			require.NoError(t, err)
			all = slices.DeleteFunc(all, func(c store.Credential) bool { return c.Kind != KindPassword })
			assert.Len(t, all, 1, "the first password is forgotten")
			assert.Greater(t, len(struck), len(c.Steps))
			assert.Contains(t, resultOf(verdictOf(t, c), "networks").Title, "as configured")
		})
	}
}

// What its configuration promises and the device does not do is a failed verdict, though all was put as it should be.
func TestWhatAConfigurationPromises(t *testing.T) {
	t.Parallel()
	f := crate(t)
	require.NoError(t, f.plain.Arm(shellbox.ServiceDown, box.Fault{Times: 1}))
	f.start()
	id := f.bringUp("")
	f.release(id)
	c := f.rest(id)
	require.Equal(t, change.Asking, c.State, failure(c))
	res := resultOf(verdictOf(t, c), "networks")
	assert.Equal(t, verify.Unmet, res.State)
	assert.Contains(t, res.Evidence, "missing")
	assert.Equal(t, verify.Met, resultOf(verdictOf(t, c), readConfig).State)
}

// Something answers at the address that the device is to have: nothing is begun.
func TestANewAddressThatIsTaken(t *testing.T) {
	t.Parallel()
	f := crate(t)
	ln, err := net.Listen("tcp", place())
	require.NoError(t, err)
	defer ln.Close()
	c := f.change(f.bringUp(ln.Addr().String()))
	checks, err := f.Ready(t.Context(), &c, access.Person("me", ""))
	require.NoError(t, err)
	stops := ready.Of(checks, ready.Stop)
	require.Len(t, stops, 1)
	assert.Equal(t, ready.AddressTaken, stops[0].Name)
	assert.True(t, strings.Contains(stops[0].Evidence, ln.Addr().String()))
}
