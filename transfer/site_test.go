package transfer

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fakeSite is a release site whose answers a test decides.
func fakeSite(t *testing.T, answers map[string]http.HandlerFunc) *Site {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /session", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `{"token":"tok","contractEnds":"2027-01-31"}`)
	})
	for pattern, f := range answers {
		mux.HandleFunc(pattern, f)
	}
	web := httptest.NewServer(mux)
	t.Cleanup(web.Close)
	s, err := OpenSite(t.Context(), web.URL+"/", "C-1", "pw")
	require.NoError(t, err)
	return s
}

func says(status int, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(status)
		fmt.Fprint(w, body)
	}
}

func TestOpenSiteRefusals(t *testing.T) {
	for _, bad := range []string{"", "releases.example", "ftp://releases.example", "http://", "http://a b"} {
		_, err := OpenSite(t.Context(), bad, "u", "p")
		var refused *SiteError
		require.ErrorAs(t, err, &refused, bad)
		assert.Contains(t, refused.Text, "is not the address of a release site")
	}
	for _, c := range []struct {
		status int
		body   string
		want   string
		again  bool
	}{
		{401, "no such contract, or a wrong password\n", "the site answers 401: no such contract, or a wrong password", false},
		{403, "contract ended", "the site answers 403: contract ended", false},
		{503, "later", "the site answers 503: later", true},
		{429, "", "the site answers 429: Too Many Requests", true},
		{200, "<html>", "invalid character", false},
	} {
		web := httptest.NewServer(says(c.status, c.body))
		_, err := OpenSite(t.Context(), web.URL, "u", "p")
		web.Close()
		require.Error(t, err)
		assert.ErrorContains(t, err, c.want)
		assert.Equal(t, c.again, errors.Is(err, ErrBroken), "trying again: %s", c.want)
	}
	_, err := OpenSite(t.Context(), "http://127.0.0.1:1", "u", "a secret")
	assert.ErrorIs(t, err, ErrBroken)
	assert.ErrorContains(t, err, "the site does not answer: dial tcp")
	assert.NotContains(t, err.Error(), "secret")
}

