package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/backupstore"
	"verimorph/blob"
	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/internal/dbtest"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
	"verimorph/transfer"
	"verimorph/vault"
)

func TestMain(m *testing.M) { os.Exit(dbtest.Main(m)) }

const factor = 200

var boxes atomic.Int32

// place is a free address for one box, with a port of the system's choice.
func place() string {
	n := boxes.Add(1)
	return fmt.Sprintf("127.66.%d.%d:0", n/250, n%250+1)
}

// rig is an engine in this process with one simulated firewall.
type rig struct {
	*Engine
	t    *testing.T
	box  *tarnholm.Box
	mate *tarnholm.Box // of second
	d    store.Device
	cat  *catalog.Catalogue
	give *httptest.Server

	policy    string                 // of the changes
	getOn     func(a, b string) bool // versions of units
	atOnce    bool                   // units restart together
	authorise []string               // serials of children that the next draft lets in
	toModel   string                 // of a change of platform
}

func newRig(t *testing.T, edit func(*tarnholm.Spec)) *rig {
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	configuration, err := os.ReadFile("../demo/configs/gullnes-fw1.cfg")
	require.NoError(t, err)
	ln, err := net.Listen("tcp", place())
	require.NoError(t, err)
	spec := tarnholm.Spec{Name: "box", Model: "TH-60", Serial: "S", Address: ln.Addr().String(), User: "bosun", Version: "5.0.7", Idle: "5.0.6", Flash: 16 << 20, Config: string(configuration), Sessions: 100}
	_ = ln.Close()
	if edit != nil {
		edit(&spec)
	}
	b, err := tarnholm.Open(spec, t.TempDir(), factor, quiet)
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)

	dir := t.TempDir()
	st, err := store.Open(t.Context(), dbtest.New(t), time.Second, func(error) {})
	require.NoError(t, err)
	t.Cleanup(st.Close)
	v, err := vault.Open(t.Context(), filepath.Join(dir, "key"), st)
	require.NoError(t, err)
	images, err := blob.Open(filepath.Join(dir, "images"))
	require.NoError(t, err)
	backups, err := backupstore.Open(filepath.Join(dir, "backups"), v)
	require.NoError(t, err)
	dialects, err := cli.ReadDialects(cli.Builtin())
	require.NoError(t, err)
	serve := &transfer.Server{}
	web := httptest.NewServer(serve)
	t.Cleanup(web.Close)
	serve.Base = web.URL
	receiver, err := transfer.Receive(transfer.ReceiverConfig{SFTP: "127.0.0.1:0", FTP: "127.0.0.1:0", TFTP: "127.0.0.1:0", HostKey: filepath.Join(dir, "hostkey"), Give: serve, Log: quiet})
	require.NoError(t, err)
	t.Cleanup(receiver.Close)
	e, err := New(Config{Store: st, Blobs: images, Backups: backups, Receiver: receiver, Vault: v, Drivers: cli.Drivers(dialects), Serve: serve, Pace: change.Pace{Factor: factor, Floor: leastLimit}, Log: quiet, Lease: 2 * time.Second})
	require.NoError(t, err)
	lib := demoLibrary(t)
	e.Library = func(context.Context) (*convert.Library, error) { return lib, nil }
	r := &rig{Engine: e, t: t, box: b, cat: demoCatalogue(t), give: web}
	r.addDevice()
	return r
}

func (r *rig) addDevice() {
	a := r.box.Access()
	require.NoError(r.t, r.Store.AddDevice(r.t.Context(), store.Device{Name: "box", Address: a.Address, Dialect: "tarnholm", Settings: store.Settings{Transfer: "sftp"}}, PasswordCredentials(a.User, true, access.Person("me", "")), func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(r.Vault, id, Secret{Password: map[string]string{KindPassword: a.Password, KindPrivileged: a.Watchword}[c.Kind]})
	}))
	var err error
	r.d, err = r.Store.Device(r.t.Context(), "box")
	require.NoError(r.t, err)
}

// begin drafts, approves and starts a change; nobody carries it before the engine is started.
func (r *rig) begin(from, to string) int64 {
	id := r.draft(from, to)
	r.release(id)
	return id
}

