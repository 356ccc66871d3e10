package backupstore

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/backup"
)

// ring holds keys: the first is the installation's own, offline may be nil.
type ring struct {
	own     []*age.X25519Identity
	offline *age.X25519Identity
}

func newRing(t testing.TB) *ring {
	own, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	offline, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return &ring{[]*age.X25519Identity{own}, offline}
}

func (r *ring) Recipients() ([]age.Recipient, error) {
	out := []age.Recipient{r.own[0].Recipient()}
	if r.offline != nil {
		out = append(out, r.offline.Recipient())
	}
	return out, nil
}

func (r *ring) Identities() (out []age.Identity, err error) {
	for _, i := range r.own {
		out = append(out, i)
	}
	return out, nil
}

// state is the configuration of a device on a day: long, and with a few lines that differ from day to day.
func state(device, day int) []byte {
	rng := rand.New(rand.NewPCG(uint64(device), 7))
	var b bytes.Buffer
	for i := range 200 {
		n := rng.IntN(1 << 20)
		if i%67 == day%67 {
			n += day * 13
		}
		fmt.Fprintf(&b, "rule r%03d\n  from 10.%d.%d.0/24\n", i, n%256, n>>8%256)
	}
	return b.Bytes()
}

func bundle(device, day int) (*backup.Manifest, map[string][]byte) {
	m := &backup.Manifest{Device: fmt.Sprintf("fw%03d", device), Model: "TH-60", Version: "5.0.7", TakenAt: time.Date(2026, 1, 1+day, 2, 0, 0, 0, time.UTC), Reason: backup.OnSchedule, Parts: []backup.Part{
		{Name: "running", Title: "Running configuration", Kind: backup.Configuration, File: "running.cfg", By: "sftp", Proof: "read twice"},
		{Name: "licences", Title: "Licences", Kind: backup.Licences, File: "licences.txt", By: "cli", Proof: "read twice"},
		{Name: "empty", Title: "Plan", Kind: backup.Plan, File: "plan/ports.map", By: "cli", Proof: "read twice"},
	}}
	return m, map[string][]byte{"running": state(device, day), "licences": []byte("licence for all of us\n"), "empty": {}}
}

func put(t testing.TB, s *Store, device, day int) string {
	m, parts := bundle(device, day)
	sum, err := s.Put(m, parts)
	require.NoError(t, err)
	return sum
}

