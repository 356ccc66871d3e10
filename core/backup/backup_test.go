package backup

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func sum(data string) string {
	s := sha256.Sum256([]byte(data))
	return hex.EncodeToString(s[:])
}

func sample() (*Manifest, map[string]string) {
	content := map[string]string{"running": "box\n", "users": "a\n", "cables": ""}
	part := func(name, kind, file string) Part {
		return Part{Name: name, Title: name, Kind: kind, File: file, SHA256: sum(content[name]), Size: int64(len(content[name])), By: "sftp", Proof: "read twice"}
	}
	return &Manifest{Format: Format, ID: "i1", Device: "fw1", Model: "TH-60", Version: "5.0.7", TakenAt: time.Date(2026, 3, 1, 2, 0, 0, 0, time.UTC), Reason: OnDemand, Parts: []Part{
		part("users", Users, "users.tbl"), part("running", Configuration, "running.cfg"), part("cables", Plan, "plan/cables.map")}}, content
}

func TestManifests(t *testing.T) {
	m, _ := sample()
	require.NoError(t, m.Check())
	assert.True(t, m.Complete())
	assert.Equal(t, "running.cfg", m.Main().File)
	assert.EqualValues(t, 6, m.Size())
	assert.Nil(t, m.Part("sails"))
	m.Lacks = []Lack{{Name: "keys", Needed: false}}
	assert.True(t, m.Complete(), "what not every device has is no lack")
	m.Lacks = append(m.Lacks, Lack{Name: "system", Needed: true})
	assert.False(t, m.Complete())
	assert.False(t, (&Manifest{}).Complete(), "nothing at all is not complete")

	for says, break_ := range map[string]func(*Manifest){
		"no id or no device":      func(m *Manifest) { m.ID = "" },
		"a name has up to":        func(m *Manifest) { m.Parts[0].Name = "Users!" },
		"is there twice":          func(m *Manifest) { m.Parts[1].Name = "users" },
		"is no file name":         func(m *Manifest) { m.Parts[0].File = "../users.tbl" },
		"two parts are called":    func(m *Manifest) { m.Parts[1].File = "users.tbl" },
		"is no SHA-256 sum":       func(m *Manifest) { m.Parts[0].SHA256 = "beef" },
		"part users has -1 bytes": func(m *Manifest) { m.Parts[0].Size = -1 },
	} {
		m, _ := sample()
		break_(m)
		data, err := json.Marshal(m)
		require.NoError(t, err)
		_, err = Read(data)
		assert.ErrorContains(t, err, says)
	}
	m.Format = "verimorph-bundle/2"
	data, err := json.Marshal(m)
	require.NoError(t, err)
	_, err = Read(data)
	assert.ErrorIs(t, err, ErrNewer)
	_, err = Read([]byte(`{"format": "shopping list"}`))
	assert.ErrorContains(t, err, "is not verimorph-bundle/1")
	_, err = Read([]byte(`{`))
	assert.ErrorContains(t, err, "no JSON")
}

func TestPartsOfTwoBundles(t *testing.T) {
	a, _ := sample()
	b, _ := sample()
	assert.Equal(t, []PartDifference{{"users", "users", "same"}, {"running", "running", "same"}, {"cables", "cables", "same"}}, Compare(a, b))
	b.Parts[0].SHA256 = sum("other")
	b.Parts[2] = Part{Name: "keys", Title: "Keys", Kind: Certificates}
	b.Parts = append(b.Parts, Part{Name: "portrait", Kind: Portrait})
	assert.Equal(t, []PartDifference{{"users", "users", "changed"}, {"running", "running", "same"}, {"cables", "cables", "missing"}, {"keys", "Keys", "new"}}, Compare(a, b))
}

func TestFileNamesThatLeadNowhereElse(t *testing.T) {
	for _, good := range []string{"a", "running.cfg", "flash/cfg/a b.txt", "ünder.cfg", ".hidden"} {
		assert.True(t, SafeFile(good), good)
	}
	for _, bad := range []string{"", ".", "..", "../a", "a/../../b", "/etc/passwd", "a//b", "a/", "./a", "a\\b", "c:a", "a\nb", "a\x00", strings.Repeat("x", 256)} {
		assert.False(t, SafeFile(bad), bad)
	}
}

