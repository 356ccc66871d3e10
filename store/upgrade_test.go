package store

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/internal/dbtest"
)

// previous is a database as the previous version of the service left it.
func previous(t *testing.T) (url string, pool *pgxpool.Pool) {
	url = dbtest.New(t)
	pool, err := pgxpool.New(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(pool.Close)
	db := stdlib.OpenDBFromPool(pool)
	p, err := migrations(db)
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), upgradeVersion-1)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = pool.Exec(t.Context(), `
		INSERT INTO devices (name, site, address, dialect, web, transfer, reach, portrait) VALUES ('fw-1', 'Pier', '127.0.0.1:22', 'd', 'https://box', 'tftp', '{"via": "jump"}', '{"Model": "TH-60", "Version": "5.0.7", "Total": 10, "Free": 4, "Slots": [{"Name": "a", "Version": "5.0.7", "Running": true, "Percent": -1}]}'), ('fw-2', 'Pier', '127.0.0.1:23', 'd', '', 'sftp', '{}', NULL);
		INSERT INTO changes (device_id, state, from_version, to_version, path, created_by, kind, back, planned, wish, started_at, paused_by, state_since, stands) VALUES
			(1, 'held', '1', '2', '{"Hops": [{"From": "1", "To": "2"}]}', 'me', 'firmware', '[{"Way": "slot", "Text": "start 1 again", "Steps": [{"Hop": 0, "Kind": "choose-slot", "Title": "Choose the slot that ran before", "Expect": {"Low": 1, "High": 2, "Limit": 3}, "Back": true}]}]',
				'{"model": "TH-60", "serial": "S"}', '{"device": "fw-1", "to": "2", "licences": [{"name": "full", "key": ""}]}', now(), 'mate', '2026-01-02T03:04:05Z', '{"a": 1}'),
			(2, 'done', '1', '1', '{}', 'me', 'acts', '[]', '{"model": "TH-60"}', '{"device": "fw-2", "to": "acts", "acts": [{"kind": "choose-slot", "once": true}]}', now(), NULL, now(), NULL),
			(2, 'done', '1', '1', '{}', 'me', 'restore', '[]', '{}', '{"parts": ["running"]}', now(), NULL, now(), NULL);
		UPDATE changes SET work = '{"backup": 7}' WHERE kind = 'restore';
		INSERT INTO steps (change_id, number, plan, state, started_at, ended_at) VALUES
			(1, 1, '{"Number": 1, "Hop": -1, "Kind": "readings", "Title": "Take readings before", "Expect": {"Low": 1, "High": 2, "Limit": 3}, "StopsBefore": false}', 'done', now() - interval '1 minute', now()),
			(1, 2, '{"Number": 2, "Hop": 0, "Kind": "point", "Title": "Check before no return", "Expect": {"Low": 1, "High": 2, "Limit": 3}, "StopsBefore": true}', 'waiting', NULL, NULL),
			(1, 3, '{"Number": 3, "Hop": 0, "Kind": "component", "Title": "Update logic", "Expect": {"Low": 1, "High": 2, "Limit": 3}, "Part": "logic", "Wants": "7"}', 'waiting', NULL, NULL),
			(2, 1, '{"Number": 1, "Hop": 0, "Kind": "readings", "Title": "Take readings before", "Expect": {"Low": 1, "High": 2, "Limit": 3}}', 'done', now() - interval '2 minutes', now() - interval '1 minute');`)
	require.NoError(t, err)
	return url, pool
}

