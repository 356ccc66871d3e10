package restconf

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/device"
)

// box is a device that offers RESTCONF over TLS.
type box struct {
	mu      sync.Mutex
	data    string
	version int
	heard   []string
	root    string // href in host-meta
	stream  string // where the stream of events is
}

func (b *box) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r.URL.Path == "/.well-known/host-meta" {
		fmt.Fprintf(w, `<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="restconf" href="%s"/></XRD>`, b.root)
		return
	}
	user, password, _ := r.BasicAuth()
	if user != "helm" || password != "secret-1" {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	body, _ := io.ReadAll(r.Body)
	b.heard = append(b.heard, strings.TrimSpace(r.Method+" "+r.URL.Path+" "+string(body)))
	tag := fmt.Sprintf(`"%d"`, b.version)
	switch {
	case r.URL.Path == "/api/data/system" && r.Method == http.MethodGet && r.Header.Get("Accept") == asXML:
		fmt.Fprint(w, "<system><name>b</name></system>")
	case r.URL.Path == "/api/data/system" && r.Method == http.MethodGet:
		w.Header().Set("ETag", tag)
		fmt.Fprint(w, b.data)
	case r.URL.Path == "/api/data/system" && r.Method == http.MethodPut:
		if m := r.Header.Get("If-Match"); m != tag {
			w.WriteHeader(http.StatusPreconditionFailed)
			return
		}
		b.data, b.version = string(body), b.version+1
		w.WriteHeader(http.StatusNoContent)
	case strings.HasPrefix(r.URL.Path, "/api/data/ietf-restconf-monitoring:restconf-state/streams/stream=NETCONF/"):
		fmt.Fprintf(w, `{"ietf-restconf-monitoring:location": %q}`, b.stream)
	case r.URL.Path == "/streams/NETCONF" && r.Header.Get("Accept") == "text/event-stream":
		fmt.Fprint(w, ": hello\n\ndata: {\"a\":\ndata: 1}\n\ndata: second\n\n")
		w.(http.Flusher).Flush()
		b.mu.Unlock()
		<-r.Context().Done()
		b.mu.Lock()
	case r.URL.Path == "/api/data/locked":
		w.WriteHeader(http.StatusConflict)
		fmt.Fprint(w, `{"ietf-restconf:errors": {"error": [{"error-type": "protocol", "error-tag": "lock-denied", "error-message": "somebody has it"}]}}`)
	case r.URL.Path == "/api/data/bad":
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprint(w, `<errors xmlns="urn:ietf:params:xml:ns:yang:ietf-restconf"><error><error-tag>invalid-value</error-tag><error-path>/a</error-path><error-message>no colour</error-message></error></errors>`)
	case r.URL.Path == "/api/data/elsewhere":
		http.Redirect(w, r, "https://192.0.2.1/", http.StatusFound)
	case r.URL.Path == "/api/data/slow":
		b.mu.Unlock()
		time.Sleep(time.Second)
		b.mu.Lock()
	case r.URL.Path == "/api/operations/ietf-system:system-restart" && r.Method == http.MethodPost:
		w.WriteHeader(http.StatusNoContent)
	default:
		w.WriteHeader(http.StatusNotFound)
	}
}

func start(t *testing.T) (*box, device.Target) {
	b := &box{data: `{"system": {"name": "a"}}`, root: "/api"}
	s := httptest.NewTLSServer(b)
	t.Cleanup(s.Close)
	at := s.Listener.Addr().String()
	return b, device.Target{Address: at, Services: map[string]string{device.ByRESTCONF: at}, SignIns: []device.SignIn{{ID: 1, User: "helm", Password: "old"}, {ID: 2, User: "helm", Password: "secret-1"}}, Tries: 3}
}

// Resources are read and written, operations called, in both encodings; which password is right is found out with as few refusals as there are wrong ones.
func TestCalls(t *testing.T) {
	b, target := start(t)
	var refused, used []int64
	pin := ""
	target.Refused, target.Used = func(s device.SignIn, _ bool) { refused = append(refused, s.ID) }, func(s device.SignIn, _ bool) { used = append(used, s.ID) }
	target.Pin = func(_, p string) error { pin = p; return nil }
	c := Dial(&target, device.Service{}, nil, nil)
	defer c.Close()
	for what, want := range map[string]string{"GET data/system": `{"system": {"name": "a"}}`, "GET data/system as xml": "<system><name>b</name></system>", "POST operations/ietf-system:system-restart": ""} {
		got, err := c.Call(t.Context(), what)
		require.NoError(t, err, what)
		assert.Equal(t, want, got)
	}
	assert.Equal(t, []int64{1}, refused)
	assert.Equal(t, []int64{2}, used)
	assert.True(t, strings.HasPrefix(pin, "sha256:"))
	_, err := c.Call(t.Context(), "PUT data/system {\n  \"system\": {\"name\": \"c\"}\n}")
	assert.Equal(t, device.NotReady, device.KindOf(err), "without the tag of what it replaces")
	assert.Equal(t, "PUT /api/data/system {\n  \"system\": {\"name\": \"c\"}\n}", b.heard[len(b.heard)-1], "a body keeps its lines")
	require.NoError(t, c.Replace(t.Context(), "data/system", []byte(`{"system": {"name": "d"}}`)))
	got, err := c.Fetch(t.Context(), "data/system")
	require.NoError(t, err)
	assert.Equal(t, `{"system": {"name": "d"}}`, string(got))
}

