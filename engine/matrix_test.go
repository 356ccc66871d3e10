package engine

import (
	"fmt"
	"maps"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

// Outcomes that a fault may have.
const (
	done     = "done"     // and the verdict passes
	degraded = "degraded" // done, and the verdict names what is missing
	returned = "returned" // gone back, and the verdict passes
	stopped  = "failed"   // before anything was changed
	asks     = "asking"   // a person is needed
)

// stands fails the test unless a change ended as it should, whatever struck.
func stands(t *testing.T, c store.Change, want, runs, from, to string, installs int) {
	t.Helper()
	outcome := string(c.State)
	if c.State == change.Done {
		outcome = map[string]string{verify.Pass: done, verify.Degraded: degraded}[verdictOf(t, c).Verdict]
	}
	require.Equal(t, want, outcome, failure(c))
	switch want {
	case done, degraded:
		for _, res := range verdictOf(t, c).Results {
			if res.State == verify.Met {
				assert.True(t, res.Before != nil && res.Before.Known() && res.After != nil && res.After.Known(), "%s is met: it is told what was compared with what", res.Title)
			}
		}
		assert.Equal(t, to, runs, "a done that is not true is the worst there is")
	case returned, stopped:
		assert.Equal(t, from, runs)
		assert.NotEmpty(t, *c.Failure)
	}
	assert.LessOrEqual(t, installs, 1, "never installed twice")
}

// Every fault of a firewall that can strike while it is changed, with the way back taken without asking: it is done, gone back, or
// stopped for a person, the verdict is never wrong, and nothing is installed twice.
func TestFaultsOfAFirewall(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for _, f := range []struct {
		fault string
		value int64
		times int
		want  string
	}{
		{tarnholm.DropTransfer, 1 << 20, 2, done},
		{tarnholm.StallTransfer, 1 << 20, 1, done},
		{tarnholm.CorruptTransfer, 0, 1, done},
		{tarnholm.CorruptTransfer, 0, -1, stopped},
		{tarnholm.LowFlash, 1 << 20, 0, stopped},
		{tarnholm.FitFails, 0, 1, stopped},
		{tarnholm.EmptyParts, 0, -1, stopped},
		{tarnholm.SendsNothing, 0, -1, stopped},
		{tarnholm.SendsHalf, 0, -1, stopped},
		{tarnholm.SlowReturn, 3, -1, done},
		{tarnholm.TunnelDown, 0, 1, stopped}, // the tunnel stays down after going back too: the verdict says so
		{tarnholm.LoseTranslations, 0, 1, returned},
		{tarnholm.OldSlot, 0, 1, returned},
		{tarnholm.NewHostKey, 0, 1, asks},
		{tarnholm.NeverReturn, 0, 1, asks},
		{tarnholm.Mute, 0, -1, stopped},
		{tarnholm.LogErrors, 0, 1, degraded},
		{tarnholm.ClockWrong, 3600, 0, degraded},
		{tarnholm.LockAccount, 2, -1, done}, // no sign-in is refused on the way
		{tarnholm.UsersLate, 60, -1, done},  // the right password is refused for a while after the start
		{tarnholm.Chatter, 0, -1, done},     // messages by itself, in odd pieces
		{tarnholm.WorksOn, 0, -1, done},     // the installation is answered at once
	} {
		t.Run(fmt.Sprintf("%s %d", f.fault, f.times), func(t *testing.T) {
			t.Parallel()
			r := newRig(t, nil)
			r.policy = change.Automatic
			whole := r.box.Status()
			require.NoError(t, r.box.Arm(f.fault, box.Fault{Value: f.value, Times: f.times}))
			r.start()
			id := r.begin("5.0.7", "5.4.2")
			c := (&field{rig: r}).rest(id)
			st := r.box.Status()
			stands(t, c, f.want, st.Version, "5.0.7", "5.4.2", st.Fits)
			assert.Zero(t, st.Spoilt+st.Bricks, "nothing was written or started while something was written")
			assert.NotEqual(t, "fitting", st.Slots["b"][1], "nothing is left half-way")
			if f.want == done {
				assert.Contains(t, r.step(id, change.Install).Outcome, "slot b holds 5.4.2", "the step says what the device shows")
			}
			if f.want == stopped || f.want == returned {
				assert.Equal(t, [2]string{"a", "a"}, [2]string{st.Running, st.Next}, "it runs and starts what it did before")
				assert.Equal(t, whole.Config, st.Config, "its configuration is what it was")
			}
			if f.want == done || f.want == degraded {
				assert.Equal(t, [2]string{"b", "b"}, [2]string{st.Running, st.Next})
			}
			if f.want == asks {
				assert.Equal(t, change.AskBack, c.Question.Kind, "the way back was tried first: %s", c.Question.Text)
			}
		})
	}
}

// kinds are boxes that are no firewalls, with what they run and what they are to run.
var kinds = map[string]func(t *testing.T) (f *field, from, to string){
	"gateway": func(t *testing.T) (*field, string, string) { return gateway(t), "3.8.4", "3.8.5" },
	"ramp": func(t *testing.T) (*field, string, string) {
		f := newField(t, shellbox.Spec{Maker: "Pellworth", Model: "RC-6", Version: "F1.06"}, "marrow-ramp1.ini", "tftp")
		require.NoError(t, f.plain.Arm(shellbox.ByHandKey, box.Fault{}))
		return f, "F1.06", "F2.12"
	},
	"chassis": func(t *testing.T) (*field, string, string) {
		return newField(t, shellbox.Spec{Maker: "Ostrevin", Model: "C8", Version: "11.2.5", Older: "11.2.3"}, "vesterkai-core1.conf", "pull-sftp"), "11.2.5", "12.1.3"
	},
	"gauge": func(t *testing.T) (*field, string, string) {
		f := newField(t, shellbox.Spec{Maker: "Pellworth", Model: "TG-1", Version: "F1.06", LineOnly: true}, "marrow-gauge1.ini", "sftp")
		require.NoError(t, f.plain.Arm(shellbox.ByHandCard, box.Fault{}))
		return f, "F1.06", "F2.12"
	},
}

// The same for the boxes of other makers: a gateway that is drained, and a ramp controller that is overwritten.
func TestFaultsOfOtherBoxes(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for _, c := range []struct {
		box          string
		fault        string
		value        int64
		times        int
		want, policy string
		asks         string // the kind of the question
	}{
		{"gateway", shellbox.DropTransfer, 1000, 2, done, "", ""},
		{"gateway", shellbox.CorruptTransfer, 0, 1, done, "", ""},
		{"gateway", shellbox.LowRoom, 1000, 0, stopped, "", ""},
		{"gateway", shellbox.InstallFails, 0, 1, stopped, "", ""},
		{"gateway", shellbox.SlowReturn, 3, -1, done, "", ""},
		{"gateway", shellbox.StuckWork, 0, -1, done, "", ""},
		{"gateway", shellbox.OldVersion, 0, 1, returned, change.Automatic, ""},
		{"gateway", shellbox.LoseConfig, 0, 1, returned, change.Automatic, ""},
		{"gateway", shellbox.PartBad, 1, 0, asks, "", change.AskWarn}, // a warning, before anything is touched
		{"gateway", shellbox.PartBad, 0, 1, degraded, "", ""},
		{"gateway", shellbox.NewHostKey, 0, 1, asks, "", change.AskFailed},
		{"gateway", shellbox.NeverReturn, 0, 1, asks, "", change.AskFailed},
		{"ramp", shellbox.InstallFails, 0, 1, asks, "", change.AskFailed},
		{"ramp", shellbox.OldVersion, 0, 1, asks, "", change.AskFailed},
		{"ramp", shellbox.RefusesFile, 0, 1, asks, "", change.AskFailed},
		{"ramp", shellbox.RefusesFile, 0, 1, returned, change.Automatic, ""},
		{"ramp", shellbox.ComponentFails, 0, 1, returned, change.Automatic, ""},
		{"ramp", shellbox.NeverReturn, 0, 1, asks, change.Automatic, change.AskBack},
		{"ramp", shellbox.DropTransfer, 1000, 2, asks, "", change.AskHand}, // that is the hand step at the end
		{"ramp", shellbox.LowRoom, 1000, 0, stopped, "", ""},
		{"gateway", shellbox.NoLicence, 0, 0, done, "", ""},                     // this hop asks for none
		{"gateway", shellbox.ServiceDown, 0, -1, stopped, change.Automatic, ""}, // it stays down after going back, too: the verdict says so
		{"gateway", shellbox.LogErrors, 0, 1, degraded, "", ""},
		{"gateway", shellbox.ClockWrong, 3600, 0, degraded, "", ""},
		{"chassis", shellbox.DropTransfer, 1000, 2, done, "", ""},
		{"chassis", shellbox.CorruptTransfer, 0, 1, done, "", ""},
		{"chassis", shellbox.CorruptTransfer, 0, -1, stopped, "", ""},
		{"chassis", shellbox.LowPlaces, 1000, 0, asks, "", change.AskWarn}, // nearly full is a warning, before anything is touched
		{"chassis", shellbox.InstallFails, 0, 1, stopped, "", ""},
		{"chassis", shellbox.ComponentFails, 0, 1, stopped, "", ""},
		{"chassis", shellbox.SlowReturn, 3, -1, done, "", ""},
		{"chassis", shellbox.OldVersion, 0, 1, asks, "", change.AskFailed},
		{"chassis", shellbox.PartBad, 0, 1, degraded, "", ""},
		{"chassis", shellbox.NeverReturn, 0, 1, asks, "", change.AskFailed},
		{"gateway", shellbox.UsersLate, 60, -1, done, "", ""},
		{"gateway", shellbox.Chatter, 0, -1, done, "", ""},
		{"chassis", shellbox.UsersLate, 60, -1, done, "", ""},
		{"chassis", shellbox.Chatter, 0, -1, done, "", ""},
		{"ramp", shellbox.Chatter, 0, -1, asks, "", change.AskHand},
		{"gauge", shellbox.InstallFails, 0, 1, asks, "", change.AskFailed},
		{"gauge", shellbox.OldVersion, 0, 1, asks, "", change.AskFailed},
		{"gauge", shellbox.RefusesFile, 0, 1, asks, "", change.AskFailed},
		{"gauge", shellbox.NeverReturn, 0, 1, asks, "", change.AskFailed},
	} {
		t.Run(fmt.Sprintf("%s %s %d %s", c.box, c.fault, c.value, c.policy), func(t *testing.T) {
			t.Parallel()
			f, from, to := kinds[c.box](t)
			f.policy = c.policy
			whole := f.plain.Status()
			require.NoError(t, f.plain.Arm(c.fault, box.Fault{Value: c.value, Times: c.times}))
			f.start()
			id := f.draft(to)
			f.release(id)
			got := f.rest(id)
			for got.State == change.Asking && got.Question.Kind == change.AskHand && strings.Contains(got.Question.Text, "put the medium") {
				f.answer(id, change.SignOff, "")
				got = f.rest(id)
			}
			st := f.plain.Status()
			installs := st.Installs
			if c.want == returned && c.box == "ramp" {
				installs-- // going back there is an installation
			}
			if c.box == "chassis" {
				installs-- // over two hops
			}
			stands(t, got, c.want, st.Version, from, to, installs)
			if c.want == asks {
				assert.Equal(t, c.asks, got.Question.Kind, got.Question.Text)
				assert.NotEmpty(t, got.Question.Answers)
			}
			if got.State.Over() {
				assert.False(t, st.Resting, "it is not left out of service")
			}
			assert.Zero(t, st.Spoilt+st.Bricks, "nothing was written or started while something was written")
			for _, area := range st.Areas {
				assert.NotContains(t, area, "writing", "nothing is left half-way")
			}
			if c.want == stopped || c.want == returned {
				if c.fault != shellbox.ServiceDown && c.fault != shellbox.LoseConfig {
					assert.Equal(t, whole.Main, st.Main, "its configuration is what it was")
				}
				if !maps.Equal(whole.Components, st.Components) { // firmware beside the main image stays, and that is told
					assert.Equal(t, "chassis", c.box)
					assert.Contains(t, failure(got), "boot-loader")
				}
			}
		})
	}
}

// Answers to a change that failed after the point of no return.
func TestAnswersAfterThePointOfNoReturn(t *testing.T) {
	t.Parallel()
	t.Run("go back", func(t *testing.T) {
		f := gateway(t)
		require.NoError(t, f.plain.Arm(shellbox.ServiceDown, box.Fault{}))
		f.start()
		id := f.draft("3.8.5")
		f.release(id)
		c := f.asks(id, change.AskFailed, "Services up")
		assert.Equal(t, []change.Action{change.GoBack, change.Retry, change.Leave}, c.Question.Answers)
		assert.Equal(t, verify.Fail, verdictOf(t, c).Verdict, "the verdict stands in the record while it asks")
		f.answer(id, change.GoBack, "")
		require.NoError(t, f.plain.Heal(shellbox.ServiceDown))
		c = f.rest(id)
		require.Equal(t, change.Returned, c.State, failure(c))
		assert.Equal(t, "3.8.4", f.plain.Status().Version)
		assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict)
		for _, s := range c.Steps {
			assert.NotEqual(t, change.StepWaiting, s.State)
		}
	})
	t.Run("retry", func(t *testing.T) {
		f := gateway(t)
		require.NoError(t, f.plain.Arm(shellbox.NeverReturn, box.Fault{}))
		f.start()
		id := f.draft("3.8.5")
		f.release(id)
		f.asks(id, change.AskFailed, "nothing answers")
		require.NoError(t, f.plain.Heal(shellbox.NeverReturn)) // somebody pushed the button
		f.answer(id, change.Retry, "")
		c := f.rest(id)
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Equal(t, "3.8.5", f.plain.Status().Version)
		assert.Equal(t, 1, f.plain.Status().Installs)
	})
	t.Run("leave", func(t *testing.T) {
		f := gateway(t)
		require.NoError(t, f.plain.Arm(shellbox.ServiceDown, box.Fault{}))
		f.start()
		id := f.draft("3.8.5")
		f.release(id)
		f.asks(id, change.AskFailed, "Services up")
		f.answer(id, change.Leave, "")
		c := f.change(id)
		assert.Equal(t, change.Failed, c.State)
		assert.Contains(t, *c.Failure, "left the device as it stands")
		assert.Equal(t, "3.8.5", f.plain.Status().Version)
	})
}

