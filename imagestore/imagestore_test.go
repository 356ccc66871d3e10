package imagestore

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/internal/dbtest"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/releasesite"
	"verimorph/store"
	"verimorph/vault"
)

func TestMain(m *testing.M) { os.Exit(dbtest.Main(m)) }

type rig struct {
	*Images
	t    *testing.T
	cat  *catalog.Catalogue
	site *releasesite.Site
}

func newRig(t *testing.T) *rig {
	cat, found := catalog.ReadDir(os.DirFS("../demo/catalog"))
	require.Empty(t, found)
	dir := t.TempDir()
	images, err := blob.Open(filepath.Join(dir, "images"))
	require.NoError(t, err)
	st, err := store.Open(t.Context(), dbtest.New(t), 0, nil)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	v, err := vault.Open(t.Context(), filepath.Join(dir, "key"), st)
	require.NoError(t, err)
	r := &rig{t: t, cat: cat, site: releasesite.New(cat, "C-1042", "salt and rope")}
	r.Images, err = New(Config{Store: st, Blobs: images, Vault: v, Dir: filepath.Join(dir, "images"), Log: slog.New(slog.DiscardHandler), Rest: 10 * time.Millisecond,
		Catalogue: func(context.Context) (*catalog.Catalogue, error) { return cat, nil }})
	require.NoError(t, err)
	web := httptest.NewServer(r.site.Handler())
	t.Cleanup(web.Close)
	r.setSite(web.URL, "salt and rope")
	return r
}

func (r *rig) setSite(url, password string) {
	sealed, err := r.Vault.Seal(SitePasswordLabel("makers"), []byte(password))
	require.NoError(r.t, err)
	require.NoError(r.t, r.Store.PutSite(r.t.Context(), store.Site{Name: "makers", URL: url, Username: "C-1042", Password: sealed}))
}

func (r *rig) listed(file string) catalog.Listed {
	for _, l := range r.cat.Images() {
		if l.File == file {
			return l
		}
	}
	r.t.Fatalf("no %s", file)
	return catalog.Listed{}
}

func (r *rig) content(file string) []byte {
	l := r.listed(file)
	data, err := firmware.Content(&l)
	require.NoError(r.t, err)
	return data
}

// fetch carries a download of a file out and returns how it ended.
func (r *rig) fetch(file string) store.Fetch {
	fs, nowhere, err := r.Want(r.t.Context(), []catalog.Listed{r.listed(file)}, "", "me")
	require.NoError(r.t, err)
	require.Empty(r.t, nowhere)
	require.Len(r.t, fs, 1)
	return r.run(fs[0].ID)
}

func (r *rig) run(id int64) store.Fetch {
	require.NoError(r.t, r.Fetch(r.t.Context(), id))
	f, err := r.Store.Fetch(r.t.Context(), id)
	require.NoError(r.t, err)
	return f
}

const small = "rc6-F2.00.fw" // 60 KiB

func TestTake(t *testing.T) {
	r := newRig(t)
	data := r.content(small)
	im, already, err := r.Take(t.Context(), bytes.NewReader(data), 1<<20, "any name.bin", nil, "me")
	require.NoError(t, err)
	assert.False(t, already)
	assert.Equal(t, small, im.File, "the name is the catalogue's, whatever the file was called")
	assert.Equal(t, "F2.00", im.Version)
	_, already, err = r.Take(t.Context(), bytes.NewReader(data), 1<<20, small, nil, "you")
	require.NoError(t, err)
	assert.True(t, already, "stored once")

	part := r.content("rc6-web-2.4.zip")
	im, _, err = r.Take(t.Context(), bytes.NewReader(part), 1<<20, "w.zip", nil, "me")
	require.NoError(t, err)
	assert.Equal(t, "web-manager", im.Part)

	l := r.listed(small)
	damaged := bytes.Clone(data)
	damaged[len(damaged)-1] ^= 1
	var signed [32]byte
	for _, c := range []struct {
		data []byte
		sig  []byte
		want string
	}{
		{damaged, nil, "damaged or altered"},
		{[]byte("junk"), nil, "it is not an image of any family"},
		{data, firmware.Sign("somebody else", signed), "the signature that came with it is not Pellworth's"},
		{data, []byte("short"), "the signature that came with it is not Pellworth's"},
		{bytes.Replace(data, []byte("version: F2.00"), []byte("version: F9.99"), 1), nil, "which the catalogue does not know"},
	} {
		_, _, err := r.Take(t.Context(), bytes.NewReader(c.data), 1<<20, "f", c.sig, "me")
		var no *RefusedError
		require.ErrorAs(t, err, &no)
		assert.Contains(t, no.Text, c.want)
	}
	head := data[:512]
	for want, change := range map[string]func(*catalog.Listed){
		"its header says":    func(l *catalog.Listed) { l.Version = "F2.03" },
		"the catalogue says": func(l *catalog.Listed) { l.Size++ },
	} {
		wrong := *l.Family
		wrong.Releases = nil
		other := l
		change(&other)
		v, _ := wrong.Scheme.Parse(other.Version)
		wrong.Releases = []catalog.Release{{Version: v, Images: []catalog.Image{other.Image}}}
		_, err := identify(&catalog.Catalogue{Families: []*catalog.Family{&wrong}}, "f", l.SHA256, l.Size, head)
		assert.ErrorContains(t, err, want)
	}
}

