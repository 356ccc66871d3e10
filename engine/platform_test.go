package engine

import (
	"cmp"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/simfleet/box"
	"verimorph/simfleet/calderpath"
	"verimorph/store"
)

// newPlatform is a router of the first platform that is to go on as one of the second.
func newPlatform(t *testing.T, edit ...func(*calderpath.Spec)) *routed {
	spec := calderpath.Spec{Model: "V1", Version: "7.4.6", Licences: []string{"edge-plus"}}
	for _, e := range edit {
		e(&spec)
	}
	r := routerOf(t, spec)
	r.toModel = "V2"
	return r
}

// A router goes on as another model: by way of the release that both platforms have, and with everything that was foretold to change.
func TestAPlatformChangesInPlace(t *testing.T) {
	t.Parallel()
	r := newPlatform(t)
	before := regexp.MustCompile(`(?s)<tunnels>.*</tunnels>`).ReplaceAllString(r.router.Config(), "<tunnels></tunnels>") // classic tunnels ended with train 8
	require.NoError(t, r.router.Change("", before))
	keyBefore := r.router.Access().HostKey
	r.start()
	done := r.carryOut("8.2.2")
	require.Equal(t, change.Done, done.State, failure(done))
	v := verdictOf(t, done)
	assert.Equal(t, verify.Pass, v.Verdict, failure(done))
	for reading, says := range map[string]string{"unit": "was V1-1, is V2-", readHostKey: "was SHA256:", "engine-id": "was 0x8000c35d04", "licences-there": "it is there", readConfig: "converted from V1@7.4.6 to V2@8.2.2"} {
		res := resultOf(v, reading)
		require.NotNil(t, res, reading)
		assert.Equal(t, verify.Met, res.State, reading)
		assert.Contains(t, res.Evidence, says, reading)
	}
	ports := resultOf(v, "ports-up")
	assert.Equal(t, []string{"lane-1", "lane-2", "lane-3", "lane-4"}, ports.After.Set)
	assert.Contains(t, ports.Title, "renamed")
	assert.Contains(t, r.journal(done.ID), "the device goes on as V2 with the serial V2-")
	assert.Equal(t, strings.NewReplacer("port0", "lane-1", "port1", "lane-2", "port2", "lane-3", "port3", "lane-4").Replace(before), r.router.Config())

	d, err := r.Store.Device(t.Context(), "rt1")
	require.NoError(t, err)
	assert.NotEqual(t, strings.TrimSpace(keyBefore), strings.TrimSpace(d.HostKey), "the new host key is pinned")
	p, err := r.Refresh(t.Context(), d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, []string{"V2", "8.2.2"}, []string{p.Model, p.Version})
}

// What does not change as it was foretold is a doubt, and what had to stay and did not is a failure that is taken back.
func TestAPlatformThatDoesNotChangeAsForetold(t *testing.T) {
	t.Parallel()
	t.Run("the serial stays", func(t *testing.T) {
		t.Parallel()
		r := newPlatform(t)
		require.NoError(t, r.router.Arm(calderpath.KeepsSerial, box.Fault{}))
		r.start()
		done := r.carryOut("7.4.6")
		require.Equal(t, change.Done, done.State, failure(done))
		v := verdictOf(t, done)
		assert.Equal(t, verify.Degraded, v.Verdict)
		assert.Contains(t, resultOf(v, "unit").Evidence, "is still V1-1; another value was foretold")
	})
	t.Run("a serial of another kind", func(t *testing.T) {
		t.Parallel()
		r := newPlatform(t)
		require.NoError(t, r.router.Arm(calderpath.LosesName, box.Fault{}))
		r.start()
		asked := r.carryOut("7.4.6")
		require.Equal(t, change.Asking, asked.State, failure(asked))
		assert.Equal(t, change.AskUnit, asked.Question.Kind)
		assert.Contains(t, asked.Question.Text, "its serial is unset, not V1-1")
	})
	t.Run("the licence is gone", func(t *testing.T) {
		t.Parallel()
		r := newPlatform(t)
		r.policy = change.Automatic
		before := r.router.Config()
		require.NoError(t, r.router.Arm(calderpath.LosesLicence, box.Fault{}))
		r.start()
		back := r.carryOut("7.4.6")
		require.Equal(t, change.Returned, back.State, failure(back))
		p, err := r.Refresh(t.Context(), r.known(t), access.Person("me", ""))
		require.NoError(t, err)
		assert.Equal(t, []string{"V1", "V1-1", "7.4.6"}, []string{p.Model, p.Serial, p.Version}, "it is what it was")
		assert.Equal(t, []string{"edge-plus"}, p.Licences)
		assert.Equal(t, before, r.router.Config())
		_, _, boots := r.router.Stands()
		assert.Equal(t, 3, boots)
	})
	t.Run("it starts what ran before", func(t *testing.T) {
		t.Parallel()
		r := newPlatform(t)
		require.NoError(t, r.router.Arm(calderpath.BadStart, box.Fault{Times: 1}))
		r.start()
		failed := r.carryOut("7.4.6")
		require.Equal(t, change.Asking, failed.State, failure(failed))
		assert.Contains(t, failure(failed), "the device came back as V1 with 7.4.6, not as V2 with 7.4.6")
	})
	t.Run("the machine is too small", func(t *testing.T) {
		t.Parallel()
		r := newPlatform(t, func(s *calderpath.Spec) { s.Memory = 1 << 30 })
		r.start()
		failed := r.carryOut("7.4.6")
		require.Equal(t, change.Failed, failed.State, failure(failed))
		assert.Contains(t, failure(failed), "the second platform needs 2 GiB of memory: it has 1.0 GiB")
		_, _, boots := r.router.Stands()
		assert.Equal(t, 1, boots)
	})
}

