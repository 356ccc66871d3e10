package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/simfleet"
	"verimorph/simfleet/firmware"
)

const walkthrough = "../demo/walkthrough/"

// practiceBox starts the box of the walk-through and returns where it answers. Its password is practice, that of the privileged level deeper.
func (e *env) practiceBox() string {
	data, err := os.ReadFile(walkthrough + "fleet.yaml")
	require.NoError(e.t, err)
	var file simfleet.File
	require.NoError(e.t, yaml.Unmarshal(data, &file))
	config, err := filepath.Abs(walkthrough + file.Devices[0].Config)
	require.NoError(e.t, err)
	text, err := os.ReadFile(config)
	require.NoError(e.t, err)
	dir := e.t.TempDir()
	require.NoError(e.t, os.WriteFile(filepath.Join(dir, file.Devices[0].Config), text, 0o600))
	file.Devices[0].Address = fmt.Sprintf("127.63.%d.99:2022", e.n)
	data, err = yaml.Marshal(file)
	require.NoError(e.t, err)
	name := filepath.Join(dir, "fleet.yaml")
	require.NoError(e.t, os.WriteFile(name, data, 0o600))
	fleet, err := simfleet.Load(name, dir, dir, e.factor, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(e.t, err)
	require.NoError(e.t, fleet.Start())
	e.t.Cleanup(fleet.Stop)
	return file.Devices[0].Address
}

// The walk-through, command by command: from a box that nobody has described to its first upgrade and back, with files alone and without a restart of the
// service.
func TestTheWalkthrough(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor)
	address, dialect := e.practiceBox(), walkthrough+"dialects/fernhollow.yaml"
	both := "practice\ndeeper\n"
	out, stderr, code := e.client(both, "dialect", "try", dialect, "helm@"+address, "who", "files")
	require.Equal(t, 0, code, out+stderr)
	assert.Contains(t, out, "[24,576 blocks]", "what a group found is marked")
	assert.Contains(t, out, "slots 1: slot store:/images/lb-2.1.0.img, version 2.1.0")
	out, _, code = e.client(both, "device", "add", "lb1", "-address", address, "-dialect", "fernhollow", "-user", "helm")
	require.NotEqual(t, 0, code, out)

	e.must("catalogue", "load", walkthrough+"catalog", dialect)
	assert.Contains(t, e.must("dialect", "list"), "fernhollow.yaml")
	out, stderr, code = e.client(both, "device", "add", "lb1", "-address", address, "-dialect", "fernhollow", "-user", "helm")
	require.Equal(t, 0, code, out+stderr)
	e.must("device", "refresh", "lb1")
	assert.Contains(t, e.must("device", "show", "lb1"), "lb-2.1.0.img")
	recording := filepath.Join(t.TempDir(), "lb1.session")
	e.must("dialect", "record", "lb1", "-o", recording)
	text, err := os.ReadFile(recording)
	require.NoError(t, err)
	assert.Contains(t, string(text), `"device":"lb1"`)
	e.must("dialect", "test", dialect, recording)
	e.refused(3, []string{"save may change something on the device"}, "dialect", "try", dialect, "lb1", "save")
	assert.Contains(t, e.must("dialect", "try", dialect, "lb1", "-write", "save"), "sealed")

	dir := t.TempDir()
	require.NoError(t, imagesOf(walkthrough+"catalog", dir))
	e.must("image", "add", dir)
	id := e.begin("lb1", "3.0.1")
	ch := e.awaitEnd(id)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	e.passes(ch)
	assert.Contains(t, e.must("device", "show", "lb1"), "second", "what ran before is the second image")
	back := struct{ Id int64 }{}
	require.NoError(t, json.Unmarshal([]byte(e.must("change", "back", "lb1", "-json")), &back))
	e.must("change", "approve", fmt.Sprint(back.Id))
	e.must("change", "start", fmt.Sprint(back.Id))
	ch = e.awaitEnd(fmt.Sprint(back.Id))
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	assert.Contains(t, e.must("device", "show", "lb1"), "2.2.3")

	// What was backed up goes back line by line.
	e.must("backup", "take", "lb1")
	var backups []struct{ Id int64 }
	require.NoError(t, json.Unmarshal([]byte(e.must("backup", "list", "-device", "lb1", "-json")), &backups))
	var ch2 gen.Change
	require.NoError(t, json.Unmarshal([]byte(e.must("backup", "restore", fmt.Sprint(backups[0].Id), "-parts", "running", "-draft", "-json")), &ch2))
	restore := fmt.Sprint(ch2.Id)
	e.must("change", "approve", restore)
	e.must("change", "start", restore)
	ch = e.awaitEnd(restore)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))

	// A dialect that cannot be used is not loaded; another version of it counts at once, and the older one can come back.
	broken := filepath.Join(t.TempDir(), "fernhollow.yaml")
	whole, err := os.ReadFile(dialect)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(broken, []byte(strings.Replace(string(whole), "rows: files", "rows: filse", 1)), 0o600))
	e.refused(1, []string{"fernhollow.yaml:", `there is no table "filse"`}, "catalogue", "load", broken)
	require.NoError(t, os.WriteFile(broken, []byte(strings.Replace(string(whole), "serial: Serial", "serial: Maker", 1)), 0o600))
	e.must("catalogue", "load", broken)
	e.must("device", "refresh", "lb1")
	assert.Contains(t, e.must("device", "show", "lb1"), "serial Fernhollow", "without a restart of the service")
	e.killService()
	e.startService()
	assert.Contains(t, e.must("dialect", "list"), "fernhollow.yaml")
}

// The workshop in the console: the text with what is wrong with it, the device, the raw answer with its marks, and the fields.
func TestConsoleDialects(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor)
	address := e.practiceBox()
	e.must("catalogue", "load", walkthrough+"catalog", walkthrough+"dialects/fernhollow.yaml")
	out, stderr, code := e.client("practice\ndeeper\n", "device", "add", "lb1", "-address", address, "-dialect", "fernhollow", "-user", "helm")
	require.Equal(t, 0, code, out+stderr)
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/dialects"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		text("table", "fernhollow.yaml, version"), text("table", "built in"), chosen("#dialect", "fernhollow"), text("#findings", "No finding."),
		typed(`input[placeholder="Name, site, model or version"]`, "lb1"), text("[role=option]", "lb1"), click("[role=option]"), chosen("#query", "who"), click("#try"),
		text("#trials", "understood"), text("#trials mark", "24,576 blocks"), text("#trials", "12582912"), shot("dialects"),
		chosen("#query", "save"), visible("input[name=write]"), click("input[name=write]"), click("#try"), text("#trials", "sealed"),
		click("#load-dialect"), text("main", "nothing changed"))
}

// imagesOf makes the images of a catalogue.
func imagesOf(folder, dir string) error {
	c, found := catalog.ReadDir(os.DirFS(folder))
	if len(found) > 0 {
		return found
	}
	_, err := firmware.MakeAll(c, dir)
	return err
}
