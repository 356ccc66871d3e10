package chaos

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatIsWrongIsNamed(t *testing.T) {
	assert.Empty(t, (&Report{Changes: 3, Done: 3, Resumed: []time.Duration{time.Second}}).Wrong())
	r := &Report{Failed: []string{"change 1"}, DoubleInstalls: []string{"fw2"}, FalseDone: []string{"change 3"}, LostBackups: []string{"change 4"}, Late: []string{"change 5"}}
	assert.Equal(t, []string{"backup lost: change 4", "called done, and is not: change 3", "done twice: fw2", "ended wrongly: change 1", "went on too late: change 5"}, r.Wrong())
}

// Everything that must not be is told, in an order that does not change; a good run tells nothing.
func TestWhatIsWrongIsTold(t *testing.T) {
	good := Report{Kills: 3, Changes: 9, Done: 9, Resumed: []time.Duration{time.Second}, Longest: time.Second}
	assert.Empty(t, good.Wrong())
	bad := Report{Failed: []string{"change 7"}, DoubleInstalls: []string{"fw1"}, FalseDone: []string{"change 2"}, LostBackups: []string{"change 3", "change 4"}, Late: []string{"device 1"}}
	assert.Equal(t, []string{"backup lost: change 3", "backup lost: change 4", "called done, and is not: change 2", "done twice: fw1", "ended wrongly: change 7", "went on too late: device 1"}, bad.Wrong())
}

// How long the database was away within a stretch of time.
func TestOverlap(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(1000+s), 0) }
	spans := []span{{at(0), at(10)}, {at(20), at(25)}}
	for _, c := range []struct{ from, to, want int }{{0, 30, 15}, {5, 22, 7}, {11, 19, 0}, {-9, 0, 0}, {22, 24, 2}, {-9, 5, 5}} {
		assert.Equal(t, time.Duration(c.want)*time.Second, overlap(spans, at(c.from), at(c.to)), "%v", c)
	}
}
