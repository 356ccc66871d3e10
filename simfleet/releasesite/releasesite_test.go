package releasesite

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
)

func TestTheProtocol(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	s := New(c, "C-1", "pw")
	web := httptest.NewServer(s.Handler())
	defer web.Close()
	token := ""
	ask := func(method, path, body string, headers ...string) (int, string, http.Header) {
		req, err := http.NewRequest(method, web.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		for i := 0; i+1 < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b), resp.Header
	}
	for _, path := range []string{"/files", "/SHA256SUMS", "/files/rc6-F2.00.fw"} {
		status, _, _ := ask("GET", path, "")
		assert.Equal(t, 401, status, path)
	}
	status, _, _ := ask("POST", "/session", `{"user":"C-1","password":"no"}`)
	assert.Equal(t, 401, status)
	status, body, _ := ask("POST", "/session", `{"user":"C-1","password":"pw"}`)
	require.Equal(t, 200, status)
	token = strings.Split(strings.Split(body, `"token":"`)[1], `"`)[0]
	_, sums, _ := ask("GET", "/SHA256SUMS", "")
	assert.Equal(t, 315, strings.Count(sums, "\n"))
	status, whole, h := ask("GET", "/files/rc6-F2.00.fw", "")
	require.Equal(t, 200, status)
	assert.Contains(t, sums, hexSum([]byte(whole))+"  rc6-F2.00.fw\n")
	status, rest, _ := ask("GET", "/files/rc6-F2.00.fw", "", "Range", "bytes=60000-", "If-Range", h.Get("ETag"))
	assert.Equal(t, 206, status)
	assert.Equal(t, whole[60000:], rest)
	status, again, _ := ask("GET", "/files/rc6-F2.00.fw", "", "Range", "bytes=60000-", "If-Range", `"other"`)
	assert.Equal(t, 200, status, "another file now: all of it")
	assert.Equal(t, whole, again)
	status, sig, _ := ask("GET", "/files/rc6-F2.00.fw.sig", "")
	assert.Equal(t, 200, status)
	assert.Len(t, sig, 64)
	status, _, _ = ask("GET", "/files/nope", "")
	assert.Equal(t, 404, status)

	require.NoError(t, s.Arm(Replaced, Fault{File: "rc6-F2.00.fw"}))
	_, other, _ := ask("GET", "/files/rc6-F2.00.fw", "")
	assert.NotEqual(t, whole, other)
	_, sums, _ = ask("GET", "/SHA256SUMS", "")
	assert.Contains(t, sums, hexSum([]byte(other)))
	assert.Error(t, s.Arm("nonsense", Fault{}))
}
