package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/replace"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

const (
	oldText = "# written by 5.4.2\nbox\n  name quay\n\nport p1\n  role outside\n  address 198.51.100.114/29\nport p2\n  role inside\n  address 10.64.4.1/24\n\nroute 0.0.0.0/0\n  via 198.51.100.113\n\nrewrite web\n  match outside 203.0.113.91 tcp 443\n  to 10.64.4.20 tcp 8443\n\ntunnel control-room\n  peer 203.0.113.200\n  inside 10.9.0.0/16\n  secret hush-hush\n\npolicy edge\n  allow inside outside any\n  deny any any any\n"
)

// becomes is what it is on the larger model: its first port is another one, and the box is managed at an address.
func becomes(text, address string) string {
	host, _, _ := net.SplitHostPort(address)
	return strings.NewReplacer("port p1", "port x1", "port p2", "port p1", "  name quay\n", "  name quay\n  manage "+host+"\n").Replace(text)
}

// swap is an old firewall, and a larger one out of its crate that is to take its place.
type swap struct {
	*rig
	new    *tarnholm.Box
	newOne store.Device
	cables []replace.Cable
	want   string // configuration of the new one
	keep   string // what becomes of what it says by itself
	own    bool   // the new one has an address of its own
	dead   bool
}

func newSwap(t *testing.T) *swap {
	s := &swap{cables: []replace.Cable{{From: "p1", To: "x1"}, {From: "p2", To: "p1"}, {From: "p3", LeftOut: "unused"}}}
	s.rig = newRig(t, func(spec *tarnholm.Spec) {
		spec.Version, spec.Idle, spec.Config = "5.4.2", "5.0.7", strings.TrimPrefix(oldText, "# written by 5.4.2\n")
	})
	host, _, _ := net.SplitHostPort(place())
	_, port, _ := net.SplitHostPort(s.d.Address)
	address := net.JoinHostPort(host, port) // the port stays when it gets another address
	s.want = becomes(oldText, s.d.Address)
	var err error
	s.new, err = tarnholm.Open(tarnholm.Spec{Name: "larger", Model: "TH-80", Serial: "L", Address: address, User: "bosun", Version: "5.4.2", Flash: 32 << 20, Blank: true, Sessions: 100}, t.TempDir(), factor, s.Log)
	require.NoError(t, err)
	s.new.TakesPlaceOf(s.box)
	require.NoError(t, s.new.Start())
	t.Cleanup(s.new.Stop)
	s.newOne = s.known("larger", s.new.Access())
	return s
}

// known adds a device to the records, with its first password.
func (s *swap) known(name string, a box.Access) store.Device {
	require.NoError(s.t, s.Store.AddDevice(s.t.Context(), store.Device{Name: name, Address: a.Address, Dialect: "tarnholm", Settings: store.Settings{Transfer: "sftp"}}, PasswordCredentials(a.User, true, access.Person("me", "")), func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(s.Vault, id, Secret{Password: map[string]string{KindPassword: a.Password, KindPrivileged: a.Watchword}[c.Kind]})
	}))
	d, err := s.Store.Device(s.t.Context(), name)
	require.NoError(s.t, err)
	return d
}