// What the previous version left is read as it was meant, and goes on.
func TestDatabaseOfThePreviousVersion(t *testing.T) {
	url, _ := previous(t)
	s, err := Open(t.Context(), url, time.Second, func(error) {})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	ctx := t.Context()

	c, err := s.Change(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, change.Paused, c.State)
	assert.Equal(t, "2026-01-02T03:04:05Z", c.StateSince.UTC().Format(time.RFC3339), "since when it is paused is not the time of the upgrade")
	require.Len(t, c.Members, 1)
	assert.Equal(t, []any{1, "fw-1", Planned{Model: "TH-60", Serial: "S"}}, []any{c.First().Number, c.First().Device, c.First().Planned})
	assert.JSONEq(t, `{"a": 1}`, string(c.First().Stands))
	require.Len(t, c.Steps, 3)
	assert.Equal(t, change.GoNoGo, c.Steps[1].Plan.Kind)
	assert.True(t, c.Steps[1].Plan.SafePoint)
	assert.Equal(t, change.ComponentParams{Component: "logic", Version: "7"}, c.Steps[2].Plan.Params)
	require.Len(t, c.Back, 1)
	assert.Equal(t, change.SlotParams{}, c.Back[0].Steps[0].Params)
	assert.True(t, c.Back[0].Steps[0].Back)
	assert.Equal(t, &change.Wish{Format: change.WishFormat, Device: "fw-1", Aim: change.Aim{To: "2"}, Licences: []string{"full"}}, c.Wish)

	single, err := s.Change(ctx, 2)
	require.NoError(t, err)
	assert.Equal(t, change.SingleOperations, single.Kind)
	assert.Equal(t, []change.Asked{{Kind: change.ChooseSlot, Once: true}}, single.Wish.Operations)
	restore, err := s.Change(ctx, 3)
	require.NoError(t, err)
	assert.Equal(t, &change.RestoreWish{Backup: 7, Parts: []string{"running"}}, restore.Wish.Restore)

	d, err := s.Device(ctx, "fw-1")
	require.NoError(t, err)
	assert.EqualValues(t, 1, *d.OpenChange(), "it still occupies its device")
	assert.Equal(t, Settings{Web: "https://box", Transfer: "tftp", Reach: Reach{Via: "jump"}}, d.Settings)
	var p portrait.Portrait
	require.NoError(t, json.Unmarshal(d.Portrait, &p))
	_, room, _ := p.ImageRoom()
	assert.Equal(t, []any{"TH-60", int64(4), -1}, []any{p.Model, room.Free, p.Slots[0].Percent})
	seen, err := s.StepSeconds(ctx, "TH-60", 10)
	require.NoError(t, err)
	assert.InDeltaSlice(t, []float64{60, 60}, seen["readings"], 0.1)

	var busy *BusyError
	other, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}")})
	require.NoError(t, err)
	require.NoError(t, s.Act(ctx, other, change.Approve, me, "", nil))
	require.ErrorAs(t, start(t, s, other, "me", nil), &busy)
	assert.EqualValues(t, 1, busy.Change)
}

// A record that cannot be read is named, and nothing is half upgraded.
func TestUpgradeThatCannotBe(t *testing.T) {
	url, pool := previous(t)
	_, err := pool.Exec(t.Context(), `UPDATE steps SET plan = '{"Kind": "hand", "Number": "seven"}' WHERE change_id = 1 AND number = 3`)
	require.NoError(t, err)
	_, err = Open(t.Context(), url, time.Second, func(error) {})
	require.ErrorContains(t, err, "step 1 3 cannot be brought to the format of now")
	var old int
	require.NoError(t, pool.QueryRow(t.Context(), `SELECT count(*) FROM steps WHERE plan ? 'Kind'`).Scan(&old))
	assert.Equal(t, 4, old)
}

// What is older than what is looked at is dropped.
func TestDurationsAreForgotten(t *testing.T) {
	s, ctx := open(t), t.Context()
	id := addChange(t, s, addDevice(t, s, "a"), false)
	_, err := s.Pool.Exec(ctx, `INSERT INTO steps (change_id, number, plan) SELECT $1, n, '{"kind": "check"}' FROM generate_series(100, 399) n`, id)
	require.NoError(t, err)
	_, err = s.Pool.Exec(ctx, `INSERT INTO learnt_durations SELECT $1, n, 'M', 'check', now() - n * interval '1 minute', n FROM generate_series(100, 399) n`, id)
	require.NoError(t, err)
	require.NoError(t, s.ForgetDurations(ctx))
	var n int
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT count(*) FROM learnt_durations`).Scan(&n))
	assert.Equal(t, learntKept, n)
	seen, err := s.StepSeconds(ctx, "M", 3)
	require.NoError(t, err)
	assert.Equal(t, []float64{100, 101, 102}, seen["check"])
}
