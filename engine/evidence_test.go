package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/internal/wire"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
	"verimorph/transfer"
)

// at does something once when a step of a kind comes to a point: begun or performed.
func (r *rig) at(hop int, kind change.Kind, point string, do func(w *run, s *store.Step)) {
	var once sync.Once
	before := r.Engine.strike
	r.Engine.strike = func(w *run, s *store.Step, at string) {
		if before != nil {
			before(w, s, at)
		}
		if s.Plan.Kind == kind && s.Plan.Hop == hop && at == point && !s.Plan.Back {
			once.Do(func() { do(w, s) })
		}
	}
}

func (r *rig) holdAt(hop int, kind change.Kind) {
	r.at(hop, kind, "performed", func(w *run, _ *store.Step) {
		assert.NoError(r.t, r.Act(context.Background(), w.c.ID, change.Pause, access.Person("mate", ""), ""))
	})
}

// window sets when a change may run, in hours from now, as if somebody had approved it so.
func (r *rig) window(id int64, from, to float64) {
	_, err := r.Store.Pool.Exec(r.t.Context(), `UPDATE changes SET window_from = now() + $2 * interval '1 hour', window_to = now() + $3 * interval '1 hour' WHERE id = $1`, id, from, to)
	require.NoError(r.t, err)
}

func (r *rig) journal(id int64) string {
	j, err := r.Store.Journal(r.t.Context(), id, 0, 1000)
	require.NoError(r.t, err)
	var out []string
	for _, e := range j {
		out = append(out, fmt.Sprintf("%d %s: %s", e.Step, e.Event, e.Detail))
	}
	return strings.Join(out, "\n")
}

// client is somebody else's connection to the device.
func (r *rig) client() *device.Client {
	c, err := dialed(r.t.Context(), target(r.t, r))
	require.NoError(r.t, err)
	r.t.Cleanup(c.Close)
	return c
}

// write changes one statement of what the box runs with, as somebody at its command line would; it is not saved.
func (r *rig) write(statement string) {
	d := *r.Drivers["tarnholm"].(*cli.Dialect)
	d.Verbs = maps.Clone(d.Verbs)
	d.Verbs["save"] = cli.Query{Send: "write " + statement, Raised: true}
	t := target(r.t, r)
	t.Driver = &d
	c, err := dialed(r.t.Context(), t)
	require.NoError(r.t, err)
	defer c.Close()
	require.NoError(r.t, c.Save(r.t.Context()))
}

// operations drafts and starts a change of single operations.
func (r *rig) operations(os ...change.Operation) int64 {
	drafted := r.change(r.draft("5.0.7", "5.4.2"))
	plan, _, to, err := change.DraftOperations(change.OperationsJob{Family: r.cat.Family("th"), Can: r.Drivers["tarnholm"].Profile().Abilities, Pace: r.Pace, From: "5.0.7", Idle: "5.0.6", Operations: os})
	require.NoError(r.t, err)
	c := store.Change{Members: []store.Member{{DeviceID: r.d.ID}}, From: "5.0.7", To: to, Path: drafted.Path, Kind: change.SingleOperations, Back: plan.Back}
	for _, s := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	id, err := r.Store.AddChange(r.t.Context(), access.Person("me", ""), c)
	require.NoError(r.t, err)
	require.NoError(r.t, r.Act(r.t.Context(), id, change.Approve, access.Person("me", ""), ""))
	require.NoError(r.t, r.Store.SetChecks(r.t.Context(), id, nil))
	require.NoError(r.t, r.Act(r.t.Context(), id, change.Start, access.Person("me", ""), ""))
	return id
}

// byHand upgrades the box as somebody at its command line would.
func (r *rig) byHand(slot string, start bool) {
	c := r.client()
	var sum string
	require.NoError(r.t, r.Store.Pool.QueryRow(r.t.Context(), `SELECT sha256 FROM images LIMIT 1`).Scan(&sum))
	local, err := r.Blobs.Path(sum)
	require.NoError(r.t, err)
	files, err := c.SFTP()
	require.NoError(r.t, err)
	require.NoError(r.t, transfer.Push(r.t.Context(), files, local, "by-hand.img", nil))
	require.NoError(r.t, c.Install(r.t.Context(), "by-hand.img", slot, nil))
	require.NoError(r.t, c.RemoveFile(r.t.Context(), "by-hand.img"))
	if start {
		require.NoError(r.t, c.ChooseSlot(r.t.Context(), slot, ""))
		_ = c.Restart(r.t.Context())
		require.Eventually(r.t, func() bool {
			st := r.box.Status()
			return st.Version == "5.4.2" && st.Phase == "ready"
		}, 20*time.Second, 20*time.Millisecond)
	}
}

