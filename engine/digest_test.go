package engine

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha512"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/device"
)

// A device that computes another sum than ours is compared with that sum of our file.
func TestDigestsOfOurFiles(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	data := []byte("an image")
	sum, _, err := r.Blobs.Put(bytes.NewReader(data), 0)
	require.NoError(t, err)
	m, s1, s5 := md5.Sum(data), sha1.Sum(data), sha512.Sum512(data)
	for algorithm, want := range map[string]string{"md5": hex.EncodeToString(m[:]), "sha1": hex.EncodeToString(s1[:]), "sha512": hex.EncodeToString(s5[:]), "sha256": sum} {
		got, err := r.digest(&change.File{SHA256: sum}, algorithm)
		require.NoError(t, err)
		assert.Equal(t, device.Digest{Algorithm: algorithm, Sum: want}, got)
	}
	_, err = r.digest(&change.File{SHA256: hex.EncodeToString(s5[:32])}, "md5")
	assert.Error(t, err, "what is not there has no sum")
}
