package licensing

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/simfleet/licences"
)

// One licence for two devices: the first takes it, and again the same; the other is refused, in the service's own words.
func TestALicenceIsTakenOnce(t *testing.T) {
	s := licences.New("C-1", "secret", map[string]int{"crypto": 1}, nil)
	web := httptest.NewServer(s.Handler())
	defer web.Close()
	c, ctx := New(web.URL+"/", "C-1", "secret"), t.Context()
	st, err := c.Ask(ctx, "crypto", "A")
	require.NoError(t, err)
	assert.Equal(t, Standing{Free, 1}, st)
	first, err := c.Take(ctx, "crypto", "A")
	require.NoError(t, err)
	again, err := c.Take(ctx, "crypto", "A")
	require.NoError(t, err)
	assert.Equal(t, first, again)
	assert.Equal(t, []string{"A"}, s.Taken("crypto"))
	st, err = c.Ask(ctx, "crypto", "A")
	require.NoError(t, err)
	assert.Equal(t, Held, st.State)
	st, err = c.Ask(ctx, "crypto", "B")
	require.NoError(t, err)
	assert.Equal(t, Standing{UsedUp, 0}, st)
	_, err = c.Take(ctx, "crypto", "B")
	assert.ErrorContains(t, err, "the licence service refuses: all 1 licences named crypto are with other devices")
	_, err = c.Ask(ctx, "none", "B")
	assert.ErrorContains(t, err, "nothing named none is sold here")
	_, err = New(web.URL, "C-1", "wrong").Ask(ctx, "crypto", "A")
	assert.ErrorContains(t, err, "there is no such contract")
	assert.NotContains(t, err.Error(), "wrong")
}

// What a service that is not in order answers is an error, and never a key.
func TestServicesThatAreNotInOrder(t *testing.T) {
	for what, c := range map[string]struct {
		status     int
		body, says string
	}{
		"another serial":  {200, `{"serial":"OTHER","key":"k"}`, "its key is for OTHER, and the device is A"},
		"no key":          {200, `{"serial":"A"}`, "gave no key of one line"},
		"a key of lines":  {200, `{"serial":"A","key":"k\nreset"}`, "gave no key of one line"},
		"no JSON":         {200, "<html>", "is no JSON"},
		"does not work":   {503, "", "does not work now"},
		"a redirect":      {302, "", "refuses: 302"},
		"a hostile text":  {409, "{\"detail\":\"no\\u001b[2J\\nmore\"}", "refuses: no [2J more"},
		"a long answer":   {200, `{"serial":"A","key":"` + string(make([]byte, 80<<10)), "is no JSON"},
		"a problem alone": {409, "{}", "refuses: 409"},
	} {
		web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Location", "/elsewhere")
			w.WriteHeader(c.status)
			_, _ = w.Write([]byte(c.body))
		}))
		key, err := New(web.URL, "u", "p").Take(t.Context(), "crypto", "A")
		assert.ErrorContains(t, err, c.says, what)
		assert.Empty(t, key, what)
		web.Close()
	}
	_, err := New("http://127.0.0.1:1", "u", "p").Ask(t.Context(), "crypto", "A")
	assert.ErrorContains(t, err, "cannot be reached")
}
