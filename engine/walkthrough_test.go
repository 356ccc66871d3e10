package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/core/yamldoc"
	"verimorph/device/cli"
	"verimorph/simfleet/box"
	"verimorph/simfleet/fernhollow"
	"verimorph/store"
)

// lesson is an engine with the box of docs/walkthrough.md, which is known by its files alone.
type lesson struct {
	*rig
	lb *fernhollow.Box
}

const lessons = "../demo/walkthrough/"

func newLesson(t *testing.T) *lesson { return newLessonOf(t, "LB-1") }

func newLessonOf(t *testing.T, model string) *lesson {
	r := newRig(t, nil)
	r.box.Stop()
	var found yamldoc.Findings
	r.cat, found = catalog.ReadDir(os.DirFS(lessons + "catalog"))
	require.Empty(t, found)
	r.Engine.Catalogue = func(context.Context) (*catalog.Catalogue, error) { return r.cat, nil }
	dialects, err := cli.ReadDialects(os.DirFS(lessons + "dialects"))
	require.NoError(t, err)
	for name, d := range cli.Drivers(dialects) {
		r.Engine.Drivers[name] = d
	}
	text, err := os.ReadFile(lessons + "lb1.cfg")
	require.NoError(t, err)
	var at []string
	for range 2 {
		ln, err := net.Listen("tcp", place())
		require.NoError(t, err)
		at = append(at, ln.Addr().String())
		_ = ln.Close()
	}
	b, err := fernhollow.Open(fernhollow.Spec{Name: "lb1", Line: at[1], Model: model, Serial: "LB1-0042", Address: at[0], User: "helm", Version: "2.1.0", Config: string(text), Storage: 12 << 20}, t.TempDir(), factor, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	a := b.Access()
	require.NoError(t, r.Store.AddDevice(t.Context(), store.Device{Name: "lb1", Address: a.Address, Dialect: a.Dialect, Settings: store.Settings{Transfer: "sftp", Reach: store.Reach{Console: at[1]}}}, PasswordCredentials(a.User, true, access.Person("me", "")), func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(r.Vault, id, Secret{Password: map[string]string{KindPassword: a.Password, KindPrivileged: a.Watchword}[c.Kind]})
	}))
	r.d, err = r.Store.Device(t.Context(), "lb1")
	require.NoError(t, err)
	return &lesson{r, b}
}

// draft drafts a change of the box to a version.
func (l *lesson) draft(to string) int64 { return l.draftTo(to, nil, "") }

// A box that nobody wrote a line of code for, whose command line is as awkward as can be: it is upgraded over two hops that start images from its
// storage, and goes back to the one before.
func TestTheBoxOfTheWalkthrough(t *testing.T) {
	t.Parallel()
	l := newLesson(t)
	l.start()
	c := l.rest(l.draftAndBegin("3.0.1"))
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	assert.Contains(t, resultOf(verdictOf(t, c), readConfig).Evidence, "the same line for line", "nobody has described its configuration yet")
	assert.Equal(t, 3, l.lb.Boots(), "started once for each hop")
	var titles []string
	for _, s := range c.Steps {
		titles = append(titles, s.Plan.Title)
	}
	assert.NotContains(t, titles, "Install into the idle slot")
	assert.NotContains(t, titles, "Remove sent files from device", "what it starts from stays")
	p, err := l.Refresh(t.Context(), l.d, access.Person("me", ""))
	require.NoError(t, err)
	var slots []string
	for _, s := range p.Slots {
		slots = append(slots, strings.Join([]string{s.Name, s.Version, map[bool]string{true: "runs"}[s.Running], string(s.Next), string(s.Second)}, " "))
	}
	assert.Equal(t, []string{"lb-2.1.0.img 2.1.0  no no", "lb-2.2.3.img 2.2.3  no yes", "lb-3.0.1.img 3.0.1 runs yes no"}, slots, "the boot list names what runs and what ran before, and nothing else")
	assert.Equal(t, []string{"1  store:/images/lb-3.0.1.img", "2  store:/images/lb-2.2.3.img"}, l.lb.BootList())
}

func (l *lesson) draftAndBegin(to string) int64 {
	id := l.draft(to)
	l.release(id)
	return id
}

