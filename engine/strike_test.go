package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/internal/wire"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

// subject is a box of any maker in the middle of a change.
type subject struct {
	*field
	from, to string
	network  *wire.Wire // between here and it
}

func (s *subject) arm(name string, times int) {
	if s.plain != nil {
		_ = s.plain.Arm(name, box.Fault{Times: times})
	} else {
		_ = s.box.Arm(name, box.Fault{Times: times})
	}
}

func (s *subject) heal(name string) {
	if s.plain != nil {
		_ = s.plain.Heal(name)
	} else {
		_ = s.box.Heal(name)
	}
}

func (s *subject) stands() (version string, installs, boots int) {
	if s.plain != nil {
		st := s.plain.Status()
		return st.Version, st.Installs, st.Boots
	}
	st := s.box.Status()
	return st.Version, st.Fits, st.Boots
}

func (s *subject) drafted() int64 {
	if s.plain != nil {
		id := s.draft(s.to)
		s.release(id)
		return id
	}
	return s.rig.begin(s.from, s.to)
}

// toTheEnd signs hand steps off until the change ends or asks for more than that.
func (s *subject) toTheEnd(id int64) store.Change {
	for {
		c := s.rest(id)
		switch {
		case c.State == change.Asking && c.Question.Kind == change.AskHand:
			s.answer(id, change.SignOff, "seen")
		case c.State == change.Asking && slices.Equal(c.Question.Checks, []string{ready.Places}):
			s.answer(id, change.Accept, "it is what the window is for")
		default:
			return c
		}
	}
}

