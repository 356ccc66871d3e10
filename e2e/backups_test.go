package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
)

// mixed is a fleet of several makers: parts come over SFTP, SCP, the command line, NETCONF, HTTP, FTP and TFTP.
func mixed() []simulated {
	return []simulated{
		{name: "hollen-fw1", model: "TH-60", version: "4.2.9", idle: "4.2.3", serial: "TH60-1", olderPasswords: true},
		{name: "gullnes-fw1", model: "TH-60", version: "4.2.9", serial: "TH60-2"},
		{name: "control-sg1", maker: "Brackmoor", model: "SG-5", version: "3.8.4", config: "control-sg1.json"},
		{name: "tern-rt1", maker: "Calderpath", model: "V1", version: "7.4.7", config: "tern-rt1.xml"},
		{name: "marrow-ramp1", maker: "Pellworth", model: "RC-6", version: "F1.06", config: "marrow-ramp1.ini"},
	}
}

func (e *env) sql(query string, args ...any) {
	e.t.Helper()
	conn, err := pgx.Connect(e.t.Context(), e.database)
	require.NoError(e.t, err)
	defer conn.Close(e.t.Context())
	_, err = conn.Exec(e.t.Context(), query, args...)
	require.NoError(e.t, err)
}

func decode[T any](t *testing.T, text string) (v T) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &v), text)
	return v
}

// run carries a drafted change to its end.
func (e *env) run(id int64) gen.Change {
	e.t.Helper()
	n := fmt.Sprint(id)
	e.must("change", "approve", n)
	e.must("change", "start", n)
	return e.awaitEnd(n)
}

// TestBackupsOfAMixedFleet takes, reads, compares, searches, restores and proves backups of boxes of four makers.
func TestBackupsOfAMixedFleet(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, mixed()...)
	e.must("catalogue", "load", "../demo/catalog")
	fw := e.firewall("hollen-fw1")
	assert.Contains(t, e.refused(1, []string{"never"}, "backup", "health"), "hollen-fw1")
	for _, b := range mixed() {
		e.must("backup", "take", b.name)
	}
	e.must("backup", "health")
	detail := decode[gen.BackupDetail](t, e.must("backup", "show", "1", "-json"))
	by := map[string]string{}
	for _, p := range detail.Parts {
		by[p.Name] = p.By + ", " + p.Proof
	}
	assert.Equal(t, map[string]string{"running": "sftp, read twice", "saved": "sftp, read twice", "users": "cli, read twice", "licences": "cli, read twice", "certificates": "scp, read twice", "cables": "sftp, read twice",
		"system": "push-sftp, the device's own SHA-256", "boot": "cli, read twice", "portrait": "portrait, ours"}, by)
	for id, says := range map[string]string{"3": `"place": "Control room, rack 4"`, "4": "<place>MV Tern, bridge &amp; radio room</place>", "5": "title = \"bow ramp; port side\""} {
		assert.Contains(t, e.must("backup", "show", id, "-part", "running"), says)
	}
	e.refused(1, []string{"is a secret as a whole"}, "backup", "show", "1", "-part", "users")
	assert.Contains(t, e.must("backup", "search", "tickets"), "control-sg1")
	e.refused(1, []string{"0 lines in 5 configurations"}, "backup", "search", "nowhere to be found")
	e.refused(3, []string{"the pattern cannot be read"}, "backup", "search", "(", "-pattern")

	// Somebody works on the box: drift, a second state, and history.
	require.NoError(t, fw.Change("via 198.51.100.89", "via 198.51.100.94"))
	e.refused(1, []string{"route 0.0.0.0/0 / via", "From backup 1 to what runs"}, "backup", "drift", "hollen-fw1")
	e.must("backup", "take", "hollen-fw1")
	e.must("backup", "take", "hollen-fw1")
	states := decode[[]gen.ConfigurationState](t, e.must("backup", "history", "hollen-fw1", "-json"))
	require.Len(t, states, 2)
	assert.Equal(t, [2]int{2, 1}, [2]int{states[0].Times, states[1].Times})
	e.refused(1, []string{"~ changed  route 0.0.0.0/0 / via"}, "backup", "compare", "1", "6")

	// A restore is a change: it says what it would do, is drafted, approved and carried out, and proves itself.
	e.refused(1, []string{"1 guarded setting would change: route 0.0.0.0/0 / via", "(cables.map): is as it was"}, "backup", "restore", "1")
	e.refused(1, []string{"guarded setting would change"}, "backup", "restore", "1", "-draft")
	e.refused(3, []string{"has no part \"sails\""}, "backup", "restore", "1", "-parts", "sails")
	ch := decode[gen.Change](t, e.must("backup", "restore", "1", "-accept-guarded", "-draft", "-json"))
	require.NotNil(t, ch.Restore)
	assert.Equal(t, int64(1), ch.Restore.Backup)
	ch = e.run(ch.Id)
	require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	require.NotNil(t, ch.Verdict)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict)
	assert.Contains(t, fw.Status().Config, "via 198.51.100.89")
	e.must("backup", "drift", "hollen-fw1")
	taken := decode[[]gen.Backup](t, e.must("backup", "list", "-device", "hollen-fw1", "-json"))
	for _, b := range taken[:2] {
		assert.Equal(t, ch.Id, *b.Change, "what was there before is kept, and what runs now")
	}
	assert.NotEqual(t, taken[0].Sha256, taken[1].Sha256)
	assert.Contains(t, e.must("change", "show", fmt.Sprint(ch.Id)), "backup 1 goes back on hollen-fw1")

	// The whole system comes back with a restart.
	boots := fw.Status().Boots
	require.NoError(t, fw.Change("via 198.51.100.89", "via 198.51.100.93"))
	e.refused(1, []string{"guarded setting would change"}, "change", "redraft", fmt.Sprint(ch.Id)) // what was taken on then does not count now
	old := decode[gen.Change](t, e.must("backup", "restore", "6", "-parts", "system", "-draft", "-json"))
	ch = decode[gen.Change](t, e.must("change", "redraft", fmt.Sprint(old.Id), "-json"))
	assert.Equal(t, old.Restore, ch.Restore)
	assert.Equal(t, gen.ChangeStateStopped, e.change(fmt.Sprint(old.Id)).State)
	ch = e.run(ch.Id)
	require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	assert.Equal(t, boots+1, fw.Status().Boots)
	assert.Contains(t, fw.Status().Config, "via 198.51.100.94", "backup 6 was taken with it")

	// On another box of the same kind: its licences stay its own, the rest goes over.
	other := e.firewall("gullnes-fw1")
	licences := other.Status().Holding["licences"]
	ch = decode[gen.Change](t, e.must("backup", "restore", "1", "-device", "gullnes-fw1", "-accept-guarded", "-draft", "-json"))
	assert.True(t, ch.Restore.Replacement)
	ch = e.run(ch.Id)
	require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	assert.Equal(t, licences, other.Status().Holding["licences"])
	assert.Contains(t, other.Status().Config, "name hollen-fw1")
	assert.NotContains(t, e.must("audit", "-device", "hollen-fw1"), fw.Access().Password)
}

