package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

// call makes one call with the session that the client keeps.
func (e *env) call(method, path, body string, headers ...string) (int, []byte, http.Header) {
	e.t.Helper()
	data, err := os.ReadFile(filepath.Join(e.dir, "session.json"))
	require.NoError(e.t, err)
	var s struct{ Token string }
	require.NoError(e.t, json.Unmarshal(data, &s))
	req, err := http.NewRequest(method, "http://"+e.url+path, bytes.NewBufferString(body))
	require.NoError(e.t, err)
	req.Header.Set("Authorization", "Bearer "+s.Token)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		req.Header.Del(headers[i])
		if headers[i+1] != "" {
			req.Header.Set(headers[i], headers[i+1])
		}
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(e.t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(e.t, err)
	return resp.StatusCode, b, resp.Header
}

func TestEverythingNeedsASession(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	spec, err := gen.GetSpec()
	require.NoError(t, err)
	calls := 0
	for path, item := range spec.Paths.Map() {
		for method := range item.Operations() {
			if path == "/sign-in" {
				continue
			}
			path := strings.NewReplacer("{name}", "hollen-fw1", "{id}", "1", "{action}", "start", "{file}", "x.yaml", "{other}", "2").Replace(path)
			code, body, h := e.call(method, "/api/v1"+path, "{}", "Authorization", "")
			assert.Equal(t, 401, code, "%s %s", method, path)
			assert.Equal(t, "application/problem+json", h.Get("Content-Type"))
			assert.Contains(t, string(body), "not-signed-in")
			calls++
		}
	}
	assert.Greater(t, calls, 20)
	code, _, _ := e.call("GET", "/metrics", "", "Authorization", "")
	assert.Equal(t, 401, code)
	for _, open := range []string{"/healthz", "/readyz", "/"} {
		code, _, _ := e.call("GET", open, "", "Authorization", "")
		assert.Equal(t, 200, code, open)
	}
	code, _, _ = e.call("GET", "/api/v1/devices", "", "Authorization", "Bearer AAAA")
	assert.Equal(t, 401, code)

	out, stderr, exit := e.client("wrong\n", "sign-in", "engineer", "-server", "http://"+e.url)
	assert.Equal(t, 3, exit, out)
	assert.Contains(t, stderr, "the user or the password is wrong")
	for range 5 {
		code, _, _ = e.call("POST", "/api/v1/sign-in", `{"user":"nobody","password":"x"}`)
	}
	assert.Equal(t, 401, code)
	code, body, _ := e.call("POST", "/api/v1/sign-in", `{"user":"nobody","password":"x"}`)
	assert.Equal(t, 429, code)
	assert.Contains(t, string(body), "wait a minute")

	e.must("sign-out")
	e.refused(3, []string{"sign in first", "verimorph sign-in"}, "device", "list")
}

func TestCookieIsRefusedFromOtherSites(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	_, _, h := e.call("POST", "/api/v1/sign-in", fmt.Sprintf(`{"user":"engineer","password":%q}`, e.password))
	cookie := h.Get("Set-Cookie")
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Strict")
	cookie, _, _ = strings.Cut(cookie, ";")
	code, _, _ := e.call("POST", "/api/v1/devices/hollen-fw1/refresh", "", "Authorization", "", "Cookie", cookie, "Sec-Fetch-Site", "same-origin")
	assert.Equal(t, 202, code)
	code, body, _ := e.call("POST", "/api/v1/devices/hollen-fw1/refresh", "", "Authorization", "", "Cookie", cookie, "Sec-Fetch-Site", "cross-site", "Origin", "http://elsewhere.example")
	assert.Equal(t, 403, code)
	assert.Contains(t, string(body), "another site's page")
}

func TestCallsOfTheContract(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen(), simulated{name: "a-fw1", model: "TH-60", version: "5.0.7"}, simulated{name: "z-fw1", model: "TH-80", version: "5.0.7"})
	e.addImages("th60-4.2.9.img")

	t.Run("pages", func(t *testing.T) {
		var names []string
		next := ""
		for range 5 {
			code, body, _ := e.call("GET", "/api/v1/devices?limit=1&cursor="+next, "")
			require.Equal(t, 200, code)
			var p gen.DevicePage
			require.NoError(t, json.Unmarshal(body, &p))
			require.Len(t, p.Items, 1)
			names = append(names, p.Items[0].Name)
			if p.Next == nil {
				break
			}
			next = *p.Next
		}
		assert.Equal(t, []string{"a-fw1", "hollen-fw1", "z-fw1"}, names)
		for _, bad := range []string{"limit=0", "limit=501", "limit=x"} {
			code, _, _ := e.call("GET", "/api/v1/devices?"+bad, "")
			assert.Equal(t, 400, code, bad)
		}
		code, _, _ := e.call("GET", "/api/v1/changes?cursor=x", "")
		assert.Equal(t, 400, code)
	})
	t.Run("idempotency", func(t *testing.T) {
		draft := func(body, key string) (int, gen.Change) {
			code, b, _ := e.call("POST", "/api/v1/changes", body, "Idempotency-Key", key)
			var ch gen.Change
			_ = json.Unmarshal(b, &ch)
			return code, ch
		}
		code, first := draft(`{"device":"hollen-fw1","to":"4.2.9"}`, "k1")
		require.Equal(t, 201, code)
		code, again := draft(`{"device":"hollen-fw1","to":"4.2.9"}`, "k1")
		require.Equal(t, 201, code)
		assert.Equal(t, first.Id, again.Id)
		code, other := draft(`{"device":"hollen-fw1","to":"4.2.9"}`, "k2")
		require.Equal(t, 201, code)
		assert.NotEqual(t, first.Id, other.Id)
		code, _ = draft(`{"device":"hollen-fw1","to":"5.4.2"}`, "k1")
		assert.Equal(t, 400, code, "the same key for another request")
		code, _ = draft(`{"device":"hollen-fw1","to":"5.0.7"}`, "k3")
		assert.Equal(t, 409, code, "image missing")
		e.addImages("th60-5.0.7.img")
		code, _ = draft(`{"device":"hollen-fw1","to":"5.0.7"}`, "k3")
		assert.Equal(t, 201, code, "a call that made nothing may be made again with its key")
	})
	t.Run("bad bodies", func(t *testing.T) {
		for _, c := range []struct{ method, path, body, want string }{
			{"POST", "/api/v1/devices", "{", "cannot be read"},
			{"POST", "/api/v1/devices", `{"name":"x y","address":"a:1","dialect":"tarnholm","user":"u","password":"p"}`, "use up to 63 letters"},
			{"POST", "/api/v1/devices", `{"name":"x","address":"a","dialect":"tarnholm","user":"u","password":"p"}`, "should look like"},
			{"POST", "/api/v1/devices", `{"name":"x","address":"a:99999","dialect":"tarnholm","user":"u","password":"p"}`, "should look like"},
			{"POST", "/api/v1/devices", `{"name":"x","address":"a:1","dialect":"lodvik","user":"u","password":"p"}`, "known: brackmoor, calderpath, gullwire, gullwire-point, jump-host, netconf, ostrevin, pellworth, pellworth-gauge, strandline, tarnholm"},
			{"POST", "/api/v1/devices", `{"name":"x","address":"a:1","dialect":"tarnholm","user":"","password":"p"}`, "user and password"},
			{"POST", "/api/v1/devices", `{"name":"x","address":"a:1","dialect":"tarnholm","user":"u","password":"p","transfer":"pigeon"}`, "known: sftp, http"},
			{"POST", "/api/v1/devices", `{"name":"x","address":"a:1","dialect":"tarnholm","user":"u","password":"p","hostKey":"zz"}`, "authorized-keys"},
			{"POST", "/api/v1/changes/1/explode", "", "there is no action"},
			{"GET", "/api/v1/changes/0x1", "", "id"},
			{"GET", "/api/v1/nothing", "", "there is no call"},
		} {
			code, body, h := e.call(c.method, c.path, c.body)
			assert.GreaterOrEqual(t, code, 400, c.path+c.body)
			assert.Less(t, code, 500, c.path+c.body)
			assert.Contains(t, string(body), c.want)
			assert.Equal(t, "application/problem+json", h.Get("Content-Type"), c.path)
		}
		code, _, _ := e.call("PUT", "/api/v1/catalogue/x.yaml", strings.Repeat("#", 5<<20), "Content-Type", "application/yaml")
		assert.Equal(t, 413, code)
	})
	t.Run("metrics and contract", func(t *testing.T) {
		code, body, _ := e.call("GET", "/metrics", "")
		require.Equal(t, 200, code)
		assert.Contains(t, string(body), `verimorph_changes{state="draft"}`)
		assert.Contains(t, string(body), `verimorph_http_request_seconds_count{method="POST",route="/api/v1/changes",status="201"}`)
		code, body, _ = e.call("GET", "/api/v1/openapi.json", "")
		require.Equal(t, 200, code)
		assert.Contains(t, string(body), `"/changes/{id}/live"`)
	})
	t.Run("offline", func(t *testing.T) {
		dir := t.TempDir()
		a, b := filepath.Join(dir, "a.cfg"), filepath.Join(dir, "b.cfg")
		require.NoError(t, os.WriteFile(a, []byte("box\n  name x\n  secret one1\n"), 0o600))
		require.NoError(t, os.WriteFile(b, []byte("box\n  secret two2\n  name x\n"), 0o600))
		out := e.refused(1, []string{"changed  box / secret", "secret ***"}, "compare", a, b)
		assert.NotContains(t, out, "two2")
		assert.Contains(t, e.must("compare", a, a), "No difference.")
		require.NoError(t, os.WriteFile(b, []byte("box\n    name x\n  place y\n"), 0o600))
		e.refused(3, []string{b + ":3:3: indented by 2, but its block began with 4 on line 2"}, "compare", a, b)
		way := e.must("path", "-catalogue", "../demo/catalog", "-model", "TH-60", "-from", "4.2.3", "-to", "5.4.2")
		assert.Contains(t, way, "TH-60 from 4.2.3 to 5.4.2: 3 hops")
		e.refused(1, []string{"TH-40 may run <6 only"}, "path", "-catalogue", "../demo/catalog", "-model", "TH-40", "-from", "4.2.3", "-to", "6.0.1")
		assert.Empty(t, e.must("catalogue", "check", "../demo/catalog"))
	})
}