// draft drafts a change, with its images in the store.
func (r *rig) draft(from, to string) int64 {
	p, err := path.NewPlanner(r.cat).Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: from}, Aim: path.Aim{Version: to}})
	require.NoError(r.t, err)
	for _, h := range p.Hops {
		data, _ := content(r.t, h.Image.SHA256)
		sum, _, err := r.Blobs.Put(bytes.NewReader(data), 0)
		require.NoError(r.t, err)
		require.Equal(r.t, h.Image.SHA256, sum)
		_, err = r.Store.AddImage(r.t.Context(), store.Image{SHA256: sum, File: h.Image.File, Size: h.Image.Size, Family: "th", Version: h.To.String(), Models: h.Image.Models, AddedBy: "me"})
		require.NoError(r.t, err)
	}
	plan, err := change.Draft(change.Job{Family: r.cat.Family("th"), Path: p, Can: r.Drivers["tarnholm"].Profile().Abilities, Pace: r.Pace})
	require.NoError(r.t, err)
	data, err := json.Marshal(p)
	require.NoError(r.t, err)
	c := store.Change{Members: []store.Member{{DeviceID: r.d.ID}}, From: from, To: to, Path: data, Back: plan.Back, BackPolicy: r.policy}
	for _, s := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	id, err := r.Store.AddChange(r.t.Context(), access.Person("me", ""), c)
	require.NoError(r.t, err)
	return id
}

func (r *rig) start() {
	require.NoError(r.t, r.Start(context.Background()))
	r.t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		_ = r.Stop(ctx)
	})
}

func (r *rig) change(id int64) store.Change {
	c, err := r.Store.Change(r.t.Context(), id)
	require.NoError(r.t, err)
	return c
}

func (r *rig) awaitEnd(id int64) store.Change {
	return r.until(id, change.State.Over)
}

// await waits until a change is in one of some states.
func (r *rig) await(id int64, states ...change.State) store.Change {
	return r.until(id, func(s change.State) bool { return slices.Contains(states, s) })
}

// until waits for a state of a change.
func (r *rig) until(id int64, reached func(change.State) bool) store.Change {
	r.t.Helper()
	for began := time.Now(); time.Since(began) < 4*time.Minute; time.Sleep(50 * time.Millisecond) {
		var state change.State
		err := r.Store.Pool.QueryRow(r.t.Context(), "SELECT state FROM changes WHERE id = $1", id).Scan(&state)
		if err != nil || !reached(state) { // a test may cut connections
			continue
		}
		if c, err := r.Store.Change(r.t.Context(), id); err == nil && reached(c.State) {
			return c
		}
	}
	c := r.change(id)
	require.FailNow(r.t, "the state that is waited for is not reached", "it is %s: %s", c.State, failure(c))
	return c
}

func resultOf(v verify.Verdict, reading string) verify.Result {
	i := slices.IndexFunc(v.Results, func(x verify.Result) bool { return x.Reading == reading })
	if i < 0 {
		return verify.Result{}
	}
	return v.Results[i]
}

func (r *rig) step(id int64, kind change.Kind) *store.Step {
	c := r.change(id)
	for i := range c.Steps {
		if c.Steps[i].Plan.Kind == kind {
			return &c.Steps[i]
		}
	}
	return nil
}

// prepare makes a worker's view of the change, as after a crash: with the lease, and no connection.
func (r *rig) prepare(id int64) *run {
	c := r.change(id)
	l, ok, err := r.Store.Acquire(r.t.Context(), r.d.ID, "test", time.Hour)
	require.NoError(r.t, err)
	require.True(r.t, ok)
	w := r.newRun(&c, l, newBoard(&c), true)
	require.NoError(r.t, json.Unmarshal(c.Path, &w.path))
	r.t.Cleanup(w.hangUp)
	return w
}

func (w *run) of(kind change.Kind) *store.Step {
	for i := range w.c.Steps {
		if w.c.Steps[i].Plan.Kind == kind {
			return &w.c.Steps[i]
		}
	}
	return nil
}

