package transfer

import (
	"context"
	"crypto/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/internal/opensshd"
)

func TestPushToOpenSSH(t *testing.T) {
	s, err := opensshd.Start(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	dir := t.TempDir()
	local, remote := filepath.Join(dir, "x.img"), filepath.Join(dir, "there.img")
	data := make([]byte, 9<<20+5)
	_, _ = rand.Read(data)
	require.NoError(t, os.WriteFile(local, data, 0o600))
	push := func() int64 {
		conn, err := s.Dial()
		require.NoError(t, err)
		defer conn.Close()
		c, err := sftp.NewClient(conn, sftp.UseConcurrentWrites(true))
		require.NoError(t, err)
		first := int64(-1)
		require.NoError(t, Push(context.Background(), c, local, remote, func(done, _ int64) {
			if first < 0 {
				first = done
			}
		}))
		got, err := os.ReadFile(remote)
		require.NoError(t, err)
		assert.Equal(t, data, got)
		return first
	}
	assert.LessOrEqual(t, push(), int64(packet), "from the beginning")
	require.NoError(t, os.Truncate(remote, 6<<20))
	assert.Greater(t, push(), int64(4<<20-packet), "only the rest and one window")
	require.NoError(t, os.Chmod(dir, 0o500))
	defer func() { _ = os.Chmod(dir, 0o700) }()

	conn, err := s.Dial()
	require.NoError(t, err)
	defer conn.Close()
	c, err := sftp.NewClient(conn)
	require.NoError(t, err)
	err = Push(context.Background(), c, local, "/no/such/folder/x.img", nil)
	assert.ErrorContains(t, err, "open /no/such/folder/x.img on the device")
}
