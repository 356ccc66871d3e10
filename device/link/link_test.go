package link

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLinesOfSCP(t *testing.T) {
	line, err := scpLine(iotest.OneByteReader(strings.NewReader("C0600 12 name\nrest")))
	require.NoError(t, err)
	assert.Equal(t, "C0600 12 name", line)
	_, err = scpLine(strings.NewReader("C0600"))
	assert.ErrorIs(t, err, io.EOF)
	_, err = scpLine(strings.NewReader(strings.Repeat("x", 5000)))
	assert.ErrorContains(t, err, "without end")
}
