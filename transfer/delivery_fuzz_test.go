package transfer

import (
	"bytes"
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func newDelivery(limit int64) *delivery {
	return &delivery{r: &Receiver{}, e: &expectation{limit: limit, got: make(chan []byte, 1)}}
}

// What a device sends is not trusted: whatever offsets its pieces have, no receiver ends the service, takes more than its limit, or keeps a
// file with a gap in it.
func FuzzDeliveries(f *testing.F) {
	f.Add([]byte{0, 0, 0, 0, 0, 0, 0, 0, 4, 1, 2, 3, 4})
	f.Add([]byte{255, 255, 255, 255, 255, 255, 255, 255, 1, 9})
	f.Add([]byte{127, 255, 255, 255, 255, 255, 255, 255, 3, 9, 9, 9})
	f.Add([]byte{0, 0, 0, 0, 0, 0, 0, 2, 1, 7, 0, 0, 0, 0, 0, 0, 0, 0, 2, 5, 6})
	f.Fuzz(func(t *testing.T, script []byte) {
		const limit = 64
		sftp, plain, line := &sftpFile{d: newDelivery(limit)}, newDelivery(limit), newDelivery(limit)
		ftp, tftp := &ftpFile{d: line}, writerAt{newDelivery(limit)}
		for len(script) >= 9 {
			off := int64(binary.BigEndian.Uint64(script))
			n := min(int(script[8]), len(script)-9)
			piece := script[9 : 9+n]
			script = script[9+n:]
			_, _ = sftp.WriteAt(piece, off)
			before := bytes.Clone(plain.data)
			if _, err := plain.WriteAt(piece, off); err != nil {
				assert.Equal(t, before, plain.data, "what was refused changes nothing")
			} else {
				assert.Equal(t, piece, plain.data[off:off+int64(n)])
			}
			_, _ = ftp.Write(piece)
			_, _ = tftp.Write(piece)
		}
		for _, d := range []*delivery{sftp.d, plain, line, tftp.d} {
			assert.LessOrEqual(t, len(d.data), limit)
		}
		assert.LessOrEqual(t, sftp.held, int64(limit)+255)
	})
}

// A write before the begin of the file ends the delivery, not the service, and pieces may come again.
func TestPiecesAnywhere(t *testing.T) {
	d := newDelivery(10)
	_, err := d.WriteAt([]byte("x"), -1)
	assert.ErrorContains(t, err, "before the begin")
	_, err = d.WriteAt([]byte("abcdef"), 0)
	require.NoError(t, err)
	_, err = d.WriteAt([]byte("B"), 1)
	require.NoError(t, err)
	assert.Equal(t, "aBcdef", string(d.data), "what came after it stays")
	_, err = d.WriteAt([]byte("x"), 7)
	assert.ErrorContains(t, err, "gap")
	_, err = d.WriteAt([]byte("12345"), 6)
	assert.ErrorContains(t, err, "larger")
	f := &sftpFile{d: newDelivery(10)}
	_, err = f.WriteAt([]byte("x"), -9)
	assert.Error(t, err)
	assert.True(t, f.bad)
}

// Whether a device came for what it was to fetch tells a refusal from a download that broke.
func TestWhetherSomebodyCame(t *testing.T) {
	s := &Server{Base: "http://x"}
	url, withdraw := s.Offer("nowhere", time.Minute)
	assert.False(t, s.Came(url))
	s.mu.Lock()
	s.came = map[string]bool{url[len("http://x/get/"):]: true}
	s.mu.Unlock()
	assert.True(t, s.Came(url))
	withdraw()
	assert.False(t, s.Came(url))
	r := &Receiver{give: s, offers: map[string]given{"t": {data: []byte("a")}}}
	assert.False(t, r.Came("tftp://h/t"))
	h, err := r.offered("t")
	require.NoError(t, err)
	require.NoError(t, h.Close())
	assert.True(t, r.Came("tftp://h/t"))
	assert.True(t, r.Came("ftp://fetch:t@h/file"))
	assert.False(t, r.Came("ftp://fetch:other@h/file"))
}