// draftSwap drafts the change, as planning does.
func (s *swap) draftSwap() int64 {
	t := s.t
	ctx := t.Context()
	for _, d := range []store.Device{s.newOne, s.d} {
		if !s.dead || d.ID != s.d.ID {
			_, err := s.Refresh(ctx, d, access.Person("me", ""))
			require.NoError(t, err)
		}
	}
	v := version.MustParse("5.4.2")
	stays := func(model string) *path.Path {
		return &path.Path{Family: "th", Model: model, From: v, To: v, Hops: []path.Hop{{From: v, To: v, Config: "kept", Restarts: 1}}}
	}
	f := s.cat.Family("th")
	j := &change.ReplaceJob{New: change.Job{Family: f, Path: stays("TH-80"), Can: s.Profile(s.newOne).Abilities, Pace: s.Pace}, Old: change.Job{Family: f, Path: stays("TH-60"), Can: s.Profile(s.d).Abilities, Pace: s.Pace},
		NewName: "larger", OldName: "box", Password: true, Cables: s.cables, Labels: map[string]string{"p1": "rack 1, panel 4"}, Dead: s.dead}
	planned := store.Planned{Model: "TH-80", Serial: "L"}
	if s.own {
		s.want = becomes(oldText, s.newOne.Address)
	} else {
		j.Address, planned.ComesBackAt = s.d.Address, s.d.Address
	}
	plan, err := change.DraftReplace(j)
	require.NoError(t, err)
	part := s.Profile(s.newOne).Parts[0]
	work, err := BringUpWork(s.Vault, "larger", BringUpSecrets{Password: "ours ours ours", Part: &RestorePart{Name: part.Name, Title: part.Title, File: part.File, Kind: part.Kind, Syntax: part.Syntax}, Text: s.want})
	require.NoError(t, err)
	work, err = WithReplacement(s.Vault, "box", work, ReplaceWork{Cables: s.cables, Labels: j.Labels, Address: j.Address, At: "TH-60@5.4.2", File: part.File, To: "TH-80@5.4.2"}, oldText)
	require.NoError(t, err)
	ways := [2][]byte{}
	for i, p := range []*path.Path{j.New.Path, j.Old.Path} {
		ways[i], err = json.Marshal(p)
		require.NoError(t, err)
	}
	c := store.Change{Kind: change.Replacing, From: "5.4.2", To: "5.4.2", Path: ways[0], Work: work, BackPolicy: s.policy, Wish: &change.Wish{Format: change.WishFormat, Replace: &change.ReplaceWish{Old: "box", OwnAddress: s.own, Defaults: s.keep}},
		Members: []store.Member{{DeviceID: s.newOne.ID, Role: RoleNew, Planned: planned, Path: ways[0], Back: plan.Back[0]}, {DeviceID: s.d.ID, Role: RoleOld, Planned: store.Planned{Model: "TH-60", Serial: "S"}, Path: ways[1], Back: plan.Back[1]}}}
	for _, st := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: st})
	}
	id, err := s.Store.AddChange(ctx, access.Person("me", ""), c)
	require.NoError(t, err)
	return id
}

// hands answers hand steps as somebody does who stands at the rack, until the change ends or asks something else. asked is which.
func (s *swap) hands(id int64, at func(title string)) (c store.Change, asked []string) {
	for range 30 {
		c = s.rest(id)
		if c.State == change.Asking && c.Question.Kind == change.AskWarn && strings.Contains(c.Question.Text, "Services: the device says that they are not ready") { // it was just started
			require.NoError(s.t, s.Act(s.t.Context(), id, change.Accept, access.Person("me", ""), "it lost its power"))
			continue
		}
		if c.State != change.Asking || c.Question.Kind != change.AskHand {
			return c, asked
		}
		title := c.Steps[c.Question.Step-1].Plan.Title
		asked = append(asked, title)
		if title == "Disconnect box" {
			require.NoError(s.t, s.box.Arm(tarnholm.Unplugged, box.Fault{}))
		}
		if title == "Connect box" {
			require.NoError(s.t, s.box.Heal(tarnholm.Unplugged))
		}
		if title == "Disconnect larger" {
			require.NoError(s.t, s.new.Arm(tarnholm.Unplugged, box.Fault{}))
		}
		if at != nil {
			at(title)
		}
		require.NoError(s.t, s.Act(s.t.Context(), id, change.SignOff, access.Person("me", ""), "done"))
	}
	require.FailNow(s.t, "it asks for hands again and again", failure(c))
	return c, asked
}

