package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/vault"
)

func addBackup(t *testing.T, s *Store, d Device, manifest, sum string, complete bool, at time.Time) int64 {
	id, err := s.AddBackup(t.Context(), Backup{DeviceID: d.ID, Version: "1", File: "running.cfg", SHA256: sum, Size: 10, Manifest: manifest, Complete: complete, Reason: "demand", TakenAt: at})
	require.NoError(t, err)
	return id
}

func TestStatesOfAConfiguration(t *testing.T) {
	s := open(t)
	d := addDevice(t, s, "a")
	now := time.Now().Truncate(time.Second)
	for i, sum := range []string{"x", "x", "y", "x", "x", "x"} {
		addBackup(t, s, d, string(rune('a'+i)), sum, true, now.Add(time.Duration(i)*time.Hour))
	}
	// One without a configuration, and one that was let go, show no state.
	_, err := s.AddBackup(t.Context(), Backup{DeviceID: d.ID, Version: "1", Manifest: "none", Complete: true, TakenAt: now})
	require.NoError(t, err)
	gone := addBackup(t, s, d, "gone", "z", true, now)
	require.NoError(t, s.LetGo(t.Context(), gone, "test"))
	bs, times, last, err := s.States(t.Context(), d.ID, 10)
	require.NoError(t, err)
	require.Len(t, bs, 3)
	assert.Equal(t, []int{3, 1, 2}, times)
	assert.Equal(t, [3]string{"x", "y", "x"}, [3]string{bs[0].SHA256, bs[1].SHA256, bs[2].SHA256})
	assert.Equal(t, [3]int64{4, 3, 1}, [3]int64{bs[0].ID, bs[1].ID, bs[2].ID}, "each by the first that showed it")
	assert.True(t, last[0].Equal(now.Add(5*time.Hour)))
	latest, err := s.LatestBackups(t.Context())
	require.NoError(t, err)
	require.Len(t, latest, 1)
	assert.EqualValues(t, 6, latest[0].ID)
}

func TestHoldsAndLettingGo(t *testing.T) {
	s := open(t)
	d := addDevice(t, s, "a")
	ctx := t.Context()
	one, two := addBackup(t, s, d, "m1", "x", true, time.Now()), addBackup(t, s, d, "m2", "x", true, time.Now())
	assert.Equal(t, two, addBackup(t, s, d, "m2", "x", true, time.Now()), "a bundle that is recorded keeps its number")
	require.NoError(t, s.HoldBackup(ctx, one, "audit", "me"))
	require.NoError(t, s.LetGo(ctx, one, "old"))
	require.NoError(t, s.LetGo(ctx, two, "old"))
	kept, gone, err := s.Manifests(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"m1": one}, kept, "whoever held it in the meantime was quicker")
	assert.Equal(t, map[string]bool{"m2": true}, gone)
	b, err := s.Backup(ctx, two)
	require.NoError(t, err)
	assert.Equal(t, "old", b.GoneWhy)
	assert.ErrorIs(t, s.HoldBackup(ctx, two, "late", "me"), ErrNotFound)
	require.NoError(t, s.HoldBackup(ctx, one, "", "me"))
	b, err = s.Backup(ctx, one)
	require.NoError(t, err)
	assert.Empty(t, b.Held+b.HeldBy)
	rs, err := s.Retained(ctx, d.ID)
	require.NoError(t, err)
	require.Len(t, rs, 1)
	assert.Zero(t, rs[0].Change)
	_, err = s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "1", Path: []byte("{}"), Kind: change.Restoring, Work: []byte(`{"backup": 1}`)})
	require.NoError(t, err)
	rs, err = s.Retained(ctx, d.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, rs[0].Change, "a restore points to what it puts back")
}

