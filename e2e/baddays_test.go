package e2e

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
)

func TestWrongNames(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen(), simulated{name: "brattsund-fw1", model: "TH-40", version: "4.2.6"})
	e.refused(1, []string{`there is no device "hollem-fw1"`, "verimorph device list"}, "path", "hollem-fw1", "-to", "5.4.2")
	e.refused(1, []string{"release 5.4.1 is not in the catalogue of family th; known and near: 5.4.0, 5.4.2"}, "path", "hollen-fw1", "-to", "5.4.1")
	e.refused(1, []string{"release 17.9.4 is not in the catalogue of family th"}, "change", "draft", "hollen-fw1", "-to", "17.9.4")
	e.refused(1, []string{`version "5.4/2": character 4`}, "path", "hollen-fw1", "-to", "5.4/2")
	e.refused(1, []string{"TH-40 may run <6 only, not 6.0.1", "The nearest release that can be reached is 5.4.2"}, "path", "brattsund-fw1", "-to", "6.0.1")
	e.refused(1, []string{"5.0.1 was withdrawn by the maker"}, "path", "hollen-fw1", "-to", "5.0.1")
	e.refused(1, []string{"there is no change 99"}, "change", "show", "99")
	e.refused(2, []string{`"x" is not the number of a change`, "verimorph help change show"}, "change", "show", "x")
	e.refused(2, []string{"flag provided but not defined"}, "device", "list", "-nope")
	e.refused(2, []string{"give one of -to and -aim"}, "path", "hollen-fw1")
	e.refused(2, []string{`there is no command "devise list"`}, "devise", "list")
	assert.Contains(t, e.must("help", "change", "draft"), "Exit codes")
}

func TestImagesAreCheckedAtTheDoor(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor)
	good, err := os.ReadFile(filepath.Join(imageDir, "th60-5.0.7.img"))
	require.NoError(t, err)
	try := func(name string, data []byte, texts ...string) {
		t.Helper()
		file := filepath.Join(e.dir, name)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		e.refused(1, texts, "image", "add", file)
	}
	damaged := append([]byte(nil), good...)
	damaged[len(damaged)/2] ^= 1
	try("th60-5.0.7.img", damaged, "its header says 5.0.7 for TH-60, but its SHA-256 is", "damaged or altered")
	try("cut.img", good[:len(good)-100], "damaged or altered")
	other := []byte(strings.Replace(string(good), "models: TH-60", "models: TH-80", 1))
	try("th60-5.0.7.img", other, "its header says 5.0.7 for TH-80, but its SHA-256")
	try("new.img", []byte(strings.Replace(string(good), "version: 5.0.7", "version: 9.0.7", 1)), "9.0.7 for TH-60, which the catalogue does not know")
	try("notes.txt", []byte("not an image at all"), "is not an image of any family")
	try("empty.img", nil, "empty.img is empty")
	assert.NotContains(t, e.must("image", "list"), "TH-", "nothing that was refused is in the store")
	left, err := filepath.Glob(filepath.Join(e.dir, "data", "images", "*", "*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nor are its parts")
	e.refused(3, []string{"no such file"}, "image", "add", filepath.Join(e.dir, "nowhere.img"))

	// A catalogue that says another version than the header is a wrong catalogue; the image is not taken either.
	text, err := os.ReadFile("../demo/catalog/tarnholm-th.yaml")
	require.NoError(t, err)
	wrong := filepath.Join(e.dir, "tarnholm-th.yaml")
	require.NoError(t, os.WriteFile(wrong, []byte(strings.Replace(string(text), `version: "5.0.7"`, `version: "5.0.8"`, 1)), 0o600))
	e.must("catalogue", "load", wrong)
	e.refused(1, []string{"its header says 5.0.7 for TH-60, the catalogue says 5.0.8"}, "image", "add", filepath.Join(imageDir, "th60-5.0.7.img"))
	require.NoError(t, os.WriteFile(wrong, []byte(strings.Replace(string(text), "maker: Tarnholm", "makre: Tarnholm", 1)), 0o600))
	e.refused(1, []string{`tarnholm-th.yaml:3:1: error: a catalogue file has no field "makre"`}, "catalogue", "load", wrong)
	e.refused(1, []string{`tarnholm-th.yaml:3:1: error`}, "catalogue", "check", filepath.Dir(wrong))
}