// Held after the go/no-go check, and resumed when the window is over: the device is not restarted.
func TestTheWindowHoldsAfterARest(t *testing.T) {
	t.Parallel()
	for _, kind := range []change.Kind{change.GoNoGo, change.Backup} {
		r := newRig(t, nil)
		r.holdAt(0, kind)
		id := r.begin("5.0.7", "5.4.2")
		r.window(id, -1, 2)
		r.start()
		r.await(id, change.Paused)
		r.window(id, -12, -9)
		require.NoError(t, r.Act(t.Context(), id, change.Resume, access.Person("me", ""), ""))
		c := r.await(id, change.Asking, change.Failed, change.Done)
		require.Equal(t, change.Asking, c.State, r.journal(id))
		assert.Equal(t, change.AskTime, c.Question.Kind)
		assert.Contains(t, c.Question.Text, "closed at")
		assert.Contains(t, c.Question.Text, "UTC")
		assert.Equal(t, 1, r.box.Status().Boots, "not restarted")
		assert.Equal(t, "a", r.box.Status().Next)
	}
}

// A service that was away overnight asks in the morning instead of restarting the device.
func TestTheWindowHoldsAfterACrash(t *testing.T) {
	t.Parallel()
	for _, kind := range []change.Kind{change.GoNoGo, change.ChooseSlot} {
		r := newRig(t, nil)
		reached := make(chan struct{})
		r.at(0, kind, "performed", func(*run, *store.Step) { close(reached); time.Sleep(150 * time.Millisecond) })
		id := r.begin("5.0.7", "5.4.2")
		r.window(id, -1, 2)
		r.start()
		<-reached
		r.window(id, -12, -9)
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		_ = r.Stop(ctx)
		cancel()
		next, err := New(r.Engine.Config)
		require.NoError(t, err)
		r.Engine = next
		r.start()
		c := r.await(id, change.Asking, change.Failed, change.Done)
		require.Equal(t, change.Asking, c.State, r.journal(id))
		assert.Equal(t, change.AskTime, c.Question.Kind)
		assert.Equal(t, 1, r.box.Status().Boots)
		if r.box.Status().Next == "b" {
			assert.Contains(t, c.Question.Text, "next start of the device is from slot b, which holds 5.4.2", "that it is armed is told")
		}
	}
}

// The window is looked at right before each command that cannot be undone, not only at the check before.
func TestTheWindowClosesBetweenCheckAndCommand(t *testing.T) {
	t.Parallel()
	for _, kind := range []change.Kind{change.ChooseSlot, change.Restart} {
		r := newRig(t, nil)
		id := r.begin("5.0.7", "5.4.2")
		r.window(id, -1, 2)
		r.at(0, kind, "begun", func(*run, *store.Step) { r.window(id, -12, -9) })
		r.start()
		c := r.await(id, change.Asking, change.Failed, change.Done)
		require.Equal(t, change.Asking, c.State, r.journal(id))
		assert.Equal(t, change.AskTime, c.Question.Kind, c.Question.Text)
		assert.Equal(t, 1, r.box.Status().Boots)
		// Given another time that was approved, it goes on.
		until := time.Now().Add(2 * time.Hour)
		require.NoError(t, r.Store.SetTerms(t.Context(), id, store.Terms{WindowTo: &until}, access.Person("me", "")))
		require.NoError(t, r.Act(t.Context(), id, change.Approve, access.Person("mate", ""), ""))
		require.NoError(t, r.Act(t.Context(), id, change.Retry, access.Person("me", ""), ""))
		assert.Equal(t, change.Done, r.awaitEnd(id).State)
		assert.Equal(t, 2, r.box.Status().Boots)
	}
}

// A time to restart from without an end has one all the same.
func TestATimeWithoutAnEndHasOne(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	_, err := r.Store.Pool.Exec(t.Context(), `UPDATE changes SET restart_from = now() - interval '5 hours' WHERE id = $1`, id)
	require.NoError(t, err)
	r.start()
	c := r.await(id, change.Asking, change.Done, change.Failed)
	require.Equal(t, change.Asking, c.State, r.journal(id))
	assert.Equal(t, change.AskTime, c.Question.Kind)
	assert.Equal(t, 1, r.box.Status().Boots)
}

// The way back by slot is offered only while its slot still holds what it would start.
func TestTheWayBackThatWasOverwritten(t *testing.T) {
	t.Parallel()
	r := newRig(t, func(s *tarnholm.Spec) { s.Version = "5.0.4" })
	r.holdAt(1, change.Install)
	id := r.begin("5.0.4", "5.4.2")
	r.start()
	c := r.await(id, change.Paused)
	assert.NotContains(t, c.Possible(), change.GoBack)
	require.Error(t, r.Act(t.Context(), id, change.GoBack, access.Person("me", ""), ""))
	require.NoError(t, r.Act(t.Context(), id, change.Resume, access.Person("me", ""), ""))
	assert.Equal(t, change.Done, r.awaitEnd(id).State)
}