// archive writes the sample and lets edit change the files of the archive.
func archive(t *testing.T, edit func(names *[]string, files map[string]string)) []byte {
	m, content := sample()
	var b bytes.Buffer
	require.NoError(t, WriteArchive(&b, m, func(p *Part) ([]byte, error) { return []byte(content[p.Name]), nil }))
	if edit == nil {
		return b.Bytes()
	}
	var names []string
	files := map[string]string{}
	r := tar.NewReader(&b)
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		names, files[h.Name] = append(names, h.Name), string(data)
	}
	edit(&names, files)
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, n := range names {
		kind := byte(tar.TypeReg)
		if strings.HasPrefix(files[n], "-> ") {
			kind = tar.TypeSymlink
		}
		require.NoError(t, w.WriteHeader(&tar.Header{Name: n, Typeflag: kind, Linkname: strings.TrimPrefix(files[n], "-> "), Size: map[bool]int64{true: int64(len(files[n]))}[kind == tar.TypeReg], Mode: 0o600}))
		if kind == tar.TypeReg {
			_, err := io.WriteString(w, files[n])
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestArchives(t *testing.T) {
	data := archive(t, nil)
	m, parts, err := ReadArchive(bytes.NewReader(data), 1<<20)
	require.NoError(t, err)
	want, content := sample()
	assert.Equal(t, want, m)
	for name, text := range content {
		assert.Equal(t, text, string(parts[name]))
	}
	for says, edit := range map[string]func(*[]string, map[string]string){
		"there is no manifest.json":                     func(names *[]string, _ map[string]string) { *names = (*names)[1:] },
		"SHA256SUMS:2: parts/users.tbl has another sum": func(_ *[]string, f map[string]string) { f["parts/users.tbl"] = "b\n" },
		"SHA256SUMS:3: parts/running.cfg is missing":    func(names *[]string, _ map[string]string) { *names = slices.Delete(*names, 2, 3) },
		"no line of sums":                               func(_ *[]string, f map[string]string) { f["SHA256SUMS"] = "x\n" },
		"is no plain file":                              func(_ *[]string, f map[string]string) { f["parts/users.tbl"] = "-> /etc/passwd" },
		"is in the archive twice":                       func(names *[]string, _ map[string]string) { *names = append(*names, (*names)[1]) },
		"parts/more is in the archive, but the manifest does not name": func(names *[]string, f map[string]string) {
			*names = append(*names, "parts/more")
			f["parts/more"] = "x"
		},
	} {
		_, _, err := ReadArchive(bytes.NewReader(archive(t, edit)), 1<<20)
		assert.ErrorContains(t, err, says)
	}
	// Without the sums the manifest still guards every part.
	_, _, err = ReadArchive(bytes.NewReader(archive(t, func(names *[]string, f map[string]string) {
		*names = slices.DeleteFunc(*names, func(n string) bool { return n == "SHA256SUMS" })
		f["parts/users.tbl"] = "b\n"
	})), 1<<20)
	assert.ErrorContains(t, err, "part users has not the SHA-256 sum")
	_, _, err = ReadArchive(bytes.NewReader(data), 100)
	assert.ErrorContains(t, err, "larger than")
	for n := range bytes.Index(data, []byte("SHA256SUMS")) - 1024 { // what follows the parts adds nothing to what proves them
		if n%97 == 0 {
			_, _, err := ReadArchive(bytes.NewReader(data[:n]), 1<<20)
			assert.Error(t, err, "%d bytes", n)
		}
	}
	bad := errors.New("disk")
	assert.ErrorIs(t, WriteArchive(io.Discard, want, func(*Part) ([]byte, error) { return nil, bad }), bad)
}

func FuzzReadArchive(f *testing.F) {
	m, content := sample()
	var b bytes.Buffer
	if err := WriteArchive(&b, m, func(p *Part) ([]byte, error) { return []byte(content[p.Name]), nil }); err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		m, parts, err := ReadArchive(bytes.NewReader(data), 1<<20)
		if err != nil {
			return
		}
		for _, p := range m.Parts {
			if err := p.Fits(parts[p.Name]); err != nil {
				t.Fatal(err)
			}
		}
	})
}