func open(t testing.TB, dir string, keys Keys) *Store {
	s, err := Open(dir, keys)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func holds(t *testing.T, s *Store, sum string, device, day int) {
	t.Helper()
	m, err := s.Manifest(sum)
	require.NoError(t, err)
	want, parts := bundle(device, day)
	assert.Equal(t, want.Device, m.Device)
	require.Len(t, m.Parts, 3)
	for _, p := range m.Parts {
		data, err := s.Read(p.SHA256)
		require.NoError(t, err)
		assert.Equal(t, string(parts[p.Name]), string(data))
	}
}

func clean(t *testing.T, s *Store, expect []string) *CheckReport {
	t.Helper()
	for _, deep := range []bool{false, true} {
		r, err := s.Check(t.Context(), Checking{Expect: expect, Deep: deep})
		require.NoError(t, err)
		require.Empty(t, r.Damages)
	}
	r, err := s.Check(t.Context(), Checking{Expect: expect, Deep: true})
	require.NoError(t, err)
	return r
}

func TestBundlesComeBack(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	s := open(t, dir, keys)
	var sums []string
	for day := range 5 {
		for device := range 3 {
			sums = append(sums, put(t, s, device, day))
		}
	}
	all := func(s *Store) {
		for i, sum := range sums {
			holds(t, s, sum, i%3, i/3)
		}
	}
	all(s)
	size, err := s.Size()
	require.NoError(t, err)
	assert.Equal(t, 15, size.Bundles)
	assert.Equal(t, 15+15+2, size.Objects, "what is equal is stored once")
	r := clean(t, s, sums)
	assert.Equal(t, size.Stored, r.Stored)
	assert.Equal(t, size.Content, r.Content)

	other := open(t, dir, keys) // another process would see the same
	all(other)
	done, err := s.Tidy(t.Context(), Tidying{All: true})
	require.NoError(t, err)
	assert.Equal(t, Tidied{15, 1, 0, false}, done)
	all(s)
	all(other)
	clean(t, other, sums)
	after, err := other.Size()
	require.NoError(t, err)
	assert.Equal(t, size.Objects, after.Objects)
	assert.Less(t, after.Stored, size.Stored/4, "what is alike lies side by side")
	again, err := s.Tidy(t.Context(), Tidying{All: true})
	require.NoError(t, err)
	assert.Equal(t, Tidied{1, 1, 0, false}, again)

	// Without the service: either key opens the file.
	files, err := s.Files()
	require.NoError(t, err)
	require.Len(t, files, 1)
	for _, id := range []age.Identity{keys.own[0], keys.offline} {
		given, err := OpenFiles(files, []age.Identity{id})
		require.NoError(t, err)
		all(given)
		there, err := given.Bundles()
		require.NoError(t, err)
		assert.Len(t, there, 15)
		given.Close()
	}
	stranger, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	_, err = OpenFiles(files, []age.Identity{stranger})
	assert.ErrorIs(t, err, ErrKey)
	data, err := os.ReadFile(files[0])
	require.NoError(t, err)
	assert.NotContains(t, string(data), "licence for all")
}

// What lies in a volume, but is in no index as a bundle, is none: an object of that sum proves nothing. So it is in a store of one volume,
// where nothing else is looked up, and in one of several.
func TestAnObjectIsNoBundle(t *testing.T) {
	s := open(t, t.TempDir(), newRing(t))
	for volumes := range 2 {
		sum := put(t, s, 1, volumes)
		m, err := s.Manifest(sum)
		require.NoError(t, err)
		r, err := s.Check(t.Context(), Checking{Expect: []string{sum, m.Parts[0].SHA256}})
		require.NoError(t, err)
		require.Len(t, r.Damages, 1, "%d volumes", r.Volumes)
		assert.Equal(t, volumes+1, r.Volumes)
		assert.Contains(t, r.Damages[0].What, m.Parts[0].SHA256[:12])
		assert.Contains(t, r.Damages[0].What, "in no")
		assert.Equal(t, []string{m.Parts[0].SHA256}, r.Damages[0].Lost)
	}
}

func TestWhatMayGoGoes(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	s := open(t, dir, keys)
	var sums []string
	for day := range 6 {
		sums = append(sums, put(t, s, 1, day))
	}
	gone := map[string]bool{sums[0]: true, sums[3]: true}
	done, err := s.Tidy(t.Context(), Tidying{Gone: func(sum string) bool { return gone[sum] }, All: true})
	require.NoError(t, err)
	assert.Equal(t, 2, done.Left)
	for i, sum := range sums {
		if gone[sum] {
			_, err := s.Manifest(sum)
			assert.ErrorIs(t, err, ErrNotThere)
			assert.False(t, s.Has(digestOf(state(1, i)).String()))
			continue
		}
		holds(t, s, sum, 1, i)
	}
	clean(t, s, []string{sums[1], sums[2], sums[4], sums[5]})
	// All may go: no volume is left, and the store goes on.
	_, err = s.Tidy(t.Context(), Tidying{Gone: func(string) bool { return true }, All: true})
	require.NoError(t, err)
	files, err := s.Files()
	require.NoError(t, err)
	assert.Empty(t, files)
	holds(t, s, put(t, s, 2, 1), 2, 1)
}

// A bundle that comes while a tidying is under way may count on content that was about to go.
func TestTidyingDoesNotTakeWhatANewBundleNeeds(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	s := open(t, dir, keys)
	old := put(t, s, 1, 1)
	put(t, s, 2, 1)
	var fresh string
	_, err := s.Tidy(t.Context(), Tidying{All: true, Gone: func(sum string) bool {
		if fresh == "" { // what is wanted is being worked out now
			fresh = "-"
			fresh = put(t, s, 1, 1)
		}
		return sum == old
	}})
	require.NoError(t, err)
	holds(t, s, fresh, 1, 1)
	clean(t, s, nil)
}

func TestManyTakeAtOnceWhileItIsTidied(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	stores := []*Store{open(t, dir, keys), open(t, dir, keys)}
	sums := make([][20]string, 6)
	var wg sync.WaitGroup
	for device := range sums {
		wg.Go(func() {
			for day := range sums[device] {
				m, parts := bundle(device, day)
				sum, err := stores[device%2].Put(m, parts)
				assert.NoError(t, err)
				sums[device][day] = sum
			}
		})
	}
	for _, s := range stores {
		wg.Go(func() {
			for range 10 {
				_, err := s.Tidy(t.Context(), Tidying{All: true})
				assert.NoError(t, err)
			}
		})
	}
	wg.Wait()
	for device := range sums {
		for day, sum := range sums[device] {
			holds(t, stores[(device+1)%2], sum, device, day)
		}
	}
	r := clean(t, stores[0], nil)
	assert.Equal(t, 120, r.Bundles)
}

// Every single byte of the store is guarded: a flip is found, named, and nothing wrong is ever given back.
func TestEveryFlippedByteIsFound(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	s := open(t, dir, keys)
	type kept struct{ device, day int }
	sums := map[string]kept{}
	for day := range 4 {
		for device := range 6 {
			sums[put(t, s, device, day)] = kept{device, day}
		}
		if day == 1 {
			_, err := s.Tidy(t.Context(), Tidying{All: true})
			require.NoError(t, err)
		}
	}
	var expect []string
	for sum := range sums {
		expect = append(expect, sum)
	}
	files, err := s.Files()
	require.NoError(t, err)
	rng := rand.New(rand.NewPCG(1, 2))
	for try := range 240 {
		file := files[rng.IntN(len(files))]
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		at, bit := rng.IntN(len(data)), byte(1)<<rng.IntN(8)
		switch try % 4 {
		case 1:
			at = rng.IntN(min(400, len(data))) // the header
		case 2:
			at = len(data) - 1 - rng.IntN(min(600, len(data))) // the index
		}
		data[at] ^= bit
		require.NoError(t, os.WriteFile(file, data, 0o600))
		broken := open(t, dir, keys)
		r, err := broken.Check(t.Context(), Checking{Expect: expect})
		require.NoError(t, err)
		require.NotEmpty(t, r.Damages, "byte %d of %s", at, filepath.Base(file))
		named := false
		hit := map[string]bool{}
		for _, d := range r.Damages {
			named = named || d.Volume == filepath.Base(file)
			for _, b := range d.Lost {
				hit[b] = true
			}
		}
		assert.True(t, named, "the volume is named: %v", r.Damages)
		for sum, k := range sums {
			m, err := broken.Manifest(sum)
			if err != nil {
				assert.True(t, hit[sum], "a bundle that cannot be read is named")
				continue
			}
			_, parts := bundle(k.device, k.day)
			for _, p := range m.Parts {
				got, err := broken.Read(p.SHA256)
				if err != nil {
					assert.True(t, hit[sum], "a bundle with a part that cannot be read is named")
				} else {
					assert.Equal(t, string(parts[p.Name]), string(got))
				}
			}
		}
		// Taking the same again mends what was hit.
		if try%50 == 0 {
			again := put(t, broken, 1, 1)
			holds(t, broken, again, 1, 1)
		}
		broken.Close()
		data[at] ^= bit
		require.NoError(t, os.WriteFile(file, data, 0o600))
	}
	// Cut short, made longer, taken away, put in another's place.
	for name, hurt := range map[string]func(file string, data []byte) error{
		"cut":    func(f string, data []byte) error { return os.WriteFile(f, data[:len(data)-1], 0o600) },
		"half":   func(f string, data []byte) error { return os.WriteFile(f, data[:len(data)/2], 0o600) },
		"empty":  func(f string, _ []byte) error { return os.WriteFile(f, nil, 0o600) },
		"longer": func(f string, data []byte) error { return os.WriteFile(f, append(bytes.Clone(data), 0), 0o600) },
		"gone":   func(f string, _ []byte) error { return os.Remove(f) },
		"swap": func(f string, _ []byte) error {
			other, err := os.ReadFile(files[len(files)-1])
			return errors.Join(err, os.WriteFile(f, other, 0o600))
		},
	} {
		data, err := os.ReadFile(files[0])
		require.NoError(t, err)
		require.NoError(t, hurt(files[0], data))
		r, err := open(t, dir, keys).Check(t.Context(), Checking{Expect: expect})
		require.NoError(t, err)
		assert.NotEmpty(t, r.Damages, name)
		require.NoError(t, os.WriteFile(files[0], data, 0o600))
	}
	clean(t, open(t, dir, keys), nil)
}

func TestKeysChange(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	s := open(t, dir, keys)
	sum := put(t, s, 1, 1)
	fresh, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	keys.own = []*age.X25519Identity{fresh, keys.own[0]}
	second := put(t, s, 1, 2)
	done, err := s.Tidy(t.Context(), Tidying{Anew: true})
	require.NoError(t, err)
	assert.Equal(t, Tidied{2, 2, 0, false}, done)
	again, err := s.Tidy(t.Context(), Tidying{Anew: true, Progress: func(_, of int64) { t.Error("nothing is to be rewritten") }})
	require.NoError(t, err)
	assert.Equal(t, Tidied{2, 2, 0, false}, again)
	keys.own = keys.own[:1]
	after := open(t, dir, keys)
	holds(t, after, sum, 1, 1)
	holds(t, after, second, 1, 2)
	// The offline recipient is taken away, too.
	keys.offline = nil
	_, err = after.Tidy(t.Context(), Tidying{Anew: true})
	require.NoError(t, err)
	files, err := after.Files()
	require.NoError(t, err)
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.Equal(t, 1, bytes.Count(data[:400], []byte("-> X25519 ")))
	}
	// The wrong key opens nothing, and says so.
	wrong := open(t, dir, newRing(t))
	_, err = wrong.Read(sum)
	require.ErrorIs(t, err, ErrNotThere)
	for _, err := range wrong.Damaged() {
		assert.ErrorIs(t, err, ErrKey)
	}
	assert.Len(t, wrong.Damaged(), 2)
}