// TestRestoresOfOtherMakers puts parts back over NETCONF, HTTP and TFTP, with what differs shown before.
func TestRestoresOfOtherMakers(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, mixed()[2:]...)
	e.must("catalogue", "load", "../demo/catalog")
	for _, c := range []struct{ name, part, old, new string }{
		{"control-sg1", "gateway.json", "rack 4", "rack 5"}, {"tern-rt1", "running", "10.71.0.5", "10.71.0.9"}, {"marrow-ramp1", "ramp.ini", "title = \"side door\"", "title = \"other door\""},
	} {
		id := fmt.Sprint(decode[gen.Backup](t, e.must("backup", "take", c.name, "-json")).Id)
		b, ok := e.fleet.Box(c.name).(interface {
			Part(name string) string
			Change(name, text string) error
		})
		require.True(t, ok, c.name)
		before := b.Part(c.part)
		require.Contains(t, before, c.old)
		require.NoError(t, b.Change(c.part, strings.Replace(before, c.old, c.new, 1)))
		out, _, _ := e.client("", "backup", "restore", id, "-parts", "running")
		assert.Contains(t, out, "changed", c.name)
		ch := decode[gen.Change](t, e.must("backup", "restore", id, "-parts", "running", "-accept-guarded", "-draft", "-json"))
		ch = e.run(ch.Id)
		require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
		assert.NotContains(t, b.Part(c.part), c.new, c.name)
	}
}

// TestAnotherVersionIsConverted restores the backup of an older release on a box that runs a newer one.
func TestAnotherVersionIsConverted(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen(), simulated{name: "new-fw1", model: "TH-60", version: "5.0.7", serial: "N1"}, simulated{name: "big-fw1", model: "TH-80", version: "5.4.2", serial: "B1"})
	e.must("catalogue", "load", "../demo/catalog")
	e.must("backup", "take", "hollen-fw1")
	out := e.refused(1, []string{"the backup was taken from TH-60 with 4.2.3, the device is TH-60 with 5.0.7"}, "backup", "restore", "1", "-device", "new-fw1")
	assert.Contains(t, out, "converted from TH-60@4.2.3 to TH-60@5.0.7")
	e.refused(1, []string{"it fits no other version"}, "backup", "restore", "1", "-device", "new-fw1", "-parts", "system", "-draft")
	ch := decode[gen.Change](t, e.must("backup", "restore", "1", "-device", "new-fw1", "-parts", "running", "-accept-guarded", "-draft", "-json"))
	ch = e.run(ch.Id)
	require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	assert.Equal(t, gen.VerdictVerdictDegraded, ch.Verdict.Verdict, "what was up before and is not in the backup is shown")
	assert.Contains(t, e.firewall("new-fw1").Status().Config, "rewrite web-tickets")
	// Where a person is needed, it says how to go on, and takes nothing but a conversion that fits.
	e.refused(1, []string{"needs a person: work it out first (verimorph conversion start -backup 1 -to TH-80@5.4.2)"}, "backup", "restore", "1", "-device", "big-fw1")
	e.must("conversion", "start", "-backup", "1", "-to", "TH-60@5.4.2")
	e.refused(1, []string{"is for TH-60@5.4.2, the device is TH-80@5.4.2"}, "backup", "restore", "1", "-device", "big-fw1", "-parts", "running", "-conversion", "1")
}

