package store

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is asked at every sign-in is found by indexes, however many devices there are.
func TestCredentialsAreFoundByIndexes(t *testing.T) {
	s, ctx := open(t), t.Context()
	_, err := s.Pool.Exec(ctx, `INSERT INTO devices (name, site, address, dialect, groups) SELECT 'd' || i, '', '', '', ARRAY['g' || i % 10] FROM generate_series(1, 3000) i;
		INSERT INTO credentials (device_id, group_name, kind, username, secret, versions, created_by) SELECT id, '', 'password', 'u', '', '', 'me' FROM devices;
		INSERT INTO credentials (device_id, group_name, kind, username, secret, versions, created_by) SELECT NULL, 'g' || i, 'password', 'u', '', '', 'me' FROM generate_series(1, 300) i;
		ANALYZE devices; ANALYZE credentials`)
	require.NoError(t, err)
	rows, err := s.Pool.Query(ctx, `EXPLAIN SELECT `+credentialColumns+` FROM `+credentialsOf, 5)
	require.NoError(t, err)
	var plan []string
	for rows.Next() {
		var line string
		require.NoError(t, rows.Scan(&line))
		plan = append(plan, line)
	}
	require.NoError(t, rows.Err())
	text := strings.Join(plan, "\n")
	assert.NotContains(t, text, "Seq Scan")
	cs, err := s.Credentials(ctx, 5)
	require.NoError(t, err)
	assert.Len(t, cs, 2)
}