// The older key is needed as long as one volume needs it, whatever kept that volume from being rewritten.
func TestWhoStillNeedsTheOldKey(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	s := open(t, dir, keys)
	put(t, s, 1, 1)
	old := put(t, s, 1, 2)
	fresh, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	keys.own = []*age.X25519Identity{fresh, keys.own[0]}
	need := func() int {
		names, err := s.NotFor([]age.Identity{fresh})
		require.NoError(t, err)
		return len(names)
	}
	assert.Equal(t, 2, need())
	// Another one is at work.
	other, err := s.only()
	require.NoError(t, err)
	done, err := open(t, dir, keys).Tidy(t.Context(), Tidying{Anew: true})
	require.NoError(t, err)
	assert.Equal(t, Tidied{PutOff: true}, done)
	assert.Equal(t, 2, need())
	other()
	// A bundle comes that counts on content which is about to go: that volume stays as it is, and it is said.
	asked := false
	done, err = s.Tidy(t.Context(), Tidying{Anew: true, Gone: func(sum string) bool {
		if !asked {
			asked = true
			put(t, s, 1, 2)
		}
		return sum == old
	}})
	require.NoError(t, err)
	assert.True(t, done.PutOff)
	assert.Equal(t, 1, need())
	done, err = s.Tidy(t.Context(), Tidying{Anew: true})
	require.NoError(t, err)
	assert.False(t, done.PutOff)
	assert.Zero(t, need())
	clean(t, s, nil)
}