// TestBackupsThatFail: incomplete, empty, unreachable and missed ones are told, everywhere, and nothing half is kept.
func TestBackupsThatFail(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, mixed()[:2]...)
	var mu sync.Mutex
	var heard []string
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		mu.Lock()
		heard = append(heard, string(data))
		mu.Unlock()
	}))
	t.Cleanup(hook.Close)
	mails := mailServer(t)
	e.refused(3, []string{"is no mail address"}, "notify", "-smtp", mails.addr, "-from", "nobody", "-to", "watch@example.net")
	e.must("notify", "-webhook", hook.URL, "-smtp", mails.addr, "-from", "verimorph@example.net", "-to", "watch@example.net,night@example.net", "-test")
	fw := e.firewall("hollen-fw1")
	e.must("backup", "take", "hollen-fw1")

	require.NoError(t, fw.Arm(tarnholm.SendsHalf, box.Fault{}))
	e.refused(1, []string{"NOT complete; it lacks: Whole-system archive"}, "backup", "take", "hollen-fw1")
	assert.Contains(t, e.must("backup", "show", "2"), "lacks Whole-system archive: fetch")
	e.refused(1, []string{"incomplete"}, "backup", "health")
	require.NoError(t, fw.Arm(tarnholm.EmptyParts, box.Fault{Times: -1}))
	e.refused(1, []string{"it lacks: Running configuration"}, "backup", "take", "hollen-fw1")
	require.NoError(t, fw.Heal(tarnholm.EmptyParts))
	fw.Stop()
	e.refused(3, []string{"nothing answers"}, "backup", "take", "hollen-fw1")
	assert.Equal(t, 3, strings.Count(e.must("backup", "list", "-device", "hollen-fw1"), "hollen-fw1"), "what failed is no backup")
	assert.Contains(t, e.must("backup", "attempts", "hollen-fw1"), "failed")
	health := decode[[]gen.BackupHealth](t, func() string { out, _, _ := e.client("", "backup", "health", "-json"); return out }())
	for _, h := range health {
		if h.Device == "hollen-fw1" {
			assert.Equal(t, gen.BackupHealthHealthFailed, h.Health)
			assert.Equal(t, 3, h.Failures)
			assert.Equal(t, int64(1), *h.LastGoodId)
		}
	}

	// By schedule: due ones are taken, and one that nobody was there for is told as missed, and made up for.
	e.refused(3, []string{"is no time to take backups at"}, "backup", "schedule", "-when", "every night")
	e.must("backup", "schedule", "-device", "gullnes-fw1", "-when", "* * * * *", "-spread", "0s")
	e.sql(`UPDATE devices SET next_backup_at = now() - interval '3 hours' WHERE name = 'gullnes-fw1'`)
	require.Eventually(t, func() bool {
		out := e.must("backup", "attempts", "gullnes-fw1")
		return strings.Contains(out, "missed") && strings.Contains(out, "complete")
	}, 30*time.Second, 200*time.Millisecond)
	// A clock that was ahead put the next one far away: it is worked out anew.
	e.sql(`UPDATE devices SET next_backup_at = now() + interval '9 years' WHERE name = 'gullnes-fw1'`)
	require.Eventually(t, func() bool {
		out, _, _ := e.client("", "backup", "health", "-json")
		for _, h := range decode[[]gen.BackupHealth](t, out) {
			if h.Device == "gullnes-fw1" {
				return h.Next != nil && time.Until(*h.Next) < 2*time.Minute
			}
		}
		return false
	}, 20*time.Second, 200*time.Millisecond)
	e.must("backup", "schedule", "-device", "gullnes-fw1", "-when", "never")

	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		all := strings.Join(heard, "\n")
		return strings.Contains(all, "backup.incomplete") && strings.Contains(all, "backup.failed") && strings.Contains(all, "backup.missed") && strings.Contains(all, `"event":"test"`)
	}, 30*time.Second, 100*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(mails.text(), "Subject: Verimorph: backup.failed hollen-fw1") }, 30*time.Second, 100*time.Millisecond)
	status, metrics, _ := e.call("GET", "/metrics", "")
	require.Equal(t, 200, status)
	assert.Contains(t, string(metrics), `verimorph_devices_by_backup{state="failed"} 1`)
	assert.Contains(t, string(metrics), `verimorph_backup_attempts_total{outcome="missed"} 1`)
	assert.NotContains(t, mails.text()+strings.Join(heard, ""), fw.Access().Password)
}

// mailbox is a mail server that takes everything.
type mailbox struct {
	addr string
	mu   sync.Mutex
	all  strings.Builder
}

func (m *mailbox) text() string { m.mu.Lock(); defer m.mu.Unlock(); return m.all.String() }

func mailServer(t *testing.T) *mailbox {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = ln.Close() })
	m := &mailbox{addr: ln.Addr().String()}
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				fmt.Fprint(c, "220 mail\r\n")
				in, data := bufio.NewScanner(c), false
				for in.Scan() {
					line := in.Text()
					m.mu.Lock()
					m.all.WriteString(line + "\n")
					m.mu.Unlock()
					switch {
					case data && line != ".":
					case data:
						data = false
						fmt.Fprint(c, "250 kept\r\n")
					case strings.HasPrefix(line, "DATA"):
						data = true
						fmt.Fprint(c, "354 go on\r\n")
					case strings.HasPrefix(line, "QUIT"):
						fmt.Fprint(c, "221 bye\r\n")
						return
					default:
						fmt.Fprint(c, "250 good\r\n")
					}
				}
			}()
		}
	}()
	return m
}

