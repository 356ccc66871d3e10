package engine

import (
	"encoding/json"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

// exchange is a firewall at a site, and a unit of its model that was prepared for it: it has its configuration, and gets its address when it starts there.
type exchange struct {
	*rig
	unit  *tarnholm.Box
	bench store.Device
}

func newExchange(t *testing.T) *exchange {
	x, config := &exchange{}, ""
	x.rig = newRig(t, func(spec *tarnholm.Spec) {
		at, _, _ := net.SplitHostPort(spec.Address)
		config = strings.Replace(strings.TrimPrefix(oldText, "# written by 5.4.2\n"), "  name quay\n", "  name quay\n  manage "+at+"\n", 1)
		spec.Version, spec.Idle, spec.Config = "5.4.2", "5.0.7", config
	})
	host, _, _ := net.SplitHostPort(place())
	_, port, _ := net.SplitHostPort(x.d.Address)
	var err error
	x.unit, err = tarnholm.Open(tarnholm.Spec{Name: "unit", Model: "TH-60", Serial: "N", Address: net.JoinHostPort(host, port), User: "bosun", Version: "5.4.2", Idle: "5.0.7", Flash: 16 << 20, Config: config, Sessions: 100}, t.TempDir(), factor, x.Log)
	require.NoError(t, err)
	x.unit.TakesPlaceOf(x.box)
	require.NoError(t, x.unit.Start())
	t.Cleanup(x.unit.Stop)
	x.bench = (&swap{rig: x.rig}).known("bench", x.unit.Access())
	_, err = x.Refresh(t.Context(), x.bench, access.Person("me", ""))
	require.NoError(t, err)
	x.bench, err = x.Store.Device(t.Context(), "bench")
	require.NoError(t, err)
	return x
}

// draftExchange drafts the change, as planning does.
func (x *exchange) draftExchange(serial string) int64 {
	t, ctx, me := x.t, x.t.Context(), access.Person("me", "")
	set, err := x.TakeReadings(ctx, x.d, me)
	require.NoError(t, err)
	b, err := x.Backup(ctx, x.d, "before it is exchanged", me)
	require.NoError(t, err)
	rs, err := x.ReadingsOf(ctx, x.d)
	require.NoError(t, err)
	definitions, err := json.Marshal(rs)
	require.NoError(t, err)
	v := version.MustParse("5.4.2")
	way := &path.Path{Family: "th", Model: "TH-60", From: v, To: v, Hops: []path.Hop{{From: v, To: v, Config: "kept", Restarts: 1}}}
	plan := change.DraftSwap(&change.SwapJob{Job: change.Job{Family: x.cat.Family("th"), Path: way, Can: x.Profile(x.d).Abilities, Pace: x.Pace}, OldUnit: "S", NewUnit: serial, Cables: [][2]string{{"p1", "panel 4"}}})
	data, err := json.Marshal(way)
	require.NoError(t, err)
	c := store.Change{Kind: change.Swapping, From: "5.4.2", To: "5.4.2", Path: data, Back: plan.Back, BackPolicy: change.Offered, ExpectsHostKey: true, Wish: &change.Wish{Format: change.WishFormat, Swap: &change.SwapWish{Serial: serial, Backup: b.ID}},
		Members: []store.Member{{DeviceID: x.d.ID, Planned: store.Planned{Model: "TH-60", Serial: serial, HostKey: x.bench.HostKey, Bench: x.bench.ID}, Readings: set.Readings, Definitions: definitions}}}
	for _, st := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: st})
	}
	id, err := x.Store.AddChange(ctx, me, c)
	require.NoError(t, err)
	x.release(id)
	return id
}

// exchanged is what hands do at the site.
func (x *exchange) exchanged(id int64) store.Change {
	c := x.rest(id)
	require.Equal(x.t, change.Asking, c.State, failure(c))
	assert.Contains(x.t, c.Question.Text, "p1 (panel 4)")
	require.NoError(x.t, x.box.Arm(tarnholm.Unplugged, box.Fault{}))
	x.unit.PowerOffAndOn()
	require.NoError(x.t, x.Act(x.t.Context(), id, change.SignOff, access.Person("me", ""), "done"))
	return x.rest(id)
}

// A prepared unit takes the place of the one at the site, at the same address, and is held against what that one did last. From then on it is signed in to with its own credentials.
func TestAUnitIsExchanged(t *testing.T) {
	t.Parallel()
	x := newExchange(t)
	x.start()
	c := x.exchanged(x.draftExchange("N"))
	require.Equal(t, change.Done, c.State, failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, "was S, is N", resultOf(v, "unit").Evidence)
	assert.Equal(t, verify.Met, resultOf(v, "tunnels-up").State, failure(c))
	assert.Zero(t, x.box.Status().Refusals+x.unit.Status().Refusals, "no password was tried that is another unit's")
	bench, err := x.Store.Device(t.Context(), "bench")
	require.NoError(t, err)
	assert.True(t, bench.Portrait == nil && bench.HostKey == "", "the bench is free for another unit")
	d, err := x.Store.Device(t.Context(), "box")
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSpace(x.unit.Access().HostKey), strings.TrimSpace(d.HostKey), "the host key of the unit is pinned")
	p, err := x.Refresh(t.Context(), d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, "N", p.Serial)
}

// The old unit still answers at the address: it gets no password, and it is told; once it is off, the change goes on.
func TestTheOldUnitStillAnswers(t *testing.T) {
	t.Parallel()
	x := newExchange(t)
	x.Pace.Floor = 30 // seconds: signing in takes its time on a busy machine, and who answers has to be seen
	x.start()
	id := x.draftExchange("N")
	x.rest(id)
	require.NoError(t, x.Act(t.Context(), id, change.SignOff, access.Person("me", ""), "done")) // and it was not
	c := x.rest(id)
	require.Equal(t, change.Asking, c.State, failure(c))
	assert.Contains(t, c.Question.Text, "the old unit is still connected")
	assert.Zero(t, x.box.Status().Refusals)
	require.NoError(t, x.box.Arm(tarnholm.Unplugged, box.Fault{}))
	x.unit.PowerOffAndOn()
	require.NoError(t, x.Act(t.Context(), id, change.Retry, access.Person("me", ""), ""))
	c = x.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
}

// Another unit than the one that was meant, though it has that one's key, is a matter for a person.
func TestAnotherUnitIsExchanged(t *testing.T) {
	t.Parallel()
	x := newExchange(t)
	x.start()
	c := x.exchanged(x.draftExchange("N2"))
	require.Equal(t, change.Asking, c.State, failure(c))
	assert.Equal(t, change.AskUnit, c.Question.Kind)
	assert.Contains(t, c.Question.Text, "its serial is N, not N2")
}

// Whatever strikes in whatever step: the unit is exchanged.
func TestStrikesWhileAUnitIsExchanged(t *testing.T) {
	t.Parallel()
	struckAnyhow(t, func(t *testing.T, strikeAll func(*rig)) {
		x := newExchange(t)
		strikeAll(x.rig)
		x.start()
		c := x.exchanged(x.draftExchange("N"))
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Equal(t, verify.Met, resultOf(verdictOf(t, c), "tunnels-up").State, failure(c))
	})
}
