package firmware

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
)

func TestMakeAndRead(t *testing.T) {
	h := Header{Maker: "Tarnholm", Models: []string{"A", "B"}, Version: "1.2", Payload: 5001}
	var one, two bytes.Buffer
	require.NoError(t, Make(&one, &h))
	require.NoError(t, Make(&two, &h))
	assert.Equal(t, one.Bytes(), two.Bytes(), "the same on every machine")
	got, err := Read(bytes.NewReader(one.Bytes()))
	require.NoError(t, err)
	assert.Equal(t, Header{Maker: "TARNHOLM", Models: []string{"A", "B"}, Version: "1.2", Payload: 5001, Sum: h.Sum}, got)

	damaged := bytes.Clone(one.Bytes())
	damaged[HeaderSize+100] ^= 1
	for text, data := range map[string][]byte{
		"too short":                 one.Bytes()[:100],
		"not an image":              bytes.Repeat([]byte("x"), 600),
		"payload has 5000 of 5001":  one.Bytes()[:one.Len()-1],
		"does not match its sum":    damaged,
		"payload has 5002 of 5001 ": append(bytes.Clone(one.Bytes()), 0),
	} {
		_, err := Read(bytes.NewReader(data))
		assert.ErrorContains(t, err, strings.TrimSpace(text))
	}
	assert.ErrorContains(t, Make(&one, &Header{Version: strings.Repeat("v", 600)}), "does not fit")
}

func TestImagesOfTheDemoHaveTheHashesOfTheCatalogue(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	f := c.Family("th")
	c.Families = []*catalog.Family{f}
	f.Releases = f.Releases[:2] // the end-to-end tests make all of them
	dir := t.TempDir()
	files, err := MakeAll(c, dir)
	require.NoError(t, err)
	require.Len(t, files, 4)
	st, err := os.Stat(files[0])
	require.NoError(t, err)
	require.NoError(t, os.Remove(files[1]))
	_, err = MakeAll(c, dir)
	require.NoError(t, err)
	again, err := os.Stat(files[0])
	require.NoError(t, err)
	assert.Equal(t, st.ModTime(), again.ModTime(), "what is there is left alone")

	f.Releases[0].Images[0].SHA256 = strings.Repeat("0", 64)
	require.NoError(t, os.Remove(files[0]))
	_, err = MakeAll(c, dir)
	assert.ErrorContains(t, err, "came out as")
	_, err = os.Stat(filepath.Join(dir, f.Releases[0].Images[0].File))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestTheCatalogueHasTheMakersKeys(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	for _, f := range c.Families {
		public := signingKey(f.Maker).Public().(ed25519.PublicKey)
		assert.Equal(t, base64.StdEncoding.EncodeToString(public), f.SigningKey, f.Maker)
		sum := sha256.Sum256([]byte("x"))
		assert.True(t, ed25519.Verify(public, sum[:], Sign(f.Maker, sum)))
	}
}