// A device that somebody changed by hand while the change rested is not written to.
func TestADeviceThatIsNotAsLeft(t *testing.T) {
	t.Parallel()
	t.Run("upgraded", func(t *testing.T) {
		r := newRig(t, nil)
		r.holdAt(0, change.Backup)
		id := r.begin("5.0.7", "5.4.2")
		r.start()
		r.await(id, change.Paused)
		r.byHand("b", true)
		fits := r.box.Status().Fits
		require.NoError(t, r.Act(t.Context(), id, change.Resume, access.Person("me", ""), ""))
		c := r.await(id, change.Asking, change.Failed, change.Done)
		require.Equal(t, change.Asking, c.State, r.journal(id))
		assert.Equal(t, change.AskStands, c.Question.Kind)
		assert.Contains(t, c.Question.Text, "it runs 5.4.2; 5.0.7 was expected")
		assert.Equal(t, fits, r.box.Status().Fits, "nothing was written")
		require.NoError(t, r.Act(t.Context(), id, change.Leave, access.Person("me", ""), ""))
	})
	t.Run("another installation in the idle slot", func(t *testing.T) {
		r := newRig(t, nil)
		r.holdAt(0, change.Backup)
		id := r.begin("5.0.7", "5.4.2")
		r.start()
		r.await(id, change.Paused)
		r.byHand("b", false)
		require.NoError(t, r.Act(t.Context(), id, change.Resume, access.Person("me", ""), ""))
		c := r.await(id, change.Asking, change.Failed, change.Done)
		require.Equal(t, change.Asking, c.State, r.journal(id))
		assert.Contains(t, c.Question.Text, "slot b holds 5.4.2; 5.0.6 was expected")
		assert.Equal(t, 1, r.box.Status().Fits, "only the one by hand")
	})
	t.Run("on a reconnect in the middle", func(t *testing.T) {
		r := newRig(t, nil)
		id := r.begin("5.0.7", "5.4.2")
		r.at(0, change.Checksum, "begun", func(w *run, _ *store.Step) {
			c := r.client()
			assert.NoError(t, c.ChooseSlot(context.Background(), "b", ""))
			w.hangUp()
		})
		r.start()
		c := r.await(id, change.Asking, change.Failed, change.Done)
		require.Equal(t, change.Asking, c.State, r.journal(id))
		assert.Contains(t, c.Question.Text, "the next start is from slot b; slot a was expected")
		assert.Equal(t, 0, r.box.Status().Fits)
	})
}