func TestDamageOnOurDiskIsFound(t *testing.T) {
	r := newRig(t)
	im, _, err := r.Take(t.Context(), bytes.NewReader(r.content(small)), 0, small, nil, "me")
	require.NoError(t, err)
	n, damaged, err := r.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Empty(t, damaged)
	name, err := r.Blobs.Path(im.SHA256)
	require.NoError(t, err)
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1}, 3000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, damaged, err = r.Check(t.Context())
	require.NoError(t, err)
	require.Len(t, damaged, 1)
	assert.Contains(t, damaged[0], small)
}

func TestUploadsGoOn(t *testing.T) {
	r := newRig(t)
	data := r.content(small)
	ctx := t.Context()
	u, at, err := r.StartUpload(ctx, store.Upload{File: small, Size: int64(len(data)), StartedBy: "me", Signature: []byte{}})
	require.NoError(t, err)
	assert.Zero(t, at)
	_, at, im, _, err := r.ContinueUpload(ctx, u.ID, 0, bytes.NewReader(data[:1000]))
	require.NoError(t, err)
	assert.Nil(t, im)
	assert.EqualValues(t, 1000, at)
	var offset *OffsetError
	_, _, _, _, err = r.ContinueUpload(ctx, u.ID, 900, bytes.NewReader(data[900:]))
	require.ErrorAs(t, err, &offset)
	assert.EqualValues(t, 1000, offset.At)
	again, at, err := r.StartUpload(ctx, store.Upload{File: small, Size: int64(len(data)), StartedBy: "me", Signature: []byte{}})
	require.NoError(t, err)
	assert.Equal(t, u.ID, again.ID, "the same one goes on, also in another process")
	assert.EqualValues(t, 1000, at)
	_, at, _, _, err = r.ContinueUpload(ctx, u.ID, 1000, &breaking{bytes.NewReader(data[1000:]), 500})
	require.Error(t, err)
	assert.EqualValues(t, 1500, at, "what has arrived stays")
	_, _, _, _, err = r.ContinueUpload(ctx, u.ID, 1500, bytes.NewReader(append(bytes.Clone(data[1500:]), 'x')))
	assert.ErrorContains(t, err, "more bytes came")
	_, _, im, already, err := r.ContinueUpload(ctx, u.ID, 1500, bytes.NewReader(data[1500:]))
	require.NoError(t, err)
	require.NotNil(t, im)
	assert.False(t, already)
	assert.True(t, r.Blobs.Has(r.listed(small).SHA256))
	left, err := r.Store.Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
	_, _, _, _, err = r.ContinueUpload(ctx, u.ID, 0, bytes.NewReader(nil))
	assert.ErrorIs(t, err, store.ErrNotFound)

	u, _, err = r.StartUpload(ctx, store.Upload{File: "junk", Size: 4, StartedBy: "me", Signature: []byte{}})
	require.NoError(t, err)
	_, _, _, _, err = r.ContinueUpload(ctx, u.ID, 0, strings.NewReader("junk"))
	assert.ErrorContains(t, err, "not an image")
	_, err = os.Stat(r.uploadPart(u.ID))
	assert.ErrorIs(t, err, os.ErrNotExist, "what is refused is dropped")

	u, _, err = r.StartUpload(ctx, store.Upload{File: "old", Size: 4, StartedBy: "me", Signature: []byte{}})
	require.NoError(t, err)
	_, err = r.Store.Pool.Exec(ctx, "UPDATE uploads SET touched_at = now() - interval '8 days'")
	require.NoError(t, err)
	left1, left2 := filepath.Join(r.Dir, "fetches", "old"), filepath.Join(r.Dir, "fetches", "new")
	require.NoError(t, errors.Join(os.WriteFile(left1, nil, 0o600), os.WriteFile(left2, nil, 0o600), os.Chtimes(left1, time.Time{}, time.Now().Add(-8*24*time.Hour))))
	require.NoError(t, r.DropOld(ctx))
	_, err = r.Store.Upload(ctx, u.ID)
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.NoFileExists(t, left1)
	assert.FileExists(t, left2)
}