func TestASlotThatHeldTheVersionBeforeProvesNothing(t *testing.T) {
	t.Parallel()
	r := newRig(t, func(s *tarnholm.Spec) { s.Idle = "5.4.2" }) // with an old configuration of its own
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	s := w.of(change.Install)
	intent, err := slotBefore(w, t.Context(), s)
	require.NoError(t, err)
	said := "" // it does not say when a slot was written
	assert.Equal(t, slotIntent{Slot: "b", Version: "5.4.2", Old: "a", Written: &said}, intent)
	s.Intent, _ = json.Marshal(intent)
	done, _, err := installed(w, t.Context(), s, true)
	require.NoError(t, err)
	assert.False(t, done, "the same version was there before: only a new installation proves anything")

	s.Intent, _ = json.Marshal(slotIntent{Slot: "b", Version: "5.0.6", Old: "a"})
	done, evidence, err := installed(w, t.Context(), s, true)
	require.NoError(t, err)
	assert.True(t, done, "another version was there before, so ours went through")
	assert.Equal(t, "slot b holds 5.4.2", evidence)

	done, _, err = installed(w, t.Context(), s, false)
	require.NoError(t, err)
	assert.False(t, done, "without a recorded intent nothing is ours")

	s.Intent, _ = json.Marshal(slotIntent{Slot: "a", Version: "5.0.6", Old: "b"})
	_, _, err = installed(w, t.Context(), s, true)
	assert.ErrorContains(t, err, "slot a is running; it was idle when the installation began")
}

// Where the device says when a slot was written, the same version in it proves that it was written anew.
func TestASlotThatWasWrittenAnew(t *testing.T) {
	t.Parallel()
	f, _, to := kinds["gateway"](t)
	id := f.draft(to)
	f.release(id)
	w := f.prepare(id)
	ctx := t.Context()
	for _, kind := range []change.Kind{change.Send, change.Install} {
		_, err := w.step(ctx, w.of(kind))
		require.NoError(t, err)
	}
	s := w.of(change.Install)
	intent, err := slotBefore(w, ctx, s)
	require.NoError(t, err)
	s.Intent, err = json.Marshal(intent)
	require.NoError(t, err)
	done, _, err := installed(w, ctx, s, true)
	require.NoError(t, err)
	assert.False(t, done, "it lay there before")
	c, err := w.connect(ctx)
	require.NoError(t, err)
	require.NoError(t, c.Install(ctx, w.file(s).Name, "2", nil))
	done, evidence, err := installed(w, ctx, s, true)
	require.NoError(t, err)
	assert.True(t, done)
	assert.Equal(t, "slot 2 holds "+to, evidence)
}

func TestAnInstallationUnderWayIsWaitedFor(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	c, err := w.connect(t.Context())
	require.NoError(t, err)
	local, err := r.Blobs.Path(w.path.Hops[0].Image.SHA256)
	require.NoError(t, err)
	files, err := c.SFTP()
	require.NoError(t, err)
	require.NoError(t, transfer.Push(t.Context(), files, local, "th60-5.4.2.img", nil))
	other, err := dialed(t.Context(), target(t, r))
	require.NoError(t, err)
	go func() { _ = other.Install(context.Background(), "th60-5.4.2.img", "b", nil) }()
	require.Eventually(t, func() bool { return r.box.Status().Fits == 1 }, 20*time.Second, time.Millisecond)
	other.Close() // whoever began it is gone

	s := w.of(change.Install)
	s.Intent, _ = json.Marshal(slotIntent{Slot: "b", Version: "5.0.6", Old: "a"})
	done, evidence, err := installed(w, t.Context(), s, true)
	require.NoError(t, err)
	assert.True(t, done)
	assert.Equal(t, "slot b holds 5.4.2", evidence)
	assert.Equal(t, 1, r.box.Status().Fits, "no second one was begun")
}

// dialed connects along a route.
func dialed(ctx context.Context, r device.Route) (*device.Client, error) { return r.Dial(ctx) }

func target(t *testing.T, r *rig) device.Route {
	got, err := r.target(t.Context(), r.d, "", access.Person("test", ""), "test")
	require.NoError(t, err)
	return got
}

