package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/backupstore"
	"verimorph/core/backup"
)

// keyRing is one key, with its file.
type keyRing struct {
	id   *age.X25519Identity
	file string
}

func newKeyRing(t *testing.T) keyRing {
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	k := keyRing{id, filepath.Join(t.TempDir(), "key")}
	require.NoError(t, os.WriteFile(k.file, []byte("# mine\n"+id.String()+"\n"), 0o600))
	return k
}

func (k keyRing) Recipients() ([]age.Recipient, error) {
	return []age.Recipient{k.id.Recipient()}, nil
}
func (k keyRing) Identities() ([]age.Identity, error) { return []age.Identity{k.id}, nil }

func oneBundle(device string, day int) (*backup.Manifest, map[string][]byte) {
	return &backup.Manifest{Device: device, Version: "5.0.7", TakenAt: time.Date(2026, 2, day, 1, 2, 3, 0, time.UTC), Reason: backup.OnDemand, Parts: []backup.Part{
			{Name: "running", Title: "R", Kind: backup.Configuration, File: "cfg/running.cfg"}, {Name: "users", Title: "U", Kind: backup.Users, File: "users.tbl"}}},
		map[string][]byte{"running": fmt.Appendf(nil, "box %d\n", day), "users": []byte("all the same\n")}
}

// Without a service: volumes and archives are listed, opened, and the store is proved.
func TestOpeningWithoutTheService(t *testing.T) {
	k, dir := newKeyRing(t), t.TempDir()
	s, err := backupstore.Open(dir, k)
	require.NoError(t, err)
	defer s.Close()
	for day := 1; day <= 2; day++ {
		m, parts := oneBundle("fw1", day)
		_, err := s.Put(m, parts)
		require.NoError(t, err)
	}
	volumes, err := s.Files()
	require.NoError(t, err)
	out, stderr, code := runWith(t, "", append([]string{"backup", "open", "-key", k.file}, volumes...)...)
	require.Equal(t, exitDone, code, stderr)
	assert.Equal(t, 2, strings.Count(out, "fw1"))
	assert.Equal(t, 2, strings.Count(out, "cfg/running.cfg users.tbl"), "what one volume lacks lies in the other")
	alone := 0
	for _, v := range volumes {
		out, _, code := runWith(t, "", "backup", "open", "-json", "-key", k.file, v)
		require.Equal(t, exitDone, code)
		var found []struct{ Missing []string }
		require.NoError(t, json.Unmarshal([]byte(out), &found))
		require.Len(t, found, 1)
		alone += len(found[0].Missing)
	}
	assert.Equal(t, 1, alone, "without the other it is said")
	to := filepath.Join(t.TempDir(), "out")
	out, stderr, code = runWith(t, "", append([]string{"backup", "open", "-json", "-key", k.file, "-out", to}, volumes...)...)
	require.Equal(t, exitDone, code, stderr)
	var found []struct{ Folder string }
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	require.Len(t, found, 2)
	texts := map[string]bool{}
	for _, f := range found {
		data, err := os.ReadFile(filepath.Join(f.Folder, "cfg", "running.cfg"))
		require.NoError(t, err)
		texts[string(data)] = true
		st, err := os.Stat(filepath.Join(f.Folder, "cfg", "running.cfg"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	}
	assert.Equal(t, map[string]bool{"box 1\n": true, "box 2\n": true}, texts)
	out, _, code = runWith(t, "", append([]string{"backup", "open", "-key", k.file, "-device", "fw2"}, volumes...)...)
	assert.Equal(t, exitDone, code)
	assert.NotContains(t, out, "fw1")

	out, _, code = runWith(t, "", "backup", "check", "-deep", "-store", dir, "-key", k.file)
	assert.Equal(t, exitDone, code)
	assert.Contains(t, out, "2 volumes, 2 backups, 5 contents")
	assert.Contains(t, out, "all as it was written")
	data, err := os.ReadFile(volumes[0])
	require.NoError(t, err)
	data[len(data)-3] ^= 1
	require.NoError(t, os.WriteFile(volumes[0], data, 0o600))
	out, _, code = runWith(t, "", "backup", "check", "-store", dir, "-key", k.file)
	assert.Equal(t, exitNo, code)
	assert.Contains(t, out, filepath.Base(volumes[0]))
	_, stderr, code = runWith(t, "", "backup", "open", "-key", k.file, volumes[0])
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, filepath.Base(volumes[0]))

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"backup", "open", volumes[1]}, exitUsage, "-key is needed"},
		{[]string{"backup", "open", "-key", dir + "/none", volumes[1]}, exitFailed, "no such file"},
		{[]string{"backup", "open", "-key", newKeyRing(t).file, volumes[1]}, exitFailed, "none of the keys opens it"},
		{[]string{"backup", "open", "-key", k.file, dir + "/none.vmv"}, exitFailed, "no such file"},
		{[]string{"backup", "check", "-store", dir}, exitUsage, "-key is needed"},
		{[]string{"backup", "check", "-store", dir + "/none", "-key", k.file}, exitFailed, "is no folder"},
	} {
		_, stderr, code := runWith(t, "", c.args...)
		assert.Equal(t, c.code, code, c.args)
		assert.Contains(t, stderr, c.says)
	}
}