// A device of another model takes the place of one: it gets its configuration and its address, the cables go where the mapping says, and what the old one did
// is what it is held against.
func TestADeviceTakesThePlaceOfAnother(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	s.start()
	id := s.draftSwap()
	s.release(id)
	c, asked := s.hands(id, nil)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, []string{"Disconnect box", "Cable p1 to x1", "Cable p2 to p1"}, asked)
	v := verdictOf(t, c)
	assert.Equal(t, verify.Pass, v.Verdict, failure(c))
	assert.Equal(t, s.want, s.new.Status().Config)
	assert.Equal(t, "ours ours ours", s.new.Access().Password)
	d, err := s.Store.Device(t.Context(), "larger")
	require.NoError(t, err)
	assert.Equal(t, s.d.Address, d.Address)
	for reading, want := range map[string]string{"ports-up": "p1, x1", "neighbours": "p1 pier-switch, x1 uplink", "tunnels-up": "control-room", "routes": "0.0.0.0/0"} {
		res := resultOf(v, reading)
		assert.Equal(t, verify.Met, res.State, "%s: %s", reading, res.Evidence)
		assert.Contains(t, res.Title, "as of the old device")
		assert.Equal(t, want, res.Before.String(), reading)
	}
	assert.Equal(t, "5.4.2", s.box.Status().Version, "the old one is as it was")
	assert.Equal(t, 1, s.box.Status().Boots)
	assert.Equal(t, oldText, s.box.Status().Config)
}

// The cables of two ports are swapped: the readings say which two, and the way back leads to the old device, which serves as before.
func TestCablesThatAreSwapped(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	require.NoError(t, s.new.Arm(tarnholm.SwappedCables, box.Fault{}))
	s.start()
	id := s.draftSwap()
	s.release(id)
	c, _ := s.hands(id, nil)
	require.Equal(t, change.Done, c.State, "neighbours are a doubt: %s", failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Degraded, v.Verdict)
	assert.Contains(t, resultOf(v, "neighbours").Evidence, "the cables at p1 and x1 are swapped")
}

// The new one does not do what the old one did: the way back is the old one, by hand, and it is held against what it was.
func TestTheOldDeviceServesAgain(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	require.NoError(t, s.new.Arm(tarnholm.TunnelDown, box.Fault{Times: 1}))
	s.start()
	id := s.draftSwap()
	s.release(id)
	c, _ := s.hands(id, nil)
	require.Equal(t, change.Asking, c.State, failure(c))
	require.Equal(t, change.AskFailed, c.Question.Kind, c.Question.Text)
	assert.Contains(t, c.Question.Text, "Tunnels up")
	assert.Contains(t, c.Question.Text, "box was not written to")
	require.Contains(t, c.Question.Answers, change.GoBack)
	require.NoError(t, s.Act(t.Context(), id, change.GoBack, access.Person("me", ""), "the night is over"))
	c, asked := s.hands(id, nil)
	require.Equal(t, change.Returned, c.State, failure(c))
	assert.Equal(t, []string{"Disconnect larger", "Cable p1 back to p2", "Cable x1 back to p1", "Connect box"}, asked)
	v := verdictOf(t, c)
	assert.Equal(t, verify.Pass, v.Verdict, failure(c))
	assert.Equal(t, verify.Met, resultOf(v, "box tunnels-up").State)
}

// Somebody changed the old device while the change was on its way: nothing is put before somebody has decided about it.
func TestTheOldDeviceWasChanged(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	require.NoError(t, s.box.Change("to 10.64.4.20 tcp 8443", "to 10.64.4.21 tcp 8443"))
	worked := ""
	s.Worked = func(_ context.Context, b store.Backup, text, to string) (string, string, bool, error) {
		return worked, "worked out", worked != "", nil
	}
	s.start()
	id := s.draftSwap()
	s.release(id)
	c := s.rest(id)
	require.Equal(t, change.Asking, c.State, failure(c))
	require.Equal(t, change.AskPerson, c.Question.Kind, c.Question.Text)
	assert.Contains(t, c.Question.Text, "rewrite web / to")
	assert.Equal(t, "TH-80@5.4.2", c.Question.To)
	assert.NotZero(t, c.Question.Backup)
	assert.NotContains(t, s.new.Status().Config, "rewrite", "nothing was put")
	worked = strings.Replace(s.want, "10.64.4.20 tcp 8443", "10.64.4.21 tcp 8443", 1)
	require.NoError(t, s.Act(t.Context(), id, change.Retry, access.Person("me", ""), ""))
	c, _ = s.hands(id, nil)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	assert.Equal(t, worked, s.new.Status().Config)
}

