package engine

import (
	"log/slog"
	"net"
	"slices"
	"testing"

	"encoding/json"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

const pointConfig = "box.name = lobby\nwlan.crew.title = Crew\nwlan.tills.title = Tills\n"

// joining is a controller with an access point beside it that stands alone.
type joining struct {
	*field
	point *shellbox.Box
	p     store.Device
}

func newJoining(t *testing.T) *joining {
	j := &joining{field: controller(t)}
	ln, err := net.Listen("tcp", place())
	require.NoError(t, err)
	address := ln.Addr().String()
	require.NoError(t, ln.Close())
	j.point, err = simfleet.OpenShellBox(shellbox.Spec{Name: "lobby", Maker: "Gullwire", Model: "AP-31", Serial: "G5005", Version: "8.5.2", Address: address, User: "hand", Config: pointConfig}, t.TempDir(), factor, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, j.point.Start())
	t.Cleanup(j.point.Stop)
	shellbox.Meet(j.plain, j.point)
	a := j.point.Access()
	passwords := []string{a.Password, a.Plate}
	require.NoError(t, j.Store.AddDevice(t.Context(), store.Device{Name: "lobby", Address: address, Dialect: a.Dialect, Settings: store.Settings{Transfer: "pull-sftp"}},
		[]store.Credential{{Kind: KindPassword, Username: "hand"}, {Kind: KindPassword, Username: "hand"}}, func(_ *store.Credential, id int64) ([]byte, error) {
			password := passwords[0]
			passwords = passwords[1:]
			return SealCredential(j.Vault, id, Secret{Password: password})
		}))
	j.p, err = j.Store.Device(t.Context(), "lobby")
	require.NoError(t, err)
	return j
}

// draftJoin drafts bringing the access point under the controller, or having it stand alone again.
func (j *joining) draftJoin(release bool) int64 {
	t := j.t
	me := access.Person("me", "")
	now, err := j.Refresh(t.Context(), j.d, me)
	require.NoError(t, err)
	j.p, err = j.Store.Device(t.Context(), "lobby")
	require.NoError(t, err)
	alone, err := j.Refresh(t.Context(), j.p, me)
	require.NoError(t, err)
	host, _, _ := net.SplitHostPort(j.d.Address)
	job := &change.JoinJob{Params: change.JoinParams{Controller: j.d.Name, Address: host, Child: "lobby", Serial: "G5005", Model: "AP-31", Group: "staff"}, Managed: release}
	box := store.Member{DeviceID: j.p.ID, Role: "box", Planned: store.Planned{Model: "AP-31", Serial: "G5005"}}
	var work []byte
	to := now.Version
	if release {
		bs, err := j.Store.Backups(t.Context(), store.BackupList{Device: "lobby", Limit: 1})
		require.NoError(t, err)
		parts, err := j.PartsOf(bs[0], j.p)
		require.NoError(t, err)
		work, err = PutBackWork(bs[0].ID, parts)
		require.NoError(t, err)
		sets, err := j.Store.ReadingSets(t.Context(), j.p.ID, 0, 1)
		require.NoError(t, err)
		box.Readings, job.Measured, to = sets[0].Readings, true, bs[0].Version
		job.Params.Name = now.ChildBySerial("G5005").Name
	}
	prepare := func(d store.Device, p *portrait.Portrait, to string) (change.Job, []byte) {
		way := &path.Path{Family: "gw", Model: p.Model, From: version.MustParse(p.Version), To: version.MustParse(to)}
		way.Hops = []path.Hop{{From: way.From, To: way.To, Config: catalog.ConfigKept, Restarts: 1}}
		data, err := json.Marshal(way)
		require.NoError(t, err)
		return change.Job{Family: j.cat.Family("gw"), Path: way, Can: j.Profile(d).Abilities, Pace: j.Pace}, data
	}
	var ways [2][]byte
	job.Controller, ways[0] = prepare(j.d, now, now.Version)
	job.Box, ways[1] = prepare(j.p, alone, to)
	draft, kind := change.DraftJoin, change.Joining
	if release {
		draft, kind = change.DraftRelease, change.Releasing
	}
	plan, err := draft(job)
	require.NoError(t, err)
	box.Path, box.Back = ways[1], plan.Back[1]
	c := store.Change{From: alone.Version, To: now.Version, Path: ways[0], Kind: kind, BackPolicy: j.policy, Work: work,
		Members: []store.Member{{DeviceID: j.d.ID, Role: "controller", Planned: store.Planned{Model: now.Model, Serial: now.Serial}, Path: ways[0], Back: plan.Back[0]}, box}}
	for _, s := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	id, err := j.Store.AddChange(t.Context(), me, c)
	require.NoError(t, err)
	return id
}

func (j *joining) carriedJoin(release bool) int64 {
	id := j.draftJoin(release)
	j.release(id)
	return id
}

// follower is the access point as the controller has it.
func (j *joining) follower() *shellbox.FollowerStatus {
	points, _, _ := j.plain.Followers()
	if i := slices.IndexFunc(points, func(p shellbox.FollowerStatus) bool { return p.Name == "lobby" }); i >= 0 {
		return &points[i]
	}
	return nil
}

func TestAnAccessPointComesUnderAControllerAndBack(t *testing.T) {
	t.Parallel()
	j := newJoining(t)
	j.start()
	c := j.rest(j.carriedJoin(false))
	require.Equal(t, change.Done, c.State, failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Pass, v.Verdict, failure(c))
	assert.Contains(t, resultOf(v, "lobby follows").Evidence, `lobby runs 8.5.4 and is "serves", in the group staff`)
	p := j.follower()
	require.NotNil(t, p)
	assert.Equal(t, shellbox.FollowerStatus{Name: "lobby", Version: "8.5.4", State: "serves", Starts: 1}, *p)

	// It has no command line of its own now: whoever asks hears the word of its controller, and what would write is refused.
	d, err := j.Store.Device(t.Context(), "lobby")
	require.NoError(t, err)
	assert.Equal(t, "field", Follows(&d))
	seen, err := j.Refresh(t.Context(), d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, []string{"field", "8.5.4"}, []string{seen.Follows, seen.Version})
	_, err = j.Backup(t.Context(), d, "by hand", access.Person("me", ""))
	assert.ErrorContains(t, err, "lobby follows field and has no command line of its own")

	c = j.rest(j.carriedJoin(true))
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	assert.Nil(t, j.follower())
	assert.Equal(t, pointConfig, j.point.Status().Main, "it has the configuration again that it had")
	d, err = j.Store.Device(t.Context(), "lobby")
	require.NoError(t, err)
	assert.Empty(t, Follows(&d))
}

// What goes wrong on the way leaves a box that somebody can name the place of, and the way back brings it to where it was.
func TestAnAccessPointThatDoesNotJoin(t *testing.T) {
	t.Parallel()
	for fault, says := range map[string]string{shellbox.StaysAlone: "lobby is given back to stand-alone, with the configuration that it had", shellbox.LosesItsWay: "neither follows field nor answers by itself"} {
		t.Run(fault, func(t *testing.T) {
			t.Parallel()
			j := newJoining(t)
			j.Pace.Floor = 12
			require.NoError(t, j.point.Arm(fault, box.Fault{Times: 1}))
			j.start()
			id := j.carriedJoin(false)
			c := j.asks(id, change.AskFailed, says)
			assert.Contains(t, c.Question.Text, "field does not show lobby (G5005) yet")
			require.Contains(t, c.Question.Answers, change.GoBack)
			j.answer(id, change.GoBack, "")
			if c = j.rest(id); c.State == change.Asking && c.Question.Kind == change.AskHand {
				require.NoError(t, j.point.PressReset())
				j.answer(id, change.SignOff, "its reset was pressed")
				c = j.rest(id)
			}
			require.Equal(t, change.Returned, c.State, failure(c))
			assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
			assert.Equal(t, pointConfig, j.point.Status().Main)
			assert.Nil(t, j.follower())
		})
	}
}

// One that was let go and does not come back is brought under its controller again, once somebody has reset it.
func TestAnAccessPointThatDoesNotComeBack(t *testing.T) {
	t.Parallel()
	j := newJoining(t)
	j.Pace.Floor = 12 // seconds: silence is not waited for longer, and a busy machine has time enough
	j.start()
	c := j.rest(j.carriedJoin(false))
	require.Equal(t, change.Done, c.State, failure(c))
	require.NoError(t, j.point.Arm(shellbox.Mute, box.Fault{Times: -1}))
	id := j.carriedJoin(true)
	c = j.asks(id, change.AskFailed, "lobby does not follow field any more, and is brought under it again")
	require.NoError(t, j.point.Heal(shellbox.Mute))
	j.answer(id, change.GoBack, "")
	if c = j.rest(id); c.State == change.Asking && c.Question.Kind == change.AskHand {
		j.answer(id, change.SignOff, "it answers")
		c = j.rest(id)
	}
	require.Equal(t, change.Returned, c.State, failure(c))
	require.NotNil(t, j.follower())
	assert.Equal(t, "serves", j.follower().State)
}

// Whatever strikes in the middle of whatever step: the access point is converted once, let join once, and serves.
func TestStrikesWhileAnAccessPointJoins(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for _, strike := range []string{"the connection is cut", "the database cuts every connection", "another worker takes over"} {
		t.Run(strike, func(t *testing.T) {
			t.Parallel()
			j := newJoining(t)
			s := &subject{field: j.field}
			struck := s.strikeEverywhere(strikes[strike])
			j.start()
			c := j.rest(j.carriedJoin(false))
			require.Equal(t, change.Done, c.State, failure(c))
			assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
			require.NotNil(t, j.follower())
			assert.Equal(t, 1, j.follower().Starts)
			c = j.rest(j.carriedJoin(true))
			require.Equal(t, change.Done, c.State, failure(c))
			assert.Equal(t, pointConfig, j.point.Status().Main)
			assert.Greater(t, len(struck), len(c.Steps))
		})
	}
}