// TestDevicesBite runs one change on each of several devices, each with something wrong with it.
func TestDevicesBite(t *testing.T) {
	t.Parallel()
	th60 := func(name, transfer string) simulated {
		return simulated{name: name, model: "TH-60", version: "5.0.7", transfer: transfer}
	}
	names := []string{"drops", "drops-http", "stalls", "corrupts", "full", "lost", "dark", "no-tunnel", "fit-breaks", "late-key", "loses-rules"}
	var boxes []simulated
	for _, n := range names {
		boxes = append(boxes, th60(n, map[bool]string{true: "http"}[n == "drops-http"]))
	}
	e := setUp(t, testFactor, boxes...)
	e.addImages("th60-5.4.2.img")
	arm := func(name, fault string, value int64, times int) {
		require.NoError(t, e.firewall(name).Arm(fault, box.Fault{Value: value, Times: times}))
	}
	arm("drops", tarnholm.DropTransfer, 3<<20, 2)
	arm("drops-http", tarnholm.DropTransfer, 1<<20, 2)
	arm("stalls", tarnholm.StallTransfer, 3<<20, 1)
	arm("corrupts", tarnholm.CorruptTransfer, 0, 1)
	arm("full", tarnholm.LowFlash, 1<<20, 0)
	arm("lost", tarnholm.NeverReturn, 0, 1)
	arm("no-tunnel", tarnholm.TunnelDown, 0, 1)
	arm("fit-breaks", tarnholm.FitFails, 0, 1)
	arm("late-key", tarnholm.NewHostKey, 0, 1)
	arm("loses-rules", tarnholm.LoseTranslations, 0, 1)
	dark := e.firewall("dark").Access()
	out, _, code := e.client("wrong-password-77\nx\n", "device", "credentials", "dark", "-user", dark.User)
	require.Equal(t, 0, code, out)

	ids := map[string]string{}
	for _, n := range names {
		if n != "full" && n != "dark" {
			ids[n] = e.begin(n, "5.4.2")
		}
	}
	end := func(name string, state gen.ChangeState) gen.Change {
		t.Helper()
		ch := e.awaitEnd(ids[name])
		require.Equal(t, state, ch.State, "%v", ch.Failure)
		return ch
	}
	// What fails before the point of no return ends the change; what fails after it asks a person.
	failure := func(name string) string {
		t.Helper()
		ch := end(name, gen.ChangeStateFailed)
		require.NotNil(t, ch.Failure)
		return *ch.Failure
	}
	asked := func(name string) (gen.Change, string) {
		t.Helper()
		ch := e.await(ids[name], "asks", func(ch gen.Change) bool { return ch.State == gen.ChangeStateAsking || ch.EndedAt != nil })
		require.NotNil(t, ch.Question, "%v", ch.Failure)
		return ch, ch.Question.Text
	}
	notStarted := func(name string, texts ...string) string {
		t.Helper()
		ids[name] = fmt.Sprint(e.draft(name, "5.4.2"))
		e.must("change", "approve", ids[name])
		return e.refused(1, append(texts, "not ready"), "change", "start", ids[name])
	}

	for _, name := range []string{"drops", "drops-http"} {
		ch := end(name, gen.ChangeStateDone)
		assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict)
		assert.Equal(t, 3, stepOf(ch, 1, "send").Attempts, "%s: dropped twice and taken up again", name)
		assert.Contains(t, e.must("change", "journal", ids[name]), "retry")
	}

	assert.Equal(t, 2, stepOf(end("stalls", gen.ChangeStateDone), 1, "send").Attempts, "it stood still and was taken up again")

	ch := end("corrupts", gen.ChangeStateDone)
	assert.Equal(t, 2, stepOf(ch, 1, "send").Attempts, "sent again")
	assert.Contains(t, e.must("change", "journal", ids["corrupts"]), "the damaged file was removed")

	notStarted("full", "5.0 MiB are needed and 1.0 MiB of 24.0 MiB are free")
	assert.Equal(t, 0, e.firewall("full").Status().Fits, "it was not touched")

	_, text := asked("lost")
	assert.Contains(t, text, "Wait for link (hop 1, 5.0.7 to 5.4.2)")
	assert.Contains(t, text, "the hard limit of")
	assert.Contains(t, text, "last seen")
	require.NoError(t, e.firewall("lost").Heal(tarnholm.NeverReturn))
	boots := e.firewall("lost").Status().Boots
	time.Sleep(2 * time.Second)
	assert.Equal(t, boots, e.firewall("lost").Status().Boots, "it is not touched again by itself")
	e.must("change", "leave", ids["lost"])
	assert.Contains(t, failure("lost"), "left the device as it stands")
	assert.Contains(t, e.must("device", "refresh", "lost"), "5.4.2", "a person may look")

	text = notStarted("dark", `user "bosun" or its password is not accepted`)
	assert.NotContains(t, text, "wrong-password-77")
	assert.NotContains(t, e.log.String(), "wrong-password-77")

	ch, _ = asked("no-tunnel")
	assert.Equal(t, gen.VerdictVerdictFail, ch.Verdict.Verdict)
	assert.Contains(t, e.refused(1, []string{"Verdict: fail"}, "change", "verdict", ids["no-tunnel"]), "1 of 1 missing: control-room")

	ch, _ = asked("loses-rules")
	assert.Equal(t, gen.VerdictVerdictFail, ch.Verdict.Verdict)
	assert.Contains(t, e.refused(1, nil, "change", "verdict", ids["loses-rules"]), "2 of 2 missing: ramp-watch, web-tickets")

	assert.Contains(t, failure("fit-breaks"), "writing slot b failed at 50 %")
	st := e.firewall("fit-breaks").Status()
	assert.Equal(t, "5.0.7", st.Version, "it still runs what it ran")
	assert.Equal(t, "a", st.Next)

	e.must("change", "go-back", ids["loses-rules"]) // the older installation has its own rules
	ch = end("loses-rules", gen.ChangeStateReturned)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict)
	assert.Equal(t, "5.0.7", e.firewall("loses-rules").Status().Version)

	_, text = asked("late-key")
	assert.Contains(t, text, "the host key is SHA256:")
	e.refused(3, []string{"not the pinned one", "forget the pinned key"}, "device", "refresh", "late-key")
	e.must("device", "forget-key", "late-key")
	assert.Contains(t, e.must("device", "refresh", "late-key"), "5.4.2")
}

