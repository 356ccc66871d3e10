package simfleet

import (
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
)

const fleetFile = `format: verimorph-simfleet/1
devices:
  - {name: a, maker: Tarnholm, model: TH-60, address: "127.65.0.1:2022", user: u, version: 4.2.9, flash: 1000000, config: a.cfg}
  - {name: b, maker: Tarnholm, model: TH-60, address: "127.65.0.2:2022", user: u, password: p, watchword: w, version: 5.0.7, flash: 1000000, config: a.cfg, faults: {mute: {}}}
`

func load(t *testing.T, text string) (*Fleet, string, error) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.cfg"), []byte("box\n  secret {{random}}\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f.yaml"), []byte(text), 0o600))
	f, err := Load(filepath.Join(dir, "f.yaml"), filepath.Join(dir, "state"), "", 100, slog.New(slog.NewTextHandler(io.Discard, nil)))
	return f, dir, err
}

func TestLoadAndStart(t *testing.T) {
	f, dir, err := load(t, fleetFile)
	require.NoError(t, err)
	require.NoError(t, f.Start())
	defer f.Stop()
	assert.Equal(t, []string{"a", "b"}, f.Names())
	assert.NotContains(t, f.Box("a").(*tarnholm.Box).Status().Config, "{{random}}")
	assert.Contains(t, f.Box("b").(*tarnholm.Box).Status().Faults, tarnholm.Mute)

	st, err := os.Stat(filepath.Join(dir, "state", "access.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	data, err := os.ReadFile(filepath.Join(dir, "state", "access.json"))
	require.NoError(t, err)
	var access []box.Access
	require.NoError(t, json.Unmarshal(data, &access))
	require.Len(t, access, 2)
	assert.Len(t, access[0].Password, 12, "drawn at random")
	assert.Equal(t, "p", access[1].Password)

	other, _, err := load(t, fleetFile)
	require.NoError(t, err)
	assert.ErrorContains(t, other.Start(), "address already in use")
}

func TestFleetFileErrors(t *testing.T) {
	for name, c := range map[string][3]string{
		"format":  {"simfleet/1", "simfleet/9", `format "verimorph-simfleet/9"`},
		"field":   {"model: TH-60", "modle: TH-60", "field modle not found"},
		"twice":   {"name: b", "name: a", `device name "a" is missing, used twice`},
		"path":    {"name: b", "name: ../b", "no plain name"},
		"maker":   {"maker: Tarnholm", "maker: Lodvik", "no simulation for Lodvik"},
		"config":  {"config: a.cfg", "config: z.cfg", "device a: open"},
		"fault":   {"mute:", "mite:", `device b: fault "mite" is not known`},
		"mate":    {"version: 4.2.9,", "version: 4.2.9, mate: c,", `device a: mate: "c" is no other Tarnholm box`},
		"through": {"version: 4.2.9,", "version: 4.2.9, through: 127.0.0.1:0,", `device a: through: only what goes through a pair or a cluster can be asked`},
		"both":    {"version: 4.2.9,", "version: 4.2.9, mate: b, cluster: x,", `device a: it is one of a pair or of a cluster, not both`},
		"few":     {"version: 4.2.9,", "version: 4.2.9, cluster: x,", `device a: cluster x: it has 1 boxes; a cluster has three at least`},
		"itself":  {"version: 4.2.9,", "version: 4.2.9, mate: a,", `device a: mate: "a" is no other Tarnholm box`},
		"no yaml": {"devices:", "devices: [", "f.yaml"},
	} {
		_, _, err := load(t, strings.Replace(fleetFile, c[0], c[1], 1))
		assert.ErrorContains(t, err, c[2], name)
	}
	_, err := Load("nowhere.yaml", t.TempDir(), "", 1, slog.Default())
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestControl(t *testing.T) {
	f, _, err := load(t, strings.ReplaceAll(fleetFile, "127.65.0.", "127.65.1."))
	require.NoError(t, err)
	web := httptest.NewServer(f.Handler())
	defer web.Close()
	call := func(method, path, body string) (int, string) {
		req, err := http.NewRequest(method, web.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b)
	}
	code, body := call("GET", "/devices", "")
	assert.Equal(t, 200, code)
	assert.Contains(t, body, `"version":"4.2.9"`)
	assert.NotContains(t, body, `"p"`, "passwords are not part of the status")
	code, _ = call("POST", "/devices/a/faults/drop-transfer", `{"value": 5}`)
	assert.Equal(t, 200, code)
	assert.EqualValues(t, 5, f.Box("a").(*tarnholm.Box).Status().Faults[tarnholm.DropTransfer].Value)
	code, _ = call("DELETE", "/devices/a/faults/drop-transfer", "")
	assert.Equal(t, 200, code)
	assert.Empty(t, f.Box("a").(*tarnholm.Box).Status().Faults)
	code, _ = call("POST", "/devices/b/reset", "")
	assert.Equal(t, 200, code)
	assert.Empty(t, f.Box("b").(*tarnholm.Box).Status().Faults)
	for _, bad := range [][3]string{{"POST", "/devices/a/faults/zz", "{}"}, {"POST", "/devices/a/faults/mute", "x"}, {"POST", "/devices/zz/reset", ""}} {
		code, body := call(bad[0], bad[1], bad[2])
		assert.Equal(t, 400, code, bad)
		assert.NotEmpty(t, body)
	}
}

func TestTheReleaseSiteOfAFleet(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "fleet.yaml")
	require.NoError(t, os.WriteFile(name, []byte("format: "+Format+"\ndevices: []\n"), 0o600))
	f, err := Load(name, dir, "", 1, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	control := httptest.NewServer(f.Handler())
	defer control.Close()
	arm := func(method, fault, body string) (int, string) {
		req, err := http.NewRequest(method, control.URL+"/site/faults/"+fault, strings.NewReader(body))
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b)
	}
	status, text := arm("POST", "drop", "{}")
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "no release site runs here")

	c, found := catalog.ReadDir(os.DirFS("../demo/catalog"))
	require.Empty(t, found)
	site, err := f.OpenSite(c, "127.0.0.1:0")
	require.NoError(t, err)
	first, err := os.ReadFile(filepath.Join(dir, "site.json"))
	require.NoError(t, err)
	st, err := os.Stat(filepath.Join(dir, "site.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	status, text = arm("POST", "explode", "{}")
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "known: bad-signature, contract-ended")
	status, _ = arm("POST", "contract-ended", "{}")
	assert.Equal(t, 200, status)
	var access struct{ URL, User, Password string }
	require.NoError(t, json.Unmarshal(first, &access))
	in := func() int {
		resp, err := http.Post(access.URL+"/session", "application/json", strings.NewReader(`{"user":"`+access.User+`","password":"`+access.Password+`"}`))
		require.NoError(t, err)
		defer resp.Body.Close()
		return resp.StatusCode
	}
	assert.Equal(t, 403, in())
	status, _ = arm("DELETE", "contract-ended", "")
	assert.Equal(t, 200, status)
	assert.Equal(t, 200, in())
	require.NoError(t, site.Close())

	again, err := f.OpenSite(c, "127.0.0.1:0")
	require.NoError(t, err)
	defer again.Close()
	second, err := os.ReadFile(filepath.Join(dir, "site.json"))
	require.NoError(t, err)
	var later struct{ Password string }
	require.NoError(t, json.Unmarshal(second, &later))
	assert.Equal(t, access.Password, later.Password, "the password stays")
}