// An image that does not start: the box comes up with its second one, and the change says so and goes back to it for good.
func TestTheBoxOfTheWalkthroughStartsItsSecondImage(t *testing.T) {
	t.Parallel()
	l := newLesson(t)
	l.policy = change.Automatic
	require.NoError(t, l.lb.Arm(fernhollow.BadStart, box.Fault{}))
	l.start()
	c := l.rest(l.draftAndBegin("2.2.3"))
	require.Equal(t, change.Returned, c.State, failure(c))
	assert.Contains(t, failure(c), "2.1.0")
	assert.Equal(t, []string{"1  store:/images/lb-2.1.0.img"}, l.lb.BootList(), "as it was before")
}

// What the box does in the background goes wrong: the change ends before the point of no return, in the box's own words.
func TestTheBoxOfTheWalkthroughCannotComputeASum(t *testing.T) {
	t.Parallel()
	l := newLesson(t)
	require.NoError(t, l.lb.Arm(fernhollow.JobFails, box.Fault{Times: -1}))
	l.start()
	c := l.rest(l.draftAndBegin("2.2.3"))
	require.Equal(t, change.Failed, c.State, failure(c))
	assert.Contains(t, failure(c), "the storage does not answer")
	assert.Equal(t, 1, l.lb.Boots())
}

// jobs are what the journal of a change says of what the device does in the background.
func (l *lesson) jobs(id int64) (jobs []string) {
	entries, err := l.Store.Journal(context.Background(), id, 0, 1000)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if e.Event == store.JobBegun || e.Event == store.JobOver {
			jobs = append(jobs, e.Event+": "+e.Detail)
		}
	}
	return jobs
}

// What the box does in the background outlives the connection, and the worker: whoever goes on asks for the job that was begun, and begins no other.
func TestAJobThatOutlivesItsWorker(t *testing.T) {
	t.Parallel()
	for strike, hit := range map[string]func(l *lesson, r *run){
		"the connection is cut": func(_ *lesson, r *run) { r.cut() },
		"another worker takes over": func(l *lesson, r *run) {
			_, _ = l.Store.Pool.Exec(context.Background(), "UPDATE leases SET fence = fence + 1, expires_at = now() - interval '1 second' WHERE device_id = $1", r.m.DeviceID)
			r.cut()
		},
	} {
		t.Run(strike, func(t *testing.T) {
			t.Parallel()
			l := newLesson(t)
			var once sync.Once
			l.Engine.strike = func(r *run, st *store.Step, at string) {
				if st.Plan.Kind == change.Checksum && at == "begun" {
					once.Do(func() {
						go func() {
							for i := 0; len(l.jobs(r.c.ID)) == 0 && i < 1000; i++ { // what nobody has noted, nobody can go on with
								time.Sleep(5 * time.Millisecond)
							}
							hit(l, r)
						}()
					})
				}
			}
			l.start()
			c := l.rest(l.draftAndBegin("2.2.3"))
			require.Equal(t, change.Done, c.State, failure(c))
			assert.Equal(t, 1, l.lb.JobsBegun(), "the sum was computed once")
			assert.Equal(t, []string{"job: checksum 1", "job over: checksum"}, l.jobs(c.ID))
		})
	}
}

// newCopyLesson is a lesson with the box that has one system and named copies of it.
func newCopyLesson(t *testing.T) *lesson { return newLessonOf(t, "LB-5") }

func slotsOf(p *portrait.Portrait) (out []string) {
	for _, s := range p.Slots {
		out = append(out, strings.TrimSpace(strings.Join([]string{s.Name, s.Version, map[bool]string{true: "runs"}[s.Running], map[bool]string{true: "next"}[s.Next == portrait.Yes]}, " ")))
	}
	return out
}

// A change makes a copy under a name of its own before it overwrites what runs, and readiness says what that is worth.
func TestNamedCopies(t *testing.T) {
	t.Parallel()
	l := newCopyLesson(t)
	l.start()
	id := l.draftAndBegin("3.0.1")
	c := l.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	p, err := l.Refresh(t.Context(), l.d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, []string{"system 3.0.1 runs next", fmt.Sprintf("before-%d-2.1.0 2.1.0", id), fmt.Sprintf("before-%d-2.2.3 2.2.3", id)}, slotsOf(p), "a copy for each hop")
	assert.EqualValues(t, 256<<10, p.Slots[1].Size)
	assert.NotEmpty(t, p.Slots[1].Written)
	var checks []string
	for _, x := range c.Checks {
		checks = append(checks, x.Evidence)
	}
	assert.Contains(t, strings.Join(checks, "; "), "the copy lies on the same disk, so it is a way back and no backup")
}