// Another unit that answers at the address after the restart gets no verdict, and nothing is written to it.
func TestAnotherUnit(t *testing.T) {
	t.Parallel()
	for _, when := range []change.Kind{change.Restart, change.Backup} {
		r := newRig(t, nil)
		ln, err := net.Listen("tcp", place())
		require.NoError(t, err)
		spec := tarnholm.Spec{Name: "box", Model: "TH-60", Serial: "OTHER", Address: ln.Addr().String(), User: "bosun", Version: "5.4.2", Idle: "5.0.7", Flash: 16 << 20, Config: r.box.Status().Config, Sessions: 100}
		_ = ln.Close()
		other, err := tarnholm.Open(spec, t.TempDir(), factor, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		require.NoError(t, other.Start())
		t.Cleanup(other.Stop)
		a, o := r.box.Access(), other.Access()
		mine, err := wire.New(place(), a.Address)
		require.NoError(t, err)
		t.Cleanup(mine.Close)
		address := mine.Address()
		require.NoError(t, r.Store.SetAddress(t.Context(), r.d.ID, address))
		for kind, v := range map[string]string{KindPassword: o.Password, KindPrivileged: o.Watchword} {
			user := map[string]string{KindPassword: o.User}[kind]
			_, err := r.Store.AddCredential(t.Context(), store.Credential{DeviceID: &r.d.ID, Kind: kind, Username: user, Versions: "5.4.x"}, func(id int64) ([]byte, error) { return SealCredential(r.Vault, id, Secret{Password: v}) })
			require.NoError(t, err)
		}
		id := r.begin("5.0.7", "5.4.2")
		_, err = r.Store.Pool.Exec(t.Context(), `WITH c AS (UPDATE changes SET expects_host_key = true WHERE id = $1) UPDATE members SET planned = '{"model":"TH-60","serial":"S"}' WHERE change_id = $1`, id)
		require.NoError(t, err)
		r.at(0, when, "performed", func(w *run, _ *store.Step) {
			mine.Close()
			time.Sleep(20 * time.Millisecond)
			theirs, err := wire.New(address, o.Address)
			if assert.NoError(t, err) {
				t.Cleanup(theirs.Close)
			}
			w.hangUp()
		})
		r.start()
		c := r.await(id, change.Asking, change.Failed, change.Done)
		require.Equal(t, change.Asking, c.State, r.journal(id))
		assert.Equal(t, change.AskUnit, c.Question.Kind, c.Question.Text)
		assert.Contains(t, c.Question.Text, "its serial is OTHER, not S")
		assert.Equal(t, []change.Action{change.Retry, change.Leave}, c.Question.Answers)
		assert.Zero(t, other.Status().Fits)
		d, err := r.Store.DeviceByID(t.Context(), r.d.ID)
		require.NoError(t, err)
		var p portrait.Portrait
		require.NoError(t, json.Unmarshal(d.Portrait, &p))
		assert.Equal(t, "S", p.Serial, "what is recorded stays")
	}
}

// What a colleague adds, changes or deletes meanwhile changes neither verdict nor way back.
func TestReadingsAreFrozenWithTheChange(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	r.policy = change.Automatic
	own := store.OwnReading{Dialect: "tarnholm", Name: "runs-in", AddedBy: "me", Definition: "name: runs-in\ntitle: Runs in\ntype: text\nsend: tell box\nmatch: 'model +(?P<value>\\S+)'\nexpect: {rule: unchanged, severity: fail}\n"}
	mine, err := r.Store.PutOwnReading(t.Context(), own)
	require.NoError(t, err)
	r.at(0, change.Install, "performed", func(*run, *store.Step) {
		_, err := r.Store.PutOwnReading(context.Background(), store.OwnReading{Dialect: "tarnholm", Name: "never", AddedBy: "colleague", Definition: "name: never\ntitle: Never\ntype: flag\nsend: tell clock\nmatch: '(?P<value>.)'\nexpect: {rule: equals, value: 'false', severity: fail}\n"})
		assert.NoError(t, err)
		assert.NoError(t, r.Store.DeleteOwnReading(context.Background(), mine))
	})
	id := r.begin("5.0.7", "5.4.2")
	r.start()
	c := r.awaitEnd(id)
	require.Equal(t, change.Done, c.State, failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Pass, v.Verdict)
	assert.Equal(t, verify.Met, resultOf(v, "runs-in").State, "it was taken before, so it counts after")
	assert.Empty(t, resultOf(v, "never").State, "nobody took it before")
}

// Readings before are taken when the services are ready, however the change begins.
func TestReadingsBeforeWaitForServices(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	phase := ""
	r.at(-1, change.Readings, "begun", func(*run, *store.Step) { // somebody starts it anew right now
		_ = r.client().Restart(context.Background())
		assert.Eventually(t, func() bool {
			p := r.box.Status().Phase
			return r.box.Status().Boots == 2 && p != "off" && p != "ready" && p != "link"
		}, 20*time.Second, time.Millisecond)
	})
	r.at(-1, change.Readings, "performed", func(*run, *store.Step) { phase = r.box.Status().Phase })
	r.start()
	c := r.await(id, change.Asking, change.Failed, change.Done)
	assert.Equal(t, "ready", phase, "when they were taken")
	var before verify.Readings
	require.NoError(t, json.Unmarshal(c.First().Readings, &before))
	if len(before["tunnels-up"].Set) == 0 { // they come up a moment after the services: then a person is asked before anything is done
		require.Equal(t, change.Asking, c.State, failure(c))
		assert.Contains(t, c.Question.Checks, ready.Readings)
	}
	assert.Len(t, before["ports-up"].Set, 3)
	assert.Contains(t, r.step(id, change.Readings).Outcome, "ports-up 3")
	at := r.step(id, change.Readings)
	assert.Equal(t, change.StepDone, at.State)
}

// A reading with nothing in it is a warning first and not proven afterwards.
func TestNothingToCompareWithIsNoPass(t *testing.T) {
	t.Parallel()
	r := newRig(t, func(s *tarnholm.Spec) {
		var out []string
		in := false
		for _, l := range strings.Split(s.Config, "\n") {
			if !strings.HasPrefix(l, " ") {
				in = strings.HasPrefix(l, "tunnel ")
			}
			if !in {
				out = append(out, l)
			}
		}
		s.Config = strings.Join(out, "\n")
	})
	id := r.begin("5.0.7", "5.4.2")
	r.start()
	c := r.await(id, change.Asking, change.Failed, change.Done)
	require.Equal(t, change.Asking, c.State, failure(c))
	assert.Equal(t, []string{ready.Readings}, c.Question.Checks)
	assert.Contains(t, c.Question.Text, "nothing to keep: Tunnels up (none before)")
	require.NoError(t, r.Act(t.Context(), id, change.Accept, access.Person("me", ""), "there are no tunnels here"))
	c = r.awaitEnd(id)
	require.Equal(t, change.Done, c.State, failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Degraded, v.Verdict)
	assert.Equal(t, verify.NotProven, resultOf(v, "tunnels-up").State)
	assert.Contains(t, resultOf(v, "tunnels-up").Evidence, "before: none; after: none")
}

// A configuration that nobody described is not compared, and the verdict says so.
func TestAConfigurationWithoutASchemaIsNotCompared(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	r.Engine.Library = nil
	r.start()
	c := r.awaitEnd(r.begin("5.0.7", "5.4.2"))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Degraded, v.Verdict)
	assert.Equal(t, verify.NotProven, resultOf(v, readConfig).State)
	assert.Contains(t, resultOf(v, readConfig).Evidence, "not compared: no schema for TH-60 5.0.7")
}

