package vault

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSealAndOpen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "key")
	v, err := Open(file)
	require.NoError(t, err)
	st, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())

	sealed, err := v.Seal("device a password", []byte("tide\nline"))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "tide")
	again, err := Open(file)
	require.NoError(t, err)
	data, err := again.Open("device a password", sealed)
	require.NoError(t, err)
	assert.Equal(t, "tide\nline", string(data))

	_, err = again.Open("device b password", sealed)
	assert.EqualError(t, err, "device b password: what is stored here belongs elsewhere")
	for i := range sealed {
		bad := append([]byte(nil), sealed...)
		bad[i] ^= 1
		_, err := again.Open("device a password", bad)
		require.Error(t, err, "byte %d", i)
		assert.NotContains(t, err.Error(), "tide")
	}
	other, err := Open(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	assert.Equal(t, v.Digest([]byte("a")), again.Digest([]byte("a")))
	assert.NotEqual(t, v.Digest([]byte("a")), v.Digest([]byte("b")))
	assert.NotEqual(t, v.Digest([]byte("a")), other.Digest([]byte("a")))
	_, err = other.Open("device a password", sealed)
	assert.ErrorContains(t, err, "another key")
}

func TestKeyFileMustBePrivateAndSound(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	_, err := Open(file)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(file, 0o644))
	_, err = Open(file)
	assert.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.WriteFile(file, []byte("AGE-SECRET-KEY-1BAD"), 0o600))
	require.NoError(t, os.Chmod(file, 0o600))
	_, err = Open(file)
	assert.ErrorContains(t, err, "damaged")
	assert.NotContains(t, err.Error(), "1BAD")
}
