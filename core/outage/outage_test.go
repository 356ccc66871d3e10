package outage

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func ExampleWatch() {
	var w Watch
	for i, answered := range []bool{true, false, false, true, true, false, true} {
		w.Note(float64(i), answered, 1)
	}
	fmt.Printf("%d interruptions, the longest %.0f s, %d of %d lost\n", w.All(), w.Longest, w.Lost, w.Asked)
	// Output: 2 interruptions, the longest 2 s, 3 of 7 lost
}

// Whatever comes, an interruption is what a plain reading of the answers says, and what is stored in the middle goes on as if it had not been.
func TestInterruptions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		answers := rapid.SliceOfN(rapid.Bool(), 1, 400).Draw(t, "answers")
		cut := rapid.IntRange(0, len(answers)).Draw(t, "cut")
		var w Watch
		longest, began, lost := 0.0, -1.0, int64(0)
		for i, ok := range answers {
			if i == cut && len(w.Gaps) < MostGaps { // another process goes on
				data, err := json.Marshal(w)
				require.NoError(t, err)
				w = Watch{}
				require.NoError(t, json.Unmarshal(data, &w))
			}
			at := float64(i)
			w.Note(at, ok, 1)
			if !ok {
				lost++
			}
			switch {
			case !ok && began < 0:
				began = at
			case began >= 0:
				longest = max(longest, at-began)
				if ok {
					began = -1
				}
			}
		}
		assert.Equal(t, longest, w.Longest)
		assert.Equal(t, lost, w.Lost)
		assert.Equal(t, int64(len(answers)), w.Asked)
		assert.LessOrEqual(t, len(w.Gaps), MostGaps)
		assert.Zero(t, w.Unwatched)
	})
}

// What nobody saw is no interruption and no proof that there was none.
func TestUnwatched(t *testing.T) {
	var w Watch
	w.Note(0, true, 1)
	w.Note(1, false, 1)
	w.Note(61, true, 1) // nobody asked for a minute
	w.Note(62, true, 1)
	assert.Equal(t, 60.0, w.Unwatched)
	assert.Equal(t, []Gap{{From: 1, To: 1}}, w.Gaps)
	late := Watch{}
	late.Note(30, true, 1)
	assert.Equal(t, 30.0, late.Unwatched, "the watch began late")
}