// The configuration is read again right before it is overwritten. What was changed meanwhile is backed up, converted and kept.
func TestAConfigurationThatChangesAfterItsBackup(t *testing.T) {
	t.Parallel()
	t.Run("an ordinary setting of a box that is reset", func(t *testing.T) {
		f, _, to := kinds["gauge"](t)
		f.start()
		id := f.draft(to)
		f.release(id)
		f.asks(id, change.AskHand, "medium")
		setting(t, f, "mean", "75")
		f.answer(id, change.SignOff, "card is in")
		c := (&subject{field: f}).toTheEnd(id)
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Contains(t, f.plain.Part("gauge.ini"), "mean = 75")
		assert.Contains(t, f.journal(id), "the configuration was changed after backup")
		all, err := f.Store.BackupsOf(t.Context(), id, f.d.ID)
		require.NoError(t, err)
		assert.Len(t, all, 2)
		assert.Equal(t, verify.Met, resultOf(verdictOf(t, c), readConfig).State, "%v", resultOf(verdictOf(t, c), readConfig))
	})
	t.Run("a guarded setting of a box that is reset", func(t *testing.T) {
		f, _, to := kinds["gauge"](t)
		f.start()
		id := f.draft(to)
		f.release(id)
		f.asks(id, change.AskHand, "medium")
		setting(t, f, "offset", "-0.52")
		f.answer(id, change.SignOff, "card is in")
		c := f.asks(id, change.AskWarn, "Guarded settings were changed on the device after this change was approved")
		assert.Contains(t, c.Question.Text, "offset")
		assert.Equal(t, 0, f.plain.Status().Installs)
		f.answer(id, change.Retry, "")
		f.asks(id, change.AskWarn, "Guarded settings")
		f.answer(id, change.Accept, "it was measured again today")
		c = (&subject{field: f}).toTheEnd(id)
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Contains(t, f.plain.Part("gauge.ini"), "-0.52", "it was carried along")
		assert.Equal(t, verify.Met, resultOf(verdictOf(t, c), readGuarded).State)
	})
	t.Run("a box with slots", func(t *testing.T) {
		r := newRig(t, nil)
		r.holdAt(0, change.Install)
		id := r.begin("5.0.7", "5.4.2")
		r.start()
		r.await(id, change.Paused)
		r.write("port p1 / mtu 1400")
		require.NoError(t, r.Act(t.Context(), id, change.Resume, access.Person("me", ""), ""))
		c := r.await(id, change.Asking, change.Failed, change.Done)
		if c.State == change.Asking { // that it is saved is a warning of its own
			require.Equal(t, []string{ready.Unsaved}, c.Question.Checks, c.Question.Text)
			require.NoError(t, r.Act(t.Context(), id, change.Accept, access.Person("me", ""), "keep it"))
		}
		c = r.awaitEnd(id)
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Contains(t, r.box.Status().Config, "mtu 1400")
		assert.Equal(t, verify.Met, resultOf(verdictOf(t, c), readConfig).State, "%v", resultOf(verdictOf(t, c), readConfig))
		assert.Contains(t, r.journal(id), "the configuration was changed after backup")
	})
}

// setting changes the value of the first statement whose name begins so, by hand, in what the box is configured with.
func setting(t *testing.T, f *field, name, value string) {
	lines := strings.Split(f.plain.Part("gauge.ini"), "\n")
	for i, l := range lines {
		if k, v, ok := strings.Cut(l, " = "); ok && strings.HasPrefix(k, name) && v != "" {
			lines[i] = k + " = " + value
			require.NoError(t, f.plain.Change("gauge.ini", strings.Join(lines, "\n")))
			return
		}
	}
	require.Fail(t, "no such setting", "%s in %s", name, f.plain.Part("gauge.ini"))
}

// A network that is away for a moment while an installation is being written is not taken for the restart that ends it.
func TestABlinkIsNoRestart(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"ramp", "gauge"} {
		t.Run(kind, func(t *testing.T) {
			s := subjects(t, kind)
			s.policy = change.Automatic
			s.at(0, change.Install, "begun", func(*run, *store.Step) {
				go func() {
					for s.plain.Status().Installs == 0 {
						time.Sleep(time.Millisecond)
					}
					s.network.Cut(200 * time.Millisecond)
				}()
			})
			s.start()
			c := s.toTheEnd(s.drafted())
			assert.Equal(t, change.Done, c.State, failure(c))
			_, installs, _ := s.stands()
			assert.Equal(t, 1, installs)
		})
	}
}

// One try that nothing answers may be the network; only lasting silence says that a device is gone.
func TestSilenceHasToLast(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	for want, since := range map[bootState]time.Time{bootUnclear: {}, bootGone: time.Now().Add(-time.Minute)} {
		w.silentSince = since
		state, _, err := w.gone(t.Context(), "nothing answers")
		require.NoError(t, err)
		assert.Equal(t, want, state)
	}
}