func TestRestartIsTakenOnlyForWhatItIs(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	install, restartStep := w.of(change.Install), w.of(change.Restart)
	install.Intent, _ = json.Marshal(slotIntent{Slot: "b", Version: "5.0.6", Old: "a"})

	done, _, err := restarted(w, t.Context(), restartStep, false)
	require.NoError(t, err)
	assert.False(t, done, "not intended")
	state, _, err := w.bootState(t.Context(), restartStep)
	require.NoError(t, err)
	assert.Equal(t, bootOld, state)
	done, _, err = restarted(w, t.Context(), restartStep, true)
	require.NoError(t, err)
	assert.False(t, done, "intended, but the device runs on as before: it has to be done")

	c, err := w.connect(t.Context())
	require.NoError(t, err)
	require.NoError(t, c.ChooseSlot(t.Context(), "b", ""))
	require.NoError(t, restart(w, t.Context(), restartStep))
	evidence, err := wentDown(w, t.Context(), restartStep)
	require.NoError(t, err)
	assert.Contains(t, []string{"nothing answers at " + r.d.Address + " any more", "the device runs from slot b"}, evidence)
	require.Eventually(t, func() bool {
		state, _, err = w.bootState(t.Context(), restartStep)
		return err == nil && state == bootNew
	}, 10*time.Second, 10*time.Millisecond)
	done, evidence, err = restarted(w, t.Context(), restartStep, true)
	require.NoError(t, err)
	assert.True(t, done)
	assert.Equal(t, "the device runs from slot b", evidence)
	assert.Equal(t, 2, r.box.Status().Boots)
}

// A device that started anew and fell back to its old slot has heard the command, though the connection was lost with it.
func TestAStartThatFellBackIsNotRepeated(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	ctx := t.Context()
	install, s := w.of(change.Install), w.of(change.Restart)
	install.Intent, _ = json.Marshal(slotIntent{Slot: "b", Version: "5.0.6", Old: "a"})
	c, err := w.connect(ctx)
	require.NoError(t, err)
	require.NoError(t, c.ChooseSlot(ctx, "b", ""))
	intent, err := startBefore(w, ctx, s)
	require.NoError(t, err)
	s.Intent, err = json.Marshal(intent)
	require.NoError(t, err)
	require.NoError(t, r.box.Arm(tarnholm.OldSlot, box.Fault{Times: 1}))
	require.NoError(t, restart(w, ctx, s))
	require.Eventually(t, func() bool { return r.box.Status().Boots == 2 && r.box.Status().Phase == "ready" }, 20*time.Second, 10*time.Millisecond)
	w.unsure = true
	for _, look := range []func() (string, error){
		func() (string, error) { return wentDown(w, ctx, s) },
		func() (string, error) {
			done, seen, err := restarted(w, ctx, s, true)
			assert.True(t, done)
			return seen, err
		},
	} {
		seen, err := look()
		require.NoError(t, err)
		assert.Equal(t, "the device was started anew, and runs from the old slot again", seen)
	}
	assert.ErrorContains(t, confirmVersion(w, ctx, w.of(change.Confirm)), "it runs what it ran before")
}

// A worker died with the command to start anew on its way: the next one waits for that before it sends another.
func TestACommandThatIsOnItsWay(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	ctx := t.Context()
	install, s := w.of(change.Install), w.of(change.Restart)
	install.Intent, _ = json.Marshal(slotIntent{Slot: "b", Version: "5.0.6", Old: "a"})
	gone := r.client()
	require.NoError(t, gone.ChooseSlot(ctx, "b", ""))
	intent, err := startBefore(w, ctx, s)
	require.NoError(t, err)
	s.Intent, err = json.Marshal(intent)
	require.NoError(t, err)
	s.State = change.StepRunning
	time.AfterFunc(300*time.Millisecond, func() { _ = gone.Restart(context.Background()) })
	_, err = w.step(ctx, s)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return r.box.Status().Phase == "ready" }, 20*time.Second, 10*time.Millisecond)
	assert.Equal(t, 2, r.box.Status().Boots, "it was started once")
	assert.Zero(t, s.Attempts, "nothing was sent")
}

func TestADeviceThatComesBackWithTheOldVersionFails(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	err := confirmVersion(w, t.Context(), w.of(change.Confirm))
	assert.ErrorContains(t, err, "the device came back with 5.0.7, not 5.4.2")
	var f *finalError
	assert.ErrorAs(t, err, &f, "waiting longer does not help")
}

