package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/device"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

func TestTheOrderInWhichKeysAreTried(t *testing.T) {
	t.Parallel()
	cs := func() []store.Credential {
		return []store.Credential{{ID: 1, Versions: "5.x"}, {ID: 2}, {ID: 3, Versions: "4.x"}, {ID: 4}, {ID: 5, Versions: "4.2.9"}}
	}
	for expect, want := range map[string][]int64{"4.2.9": {3, 5, 2, 4, 1}, "5.0.7": {1, 2, 4, 3, 5}, "": {2, 4, 1, 3, 5}, "6.0.1": {2, 4, 1, 3, 5}} {
		all := cs()
		order(all, expect)
		var got []int64
		for _, c := range all {
			got = append(got, c.ID)
		}
		assert.Equal(t, want, got, "expecting %q", expect)
	}
}

func TestSecretsAreCheckedBeforeTheyAreKept(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		kind, user, versions string
		s                    Secret
		says                 string
	}{
		{KindPassword, "u", "", Secret{Password: "p"}, ""},
		{KindPassword, "", "", Secret{Password: "p"}, "needs a user and a password"},
		{KindConsole, "u", "", Secret{}, "needs a user and a password"},
		{KindPrivileged, "", "", Secret{Password: "p"}, ""},
		{KindPrivileged, "", "", Secret{}, "needs a password"},
		{KindToken, "", "", Secret{}, "needs a token"},
		{KindToken, "", "4.x", Secret{Token: "t"}, ""},
		{KindKey, "u", "", Secret{}, "needs a user and a private key"},
		{KindKey, "u", "", Secret{PrivateKey: "nonsense"}, "cannot be read"},
		{KindSNMP, "u", "", Secret{AuthPassword: "short"}, "at least 8 characters"},
		{KindSNMP, "u", "", Secret{AuthPassword: "long enough", PrivPassword: "long enough"}, ""},
		{"charm", "u", "", Secret{}, "is not known"},
		{KindPassword, "u", ">", Secret{Password: "p"}, "versions"},
	} {
		got := c.s.Check(c.kind, c.user, c.versions)
		if c.says == "" {
			assert.Empty(t, got)
		} else {
			assert.Contains(t, got, c.says)
		}
	}
}

// A process that died between storing and recording loses nothing: the next one records the bundle. What was let go does
// not come back.
func TestABundleThatNobodyRecordedIsRecorded(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	b, err := r.Backup(t.Context(), r.d, backup.OnDemand, access.Person("me", ""))
	require.NoError(t, err)
	m := &backup.Manifest{Device: "box", Model: "TH-60", Version: "5.0.6", TakenAt: time.Now().UTC(), Reason: backup.OnSchedule, Parts: []backup.Part{{Name: "running", Title: "R", Kind: backup.Configuration, File: "running.cfg"}},
		Lacks: []backup.Lack{{Name: "users", Title: "Users", Needed: true}}}
	sum, err := r.Backups.Put(m, map[string][]byte{"running": []byte("box\n")})
	require.NoError(t, err)
	stranger := *m
	stranger.Device, stranger.ID = "gone", ""
	_, err = r.Backups.Put(&stranger, map[string][]byte{"running": []byte("x\n")})
	require.NoError(t, err)
	require.NoError(t, r.Store.LetGo(t.Context(), b.ID, "test"))
	for range 2 {
		require.NoError(t, r.adopt(t.Context()))
	}
	all, err := r.Store.Backups(t.Context(), store.BackupList{Limit: 10})
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, sum, all[0].Manifest)
	assert.Equal(t, []string{"Users"}, all[0].Lacks)
	assert.False(t, all[0].Complete)
	// Tidying drops what was let go, and keeps what no record knows.
	require.NoError(t, r.tidy(t.Context(), false))
	there, err := r.Backups.Bundles()
	require.NoError(t, err)
	assert.Len(t, there, 2)
	assert.NotContains(t, there, b.Manifest)
}

