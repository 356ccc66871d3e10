package engine

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/internal/steady"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

// controller is one with 24 access points at six places, and a seventh with one only.
func controller(t *testing.T) *field {
	points := append(shellbox.Named("ap", "AP-31", "G", 18, "hall", "deck", "quay", "office"), shellbox.FollowerSpec{Name: "mast", Model: "AP-31", Serial: "G9000", Place: "mast"},
		shellbox.FollowerSpec{Name: "new1", Model: "AP-31", Serial: "G7001", Place: "hall", New: true}, shellbox.FollowerSpec{Name: "new2", Model: "AP-31", Serial: "G8002", Place: "hall", New: true})
	return newField(t, shellbox.Spec{Maker: "Gullwire", Model: "WC-2", Version: "8.5.4", Followers: points, Seats: 50}, "innersund-wc1.conf", "pull-sftp")
}

func TestAControllerWithAccessPoints(t *testing.T) {
	t.Parallel()
	f := controller(t)
	f.start()
	f.authorise = []string{"G7000..G7009"}
	id := f.draft("8.5.5")
	c := f.change(id)
	require.NotNil(t, c.Children)
	assert.Len(t, c.Children.Children, 19)
	assert.Equal(t, []string{"mast"}, c.Children.Alone)
	f.release(id)
	asked := f.asks(id, change.AskWarn, "a place with one only is without while that starts anew")
	assert.Equal(t, []string{"places"}, asked.Question.Checks)
	require.Equal(t, change.Done, f.accepting(id), failure(f.change(id)))
	assert.Equal(t, verify.Pass, verdictOf(t, f.change(id)).Verdict, failure(f.change(id)))
	points, _, dark := f.plain.Followers()
	assert.Empty(t, dark, "no place with several was without")
	for _, p := range points[:19] {
		assert.Equal(t, "8.5.5", p.Version, p.Name)
		assert.Equal(t, 1, p.Starts, "%s: it had its image, so one start was enough", p.Name)
		assert.Equal(t, "serves", p.State, p.Name)
	}
	assert.False(t, points[19].New, "its serial was stated")
	assert.True(t, points[20].New, "nobody stated its serial")
}

// An access point that hangs is named and told again; one that cannot be helped is for a person to accept.
func TestAccessPointsThatGoWrong(t *testing.T) {
	t.Parallel()
	for fault, c := range map[string]struct {
		says    string
		verdict string
	}{
		shellbox.FollowerHangOnce: {"", verify.Pass},
		shellbox.FollowerLoops:    {`ap2 runs 8.5.5 and is "started a moment ago, not in service"`, verify.Degraded},
		shellbox.FollowerGone:     {"ap2 is not there", verify.Degraded},
		shellbox.FollowerNoFetch:  {`ap2 runs 8.5.4`, verify.Degraded},
	} {
		t.Run(fault, func(t *testing.T) {
			t.Parallel()
			f := controller(t)
			f.Pace.Floor = 12 // seconds: what does not come is not waited for longer
			f.start()
			id := f.draft("8.5.5")
			f.release(id)
			f.asks(id, change.AskWarn, "a place with one only")
			require.NoError(t, f.plain.Arm(fault, box.Fault{Value: 2}))
			f.answer(id, change.Accept, "it is what the window is for")
			if c.says != "" {
				f.asks(id, change.AskWarn, c.says)
			}
			require.Equal(t, change.Done, f.accepting(id), failure(f.change(id)))
			assert.Equal(t, c.verdict, verdictOf(t, f.change(id)).Verdict, failure(f.change(id)))
			_, _, dark := f.plain.Followers()
			assert.Empty(t, dark)
		})
	}
}