func TestAnotherWorkerTakesOver(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	r.start()
	id := r.begin("5.0.7", "5.4.2")
	require.Eventually(t, func() bool { return r.step(id, change.Backup).State == change.StepDone }, 30*time.Second, 5*time.Millisecond)
	// Another process takes the lease by force, as it would after ours went silent.
	_, err := r.Store.Pool.Exec(t.Context(), "UPDATE leases SET fence = fence + 1, holder = 'elsewhere', expires_at = now() + interval '3 seconds'")
	require.NoError(t, err)
	var before []store.JournalEntry
	require.Eventually(t, func() bool {
		now, err := r.Store.Journal(t.Context(), id, 0, 1000)
		require.NoError(t, err)
		same := len(now) == len(before)
		before = now
		return same
	}, 10*time.Second, 300*time.Millisecond, "ours stops writing")
	assert.Equal(t, change.Running, r.change(id).State)
	// The other one dies too; when its lease has run out the change is carried to its end.
	c := r.awaitEnd(id)
	assert.Equal(t, change.Done, c.State, "%v", c.Failure)
	assert.Equal(t, 1, r.box.Status().Fits)
}

func TestStoppingLeavesTheChangeToTheNextProcess(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	require.NoError(t, r.Start(context.Background()))
	id := r.begin("5.0.7", "5.4.2")
	require.Eventually(t, func() bool { return r.step(id, change.Install).State == change.StepRunning }, 30*time.Second, 5*time.Millisecond)
	began := time.Now()
	require.NoError(t, r.Stop(t.Context()))
	assert.Less(t, time.Since(began), 5*time.Second)
	assert.Equal(t, change.Running, r.change(id).State)
	ids, err := r.Store.Orphans(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []int64{id}, ids, "the lease was given back")

	next, err := New(r.Config)
	require.NoError(t, err)
	r.Engine = next
	r.start()
	c := r.awaitEnd(id)
	assert.Equal(t, change.Done, c.State, "%v", c.Failure)
	assert.Equal(t, 1, r.box.Status().Fits)
	assert.Equal(t, 2, r.box.Status().Boots)
}

func TestTransferByHTTPEndsWithItsStep(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	_, err := r.Store.Pool.Exec(t.Context(), "UPDATE devices SET settings = settings || '{\"transfer\": \"http\"}'")
	require.NoError(t, err)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	require.NoError(t, send(w, t.Context(), w.of(change.Send)))
	done, _, err := fileThere(w, t.Context(), w.of(change.Send), true)
	require.NoError(t, err)
	assert.True(t, done)
	resp, err := http.Get(r.give.URL + "/get/guess")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, 404, resp.StatusCode)
}

func TestBackupsAreSealedAndReadBack(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	b, err := r.Backup(t.Context(), r.d, backup.OnDemand, access.Person("me", ""))
	require.NoError(t, err)
	data, err := r.Backups.Read(b.SHA256)
	require.NoError(t, err)
	assert.Equal(t, r.box.Status().Config, string(data))

	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	s := w.of(change.Backup)
	require.NoError(t, takeBackup(w, t.Context(), s))
	done, evidence, err := backupTaken(w, t.Context(), s, true)
	require.NoError(t, err)
	assert.True(t, done)
	assert.Contains(t, evidence, "read back")
	files, err := r.Backups.Files()
	require.NoError(t, err)
	for _, f := range files {
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "rewrite")
		require.NoError(t, os.Remove(f))
	}
	done, _, err = backupTaken(w, t.Context(), s, true)
	require.NoError(t, err)
	assert.False(t, done, "a record without its content is no backup")
}

func TestReadingsThatCannotBeTakenAreAWarning(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	d := *r.Drivers["tarnholm"].(*cli.Dialect)
	d.Readings = append([]device.Reading{{Name: "moon", Send: "tell moon", Type: verify.Number, Match: d.Readings[0].Match}}, d.Readings...)
	r.Drivers = map[string]device.Driver{"tarnholm": &d}
	r.Engine.Drivers = r.Drivers
	r.start()
	id := r.begin("5.0.7", "5.4.2")
	c := r.await(id, change.Asking)
	assert.Equal(t, []string{ready.Readings}, c.Question.Checks)
	assert.Contains(t, c.Question.Text, "moon", "nothing could be compared afterwards")
	assert.Equal(t, 0, r.box.Status().Fits)
	require.NoError(t, r.Act(t.Context(), id, change.Accept, access.Person("me", ""), "there is no moon tonight"))
	c = r.awaitEnd(id)
	assert.Equal(t, change.Done, c.State)
	v := verdictOf(t, c)
	assert.Equal(t, verify.Degraded, v.Verdict, "what is not proven is no pass")
	assert.Equal(t, verify.NotProven, resultOf(v, "moon").State)
}