// TestKeeping: retention never takes the last good one, one that a change points to, or one on hold; what is let go is
// gone from the disk, what is kept can be exported, opened without the service, imported, and proved.
func TestKeeping(t *testing.T) {
	t.Parallel()
	offline, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	e := setUp(t, 60, mixed()[:2]...)
	e.killService()
	e.offline = offline.Recipient().String()
	e.startService()
	fw := e.firewall("hollen-fw1")
	for i := range 5 {
		require.NoError(t, fw.Change("box\n", fmt.Sprintf("# state %d\nbox\n", i)))
		e.must("backup", "take", "hollen-fw1")
	}
	e.must("backup", "hold", "2", "-reason", "the auditors")
	e.refused(2, []string{"-reason is needed"}, "backup", "hold", "3")
	assert.Contains(t, e.must("backup", "list"), "held: the auditors")
	assert.Contains(t, e.must("backup", "list", "-find", "TH-60"), "held: the auditors")
	assert.NotContains(t, e.must("backup", "list", "-find", "moon"), "held: the auditors")

	// Exports: encrypted, or masked.
	archive, plain := filepath.Join(e.dir, "b.tar.age"), filepath.Join(e.dir, "b.tar")
	e.must("backup", "export", "1", "-out", archive)
	e.must("backup", "export", "1", "-out", plain, "-masked")
	masked, err := os.ReadFile(plain)
	require.NoError(t, err)
	assert.Contains(t, string(masked), "secret ***")
	for _, secret := range []string{fw.Status().Holding["certs"], strings.Fields(fw.Status().Holding["users"])[2]} {
		assert.NotContains(t, string(masked), secret)
	}
	key := filepath.Join(e.dir, "offline.key")
	require.NoError(t, os.WriteFile(key, []byte(offline.String()+"\n"), 0o600))
	e.refused(2, []string{"-key is needed"}, "backup", "open", archive)
	out := filepath.Join(e.dir, "restored")
	e.must("backup", "open", "-key", key, "-out", out, archive)
	files, err := filepath.Glob(filepath.Join(out, "hollen-fw1", "*", "*"))
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		names = append(names, filepath.Base(f))
	}
	assert.Equal(t, []string{"boot.txt", "cables.map", "certs.box", "licences.txt", "portrait.json", "running.cfg", "saved.cfg", "system.box", "users.tbl"}, names, "under their exact names")
	volumes, err := filepath.Glob(filepath.Join(e.dir, "data", "backups", "*.vmv"))
	require.NoError(t, err)
	require.NotEmpty(t, volumes)
	assert.Contains(t, e.must(append([]string{"backup", "open", "-key", key, "-device", "hollen-fw1"}, volumes...)...), "running.cfg")
	assert.Contains(t, e.must("backup", "check", "-deep", "-store", filepath.Join(e.dir, "data", "backups"), "-key", key), "all as it was written")
	stranger, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(key+"2", []byte(stranger.String()), 0o600))
	e.refused(3, []string{"does not open it"}, "backup", "open", "-key", key+"2", archive)
	assert.Contains(t, e.must("backup", "import", archive, "-device", "gullnes-fw1"), "of gullnes-fw1: 4.2.9")
	e.refused(1, []string{"its secrets are masked, so it could never be restored"}, "backup", "import", plain)
	data, err := os.ReadFile(archive)
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(archive, data, 0o600))
	e.refused(1, []string{"damaged, or not encrypted to this installation"}, "backup", "import", archive)

	// Retention.
	e.must("backup", "schedule", "-when", "never", "-keep-days", "1", "-keep-count", "1")
	e.sql(`UPDATE backups SET taken_at = taken_at - interval '40 days' WHERE id < 5`)
	e.killService()
	e.startService()
	e.sql(`UPDATE devices SET next_backup_at = NULL`)
	status, body, _ := e.call("POST", "/api/v1/backup-prune", "{}")
	require.Equal(t, 200, status, "%s", body)
	assert.JSONEq(t, `{"let": 3}`, string(body))
	left := decode[[]gen.Backup](t, e.must("backup", "list", "-device", "hollen-fw1", "-json"))
	require.Len(t, left, 2, "the last good one, and the one on hold")
	assert.Equal(t, [2]int64{5, 2}, [2]int64{left[0].Id, left[1].Id})
	e.refused(1, []string{"backup 1 of hollen-fw1 was let go", "newer ones are kept"}, "backup", "show", "1")
	assert.Contains(t, e.must("backup", "check"), "all as it was written")

	// One byte is damaged: found, named, with what it hits; nothing wrong is given back; the next backup mends it.
	volumes, err = filepath.Glob(filepath.Join(e.dir, "data", "backups", "*.vmv"))
	require.NoError(t, err)
	for _, v := range volumes {
		data, err := os.ReadFile(v)
		require.NoError(t, err)
		data[300] ^= 4
		require.NoError(t, os.WriteFile(v, data, 0o600))
	}
	e.refused(1, []string{"damaged", filepath.Base(volumes[0]), "backup 5 of hollen-fw1"}, "backup", "check")
	e.must("backup", "take", "hollen-fw1")
	e.must("backup", "show", "7", "-part", "running")
}