// A device that refuses the right password while it starts is waited for.
func TestSignInRefusedWhileStarting(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	r.policy = change.Automatic
	good := make(chan struct{})
	r.at(0, change.Link, "performed", func(w *run, _ *store.Step) {
		w.hangUp()
		w.way = waiting{} // what it knows of the credentials
		ctx := context.Background()
		var id int64
		var sealed []byte
		assert.NoError(t, r.Store.Pool.QueryRow(ctx, `SELECT id, secret FROM credentials WHERE kind = $1`, KindPassword).Scan(&id, &sealed))
		bad, err := SealCredential(r.Vault, id, Secret{Password: "not yet"})
		assert.NoError(t, err)
		set := func(secret []byte) {
			_, err := r.Store.Pool.Exec(ctx, `UPDATE credentials SET secret = $2 WHERE id = $1`, id, secret)
			assert.NoError(t, err)
		}
		set(bad)
		go func() { // once it was refused
			defer close(good)
			assert.Eventually(t, func() bool {
				d, err := r.Store.DeviceByID(ctx, r.d.ID)
				return err == nil && d.RefusedTries > 0
			}, 20*time.Second, 5*time.Millisecond)
			set(sealed)
		}()
	})
	id := r.begin("5.0.7", "5.4.2")
	r.start()
	c := r.awaitEnd(id)
	assert.Equal(t, change.Done, c.State, failure(c)+r.journal(id))
	<-good
	assert.Equal(t, 2, r.box.Status().Boots, "it was not sent back")
	d, err := r.Store.DeviceByID(t.Context(), r.d.ID)
	require.NoError(t, err)
	assert.Zero(t, d.RefusedTries, "forgotten when it let us in")
}

// A worker that stood still while another one took over sends nothing that cannot be undone.
func TestAStaleWorkerSendsNothing(t *testing.T) {
	t.Parallel()
	for kind, point := range map[change.Kind]string{change.ChooseSlot: "performed", change.Restart: "begun"} {
		r := newRig(t, nil)
		ctx := context.Background()
		conf := r.Engine.Config
		conf.Lease = time.Second
		b, err := New(conf)
		require.NoError(t, err)
		goOn, reached := make(chan struct{}), sync.Once{}
		b.strike = func(_ *run, s *store.Step, at string) {
			if s.Plan.Kind == kind && at == point {
				reached.Do(func() { close(goOn) })
			}
		}
		conf.Lease, conf.Workers = 10*time.Minute, 1 // it does not renew while it stands still
		a, err := New(conf)
		require.NoError(t, err)
		var still atomic.Bool
		a.strike = func(w *run, s *store.Step, at string) {
			if s.Plan.Kind == change.Restart && at == "begun" && still.CompareAndSwap(false, true) {
				_, err := r.Store.Pool.Exec(ctx, "UPDATE leases SET expires_at = now() - interval '1 second' WHERE device_id = $1", w.m.DeviceID)
				assert.NoError(t, err)
				assert.NoError(t, b.Start(ctx))
				select {
				case <-goOn:
				case <-time.After(10 * time.Second):
				}
			}
		}
		r.Engine = a
		id := r.begin("5.0.7", "5.4.2")
		r.start()
		t.Cleanup(func() {
			c, cancel := context.WithTimeout(ctx, 5*time.Second)
			defer cancel()
			_ = b.Stop(c)
		})
		c := r.awaitEnd(id)
		assert.Equal(t, change.Done, c.State, failure(c))
		assert.Equal(t, 2, r.box.Status().Boots, "started once more, not twice")
	}
}

// What is left of a lease is told by both clocks, and a renewal that fails leaves no more than there is.
func TestTheAgeOfALease(t *testing.T) {
	t.Parallel()
	now := time.Now()
	k := &keptLease{good: now}
	assert.InDelta(t, 8, k.left(8*time.Second, time.Now()).Seconds(), 0.5)
	k.good = now.Add(-6 * time.Second)
	assert.InDelta(t, 2, k.left(8*time.Second, time.Now()).Seconds(), 0.5)
	k.good = now.Round(0).Add(-time.Hour) // the wall alone says so: the machine slept
	assert.Negative(t, k.left(8*time.Second, time.Now()))

	r := newRig(t, nil)
	l, ok, err := r.Store.Acquire(t.Context(), r.d.ID, "me", time.Minute)
	require.NoError(t, err)
	require.True(t, ok)
	defer r.Engine.leases.keep(l, func(error) {})()
	require.NoError(t, r.renewNow(t.Context(), l))
	over, cancel := context.WithCancel(t.Context())
	cancel()
	assert.NoError(t, r.renewNow(over, l), "there is enough left")
	r.Engine.leases.by[r.d.ID].good = time.Now().Add(-r.Lease * 3 / 4)
	assert.ErrorIs(t, r.renewNow(over, l), store.ErrFenced)
	_, err = r.Store.Pool.Exec(t.Context(), "UPDATE leases SET fence = fence + 1")
	require.NoError(t, err)
	assert.ErrorIs(t, r.renewNow(t.Context(), l), store.ErrFenced)
}

// A process that takes a device over from itself, because it stood still for longer than its lease, tells its older run so: nothing else would,
// since only the newer lease is renewed.
func TestAProcessTakesOverFromItself(t *testing.T) {
	t.Parallel()
	k := &keptLeases{e: &Engine{Config: Config{Now: time.Now}}, by: map[int64]*keptLease{}}
	var told []error
	older := k.keep(store.Lease{DeviceID: 1, Fence: 1}, func(err error) { told = append(told, err) })
	newer := k.keep(store.Lease{DeviceID: 1, Fence: 2}, func(error) { assert.Fail(t, "the newer one is not lost") })
	assert.Equal(t, []error{store.ErrFenced}, told)
	older()
	assert.Len(t, k.by, 1, "what ends does not take the newer one with it")
	newer()
	assert.Empty(t, k.by)
}

