package vault

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t *testing.T, file string, ring Ring) *Vault {
	v, err := Open(t.Context(), file, ring)
	require.NoError(t, err)
	return v
}

func TestSealAndOpen(t *testing.T) {
	file, ring := filepath.Join(t.TempDir(), "deep", "key"), &Memory{}
	v := open(t, file, ring)
	st, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())

	sealed, err := v.Seal("credential 7", []byte("tide\nline"))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "tide")
	again := open(t, file, ring)
	data, err := again.Open("credential 7", sealed)
	require.NoError(t, err)
	assert.Equal(t, "tide\nline", string(data))

	_, err = again.Open("credential 8", sealed)
	assert.ErrorContains(t, err, "credential 8: is damaged, or belongs elsewhere")
	for i := range sealed {
		bad := bytes.Clone(sealed)
		bad[i] ^= 1
		_, err := again.Open("credential 7", bad)
		require.Error(t, err, "byte %d", i)
		assert.NotContains(t, err.Error(), "tide")
	}
	for n := range sealed {
		_, err := again.Open("credential 7", sealed[:n])
		require.Error(t, err)
	}
	other := open(t, filepath.Join(t.TempDir(), "key"), &Memory{})
	assert.Equal(t, v.Digest([]byte("a")), again.Digest([]byte("a")))
	assert.NotEqual(t, v.Digest([]byte("a")), v.Digest([]byte("b")))
	assert.NotEqual(t, v.Digest([]byte("a")), other.Digest([]byte("a")))
	_, err = other.Open("credential 7", sealed)
	assert.Error(t, err)
}

// A key that is missing, open to others, damaged or another one is refused with what to do, and nothing is written.
func TestKeyFileMustBeTheRightOne(t *testing.T) {
	dir, ring := t.TempDir(), &Memory{}
	file := filepath.Join(dir, "key")
	v := open(t, file, ring)
	st, err := v.State(t.Context())
	require.NoError(t, err)
	good, err := os.ReadFile(file)
	require.NoError(t, err)

	require.NoError(t, os.Chmod(file, 0o644))
	_, err = Open(t.Context(), file, ring)
	assert.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.WriteFile(file, []byte("AGE-SECRET-KEY-1BAD"), 0o600))
	require.NoError(t, os.Chmod(file, 0o600))
	_, err = Open(t.Context(), file, ring)
	assert.ErrorContains(t, err, "damaged")
	assert.NotContains(t, err.Error(), "1BAD")
	require.NoError(t, os.WriteFile(file, []byte("# nothing\n"), 0o600))
	_, err = Open(t.Context(), file, ring)
	assert.ErrorContains(t, err, "holds no key")

	require.NoError(t, os.Remove(file))
	_, err = Open(t.Context(), file, ring)
	assert.ErrorContains(t, err, "is missing, but the records are encrypted with the key "+st.Recipient)
	assert.NoFileExists(t, file, "no new key is made in the place of one that is needed")

	strange, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strange.String()), 0o600))
	_, err = Open(t.Context(), file, ring)
	assert.ErrorContains(t, err, "holds the key "+strange.Recipient().String()+", but the records are encrypted with "+st.Recipient)

	require.NoError(t, os.WriteFile(file, good, 0o600))
	open(t, file, ring)
}

func TestDataKeyRotates(t *testing.T) {
	file, ring := filepath.Join(t.TempDir(), "key"), &Memory{}
	v, second := open(t, file, ring), open(t, file, ring)
	old, err := v.Seal("a", []byte("x"))
	require.NoError(t, err)
	assert.False(t, v.Stale(old))
	digest := v.Digest([]byte("d"))
	require.NoError(t, v.RotateDataKey(t.Context()))
	assert.True(t, v.Stale(old))
	fresh, err := v.Seal("a", []byte("y"))
	require.NoError(t, err)
	assert.False(t, v.Stale(fresh))
	for _, s := range [][]byte{old, fresh} { // also in a process that has not heard of the new one
		for _, v := range []*Vault{v, second, open(t, file, ring)} {
			_, err := v.Open("a", s)
			require.NoError(t, err)
		}
	}
	assert.Equal(t, digest, v.Digest([]byte("d")))
}

func TestInstallationKeyRotates(t *testing.T) {
	file, ring := filepath.Join(t.TempDir(), "key"), &Memory{}
	offline, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	v, err := Open(t.Context(), file, ring, offline.Recipient())
	require.NoError(t, err)
	second := open(t, file, ring)
	sealed, err := v.Seal("a", []byte("x"))
	require.NoError(t, err)
	before, err := v.State(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, before.Offline)
	first, err := os.ReadFile(file)
	require.NoError(t, err)

	require.NoError(t, v.RotateKey(t.Context()))
	now, err := v.State(t.Context())
	require.NoError(t, err)
	assert.NotEqual(t, before.Recipient, now.Recipient)
	assert.Equal(t, []string{before.Recipient}, now.Older, "backups still need it")
	ids, err := second.Identities()
	require.NoError(t, err)
	assert.Len(t, ids, 2, "another process reads the file anew")
	rs, err := v.Recipients()
	require.NoError(t, err)
	assert.Len(t, rs, 2)
	require.NoError(t, v.DropOlder(t.Context()))
	require.NoError(t, v.DropOlder(t.Context()))
	now, err = v.State(t.Context())
	require.NoError(t, err)
	assert.Empty(t, now.Older)
	for _, v := range []*Vault{v, open(t, file, ring)} {
		data, err := v.Open("a", sealed)
		require.NoError(t, err)
		assert.Equal(t, "x", string(data))
	}
	// The old key alone opens nothing any more.
	require.NoError(t, os.WriteFile(file, first, 0o600))
	_, err = Open(t.Context(), file, ring)
	assert.ErrorContains(t, err, "Put the right key file there")
}

// brokenRing fails when data keys are to be wrapped anew.
type brokenRing struct{ *Memory }

func (brokenRing) Rewrap(context.Context, func(DataKey) (DataKey, error)) error {
	return errors.New("no records today")
}

// Cut short between the file and the records, everything still opens, and the rotation is finished later.
func TestRotationThatIsCutShort(t *testing.T) {
	file, ring := filepath.Join(t.TempDir(), "key"), &Memory{}
	v := open(t, file, brokenRing{ring})
	sealed, err := v.Seal("a", []byte("x"))
	require.NoError(t, err)
	require.Error(t, v.RotateKey(t.Context()))
	again := open(t, file, ring)
	_, err = again.Open("a", sealed)
	require.NoError(t, err)
	assert.ErrorContains(t, again.DropOlder(t.Context()), "still needs the older key")
	require.NoError(t, again.FinishRotation(t.Context()))
	require.NoError(t, again.DropOlder(t.Context()))
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(data), "AGE-SECRET-KEY"))
	_, err = open(t, file, ring).Open("a", sealed)
	require.NoError(t, err)
}

// What the first versions sealed still opens.
func TestWhatTheFirstVersionsSealed(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	v := open(t, file, &Memory{})
	var b bytes.Buffer
	w, err := age.Encrypt(&b, v.identities[0].Recipient())
	require.NoError(t, err)
	_, err = w.Write([]byte("device a password\nword"))
	require.NoError(t, errors.Join(err, w.Close()))
	data, err := v.Open("device a password", b.Bytes())
	require.NoError(t, err)
	assert.Equal(t, "word", string(data))
	assert.True(t, v.Stale(b.Bytes()))
	_, err = v.Open("device b password", b.Bytes())
	assert.ErrorContains(t, err, "belongs elsewhere")
}