type breaking struct {
	r    *bytes.Reader
	left int
}

func (b *breaking) Read(p []byte) (int, error) {
	if b.left == 0 {
		return 0, os.ErrDeadlineExceeded
	}
	n, err := b.r.Read(p[:min(len(p), b.left)])
	b.left -= n
	return n, err
}

func TestADownloadThatBreaksGoesOn(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.site.Arm(releasesite.Drop, releasesite.Fault{Value: 20_000, Times: 2}))
	f := r.fetch(small)
	assert.Equal(t, store.FetchDone, f.State, f.Note)
	assert.Contains(t, f.Note, "signature are right")
	im, err := r.Store.Image(t.Context(), f.SHA256)
	require.NoError(t, err)
	assert.True(t, im.Signed)
	asked := r.site.Asked()
	require.Len(t, asked, 3)
	assert.Empty(t, asked[0])
	assert.Equal(t, "bytes=20000-", asked[1], "only the rest is asked for")
	left, err := os.ReadDir(filepath.Join(r.Dir, "fetches"))
	require.NoError(t, err)
	assert.Empty(t, left)
	fs, _, err := r.Want(t.Context(), []catalog.Listed{r.listed(small)}, "", "me")
	require.NoError(t, err)
	assert.Empty(t, fs, "what is there is not fetched again")
}

func TestWhatASiteDoesWrong(t *testing.T) {
	for _, c := range []struct {
		fault string
		f     releasesite.Fault
		want  string
	}{
		{releasesite.Replaced, releasesite.Fault{File: small}, "now offers another file under this name"},
		{releasesite.ReplacedSilent, releasesite.Fault{File: small}, "damaged or altered"},
		{releasesite.BadSignature, releasesite.Fault{File: small}, "is not Pellworth's"},
		{releasesite.ContractEnded, releasesite.Fault{}, "support contract C-1042 ended on"},
		{releasesite.Drop, releasesite.Fault{Value: 0, Times: -1}, "given up after 5 tries"},
	} {
		t.Run(c.fault, func(t *testing.T) {
			t.Parallel()
			r := newRig(t)
			require.NoError(t, r.site.Arm(c.fault, c.f))
			f := r.fetch(small)
			assert.Equal(t, store.FetchFailed, f.State)
			assert.Contains(t, f.Note, c.want)
			assert.False(t, r.Blobs.Has(f.SHA256))
			r.site.Heal(c.fault)
			f, err := r.Act(t.Context(), f.ID, "resume", access.Person("me", ""))
			require.NoError(t, err)
			assert.Equal(t, store.FetchDone, r.run(f.ID).State, "when the site is mended, it goes on")
		})
	}
	t.Run("wrong password", func(t *testing.T) {
		r := newRig(t)
		s, err := r.Store.Site(t.Context(), "makers")
		require.NoError(t, err)
		r.setSite(s.URL, "guessed")
		f := r.fetch(small)
		assert.Contains(t, f.Note, "a wrong password")
		s, err = r.Store.Site(t.Context(), "makers")
		require.NoError(t, err)
		assert.Contains(t, s.Trouble, "a wrong password")
		assert.NotContains(t, f.Note+s.Trouble, "guessed")
	})
	t.Run("unwell for a moment", func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.site.Arm(releasesite.Unwell, releasesite.Fault{Times: 1}))
		assert.Equal(t, store.FetchDone, r.fetch(small).State)
	})
	t.Run("nobody there", func(t *testing.T) {
		r := newRig(t)
		r.setSite("http://127.0.0.1:1", "x")
		ctx, cancel := context.WithTimeout(t.Context(), 60*time.Millisecond)
		defer cancel()
		fs, _, err := r.Want(ctx, []catalog.Listed{r.listed(small)}, "", "me")
		require.NoError(t, err)
		require.NoError(t, r.Fetch(ctx, fs[0].ID))
		f, err := r.Store.Fetch(t.Context(), fs[0].ID)
		require.NoError(t, err)
		assert.Equal(t, store.FetchWaiting, f.State, "our process ended: the next one goes on")
	})
}

