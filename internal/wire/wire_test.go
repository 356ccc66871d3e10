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

// A deaf wire passes on what is said and loses what comes back; a slow one takes its time.
func TestAWireIsDeafAndSlow(t *testing.T) {
	far, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer far.Close()
	heard := make(chan byte, 8)
	go func() {
		for {
			c, err := far.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				b := make([]byte, 1)
				for {
					if _, err := c.Read(b); err != nil {
						return
					}
					heard <- b[0]
					_, _ = c.Write(b)
				}
			}()
		}
	}()
	w, err := New("127.0.0.1:0", far.Addr().String())
	require.NoError(t, err)
	defer w.Close()
	c, err := net.Dial("tcp", w.Address())
	require.NoError(t, err)
	defer c.Close()
	b := make([]byte, 1)
	w.Slow(time.Second, 50*time.Millisecond)
	began := time.Now()
	_, _ = c.Write([]byte("a"))
	_, err = io.ReadFull(c, b)
	require.NoError(t, err)
	assert.Equal(t, byte('a'), <-heard)
	assert.GreaterOrEqual(t, time.Since(began), 100*time.Millisecond)
	w.Deafen(2 * time.Second)
	_, _ = c.Write([]byte("b"))
	assert.Equal(t, byte('b'), <-heard, "it was said")
	_, err = io.ReadFull(c, b)
	assert.Error(t, err, "and the answer lost")
}