// Data that cannot be used asks a person; it is not waited for as a database that is away is.
func TestDataThatCannotBeUsedAsks(t *testing.T) {
	t.Parallel()
	f, _, to := kinds["gateway"](t)
	lib := f.Engine.Library
	var broken atomic.Bool
	f.Engine.Library = func(ctx context.Context) (*convert.Library, error) {
		if broken.Load() {
			return nil, errors.New("brackmoor-sg.yaml: line 3: no such field")
		}
		return lib(ctx)
	}
	f.at(0, change.Services, "performed", func(*run, *store.Step) { broken.Store(true) })
	f.start()
	id := f.draft(to)
	f.release(id)
	c := f.await(id, change.Asking, change.Done, change.Failed)
	require.Equal(t, change.Asking, c.State)
	assert.Equal(t, change.AskData, c.Question.Kind)
	assert.Contains(t, c.Question.Text, "line 3: no such field")
	broken.Store(false)
	f.answer(id, change.Retry, "mended")
	c = f.await(id, change.Done, change.Failed, change.Asking)
	assert.Equal(t, change.Done, c.State, failure(c))
}

// A step in which the service breaks off again and again asks; once or twice it is taken up again.
func TestFaultsOfOursAreCounted(t *testing.T) {
	t.Parallel()
	for times, want := range map[int]change.State{2: change.Done, 3: change.Asking} {
		r := newRig(t, nil)
		var n atomic.Int32
		r.Engine.strike = func(_ *run, s *store.Step, at string) {
			if s.Plan.Kind == change.Checksum && at == "begun" && n.Add(1) <= int32(times) {
				panic("a fault of ours")
			}
		}
		id := r.begin("5.0.7", "5.4.2")
		r.start()
		c := r.await(id, change.Done, change.Asking, change.Failed)
		require.Equal(t, want, c.State, failure(c))
		assert.Equal(t, times, strings.Count(r.journal(id), "fault: the service broke off"))
		if want == change.Asking {
			assert.Equal(t, change.AskFault, c.Question.Kind)
			assert.Contains(t, c.Question.Text, "that is 3 times now")
		}
	}
}

// A hold that was asked for is kept although the change asked in the meantime.
func TestAHoldIsNotForgotten(t *testing.T) {
	t.Parallel()
	f, _, to := kinds["gauge"](t)
	f.at(0, change.Hand, "begun", func(w *run, _ *store.Step) {
		assert.NoError(t, f.Act(context.Background(), w.c.ID, change.Pause, access.Person("mate", ""), ""))
	})
	f.start()
	id := f.draft(to)
	f.release(id)
	f.asks(id, change.AskHand, "medium")
	f.answer(id, change.SignOff, "in")
	c := f.await(id, change.Paused, change.Done, change.Failed)
	assert.Equal(t, change.Paused, c.State)
	assert.Equal(t, 0, f.plain.Status().Installs)
}

// The closing sentences say what was written, and what a loss of power would start.
func TestClosingSentencesAreTrue(t *testing.T) {
	t.Parallel()
	t.Run("nothing", func(t *testing.T) {
		r := newRig(t, nil)
		require.NoError(t, r.box.Arm(tarnholm.EmptyParts, box.Fault{Times: -1}))
		r.start()
		c := r.awaitEnd(r.begin("5.0.7", "5.4.2"))
		assert.Contains(t, *c.Failure, "Nothing was written to the device")
	})
	t.Run("a slot that broke", func(t *testing.T) {
		r := newRig(t, nil)
		require.NoError(t, r.box.Arm(tarnholm.FitFails, box.Fault{Times: 1}))
		r.start()
		c := r.awaitEnd(r.begin("5.0.7", "5.4.2"))
		assert.Contains(t, *c.Failure, "5.4.2 was written into slot b, or was about to be; 5.0.6, which was there, is gone")
		assert.Contains(t, *c.Failure, "th60-5.4.2.img lies on the device")
		assert.NotContains(t, *c.Failure, "not touched")
	})
	t.Run("an armed slot", func(t *testing.T) {
		s := subjects(t, "firewall")
		s.at(0, change.Restart, "begun", func(r *run, _ *store.Step) { s.arm(shellbox.Mute, -1); r.hangUp() })
		id := s.drafted()
		_, err := s.Store.Pool.Exec(t.Context(), `UPDATE steps SET plan = jsonb_set(plan, '{expect,limit}', '3') WHERE change_id = $1 AND plan->>'kind' = 'restart'`, id)
		require.NoError(t, err)
		s.start()
		c := s.rest(id)
		require.Equal(t, change.Asking, c.State)
		assert.Contains(t, c.Question.Text, "was chosen for the next start: a restart or a loss of power starts that")
		s.answer(id, change.Leave, "look at it tomorrow")
		assert.Contains(t, failure(s.change(id)), "a loss of power starts that")
	})
}