// What the first versions kept (passwords with the device, configurations one by one) is taken over at the start.
func TestFirstVersionsAreTakenOver(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	ids, err := r.Vault.Identities()
	require.NoError(t, err)
	seal := func(label, text string) []byte {
		var b bytes.Buffer
		w, err := age.Encrypt(&b, ids[0].(*age.X25519Identity).Recipient())
		require.NoError(t, err)
		_, err = io.WriteString(w, label+"\n"+text)
		require.NoError(t, errors.Join(err, w.Close()))
		return b.Bytes()
	}
	a := r.box.Access()
	ctx := t.Context()
	_, err = r.Store.Pool.Exec(ctx, `DELETE FROM credentials`)
	require.NoError(t, err)
	_, err = r.Store.Pool.Exec(ctx, `UPDATE devices SET username = $1, password = $2, privileged = $3`, a.User, seal("device box password", a.Password), seal("device box privileged password", a.Watchword))
	require.NoError(t, err)
	s := sha256.Sum256([]byte("box\n  name x\n"))
	sum := hex.EncodeToString(s[:])
	require.NoError(t, os.MkdirAll(filepath.Join(r.Backups.Dir(), sum[:2]), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(r.Backups.Dir(), sum[:2], sum), seal("blob "+sum, "box\n  name x\n"), 0o600))
	for _, content := range []string{sum, strings.Repeat("0", 64)} { // the second is nowhere
		_, err = r.Store.Pool.Exec(ctx, `INSERT INTO backups (device_id, version, file, sha256, size) VALUES ($1, '4.2.9', 'box.cfg', $2, 13)`, r.d.ID, content)
		require.NoError(t, err)
	}
	for range 2 {
		require.NoError(t, r.adopt(ctx))
	}
	b, err := r.Store.Backup(ctx, 1)
	require.NoError(t, err)
	text, err := r.Main(b)
	require.NoError(t, err)
	assert.Equal(t, "box\n  name x\n", text)
	require.NoError(t, r.whole(b))
	lost, err := r.Store.Backup(ctx, 2)
	require.NoError(t, err)
	assert.Empty(t, lost.Manifest, "its record stays, and says nothing that is not true")
	_, err = r.Backup(ctx, r.d, backup.OnDemand, access.Person("me", ""))
	require.NoError(t, err, "the old passwords let us in")
	old, err := r.Store.OldPasswords(ctx)
	require.NoError(t, err)
	assert.Empty(t, old)
}

func TestTwoBackupsOfOneDeviceAtOnce(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	var wg sync.WaitGroup
	ids := make([]int64, 4)
	for i := range ids {
		wg.Go(func() {
			b, err := r.Backup(t.Context(), r.d, backup.OnDemand, access.Person("me", ""))
			assert.NoError(t, err)
			ids[i] = b.ID
		})
	}
	wg.Wait()
	size, err := r.Backups.Size()
	require.NoError(t, err)
	assert.Equal(t, 4, size.Bundles)
	for _, id := range ids {
		b, err := r.Store.Backup(t.Context(), id)
		require.NoError(t, err)
		assert.True(t, b.Complete)
		require.NoError(t, r.whole(b))
	}
}

// A device that drops in the middle leaves an attempt that failed, and no bundle.
func TestADeviceThatDropsInTheMiddle(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	require.NoError(t, r.box.Arm(tarnholm.SendsNothing, box.Fault{})) // while we wait for what it says it has sent
	go func() { time.Sleep(2 * time.Second); r.box.Stop() }()
	_, err := r.Backup(t.Context(), r.d, backup.OnDemand, access.Person("me", ""))
	require.Error(t, err)
	as, err := r.Store.Attempts(t.Context(), r.d.ID, 5)
	require.NoError(t, err)
	require.Len(t, as, 1)
	assert.Equal(t, store.AttemptFailed, as[0].Outcome)
	size, err := r.Backups.Size()
	require.NoError(t, err)
	assert.Zero(t, size.Bundles)
}

// A change does not go on with a backup that is not complete.
func TestAChangeNeedsACompleteBackup(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	require.NoError(t, r.box.Arm(tarnholm.SendsHalf, box.Fault{}))
	id := r.begin("5.0.7", "5.4.2")
	w := r.prepare(id)
	var final *finalError
	err := takeBackup(w, t.Context(), w.of("backup"))
	require.ErrorAs(t, err, &final)
	assert.ErrorContains(t, err, "the backup is not complete, so nothing was changed; it lacks: Whole-system archive")
}