// What comes up is not what should: the way back starts the copy that was made. Where the box hangs in its boot menu instead, it is chosen there, over the console line.
func TestTheWayBackToANamedCopy(t *testing.T) {
	t.Parallel()
	l := newCopyLesson(t)
	l.policy = change.Automatic
	require.NoError(t, l.lb.Arm(fernhollow.BadStart, box.Fault{}))
	l.start()
	id := l.draftAndBegin("2.2.3")
	c := l.rest(id)
	require.Equal(t, change.Returned, c.State, failure(c))
	p, err := l.Refresh(t.Context(), l.d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, "2.1.0", p.Version)
	assert.Equal(t, fmt.Sprintf("before-%d-2.1.0", id), p.RunningSlot().Name)
	var outcomes []string
	for _, s := range c.Steps {
		outcomes = append(outcomes, s.Outcome)
	}
	assert.Contains(t, strings.Join(outcomes, "\n"), "was started from its boot loader, over the console line")
}

// A person starts a copy once, gives it another name and deletes one; what runs or is next is never deleted.
func TestOperationsWithNamedCopies(t *testing.T) {
	t.Parallel()
	l := newCopyLesson(t)
	l.start()
	c := l.rest(l.operations(change.Operation{Kind: change.Backup}, change.Operation{Kind: change.Clone}))
	require.Equal(t, change.Done, c.State, failure(c))
	c = l.rest(l.operations(change.Operation{Kind: change.RenameSlot, Params: change.SlotParams{Slot: "before-1-2.1.0", Name: "good-one"}}))
	require.Equal(t, change.Done, c.State, failure(c))
	c = l.rest(l.operations(change.Operation{Kind: change.ChooseSlot, Params: change.SlotParams{Slot: "good-one"}}, change.Operation{Kind: change.Restart}))
	require.Equal(t, change.Done, c.State, failure(c))
	p, err := l.Refresh(t.Context(), l.d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, []string{"system 2.1.0", "good-one 2.1.0 runs next"}, slotsOf(p))
	c = l.rest(l.operations(change.Operation{Kind: change.RemoveSlot, Params: change.SlotParams{Slot: "good-one"}}))
	require.Equal(t, change.Failed, c.State)
	assert.Contains(t, failure(c), "good-one is what the device runs; it is not deleted")
	c = l.rest(l.operations(change.Operation{Kind: change.RenameSlot, Params: change.SlotParams{Slot: "good-one", Name: "system"}}))
	require.Equal(t, change.Failed, c.State)
	assert.Contains(t, failure(c), "something called system already")
	c = l.rest(l.operations(change.Operation{Kind: change.Clone}))
	require.Equal(t, change.Done, c.State, failure(c))
	c = l.rest(l.operations(change.Operation{Kind: change.RemoveSlot, Params: change.SlotParams{Slot: "before-6-2.1.0"}}))
	require.Equal(t, change.Done, c.State, failure(c))
}

// operations drafts and begins a change of single operations.
func (l *lesson) operations(ops ...change.Operation) int64 {
	t := l.t
	p, err := l.Refresh(t.Context(), l.d, access.Person("me", ""))
	require.NoError(t, err)
	slots := map[string]string{}
	for _, s := range p.Slots {
		slots[s.Name] = s.Version
	}
	plan, _, to, err := change.DraftOperations(change.OperationsJob{Family: l.cat.Families[0], Can: l.Profile(l.d).Abilities, Pace: l.Pace, From: p.Version, Slots: slots, Operations: ops})
	require.NoError(t, err)
	from, err := version.Parse(p.Version)
	require.NoError(t, err)
	data, err := json.Marshal(path.Path{Model: p.Model, From: from, To: from, Hops: []path.Hop{{From: from, To: from, Restarts: 1}}})
	require.NoError(t, err)
	c := store.Change{Members: []store.Member{{DeviceID: l.d.ID, Planned: store.Planned{Model: p.Model, Serial: p.Serial}}}, Kind: change.SingleOperations, From: p.Version, To: to, Path: data, Back: plan.Back}
	for _, s := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	id, err := l.Store.AddChange(t.Context(), access.Person("me", ""), c)
	require.NoError(t, err)
	l.release(id)
	return id
}