func TestListsOfASite(t *testing.T) {
	sum := strings.Repeat("ab", 32)
	s := fakeSite(t, map[string]http.HandlerFunc{
		"GET /files":           says(200, `[{"file":"a.img","size":3,"maker":"M","signed":true}]`),
		"GET /SHA256SUMS":      says(200, sum+"  a.img\n"),
		"GET /files/a.img.sig": says(200, "signature"),
	})
	assert.Equal(t, "2027-01-31", s.ContractEnds)
	files, err := s.Files(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []SiteFile{{"a.img", 3, "M", true}}, files)
	sums, err := s.Sums(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a.img": sum}, sums)
	sig, err := s.Signature(t.Context(), "a.img")
	require.NoError(t, err)
	assert.Equal(t, "signature", string(sig))
	sig, err = s.Signature(t.Context(), "other.img")
	require.NoError(t, err)
	assert.Nil(t, sig, "not signed")

	s = fakeSite(t, map[string]http.HandlerFunc{"GET /files": says(200, "{"), "GET /SHA256SUMS": says(200, "abc a.img\n"), "GET /files/a.img.sig": says(500, "")})
	_, err = s.Files(t.Context())
	assert.ErrorContains(t, err, "list of files cannot be read")
	_, err = s.Sums(t.Context())
	assert.ErrorContains(t, err, "hash list cannot be read: line 1")
	_, err = s.Signature(t.Context(), "a.img")
	assert.ErrorIs(t, err, ErrBroken)
}

func TestDownload(t *testing.T) {
	content := strings.Repeat("0123456789", 1000)
	part := func(t *testing.T, have, tag string) string {
		name := filepath.Join(t.TempDir(), "part")
		if have != "" {
			require.NoError(t, os.WriteFile(name, []byte(have), 0o600))
			require.NoError(t, os.WriteFile(name+".tag", []byte(tag), 0o600))
		}
		return name
	}
	serve := func(tag string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "Bearer tok", r.Header.Get("Authorization"))
			w.Header().Set("ETag", tag)
			http.ServeContent(w, r, "", time.Time{}, strings.NewReader(content))
		}
	}
	get := func(t *testing.T, f http.HandlerFunc, name string) ([]int64, error) {
		var seen []int64
		s := fakeSite(t, map[string]http.HandlerFunc{"GET /files/a.img": f})
		err := s.Download(t.Context(), "a.img", int64(len(content)), name, func(done int64) { seen = append(seen, done) })
		return seen, err
	}
	t.Run("whole", func(t *testing.T) {
		name := part(t, "", "")
		seen, err := get(t, serve(`"v1"`), name)
		require.NoError(t, err)
		assert.EqualValues(t, len(content), seen[len(seen)-1])
		data, _ := os.ReadFile(name)
		assert.Equal(t, content, string(data))
		tag, _ := os.ReadFile(name + ".tag")
		assert.Equal(t, `"v1"`, string(tag))
	})
	t.Run("the rest", func(t *testing.T) {
		name := part(t, content[:4000], `"v1"`)
		seen, err := get(t, serve(`"v1"`), name)
		require.NoError(t, err)
		assert.Greater(t, seen[0], int64(4000))
		data, _ := os.ReadFile(name)
		assert.Equal(t, content, string(data))
	})
	t.Run("another file meanwhile", func(t *testing.T) {
		name := part(t, strings.Repeat("x", 4000), `"v0"`)
		_, err := get(t, serve(`"v1"`), name)
		require.NoError(t, err)
		data, _ := os.ReadFile(name)
		assert.Equal(t, content, string(data), "begun anew")
	})
	t.Run("a weak tag is no tag", func(t *testing.T) {
		name := part(t, "", "")
		_, err := get(t, serve(`W/"v1"`), name)
		require.NoError(t, err)
		tag, _ := os.ReadFile(name + ".tag")
		assert.Empty(t, tag)
	})
	t.Run("breaks off", func(t *testing.T) {
		name := part(t, "", "")
		_, err := get(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("ETag", `"v1"`)
			w.Header().Set("Content-Length", fmt.Sprint(len(content)))
			fmt.Fprint(w, content[:2500])
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		}, name)
		assert.ErrorIs(t, err, ErrBroken)
		assert.ErrorContains(t, err, "at byte 2500 of 10000")
		data, _ := os.ReadFile(name)
		assert.Len(t, data, 2500, "what has arrived stays")
	})
	t.Run("ends early", func(t *testing.T) {
		_, err := get(t, says(200, "short"), part(t, "", ""))
		assert.ErrorIs(t, err, ErrBroken)
		assert.ErrorContains(t, err, "the site sent 5 of 10000 bytes")
	})
	t.Run("too much", func(t *testing.T) {
		_, err := get(t, says(200, content+"x"), part(t, "", ""))
		assert.NotErrorIs(t, err, ErrBroken)
		assert.ErrorContains(t, err, "more than the 10000 bytes")
	})
	t.Run("another part than asked for", func(t *testing.T) {
		_, err := get(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Range", "bytes 0-9/10000")
			w.WriteHeader(206)
			fmt.Fprint(w, content[:10])
		}, part(t, content[:4000], `"v1"`))
		assert.ErrorContains(t, err, "another part of the file")
	})
	t.Run("gone", func(t *testing.T) {
		_, err := get(t, says(404, "no such file"), part(t, "", ""))
		var refused *SiteError
		require.ErrorAs(t, err, &refused)
		assert.Equal(t, 404, refused.Status)
	})
	t.Run("cancelled", func(t *testing.T) {
		ctx, cancel := context.WithCancelCause(t.Context())
		s := fakeSite(t, map[string]http.HandlerFunc{"GET /files/a.img": func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, content[:100])
			w.(http.Flusher).Flush()
			cancel(errors.New("held by somebody"))
			<-r.Context().Done()
		}})
		err := s.Download(ctx, "a.img", int64(len(content)), part(t, "", ""), func(int64) {})
		assert.ErrorContains(t, err, "held by somebody")
	})
}
