package media

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"verimorph/core/change"
)

var written = time.Date(2026, 11, 30, 4, 0, 0, 0, time.UTC)

func TestWhereMediaStand(t *testing.T) {
	for want, m := range map[State]Medium{
		Making:      {Kind: Snapshot, Change: change.Running},
		NotMade:     {Kind: Snapshot, Change: change.Failed},
		Unconfirmed: {Kind: Recovery, Written: written},
		Good:        {Kind: Snapshot, Change: change.Done, Written: written, Checked: written},
		Damaged:     {Kind: Snapshot, Written: written, Checked: written, Problems: []string{"a: is missing"}},
		Retired:     {Written: written, Retired: true},
	} {
		assert.Equal(t, want, m.State())
	}
	assert.Equal(t, Making, (&Medium{Kind: Recovery}).State(), "nothing was given out for it yet")
	assert.Equal(t, NotMade, (&Medium{Kind: Snapshot}).State(), "its change is gone")
	assert.Equal(t, Good, (&Medium{Kind: Snapshot, Change: change.Failed, Written: written, Checked: written}).State(), "it was written before the change failed")
}

func TestWhatMediaWouldBringBack(t *testing.T) {
	m := Medium{Model: "TG-1", Version: "F1.06", Holds: "aa", Written: written}
	assert.Equal(t, "TG-1 F1.06 with its configuration of 2026-11-30 04:00 UTC", m.BringsBack())
	assert.Empty(t, m.Older(Now{"TG-1", "F1.06", "aa", 3}))
	assert.Equal(t, []string{"the device is a TG-2 by now, not a TG-1", "the device runs F2.00 by now, it would bring back F1.06", "the configuration was changed since (backup 3)"},
		m.Older(Now{"TG-2", "F2.00", "bb", 3}))
	assert.Equal(t, []string{"whether its configuration is the newest is not known"}, m.Older(Now{}))
	m.Holds = ""
	assert.Equal(t, []string{"whether its configuration is the newest is not known"}, m.Older(Now{"TG-1", "F1.06", "aa", 3}))
}

func TestWhichMediumStandsIn(t *testing.T) {
	now := Now{"TG-1", "F1.06", "aa", 3}
	medium := func(label, holds string, edit func(*Medium)) Medium {
		m := Medium{Label: label, Kind: Snapshot, Device: "gauge", Model: "TG-1", Version: "F1.06", Holds: holds, Written: written, Checked: written}
		if edit != nil {
			edit(&m)
		}
		return m
	}
	damaged := medium("d", "aa", func(m *Medium) { m.Problems = []string{"x"} })
	for _, c := range []struct {
		all          []Medium
		state, label string
	}{
		{nil, CoverNone, ""},
		{[]Medium{medium("o", "aa", func(m *Medium) { m.Device = "other" })}, CoverNone, ""},
		{[]Medium{damaged}, CoverNone, "d"},
		{[]Medium{damaged, medium("u", "aa", func(m *Medium) { m.Checked = time.Time{} })}, CoverDoubt, "u"},
		{[]Medium{medium("n", "", nil)}, CoverDoubt, "n"},
		{[]Medium{medium("n", "", nil), medium("o", "bb", nil)}, CoverOld, "o"},
		{[]Medium{medium("o", "bb", nil), medium("g", "aa", nil), damaged}, CoverGood, "g"},
		{[]Medium{medium("r", "aa", func(m *Medium) { m.Retired = true })}, CoverNone, ""},
		{[]Medium{medium("m", "aa", func(m *Medium) { m.Written, m.Change = time.Time{}, change.Running })}, CoverNone, ""},
	} {
		got := CoverOf("gauge", now, c.all)
		assert.Equal(t, c.state, got.State, got)
		assert.Equal(t, c.label, got.Label, got)
		assert.NotEmpty(t, got.Why)
	}
}