// A hop does not begin when it could not be finished and undone before the window closes.
func TestAWindowThatIsTooShort(t *testing.T) {
	t.Parallel()
	f := gateway(t)
	f.start()
	id := f.draft("3.8.5")
	until := time.Now().Add(4 * time.Second) // a busy machine may take long to come to the check
	require.NoError(t, f.Store.SetTerms(t.Context(), id, store.Terms{WindowTo: &until, BackPolicy: change.Offered}, access.Person("me", "")))
	f.release(id)
	f.asks(id, change.AskTime, "it could not finish and still go back")
	assert.Equal(t, 0, f.plain.Status().Installs)
	assert.Equal(t, "3.8.4", f.plain.Status().Version)
	// It gets a longer one, which has to be approved.
	until = time.Now().Add(time.Hour)
	require.NoError(t, f.Store.SetTerms(t.Context(), id, store.Terms{WindowTo: &until, BackPolicy: change.Offered}, access.Person("me", "")))
	require.ErrorContains(t, f.Act(t.Context(), id, change.Retry, access.Person("me", ""), ""), "approved again")
	require.NoError(t, f.Act(t.Context(), id, change.Approve, access.Person("mate", ""), ""))
	f.answer(id, change.Retry, "")
	assert.Equal(t, change.Done, f.rest(id).State)
}