// TestKeysToTheBoxes: older passwords, bounds, groups, rotation of both keys while everything goes on, and a service that
// does not start with the wrong key.
func TestKeysToTheBoxes(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, mixed()[:2]...)
	fw := e.firewall("hollen-fw1")
	require.NoError(t, fw.Arm(tarnholm.LockAccount, box.Fault{Value: 6}))
	a := fw.Access()
	require.NotEmpty(t, a.OlderPassword)
	add := func(code int, says, secret string, args ...string) {
		out, stderr, got := e.client(secret+"\n", append([]string{"credential", "add"}, args...)...)
		require.Equal(t, code, got, out+stderr)
		assert.Contains(t, out+stderr, says)
		assert.NotContains(t, out+stderr, secret+"\n")
	}
	add(3, "needs a user and a password", "x", "-device", "hollen-fw1")
	add(3, "versions \">\"", "x", "-device", "hollen-fw1", "-user", "u", "-versions", ">")
	add(2, "-device or -group", "x", "-kind", "password")
	add(1, "there is no device", "x", "-device", "nobody", "-user", "u")
	add(0, "never shown again", a.OlderPassword, "-device", "hollen-fw1", "-user", a.User, "-versions", a.OlderVersion)
	add(0, "never shown again", a.OlderWatchword, "-device", "hollen-fw1", "-kind", "privileged", "-versions", a.OlderVersion)
	add(0, "never shown again", "long-enough-1", "-group", "piers", "-kind", "snmp-v3", "-user", "reader")
	e.must("device", "set", "gullnes-fw1", "-groups", "piers,firewalls")
	assert.Contains(t, e.must("credential", "list", "-device", "gullnes-fw1"), "group piers")
	assert.NotContains(t, e.must("credential", "list", "-json"), a.Password)

	// The older password is not tried while the version is the newer one.
	e.must("backup", "take", "hollen-fw1")
	assert.Equal(t, 0, fw.Status().Refusals)
	// The box is taken back to the other slot: its older passwords apply, and are tried after the one that should fit.
	ssh := func(lines ...string) { e.typeAt(a, lines...) }
	ssh("raise", a.Watchword, "next b", "cycle", "yes")
	require.Eventually(t, func() bool { st := fw.Status(); return st.Version == "4.2.3" && st.Phase == "ready" }, 30*time.Second, 50*time.Millisecond)
	e.must("device", "refresh", "hollen-fw1")
	assert.Contains(t, e.must("audit", "-device", "hollen-fw1"), "credential refused")
	e.must("backup", "take", "hollen-fw1")
	assert.Equal(t, 0, fw.Status().Refusals, "the version is known now, so its password is the first")

	// Nobody has the right password: trying ends before the account is locked, also over many attempts.
	e.must("credential", "tries", "-bound", "2", "-rest", "1h")
	out, _, code := e.client("wrong-1\nwrong-2\n", "device", "credentials", "hollen-fw1", "-user", a.User)
	require.Equal(t, 0, code, out)
	for _, c := range decode[[]gen.Credential](t, e.must("credential", "list", "-device", "hollen-fw1", "-json")) {
		if c.Versions != "" {
			e.must("credential", "remove", fmt.Sprint(c.Id))
		}
	}
	for range 5 {
		e.client("", "device", "refresh", "hollen-fw1")
	}
	assert.LessOrEqual(t, fw.Status().Refusals, 2)
	e.refused(3, []string{"sign-ins in a row were refused", "the next is not risked before"}, "backup", "take", "hollen-fw1")
	_, _, code = e.client(a.OlderPassword+"\n"+a.OlderWatchword+"\n", "device", "credentials", "hollen-fw1", "-user", a.User)
	require.Equal(t, 0, code)
	e.must("backup", "take", "hollen-fw1")

	// Host keys.
	e.refused(3, []string{"is not a public key"}, "device", "host-key", "gullnes-fw1", "nonsense")
	e.must("device", "host-key", "gullnes-fw1", a.HostKey)
	e.refused(3, []string{"not the pinned one"}, "device", "refresh", "gullnes-fw1")
	ch := func() gen.Change {
		e.must("device", "host-key", "gullnes-fw1")
		e.must("backup", "take", "gullnes-fw1")
		require.NoError(t, e.firewall("gullnes-fw1").Arm(tarnholm.NewHostKey, box.Fault{}))
		c := decode[gen.Change](t, e.must("backup", "restore", "4", "-parts", "system", "-expect-new-host-key", "-draft", "-json"))
		return e.run(c.Id)
	}()
	require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	assert.Contains(t, e.must("change", "journal", fmt.Sprint(ch.Id)), "another host key, which this change expects")
	e.must("device", "refresh", "gullnes-fw1")

	// Both keys are changed while backups go on.
	before := decode[gen.Keys](t, e.must("key", "show", "-json"))
	stop, done := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		defer func() { done <- n }()
		for {
			select {
			case <-stop:
				return
			default:
			}
			if _, _, code := e.client("", "backup", "take", "gullnes-fw1"); code != 0 {
				t.Error("a backup failed while keys were changed")
			}
			n++
		}
	}()
	e.must("key", "rotate", "data")
	e.must("key", "rotate", "installation")
	close(stop)
	assert.Positive(t, <-done)
	after := decode[gen.Keys](t, e.must("key", "show", "-json"))
	assert.NotEqual(t, before.Recipient, after.Recipient)
	assert.Empty(t, after.Older)
	assert.Greater(t, after.DataKey, before.DataKey)
	assert.Contains(t, e.must("backup", "check", "-deep"), "all as it was written")
	e.must("backup", "take", "hollen-fw1")
	e.refused(3, []string{"which is data or installation"}, "key", "rotate", "house")

	// The service does not start without its key, nor with another one, and says what to do; nothing is lost by it.
	e.killService()
	file := filepath.Join(e.dir, "data", "key")
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.Remove(file))
	assert.Contains(t, e.failToStart(), "is missing, but the records are encrypted with the key "+after.Recipient)
	assert.NoFileExists(t, file)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(other.String()), 0o600))
	assert.Contains(t, e.failToStart(), "Put the right key file there")
	require.NoError(t, os.WriteFile(file, good, 0o600))
	e.startService()
	e.must("backup", "take", "hollen-fw1")
}

