package engine

import (
	"encoding/json"
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
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/simfleet"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

// moving is a gateway that serves, and an older one of the same train whose services it gets.
type moving struct {
	*field
	old   *shellbox.Box
	from  store.Device
	wish  change.ServicesWish
	opens *time.Time // the window of the next draft
}

func newMoving(t *testing.T) *moving {
	m := &moving{field: newField(t, shellbox.Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4"}, "control-sg1.json", "http")}
	text, err := os.ReadFile("../demo/configs/control-sg1.json")
	require.NoError(t, err)
	require.NoError(t, m.plain.Change("gateway.json", strings.NewReplacer("tickets-", "portal-", `"control-sg1"`, `"control-sg2"`, "203.0.113.100", "203.0.113.200").Replace(string(text))))
	ln, err := net.Listen("tcp", place())
	require.NoError(t, err)
	require.NoError(t, ln.Close())
	m.old, err = simfleet.OpenShellBox(shellbox.Spec{Name: "old", Maker: "Brackmoor", Model: "SG-5", Serial: "O", User: "hand", Version: "3.8.4", Address: ln.Addr().String(), Config: string(text)}, t.TempDir(), factor, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, m.old.Start())
	t.Cleanup(m.old.Stop)
	a := m.old.Access()
	secrets := []Secret{{Password: a.Password}, {Token: a.Token}}
	require.NoError(t, m.Store.AddDevice(t.Context(), store.Device{Name: "old", Address: a.Address, Dialect: a.Dialect, Settings: store.Settings{Web: a.Web, Transfer: "http"}},
		[]store.Credential{{Kind: KindPassword, Username: "hand"}, {Kind: KindToken}}, func(c *store.Credential, id int64) ([]byte, error) {
			secret := secrets[0]
			secrets = secrets[1:]
			return SealCredential(m.Vault, id, secret)
		}))
	m.from, err = m.Store.Device(t.Context(), "old")
	require.NoError(t, err)
	m.wish = change.ServicesWish{From: "old", Services: []string{"tickets-web", "tickets-api"}, As: []string{"tickets-web", "tickets-api"}}
	return m
}

// draftMove drafts the change, as planning does.
func (m *moving) draftMove() int64 {
	t, ctx, me := m.t, m.t.Context(), access.Person("me", "")
	d, w, kind := m.d, ServicesWork{At: "SG-5@3.8.4", Part: "running", File: "gateway.json"}, change.Moving
	carved := ""
	if m.wish.From == "" {
		d, kind = m.from, change.Withdrawing
		w.Elsewhere = map[string]ServedAt{"tickets-web": {Device: m.d.ID, Name: "field", As: "tickets-web"}, "tickets-api": {Device: m.d.ID, Name: "field", As: "tickets-api"}}
	} else {
		g, err := m.LookAtServices(ctx, m.from, me)
		require.NoError(t, err)
		lib, err := m.Library(ctx)
		require.NoError(t, err)
		at, err := lib.ParseStop(w.At)
		require.NoError(t, err)
		doc, broken := lib.Schema(at).Parse("gateway.json", g.Text)
		require.Empty(t, broken)
		c, err := convert.CarveOut(lib.Schema(at), doc, convert.Carving{Services: m.wish.Services})
		require.NoError(t, err)
		carved = c.Text
		w.Source, w.SourceName, w.SourceAt, w.SourceFile = m.from.ID, "old", w.At, "gateway.json"
	}
	v := version.MustParse("3.8.4")
	way := &path.Path{Family: "sg", Model: "SG-5", From: v, To: v, Hops: []path.Hop{{From: v, To: v, Config: "kept"}}}
	plan, err := change.DraftServices(&change.ServicesJob{Job: change.Job{Family: m.cat.Family("sg"), Path: way, Can: m.Profile(d).Abilities, Pace: m.Pace}, Services: m.wish.As, Other: m.wish.From})
	require.NoError(t, err)
	data, err := json.Marshal(way)
	require.NoError(t, err)
	work, err := NewServicesWork(m.Vault, d.Name, w, carved, carved)
	require.NoError(t, err)
	serial := map[bool]string{true: "O", false: "S"}[m.wish.From == ""]
	wish := m.wish
	c := store.Change{Kind: kind, From: "3.8.4", To: "3.8.4", Path: data, Work: work, Back: plan.Back, BackPolicy: change.Offered, WindowFrom: m.opens, Wish: &change.Wish{Format: change.WishFormat, Move: &wish},
		Members: []store.Member{{DeviceID: d.ID, Planned: store.Planned{Model: "SG-5", Serial: serial}}}}
	for _, st := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: st})
	}
	id, err := m.Store.AddChange(ctx, me, c)
	require.NoError(t, err)
	m.release(id)
	return id
}

func (m *moving) has(b *shellbox.Box, text string) bool {
	return strings.Contains(b.Part("gateway.json"), text)
}

// Whatever strikes in the middle of whatever step: services are there in the end, once, beside those that were there; and they are taken off the old gateway.
func TestStrikesWhileServicesMove(t *testing.T) {
	t.Parallel()
	struckAnyhow(t, func(t *testing.T, strikeAll func(*rig)) {
		m := newMoving(t)
		strikeAll(m.rig)
		m.start()
		c := m.rest(m.draftMove())
		require.Equal(t, change.Done, c.State, failure(c))
		v := verdictOf(t, c)
		assert.Equal(t, verify.Pass, v.Verdict, failure(c))
		assert.Equal(t, verify.Met, resultOf(v, "service tickets-api").State)
		assert.Equal(t, 1, strings.Count(m.plain.Part("gateway.json"), `"tickets-api": {`)-strings.Count(m.plain.Part("gateway.json"), `"pools"`), "its pool and itself")
		assert.True(t, m.has(m.plain, `"portal-web"`) && m.has(m.old, `"tickets-web"`))
		m.wish = change.ServicesWish{Services: m.wish.Services, As: m.wish.As}
		c = m.rest(m.draftMove())
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
		assert.False(t, m.has(m.old, `"tickets-web"`))
		assert.True(t, m.has(m.old, `"tickets-admin"`) && m.has(m.old, `"tickets-2026"`), "what stays has what it needs")
	})
}