func TestTheWrongBox(t *testing.T) {
	t.Parallel()
	r := newRig(t, func(s *tarnholm.Spec) { s.Model = "TH-80" })
	r.start()
	c := r.awaitEnd(r.begin("5.0.7", "5.4.2"))
	assert.Equal(t, change.Failed, c.State)
	assert.Contains(t, *c.Failure, "its model is TH-80, planned was TH-60")
	assert.Equal(t, 0, r.box.Status().Fits)
}

func TestTroubleWithTheRecordsDoesNotFailAChange(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	r.start()
	id := r.begin("5.0.7", "5.4.2")
	for range 12 { // the database cuts every connection, again and again
		_, _ = r.Store.Pool.Exec(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()")
		time.Sleep(150 * time.Millisecond)
	}
	c := r.awaitEnd(id)
	assert.Equal(t, change.Done, c.State, "%v", c.Failure)
	assert.Equal(t, 1, r.box.Status().Fits)
	assert.Equal(t, 2, r.box.Status().Boots)
}

func TestABackupKeepsLinesThatNobodyUnderstands(t *testing.T) {
	t.Parallel()
	r := newRig(t, func(s *tarnholm.Spec) { s.Config += "odd \"line\n" })
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	s := w.of(change.Backup)
	require.NoError(t, takeBackup(w, t.Context(), s))
	assert.Contains(t, s.Note, "1 lines of running.cfg are not understood, the first: running.cfg:")
	b, err := r.Store.BackupOf(t.Context(), id, r.d.ID, 0)
	require.NoError(t, err)
	data, err := r.Backups.Read(b.SHA256)
	require.NoError(t, err)
	assert.Contains(t, string(data), "odd \"line\n")
}

func TestRoomThatVanishesIsSaid(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	require.NoError(t, check(w, t.Context(), w.of(change.Check)))
	require.NoError(t, r.box.Arm(tarnholm.LowFlash, box.Fault{Value: 2 << 20})) // somebody else fills it
	err := send(w, t.Context(), w.of(change.Send))
	var f *finalError
	require.ErrorAs(t, err, &f, "trying again is no use")
	assert.ErrorContains(t, err, "no room: th60-5.4.2.img needs")
	assert.ErrorContains(t, err, "remove files from the device")
}

// What could be removed is told apart from what something installed may run from.
func TestWhatMayBeRemoved(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	r.Engine.Catalogue = func(context.Context) (*catalog.Catalogue, error) { return r.cat, nil }
	p := &portrait.Portrait{Model: "TH-60", Version: "5.0.7", Storage: map[string]portrait.Room{"flash": {Total: 100 << 20, Free: 1 << 20}}, Slots: []portrait.Slot{{Name: "a", Version: "5.0.7", Running: true}, {Name: "b", Version: "5.0.6"}},
		Files: []portrait.File{{Name: "th60-5.0.7.img", Size: 5 << 20}, {Name: "th60-5.0.6.img", Size: 5 << 20}, {Name: "old.log", Size: 2 << 20}, {Name: "th60-4.2.9.img", Size: 4 << 20}, {Name: "th60-5.4.2.img", Size: 1 << 20}}}
	f := ready.Facts{}
	require.NoError(t, w.e.files(t.Context(), &f, w.c, &w.path, p, 0, &change.Abilities{}))
	assert.Equal(t, []string{"th60-4.2.9.img (4.0 MiB)", "old.log (2.0 MiB)"}, f.Removable)
	assert.ElementsMatch(t, []string{"th60-5.0.7.img (5.0 MiB, the image of 5.0.7)", "th60-5.0.6.img (5.0 MiB, the image of 5.0.6)"}, f.Installed)
	assert.Equal(t, int64(4<<20), f.Need, "what is sent in part is no file to remove")
}

func TestAMissingVerbIsARefusalBeforeAnythingHappens(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	d := *r.Drivers["tarnholm"].(*cli.Dialect)
	d.Verbs = maps.Clone(d.Verbs)
	delete(d.Verbs, "fetch-image")
	r.Engine.Drivers = map[string]device.Driver{"tarnholm": &d}
	_, err := r.Store.Pool.Exec(t.Context(), "UPDATE devices SET settings = settings || '{\"transfer\": \"http\"}'")
	require.NoError(t, err)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	err = check(w, t.Context(), w.of(change.Check))
	assert.ErrorContains(t, err, `dialect "tarnholm" has no fetch-image, so the device cannot download its image`)
}

func TestTheHardLimitWinsOverEverything(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	s := w.of(change.Confirm)
	s.Plan.Expect.Limit = 0.3
	slow := work{perform: func(r *run, ctx context.Context, s *store.Step) error {
		s.Note = "a light in the window"
		<-ctx.Done()
		r.readAt = time.Time{}
		_, err := r.device(ctx) // fails, because the time is over: that is no trouble with the records
		return err
	}}
	_, err := w.within(t.Context(), slow, s)
	require.ErrorContains(t, err, "the hard limit of 0s is over; last seen: a light in the window")
	var record *recordError
	assert.NotErrorAs(t, err, &record)
}

// A look at a starting device that the hard limit cuts off says less than the looks before it.
func TestTheLookThatIsCutOffSaysNothing(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	mute, err := net.Listen("tcp", "127.0.0.1:0") // it answers, and never begins to speak SSH
	require.NoError(t, err)
	t.Cleanup(func() { _ = mute.Close() })
	_, err = r.Store.Pool.Exec(t.Context(), "update devices set address = $1 where id = $2", mute.Addr().String(), r.d.ID)
	require.NoError(t, err)
	w.hangUp()
	w.readAt = time.Time{}
	s := w.of(change.Restart)
	s.Note = "another device answers there"
	over := errors.New("the time is over")
	ctx, cancel := context.WithTimeoutCause(t.Context(), 3*time.Second, over)
	defer cancel()
	_, _, err = w.awaitBoot(ctx, s, func(bootState) bool { return false })
	require.ErrorIs(t, err, over)
	assert.Equal(t, "another device answers there", s.Note)

	login := w.of(change.Login) // which tells in its own words what it sees
	login.Note = "another device answers there"
	ctx, cancel = context.WithTimeoutCause(t.Context(), 3*time.Second, over)
	defer cancel()
	require.ErrorIs(t, waitLogin(w, ctx, login), over)
	assert.Equal(t, "another device answers there", login.Note)
}

// A hand step that was signed off is not asked for again by a worker that does not know of it yet: what the person did stands.
func TestASignedOffStepIsNotAskedAgain(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	step := w.c.Steps[0].Plan.Number
	q := change.Question{Kind: change.AskHand, Step: step, Text: "By hand: look", Answers: []change.Action{change.SignOff, change.Leave}}
	asked, err := r.Store.Ask(t.Context(), w.lease, w.c.ID, q, change.StepRunning, q.Text)
	require.NoError(t, err)
	require.True(t, asked)
	require.NoError(t, r.Act(t.Context(), w.c.ID, change.SignOff, access.Person("me", ""), "done"))
	asked, err = r.Store.Ask(t.Context(), w.lease, w.c.ID, q, change.StepRunning, q.Text)
	require.NoError(t, err)
	assert.False(t, asked)
	c := r.change(w.c.ID)
	assert.Equal(t, change.Running, c.State)
	assert.Equal(t, change.StepDone, c.Steps[0].State)
}

// One look at which nothing answers says nothing yet, in the place of what was seen before; the next one does.
func TestOneSilentLookSaysNothing(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	r.box.Stop()
	s := w.of(change.Restart)
	w.silentSince = time.Time{}
	state, seen, err := w.bootState(t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, bootUnclear, state)
	assert.Empty(t, seen)
	state, seen, err = w.bootState(t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, bootUnclear, state)
	assert.Contains(t, seen, "nothing answers at")
}

// Where the records took the time and still do not answer, no step has failed: the change goes on when they answer again.
func TestRecordsThatHangFailNoStep(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	s := w.of(change.Services)
	s.Plan.Expect.Limit = 0.3
	slow := work{perform: func(r *run, ctx context.Context, s *store.Step) error {
		<-ctx.Done()
		r.e.Store.Close()
		r.readAt = time.Time{}
		_, err := r.device(ctx)
		return err
	}}
	_, err := w.within(t.Context(), slow, s)
	var record *recordError
	require.ErrorAs(t, err, &record)
}

func TestAnImageThatIsDamagedAgainAndAgain(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	require.NoError(t, r.box.Arm(tarnholm.CorruptTransfer, box.Fault{Times: -1}))
	r.start()
	c := r.awaitEnd(r.begin("5.0.7", "5.4.2"))
	assert.Equal(t, change.Failed, c.State)
	assert.Contains(t, *c.Failure, "it was done 3 times, so something between here and the device damages it")
	assert.Equal(t, 0, r.box.Status().Fits, "nothing that does not match is ever installed")
}

func TestAHopWaitsForItsImage(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	s := w.of(change.Check) // any step of the hop will do
	ctx := t.Context()
	sum := w.hop(s).Image.SHA256
	done, evidence, err := fileKept(w, ctx, s, false)
	require.NoError(t, err)
	assert.True(t, done)
	assert.Equal(t, "th60-5.4.2.img is in the image store", evidence)

	kept, err := r.Blobs.Read(sum)
	require.NoError(t, err)
	require.NoError(t, r.Blobs.Delete(sum))
	_, err = fileKeptNow(w, ctx, s)
	assert.ErrorContains(t, err, "is gone from the image store")
	assert.ErrorContains(t, awaitFile(w, ctx, s), "nothing fetches it; add it with: verimorph image add FILE")

	require.NoError(t, r.Store.PutSite(ctx, store.Site{Name: "makers", URL: "http://x", Username: "u", Password: []byte{}}))
	f, err := r.Store.AddFetch(ctx, store.Fetch{Site: "makers", File: "th60-5.4.2.img", SHA256: sum, Size: 100, StartedBy: "me"})
	require.NoError(t, err)
	_, err = r.Store.ClaimFetch(ctx, f.ID, "p", time.Second)
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() { ended <- awaitFile(w, ctx, s) }()
	select {
	case err := <-ended:
		t.Fatalf("it did not wait: %v", err)
	case <-time.After(700 * time.Millisecond):
	}
	_, _, err = r.Blobs.Put(bytes.NewReader(kept), 0)
	require.NoError(t, err)
	require.NoError(t, <-ended, "the image came")

	require.NoError(t, r.Blobs.Delete(sum))
	require.NoError(t, r.Store.EndFetch(ctx, f.ID, "p", store.FetchFailed, 10, "the contract has ended"))
	err = awaitFile(w, ctx, s)
	assert.ErrorContains(t, err, "the download of th60-5.4.2.img from site makers is failed: the contract has ended")
	var last *finalError
	assert.ErrorAs(t, err, &last, "trying again is no use")
}

func TestAnImageThatIsNotForTheDevice(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	im := w.path.Hops[0].Image
	ctx := t.Context()
	require.NoError(t, w.e.fileFits(ctx, &change.File{Name: im.File, SHA256: im.SHA256, Version: "5.4.2"}, "TH-60"))
	assert.ErrorContains(t, w.e.fileFits(ctx, &change.File{Name: im.File, SHA256: im.SHA256, Version: "5.4.2"}, "TH-80"), "is for TH-60, the device is a TH-80")
	assert.ErrorContains(t, w.e.fileFits(ctx, &change.File{Name: im.File, SHA256: im.SHA256, Version: "5.4.3"}, "TH-60"), "holds version 5.4.2, not 5.4.3")
	_, err := r.Store.Pool.Exec(ctx, "UPDATE images SET part = 'logic'")
	require.NoError(t, err)
	assert.ErrorContains(t, w.e.fileFits(ctx, &change.File{Name: im.File, SHA256: im.SHA256, Version: "5.4.2"}, "TH-60"), "is for the component logic")
	require.NoError(t, r.Store.DeleteImage(ctx, im.SHA256))
	assert.ErrorContains(t, w.e.fileFits(ctx, &change.File{Name: im.File, SHA256: im.SHA256, Version: "5.4.2"}, "TH-60"), "without a record")
}

// A restart on the way back that starts no other installation is told by a recorded intent only: without one it is still to be done.
func TestARestartOnTheWayBackWithoutASlot(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	s := &store.Step{Plan: change.Step{Number: 99, Hop: 0, Kind: change.Restart, Back: true}}
	done, _, err := restarted(w, t.Context(), s, false)
	require.NoError(t, err)
	assert.False(t, done)
	intent, err := startBefore(w, t.Context(), s)
	require.NoError(t, err)
	s.Intent, err = json.Marshal(intent)
	require.NoError(t, err)
	done, seen, err := restarted(w, t.Context(), s, true)
	require.NoError(t, err)
	assert.False(t, done, "intended, but it was not started anew: %s", seen)
}