func TestSchedules(t *testing.T) {
	for _, bad := range []string{"", "every night", "* * * *", "61 * * * *", "0 0 30 2 *"} {
		_, err := ReadSchedule(bad, 0)
		assert.Error(t, err, bad)
	}
	_, err := ReadSchedule("0 1 * * *", 25*time.Hour)
	assert.ErrorContains(t, err, "a spread is from 0 to 24 hours")
	s, err := ReadSchedule("30 1 * * *", 2*time.Hour)
	require.NoError(t, err)
	at := time.Date(2026, 3, 10, 12, 0, 0, 0, time.UTC)
	next := s.Next("fw1", at)
	assert.Equal(t, 11, next.Day())
	assert.False(t, next.Before(time.Date(2026, 3, 11, 1, 30, 0, 0, time.UTC)))
	assert.True(t, next.Before(time.Date(2026, 3, 11, 3, 30, 0, 0, time.UTC)))
	assert.Equal(t, next, s.Next("fw1", next.Add(-time.Second)), "the same device has the same moment")
	assert.Equal(t, next.Add(24*time.Hour), s.Next("fw1", next))
	assert.Equal(t, 3, s.Missed("fw1", at, at.Add(72*time.Hour)))
	assert.Equal(t, 0, s.Missed("fw1", at, at.Add(time.Hour)))
	// Starts are spread: no ten minutes of the two hours have more than twice their share of a thousand devices.
	var slots [12]int
	for i := range 1000 {
		slots[int(s.Offset(fmt.Sprintf("fw%d", i))/(10*time.Minute))]++
	}
	for i, n := range slots {
		assert.InDelta(t, 83, n, 83, "slot %d", i)
		assert.Positive(t, n)
	}
	assert.Zero(t, Schedule{"* * * * *", 0}.Offset("x"))
	assert.True(t, Schedule{"nonsense", 0}.Next("x", at).IsZero())
}

func TestScheduleIsAlwaysAhead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Schedule{rapid.SampledFrom([]string{"30 1 * * *", "0 */6 * * *", "15 2 * * 0", "0 0 1 * *"}).Draw(t, "when"), time.Duration(rapid.IntRange(0, 1440).Draw(t, "spread")) * time.Minute}
		at := time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "at"), 0).UTC()
		name := rapid.String().Draw(t, "device")
		next := s.Next(name, at)
		if !next.After(at) {
			t.Fatalf("%s is not after %s", next, at)
		}
		if again := s.Next(name, next.Add(-time.Second)); !again.Equal(next) {
			t.Fatalf("%s, then %s", next, again)
		}
	})
}

func TestFates(t *testing.T) {
	now := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return now.AddDate(0, 0, -n) }
	fates := func(r Retention, now time.Time, bs ...Kept) string {
		var out []string
		for _, f := range r.Fates(now, bs) {
			out = append(out, fmt.Sprintf("%d %s", f.ID, map[bool]string{true: "goes", false: f.Why}[f.Go]))
		}
		return strings.Join(out, "; ")
	}
	r := Retention{Days: 10, Count: 2}
	assert.Equal(t, "6 the last complete one; 5 among the last 2; 4 younger than 10 days; 3 held: audit; 2 change 7 points to it; 1 goes",
		fates(r, now, Kept{1, day(50), true, 0, ""}, Kept{2, day(40), true, 7, ""}, Kept{3, day(30), true, 0, "audit"}, Kept{4, day(5), true, 0, ""}, Kept{5, day(2), true, 0, ""}, Kept{6, day(1), true, 0, ""}))
	assert.Equal(t, "3 the last one; 2 among the last 2; 1 the last complete one", fates(r, now, Kept{1, day(90), true, 0, ""}, Kept{2, day(1), false, 0, ""}, Kept{3, day(0), false, 0, ""}))
	assert.Equal(t, "2 the last complete one; 1 kept without end", fates(Retention{}, now, Kept{1, day(900), true, 0, ""}, Kept{2, day(0), true, 0, ""}))
	assert.Equal(t, "2 the last complete one; 1 younger than 10 days", fates(Retention{Days: 10}, now.AddDate(10, 0, 0), Kept{1, day(5), true, 0, ""}, Kept{2, day(1), true, 0, ""}), "a clock that jumped ahead makes nothing old")
	assert.Empty(t, r.Fates(now, nil))
}