func TestSchedulesOfDevicesAndGroups(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	d := addDevice(t, s, "a")
	require.NoError(t, s.EnterDevice(ctx, Device{ID: d.ID, Groups: []string{"north", "south"}}, []string{"groups"}))
	d, err := s.Device(ctx, "a")
	require.NoError(t, err)
	assert.Equal(t, []string{"north", "south"}, d.Groups)
	of := func() string {
		all, err := s.BackupSchedules(ctx)
		require.NoError(t, err)
		return ScheduleOf(all, &d).Cron
	}
	assert.Equal(t, "30 1 * * *", of(), "every device has the first start's")
	require.NoError(t, s.PutBackupSchedule(ctx, BackupSchedule{Group: "south", Cron: "1 1 * * *"}))
	require.NoError(t, s.PutBackupSchedule(ctx, BackupSchedule{Group: "elsewhere", Cron: "9 9 * * *"}))
	assert.Equal(t, "1 1 * * *", of())
	require.NoError(t, s.PutBackupSchedule(ctx, BackupSchedule{Group: "north", Cron: "2 2 * * *"}))
	assert.Equal(t, "2 2 * * *", of(), "the first of its groups")
	require.NoError(t, s.PutBackupSchedule(ctx, BackupSchedule{DeviceID: &d.ID, Cron: ""}))
	assert.Equal(t, "", of(), "its own, which says never")
	require.NoError(t, s.PutBackupSchedule(ctx, BackupSchedule{DeviceID: &d.ID, Cron: "3 3 * * *"}))
	all, err := s.BackupSchedules(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 5, "one each")
	assert.ErrorIs(t, s.RemoveBackupSchedule(ctx, 1), ErrNotFound, "that of every device stays")
	for _, x := range all {
		if x.Device == "a" {
			require.NoError(t, s.RemoveBackupSchedule(ctx, x.ID))
		}
	}
	assert.Equal(t, "2 2 * * *", of())
	assert.Nil(t, ScheduleOf(nil, &d))
}

// An occurrence is handed out once, however many services look.
func TestAnOccurrenceIsTakenOnce(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	d := addDevice(t, s, "a")
	past, future := time.Now().Add(-time.Hour).Truncate(time.Second), time.Now().Add(time.Hour)
	due, err := s.DueDevices(ctx, time.Now(), future)
	require.NoError(t, err)
	require.Len(t, due, 1)
	assert.Nil(t, due[0].Next)
	ok, err := s.SetNextBackup(ctx, d.ID, nil, &past, nil)
	require.NoError(t, err)
	assert.True(t, ok)
	var taken atomic.Int32
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			ok, err := s.SetNextBackup(ctx, d.ID, &past, &future, func(pgx.Tx) error { return nil })
			assert.NoError(t, err)
			if ok {
				taken.Add(1)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, taken.Load())
	due, err = s.DueDevices(ctx, time.Now(), future.Add(time.Minute))
	require.NoError(t, err)
	assert.Empty(t, due)
	due, err = s.DueDevices(ctx, time.Now(), future.Add(-time.Minute))
	require.NoError(t, err)
	assert.Len(t, due, 1, "what lies too far ahead is looked at again")
	// When the hand-out fails, the occurrence is still due.
	require.NoError(t, func() error { _, err := s.SetNextBackup(ctx, d.ID, due[0].Next, &past, nil); return err }())
	bad := errors.New("no job")
	ok, err = s.SetNextBackup(ctx, d.ID, &past, &future, func(pgx.Tx) error { return bad })
	assert.ErrorIs(t, err, bad)
	assert.False(t, ok)
	due, err = s.DueDevices(ctx, time.Now(), future.Add(time.Minute))
	require.NoError(t, err)
	assert.Len(t, due, 1)
}

func TestHealthOfBackups(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	a, b := addDevice(t, s, "a"), addDevice(t, s, "b")
	good := addBackup(t, s, a, "m1", "x", true, time.Now())
	try := func(d Device, outcome string, id *int64) {
		n, err := s.BeginAttempt(ctx, d.ID, "schedule")
		require.NoError(t, err)
		require.NoError(t, s.EndAttempt(ctx, n, outcome, outcome+" it is", id))
	}
	try(a, AttemptFailed, nil)
	try(a, AttemptComplete, &good)
	try(a, AttemptFailed, nil)
	try(a, AttemptIncomplete, nil)
	require.NoError(t, s.NoteAttempt(ctx, a.ID, "schedule", AttemptMissed, "nobody"))
	hs, err := s.Health(ctx, "")
	require.NoError(t, err)
	require.Len(t, hs, 2)
	assert.Equal(t, 3, hs[0].Failures, "since the last complete one")
	assert.Equal(t, AttemptMissed, hs[0].Last.Outcome)
	assert.Equal(t, good, *hs[0].LastGoodID)
	assert.Equal(t, 1, hs[0].Bundles)
	assert.Nil(t, hs[1].Last)
	assert.Nil(t, hs[1].LastGood)
	page, err := s.Health(ctx, "b")
	require.NoError(t, err)
	require.Len(t, page, 1)
	counts, err := s.CountBackupHealth(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"missed": 1, "never": 1}, counts)
	// An attempt whose process died is closed, once it is old enough.
	_, err = s.BeginAttempt(ctx, b.ID, "demand")
	require.NoError(t, err)
	require.NoError(t, s.LostAttempts(ctx, time.Hour))
	as, err := s.Attempts(ctx, b.ID, 5)
	require.NoError(t, err)
	assert.Equal(t, AttemptRunning, as[0].Outcome)
	require.NoError(t, s.LostAttempts(ctx, 0))
	as, err = s.Attempts(ctx, b.ID, 5)
	require.NoError(t, err)
	assert.Equal(t, AttemptFailed, as[0].Outcome)
	assert.NotNil(t, as[0].EndedAt)
}