// failToStart starts the service, which must end by itself, and returns what it says.
func (e *env) failToStart() string {
	e.t.Helper()
	ctx, cancel := context.WithTimeout(e.t.Context(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(binDir, "verimorphd"), "-listen", e.url, "-transfer-listen", e.transfer, "-data", filepath.Join(e.dir, "data"))
	cmd.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL="+e.database)
	out, err := cmd.CombinedOutput()
	require.Error(e.t, err)
	require.NoError(e.t, ctx.Err())
	return string(out)
}

// TestConsoleBackups looks at health, history, a restore with its preview, search, schedules, the check, and keys.
func TestConsoleBackups(t *testing.T) {
	t.Parallel()
	e := setUp(t, 40, mixed()...)
	e.must("catalogue", "load", "../demo/catalog")
	fw := e.firewall("hollen-fw1")
	for _, b := range mixed()[:4] {
		e.must("backup", "take", b.name)
	}
	require.NoError(t, fw.Arm(tarnholm.SendsHalf, box.Fault{}))
	e.refused(1, nil, "backup", "take", "hollen-fw1")
	require.NoError(t, fw.Change("via 198.51.100.89", "via 198.51.100.94"))
	require.NoError(t, fw.Change("name hollen-fw1", "name hollen-fw9"))
	e.must("backup", "hold", "2", "-reason", "the auditors")
	archive, masked := filepath.Join(e.dir, "a.tar.age"), filepath.Join(e.dir, "m.tar")
	e.must("backup", "export", "1", "-out", archive)
	e.must("backup", "export", "1", "-out", masked, "-masked")
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		clickText("a", "Backups"), text("main", "2 of 5 devices need a look"), text("table", "not complete"), text("table", "never backed up"), text("table", "it lacks: Whole-system archive"), shot("backup-health"),
		click(`button[title="Take a backup of marrow-ramp1 now"]`), text("main", "1 of 5 devices need a look"),
		clickText("button", "All backups"), text("table", "held: the auditors"), typed(`input[type=search]`, "fw1"), lacks("table", "control-sg1"), text("table", "hollen-fw1"),
		chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="Archive"]`), []string{masked}), clickText("button", "Take over"), text("[role=alert]", "its secrets are masked"),
		chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="Archive"]`), []string{archive}), typed("input[name=import-device]", "gullnes-fw1"), clickText("button", "Take over"), text("[role=status]", "backup 7 of gullnes-fw1"),
		clickText("button", "Search"), typed("form input:not([type=checkbox])", "tickets"), entered("form input:not([type=checkbox])"), text("table", "control-sg1"), text("main", "configurations"),
		clickText("button", "Schedules and keeping"), text("table", "every other device"), chosen(`main select`, "group"), typed("form label:nth-of-type(2) input", "piers"), clickText("button", "Set"), text("table", "group piers"),
		clickText("button", "Let go now"), text("[role=status]", "0 let go"),
		clickText("button", "The store"), clickText("button", "Deep check"), text("[role=status]", "all as it was written"))
	do(clickText("button", "Health"), clickText("a", "hollen-fw1"), text("h1", "History of hollen-fw1"), text("main", "backup 1"), clickText("button", "Drift now?"), text("main", "route 0.0.0.0/0"), text("main", "box / name"), top())
	do(clickText("a", "backup 1"), text("h1", "Backup 1"), text("main", "the device's own SHA-256"), click(`button[aria-label="Read Running configuration"]`), text("pre", "secret ***"),
		click(`button[aria-label="Read Running configuration"]`), gone("pre.overflow-auto"),
		typed("input[role=combobox]", "gull"), text("[role=option]", "gullnes-fw1"), click("[role=option]"), text("main", "It was taken on hollen-fw1, which is another device"),
		emptied("input[role=combobox]"), typed("input[role=combobox]", "pier test"), text("[role=listbox]", "hollen-fw1"), emptied("input[role=combobox]"), typed("input[role=combobox]", "hollen"), lacks("[role=listbox]", "gullnes"), click("[role=option]"), lacks("main", "It was taken on"),
		clickText("button", "What would it change?"), text("[role=status]", "guarded setting would change"), lacks("main", "Draft the change"),
		clickText("label", "guarded settings may change"), clickText("button", "What would it change?"), text("[role=status]", "route 0.0.0.0/0"), top(), shot("restore"),
		clickText("button", "Draft the change"), text("h1", "Change 1"), text("main", "What is put back"), text("main", "running.cfg"), click(`#approve`), text("#state", "approved"), click(`#start`), visible(`#sure`), click(`#sure`),
		text("#verdict", "verdict: pass"), text("main", "13 of 13 steps"), clickText("button", "Steps"), top())
	assert.Contains(t, fw.Status().Config, "via 198.51.100.89")
	do(clickText("a", "Fleet"), clickText("a", "gullnes-fw1"), click("#settings"), typed("input[name=groups]", "piers, a/b"), clickText("button", "Write"), text("[role=alert]", "use up to 63 letters"), emptied("input[name=groups]"), typed("input[name=groups]", "piers"),
		clickText("button", "Write"), gone("[role=dialog]"), text("main", "piers"), clickText("button", "Host key"), typed("input[name=host-key]", "nonsense"), clickText("button", "Pin this key"), text("[role=alert]", "is not a public key"),
		emptied("input[name=host-key]"), typed("input[name=host-key]", e.access("gullnes-fw1").HostKey), clickText("button", "Pin this key"), gone("[role=dialog]"))
	do(clickText("a", "Configurations"), clickText("button", "Compare"), typed("fieldset:nth-of-type(1) input[role=combobox]", "nothing like it"), text("[role=listbox]", "Nothing fits"), emptied("fieldset:nth-of-type(1) input[role=combobox]"),
		typed("fieldset:nth-of-type(1) input[role=combobox]", "gullnes"), text("[role=option]", "backup 7"), click("[role=option]"), gone("[role=listbox]"),
		typed("fieldset:nth-of-type(2) input[role=combobox]", "hollen"), text("[role=listbox]", "backup 1"), shot("choose"), click("[role=option]"), click("main section button"), text("main", "Side by side"))
	do(clickText("a", "Keys"), text("table", "user and password"), text("main", "credential used"), typed("input[name=credential-of]", "hollen-fw1"), typed("input[name=credential-versions]", "4.2.3"), typed("input[name=credential-user]", "bosun"),
		typed("input[name=credential-password]", "older-word-7"), clickText("button", "Add"), text("table", "4.2.3"), lacks("body", "older-word-7"), clickText("button", "New data key"), click("#rotate"), text("main", "Data key 2"), text("main", "data key rotated"), top(), shot("keys"))
}