func TestOpeningArchives(t *testing.T) {
	k, dir := newKeyRing(t), t.TempDir()
	m, parts := oneBundle("fw1", 3)
	m.Format, m.ID = backup.Format, "abcdefgh"
	for i := range m.Parts {
		p := &m.Parts[i]
		p.Size = int64(len(parts[p.Name]))
		p.SHA256 = map[string]string{"running": "", "users": ""}[p.Name]
	}
	s, err := backupstore.Open(t.TempDir(), k)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Put(m, parts) // it fills in the sums
	require.NoError(t, err)
	var plain, sealed bytes.Buffer
	require.NoError(t, backup.WriteArchive(&plain, m, func(p *backup.Part) ([]byte, error) { return parts[p.Name], nil }))
	w, err := age.Encrypt(&sealed, k.id.Recipient())
	require.NoError(t, err)
	_, err = w.Write(plain.Bytes())
	require.NoError(t, errors.Join(err, w.Close()))
	for name, data := range map[string][]byte{"a.tar": plain.Bytes(), "a.tar.age": sealed.Bytes()} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		out, stderr, code := runWith(t, "", "backup", "open", "-key", k.file, "-out", filepath.Join(dir, "out"), file)
		require.Equal(t, exitDone, code, stderr)
		assert.Contains(t, out, "20260203-010203-abcdef")
		require.NoError(t, os.WriteFile(file, data[:len(data)/2], 0o600))
		_, stderr, code = runWith(t, "", "backup", "open", "-key", k.file, file)
		assert.Equal(t, exitFailed, code)
		assert.Contains(t, stderr, name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.tar.age"), sealed.Bytes(), 0o600))
	_, stderr, code := runWith(t, "", "backup", "open", "-key", newKeyRing(t).file, filepath.Join(dir, "b.tar.age"))
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "this key does not open it")
}

