package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/core/media"
)

// fakeStore takes uploads as the service does, and fails as often as it is told to.
type fakeStore struct {
	file      gen.NewUpload
	got       []byte
	begun     int
	pieces    int
	failures  []int // statuses to answer pieces with, before all is well; 0 cuts the line
	signature string
}

func (f *fakeStore) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	up := func() {
		u := map[string]any{"id": 7, "file": f.file.File, "size": f.file.Size, "offset": len(f.got), "startedBy": "me", "startedAt": "2026-01-01T00:00:00Z"}
		if int64(len(f.got)) == f.file.Size {
			u["image"] = map[string]any{"sha256": strings.Repeat("a", 64), "file": "x.img", "size": f.file.Size, "family": "f", "version": "1", "models": []string{"M"}, "signed": f.signature != "", "already": false, "addedBy": "me", "addedAt": "2026-01-01T00:00:00Z"}
		}
		_ = json.NewEncoder(w).Encode(u)
	}
	switch {
	case r.Method == http.MethodPost && r.URL.Path == "/api/v1/uploads":
		f.begun++
		_ = json.NewDecoder(r.Body).Decode(&f.file)
		if f.file.Signature != nil {
			f.signature = string(*f.file.Signature)
		}
		up()
	case r.Method == http.MethodPut && r.URL.Path == "/api/v1/uploads/7":
		f.pieces++
		if len(f.failures) > 0 {
			status := f.failures[0]
			f.failures = f.failures[1:]
			half, _ := io.ReadAll(io.LimitReader(r.Body, 100))
			f.got = append(f.got, half...)
			if status == 0 {
				panic(http.ErrAbortHandler)
			}
			w.WriteHeader(status)
			fmt.Fprintf(w, `{"type":"x","title":"x","status":%d,"detail":"not now"}`, status)
			return
		}
		if r.URL.Query().Get("offset") != fmt.Sprint(len(f.got)) {
			w.WriteHeader(409)
			fmt.Fprint(w, `{"type":"conflict","title":"x","status":409,"detail":"the upload stands elsewhere"}`)
			return
		}
		rest, _ := io.ReadAll(r.Body)
		f.got = append(f.got, rest...)
		up()
	default:
		http.NotFound(w, r)
	}
}

func TestAnUploadGoesOnAfterBrokenLines(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.img")
	content := strings.Repeat("firmware", 1000)
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
	require.NoError(t, os.WriteFile(file+".sig", []byte("a signature"), 0o600))
	f := &fakeStore{failures: []int{0, 409}}
	web := httptest.NewServer(f)
	defer web.Close()
	out, stderr, code := runWith(t, web.URL, "image", "add", file)
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, out, "x.img  1 for M, 0.0 MiB, signature is right")
	assert.Equal(t, content, string(f.got), "each byte once")
	assert.Equal(t, 3, f.begun, "it asks where it stands after each break")
	assert.Equal(t, "a signature", f.signature)

	refusing := &fakeStore{failures: []int{422}}
	web2 := httptest.NewServer(refusing)
	defer web2.Close()
	_, stderr, code = runWith(t, web2.URL, "image", "add", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, "not now")
	assert.Equal(t, 1, refusing.pieces, "a refusal is not tried again")

	_, stderr, code = runWith(t, web2.URL, "image", "add", filepath.Join(t.TempDir(), "none.img"))
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "none.img")
	empty := filepath.Join(t.TempDir(), "empty.img")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	_, stderr, code = runWith(t, web2.URL, "image", "add", empty)
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, "empty.img is empty")
}

func TestFetchFollowsUntilAllHaveEnded(t *testing.T) {
	asked := 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		item := func(id int, state, note string, done int) string {
			return fmt.Sprintf(`{"id":%d,"file":"f%d.img","site":"s","sha256":"","size":100,"done":%d,"state":%q,"attempts":1,"note":%q,"startedBy":"me","startedAt":"2026-01-01T00:00:00Z"}`, id, id, done, state, note)
		}
		switch {
		case r.Method == http.MethodPost:
			fmt.Fprintf(w, `{"items":[%s,%s]}`, item(1, "waiting", "", 0), item(2, "waiting", "", 0))
		case asked < 2:
			asked++
			fmt.Fprintf(w, `{"items":[%s,%s]}`, item(2, "running", "downloading", 50), item(1, "done", "hash and header are right", 100))
		default:
			fmt.Fprintf(w, `{"items":[%s,%s]}`, item(2, "failed", "the contract has ended", 50), item(1, "done", "hash and header are right", 100))
		}
	}))
	defer web.Close()
	out, _, code := runWith(t, web.URL, "fetch", "f1.img", "f2.img")
	assert.Equal(t, 1, code, "one of them failed")
	assert.Equal(t, 1, strings.Count(out, "f1.img  done  hash and header are right"), "each news once")
	assert.Contains(t, out, "f2.img  running")
	assert.Contains(t, out, "f2.img  failed  the contract has ended")
	out, _, code = runWith(t, web.URL, "fetch", "f1.img", "-no-wait")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "waiting")
	_, stderr, code := runWith(t, web.URL, "fetch")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, stderr, "name files, or -change")
}

func TestMediaCheckOffline(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("a.img", "content")
	f, err := hashFile(filepath.Join(dir, "a.img"))
	require.NoError(t, err)
	m, err := json.Marshal(media.Manifest{Format: media.Format, Change: 3, Device: "d", Files: []media.File{{Name: "a.img", Size: f.Size, SHA256: f.SHA256}}})
	require.NoError(t, err)
	write(media.ManifestFile, string(m))
	write(media.SumsFile, f.SHA256+"  a.img\n")
	out, _, code := runWith(t, "", "media", "check", dir)
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "1 image, all as they should be")

	write(media.SumsFile, strings.Repeat("0", 64)+"  a.img\n")
	out, _, code = runWith(t, "", "media", "check", dir)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "SHA256SUMS: says something else about a.img than the manifest")
	write(media.SumsFile, "nonsense\n")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "more"), 0o700))
	out, _, code = runWith(t, "", "media", "check", dir, "-json")
	assert.Equal(t, 1, code)
	var answer struct{ Problems []string }
	require.NoError(t, json.Unmarshal([]byte(out), &answer))
	assert.Equal(t, []string{"more/: does not belong on this medium", `SHA256SUMS: line 1: "nonsense" is not "SHA-256, two spaces, name"`}, answer.Problems)
	require.NoError(t, os.Remove(filepath.Join(dir, media.SumsFile)))
	out, _, _ = runWith(t, "", "media", "check", dir)
	assert.Contains(t, out, "SHA256SUMS: is missing")
	write(media.ManifestFile, `{"format":"other"}`)
	_, stderr, code := runWith(t, "", "media", "check", dir)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "damaged or of another format")
}

func TestTheArchiveMustBeWhole(t *testing.T) {
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", "1000")
		fmt.Fprint(w, "PK")
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	}))
	defer web.Close()
	file := filepath.Join(t.TempDir(), "m.zip")
	_, stderr, code := runWith(t, web.URL, "media", "prepare", "1", "-zip", file)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "unexpected EOF")
	left, _ := filepath.Glob(file + "*")
	assert.Empty(t, left, "nothing half is left")
	for _, args := range [][]string{{"1"}, {"1", "-zip", "a", "-folder", "b"}, {"x", "-zip", "a"}} {
		_, _, code = runWith(t, web.URL, append([]string{"media", "prepare"}, args...)...)
		assert.Equal(t, exitUsage, code, "%v", args)
	}
}
