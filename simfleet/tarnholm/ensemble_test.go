package tarnholm

import (
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/internal/steady"
	"verimorph/simfleet/box"
)

// two are a pair whose boxes have been up for long, of which the first is active.
func two(t *testing.T) (a, b *Box) {
	var all [2]*Box
	for i, name := range []string{"a", "b"} {
		x, err := Open(Spec{Name: name, Model: "TH-80", Serial: "S" + name, Address: "127.0.0.1:0", User: "u", Version: "5.0.7", Idle: "5.0.6", Flash: 1 << 20, Config: "box\n"}, t.TempDir(), 1000, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		all[i] = x
	}
	require.NoError(t, Join(all[0], all[1]))
	return all[0], all[1]
}

// said is what a box tells of its pair.
func said(b *Box) string {
	var out strings.Builder
	newShell(b, &conversation{out: &out}, 0).tellEnsemble()
	return strings.Join(strings.Fields(out.String()), " ")
}

// conversation is one in which only the box speaks.
type conversation struct{ out *strings.Builder }

func (c *conversation) Read([]byte) (int, error)    { select {} }
func (c *conversation) Write(p []byte) (int, error) { return c.out.Write(p) }

// The standby takes over when the active one goes down, and when it is told to while it is in sync; roles last, also when the boxes are loaded anew.
func TestPairOfBoxes(t *testing.T) {
	a, b := two(t)
	assert.Equal(t, "role active mate Sb sync complete", said(a))
	assert.Equal(t, "role standby mate Sa sync complete", said(b))
	over := func(x *Box) error {
		return newShell(x, &conversation{out: &strings.Builder{}}, 0).take([]string{"over"})
	}
	assert.ErrorContains(t, over(a), "active already")
	require.NoError(t, over(b))
	assert.Equal(t, "role active mate Sa sync complete", said(b))

	b.restart()
	assert.Equal(t, "role active mate Sb sync waits for Sb", said(a), "it takes over, and mirrors nothing now")
	assert.ErrorContains(t, over(b), "not in sync")
	require.Eventually(t, func() bool { return strings.HasSuffix(said(b), "sync complete") }, 5*time.Second, 10*time.Millisecond)
	require.NoError(t, Join(b, a))
	assert.Contains(t, said(a), "role active", "roles outlast it")

	for fault, says := range map[string]string{NeverHot: "sync not begun", SyncStalls: "sync 97 % mirrored"} {
		require.NoError(t, b.Arm(fault, box.Fault{Times: -1}))
		assert.Contains(t, said(b), says)
		assert.ErrorContains(t, over(b), "not in sync")
		require.NoError(t, b.Heal(fault))
	}
	require.NoError(t, b.Arm(StaysStandby, box.Fault{}))
	require.NoError(t, over(b), "it says so")
	assert.Contains(t, said(b), "role standby")
	require.NoError(t, a.Arm(SplitRoles, box.Fault{}))
	a.restart()
	assert.Contains(t, said(a), "role active")
	assert.Contains(t, said(b), "role active")
	alone, _ := two(t)
	alone.ensemble = nil
	assert.Empty(t, said(alone))
	assert.ErrorContains(t, over(alone), "there is no mate")
}

// Of a cluster one leads and the others follow it. When it goes down another one leads, and nothing goes through without more than half of them.
func TestClusterOfBoxes(t *testing.T) {
	a, b := two(t)
	c, _ := two(t)
	require.NoError(t, JoinCluster("hub", a, b, c))
	assert.Equal(t, "role leader cluster hub sync complete", said(a))
	assert.Equal(t, "role follower cluster hub sync complete", said(b))
	assert.Equal(t, "a", a.link().serving())
	require.NoError(t, b.Arm(NeverHot, box.Fault{Times: -1}))
	assert.Equal(t, "role follower cluster hub sync not begun", said(b))
	assert.Equal(t, "role leader cluster hub sync complete", said(a), "another one could take over")
	assert.Equal(t, "role follower cluster hub sync complete", said(c))

	require.NoError(t, a.Arm(NeverReturn, box.Fault{}))
	a.restart()
	assert.Equal(t, "role leader cluster hub sync waits for Sa", said(b), "the first that is up leads")
	assert.Equal(t, "b", b.link().serving())
	require.NoError(t, c.Arm(NeverReturn, box.Fault{}))
	c.restart()
	assert.Empty(t, b.link().serving(), "one of three is no quorum")
	assert.ErrorContains(t, JoinCluster("few", a, b), "a cluster has three at least")
}

// What goes through a pair is answered by whoever serves, and lost while nobody does: a client that asks steadily sees it.
func TestWhatGoesThroughAPair(t *testing.T) {
	a, b := two(t)
	stop, at, err := a.Through("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(stop)
	users := steady.Start(t.Context(), "http://"+at, 200)
	time.Sleep(200 * time.Millisecond)
	b.restart() // the standby
	time.Sleep(200 * time.Millisecond)
	sent, lost, gaps := users.Stop()
	assert.Greater(t, sent, 10)
	assert.Zero(t, lost, "%v", gaps)

	require.Eventually(t, func() bool { return strings.HasSuffix(said(a), "sync complete") }, 5*time.Second, 10*time.Millisecond)
	users = steady.Start(t.Context(), "http://"+at, 200)
	time.Sleep(100 * time.Millisecond)
	require.NoError(t, b.Arm(NeverReturn, box.Fault{}))
	b.restart()
	a.restart() // while the other one is down
	require.Eventually(t, func() bool { return a.link().serving() == "a" }, 5*time.Second, 10*time.Millisecond)
	time.Sleep(100 * time.Millisecond)
	_, lost, gaps = users.Stop()
	assert.NotZero(t, lost)
	require.NotEmpty(t, gaps)
	assert.Greater(t, gaps[len(gaps)-1].To.Sub(gaps[0].From), 50*time.Millisecond)
	a.ensemble = nil
	_, _, err = a.Through("127.0.0.1:0")
	assert.ErrorContains(t, err, "there is no mate")
}