func TestTwoChangesForOneDevice(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen())
	e.addImages("th60-4.2.9.img")
	var ids []string
	for range 4 {
		id := fmt.Sprint(e.draft("hollen-fw1", "4.2.9"))
		e.must("change", "approve", id)
		ids = append(ids, id)
	}
	codes := make(chan int, len(ids))
	for _, id := range ids {
		go func() {
			_, _, code := e.client("", "change", "start", id)
			codes <- code
		}()
	}
	count := map[int]int{}
	for range ids {
		count[<-codes]++
	}
	assert.Equal(t, map[int]int{0: 1, 1: 3}, count, "one starts, the others are refused")
	running := 0
	for _, id := range ids {
		if e.change(id).State == gen.ChangeStateRunning {
			running++
			e.awaitEnd(id)
		}
	}
	assert.Equal(t, 1, running)
	assert.Equal(t, 1, e.firewall("hollen-fw1").Status().Fits)
}

func TestWithoutDatabase(t *testing.T) {
	t.Parallel()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := ln.Addr().String()
	_ = ln.Close()
	cmd := exec.Command(filepath.Join(binDir, "verimorphd"), "-data", t.TempDir(), "-database-wait", "1s", "-listen", freeAddress(t))
	cmd.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL=postgres://somebody:geheimnis9@"+address+"/nowhere", "GORACE=atexit_sleep_ms=0")
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 3, cmd.ProcessState.ExitCode())
	assert.Contains(t, string(out), "the database nowhere at 127.0.0.1:")
	assert.Contains(t, string(out), "Is PostgreSQL running")
	assert.NotContains(t, string(out), "geheimnis9")

	cmd = exec.Command(filepath.Join(binDir, "verimorphd"), "-time-factor", "0", "-database", "x")
	_, err = cmd.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 2, cmd.ProcessState.ExitCode())
}

func TestServiceAway(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	e.killService()
	e.refused(3, []string{"cannot be reached"}, "device", "list")
	e.refused(2, []string{"should look like"}, "device", "list", "-server", "nonsense")
}

func TestDataFolderIsGuarded(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	e.addImages("th60-4.2.9.img")
	key := filepath.Join(e.dir, "data", "key")
	st, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())

	// An image that is damaged in the store is found before the device is touched.
	stored, err := filepath.Glob(filepath.Join(e.dir, "data", "images", "*", "*"))
	require.NoError(t, err)
	require.Len(t, stored, 1)
	f, err := os.OpenFile(stored[0], os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1, 2, 3}, 1<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	id := fmt.Sprint(e.draft("hollen-fw1", "4.2.9"))
	e.must("change", "approve", id)
	e.refused(1, []string{"not ready", "the stored file is damaged"}, "change", "start", id)
	p := e.firewall("hollen-fw1").Status()
	assert.Equal(t, 0, p.Fits)

	// A lost key is said, not papered over: the service does not start, and makes no new one.
	e.killService()
	require.NoError(t, os.Rename(key, key+".away"))
	assert.Contains(t, e.failToStart(), "is missing, but the records are encrypted")
	require.NoError(t, os.Rename(key+".away", key))
	e.startService()
	e.must("device", "refresh", "hollen-fw1")
}

func TestSlowPeer(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	require.NoError(t, e.firewall("hollen-fw1").Arm(tarnholm.Mute, box.Fault{}))
	began := time.Now()
	e.refused(3, []string{"the address answers, but SSH does not within 10s"}, "device", "refresh", "hollen-fw1")
	assert.Less(t, time.Since(began), 30*time.Second)

	// A caller that dribbles its headers does not hold the service.
	c, err := net.Dial("tcp", e.url)
	require.NoError(t, err)
	defer c.Close()
	_, err = io.WriteString(c, "GET /healthz HTTP/1.1\r\nHost: x\r\nX-Slow: ")
	require.NoError(t, err)
	resp, err := http.Get("http://" + e.url + "/healthz")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)
}