// Whatever the bundles and the clock: the last complete one, what is held and what a change points to stay.
func TestNothingThatIsNeededGoes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := Retention{rapid.IntRange(0, 100).Draw(t, "days"), rapid.IntRange(0, 5).Draw(t, "count")}
		n := rapid.IntRange(0, 12).Draw(t, "n")
		var bs []Kept
		lastGood := int64(0)
		for i := range n {
			b := Kept{int64(i + 1), time.Unix(rapid.Int64Range(0, 2e9).Draw(t, "at"), 0), rapid.Bool().Draw(t, "complete"), rapid.Int64Range(0, 1).Draw(t, "change"), rapid.SampledFrom([]string{"", "x"}).Draw(t, "held")}
			if b.Complete {
				lastGood = b.ID
			}
			bs = append(bs, b)
		}
		gone := 0
		for _, f := range r.Fates(time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "now"), 0), bs) {
			b := bs[f.ID-1]
			if f.Go {
				gone++
				if b.ID == lastGood || b.Held != "" || b.Change != 0 || int(b.ID) == n {
					t.Fatalf("%+v goes", b)
				}
			}
			if f.Why == "" {
				t.Fatal("no reason is given")
			}
		}
		if n-gone < min(n, r.Count) {
			t.Fatalf("%d of %d go, %d are to be kept", gone, n, r.Count)
		}
	})
}

// What is just within a limit is taken, and what is just beyond it is not.
func TestLimits(t *testing.T) {
	data := archive(t, nil)
	assert.True(t, bytes.HasSuffix(data, make([]byte, 1024)), "a tar archive ends with two empty blocks")
	total := int64(0)
	for r := tar.NewReader(bytes.NewReader(data)); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		total += h.Size
	}
	_, _, err := ReadArchive(bytes.NewReader(data), total)
	require.NoError(t, err)
	_, _, err = ReadArchive(bytes.NewReader(data), total-1)
	assert.ErrorContains(t, err, "larger than")
	for files, says := range map[int]string{1001: "the manifest does not name", 1002: "larger than"} {
		_, _, err = ReadArchive(bytes.NewReader(archive(t, func(names *[]string, f map[string]string) {
			for i := 0; len(*names) < files; i++ {
				*names = append(*names, fmt.Sprintf("parts/more%d", i))
			}
		})), 1<<20)
		assert.ErrorContains(t, err, says, "%d files", files)
	}
	_, _, err = ReadArchive(bytes.NewReader(archive(t, func(_ *[]string, f map[string]string) { f["SHA256SUMS"] = "x\n" })), 1<<20)
	assert.ErrorContains(t, err, `SHA256SUMS:1: "x" is no line of sums`)
	assert.True(t, SafeFile(strings.Repeat("x", 255)))

	m := Manifest{Parts: []Part{{Name: "notes", Kind: Plan}, {Name: "startup", Kind: Configuration}, {Name: "spare", Kind: Configuration}, {Name: "running", Kind: Configuration}}}
	assert.Equal(t, "running", m.Main().Name)
	m.Parts = m.Parts[:3]
	assert.Equal(t, "startup", m.Main().Name, "the first configuration, where none is the running one")
	m.Parts = m.Parts[:1]
	assert.Nil(t, m.Main())

	now := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	why := func(r Retention, age time.Duration) Fate {
		return r.Fates(now, []Kept{{1, now.Add(-age), true, 0, ""}, {2, now, true, 0, ""}})[1]
	}
	assert.Equal(t, Fate{ID: 1, Why: "younger than 10 days"}, why(Retention{Days: 10}, 240*time.Hour-time.Second))
	assert.Equal(t, Fate{ID: 1, Go: true, Why: "10 days old, and 1 newer ones are kept"}, why(Retention{Days: 10}, 240*time.Hour))
	assert.True(t, why(Retention{Count: 1}, -time.Hour).Go, "without days, age keeps nothing")

	for spread, ok := range map[time.Duration]bool{0: true, 24 * time.Hour: true, -1: false, 24*time.Hour + 1: false} {
		_, err := ReadSchedule("0 1 * * *", spread)
		assert.Equal(t, ok, err == nil, "%s", spread)
	}
	assert.Equal(t, 1000, Schedule{"* * * * *", 0}.Missed("x", now, now.AddDate(1, 0, 0)))
}
