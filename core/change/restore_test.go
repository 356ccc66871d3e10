package change

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
)

func kindsOf(steps []Step) (out []Kind) {
	for _, s := range steps {
		out = append(out, s.Kind)
	}
	return out
}

// A restore backs up what is there before it touches anything and what runs afterwards, puts every part, and saves and
// restarts only where a part needs it.
func TestStepsOfARestore(t *testing.T) {
	before, after := []Kind{Readings, CheckRestore, Backup}, []Kind{CompareParts, Backup, Verify}
	for _, c := range []struct {
		parts []Restored
		want  []Kind
	}{
		{[]Restored{{Name: "cables", Title: "cables.map"}}, []Kind{PutPart}},
		{[]Restored{{Name: "running", Title: "running.cfg", Save: true}, {Name: "cables", Title: "cables.map"}}, []Kind{PutPart, PutPart, Save}},
		{[]Restored{{Name: "system", Title: "system.box", Restart: true}}, []Kind{PutPart, Restart, Link, Login, Confirm, Services}},
		{[]Restored{{Name: "running", Title: "running.cfg", Save: true}, {Name: "system", Title: "system.box", Restart: true}}, []Kind{PutPart, PutPart, Save, Restart, Link, Login, Confirm, Services}},
	} {
		steps, err := DraftRestore(nil, c.parts, false, Pace{Factor: 1})
		require.NoError(t, err)
		assert.Equal(t, append(append(append([]Kind{}, before...), c.want...), after...), kindsOf(steps))
		put := 0
		for i, s := range steps {
			assert.Equal(t, i+1, s.Number)
			assert.NotEmpty(t, s.Title)
			assert.Positive(t, s.Expect.Limit)
			assert.Negative(t, s.Hop, "it belongs to no hop")
			between := s.Kind == Restart || s.Kind == Link || s.Kind == Login || s.Kind == Confirm
			assert.Equal(t, i > 0 && !between, s.SafePoint, "%s: no rest from the restart until the version is confirmed", s.Kind)
			if s.Kind == PutPart {
				assert.Equal(t, c.parts[put].Name, Of[PartParams](&s).Part)
				assert.Equal(t, "Put back: "+c.parts[put].Title, s.Title)
				put++
			}
		}
		backups := map[int]int{}
		for _, s := range steps {
			if s.Kind == Backup {
				backups[s.Hop]++
			}
		}
		assert.Equal(t, map[int]int{-1: 1, After: 1}, backups, "each can be told from the other")
	}
	_, err := DraftRestore(nil, nil, true, Pace{Factor: 1})
	assert.ErrorContains(t, err, "nothing to put back")
	f := &catalog.Family{Durations: map[string]catalog.Span{"backup": {Low: 1, High: 2, Limit: 77}}}
	steps, err := DraftRestore(f, []Restored{{Name: "a", Title: "a"}, {Name: "b", Title: "b.cfg", Configuration: true}}, true, Pace{Factor: 1})
	require.NoError(t, err)
	assert.Equal(t, []Kind{PutPart, Validate, PutPart}, kindsOf(steps)[3:6], "a configuration is read by the device before it is put, other parts are not")
	assert.Equal(t, "b", Of[PartParams](&steps[4]).Part)
	assert.EqualValues(t, 77, steps[2].Expect.Limit, "the family's own times")
}
