package server

import (
	"errors"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/planning"
	"verimorph/store"
)

func TestErrorsBecomeProblems(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
		kind   string
		detail string
	}{
		{badRequest("x %d", 1), 400, "bad-request", "x 1"},
		{fmt.Errorf("while: %w", notFound("gone")), 404, "not-found", "gone"},
		{&store.BusyError{Device: "d", Change: 3, State: "paused"}, 409, "conflict", "taken by change 3"},
		{&access.Refusal{Reason: access.WrongState, Text: "not now"}, 409, "conflict", "not now"},
		{&access.Refusal{Reason: access.NoRight, Text: "no"}, 403, "forbidden", "no"},
		{&access.Refusal{Reason: access.Incomplete, Text: "say why"}, 400, "bad-request", "say why"},
		{&planning.Error{Kind: planning.NotFound, Text: "gone"}, 404, "not-found", "gone"},
		{&planning.Error{Kind: planning.Invalid, Text: "bad"}, 400, "bad-request", "bad"},
		{&planning.Error{Kind: planning.NoRules, Text: "none"}, 409, "no-conversion", "none"},
		{&planning.Error{Kind: planning.Unreadable, Text: "l1"}, 422, "bad-request", "l1"},
		{&planning.Error{Kind: planning.Damaged, Text: "broken"}, 500, "internal", "broken"},
		{&path.UnknownError{What: "release", Name: "1"}, 404, "not-found", "release 1 is not in the catalogue"},
		{&path.NoPathError{Model: "M", Nearest: version.MustParse("4")}, 409, "no-path", "the nearest release"},
		{&device.Error{Kind: device.Lost, Address: "a:1", Doing: "x", Message: "y"}, 502, "device", "a:1: x: y"},
		{fmt.Errorf("deep: %w", store.ErrNotFound), 404, "not-found", "no such record"},
		{fmt.Errorf("write: %w", syscall.ENOSPC), 507, "unavailable", "the disk of the service is full"},
		{errors.New("password=hunter"), 500, "internal", "its log says why"},
	} {
		p := asProblem(c.err)
		assert.Equal(t, c.status, p.Status, c.err)
		assert.Equal(t, c.kind, p.Type)
		assert.Contains(t, p.Detail, c.detail)
		assert.NotContains(t, p.Detail, "hunter", "what is not known is not told")
		w := httptest.NewRecorder()
		writeProblem(w, p)
		assert.Equal(t, c.status, w.Code)
		assert.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
	}
	p := asProblem(&path.NoPathError{Model: "M", Nearest: version.MustParse("4"), Blocks: []catalog.Citation{{Rule: "R", Text: "no"}}})
	assert.Equal(t, "4", *p.Nearest)
	assert.Equal(t, "R", *(*p.Refusals)[0].Rule)
}

func TestHub(t *testing.T) {
	h := newHub()
	one, leaveOne := h.watch(1)
	two, leaveTwo := h.watch(2)
	for range 3 {
		h.publish(1) // a slow watcher does not hold anybody up
	}
	<-one
	select {
	case <-one:
		t.Fatal("marks are not queued: one is enough to look again")
	case <-two:
		t.Fatal("not about change 2")
	default:
	}
	h.publish(0)
	<-one
	<-two
	leaveOne()
	leaveTwo()
	h.publish(1)
	assert.Empty(t, h.watchers, "nothing is kept of those who left")
	var wg sync.WaitGroup
	for i := range 20 {
		wg.Go(func() {
			_, leave := h.watch(int64(i % 3))
			h.publish(int64(i % 3))
			leave()
		})
	}
	wg.Wait()
	h.close()
	<-h.done
}

func TestLimiter(t *testing.T) {
	var l limiter
	for range maxFailures - 1 {
		l.failed("a")
	}
	assert.False(t, l.blocked("a"))
	l.failed("a")
	assert.True(t, l.blocked("a"))
	assert.False(t, l.blocked("b"), "one name does not block another")
	for i := range l.failures["a"] {
		l.failures["a"][i] = time.Now().Add(-failureWindow - time.Second)
	}
	assert.False(t, l.blocked("a"))
	assert.Empty(t, l.failures)
	for i := range 10100 {
		l.failed(fmt.Sprint(i))
	}
	assert.Less(t, len(l.failures), 10100, "made-up names do not fill the memory")
}

func TestPageBounds(t *testing.T) {
	n, after, err := page(nil, nil)
	require.NoError(t, err)
	assert.Equal(t, 100, n)
	assert.Zero(t, after)
	n, after, err = page(ptr(500), ptr("17"))
	require.NoError(t, err)
	assert.Equal(t, 500, n)
	assert.EqualValues(t, 17, after)
	for _, limit := range []int{0, -1, 501} {
		_, _, err = page(ptr(limit), nil)
		assert.ErrorContains(t, err, "limit must be from 1 to 500")
	}
	for _, cursor := range []string{"x", "-1", "1.5", "99999999999999999999"} {
		_, _, err = page(nil, ptr(cursor))
		assert.ErrorContains(t, err, "cursor", cursor)
	}
}

func TestVerdictShowsWhatWasNotRead(t *testing.T) {
	v := apiVerdict(verify.Verdict{Verdict: verify.Fail, Results: []verify.Result{{Reading: "r", State: verify.Unmet, Before: &verify.Value{Type: verify.Set, Set: []string{"a", "b"}}}}})
	assert.Equal(t, "a, b", *v.Results[0].Before)
	assert.Nil(t, v.Results[0].After)
}

func TestConsoleFiles(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "assets"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.html"), []byte("<p>page"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "assets", "a.js"), []byte("code"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "README.txt"), []byte("not for browsers"), 0o600))
	get := func(s *Server, p string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		s.Handler().ServeHTTP(w, httptest.NewRequest("GET", p, nil))
		return w
	}
	s := New(Config{Console: os.DirFS(dir)})
	for _, p := range []string{"/", "/devices/x", "/changes/1", "/README.txt", "/assets/", "/assets/none.js", "/index.html"} {
		w := get(s, p)
		assert.Equal(t, 200, w.Code, p)
		assert.Equal(t, "<p>page", w.Body.String(), p)
		assert.Equal(t, "no-cache", w.Header().Get("Cache-Control"), p)
		assert.Contains(t, w.Header().Get("Content-Security-Policy"), "frame-ancestors 'none'")
	}
	w := get(s, "/assets/a.js")
	assert.Equal(t, "code", w.Body.String())
	assert.Contains(t, w.Header().Get("Cache-Control"), "immutable")
	w = get(New(Config{}), "/")
	assert.Equal(t, 404, w.Code)
	assert.Contains(t, w.Body.String(), "make build")
}
