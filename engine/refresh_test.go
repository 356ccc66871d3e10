package engine

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/device"
	"verimorph/store"
)

// refreshed waits until the newest refresh of the box has ended.
func (r *rig) refreshed() (last store.Refresh) {
	require.Eventually(r.t, func() bool {
		var err error
		last, err = r.Store.LastRefresh(context.Background(), "box")
		return err == nil && last.EndedAt != nil
	}, time.Minute, 20*time.Millisecond)
	return last
}

// Whoever asks for a look at a device is answered at once; the look is made by whoever works, once however often it is asked for, and goes on when
// its worker is lost.
func TestRefreshIsAJob(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	me := access.Person("me", "")
	_, err := r.Store.LastRefresh(t.Context(), "box")
	require.ErrorIs(t, err, store.ErrNotFound)
	first, err := r.AskRefresh(t.Context(), r.d, me)
	require.NoError(t, err)
	assert.Equal(t, store.RefreshWaiting, first.State)
	assert.Nil(t, first.Usual, "there was none before")
	second, err := r.AskRefresh(t.Context(), r.d, access.Person("mate", ""))
	require.NoError(t, err)
	assert.Equal(t, []any{first.ID, "me"}, []any{second.ID, second.AskedBy})
	lines, err := r.Store.AuditLines(t.Context(), "box", 0, 10)
	require.NoError(t, err)
	asked := 0
	for _, l := range lines {
		if l.Event == "refresh asked for" {
			asked++
		}
	}
	assert.Equal(t, 1, asked)

	r.start()
	done := r.refreshed()
	assert.Equal(t, []any{store.RefreshDone, 1.0, ""}, []any{done.State, done.Fraction, done.Problem})
	d, err := r.Store.Device(t.Context(), "box")
	require.NoError(t, err)
	assert.Contains(t, string(d.Portrait), "5.0.7")

	// Its worker is gone: another one takes it up, not before nothing was heard of the first for long.
	insert := func(touched string) {
		_, err := r.Store.Pool.Exec(t.Context(), `INSERT INTO refreshes (device_id, asked_by, state, started_at, touched_at) VALUES ($1, 'me', 'running', now(), now() - $2::interval)`, r.d.ID, touched)
		require.NoError(t, err)
	}
	insert("1 minute")
	lost := r.refreshed()
	assert.Equal(t, store.RefreshDone, lost.State)
	assert.NotNil(t, lost.Usual)
	insert("0 s")
	ids, err := r.Store.LostRefreshes(t.Context(), refreshPatience)
	require.NoError(t, err)
	assert.Empty(t, ids, "its worker was heard of")
	last, err := r.Store.LastRefresh(t.Context(), "box")
	require.NoError(t, err)
	_, taken, err := r.Store.TakeRefresh(t.Context(), last.ID, refreshPatience)
	require.NoError(t, err)
	assert.False(t, taken, "its worker is there")
	_, err = r.Store.Pool.Exec(t.Context(), `UPDATE refreshes SET touched_at = now() - interval '1 minute' WHERE id = $1`, last.ID)
	require.NoError(t, err)
	assert.Equal(t, store.RefreshDone, r.refreshed().State)
	ids, err = r.Store.LostRefreshes(t.Context(), refreshPatience)
	require.NoError(t, err)
	assert.Empty(t, ids, "it has ended")

	// What the device does wrong is told with the refresh and with the device.
	r.box.Stop()
	_, err = r.AskRefresh(t.Context(), r.d, me)
	require.NoError(t, err)
	failed := r.refreshed()
	assert.Equal(t, []any{store.RefreshFailed, true}, []any{failed.State, failed.ByDevice})
	assert.Contains(t, failed.Problem, "nothing answers")
	d, err = r.Store.Device(t.Context(), "box")
	require.NoError(t, err)
	require.NotNil(t, d.LookError)
	assert.Contains(t, *d.LookError, "nothing answers")
}

// A driver tells what it asks; a refresh shows it as a share of the whole.
func TestProgressOfARefresh(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	var told []string
	p := &refreshProgress{}
	ctx := device.Telling(t.Context(), func(doing string, done, of int) {
		before := p.fraction
		p.note(doing, done, of)
		told = append(told, doing)
		assert.GreaterOrEqual(t, p.fraction, before)
		assert.Less(t, p.fraction, 1.0)
	})
	_, err := r.Refresh(ctx, r.d, access.Person("me", ""))
	require.NoError(t, err)
	assert.Contains(t, told, "reading: tell slots")
	assert.Greater(t, len(told), 3)
}