func TestAFileReplacedInTheMiddleIsBegunAnew(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.site.Arm(releasesite.Drop, releasesite.Fault{Value: 30_000, Times: 1}))
	l := r.listed(small)
	// A beginning that came from another file, as its entity tag tells.
	part := filepath.Join(r.Dir, "fetches", l.SHA256)
	require.NoError(t, os.WriteFile(part, bytes.Repeat([]byte("x"), 10_000), 0o600))
	require.NoError(t, os.WriteFile(part+".tag", []byte(`"other"`), 0o600))
	f := r.fetch(small)
	assert.Equal(t, store.FetchDone, f.State, f.Note)
	assert.Equal(t, []string{"bytes=10000-", "bytes=30000-"}, r.site.Asked())
}

func TestPauseResumeStop(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.site.Arm(releasesite.Slow, releasesite.Fault{Value: 20_000, Times: -1}))
	fs, _, err := r.Want(t.Context(), []catalog.Listed{r.listed(small)}, "", "me")
	require.NoError(t, err)
	id := fs[0].ID
	twice, _, err := r.Want(t.Context(), []catalog.Listed{r.listed(small)}, "", "you")
	require.NoError(t, err)
	assert.Equal(t, id, twice[0].ID, "one download of a file at a time")
	ended := make(chan error, 1)
	go func() { ended <- r.Fetch(context.Background(), id) }()
	require.Eventually(t, func() bool {
		f, err := r.Store.Fetch(t.Context(), id)
		return err == nil && f.Done > 5000
	}, 5*time.Second, 20*time.Millisecond)
	require.NoError(t, r.Fetch(t.Context(), id), "another worker leaves it alone")
	f, err := r.Act(t.Context(), id, "pause", access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, store.FetchPaused, f.State)
	require.NoError(t, <-ended)
	have := r.arrived(f)
	assert.Positive(t, have, "what has arrived stays")
	require.NoError(t, r.Fetch(t.Context(), id), "a held one is not carried on")
	_, err = r.Act(t.Context(), id, "pause", access.Person("me", ""))
	assert.ErrorContains(t, err, "is paused; pause does not apply")
	r.site.Heal(releasesite.Slow)
	_, err = r.Act(t.Context(), id, "resume", access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, store.FetchDone, r.run(id).State)
	asked := r.site.Asked()
	assert.NotEmpty(t, asked[len(asked)-1], "it went on in the middle")
	_, err = r.Act(t.Context(), id, "stop", access.Person("me", ""))
	assert.ErrorContains(t, err, "stop does not apply")

	// One that failed keeps what it has, until it is stopped.
	require.NoError(t, r.site.Arm(releasesite.Drop, releasesite.Fault{Value: 20_000, Times: -1}))
	fs, _, err = r.Want(t.Context(), []catalog.Listed{r.listed("rc6-F2.03.fw")}, "", "me")
	require.NoError(t, err)
	require.NoError(t, r.site.Arm(releasesite.ContractEnded, releasesite.Fault{}))
	failed := r.run(fs[0].ID)
	assert.Equal(t, store.FetchFailed, failed.State)
	require.NoError(t, os.WriteFile(r.fetchPart(failed), []byte("beginning"), 0o600))
	r.site.Heal(releasesite.ContractEnded)
	fs, _, err = r.Want(t.Context(), []catalog.Listed{r.listed("rc6-F2.03.fw")}, "", "you")
	require.NoError(t, err)
	_, err = r.Act(t.Context(), failed.ID, "resume", access.Person("me", ""))
	assert.ErrorContains(t, err, "another download of this file is under way")
	_, err = r.Act(t.Context(), fs[0].ID, "stop", access.Person("me", ""))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(r.fetchPart(failed), []byte("beginning"), 0o600))
	_, err = r.Act(t.Context(), failed.ID, "stop", access.Person("me", ""))
	require.NoError(t, err)
	assert.NoFileExists(t, r.fetchPart(failed))
	_, err = r.Act(t.Context(), 999, "stop", access.Person("me", ""))
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// arrived is how much of a download lies on the disk.
func (r *rig) arrived(f store.Fetch) int64 {
	n, err := length(r.fetchPart(f))
	require.NoError(r.t, err)
	return n
}

