package engine

import (
	"context"
	"encoding/json"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

// Whatever the journal says, a slot that does not hold what is to be started is not chosen.
func TestASlotThatIsNotWhatItShouldBe(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	install, choose := w.of(change.Install), w.of(change.ChooseSlot)
	install.Intent, _ = json.Marshal(slotIntent{Slot: "b", Version: "5.0.4", Old: "a"})
	assert.ErrorContains(t, chooseSlot(w, t.Context(), choose), "slot b should hold 5.4.2 and be good; the device shows 5.0.6")
	assert.Equal(t, "a", r.box.Status().Next)
	_, err := installedNow(w, t.Context(), install) // however the command was answered
	assert.ErrorContains(t, err, "slot b should hold 5.4.2 and be good; the device shows 5.0.6")
}

// What is unsaved is saved before the restart, and a save is confirmed by looking.
func TestWhatIsUnsavedIsSaved(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	s := w.of(change.Save)
	done, _, err := saved(w, t.Context(), s, false)
	require.NoError(t, err)
	assert.True(t, done)
	r.write("port p1 / mtu 1400")
	done, _, err = saved(w, t.Context(), s, false)
	require.NoError(t, err)
	assert.False(t, done)
	_, err = savedNow(w, t.Context(), s)
	assert.ErrorContains(t, err, "still shows unsaved configuration")
	require.NoError(t, save(w, t.Context(), s))
	evidence, err := savedNow(w, t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, "running and saved configuration are the same", evidence)

	// A device that does not say is read: what runs against what is saved.
	d := *r.Drivers["tarnholm"].(*cli.Dialect)
	d.Saved, d.Unsaved = pattern(t, "^never$"), pattern(t, "^never$")
	r.Drivers["tarnholm"] = &d
	w.hangUp()
	w.way = waiting{}
	unsaved, err := w.unsaved(t.Context())
	require.NoError(t, err)
	assert.Equal(t, portrait.No, unsaved)
	r.write("port p1 / mtu 1300")
	unsaved, err = w.unsaved(t.Context())
	require.NoError(t, err)
	assert.Equal(t, portrait.Yes, unsaved)
	d.Backup = nil
	unsaved, err = w.unsaved(t.Context())
	require.NoError(t, err)
	assert.Equal(t, portrait.Unknown, unsaved, "nobody knows")
	evidence, err = savedNow(w, t.Context(), s)
	require.NoError(t, err)
	assert.Contains(t, evidence, "not known")
}

func pattern(t *testing.T, text string) (p device.Pattern) {
	data, err := json.Marshal(text)
	require.NoError(t, err)
	require.NoError(t, p.UnmarshalJSON(data))
	return p
}

// The go/no-go check is done again when it was another worker that did it: what has gone wrong meanwhile is seen.
func TestTheGoNoGoCheckIsDoneAgain(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	r.holdAt(0, change.GoNoGo)
	id := r.begin("5.0.7", "5.4.2")
	r.start()
	r.await(id, change.Paused)
	r.write("port p1 / mtu 1400") // it has something unsaved now
	require.NoError(t, r.Act(t.Context(), id, change.Resume, access.Person("me", ""), ""))
	c := r.await(id, change.Asking, change.Done, change.Failed)
	require.Equal(t, change.Asking, c.State, r.journal(id))
	assert.Equal(t, []string{ready.Unsaved}, c.Question.Checks, c.Question.Text)
	assert.Equal(t, 1, r.box.Status().Boots)
}

// Services that are starting are waited for; whether they are is not known where the device does not say, and then the expected time is waited.
func TestServicesAreWaitedFor(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	s := w.of(change.Services)
	_ = r.client().Restart(t.Context())
	require.Eventually(t, func() bool { return r.box.Status().Phase == "commands" }, 20*time.Second, time.Millisecond)
	require.NoError(t, r.box.Arm(tarnholm.SlowReturn, box.Fault{Value: 3, Times: -1}))
	require.NoError(t, waitServices(w, t.Context(), s))
	assert.Equal(t, "ready", r.box.Status().Phase)
	assert.Equal(t, "the device says its services are ready", s.Note)

	d := *r.Drivers["tarnholm"].(*cli.Dialect)
	d.ServicesReady = device.Pattern{}
	r.Drivers["tarnholm"] = &d
	w.hangUp()
	w.way = waiting{}
	s.Plan.Expect.High = 0.3
	began := time.Now()
	require.NoError(t, waitServices(w, t.Context(), s))
	assert.Contains(t, s.Note, "not known, since the device does not say")
	assert.GreaterOrEqual(t, time.Since(began), 250*time.Millisecond)
}

// What differs is told apart: guarded settings, others, and what only looks different.
func TestDiffer(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	schema, err := r.schema(t.Context(), "TH-60", "5.0.7")
	require.NoError(t, err)
	require.NotNil(t, schema)
	text := r.box.Status().Config
	every := func(config.Difference) bool { return true }
	guarded, other, held, err := differ("a.cfg", text, text, schema, every)
	require.NoError(t, err)
	assert.Empty(t, append(guarded, other...))
	doc, bad := config.Parse("a.cfg", text, schema.Syntax)
	require.Empty(t, bad)
	var one config.Item
	n := 0
	for _, it := range schema.Items(doc) {
		if it.Guarded != "" {
			one = it
			n++
		}
	}
	assert.Equal(t, n, held)
	require.Positive(t, n, "the demo guards something")
	line := one.Node.Line
	lines := strings.Split(text, "\n")
	lines[line-1] += "9"
	guarded, _, _, err = differ("a.cfg", text, strings.Join(lines, "\n"), schema, every)
	require.NoError(t, err)
	assert.NotEmpty(t, guarded, "%q was changed", lines[line-1])
}

// The way back by slot is offered by the slots as the device shows them.
func TestWaysBackAsTheSlotsAre(t *testing.T) {
	t.Parallel()
	w := &run{c: &store.Change{Back: []change.Back{{Way: change.BackBySlot}}, Steps: []store.Step{{Plan: change.Step{Kind: change.ChooseSlot}, State: change.StepDone}}},
		path: path.Path{Hops: []path.Hop{{From: version.MustParse("5.0.7"), To: version.MustParse("5.4.2")}}}}
	slot := func(v string, good portrait.Fact) *portrait.Portrait {
		return &portrait.Portrait{Slots: []portrait.Slot{{Name: "a", Version: v, Good: good}, {Name: "b", Version: "5.4.2", Running: true, Good: portrait.Yes}}}
	}
	assert.True(t, w.canGoBack(slot("5.0.7", portrait.Yes)))
	assert.True(t, w.canGoBack(slot("5.0.7", portrait.Unknown)))
	assert.False(t, w.canGoBack(slot("5.0.7", portrait.No)), "it cannot be started")
	assert.False(t, w.canGoBack(slot("5.2.3", portrait.Yes)), "something else lies there now")
	assert.True(t, w.canGoBack(nil), "nobody can look: the journal speaks")
}

// What the next start is from is told, by the device's word or else by the journal.
func TestArmed(t *testing.T) {
	t.Parallel()
	intent, err := json.Marshal(slotIntent{Slot: "b", Old: "a"})
	require.NoError(t, err)
	w := &run{c: &store.Change{Steps: []store.Step{{Plan: change.Step{Kind: change.Install}, State: change.StepDone, Intent: intent}, {Plan: change.Step{Number: 2, Kind: change.ChooseSlot}, State: change.StepDone}}},
		path: path.Path{Hops: []path.Hop{{From: version.MustParse("5.0.7"), To: version.MustParse("5.4.2")}}}}
	assert.Contains(t, w.armed(nil), "Slot b, which holds 5.4.2, was chosen for the next start")
	p := &portrait.Portrait{Slots: []portrait.Slot{{Name: "a", Running: true, Next: portrait.No}, {Name: "b", Version: "5.4.2", Next: portrait.Yes}}}
	assert.Contains(t, w.armed(p), "from slot b, which holds 5.4.2")
	p.Slots[0].Next, p.Slots[1].Next = portrait.Yes, portrait.No
	assert.Empty(t, w.armed(p))
	w.c.Steps = append(w.c.Steps, store.Step{Plan: change.Step{Number: 3, Kind: change.Confirm}, State: change.StepDone})
	assert.Empty(t, w.armed(nil))
}

// An engine that was stopped goes on with nothing.
func TestStopWaitsForEverything(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	require.NoError(t, r.Start(context.Background()))
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	require.NoError(t, r.Stop(ctx))
	ended := make(chan struct{})
	go func() { r.group.all.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(time.Second):
		t.Error("something goes on")
	}
}

// A refusal to fetch is told at once when the device did not come for the file.
func TestARefusalToFetchIsToldAtOnce(t *testing.T) {
	t.Parallel()
	f := newField(t, shellbox.Spec{Maker: "Pellworth", Model: "RC-6", Version: "F1.06"}, "marrow-ramp1.ini", "tftp")
	require.NoError(t, f.plain.Arm(shellbox.ByHandKey, box.Fault{}))
	d := *f.Drivers["pellworth"].(*cli.Dialect)
	d.Verbs = maps.Clone(d.Verbs)
	d.Verbs["fetch-image"] = cli.Query{Send: "fetch-not {url} {file}"}
	f.Drivers["pellworth"] = &d
	f.start()
	id := f.draft("F2.12")
	f.release(id)
	began := time.Now()
	c := f.rest(id)
	require.Equal(t, change.Failed, c.State, failure(c))
	assert.Contains(t, *c.Failure, "refuses to fetch")
	assert.Contains(t, *c.Failure, "means nothing here", "in the device's own words")
	assert.Less(t, time.Since(began), 20*time.Second)
}

// What the gate finds may be the step itself, which was on its way: it is looked at once more before a person is asked.
func TestWhatTheGateFindsMayBeTheStepItself(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	r.holdAt(0, change.Backup)
	r.start()
	id := r.begin("5.0.7", "5.4.2")
	r.await(id, change.Paused)
	r.byHand("b", true) // as a command that arrives late does
	w := r.prepare(id)
	s := w.of(change.Save)
	looks := 0
	done := work{inspect: func(*run, context.Context, *store.Step, bool) (bool, string, error) {
		looks++
		return looks > 1, "it is done now", nil
	}}
	s.State = change.StepRunning
	evidence, err := w.once(t.Context(), done, s)
	require.NoError(t, err)
	assert.Equal(t, "it is done now", evidence)

	looks = 0
	s.State = change.StepWaiting // it had not begun: what was found is not its doing
	_, err = w.once(t.Context(), done, s)
	var ask *askError
	require.ErrorAs(t, err, &ask)
	assert.Equal(t, change.AskStands, ask.q.Kind)
	assert.Equal(t, 1, looks)
}
