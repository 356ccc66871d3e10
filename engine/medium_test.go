package engine

import (
	"encoding/json"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/media"
	"verimorph/core/path"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

// draftMedium drafts that the gauge writes a medium, as planning does.
func (f *field) draftMedium() int64 {
	t, ctx, me := f.t, f.t.Context(), access.Person("me", "")
	v := version.MustParse("F1.06")
	way := &path.Path{Family: "pw", Model: "TG-1", From: v, To: v, Hops: []path.Hop{{From: v, To: v, Config: "kept"}}}
	wish := change.MediumWish{Label: "gauge-1", Place: "the cabinet"}
	plan, err := change.DraftMedium(&change.MediumJob{Job: change.Job{Family: f.cat.Family("pw"), Path: way, Can: f.Profile(f.d).Abilities, Pace: f.Pace}, Device: "field", MediumWish: wish})
	require.NoError(t, err)
	data, err := json.Marshal(way)
	require.NoError(t, err)
	c := store.Change{Kind: change.MakingMedium, From: "F1.06", To: "F1.06", Path: data, Back: plan.Back, Wish: &change.Wish{Format: change.WishFormat, Medium: &wish},
		Members: []store.Member{{DeviceID: f.d.ID, Planned: store.Planned{Model: "TG-1", Serial: "S"}}}}
	for _, st := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: st})
	}
	id, err := f.Store.AddChange(ctx, me, c)
	require.NoError(t, err)
	require.NoError(t, f.Store.AddMedium(ctx, store.Medium{Label: "gauge-1", Kind: media.Snapshot, DeviceID: &f.d.ID, Device: "field", ChangeID: &id, Version: "F1.06", CreatedBy: "me"}))
	f.release(id)
	return id
}

// signsOff does what hands do, until the change ends or asks something else.
func (f *field) signsOff(id int64) store.Change {
	for range 12 {
		c := f.rest(id)
		if c.State != change.Asking || c.Question.Kind != change.AskHand {
			return c
		}
		require.NoError(f.t, f.plain.Arm(shellbox.ByHandCard, box.Fault{}))
		f.answer(id, change.SignOff, "done")
	}
	f.t.Fatal("it asks without an end")
	return store.Change{}
}

// Whatever strikes while a medium is written: it counts as made once it was read back, and never before.
func TestStrikesWhileAMediumIsWritten(t *testing.T) {
	t.Parallel()
	struckAnyhow(t, func(t *testing.T, strikeAll func(*rig)) {
		f, _, _ := kinds["gauge"](t)
		strikeAll(f.rig)
		f.start()
		c := f.signsOff(f.draftMedium())
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict)
		m, err := f.Store.Medium(t.Context(), "gauge-1")
		require.NoError(t, err)
		x := m.Medium()
		assert.Equal(t, media.Good, x.State())
		require.Len(t, m.Files, 1)
		assert.NotEmpty(t, m.Files[0].SHA256)
		b, err := f.Store.Backup(t.Context(), *m.Backup)
		require.NoError(t, err)
		assert.Equal(t, b.SHA256, m.Holds)
	})
}

// A device that is configured while it writes is backed up anew, and writes once more: the medium holds what the newest backup holds.
func TestAMediumOfADeviceThatIsChangedMeanwhile(t *testing.T) {
	t.Parallel()
	f, _, _ := kinds["gauge"](t)
	var once sync.Once
	f.Engine.strike = func(_ *run, s *store.Step, at string) {
		if s.Plan.Kind == change.WriteMedium && at == "performed" {
			once.Do(func() {
				_ = f.plain.Change("gauge.ini", strings.Replace(f.plain.Part("gauge.ini"), "mean = 60", "mean = 90", 1))
			})
		}
	}
	f.start()
	id := f.draftMedium()
	c := f.signsOff(id)
	require.Equal(t, change.Asking, c.State, failure(c))
	assert.Contains(t, c.Question.Text, "another one than the device runs")
	f.answer(id, change.Retry, "")
	c = f.signsOff(id)
	require.Equal(t, change.Done, c.State, failure(c))
	m, err := f.Store.Medium(t.Context(), "gauge-1")
	require.NoError(t, err)
	b, err := f.Store.Backup(t.Context(), *m.Backup)
	require.NoError(t, err)
	text, err := f.Main(b)
	require.NoError(t, err)
	assert.Contains(t, text, "mean = 90")
	assert.Equal(t, b.SHA256, m.Holds)
}

// A card that does not keep what is written, and one that is not there, make no medium.
func TestAMediumThatIsNotWhatWasWritten(t *testing.T) {
	t.Parallel()
	f, _, _ := kinds["gauge"](t)
	require.NoError(t, f.plain.Arm(shellbox.CardRots, box.Fault{}))
	f.start()
	id := f.draftMedium()
	c := f.signsOff(id)
	require.Equal(t, change.Asking, c.State, failure(c))
	assert.Contains(t, c.Question.Text, "the configuration on it is another one than the device runs")
	m, err := f.Store.Medium(t.Context(), "gauge-1")
	require.NoError(t, err)
	x := m.Medium()
	assert.Equal(t, media.Making, x.State())
	require.NoError(t, f.plain.Heal(shellbox.ByHandCard))
	require.NoError(t, f.Act(t.Context(), id, change.Retry, access.Person("me", ""), "")) // and the card was taken out
	c = f.rest(id)
	require.Equal(t, change.Failed, c.State, failure(c))
	assert.Contains(t, failure(c), "there is no card in it")
	m, err = f.Store.Medium(t.Context(), "gauge-1")
	require.NoError(t, err)
	x = m.Medium()
	assert.Equal(t, media.NotMade, x.State())
}