// typeAt types lines at a firewall's own command line.
func (e *env) typeAt(a box.Access, lines ...string) {
	e.t.Helper()
	conn, err := ssh.Dial("tcp", a.Address, &ssh.ClientConfig{User: a.User, Auth: []ssh.AuthMethod{ssh.Password(a.Password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(e.t, err)
	defer conn.Close()
	s, err := conn.NewSession()
	require.NoError(e.t, err)
	in, err := s.StdinPipe()
	require.NoError(e.t, err)
	require.NoError(e.t, s.Shell())
	for _, l := range lines {
		time.Sleep(100 * time.Millisecond)
		_, err := io.WriteString(in, l+"\r")
		require.NoError(e.t, err)
	}
	time.Sleep(200 * time.Millisecond)
}

// A restore that restarts the device goes on after kill -9 from where the device stands, and restarts it once.
func TestARestoreIsKilled(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, mixed()[0])
	fw := e.firewall("hollen-fw1")
	e.must("backup", "take", "hollen-fw1")
	require.NoError(t, fw.Change("via 198.51.100.89", "via 198.51.100.94"))
	boots := fw.Status().Boots
	ch := decode[gen.Change](t, e.must("backup", "restore", "1", "-parts", "users,system", "-draft", "-json"))
	id := fmt.Sprint(ch.Id)
	e.must("change", "approve", id)
	e.must("change", "start", id)
	for _, kind := range []string{"put-part", "restart", "login", "compare-parts"} {
		e.awaitStep(id, 0, kind)
		e.killService()
		e.startService()
	}
	ch = e.awaitEnd(id)
	assert.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	assert.Equal(t, boots+1, fw.Status().Boots)
	assert.Contains(t, fw.Status().Config, "via 198.51.100.89")
	assert.Contains(t, e.must("backup", "check", "-deep"), "all as it was written")
}

// The contract of backups and keys: what is refused and why; a creating call with a key happens once; lists have pages.
func TestCallsOfBackups(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, mixed()[:2]...)
	e.must("backup", "take", "hollen-fw1")
	e.must("backup", "take", "hollen-fw1")
	body := func(v any) string {
		data, err := json.Marshal(v)
		require.NoError(t, err)
		return string(data)
	}
	schedule := func(more m) m {
		s := m{"when": "30 1 * * *", "spreadMinutes": 5, "keepDays": 5, "keepCount": 5}
		for k, v := range more {
			s[k] = v
		}
		return s
	}
	places := m{"webhook": "", "smtp": "", "smtpUser": "", "from": "", "to": []string{}}
	with := func(more m) m {
		out := m{}
		for k, v := range places {
			out[k] = v
		}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	for _, c := range []struct {
		method, path string
		body         any
		status       int
		says         string
	}{
		{"POST", "/backups", m{"device": "nobody"}, 404, "there is no device"},
		{"GET", "/backups/99", nil, 404, "there is no backup 99"},
		{"GET", "/backups/99/text", nil, 404, "there is no backup 99"},
		{"GET", "/backups/99/parts/running", nil, 404, "there is no backup 99"},
		{"GET", "/backups/1/parts/sails", nil, 404, "has no part"},
		{"GET", "/backups/1/parts/certificates", nil, 409, "is a secret as a whole"},
		{"GET", "/backups/1/parts/licences", nil, 409, "is a secret as a whole"},
		{"GET", "/backups/1/compare/99", nil, 404, "there is no backup 99"},
		{"GET", "/backups/99/compare/1", nil, 404, "there is no backup 99"},
		{"GET", "/backups?limit=0", nil, 400, "limit must be"},
		{"PUT", "/backups/99/hold", m{"reason": "x"}, 404, "there is no backup 99"},
		{"PUT", "/backups/1/hold", m{"reason": " "}, 400, "a hold needs a reason"},
		{"DELETE", "/backups/99/hold", nil, 404, "there is no backup 99"},
		{"GET", "/backups/99/export?form=archive", nil, 404, "there is no backup 99"},
		{"GET", "/backups/1/export?form=archive&recipient=age1nonsense", nil, 400, "is no age recipient"},
		{"GET", "/backups/1/export", nil, 400, "form"},
		{"POST", "/backup-imports", m{}, 422, "no tar archive"},
		{"POST", "/backups/99/restore-preview", m{}, 404, "there is no backup 99"},
		{"POST", "/backups/1/restore-preview", m{"device": "nobody"}, 404, "there is no device"},
		{"POST", "/backups/1/restore-preview", m{"parts": []string{"sails"}}, 400, "has no part \\\"sails\\\"; it has: running, saved"},
		{"POST", "/backups/1/restore", m{"parts": []string{"boot"}}, 409, "cannot be put back"},
		{"POST", "/backups/1/restore", m{"conversion": 7}, 409, "there is nothing to convert"},
		{"POST", "/backup-search", m{"text": "(", "pattern": true}, 400, "the pattern cannot be read"},
		{"GET", "/devices/nobody/history", nil, 404, "there is no device"},
		{"GET", "/devices/nobody/drift", nil, 404, "there is no device"},
		{"GET", "/devices/nobody/backup-attempts", nil, 404, "there is no device"},
		{"PUT", "/backup-schedules", schedule(m{"when": "at tea"}), 400, "is no time to take backups at"},
		{"PUT", "/backup-schedules", schedule(m{"device": "hollen-fw1", "group": "g"}), 400, "not both"},
		{"PUT", "/backup-schedules", schedule(m{"device": "nobody"}), 404, "there is no device"},
		{"PUT", "/backup-schedules", schedule(m{"keepDays": -1}), 400, "keepDays"},
		{"PUT", "/backup-schedules", schedule(m{"spreadMinutes": 5000}), 400, "spreadMinutes"},
		{"DELETE", "/backup-schedules/1", nil, 404, "that of every device stays"},
		{"PUT", "/notifications", with(m{"webhook": "ftp://x"}), 400, "should look like https"},
		{"PUT", "/notifications", with(m{"smtp": "mail"}), 400, "should look like mail"},
		{"PUT", "/notifications", with(m{"smtp": "mail:25", "from": "a@b", "to": []string{"a@b\r\nBcc: c@d"}}), 400, "is no mail address"},
		{"PUT", "/notifications", with(m{"smtp": "mail:25", "from": "a@b"}), 400, "somebody to go to"},
		{"POST", "/notifications", m{}, 409, "no webhook and no mail server"},
		{"GET", "/credentials?device=nobody", nil, 404, "there is no device"},
		{"POST", "/credentials", m{"kind": "password", "user": "u", "password": "p"}, 400, "for a device or for a group"},
		{"POST", "/credentials", m{"kind": "password", "user": "u", "password": "p", "device": "hollen-fw1", "group": "g"}, 400, "for a device or for a group"},
		{"POST", "/credentials", m{"kind": "charm", "device": "hollen-fw1"}, 400, "is not known"},
		{"POST", "/credentials", m{"kind": "key", "user": "u", "privateKey": "nonsense", "device": "hollen-fw1"}, 400, "cannot be read"},
		{"POST", "/credentials", m{"kind": "password", "user": "u", "password": "p", "group": "../x"}, 400, "group"},
		{"DELETE", "/credentials/99", nil, 404, "there is no credential 99"},
		{"PUT", "/sign-in-tries", m{"bound": 0, "restSeconds": 60}, 400, "bound is from 1 to 10"},
		{"PUT", "/sign-in-tries", m{"bound": 3, "restSeconds": 1}, 400, "restSeconds from 10"},
		{"POST", "/keys", m{"which": "house"}, 400, "which is data or installation"},
		{"GET", "/audit?cursor=x", nil, 400, "is not one that a list gave"},
		{"PUT", "/devices/hollen-fw1/host-key", m{"hostKey": ""}, 400, "is not a public key"},
		{"PATCH", "/devices/hollen-fw1", m{"web": "ftp://x"}, 400, "should look like https"},
		{"PATCH", "/devices/hollen-fw1", m{"web": "https://user:word@x"}, 400, "without a password"},
		{"PATCH", "/devices/hollen-fw1", m{"groups": []string{"a/b"}}, 400, "group"},
		{"PATCH", "/devices/nobody", m{}, 404, "there is no device"},
	} {
		sent := ""
		if c.body != nil {
			sent = body(c.body)
		}
		var headers []string
		if c.path == "/backup-imports" {
			headers = []string{"Content-Type", "application/octet-stream"}
		}
		status, answer, _ := e.call(c.method, "/api/v1"+c.path, sent, headers...)
		assert.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, answer)
		assert.Contains(t, string(answer), c.says, "%s %s", c.method, c.path)
	}

	// Once is once: for credentials and for drafts of a restore.
	for path, sent := range map[string]m{"/credentials": {"kind": "password", "user": "u", "password": "p", "group": "piers"}, "/backups/1/restore": {"parts": []string{"users"}}} {
		var first string
		for i := range 2 {
			status, answer, _ := e.call("POST", "/api/v1"+path, body(sent), "Idempotency-Key", "k"+path)
			require.Equal(t, 201, status, "%s", answer)
			var made struct{ ID int64 }
			require.NoError(t, json.Unmarshal(answer, &made))
			if i == 0 {
				first = fmt.Sprint(made.ID)
			} else {
				assert.Equal(t, first, fmt.Sprint(made.ID), path)
			}
		}
		sent["group"], sent["parts"] = "others", []string{"cables"}
		status, answer, _ := e.call("POST", "/api/v1"+path, body(sent), "Idempotency-Key", "k"+path)
		assert.Equal(t, 400, status, "%s", answer)
		assert.Contains(t, string(answer), "was used for another request")
	}
	// Pages.
	for path, want := range map[string]int{"/backups": 2, "/backup-health": 2, "/audit": 5} {
		seen, cursor := map[string]bool{}, ""
		for range 100 {
			status, answer, _ := e.call("GET", "/api/v1"+path+"?limit=1&cursor="+cursor, "")
			require.Equal(t, 200, status, "%s", answer)
			var page struct {
				Items []json.RawMessage
				Next  string
			}
			require.NoError(t, json.Unmarshal(answer, &page))
			for _, it := range page.Items {
				assert.False(t, seen[string(it)], "%s gives one twice", path)
				seen[string(it)] = true
			}
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		assert.GreaterOrEqual(t, len(seen), want, path)
	}
	// A draft of a restore for a device that has become another one in the meantime does not touch it.
	ch := decode[gen.Change](t, e.must("backup", "restore", "1", "-parts", "cables", "-draft", "-json"))
	e.sql(`UPDATE changes SET work = jsonb_set(work, '{serial}', '"other"') WHERE id = $1`, ch.Id)
	ch = e.run(ch.Id)
	assert.Equal(t, gen.ChangeStateFailed, ch.State)
	assert.Contains(t, value(ch.Failure), "this restore was drafted for other")
	// And one whose backup is damaged puts nothing on the device.
	ch = decode[gen.Change](t, e.must("backup", "restore", "1", "-parts", "cables", "-draft", "-json"))
	volumes, err := filepath.Glob(filepath.Join(e.dir, "data", "backups", "*.vmv"))
	require.NoError(t, err)
	for _, v := range volumes {
		require.NoError(t, os.Truncate(v, 400))
	}
	e.killService() // it may still have the content in mind
	e.startService()
	ch = e.run(ch.Id)
	assert.Equal(t, gen.ChangeStateFailed, ch.State)
	assert.Contains(t, value(ch.Failure), "nothing was put on the device")
}
