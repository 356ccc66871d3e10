package terminal

import (
	"errors"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pieces counts the writes that reach a line.
type pieces struct {
	net.Conn
	n int
}

func (p *pieces) Write(b []byte) (int, error) { p.n++; return p.Conn.Write(b) }

func TestPiecesAreJoined(t *testing.T) {
	near, far := net.Pipe()
	under := &pieces{Conn: near}
	term := New(under)
	heard := make(chan string, 10)
	go func() {
		b := make([]byte, 100)
		for {
			n, err := far.Read(b)
			if err != nil {
				close(heard)
				return
			}
			heard <- string(b[:n])
		}
	}()
	for _, c := range "echo" {
		_, err := term.Write([]byte(string(c)))
		require.NoError(t, err)
	}
	assert.Equal(t, "echo", <-heard, "it comes by itself, in one piece")

	_, _ = io.WriteString(term, "name: ")
	go func() { _, _ = far.Write([]byte("me")) }()
	b := make([]byte, 10)
	n, err := term.Read(b)
	require.NoError(t, err)
	assert.Equal(t, "me", string(b[:n]))
	assert.Equal(t, "name: ", <-heard, "a question comes before the answer is waited for")

	_, _ = io.WriteString(term, "bye")
	require.NoError(t, term.Close())
	assert.Equal(t, "bye", <-heard, "nothing is lost at the end")
	assert.Equal(t, 3, under.n)
}

func TestALineThatIsCut(t *testing.T) {
	near, far := net.Pipe()
	term := New(near)
	_ = far.Close()
	_, _ = io.WriteString(term, "into the void")
	require.Eventually(t, func() bool { _, err := io.WriteString(term, "x"); return errors.Is(err, io.ErrClosedPipe) }, 20*time.Second, 2*time.Millisecond, "who goes on writing hears of it")
}