func (r *routed) known(t *testing.T) store.Device {
	d, err := r.Store.Device(t.Context(), "rt1")
	require.NoError(t, err)
	return d
}

// What answers once the platform may have changed is held against what was foretold; anything else is another unit.
func TestWhoAnswersAsAnotherPlatform(t *testing.T) {
	t.Parallel()
	r := newPlatform(t)
	id := r.draftTo("7.4.6", nil, "")
	w := r.prepare(id)
	goesOn := func(p portrait.Portrait) bool {
		ok, err := w.wentOn(t.Context(), &p)
		require.NoError(t, err)
		return ok
	}
	v2 := portrait.Portrait{Name: "rt1", Model: "V2", Serial: "V2-77"}
	assert.False(t, goesOn(v2), "nothing was started yet")
	w.of(change.ChooseSlot).State = change.StepRunning
	assert.False(t, goesOn(portrait.Portrait{Name: "rt1", Model: "R2", Serial: "V2-77"}), "a third model")
	assert.False(t, goesOn(portrait.Portrait{Name: "rt2", Model: "V2", Serial: "V2-77"}), "another name")
	assert.False(t, goesOn(portrait.Portrait{Name: "rt1", Model: "V2", Serial: "77"}), "a serial that was not foretold")
	assert.True(t, goesOn(v2))
	assert.Equal(t, &store.Became{Model: "V2", Serial: "V2-77"}, w.m.Planned.Became)
	assert.False(t, goesOn(portrait.Portrait{Name: "rt1", Model: "V2", Serial: "V2-78"}), "it was another one that was seen first")
	assert.True(t, goesOn(v2))
}

// Whatever strikes in whatever step: it goes on as the other platform, once.
func TestStrikesWhileThePlatformChanges(t *testing.T) {
	t.Parallel()
	struckAnyhow(t, func(t *testing.T, strikeAll func(*rig)) {
		r := newPlatform(t)
		strikeAll(r.rig)
		r.start()
		r.becameSecond(r.carryOut("7.4.6"), 2)
	})
}

// The power is lost after whatever step: it starts what is chosen, which may be the other platform before the change says so.
func TestPowerIsLostWhileThePlatformChanges(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	boots := map[change.Kind]int{change.ChooseSlot: 2} // it has gone on by itself when the change would start it
	for _, kind := range []change.Kind{change.Send, change.ChooseSlot, change.Restart, change.Confirm} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r := newPlatform(t)
			var once sync.Once
			r.Engine.strike = func(_ *run, st *store.Step, at string) {
				if st.Plan.Kind == kind && at == "performed" {
					once.Do(r.router.PowerOffAndOn)
				}
			}
			r.start()
			c := r.carryOut("7.4.6")
			if c.State == change.Asking && c.Question.Kind == change.AskWarn { // its services were on their way up
				require.NoError(t, r.Act(t.Context(), c.ID, change.Accept, access.Person("me", ""), "they come"))
				c = r.rest(c.ID)
			}
			r.becameSecond(c, cmp.Or(boots[kind], 3))
		})
	}
}

// becameSecond sees that a change took the router to the second platform, and how often it was started.
func (r *routed) becameSecond(done store.Change, boots int) {
	r.t.Helper()
	require.Equal(r.t, change.Done, done.State, failure(done))
	assert.Equal(r.t, verify.Pass, verdictOf(r.t, done).Verdict, failure(done))
	version, installs, started := r.router.Stands()
	assert.Equal(r.t, "7.4.6", version)
	assert.Equal(r.t, 1, installs)
	assert.Equal(r.t, boots, started)
	assert.Equal(r.t, "V2", r.router.Look().Model)
}
