package chaos

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A wire passes everything on, breaks what is open when it is cut, and passes on again afterwards.
func TestAWireIsCut(t *testing.T) {
	far, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer far.Close()
	go func() {
		for {
			c, err := far.Accept()
			if err != nil {
				return
			}
			go func() { defer c.Close(); _, _ = io.Copy(c, c) }()
		}
	}()
	w, err := newWire("127.0.0.1:0", far.Addr().String())
	require.NoError(t, err)
	defer w.close()
	echoes := func() (net.Conn, bool) {
		c, err := net.Dial("tcp", w.address())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		_, _ = io.WriteString(c, "ahoy")
		b := make([]byte, 4)
		_, err = io.ReadFull(c, b)
		return c, err == nil && string(b) == "ahoy"
	}
	open, ok := echoes()
	require.True(t, ok)
	w.cut(300 * time.Millisecond)
	_, err = io.ReadFull(open, make([]byte, 1))
	assert.Error(t, err, "what was open is broken")
	_, ok = echoes()
	assert.False(t, ok, "nothing goes through meanwhile")
	require.Eventually(t, func() bool { _, ok := echoes(); return ok }, 5*time.Second, 50*time.Millisecond)
}

func TestWhatIsWrongIsNamed(t *testing.T) {
	assert.Empty(t, (&Report{Changes: 3, Done: 3, Resumed: []time.Duration{time.Second}}).Wrong())
	r := &Report{Failed: []string{"change 1"}, DoubleInstalls: []string{"fw2"}, FalseDone: []string{"change 3"}, LostBackups: []string{"change 4"}, Late: []string{"change 5"}}
	assert.Equal(t, []string{"backup lost: change 4", "called done, and is not: change 3", "ended wrongly: change 1", "installed twice: fw2", "went on too late: change 5"}, r.Wrong())
}

// Everything that must not be is told, in an order that does not change; a good run tells nothing.
func TestWhatIsWrongIsTold(t *testing.T) {
	good := Report{Kills: 3, Changes: 9, Done: 9, Resumed: []time.Duration{time.Second}, Longest: time.Second}
	assert.Empty(t, good.Wrong())
	bad := Report{Failed: []string{"change 7"}, DoubleInstalls: []string{"fw1"}, FalseDone: []string{"change 2"}, LostBackups: []string{"change 3", "change 4"}, Late: []string{"device 1"}}
	assert.Equal(t, []string{"backup lost: change 3", "backup lost: change 4", "called done, and is not: change 2", "ended wrongly: change 7", "installed twice: fw1", "went on too late: device 1"}, bad.Wrong())
}

// How long the database was away within a stretch of time.
func TestOverlap(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(1000+s), 0) }
	spans := []span{{at(0), at(10)}, {at(20), at(25)}}
	for _, c := range []struct{ from, to, want int }{{0, 30, 15}, {5, 22, 7}, {11, 19, 0}, {-9, 0, 0}, {22, 24, 2}, {-9, 5, 5}} {
		assert.Equal(t, time.Duration(c.want)*time.Second, overlap(spans, at(c.from), at(c.to)), "%v", c)
	}
}