// away takes the database away for a while: nobody may connect, and who is connected is thrown out.
func (s *subject) away(d time.Duration) {
	ctx := context.Background()
	config := s.Store.Pool.Config().ConnConfig.Copy()
	name := config.Database
	config.Database = "postgres"
	admin, err := pgx.ConnectConfig(ctx, config)
	require.NoError(s.t, err)
	defer func() { _ = admin.Close(ctx) }()
	_, err = admin.Exec(ctx, fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS false", name))
	require.NoError(s.t, err)
	for range 20 { // again and again: one may have been on its way in
		_, _ = admin.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1", name)
		time.Sleep(d / 20)
	}
	_, err = admin.Exec(ctx, fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS true", name))
	require.NoError(s.t, err)
}

func subjects(t *testing.T, name string) *subject {
	s := &subject{}
	if name == "firewall" {
		s.field, s.from, s.to = &field{rig: newRig(t, nil)}, "5.0.7", "5.4.2"
	} else {
		s.field, s.from, s.to = kinds[name](t)
	}
	if name == "chassis" {
		s.to = "12.2.3" // a hop more, with a part whose power goes off and on
	}
	return s.wired()
}

// wired puts a network between here and the box that can be cut.
func (s *subject) wired() *subject {
	t := s.t
	way := s.d.Address
	if s.d.Settings.Reach.Only {
		way = s.d.Settings.Reach.Console
	}
	var err error
	s.network, err = wire.New(place(), way)
	require.NoError(t, err)
	t.Cleanup(s.network.Close)
	if s.d.Settings.Reach.Only {
		s.d.Settings.Reach.Console = s.network.Address()
		require.NoError(t, s.Store.EnterDevice(t.Context(), s.d, []string{"reach"}))
	}
	s.d.Address = s.network.Address()
	require.NoError(t, s.Store.SetAddress(t.Context(), s.d.ID, s.d.Address))
	return s
}

// strikes are what may happen in the middle of any step, and what must not change anything about its outcome.
var strikes = map[string]func(s *subject, r *run){
	"the connection is cut": func(_ *subject, r *run) {
		r.cut()
		time.AfterFunc(20*time.Millisecond, r.cut) // and again, wherever it is by then
	},
	"the network is away for a while": func(s *subject, _ *run) { // nothing answers, as if it were down
		s.network.Cut(150 * time.Millisecond)
	},
	"nothing is said for a while": func(s *subject, r *run) {
		s.arm(shellbox.Mute, -1)
		r.cut()
		healed := make(chan struct{})
		time.AfterFunc(150*time.Millisecond, func() { defer close(healed); s.heal(shellbox.Mute) })
		s.t.Cleanup(func() { <-healed }) // the box writes down that it is healed: not into a directory that is being removed
	},
	"the database cuts every connection": func(s *subject, r *run) {
		_, _ = s.Store.Pool.Exec(context.Background(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()")
	},
	"another worker takes over": func(s *subject, r *run) { // as after a pause in which the lease ran out: this one may not write any more
		_, _ = s.Store.Pool.Exec(context.Background(), "UPDATE leases SET fence = fence + 1, expires_at = now() - interval '1 second' WHERE device_id = $1", r.m.DeviceID)
	},
}

// strikeEverywhere has every step struck once when it has begun and once when it was performed, and returns which were.
func (s *subject) strikeEverywhere(hit func(*subject, *run)) map[string]bool {
	var mu sync.Mutex
	struck := map[string]bool{}
	s.Engine.strike = func(r *run, st *store.Step, at string) {
		key := fmt.Sprint(st.Plan.Number, at)
		mu.Lock()
		before := struck[key]
		struck[key] = true
		mu.Unlock()
		if !before {
			hit(s, r)
		}
	}
	return struck
}

// struckAnyhow runs a test of a rig that is struck in every step, once for each of two ways that leave no trace of the other: the connection breaks, and another worker takes over.
func struckAnyhow(t *testing.T, run func(t *testing.T, strikeAll func(*rig))) {
	if testing.Short() {
		t.Skip()
	}
	for _, name := range []string{"the connection is cut", "another worker takes over"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			run(t, func(r *rig) { (&subject{field: &field{rig: r}}).strikeEverywhere(strikes[name]) })
		})
	}
}

// Whatever strikes in the middle of whatever step, once when it has begun and once when it was performed: the change is done, the
// verdict passes, nothing is installed twice, and the device is started no more often than without it.
func TestStrikesInEveryStep(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for _, box := range []string{"firewall", "gateway", "ramp", "chassis", "gauge"} {
		for strike, hit := range strikes {
			t.Run(box+", "+strike, func(t *testing.T) {
				t.Parallel()
				s := subjects(t, box)
				struck := s.strikeEverywhere(hit)
				s.start()
				id := s.drafted()
				c := s.toTheEnd(id)
				require.Equal(t, change.Done, c.State, failure(c))
				assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
				version, installs, boots := s.stands()
				want, starts := 0, 1
				for _, st := range c.Steps {
					switch {
					case st.Plan.Kind == change.Install:
						want++
						if st.Plan.InPlace() {
							starts++
						}
					case st.Plan.Kind == change.Restart:
						starts++
					}
				}
				assert.Equal(t, s.to, version)
				assert.Equal(t, want, installs, "installed once for each hop")
				assert.Equal(t, starts, boots, "started once for each restart")
				assert.Greater(t, len(struck), len(c.Steps), "it struck in steps of every kind")
			})
		}
	}
}

// A device that falls silent for good in the middle of a step: before the point of no return the change fails and has changed nothing,
// after it a person is asked, whatever the step is.
func TestSilenceForGoodInEveryStep(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	r := newRig(t, nil)
	plan := r.change(r.begin("5.0.7", "5.4.2")).Steps
	point := false
	for i := range plan {
		kind := plan[i].Plan.Kind
		past := point
		point = point || plan[i].Plan.Irreversible()
		if kind == change.Fetch || kind == change.Prestage || kind == change.Save { // what is not there to be done is not begun
			continue
		}
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			s := subjects(t, "firewall")
			s.Engine.strike = func(r *run, st *store.Step, at string) {
				if st.Plan.Kind == kind && at == "begun" {
					s.arm(shellbox.Mute, -1)
					r.hangUp()
				}
			}
			id := s.drafted()
			_, err := s.Store.Pool.Exec(t.Context(), `UPDATE steps SET plan = jsonb_set(plan, '{expect,limit}', '3') WHERE change_id = $1 AND plan->>'kind' IN ($2, 'services', 'verdict')`, id, string(kind))
			require.NoError(t, err)
			s.start()
			c := s.rest(id)
			version, installs, _ := s.stands()
			assert.LessOrEqual(t, installs, 1)
			if past || plan[i].Plan.Irreversible() {
				require.Equal(t, change.Asking, c.State, failure(c))
				assert.Equal(t, change.AskFailed, c.Question.Kind)
				assert.Contains(t, c.Question.Answers, change.GoBack)
				return
			}
			require.Equal(t, change.Failed, c.State, failure(c))
			assert.Equal(t, "5.0.7", version)
			if slices.Contains([]change.Kind{change.Readings, change.Check, change.Backup}, kind) {
				assert.Contains(t, *c.Failure, "Nothing was written to the device")
			} else {
				assert.Contains(t, *c.Failure, "On the device: ", "what was written is told")
			}
		})
	}
}

// The database away for a minute of the device's time and longer than any lease: the device is left in peace meanwhile, and the change
// goes on when the records answer again.
func TestTheDatabaseIsAwayForLong(t *testing.T) {
	t.Parallel()
	s := subjects(t, "firewall")
	hung := make(chan struct{})
	var once sync.Once
	s.Engine.strike = func(r *run, st *store.Step, at string) {
		if st.Plan.Kind != change.Install || at != "begun" {
			return
		}
		once.Do(func() { // nobody may connect, and who is connected is thrown out, for three leases
			go func() {
				defer close(hung)
				s.away(3 * s.Engine.Lease)
			}()
		})
	}
	s.start()
	id := s.drafted()
	<-hung
	c := s.toTheEnd(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict)
	_, installs, boots := s.stands()
	assert.Equal(t, 1, installs)
	assert.Equal(t, 2, boots)
	var resumed []int
	journal, err := s.Store.Journal(t.Context(), id, 0, 1000)
	require.NoError(t, err)
	for _, e := range journal {
		if e.Event == "resumed" {
			resumed = append(resumed, e.Step)
		}
	}
	assert.Equal(t, []int{s.step(id, change.Install).Plan.Number}, resumed, "the journal says that nobody carried it for a while")
}

