package postgres

import (
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestClusterIsMadeOnceAndKeepsItsData(t *testing.T) {
	private := t.TempDir() // as root, the server's user cannot get in here
	require.NoError(t, os.Chmod(private, 0o700))
	dir := filepath.Join(private, "pg")
	if who, err := unprivileged(); err == nil && who != nil {
		t.Cleanup(func() {
			if real, err := filepath.EvalSymlinks(dir); err == nil && real != dir {
				_ = os.RemoveAll(filepath.Dir(real))
			}
		})
	}
	c, err := Start(t.Context(), dir, 0, io.Discard, "fsync=off")
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), c.URL)
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "CREATE TABLE kept AS SELECT 7 AS n")
	require.NoError(t, err)
	var fsync, listen string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT current_setting('fsync'), current_setting('listen_addresses')").Scan(&fsync, &listen))
	assert.Equal(t, "off", fsync)
	assert.Equal(t, "127.0.0.1", listen)
	c.Stop()
	_, err = pgx.Connect(t.Context(), c.URL)
	require.Error(t, err, "it has ended")

	real, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	st, err := os.Stat(real + ".password")
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	c, err = Start(t.Context(), dir, 0, io.Discard)
	require.NoError(t, err)
	defer c.Stop()
	conn, err = pgx.Connect(t.Context(), c.URL)
	require.NoError(t, err)
	var n int
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT n FROM kept").Scan(&n))
	assert.Equal(t, 7, n)
	require.NoError(t, conn.Close(t.Context()))
	url, err := c.NewDatabase(t.Context(), "second")
	require.NoError(t, err)
	conn, err = pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
}
