package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/releasesite"
)

// TestADraftFetchesWhatItLacks drafts a change with an empty image store: the images come from the release site while
// the change goes on, over broken downloads and the death of the service.
func TestADraftFetchesWhatItLacks(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen())
	e.refused(1, []string{"the image store lacks th60-4.2.9.img, th60-5.0.7.img, th60-5.4.2.img and no release site is known"}, "change", "draft", "hollen-fw1", "-to", "5.4.2")
	e.openSite()
	site := e.fleet.Site()
	require.NoError(t, site.Arm(releasesite.Drop, releasesite.Fault{Value: 1 << 20, Times: 2}))
	require.NoError(t, site.Arm(releasesite.Slow, releasesite.Fault{Value: 1 << 20, Times: -1, File: "th60-5.4.2.img"}))
	id := e.begin("hollen-fw1", "5.4.2")
	first := e.change(id)
	assert.Equal(t, "Fetch from the release site", stepOf(first, 1, "fetch").Title)
	e.awaitStep(id, 2, "install")
	e.killService()
	e.startService()
	ch := e.awaitEnd(id)
	require.NotNil(t, ch.Verdict)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict)
	assert.Equal(t, 3, e.firewall("hollen-fw1").Status().Fits)
	assert.Contains(t, e.must("fetch", "list"), "hash, header and signature are right")
	asked := strings.Join(site.Asked(), " ")
	assert.Contains(t, asked, "bytes=", "broken downloads went on in the middle")

	// When the site gives out another file, the change stops before anything happens to the device.
	e2 := setUp(t, 60, hollen())
	e2.openSite()
	require.NoError(t, e2.fleet.Site().Arm(releasesite.ReplacedSilent, releasesite.Fault{File: "th60-4.2.9.img"}))
	out, stderr, _ := e2.client("", "change", "draft", "hollen-fw1", "-to", "5.4.2")
	require.Contains(t, out, "Drafted change 1", stderr)
	e2.must("change", "approve", "1")
	require.Eventually(t, func() bool { return strings.Contains(e2.must("fetch", "list"), "damaged or altered") }, 30*time.Second, 100*time.Millisecond)
	e2.refused(1, []string{"not usable: th60-4.2.9.img"}, "change", "start", "1")
	assert.Equal(t, 0, e2.firewall("hollen-fw1").Status().Fits)
}

func TestImagesByHand(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen())
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	out := e.must("site", "files", "makers")
	assert.Contains(t, out, "td-n-2026-spring-3.img")
	assert.Contains(t, e.must("site", "list"), "C-1042")
	out = e.must("fetch", "rc6-web-4.0.zip", "rc6-F4.04.fw")
	assert.Contains(t, out, "rc6-F4.04.fw  done")
	assert.Contains(t, e.must("fetch", "rc6-F4.04.fw"), "Everything is in the image store")
	e.refused(1, []string{`the catalogue knows no image file "nope.img"`}, "fetch", "nope.img")
	assert.Contains(t, e.must("image", "list"), "web-manager 4.0")

	// A contract that has run out is said with its words; nothing is fetched.
	require.NoError(t, e.fleet.Site().Arm(releasesite.ContractEnded, releasesite.Fault{}))
	e.refused(1, []string{"support contract C-1042 ended on"}, "fetch", "sg5-4.4.2.img")
	assert.Contains(t, e.must("site", "list"), "ended on")
	e.fleet.Site().Heal(releasesite.ContractEnded)

	// An upload that broke off goes on, also after the service was killed.
	var up gen.Upload
	file := filepath.Join(imageDir, "th60-5.4.2.img")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	body, err := json.Marshal(map[string]any{"file": "th60-5.4.2.img", "size": len(data)})
	require.NoError(t, err)
	status, answer, _ := e.call(http.MethodPost, "/api/v1/uploads", string(body))
	require.Equal(t, 200, status, string(answer))
	require.NoError(t, json.Unmarshal(answer, &up))
	status, answer, _ = e.call(http.MethodPut, "/api/v1/uploads/1?offset=0", string(data[:2<<20]), "Content-Type", "application/octet-stream")
	require.Equal(t, 200, status, string(answer))
	status, answer, _ = e.call(http.MethodPut, "/api/v1/uploads/1?offset=77", "xyz", "Content-Type", "application/octet-stream")
	require.Equal(t, 409, status)
	assert.Contains(t, string(answer), "the upload stands at byte 2097152")
	e.killService()
	e.startService()
	assert.Contains(t, e.must("upload", "list"), "2.0 MiB of 5.0 MiB")
	assert.Contains(t, e.must("image", "add", file), "th60-5.4.2.img")
	e.refused(1, []string{"there is no upload 1"}, "upload", "drop", "1")
	status, answer, _ = e.call(http.MethodPost, "/api/v1/uploads", `{"file":"x","size":9}`)
	require.Equal(t, 200, status)
	require.NoError(t, json.Unmarshal(answer, &up))
	e.must("upload", "drop", fmt.Sprint(up.Id))
	status, answer, _ = e.call(http.MethodGet, "/api/v1/uploads", "")
	assert.Equal(t, 200, status)
	assert.JSONEq(t, `{"items":[]}`, string(answer))
	assert.Contains(t, e.must("image", "add", file), "was there already")

	// What the device runs has no image here; what nothing needs may go.
	e.refused(1, []string{"4.2.3 has no image here, so going back to it by reinstalling is not possible", "nothing, may be deleted"}, "image", "keep")
	e.must("image", "add", filepath.Join(imageDir, "th60-4.2.3.img"))
	assert.Contains(t, e.must("image", "keep"), "hollen-fw1 runs it now")
	e.refused(1, []string{"is needed: hollen-fw1 runs it now"}, "image", "delete", "th60-4.2.3.img")
	e.must("image", "delete", "rc6-F4.04.fw")
	e.refused(1, []string{`the image store has no "rc6-F4.04.fw"`}, "image", "delete", "rc6-F4.04.fw")
	assert.Contains(t, e.must("image", "check"), "0 damaged")

	// A folder: what is no image is left out and said.
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "readme.txt"), []byte("hello"), 0o600))
	require.NoError(t, os.Link(filepath.Join(imageDir, "th60-4.2.9.img"), filepath.Join(dir, "x.img")))
	stdout, stderr, code := e.client("", "image", "add", dir)
	assert.Equal(t, 0, code)
	assert.Contains(t, stdout, "th60-4.2.9.img")
	assert.Contains(t, stderr, "left out: readme.txt: it is not an image of any family")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.img.sig"), []byte(strings.Repeat("s", 64)), 0o600))
	e.refused(1, []string{"is not Tarnholm's"}, "image", "add", filepath.Join(dir, "x.img"))
}