func TestCredentialsOfDevicesAndGroups(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	a, b := addDevice(t, s, "a"), addDevice(t, s, "b")
	require.NoError(t, s.EnterDevice(ctx, Device{ID: a.ID, Groups: []string{"north"}}, []string{"groups"}))
	seal := func(id int64) ([]byte, error) { return []byte{byte(id)}, nil }
	add := func(c Credential) int64 {
		c.CreatedBy = "me"
		id, err := s.AddCredential(ctx, c, seal)
		require.NoError(t, err)
		return id
	}
	group := add(Credential{Group: "north", Kind: "password", Username: "u"})
	own := add(Credential{DeviceID: &a.ID, Kind: "password", Username: "u"})
	old := add(Credential{DeviceID: &a.ID, Kind: "password", Username: "u", Versions: "4.x"})
	other := add(Credential{DeviceID: &b.ID, Kind: "password", Username: "u"})
	ids := func(device int64) (out []int64) {
		cs, err := s.Credentials(ctx, device)
		require.NoError(t, err)
		for _, c := range cs {
			assert.Equal(t, []byte{byte(c.ID)}, c.Secret)
			out = append(out, c.ID)
		}
		return out
	}
	assert.Equal(t, []int64{old, own, group}, ids(a.ID))
	assert.Equal(t, []int64{other}, ids(b.ID))
	assert.Len(t, ids(0), 4)
	_, err := s.AddCredential(ctx, Credential{Kind: "password"}, seal)
	assert.Error(t, err, "of nobody")
	bad := errors.New("no key")
	_, err = s.AddCredential(ctx, Credential{Group: "north", Kind: "password"}, func(int64) ([]byte, error) { return nil, bad })
	assert.ErrorIs(t, err, bad)
	assert.Len(t, ids(0), 4, "nothing half is kept")
	// Refusals are counted until a key lets us in, or a new one is given.
	tries := func() int {
		d, err := s.DeviceByID(ctx, a.ID)
		require.NoError(t, err)
		return d.RefusedTries
	}
	for range 2 {
		require.NoError(t, s.TryRefused(ctx, 1, a.ID, false))
	}
	assert.Equal(t, 2, tries())
	require.NoError(t, s.TryRefused(ctx, 1, a.ID, true))
	require.NoError(t, s.CredentialUsed(ctx, own, a.ID, false, me, "a look"))
	d, err := s.DeviceByID(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, d.RefusedRaises, "signing in says nothing about the privileged password")
	require.NoError(t, s.CredentialUsed(ctx, own, a.ID, true, me, "a look"))
	assert.Zero(t, tries())
	lines, err := s.AuditLines(ctx, a.Name, 0, 10)
	require.NoError(t, err)
	require.Len(t, lines, 2, "every use is in the audit")
	assert.Equal(t, []string{"me", "credential used", fmt.Sprintf("credential %d, a look", own)}, []string{lines[0].Who, lines[0].Event, lines[0].Detail})
	require.NoError(t, s.TryRefused(ctx, 1, a.ID, false))
	add(Credential{Group: "south", Kind: "password"})
	assert.Equal(t, 1, tries())
	add(Credential{Group: "north", Kind: "password"})
	assert.Zero(t, tries())
	// Replacing leaves what is for versions, and other kinds.
	require.NoError(t, s.ReplaceCredentials(ctx, a.ID, []string{"password"}, "", []Credential{{Kind: "password", Username: "new"}}, func(c *Credential, id int64) ([]byte, error) { return []byte{byte(id)}, nil }))
	now := ids(a.ID)
	assert.Contains(t, now, old)
	assert.NotContains(t, now, own)
	// What once let us in is kept for the version in the other slot, once; what never did is not.
	versions := func() (out []string) {
		cs, err := s.Credentials(ctx, b.ID)
		require.NoError(t, err)
		for _, c := range cs {
			out = append(out, c.Username+" "+c.Versions)
		}
		return out
	}
	for _, user := range []string{"one", "two", "three"} {
		require.NoError(t, s.ReplaceCredentials(ctx, b.ID, []string{"password"}, "4.2.3", []Credential{{Kind: "password", Username: user}}, func(c *Credential, id int64) ([]byte, error) { return []byte{byte(id)}, nil }))
		if user == "one" {
			assert.Equal(t, []string{"one "}, versions())
		}
		cs, err := s.Credentials(ctx, b.ID)
		require.NoError(t, err)
		for _, c := range cs {
			require.NoError(t, s.CredentialUsed(ctx, c.ID, b.ID, false, me, "a look"))
		}
	}
	assert.Equal(t, []string{"one 4.2.3", "three "}, versions())
	require.NoError(t, s.RemoveCredential(ctx, old))
	assert.ErrorIs(t, s.RemoveCredential(ctx, old), ErrNotFound)
	require.NoError(t, s.Audit(ctx, me, "looked", "a", "x"))
	lines, err = s.AuditLines(ctx, "a", 0, 1)
	require.NoError(t, err)
	require.Len(t, lines, 1)
	assert.Equal(t, "looked", lines[0].Event)
}