// Those that are devices of their own here are asked themselves: one says so, too, and one cannot be looked at, which is for a person to accept by its name.
func TestChildrenAreAskedThemselves(t *testing.T) {
	t.Parallel()
	f := controller(t)
	a := f.plain.Access()
	ln, err := net.Listen("tcp", place())
	require.NoError(t, err)
	nobody := ln.Addr().String()
	require.NoError(t, ln.Close())
	for name, address := range map[string]string{"ap2": a.Address, "ap3": nobody} {
		d := store.Device{Name: name, Address: address, Dialect: a.Dialect}
		require.NoError(t, f.Store.AddDevice(t.Context(), d, []store.Credential{{Kind: KindPassword, Username: "hand"}}, func(_ *store.Credential, id int64) ([]byte, error) {
			return SealCredential(f.Vault, id, Secret{Password: a.Password})
		}))
	}
	f.start()
	id := f.draft("8.5.5")
	f.release(id)
	f.asks(id, change.AskWarn, "a place with one only")
	f.answer(id, change.Accept, "it is what the window is for")
	asked := f.asks(id, change.AskWarn, "the device says that all run 8.5.5, and they do not say so themselves: ap3 cannot be looked at")
	assert.Equal(t, []string{"children ap3"}, asked.Question.Checks)
	f.answer(id, change.Accept, "it is reached from its own site only")
	done := f.rest(id)
	require.Equal(t, change.Done, done.State, failure(done))
	journal, err := f.Store.Journal(t.Context(), id, 0, 1000)
	require.NoError(t, err)
	said := ""
	for _, e := range journal {
		said += e.Detail + "\n"
	}
	assert.Contains(t, said, "1 of them say so themselves")
}

// nodes are a controller with four forwarding nodes at two sites.
func nodes(t *testing.T) *field {
	return newField(t, shellbox.Spec{Maker: "Strandline", Model: "TD-C", Version: "2024-autumn-2", Followers: shellbox.Named("node", "TD-N", "N", 4, "north", "south")}, "control-td1.json", "pull-sftp")
}

// Nodes go one by one, each drained first: of two hundred requests a second that go through them none is lost.
func TestNodesLoseNothing(t *testing.T) {
	t.Parallel()
	measures(t)
	f := nodes(t)
	stop, at, err := f.plain.Through(place())
	require.NoError(t, err)
	defer stop()
	f.start()
	id := f.draft("2024-autumn-3")
	f.release(id)
	client := steady.Start(t.Context(), "http://"+at, 200)
	c := (&subject{field: f}).toTheEnd(id)
	sent, lost, gaps := client.Stop()
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	assert.Zero(t, lost, "%v", gaps)
	assert.Greater(t, sent, 200)
	all, cutOff, dark := f.plain.Followers()
	assert.Zero(t, cutOff)
	assert.Empty(t, dark)
	for _, n := range all {
		assert.Equal(t, []any{"2024-autumn-3", 1, "serves"}, []any{n.Version, n.Starts, n.State}, n.Name)
	}
}

// A node that will not drain, and one that carries no traffic when it is back: the next one is not touched before a person has seen to it.
func TestNodesThatGoWrong(t *testing.T) {
	t.Parallel()
	for fault, says := range map[string]string{
		shellbox.FollowerNoDrain: `node2 does not drain: node2 runs 2024-autumn-2 and is "serves its last users". Nothing else was done to it`,
		shellbox.FollowerSilent:  `node2 runs 2024-autumn-3 and is "joined, no traffic"`,
	} {
		t.Run(fault, func(t *testing.T) {
			t.Parallel()
			f := nodes(t)
			f.start()
			require.NoError(t, f.plain.Arm(fault, box.Fault{Value: 2}))
			id := f.draft("2024-autumn-3")
			f.release(id)
			f.asks(id, change.AskWarn, says)
			all, cutOff, _ := f.plain.Followers()
			assert.Zero(t, cutOff)
			assert.Equal(t, []int{1, 0, 0}, []int{all[0].Starts, all[2].Starts, all[3].Starts}, "node1 was done, and nobody after node2 was touched")
			require.NoError(t, f.plain.Heal(fault))
			f.answer(id, change.Retry, "")
			done := (&subject{field: f}).toTheEnd(id)
			require.Equal(t, change.Done, done.State, failure(done))
			_, cutOff, _ = f.plain.Followers()
			assert.Zero(t, cutOff)
		})
	}
}