// Trying is bounded over attempts, and a clock that was set back does not lock us out.
func TestTriesAreCountedInTheRecord(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	ctx := t.Context()
	require.NoError(t, r.Store.PutSetting(ctx, TriesSetting, Tries{Bound: 2, Rest: 600}))
	require.NoError(t, r.Store.ReplaceCredentials(ctx, r.d.ID, []string{KindPassword}, "", []store.Credential{{Kind: KindPassword, Username: "bosun"}}, func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(r.Vault, id, Secret{Password: "not it"})
	}))
	for range 6 {
		d, err := r.Store.DeviceByID(ctx, r.d.ID)
		require.NoError(t, err)
		_, err = r.Refresh(ctx, d, access.Person("me", ""))
		require.Equal(t, device.SignInRefused, device.KindOf(err))
	}
	assert.Equal(t, 2, r.box.Status().Refusals)
	_, err := r.Store.Pool.Exec(ctx, `UPDATE devices SET refused_at = now() + interval '2 days'`)
	require.NoError(t, err)
	d, err := r.Store.DeviceByID(ctx, r.d.ID)
	require.NoError(t, err)
	_, err = r.Refresh(ctx, d, access.Person("me", ""))
	require.Error(t, err)
	assert.Equal(t, 3, r.box.Status().Refusals, "it was risked again")
}

// After a refusal the next sign-in begins with another credential: few tries are left, and a line may break before it is its turn.
func TestTheNextCredentialIsTriedAfterARefusal(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	ctx := t.Context()
	a := r.box.Access()
	ids := map[string]int64{}
	secrets := []string{"not it", a.Password}
	require.NoError(t, r.Store.ReplaceCredentials(ctx, r.d.ID, []string{KindPassword}, "", []store.Credential{{Kind: KindPassword, Username: a.User}, {Kind: KindPassword, Username: a.User}}, func(c *store.Credential, id int64) ([]byte, error) {
		secret := secrets[len(ids)]
		ids[secret] = id
		return SealCredential(r.Vault, id, Secret{Password: secret})
	}))
	require.NoError(t, r.Store.TryRefused(ctx, ids["not it"], r.d.ID, false)) // and then the line broke
	d, err := r.Store.DeviceByID(ctx, r.d.ID)
	require.NoError(t, err)
	_, err = r.Refresh(ctx, d, access.Person("me", ""))
	require.NoError(t, err)
	var refused int
	require.NoError(t, r.Store.Pool.QueryRow(ctx, `SELECT count(*) FROM audit WHERE event = 'credential refused'`).Scan(&refused))
	assert.Zero(t, refused, "the other one is tried first")
}

// A wrong privileged password costs the parts that need it, is not tried part after part, and never signs us out.
func TestAWrongPrivilegedPassword(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	ctx := t.Context()
	require.NoError(t, r.Store.PutSetting(ctx, TriesSetting, Tries{Bound: 2, Rest: 600}))
	require.NoError(t, r.Store.ReplaceCredentials(ctx, r.d.ID, []string{KindPrivileged}, "", []store.Credential{{Kind: KindPrivileged}}, func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(r.Vault, id, Secret{Password: "not it"})
	}))
	for range 4 {
		d, err := r.Store.DeviceByID(ctx, r.d.ID)
		require.NoError(t, err)
		b, err := r.Backup(ctx, d, backup.OnDemand, access.Person("me", ""))
		require.NoError(t, err)
		assert.Equal(t, []string{"Whole-system archive"}, b.Lacks)
	}
	d, err := r.Store.DeviceByID(ctx, r.d.ID)
	require.NoError(t, err)
	assert.Equal(t, 2, d.RefusedRaises, "over four backups")
	assert.Zero(t, d.RefusedTries)
}