// What the new device says by itself was to be kept beside what was converted: a newer conversion knows nothing of that, so it is not put in its place.
func TestTheOldDeviceWasChangedAndDefaultsAreKept(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	require.NoError(t, s.box.Change("to 10.64.4.20 tcp 8443", "to 10.64.4.21 tcp 8443"))
	s.Worked = func(context.Context, store.Backup, string, string) (string, string, bool, error) {
		return s.want, "worked out", true, nil
	}
	s.keep = change.KeepDefaults
	s.start()
	id := s.draftSwap()
	s.release(id)
	c := s.rest(id)
	require.Equal(t, change.Failed, c.State, failure(c))
	assert.Contains(t, failure(c), "draft it anew: verimorph change redraft")
	assert.NotContains(t, s.new.Status().Config, "rewrite", "nothing was put")
	assert.Equal(t, "ready", s.box.Status().Phase, "the old one serves")
}

// Hands say that the old device is off, and it is not: the new one never gets the address, what answers there is told by its key, and nothing is sent to it.
func TestTheOldDeviceStillAnswers(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	s.Pace.Floor = 30 // seconds: signing in takes its time on a busy machine, and what answers has to be seen
	s.start()
	id := s.draftSwap()
	s.release(id)
	c, _ := s.hands(id, func(title string) {
		if title == "Disconnect box" { // it is plugged in again at once
			require.NoError(t, s.box.Heal(tarnholm.Unplugged))
		}
	})
	dark := 0
	for c.State == change.Asking && c.Question.Kind == change.AskWarn { // no port shows a link
		dark++
		assert.Contains(t, c.Question.Text, "shows no link")
		require.NoError(t, s.Act(t.Context(), id, change.Accept, access.Person("me", ""), "it is in"))
		c, _ = s.hands(id, nil)
	}
	assert.Equal(t, 2, dark, "each cable was looked at")
	require.Equal(t, change.Asking, c.State, failure(c))
	assert.Contains(t, c.Question.Text, "box is still connected")
	assert.Zero(t, s.box.Status().Refusals, "no password was tried on it")
	require.NoError(t, s.box.Arm(tarnholm.Unplugged, box.Fault{}))
	require.NoError(t, s.Act(t.Context(), id, change.Retry, access.Person("me", ""), ""))
	c, _ = s.hands(id, nil)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
}

// Whatever strikes in every step: it is done, the new one is started anew once, and the old one was never touched.
func TestStrikesWhileADeviceIsReplaced(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for _, strike := range []string{"the connection is cut", "the database cuts every connection", "another worker takes over", "nothing is said for a while"} {
		t.Run(strike, func(t *testing.T) {
			t.Parallel()
			s := newSwap(t)
			(&subject{field: &field{rig: s.rig}}).strikeEverywhere(strikes[strike])
			s.start()
			id := s.draftSwap()
			s.release(id)
			c, _ := s.hands(id, nil)
			require.Equal(t, change.Done, c.State, failure(c))
			assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
			assert.Equal(t, s.want, s.new.Status().Config)
			assert.Equal(t, 2, s.new.Status().Boots)
			assert.Equal(t, 1, s.box.Status().Boots)
			assert.Equal(t, oldText, s.box.Status().Config)
		})
	}
}

// The new device loses its power after every step of ours, once for each: before a cable is moved it has what was put onto it, and it is held against the old one as ever.
func TestPowerIsLostWhileADeviceIsReplaced(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	strikes := map[change.Kind]string{change.Save: "begun"} // what was put is not kept then; after that it is, and the address of the old one with it
	for _, kind := range []change.Kind{change.SetPassword, change.Backup, change.CheckSource, change.PutPart, change.Save, change.GoNoGo, change.Plugged, change.Restart, change.Services} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			s := newSwap(t)
			var once sync.Once
			s.Engine.strike = func(_ *run, st *store.Step, at string) {
				if st.Plan.Kind == kind && st.Plan.Member == change.TheNew && at == cmp.Or(strikes[kind], "performed") {
					once.Do(s.new.PowerOffAndOn)
				}
			}
			s.start()
			id := s.draftSwap()
			s.release(id)
			c, asked := s.hands(id, func(string) {
				assert.Equal(t, s.want, s.new.Status().Config, "no cable is moved before it has its configuration")
			})
			require.Equal(t, change.Done, c.State, failure(c))
			assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
			assert.Equal(t, s.want, s.new.Status().Config)
			assert.Len(t, asked, 3)
		})
	}
}

