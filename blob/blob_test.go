package blob

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const tideSum = "9a4f5ac4ab7a5ae7ea86dba6dd1ee1b5e5fd9bd8b1ff5aa1d4fbc2d0eb2b7b1b"

func TestWhatComesOutIsWhatWentIn(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	sum, size, err := s.Put(strings.NewReader("high tide"), 0)
	require.NoError(t, err)
	assert.EqualValues(t, 9, size)
	assert.True(t, s.Has(sum))
	require.NoError(t, s.Verify(sum))
	data, err := s.Read(sum)
	require.NoError(t, err)
	assert.Equal(t, "high tide", string(data))
	file, err := s.Path(sum)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, sum[:2], sum), file)
	require.NoError(t, os.WriteFile(file, []byte("high tidd"), 0o600))
	_, err = s.Read(sum)
	assert.Error(t, err, "one damaged byte is found")
	assert.Error(t, s.Verify(sum))
}

func TestNothingHalfIsKept(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	_, _, err = s.Put(iotest.ErrReader(errors.New("cable out")), 0)
	assert.ErrorContains(t, err, "cable out")
	_, _, err = s.Put(strings.NewReader("0123456789"), 9)
	assert.ErrorContains(t, err, "larger than the 9 bytes")
	_, _, err = s.PutIf(strings.NewReader("0123456789"), 0, 4, func(sum string, size int64, first []byte) error {
		assert.Len(t, sum, 64)
		assert.EqualValues(t, 10, size)
		assert.Equal(t, "0123", string(first))
		return errors.New("not wanted")
	})
	assert.ErrorContains(t, err, "not wanted")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = s.Read(tideSum)
	assert.ErrorIs(t, err, ErrNotThere)
	_, err = s.Path("../../etc/passwd")
	assert.ErrorContains(t, err, "not a SHA-256")
}

func TestAdoptTakesOverAWholeFile(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(filepath.Join(dir, "store"))
	require.NoError(t, err)
	part := filepath.Join(dir, "part")
	require.NoError(t, os.WriteFile(part, []byte("high tide"), 0o600))
	var head string
	no := errors.New("not this one")
	_, _, err = s.Adopt(part, 4, func(_ string, size int64, first []byte) error {
		assert.EqualValues(t, 9, size)
		head = string(first)
		return no
	})
	require.ErrorIs(t, err, no)
	assert.Equal(t, "high", head)
	assert.FileExists(t, part, "what is refused stays where it was")
	sum, size, err := s.Adopt(part, 4, func(string, int64, []byte) error { return nil })
	require.NoError(t, err)
	assert.EqualValues(t, 9, size)
	assert.NoFileExists(t, part)
	data, err := s.Read(sum)
	require.NoError(t, err)
	assert.Equal(t, "high tide", string(data))

	_, _, err = s.Adopt(part, 4, nil)
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, s.Delete(sum))
	assert.False(t, s.Has(sum))
	assert.ErrorIs(t, s.Delete(sum), ErrNotThere)
	assert.Error(t, s.Delete("../../etc/passwd"))
}
