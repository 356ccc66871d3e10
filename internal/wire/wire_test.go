package wire

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
	w, err := New("127.0.0.1:0", far.Addr().String())
	require.NoError(t, err)
	echoes := func() (net.Conn, bool) {
		c, err := net.Dial("tcp", w.Address())
		if err != nil {
			return nil, false
		}
		t.Cleanup(func() { _ = c.Close() })
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		_, _ = io.WriteString(c, "ahoy")
		b := make([]byte, 4)
		_, err = io.ReadFull(c, b)
		return c, err == nil && string(b) == "ahoy"
	}
	open, ok := echoes()
	require.True(t, ok)
	began := time.Now()
	w.Cut(200 * time.Millisecond)
	w.Cut(2 * time.Second) // the longer one counts
	_, err = io.ReadFull(open, make([]byte, 1))
	assert.Error(t, err, "what was open is broken")
	_, err = net.Dial("tcp", w.Address())
	assert.Error(t, err, "nothing answers meanwhile")
	require.Eventually(t, func() bool { _, ok := echoes(); return ok }, 20*time.Second, 20*time.Millisecond)
	assert.GreaterOrEqual(t, time.Since(began), 2*time.Second)
	w.Close()
	time.Sleep(100 * time.Millisecond)
	_, ok = echoes()
	assert.False(t, ok, "closed for good")
}