// What the service answers is said in words, and decides the exit code.
func TestBackupsInWords(t *testing.T) {
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	b := gen.Backup{Id: 4, Device: "fw1", Model: "TH-60", Version: "5.0.7", Size: 2048, TakenAt: at, Reason: "schedule", Complete: false, Lacks: []string{"Users"}, Held: "audit"}
	change, hop := int64(7), 2
	older := gen.Backup{Id: 3, Device: "fw1", Version: "4.2.9", TakenAt: at, Reason: "change", Change: &change, Hop: &hop, Complete: true, Lacks: []string{}}
	guarded := "it moves a ramp"
	diff := gen.Difference{Kind: "changed", Path: "drive 1 / speed", Old: "speed = 35", New: "speed = 36", OldLine: 4, NewLine: 4, Guarded: &guarded}
	answers := map[string]any{
		"GET /backups":                     gen.BackupPage{Items: []gen.Backup{b, older}},
		"POST /backups":                    b,
		"GET /backups/4":                   gen.BackupDetail{Backup: b, Parts: []gen.BackupPart{{Name: "running", Title: "R", Kind: "configuration", File: "running.cfg", Size: 9, Sha256: strings.Repeat("ab", 32), By: "sftp", Proof: "read twice", Restorable: true}}, Lacks: []gen.BackupLack{{Title: "Users", Why: "refused", Needed: true}, {Title: "Maps", Why: "none"}}},
		"GET /backups/3/compare/4":         map[string]any{"items": []gen.Difference{diff}, "parts": []gen.PartComparison{{Name: "users", Title: "Users", State: "missing"}, {Name: "boot", Title: "Boot", State: "same"}}},
		"GET /devices/fw1/history":         map[string]any{"items": []gen.ConfigurationState{{Backup: older, Times: 3, LastSeen: at}}},
		"GET /devices/fw1/drift":           gen.Drift{Unsaved: []gen.Difference{}, SinceBackup: []gen.Difference{diff}, Backup: &older, Note: ptrTo("the device does not tell its saved configuration")},
		"GET /devices/fw1/backup-attempts": map[string]any{"items": []gen.BackupAttempt{{Device: "fw1", Reason: "schedule", BeganAt: at, Outcome: "missed", Detail: "nobody was there"}}},
		"GET /backup-health":               map[string]any{"items": []gen.BackupHealth{{Device: "fw1", Health: "failed", LastGood: &at, Last: &gen.BackupAttempt{Outcome: "failed", Detail: "no answer", BeganAt: at}, Failures: 2}, {Device: "fw2", Health: "never"}}},
		"POST /backup-search":              gen.SearchResult{Items: []gen.SearchHit{{Device: "fw1", Backup: 4, Line: 12, Text: "  to 10.0.0.1"}}, Devices: 2, Unread: []string{"fw2: damaged"}},
		"POST /backup-check":               gen.BackupCheck{Volumes: 2, Bundles: 2, Objects: 3, Stored: 5 << 20, Content: 7 << 20, Damages: []gen.BackupDamage{{Volume: "x.vmv", What: "group 1 is damaged", Backups: []gen.Backup{b}}}},
		"POST /backup-prune":               map[string]int{"let": 2},
		"GET /backup-schedules":            map[string]any{"items": []gen.BackupSchedule{{Id: ptrTo(int64(1)), When: "", KeepDays: 3, KeepCount: 4}, {Id: ptrTo(int64(2)), Group: ptrTo("piers"), When: "0 1 * * *", SpreadMinutes: 90}}},
		"POST /backups/4/restore-preview":  gen.RestorePreview{Backup: b, Device: "fw1", Model: "TH-60", Version: "5.0.7", Notes: []string{"another serial"}, Refusals: []string{"one guarded setting"}, Parts: []gen.RestorePartPreview{{Title: "Running", File: "running.cfg", State: "changes", Save: true, Differences: []gen.Difference{diff}, Note: "converted"}, {Title: "System", File: "system.box", State: "new", Restart: true}}},
		"GET /credentials":                 map[string]any{"items": []gen.Credential{{Id: 1, Device: ptrTo("fw1"), Kind: "password", User: "bosun", Versions: "4.x"}, {Id: 2, Group: ptrTo("piers"), Kind: "http-token", UsedAt: &at}}},
		"GET /sign-in-tries":               gen.SignInTries{Bound: 3, RestSeconds: 900},
		"GET /keys":                        gen.Keys{Recipient: "age1x", Older: []string{"age1y"}, Offline: 1, DataKey: 4, DataKeyAt: at},
		"POST /keys":                       gen.Keys{Recipient: "age1z", Older: []string{}, DataKey: 5, DataKeyAt: at},
		"GET /audit":                       map[string]any{"items": []gen.AuditLine{{At: at, Who: "engineer", Event: "credential used", Device: "fw1", Detail: "credential 1, refresh"}}},
		"GET /notifications":               gen.Notifications{Webhook: "http://hook", To: []string{"a@b"}},
	}
	says(t, answers, map[string]said{
		"backup list":                             {exitDone, []string{"NO, lacks Users", "held: audit", "change 7, before hop 2"}},
		"backup take fw1":                         {exitNo, []string{"It is NOT complete; it lacks: Users"}},
		"backup show 4":                           {exitDone, []string{"abababababab", "lacks Users: refused", "has no Maps: none", "NOT complete.", "Held: audit"}},
		"backup compare 3 4":                      {exitNo, []string{"~ changed  drive 1 / speed", "guarded: it moves a ramp", "part users (Users): missing"}},
		"backup history fw1":                      {exitDone, []string{"change 7, before hop 2"}},
		"backup drift fw1":                        {exitNo, []string{"From what is saved to what runs:\nNo difference.", "From backup 3 to what runs", "does not tell its saved"}},
		"backup attempts fw1":                     {exitDone, []string{"missed", "nobody was there"}},
		"backup health":                           {exitNo, []string{"failed", "no answer", "never"}},
		"backup search to":                        {exitDone, []string{"fw1, backup 4, line 12:  to 10.0.0.1", "? fw2: damaged", "1 line in 2 configurations"}},
		"backup check":                            {exitNo, []string{"damaged x.vmv group 1 is damaged", "backup 4 of fw1", "5.0 MiB read, 7.0 MiB unpacked", "1 damage"}},
		"backup prune":                            {exitDone, []string{"2 backups let go"}},
		"backup schedule":                         {exitDone, []string{"every device", "never", "group piers", "1h30m0s"}},
		"backup schedule -when never":             {exitDone, []string{"every device"}},
		"backup schedule -remove 2":               {exitDone, nil},
		"backup restore 4":                        {exitNo, []string{"! another serial", "Running (running.cfg): changes, is saved then", "converted", "is not on the device now, and the device is restarted", "It cannot be done so: one guarded setting"}},
		"backup hold 4 -reason x":                 {exitDone, nil},
		"backup release 4":                        {exitDone, nil},
		"backup hold nonsense -reason x":          {exitUsage, []string{"nonsense"}},
		"credential list":                         {exitDone, []string{"group piers", "4.x", "never"}},
		"credential remove 1":                     {exitDone, nil},
		"credential tries":                        {exitDone, []string{"3 refused sign-ins in a row are risked, then a rest of 15m0s"}},
		"credential add -device fw1 -kind key":    {exitUsage, []string{"-key-file is needed"}},
		"credential add -device fw1 -group piers": {exitUsage, []string{"-device or -group is needed"}},
		"key show":                                {exitDone, []string{"age1x", "on its way out: age1y", "Offline keys  1"}},
		"key rotate data":                         {exitDone, []string{"age1z", "Data key      5"}},
		"audit":                                   {exitDone, []string{"credential used"}},
		"notify":                                  {exitDone, []string{"Webhook      http://hook", "Mail server  none", "a@b"}},
		"notify -webhook - -test":                 {exitDone, []string{"Webhook      none", "A test was delivered."}},
		"device host-key fw1":                     {exitDone, nil},
		"device set fw1":                          {exitUsage, []string{"say what to change"}},
	})
}

// said is the exit code of a command and what it says on the way.
type said struct {
	code int
	says []string
}

// says runs commands against a service that gives the same answers always: what stands in them must be said in words, decide
// the exit code, and be given as JSON when that is asked for.
func says(t *testing.T, answers map[string]any, lines map[string]said) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer, ok := answers[r.Method+" "+strings.TrimPrefix(r.URL.Path, "/api/v1")]
		if !ok {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(answer)
	}))
	t.Cleanup(server.Close)
	for line, c := range lines {
		out, stderr, code := runWith(t, server.URL, strings.Fields(line)...)
		assert.Equal(t, c.code, code, "%s\n%s%s", line, out, stderr)
		for _, s := range c.says {
			assert.Contains(t, out+stderr, s, line)
		}
		if c.code == exitDone && len(c.says) > 0 {
			out, _, code := runWith(t, server.URL, append(strings.Fields(line), "-json")...)
			assert.Equal(t, exitDone, code, line)
			assert.True(t, json.Valid([]byte(out)), "%s -json gives JSON:\n%s", line, out)
		}
	}
}

func ptrTo[T any](v T) *T { return &v }