func TestNewerVolumes(t *testing.T) {
	dir, keys := t.TempDir(), newRing(t)
	write := func(name string, plain []byte) {
		f, err := os.Create(filepath.Join(dir, name+volumeExt))
		require.NoError(t, err)
		w, err := age.Encrypt(f, keys.own[0].Recipient())
		require.NoError(t, err)
		_, err = w.Write(plain)
		require.NoError(t, errors.Join(err, w.Close(), f.Close()))
	}
	write("newer", []byte("verimorph volume 2\n"+strings.Repeat("x", 200)))
	write("other", bytes.Repeat([]byte("junk"), 100))
	s := open(t, dir, keys)
	assert.ErrorIs(t, s.Damaged()["newer"+volumeExt], backup.ErrNewer)
	assert.ErrorContains(t, s.Damaged()["other"+volumeExt], "no volume of backups")
	holds(t, s, put(t, s, 1, 1), 1, 1)
	r, err := s.Check(t.Context(), Checking{})
	require.NoError(t, err)
	assert.Len(t, r.Damages, 2)
}

// A bundle counts only on what is on the disk, not on what was read from it before; and not on a volume in which a check
// found damage, wherever it is.
func TestNothingCountsOnWhatIsDamaged(t *testing.T) {
	for where, at := range map[string]func(size int) int{"content": func(size int) int { return size / 2 }, "header": func(int) int { return 60 }, "index": func(size int) int { return size - 200 }} {
		dir, keys := t.TempDir(), newRing(t)
		s := open(t, dir, keys)
		sum := put(t, s, 1, 1)
		holds(t, s, sum, 1, 1)
		files, err := s.Files()
		require.NoError(t, err)
		require.Len(t, files, 1)
		data, err := os.ReadFile(files[0])
		require.NoError(t, err)
		data[at(len(data))] ^= 1
		require.NoError(t, os.WriteFile(files[0], data, 0o600))
		if where != "content" {
			r, err := s.Check(t.Context(), Checking{Expect: []string{sum}})
			require.NoError(t, err)
			require.NotEmpty(t, r.Damages)
		}
		again := put(t, s, 1, 1)
		holds(t, open(t, dir, keys), again, 1, 1)
	}
}