// The new device loses its power once its configuration is kept: it starts with the address of the old one, which still answers there. Nobody reaches it, and the
// old one serves on.
func TestPowerIsLostOnceAllIsKept(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	var once sync.Once
	s.Engine.strike = func(_ *run, st *store.Step, at string) {
		if st.Plan.Kind == change.Save && at == "performed" {
			once.Do(s.new.PowerOffAndOn)
		}
	}
	s.start()
	id := s.draftSwap()
	s.release(id)
	c := s.rest(id)
	require.Equal(t, change.Failed, c.State, failure(c))
	assert.Contains(t, failure(c), "box is still connected")
	assert.Equal(t, 1, s.box.Status().Boots)
}

// A draft from before another device took the place of this one does not start any more.
func TestADraftFromBefore(t *testing.T) {
	t.Parallel()
	s := newSwap(t)
	s.start()
	id := s.draftSwap()
	s.release(id)
	c, _ := s.hands(id, nil)
	require.Equal(t, change.Done, c.State, failure(c))
	require.NoError(t, s.Store.AddReplacement(t.Context(), id, s.d.ID, s.newOne.ID, nil))
	var kept *store.KeptError
	require.ErrorAs(t, s.Store.NotKept(t.Context(), s.d.ID), &kept)
	assert.Equal(t, store.KeptError{Device: "box", New: "larger", Change: id}, *kept)
	require.NoError(t, s.Store.NotKept(t.Context(), s.newOne.ID), "the new one is free")
	_, err := s.Store.AddChange(t.Context(), access.Person("me", ""), store.Change{Path: []byte("{}"), Members: []store.Member{{DeviceID: s.d.ID}}})
	require.ErrorAs(t, err, &kept)
	require.NoError(t, s.Store.ReleaseReplaced(t.Context(), id, "me"))
	require.NoError(t, s.Store.NotKept(t.Context(), s.d.ID))
	require.ErrorIs(t, s.Store.ReleaseReplaced(t.Context(), id, "me"), store.ErrNotFound, "it was released already")
	r, err := s.Store.Replacement(t.Context(), id)
	require.NoError(t, err)
	assert.False(t, r.Kept())
	assert.Equal(t, "TH-80", r.NewModel)
}

// Secrets under a key of the old device are read by the new one only when it has the same: its tunnel stays down, and the verdict says so.
func TestASecretThatTheNewDeviceCannotRead(t *testing.T) {
	t.Parallel()
	for _, same := range []bool{false, true} {
		t.Run(fmt.Sprint("the same key: ", same), func(t *testing.T) {
			t.Parallel()
			s := newSwap(t)
			sealed := func(text string) string { return strings.Replace(text, "hush-hush", "sealed:S:7f3a", 1) }
			require.NoError(t, s.box.Change("hush-hush", "sealed:S:7f3a"))
			if same {
				s.new.SetKey("S")
			}
			s.own = true
			s.Worked = func(context.Context, store.Backup, string, string) (string, string, bool, error) {
				return sealed(s.want), "", true, nil
			}
			s.start()
			id := s.draftSwap()
			s.release(id)
			c, _ := s.hands(id, func(string) { require.NoError(t, s.box.Arm(tarnholm.Unplugged, box.Fault{})) })
			if same {
				require.Equal(t, change.Done, c.State, failure(c))
				return
			}
			require.Equal(t, change.Asking, c.State, failure(c))
			assert.Contains(t, c.Question.Text, "Tunnels up")
			assert.NotContains(t, c.Question.Text, "7f3a")
		})
	}
}