// newLineRig is a rig whose firewall has a console line beside its address.
func newLineRig(t *testing.T) *rig {
	line := ""
	r := newRig(t, func(s *tarnholm.Spec) {
		host, _, _ := net.SplitHostPort(s.Address)
		line = net.JoinHostPort(host, "7001")
		s.Line = line
	})
	require.NoError(t, r.Store.EnterDevice(t.Context(), store.Device{ID: r.d.ID, Settings: store.Settings{Reach: store.Reach{Console: line}}}, []string{"reach"}))
	return r
}

// What a device says at its console line while it starts anew is recorded, though nobody signs in there.
func TestAConsoleLineIsListenedTo(t *testing.T) {
	t.Parallel()
	r := newLineRig(t)
	require.NoError(t, r.box.Arm(tarnholm.SlowReturn, box.Fault{Value: 2, Times: -1}))
	r.start()
	id := r.begin("5.0.7", "5.4.2")
	c := (&field{rig: r}).rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	var all string
	require.Eventually(t, func() bool { // the last piece is written a moment later
		log, err := r.Store.ConsoleLog(t.Context(), r.d.ID, id, 0, 1000)
		require.NoError(t, err)
		all = ""
		for _, p := range log {
			all += p.Text
		}
		return strings.Contains(all, "services come next")
	}, 5*time.Second, 50*time.Millisecond, "%s", all)
	assert.Contains(t, all, ": 5.4.2")
}

// A device that does not come up any more is brought back from its boot loader, over its console line.
func TestTheWayBackThroughTheBootLoader(t *testing.T) {
	t.Parallel()
	r := newLineRig(t)
	r.policy = change.Automatic
	require.NoError(t, r.box.Arm(tarnholm.NeverReturn, box.Fault{}))
	r.start()
	id := r.begin("5.0.7", "5.4.2")
	c := (&field{rig: r}).rest(id)
	require.Equal(t, change.Returned, c.State, failure(c))
	assert.Equal(t, "5.0.7", r.box.Status().Version)
	found := false
	for _, s := range c.Steps {
		found = found || strings.Contains(s.Outcome, "from its boot loader, over the console line")
	}
	assert.True(t, found)
}
