package store

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/spare"
)

// end has a change end in a state, as the engine does.
func end(t *testing.T, s *Store, id int64, state change.State) {
	_, err := s.Pool.Exec(t.Context(), `UPDATE changes SET state = $2, ended_at = now() WHERE id = $1`, id, state)
	require.NoError(t, err)
}

// A unit goes from the stock to its site; the one that it replaces comes back, is wiped, and is in stock. Where each stands follows from its changes.
func TestUnitsInTheRecords(t *testing.T) {
	t.Parallel()
	s := open(t)
	ctx := t.Context()
	bench, site := addDevice(t, s, "bench"), addDevice(t, s, "site")
	state := func(serial string) spare.State {
		x, err := s.Spare(ctx, serial)
		require.NoError(t, err)
		u := x.Unit()
		return u.State()
	}
	listed := func(all bool) (out []string) {
		xs, err := s.Spares(ctx, all)
		require.NoError(t, err)
		for _, x := range xs {
			out = append(out, x.Serial)
		}
		return out
	}
	require.NoError(t, s.AddSpare(ctx, Spare{Serial: "N", Model: "B4", Place: "shelf"}))
	assert.ErrorIs(t, s.AddSpare(ctx, Spare{Serial: "N", Model: "B4"}), ErrKnownSerial)
	_, err := s.Spare(ctx, "M")
	assert.ErrorIs(t, err, ErrNotFound)
	assert.Equal(t, spare.InStock, state("N"))

	x, err := s.Spare(ctx, "N")
	require.NoError(t, err)
	prepare := addChange(t, s, bench, true)
	require.NoError(t, s.PrepareSpare(ctx, x.ID, prepare, bench.ID, site.ID, 7, "digest", "2.0"))
	assert.Equal(t, spare.Preparing, state("N"))
	end(t, s, prepare, change.Done)
	assert.Equal(t, spare.Prepared, state("N"))
	require.NoError(t, s.ShipSpare(ctx, x.ID, "RX-1"))
	assert.Equal(t, spare.Shipped, state("N"))

	swap := addChange(t, s, site, true)
	require.NoError(t, s.SwapSpare(ctx, x.ID, swap, site.ID, Spare{Serial: "O", Model: "B4", Version: "1.9"}))
	assert.Equal(t, []string{"N"}, listed(true), "the one at the site is in service still")
	assert.Equal(t, spare.InService, state("O"))
	end(t, s, swap, change.Done)
	assert.Equal(t, []spare.State{spare.InService, spare.ComingBack}, []spare.State{state("N"), state("O")})
	x, err = s.Spare(ctx, "N")
	require.NoError(t, err)
	assert.Equal(t, []string{"bench", "site", "digest", "2.0", "RX-1"}, []string{x.Bench, x.For, x.Holds, x.Version, x.Parcel})

	old, err := s.Spare(ctx, "O")
	require.NoError(t, err)
	assert.Equal(t, "site", old.Was)
	require.NoError(t, s.ArriveSpare(ctx, old.ID, "bench"))
	assert.Equal(t, spare.Arrived, state("O"))
	require.NoError(t, s.WipeSpare(ctx, old.ID, bench.ID, "2.0", nil, "nothing is on it"))
	old, err = s.Spare(ctx, "O")
	require.NoError(t, err)
	assert.Equal(t, []string{"", "", "", "nothing is on it"}, []string{old.Was, old.For, old.Holds, old.Wiped})
	assert.Equal(t, spare.InStock, state("O"))

	// The unit in service comes out again by another change, as one that was known before.
	again := addChange(t, s, site, true)
	require.NoError(t, s.SwapSpare(ctx, old.ID, again, site.ID, Spare{Serial: "N", Model: "B4", Version: "2.1"}))
	end(t, s, again, change.Done)
	assert.Equal(t, []spare.State{spare.ComingBack, spare.InService}, []spare.State{state("N"), state("O")})

	x, err = s.Spare(ctx, "N")
	require.NoError(t, err)
	require.NoError(t, s.RetireSpare(ctx, x.ID, "it hums"))
	assert.Equal(t, []string{"O"}, listed(false))
	assert.Equal(t, []string{"N", "O"}, listed(true))
	require.NoError(t, s.AddSpare(ctx, Spare{Serial: "N", Model: "B4"}), "the serial is free again")
}