// What goes wrong has an error of its kind, in the words of the device.
func TestRefusals(t *testing.T) {
	_, target := start(t)
	c := Dial(&target, device.Service{Root: "/api/"}, nil, &target.SignIns[1])
	defer c.Close()
	for what, want := range map[string][2]string{
		"GET data/locked":    {string(device.NotReady), "lock-denied: somebody has it"},
		"GET data/bad":       {string(device.Refused), "invalid-value: no colour, at /a"},
		"GET data/nothing":   {string(device.Lacking), "404"},
		"GET data/elsewhere": {string(device.NotUnderstood), "sends us elsewhere"},
		"LOOK data/system":   {string(device.NotUnderstood), "RESTCONF has GET"},
		"GET":                {string(device.NotUnderstood), "say a resource"},
		"GET ../../etc":      {string(device.NotUnderstood), "say a resource"},
	} {
		_, err := c.Call(t.Context(), what)
		assert.Equal(t, want[0], string(device.KindOf(err)), what)
		assert.ErrorContains(t, err, want[1], what)
		assert.NotContains(t, fmt.Sprint(err), "secret-1")
	}
	late, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err := c.Call(late, "GET data/slow")
	assert.Equal(t, device.Silent, device.KindOf(err))
	pinned := target
	pinned.Pins = map[string]string{device.ByRESTCONF: "sha256:another"}
	_, err = Dial(&pinned, device.Service{}, nil, nil).Call(t.Context(), "GET data/system")
	assert.Equal(t, device.HostKeyChanged, device.KindOf(err), "%v", err)
	trusted := Dial(&target, device.Service{TLS: device.TLSTrusted}, nil, nil)
	_, err = trusted.Call(t.Context(), "GET data/system")
	assert.Equal(t, device.Unreachable, device.KindOf(err), "%v", err)
	wrong := target
	wrong.SignIns, wrong.Tries = target.SignIns[:1], 1
	_, err = Dial(&wrong, device.Service{}, nil, nil).Call(t.Context(), "GET data/system")
	assert.Equal(t, device.SignInRefused, device.KindOf(err), "%v", err)
	nobody := device.Target{Address: "127.0.0.1:1", SignIns: target.SignIns}
	_, err = Dial(&nobody, device.Service{Port: 1}, nil, nil).Call(t.Context(), "GET data/system")
	assert.Equal(t, device.Unreachable, device.KindOf(err), "%v", err)
}

// The root is never somewhere else, and has to be there.
func TestRoots(t *testing.T) {
	b, target := start(t)
	for _, root := range []string{"https://192.0.2.1/restconf", "//192.0.2.1/restconf", ""} {
		b.root = root
		_, err := Dial(&target, device.Service{}, nil, nil).Call(t.Context(), "GET data/system")
		assert.Equal(t, device.NotUnderstood, device.KindOf(err), "%q: %v", root, err)
	}
}

// Events come one by one until the client is closed; a stream elsewhere is not followed.
func TestStreams(t *testing.T) {
	b, target := start(t)
	b.stream = "https://192.0.2.1/streams/NETCONF"
	c := Dial(&target, device.Service{}, nil, &target.SignIns[1])
	err := c.Subscribe(t.Context(), "", func(string) {})
	assert.ErrorContains(t, err, "is not on the device itself")
	b.stream = "/streams/NETCONF"
	heard := make(chan string, 10)
	ended := make(chan error, 1)
	go func() { ended <- c.Subscribe(t.Context(), "", func(text string) { heard <- text }) }()
	assert.Equal(t, `{"a": 1}`, <-heard)
	assert.Equal(t, "second", <-heard)
	c.Close()
	select {
	case err := <-ended:
		assert.Equal(t, device.Lost, device.KindOf(err), "%v", err)
	case <-time.After(5 * time.Second):
		assert.Fail(t, "it goes on after it was closed")
	}
	assert.Equal(t, device.Lacking, device.KindOf(Dial(&target, device.Service{}, nil, &target.SignIns[1]).Subscribe(t.Context(), "other", func(string) {})))
}