func TestHandCarriedMedium(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen())
	e.addImages(storyImages...)
	id := e.draft("hollen-fw1", "5.4.2")
	assert.EqualValues(t, 1, id)
	stick := filepath.Join(t.TempDir(), "stick")
	out := e.must("media", "prepare", "1", "-folder", stick)
	assert.Contains(t, out, "th60-5.4.2.img")
	assert.Contains(t, out, "read back and compared")
	assert.Contains(t, e.must("media", "check", stick), "3 images, all as they should be")
	page, err := os.ReadFile(filepath.Join(stick, "INSTRUCTIONS.html"))
	require.NoError(t, err)
	for _, text := range []string{"hollen-fw1 (TH-60): 4.2.3 to 5.4.2", "Hop 2: 4.2.9 to 5.0.7", "Install th60-5.0.7.img", "Configuration converted"} {
		assert.Contains(t, string(page), text)
	}
	sums, err := os.ReadFile(filepath.Join(stick, "SHA256SUMS"))
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(sums), "\n"))
	e.refused(3, []string{"is not empty"}, "media", "prepare", "1", "-folder", stick)

	require.NoError(t, os.WriteFile(filepath.Join(stick, "holiday.jpg"), []byte("x"), 0o600))
	f, err := os.OpenFile(filepath.Join(stick, "th60-4.2.9.img"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("!"), 4000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.Remove(filepath.Join(stick, "th60-5.4.2.img")))
	e.refused(1, []string{"th60-4.2.9.img: its content was changed", "th60-5.4.2.img: is missing", "holiday.jpg: does not belong"}, "media", "check", stick)
	e.must("media", "prepare", "1", "-zip", filepath.Join(t.TempDir(), "m.zip"))
	e.refused(1, []string{"there is no change 9"}, "media", "prepare", "9", "-zip", filepath.Join(t.TempDir(), "n.zip"))
	e.refused(3, []string{"no medium of ours"}, "media", "check", t.TempDir())

	// A damaged file is never given out.
	blobs, err := filepath.Glob(filepath.Join(e.dir, "data", "images", "??", "*"))
	require.NoError(t, err)
	for _, b := range blobs {
		require.NoError(t, os.Chmod(b, 0o600))
		f, err := os.OpenFile(b, os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte("!"), 5000)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	e.refused(1, []string{"the stored file is damaged"}, "media", "prepare", "1", "-zip", filepath.Join(t.TempDir(), "o.zip"))
	e.refused(1, []string{"3 damaged"}, "image", "check")
}

func TestCatalogueHistoryAndAdvisories(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen(), simulated{name: "gullnes-fw1", model: "TH-60", version: "5.0.7"})
	e.must("catalogue", "load", "../demo/catalog")
	text, err := os.ReadFile("../demo/catalog/tarnholm-th.yaml")
	require.NoError(t, err)
	other := filepath.Join(t.TempDir(), "tarnholm-th.yaml")
	require.NoError(t, os.WriteFile(other, []byte(strings.Replace(string(text), "  - id: TH-R8\n    kind: crossing\n    crossing: \"5.4\"\n    leave-from: \">=5.0.6\"", "  - id: TH-R8\n    kind: crossing\n    crossing: \"5.4\"\n    leave-from: \">=5.2.3\"", 1)), 0o600))
	assert.Contains(t, e.must("catalogue", "load", "-check", other), "can be loaded")
	assert.Contains(t, e.must("path", "hollen-fw1", "-to", "5.4.2"), "3 hops", "nothing was loaded")
	e.must("catalogue", "load", other)
	assert.Contains(t, e.must("path", "hollen-fw1", "-to", "5.4.2"), "4 hops")
	out := e.must("catalogue", "history", "tarnholm-th.yaml", "-json")
	var l struct{ Items []gen.CatalogueVersion }
	require.NoError(t, json.Unmarshal([]byte("{\"items\":"+out+"}"), &l))
	require.Len(t, l.Items, 2)
	first, second := l.Items[1].Id, l.Items[0].Id
	assert.True(t, l.Items[0].Current)
	num := func(n int64) string { b, _ := json.Marshal(n); return string(b) }
	assert.Contains(t, e.must("catalogue", "show", "tarnholm-th.yaml", num(second)), `leave-from: ">=5.2.3"`)
	e.refused(1, []string{"changed  rule TH-R8: leave-from"}, "catalogue", "compare", "tarnholm-th.yaml", num(first), num(second))
	assert.Contains(t, e.must("catalogue", "back", "tarnholm-th.yaml", num(first)), "the history keeps the others")
	assert.Contains(t, e.must("catalogue", "history", "tarnholm-th.yaml"), "in use (gone back to)")
	assert.Contains(t, e.must("path", "hollen-fw1", "-to", "5.4.2"), "3 hops")
	e.refused(1, []string{`has no version 999`}, "catalogue", "back", "tarnholm-th.yaml", "999")

	assert.Contains(t, e.must("advisory", "import", "../demo/advisories/tar-2026-01.json"), "TAR-2026-01  Tunnel set-up can be stalled from outside; 1 device affected")
	assert.Contains(t, e.must("advisory", "list"), "1 device")
	e.refused(1, []string{"gullnes-fw1  TH-60  5.0.7  affected", "5.0.7 > 5.2.3", "fix: Go to 5.2.3, 5.4.2 or later."}, "advisory", "show", "TAR-2026-01")
	assert.Contains(t, e.must("path", "gullnes-fw1", "-aim", "fixes:TAR-2026-01"), "5.2.3 is the oldest that fixes TAR-2026-01")
	assert.Contains(t, e.must("path", "hollen-fw1", "-aim", "fixes:TAR-2026-01"), "runs 4.2.3 already", "it is not affected")
	doc, err := os.ReadFile("../demo/advisories/tar-2026-01.json")
	require.NoError(t, err)
	old := filepath.Join(t.TempDir(), "old.json")
	require.NoError(t, os.WriteFile(old, []byte(strings.ReplaceAll(string(doc), "2026-06-15T08:00:00Z", "2026-05-01T08:00:00Z")), 0o600))
	e.refused(1, []string{"is newer than this one of 2026-05-01"}, "advisory", "import", old)
	bad := filepath.Join(t.TempDir(), "bad.json")
	require.NoError(t, os.WriteFile(bad, []byte(`{"document":{"csaf_version":"1.0"}}`), 0o600))
	e.refused(3, []string{"2.0 can be read"}, "advisory", "import", bad)
	db, err := pgx.Connect(t.Context(), e.database)
	require.NoError(t, err)
	defer db.Close(t.Context())
	_, err = db.Exec(t.Context(), `INSERT INTO advisories (id, document, imported_by) VALUES ('TAR-2020-01', '{"document":{"csaf_version":"2.0"}}', 'engineer')`)
	require.NoError(t, err)
	list := e.must("advisory", "list")
	assert.Contains(t, list, "! TAR-2020-01 cannot be used, so it says nothing about any device: document.tracking.id is missing")
	assert.Contains(t, list, "1 device", "it disables only itself")
	e.refused(1, []string{"the stored document of TAR-2020-01 cannot be used"}, "advisory", "show", "TAR-2020-01")
	e.refused(1, []string{"the stored document of TAR-2020-01 cannot be used"}, "path", "gullnes-fw1", "-aim", "fixes:TAR-2020-01")
	e.must("advisory", "delete", "TAR-2020-01")
	e.must("advisory", "delete", "TAR-2026-01")
	e.refused(1, []string{"there is no advisory"}, "advisory", "show", "TAR-2026-01")

	assert.Contains(t, e.must("path", "hollen-fw1", "-aim", "member:gullnes-fw1"), "5.0.7 is what the other member runs")

	// The portrait knows the configuration of the newest backup, so notes are about this very device.
	e.must("backup", "take", "hollen-fw1")
	var p gen.Path
	require.NoError(t, json.Unmarshal([]byte(e.must("path", "hollen-fw1", "-to", "5.0.7", "-json")), &p))
	last := p.Hops[len(p.Hops)-1]
	require.Len(t, last.Notes, 2)
	assert.Equal(t, gen.MattersYes, last.Notes[1].Matters, "it translates addresses")
	assert.Contains(t, e.must("catalogue", "runs", "TH-40"), "no: TH-40 may run <6 only")
}