// A single comparison of a checksum neither deletes nor breaks off when the file differs; an act without a backup promises none.
func TestSingleOperations(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	var file *change.File
	for _, s := range r.change(r.draft("5.0.7", "5.4.2")).Steps {
		if s.Plan.Kind == change.Checksum {
			file = s.Plan.File()
		}
	}
	c := r.client()
	files, err := c.SFTP()
	require.NoError(t, err)
	h, err := files.Create(file.Name)
	require.NoError(t, err)
	_, err = h.Write(make([]byte, 1000))
	require.NoError(t, err)
	require.NoError(t, h.Close())
	id := r.operations(change.Operation{Kind: change.Checksum, Params: change.FileParams{File: file}})
	r.start()
	done := r.awaitEnd(id)
	assert.Equal(t, change.Failed, done.State)
	assert.Contains(t, *done.Failure, "The file was left as it is")
	p, err := r.client().Portrait(t.Context())
	require.NoError(t, err)
	assert.NotNil(t, p.File(file.Name))

	now := r.change(r.operations(change.Operation{Kind: change.Save}, change.Operation{Kind: change.Restart}))
	checks, err := r.Ready(t.Context(), &now, access.Person("me", ""))
	require.NoError(t, err)
	for _, k := range checks {
		if k.Name == ready.BackupCheck {
			assert.Equal(t, ready.Warn, k.State)
			assert.Contains(t, k.Evidence, "this change takes none")
		}
	}
}

// Tidying removes only what the change sent.
func TestTidyingLeavesWhatWasThere(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	var sum string
	require.NoError(t, r.Store.Pool.QueryRow(t.Context(), `SELECT sha256 FROM images LIMIT 1`).Scan(&sum))
	local, err := r.Blobs.Path(sum)
	require.NoError(t, err)
	files, err := r.client().SFTP()
	require.NoError(t, err)
	require.NoError(t, transfer.Push(t.Context(), files, local, "th60-5.4.2.img", nil))
	r.start()
	c := r.awaitEnd(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Contains(t, r.step(id, change.Tidy).Outcome, "lay there before this change and stays")
	p, err := r.client().Portrait(t.Context())
	require.NoError(t, err)
	assert.NotNil(t, p.File("th60-5.4.2.img"))
}

// Stretches of a configuration: what somebody changed by hand in between is neither lost nor blamed on the device.
func TestStretches(t *testing.T) {
	t.Parallel()
	b := func(id int64, hop int) store.Backup {
		return store.Backup{ID: id, Hop: &hop, File: "a.cfg", Complete: true}
	}
	show := func(list []stretch) (out []string) {
		for _, s := range list {
			out = append(out, fmt.Sprintf("%d-%d", s.from.ID, s.to.ID))
		}
		return out
	}
	assert.Empty(t, stretches(nil, 0, -1))
	assert.Equal(t, []string{"1-0"}, show(stretches([]store.Backup{b(1, 0)}, 0, -1)))
	assert.Equal(t, []string{"2-0"}, show(stretches([]store.Backup{b(1, 0), b(2, 0)}, 0, -1)), "before anything was done the newest counts")
	assert.Equal(t, []string{"1-0"}, show(stretches([]store.Backup{b(1, 0), b(2, 1)}, 0, -1)), "over both hops")
	assert.Equal(t, []string{"1-2", "3-0"}, show(stretches([]store.Backup{b(1, 0), b(2, 1), b(3, 1)}, 0, -1)), "changed by hand in the second hop")
	assert.Equal(t, []string{"1-2", "3-4", "5-0"}, show(stretches([]store.Backup{b(1, 0), b(2, 1), b(3, 1), b(4, 2), b(5, 2)}, 0, -1)))
	assert.Equal(t, []string{"1-2", "2-0"}, show(stretches([]store.Backup{b(1, 0), b(2, 1)}, 0, 1)), "what the second hop put back is known")
	assert.Equal(t, []string{"1-2", "3-0"}, show(stretches([]store.Backup{b(1, 0), b(2, 1), b(3, 1)}, 0, 1)))
	assert.Equal(t, []string{"2-0"}, show(stretches([]store.Backup{b(1, 0), b(2, 1)}, 1, -1)))
}

// A unit that no longer says which one it is leaves a doubt.
func TestTheVerdictNamesTheUnit(t *testing.T) {
	judged := func(serial string) verify.Verdict {
		before, after := verify.Readings{}, verify.Readings{}
		fromPortrait(before, &portrait.Portrait{Version: "1", Serial: "S1"})
		fromPortrait(after, &portrait.Portrait{Version: "2", Serial: serial})
		return verify.Conclude(verify.Judge(expectations(nil, before, "2", nil, nil), before, after, false))
	}
	assert.Equal(t, verify.Pass, judged("S1").Verdict)
	v := judged("")
	assert.Equal(t, verify.Degraded, v.Verdict)
	assert.Equal(t, verify.NotProven, resultOf(v, readUnit).State)
	v = judged("S2")
	assert.Equal(t, verify.Degraded, v.Verdict)
	assert.Equal(t, "was S1, is S2", resultOf(v, readUnit).Evidence)
}