// The older key of the installation leaves its file only when every backup opens with the new one: while another process
// tidies the store, it stays.
func TestTheOldKeyStaysWhileItIsNeeded(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	ctx := t.Context()
	b, err := r.Backup(ctx, r.d, backup.OnDemand, access.Person("me", ""))
	require.NoError(t, err)
	lock, err := os.OpenFile(filepath.Join(r.Backups.Dir(), "tidy"), os.O_RDWR|os.O_CREATE, 0o600)
	require.NoError(t, err)
	require.NoError(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
	ended := make(chan error)
	go func() { ended <- r.RotateKey(ctx, access.Person("me", "")) }()
	require.Eventually(t, func() bool { st, err := r.Vault.State(ctx); return err == nil && len(st.Older) == 1 }, 10*time.Second, 20*time.Millisecond)
	select {
	case err := <-ended:
		t.Fatalf("it ended while the store was in other hands: %v", err)
	case <-time.After(1500 * time.Millisecond):
	}
	require.NoError(t, lock.Close())
	require.NoError(t, <-ended)
	st, err := r.Vault.State(ctx)
	require.NoError(t, err)
	assert.Empty(t, st.Older)
	require.NoError(t, r.whole(b))

	// A volume that cannot be read cannot be encrypted anew: the older key stays, and it is said for which.
	files, err := r.Backups.Files()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(r.Backups.Dir(), "broken.vmv"), []byte("not what it was"), 0o600))
	require.NotEmpty(t, files)
	limited, cancel := context.WithTimeout(ctx, 2500*time.Millisecond)
	defer cancel()
	require.Error(t, r.RotateKey(limited, access.Person("me", "")))
	st, err = r.Vault.State(ctx)
	require.NoError(t, err)
	assert.Len(t, st.Older, 1)
	assert.ErrorContains(t, &OldKeyNeededError{[]string{"broken.vmv"}}, "1 volumes of the backup store still need it (the first: broken.vmv)")
}

// A backup in which damage was found counts as good again only once it was proved whole: retention does not let the older whole ones go for it.
func TestRetentionKnowsOfDamage(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	require.NoError(t, r.Store.PutBackupSchedule(t.Context(), store.BackupSchedule{DeviceID: &r.d.ID, KeepCount: 1, ChangedBy: "me"}))
	volumes := func() []string {
		g, err := filepath.Glob(filepath.Join(r.Backups.Dir(), "*.vmv"))
		require.NoError(t, err)
		return g
	}
	var ids []int64
	var last string
	for range 3 {
		before := volumes()
		b, err := r.Backup(t.Context(), r.d, backup.OnDemand, access.Person("me", ""))
		require.NoError(t, err)
		ids = append(ids, b.ID)
		for _, v := range volumes() {
			if !slices.Contains(before, v) {
				last = v
			}
		}
	}
	good, err := r.Store.LastGoodBackup(t.Context(), r.d.ID)
	require.NoError(t, err)
	whole, err := os.ReadFile(last)
	require.NoError(t, err)
	data := bytes.Clone(whole)
	for i := len(data) / 3; i < len(data)/3+40; i++ {
		data[i] ^= 0xff
	}
	require.NoError(t, os.WriteFile(last, data, 0o600))
	found, err := r.CheckBackups(t.Context(), true)
	require.NoError(t, err)
	require.NotEmpty(t, found.Damages)
	_, err = r.Prune(t.Context())
	require.NoError(t, err)
	b, err := r.Store.Backup(t.Context(), ids[1])
	require.NoError(t, err)
	assert.Nil(t, b.GoneAt, "the last one that can be read stays")
	then, err := r.Store.LastGoodBackup(t.Context(), r.d.ID)
	require.NoError(t, err)
	assert.False(t, then.After(good))
	kept, err := r.Store.Retained(t.Context(), r.d.ID)
	require.NoError(t, err)
	for _, k := range kept {
		assert.Equal(t, k.ID != ids[2], k.Complete, "backup %d", k.ID)
	}
	require.NoError(t, os.WriteFile(last, whole, 0o600)) // somebody brought the file back
	_, err = r.CheckBackups(t.Context(), true)
	require.NoError(t, err)
	kept, err = r.Store.Retained(t.Context(), r.d.ID)
	require.NoError(t, err)
	for _, k := range kept {
		assert.True(t, k.Complete, "backup %d", k.ID)
	}
}