// Records that cannot be read just when the verdict is made delay it; they never make it a verdict on less than there is.
func TestAVerdictWaitsForTheRecords(t *testing.T) {
	t.Parallel()
	s := subjects(t, "gateway")
	library := s.Engine.Library
	var away, missed atomic.Int32
	s.Engine.Library = func(ctx context.Context) (*convert.Library, error) {
		if away.Add(-1) >= 0 {
			missed.Add(1)
			return nil, Records(errors.New("the database is on its way somewhere else"))
		}
		return library(ctx)
	}
	s.Engine.strike = func(_ *run, st *store.Step, at string) {
		if st.Plan.Kind == change.Verify && at == "begun" && st.Attempts == 1 {
			away.Store(2)
		}
	}
	s.start()
	c := s.toTheEnd(s.drafted())
	require.Equal(t, change.Done, c.State, failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Pass, v.Verdict)
	assert.True(t, slices.ContainsFunc(v.Results, func(res verify.Result) bool { return res.Reading == readConfig }), "the configuration is part of it: %+v", v.Results)
	assert.Equal(t, int32(2), missed.Load(), "it was asked again and again")
}

// What the next hop needs travels ahead where it can, and where it cannot the step says why and does no harm.
func TestSendingAheadNeverFails(t *testing.T) {
	t.Parallel()
	r := newRig(t, func(s *tarnholm.Spec) { s.Version = "5.0.4" })
	w := r.prepare(r.begin("5.0.4", "5.4.2"))
	s := w.of(change.Prestage)
	require.NotNil(t, s, "there are two hops")
	next := w.path.Hops[1].Image
	ahead := func() string {
		s.Note = ""
		require.NoError(t, sendAhead(w, t.Context(), s))
		return s.Note
	}
	kept, err := r.Blobs.Read(next.SHA256)
	require.NoError(t, err)
	require.NoError(t, r.Blobs.Delete(next.SHA256))
	assert.Contains(t, ahead(), "later: "+next.File+" (it is not in the image store yet)")
	_, _, err = r.Blobs.Put(bytes.NewReader(kept), 0)
	require.NoError(t, err)

	require.NoError(t, r.box.Arm(tarnholm.LowFlash, box.Fault{Value: 1000}))
	assert.Contains(t, ahead(), "there is no room beside the files of this hop")
	require.NoError(t, r.box.Heal(tarnholm.LowFlash))

	require.NoError(t, r.box.Arm(tarnholm.DropTransfer, box.Fault{Value: 1 << 20}))
	assert.Contains(t, ahead(), "later: "+next.File)
	require.NoError(t, r.box.Heal(tarnholm.DropTransfer))

	assert.Equal(t, next.File+" is on the device", ahead())
	for i := range w.c.Steps {
		if st := &w.c.Steps[i]; st.Plan.Kind == change.Send && st.Plan.Hop == 1 {
			done, _, err := fileThere(w, t.Context(), st, false)
			require.NoError(t, err)
			assert.True(t, done, "its own step finds it there")
		}
	}
	assert.Equal(t, 0, r.box.Status().Fits)
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(store.ErrFenced)
	assert.ErrorIs(t, sendAhead(w, ctx, s), store.ErrFenced, "whoever lost the device stops")
}

// A change that breaks off by a fault of ours is carried on by the next look, and takes no other with it.
func TestAFaultOfOurs(t *testing.T) {
	t.Parallel()
	s := subjects(t, "firewall")
	var once sync.Once
	s.Engine.strike = func(_ *run, st *store.Step, at string) {
		if st.Plan.Kind == change.Checksum && at == "begun" {
			once.Do(func() { panic("a fault of ours") })
		}
	}
	s.start()
	id := s.drafted()
	c := s.toTheEnd(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict)
	_, installs, boots := s.stands()
	assert.Equal(t, [2]int{1, 2}, [2]int{installs, boots})
}

// No more changes than workers are carried at the same moment; the others wait and are carried then.
func TestNoMoreChangesThanWorkers(t *testing.T) {
	t.Parallel()
	s := subjects(t, "firewall")
	s.Engine.slots = make(chan struct{}, 1)
	s.Engine.slots <- struct{}{} // another one is being carried
	s.start()
	id := s.drafted()
	time.Sleep(300 * time.Millisecond)
	c := s.change(id)
	assert.False(t, c.Begun())
	<-s.Engine.slots
	c = s.toTheEnd(id)
	require.Equal(t, change.Done, c.State, failure(c))
}