func TestAnotherProcessTakesOver(t *testing.T) {
	r := newRig(t)
	fs, _, err := r.Want(t.Context(), []catalog.Listed{r.listed(small)}, "", "me")
	require.NoError(t, err)
	_, err = r.Store.ClaimFetch(t.Context(), fs[0].ID, "dead/1", Patience)
	require.NoError(t, err)
	require.NoError(t, r.Fetch(t.Context(), fs[0].ID))
	f, err := r.Store.Fetch(t.Context(), fs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, store.FetchRunning, f.State, "it may be alive")
	_, err = r.Store.Pool.Exec(t.Context(), "UPDATE fetches SET beat = now() - interval '1 minute'")
	require.NoError(t, err)
	ids, err := r.Store.IdleFetches(t.Context(), Patience)
	require.NoError(t, err)
	assert.Equal(t, []int64{fs[0].ID}, ids)
	assert.Equal(t, store.FetchDone, r.run(fs[0].ID).State)
}

func TestRetention(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	for _, file := range []string{"rc6-F2.00.fw", "rc6-F2.03.fw", "rc6-F2.10.fw"} {
		_, _, err := r.Take(ctx, bytes.NewReader(r.content(file)), 0, file, nil, "me")
		require.NoError(t, err)
	}
	p, err := path.NewPlanner(r.cat).Find(path.Question{Portrait: &portrait.Portrait{Model: "RC-6", Version: "F2.00"}, Aim: path.Aim{Version: "F2.03"}, Policy: path.Policy{Reset: true}})
	require.NoError(t, err)
	data, err := json.Marshal(p)
	require.NoError(t, err)
	require.NoError(t, r.Store.AddDevice(ctx, store.Device{Name: "ramp-1"}, nil, nil))
	d, err := r.Store.Device(ctx, "ramp-1")
	require.NoError(t, err)
	_, err = r.Store.AddChange(ctx, access.Person("me", ""), store.Change{Members: []store.Member{{DeviceID: d.ID}}, From: "F2.00", To: "F2.03", Path: data})
	require.NoError(t, err)
	fleet := []Running{{"ramp-1", "RC-6", "F2.00"}, {"ramp-2", "RC-6", "F1.04"}, {"ramp-3", "RC-6", "F1.99"}, {"else", "XX", "1"}}
	images, back, err := r.Retention(ctx, fleet)
	require.NoError(t, err)
	needed := map[string][]string{}
	for _, im := range images {
		needed[im.File] = im.Needed
	}
	assert.Equal(t, map[string][]string{"rc6-F2.00.fw": {"ramp-1 runs it now"}, "rc6-F2.03.fw": {"change 1 of ramp-1"}, "rc6-F2.10.fw": nil}, needed)
	require.Len(t, back, 2)
	assert.Contains(t, back[0].Text, "add or fetch rc6-F1.04.fw")
	assert.Contains(t, back[1].Text, "F1.99 is not in the catalogue")
	assert.ErrorContains(t, r.Delete(ctx, r.listed("rc6-F2.03.fw").SHA256, fleet, access.Person("me", "")), "is needed: change 1")
	require.NoError(t, r.Delete(ctx, r.listed("rc6-F2.10.fw").SHA256, fleet, access.Person("me", "")))
	assert.False(t, r.Blobs.Has(r.listed("rc6-F2.10.fw").SHA256))
	assert.ErrorIs(t, r.Delete(ctx, r.listed("rc6-F2.10.fw").SHA256, fleet, access.Person("me", "")), store.ErrNotFound)
}