// Of many services that start at once, one makes the first data key; all wrappings change together or not at all.
func TestRingOfDataKeys(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			assert.NoError(t, s.AddDataKey(ctx, vault.DataKey{Wrapped: []byte("w"), Recipient: "r1"}, true))
		})
	}
	wg.Wait()
	require.NoError(t, s.AddDataKey(ctx, vault.DataKey{Wrapped: []byte("w"), Recipient: "r1"}, false))
	keys, err := s.DataKeys(ctx)
	require.NoError(t, err)
	require.Len(t, keys, 2)
	bad := errors.New("no")
	n := 0
	assert.ErrorIs(t, s.Rewrap(ctx, func(k vault.DataKey) (vault.DataKey, error) {
		k.Recipient = "r2"
		if n++; n == 2 {
			return k, bad
		}
		return k, nil
	}), bad)
	keys, err = s.DataKeys(ctx)
	require.NoError(t, err)
	assert.Equal(t, [2]string{"r1", "r1"}, [2]string{keys[0].Recipient, keys[1].Recipient})
	require.NoError(t, s.Rewrap(ctx, func(k vault.DataKey) (vault.DataKey, error) { k.Recipient = "r2"; return k, nil }))
	keys, err = s.DataKeys(ctx)
	require.NoError(t, err)
	assert.Equal(t, [2]string{"r2", "r2"}, [2]string{keys[0].Recipient, keys[1].Recipient})
}

// Every sealed text is sealed anew, wherever it lies, and one that changed in the meantime is left alone.
func TestSealingAnew(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	d := addDevice(t, s, "a")
	_, err := s.AddCredential(ctx, Credential{DeviceID: &d.ID, Kind: "password"}, func(int64) ([]byte, error) { return []byte("old credential"), nil })
	require.NoError(t, err)
	require.NoError(t, s.PutSite(ctx, Site{Name: "makers", Password: []byte("old site")}))
	_, err = s.AddConversion(ctx, Conversion{Name: "c"}, "", func(int64) ([]byte, error) { return []byte("old conversion"), nil })
	require.NoError(t, err)
	require.NoError(t, s.PutTemplate(ctx, Template{Name: "point", Sealed: []byte("old template")}))
	id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}")})
	require.NoError(t, err)
	require.NoError(t, s.PutCall(ctx, "S1", id, []byte("old call")))
	type mail struct {
		To     string `json:"to"`
		Sealed []byte `json:"sealed"`
	}
	require.NoError(t, s.PutSetting(ctx, "mail", mail{"a@b", append([]byte("old setting "), make([]byte, 200)...)}))
	require.NoError(t, s.PutSetting(ctx, "plain", map[string]int{"bound": 3}))
	seen := map[string]string{}
	require.NoError(t, s.Reseal(ctx, func(kind, key string, sealed []byte) ([]byte, error) {
		seen[kind] = key
		assert.Contains(t, string(sealed), "old "+kind)
		if kind == "site" { // somebody gives a new one while we work
			require.NoError(t, s.PutSite(context.WithoutCancel(ctx), Site{Name: "makers", Password: []byte("newer site")}))
		}
		return []byte("new " + kind), nil
	}))
	assert.Equal(t, map[string]string{"credential": "1", "site": "makers", "conversion": "1", "setting": "mail", "template": "point", "call": "S1"}, seen)
	cs, err := s.Credentials(ctx, 0)
	require.NoError(t, err)
	assert.Equal(t, "new credential", string(cs[0].Secret))
	kept, err := s.Call(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "new call", string(kept.Sealed))
	var m mail
	ok, err := s.Setting(ctx, "mail", &m)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, mail{"a@b", []byte("new setting")}, m)
	site, err := s.Site(ctx, "makers")
	require.NoError(t, err)
	assert.Equal(t, "newer site", string(site.Password))
	ok, err = s.Setting(ctx, "none", &m)
	require.NoError(t, err)
	assert.False(t, ok)
}