func TestPutRefuses(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, newRing(t))
	m, parts := bundle(1, 1)
	delete(parts, "running")
	_, err := s.Put(m, parts)
	require.ErrorContains(t, err, "part running has no content")
	m, parts = bundle(1, 1)
	m.Parts[0].File = "../up"
	_, err = s.Put(m, parts)
	require.ErrorContains(t, err, "no file name")
	require.NoError(t, os.Chmod(dir, 0o500))
	defer func() { _ = os.Chmod(dir, 0o700) }()
	if os.Geteuid() != 0 {
		m, parts = bundle(1, 1)
		_, err = s.Put(m, parts)
		require.Error(t, err)
	}
	files, err := s.Files()
	require.NoError(t, err)
	assert.Empty(t, files)
}

// A disk that is full in the middle leaves nothing behind: the size of files of this process is bounded, which is what a
// full disk looks like to it.
func TestFullDisk(t *testing.T) {
	if os.Getenv("VM_TAKE") != "" {
		return
	}
	dir, keys := t.TempDir(), newRing(t)
	s := open(t, dir, keys)
	sum := put(t, s, 1, 1)
	child(t, dir, keys, "full").wait(t)
	after := open(t, dir, keys)
	holds(t, after, sum, 1, 1)
	r := clean(t, after, nil)
	assert.Equal(t, 1, r.Bundles)
	left, err := filepath.Glob(filepath.Join(dir, partName))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// Killed at any moment of taking and tidying, the store is whole: every bundle that was reported as taken and may not go
// is there.
func TestKilledAnywhere(t *testing.T) {
	if os.Getenv("VM_TAKE") != "" {
		return
	}
	dir, keys := t.TempDir(), newRing(t)
	rng := rand.New(rand.NewPCG(3, uint64(time.Now().UnixNano())))
	taken := map[string]bool{}
	rounds := 12
	for round := range rounds {
		c := child(t, dir, keys, fmt.Sprint(round))
		time.Sleep(time.Duration(30+rng.IntN(400)) * time.Millisecond)
		_ = c.cmd.Process.Signal(syscall.SIGKILL)
		c.wait(t)
		for _, line := range strings.Fields(c.out.String()) {
			if word, sum, ok := strings.Cut(line, ":"); ok && len(sum) == 64 {
				switch word {
				case "taken":
					taken[sum] = true
				case "gone":
					delete(taken, sum)
				}
			}
		}
		s := open(t, dir, keys)
		r, err := s.Check(t.Context(), Checking{Deep: true})
		require.NoError(t, err)
		require.Empty(t, r.Damages)
		for sum := range taken {
			_, err := s.Manifest(sum)
			require.NoError(t, err, "round %d", round)
		}
		left, err := filepath.Glob(filepath.Join(dir, partName))
		require.NoError(t, err)
		require.Empty(t, left)
		s.Close()
	}
	assert.NotEmpty(t, taken)
}

type childProcess struct {
	cmd *exec.Cmd
	out bytes.Buffer
}

// child runs this test binary as a process that takes and tidies until it is killed.
func child(t *testing.T, dir string, keys *ring, how string) *childProcess {
	c := &childProcess{cmd: exec.Command(os.Args[0], "-test.run", "^TestChild$")}
	c.cmd.Env = append(os.Environ(), "VM_TAKE="+dir, "VM_KEY="+keys.own[0].String(), "VM_HOW="+how)
	c.cmd.Stdout, c.cmd.Stderr = &c.out, &c.out
	require.NoError(t, c.cmd.Start())
	return c
}

func (c *childProcess) wait(t *testing.T) {
	_ = c.cmd.Wait()
	require.NotContains(t, c.out.String(), "FAIL")
}

func TestChild(t *testing.T) {
	dir := os.Getenv("VM_TAKE")
	if dir == "" {
		t.Skip("only as a child")
	}
	key, err := age.ParseX25519Identity(os.Getenv("VM_KEY"))
	require.NoError(t, err)
	s, err := Open(dir, &ring{own: []*age.X25519Identity{key}})
	require.NoError(t, err)
	if os.Getenv("VM_HOW") == "full" {
		require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: 1500, Max: 1500}))
		m, parts := bundle(5, 5)
		if _, err = s.Put(m, parts); err == nil {
			t.Fatal("it was stored on a full disk")
		}
		if _, err = s.Tidy(t.Context(), Tidying{Anew: true}); err == nil {
			_, _ = io.WriteString(os.Stdout, "nothing to rewrite ")
		}
		return
	}
	var mine []string
	for day := 0; ; day++ {
		m, parts := bundle(day%3, day)
		m.ID = fmt.Sprint(os.Getenv("VM_HOW"), "-", day)
		data, _ := json.Marshal(m.ID)
		parts["licences"] = data
		sum, err := s.Put(m, parts)
		require.NoError(t, err)
		fmt.Printf("taken:%s\n", sum)
		mine = append(mine, sum)
		if day%5 == 4 {
			gone := mine[rand.IntN(len(mine))]
			fmt.Printf("gone:%s\n", gone) // it may be gone from here on
			_, err := s.Tidy(t.Context(), Tidying{All: true, Gone: func(sum string) bool { return sum == gone }})
			require.NoError(t, err)
		}
	}
}