// What a check asks does not answer: a person decides, and the configuration of before goes back. What somebody configured meanwhile is told.
func TestServicesGoBack(t *testing.T) {
	t.Parallel()
	m := newMoving(t)
	m.wish.Checks = []string{"tcp:127.0.0.1:1"}
	before := m.plain.Part("gateway.json")
	m.start()
	id := m.draftMove()
	c := m.asks(id, change.AskFailed, "Answers: tcp:127.0.0.1:1")
	require.Contains(t, c.Question.Answers, change.GoBack)
	require.True(t, m.has(m.plain, `"tickets-web"`))
	require.NoError(t, m.plain.Change("gateway.json", strings.Replace(m.plain.Part("gateway.json"), "Control room, rack 4", "Control room, rack 9", 1)))
	m.answer(id, change.GoBack, "the page does not come")
	c = m.rest(id)
	require.Equal(t, change.Returned, c.State, failure(c))
	assert.JSONEq(t, before, m.plain.Part("gateway.json"))
	assert.Contains(t, resultOf(verdictOf(t, c), "configured-since").Evidence, "place")
}

// Services that somebody changed on their gateway since the draft are not put; one that cannot be asked is a question; what was configured on the new home meanwhile stays there.
func TestServicesAreNotWhatTheyWere(t *testing.T) {
	t.Parallel()
	t.Run("changed at the source", func(t *testing.T) {
		t.Parallel()
		m := newMoving(t)
		id := m.draftMove()
		require.NoError(t, m.old.Change("gateway.json", strings.Replace(m.old.Part("gateway.json"), `"port": 443`, `"port": 444`, 1)))
		before := m.plain.Part("gateway.json")
		m.start()
		c := m.rest(id)
		require.Equal(t, change.Failed, c.State, failure(c))
		assert.Contains(t, failure(c), "these services were changed on old since this was drafted: services / tickets-web / port")
		assert.Equal(t, before, m.plain.Part("gateway.json"))
	})
	t.Run("the source is away, the new home was changed", func(t *testing.T) {
		t.Parallel()
		m := newMoving(t)
		id := m.draftMove()
		m.old.Stop()
		require.NoError(t, m.plain.Change("gateway.json", strings.Replace(m.plain.Part("gateway.json"), "Control room, rack 4", "Control room, rack 9", 1)))
		m.start()
		m.asks(id, change.AskWarn, "old cannot be asked")
		require.NoError(t, m.Act(t.Context(), id, change.Accept, access.Person("me", ""), "it is off"))
		c := m.rest(id)
		require.Equal(t, change.Done, c.State, failure(c))
		assert.True(t, m.has(m.plain, "rack 9") && m.has(m.plain, `"tickets-web"`))
	})
	t.Run("changed after its backup", func(t *testing.T) {
		t.Parallel()
		m := newMoving(t)
		done := false
		m.Engine.strike = func(r *run, s *store.Step, at string) {
			if s.Plan.Kind == change.PlaceServices && at == "performed" && !done {
				done = true
				_ = m.plain.Change("gateway.json", strings.Replace(m.plain.Part("gateway.json"), "Control room, rack 4", "Control room, rack 9", 1))
			}
		}
		m.start()
		c := m.rest(m.draftMove())
		require.Equal(t, change.Done, c.State, failure(c))
		assert.True(t, m.has(m.plain, "rack 9") && m.has(m.plain, `"tickets-web"`), "nothing of it is lost")
		all, err := m.Store.BackupsOf(t.Context(), c.ID, m.d.ID)
		require.NoError(t, err)
		assert.Len(t, all, 3, "it was backed up anew, and at the end")
	})
	t.Run("before its window", func(t *testing.T) {
		t.Parallel()
		m := newMoving(t)
		opens := time.Now().Add(time.Hour)
		m.opens = &opens
		before := m.plain.Part("gateway.json")
		m.start()
		c := m.rest(m.draftMove())
		require.Equal(t, change.Asking, c.State, failure(c))
		assert.Contains(t, c.Question.Text, `It is not the time for "Put: tickets-web, tickets-api"`)
		assert.Equal(t, before, m.plain.Part("gateway.json"))
	})
	t.Run("not up at its new home", func(t *testing.T) {
		t.Parallel()
		m := newMoving(t)
		m.wish = change.ServicesWish{Services: m.wish.Services, As: m.wish.As}
		m.start()
		m.asks(m.draftMove(), change.AskWarn, "tickets-web is not up on field")
		assert.True(t, m.has(m.old, `"tickets-web"`))
	})
}

// A gateway that loses its power when the services were put has them, or has what it had: never something in between that counts as done.
func TestPowerIsLostWhileServicesMove(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for _, at := range []string{"begun", "performed"} {
		t.Run(at, func(t *testing.T) {
			t.Parallel()
			m := newMoving(t)
			m.Pace.Factor /= 4
			var once sync.Once
			m.Engine.strike = func(_ *run, s *store.Step, when string) {
				if s.Plan.Kind == change.PutPart && when == at {
					once.Do(m.plain.PowerOffAndOn)
				}
			}
			m.start()
			c := m.rest(m.draftMove())
			require.Equal(t, change.Done, c.State, failure(c))
			assert.True(t, m.has(m.plain, `"tickets-web"`))
		})
	}
}
