package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
)

// Who is expected: nobody before the change runs; a device that was handed its data is heard while the change rests; nobody once it has ended.
func TestWhoIsExpected(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	d := addDevice(t, s, "a")
	id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}")})
	require.NoError(t, err)
	require.NoError(t, s.PutCall(ctx, "S1", id, []byte("sealed")))
	in := func(state change.State) bool {
		_, err := s.Pool.Exec(ctx, `UPDATE changes SET state = $2 WHERE id = $1`, id, state)
		require.NoError(t, err)
		c, err := s.Expected(ctx, "S1")
		if errors.Is(err, ErrNotFound) {
			return false
		}
		require.NoError(t, err)
		assert.Equal(t, "a", c.Device)
		return true
	}
	for state, want := range map[change.State]bool{change.Drafted: false, change.Approved: false, change.Running: true, change.Pausing: true, change.Paused: false, change.Asking: false, change.Done: false, change.Stopped: false} {
		assert.Equal(t, want, in(state), state)
	}
	require.NoError(t, s.Called(ctx, id))
	for state, want := range map[change.State]bool{change.Drafted: false, change.Approved: false, change.Running: true, change.Paused: true, change.Asking: true, change.Done: false, change.Stopped: false, change.Failed: false} {
		assert.Equal(t, want, in(state), state)
	}
	_, err = s.Expected(ctx, "S2")
	assert.ErrorIs(t, err, ErrNotFound)
}

// Reports are bounded, and only the first word that it is done counts.
func TestReportsOfADeviceThatCalled(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	d := addDevice(t, s, "a")
	id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}")})
	require.NoError(t, err)
	require.NoError(t, s.PutCall(ctx, "S1", id, []byte("sealed")))
	for i := range mostReports + 5 {
		require.NoError(t, s.Reported(ctx, id, Report{At: time.Now(), Type: fmt.Sprint("r", i)}, false, "early"))
	}
	c, err := s.Call(ctx, id)
	require.NoError(t, err)
	assert.Len(t, c.Reports, mostReports)
	assert.Nil(t, c.CompleteAt)
	assert.Empty(t, c.HostKey, "a key counts when it is done")
	require.NoError(t, s.Reported(ctx, id, Report{Type: "bootstrap-complete"}, true, "key 1"))
	require.NoError(t, s.Reported(ctx, id, Report{Type: "bootstrap-complete"}, true, "key 2"))
	c, err = s.Call(ctx, id)
	require.NoError(t, err)
	assert.NotNil(t, c.CompleteAt)
	assert.Equal(t, "key 1", c.HostKey)
	all, err := s.Calls(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
	_, err = s.Call(ctx, id+1)
	assert.ErrorIs(t, err, ErrNotFound)
}
