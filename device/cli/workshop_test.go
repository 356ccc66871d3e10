package cli

import (
	"context"
	"io"
	"log/slog"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/simfleet/box"
	"verimorph/simfleet/fernhollow"
)

// practice starts the box of the walk-through and returns its finished dialect and how to get in.
func practice(t *testing.T) (*Dialect, string, device.Target) {
	text, err := os.ReadFile("../../demo/walkthrough/dialects/fernhollow.yaml")
	require.NoError(t, err)
	d, err := ReadDialect(text)
	require.NoError(t, err)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_ = ln.Close()
	b, err := fernhollow.Open(fernhollow.Spec{Name: "lb1", Model: "LB-1", Serial: "LB1-0042", Address: ln.Addr().String(), User: "helm", Password: "practice", Privileged: "deeper",
		Version: "2.1.0", Config: "name lb1\nlink quay\nlink spare\n  off\nuser helm\n  secret h4rb0ur\n", Storage: 12 << 20}, t.TempDir(), 100, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	return d, string(text), device.Target{Address: ln.Addr().String(), SignIns: []device.SignIn{{User: "helm", Password: "practice"}}, Privileged: []device.SignIn{{Password: "deeper"}}}
}

func selected(t *testing.T, d *Dialect, write bool, words ...string) []Asked {
	all, err := d.Select(words, write)
	require.NoError(t, err)
	return all
}

// What is tried on a device tells what each group found, keeps the conversation without its secrets, and can be replayed without the device.
func TestTryRecordAndReplay(t *testing.T) {
	d, text, target := practice(t)
	var trials []Trial
	rec, err := d.TryAll(t.Context(), target, append(selected(t, d, false), selected(t, d, false, "checksum", "running")...), map[string]string{"file": "lb-2.1.0.img"}, func(x Trial) { trials = append(trials, x) })
	require.NoError(t, err)
	byName := map[string]Trial{}
	for _, x := range trials {
		assert.Empty(t, x.Trouble, x.Name)
		byName[x.Kind+" "+x.Name+" "+x.Table] = x
	}
	room := byName["portrait who "]
	assert.Equal(t, "12582912", room.Fields["total"])
	var found []string
	for _, m := range room.Marks {
		found = append(found, m.Group+"="+strings.TrimSpace(room.Answer[m.From:m.To]))
	}
	assert.Contains(t, found, "total=24,576 blocks", "a mark says where a group stands in the answer")
	who := trials[0]
	found = nil
	for _, m := range who.Marks {
		found = append(found, m.Group+"="+who.Answer[m.From:m.To])
	}
	assert.Contains(t, found, "version=2.1.0", "values of a layout are marked, too")
	assert.Contains(t, found, "unsaved=sealed")
	assert.Equal(t, []map[string]string{{"slot": "store:/images/lb-2.1.0.img", "version": "2.1.0"}}, byName["portrait files slots"].Rows)
	assert.Equal(t, []string{"quay"}, byName["reading links-up "].Value.Set)
	assert.Len(t, strings.Join(strings.Fields(byName["verb checksum "].Fields["md5"]), ""), 32)
	assert.Contains(t, byName["part running "].Answer, "read twice", "of a part only how large it is")
	assert.NotContains(t, byName["part running "].Answer, "h4rb0ur")

	var kept strings.Builder
	require.NoError(t, rec.Write(&kept))
	assert.NotContains(t, kept.String(), "practice")
	assert.NotContains(t, kept.String(), "deeper")
	assert.NotContains(t, kept.String(), "h4rb0ur", "what looks like a secret is masked, too")
	again, err := ReadRecording("lb1.session", []byte(kept.String()))
	require.NoError(t, err)
	assert.Equal(t, rec.Pieces, again.Pieces)

	var replayed []Trial
	lacks, err := d.Replay(t.Context(), again, selected(t, d, false), func(x Trial) { replayed = append(replayed, x) })
	require.NoError(t, err)
	assert.Empty(t, lacks)
	for i, x := range replayed {
		assert.Empty(t, x.Trouble, x.Name)
		assert.Equal(t, trials[i].Fields, x.Fields)
		assert.Equal(t, trials[i].Rows, x.Rows)
	}
	worse, err := ReadDialect([]byte(strings.NewReplacer(`+up$'`, `+high$'`, "send: files, rows: slots", "send: filez, rows: slots").Replace(text)))
	require.NoError(t, err)
	var troubles []string
	lacks, err = worse.Replay(t.Context(), again, selected(t, worse, false), func(x Trial) {
		if x.Trouble != "" {
			troubles = append(troubles, x.Name+": "+x.Trouble)
		}
	})
	require.NoError(t, err)
	assert.Equal(t, []string{`portrait filez: the recording has no answer to "filez"`}, lacks)
	assert.Equal(t, []string{`links-up: the line "quay     up" is not understood`}, troubles)
}

// What may write is not tried unless somebody says so, and what is not there is told with what is near.
func TestWhatIsTried(t *testing.T) {
	d, _, target := practice(t)
	_, err := d.Select([]string{"save"}, false)
	assert.ErrorContains(t, err, "save may change something on the device")
	_, err = d.Select([]string{"filse"}, false)
	assert.ErrorContains(t, err, `nothing called "filse"; known and near: files`)
	for _, a := range d.Askable() {
		assert.Equal(t, a.Kind == AskedVerb && a.Name != "checksum", a.Writes, a.Name)
	}
	var trials []Trial
	hear := func(x Trial) { trials = append(trials, x) }
	_, err = d.TryAll(t.Context(), target, selected(t, d, true, "save", "checksum", "remove-file"), map[string]string{"file": "lb-9.img"}, hear)
	require.NoError(t, err)
	require.Len(t, trials, 3)
	assert.Empty(t, trials[0].Trouble)
	assert.Contains(t, trials[1].Trouble, "the device says: there is no such file")
	assert.Contains(t, trials[2].Trouble, "the device says: there is no such file")
	trials = nil
	_, err = d.TryAll(t.Context(), target, selected(t, d, false, "checksum"), nil, hear)
	require.NoError(t, err)
	assert.Contains(t, trials[0].Trouble, "what is filled in for {file}?")
	target.Privileged[0].Password = "shallow"
	trials = nil
	_, err = d.TryAll(t.Context(), target, selected(t, d, false, "checksum", "links-up"), map[string]string{"file": "lb-2.1.0.img"}, hear)
	require.NoError(t, err)
	assert.Contains(t, trials[0].Trouble, "wrong")
	assert.Empty(t, trials[1].Trouble, "what needs no password goes on")
}

func TestRecordingsThatCannotBeRead(t *testing.T) {
	head := `{"format":"verimorph-session/1","device":"a","dialect":"d","at":"2026-11-29T01:44:23Z"}` + "\n"
	for text, says := range map[string]string{
		"":                                 "it holds no conversation",
		head:                               "it holds no conversation",
		`{"format":"other/1"}`:             `x:1: format "other/1" is not verimorph-session/1`,
		head + "{\n":                       "x:2: unexpected EOF",
		head + `{"came":"a","sent":"b"}`:   "x:2: a piece was either sent or came",
		head + `{}`:                        "x:2: a piece was either sent or came",
		head + `{"came":"a","colour":"b"}`: `x:2: json: unknown field "colour"`,
	} {
		_, err := ReadRecording("x", []byte(text))
		assert.ErrorContains(t, err, says, text)
	}
	d, _, _ := practice(t)
	rec, err := ReadRecording("x", []byte(head+`{"came":"no prompt"}`))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err = d.Replay(ctx, rec, selected(t, d, false, "links-up"), func(Trial) {})
	assert.Error(t, err)
	p := newReplay(rec)
	require.NoError(t, p.Close())
	_, err = p.Write([]byte("x"))
	assert.ErrorIs(t, err, io.ErrClosedPipe)
}

// The dialect that the walk-through makes step by step can be used at every step, and is the finished one at the end.
func TestTheWalkthroughHoldsWhatItSays(t *testing.T) {
	page, err := os.ReadFile("../../docs/walkthrough.md")
	require.NoError(t, err)
	text := ""
	for i, block := range strings.Split(string(page), "```yaml\n")[1:] {
		block, _, _ = strings.Cut(block, "```")
		text += block
		d, found := Check("walkthrough", []byte(text))
		switch {
		case i == 0:
			assert.ErrorContains(t, found.Errors(), "portrait: is missing", "the first step cannot be used yet")
		default:
			assert.Empty(t, found.Errors(), "step %d", i+1)
			assert.NotNil(t, d)
		}
	}
	got, found := Check("walkthrough", []byte(text))
	require.Empty(t, found)
	finished, err := os.ReadFile("../../demo/walkthrough/dialects/fernhollow.yaml")
	require.NoError(t, err)
	want, found := Check("fernhollow", finished)
	require.Empty(t, found)
	assert.Equal(t, want.Profile().Abilities, got.Profile().Abilities)
	assert.Equal(t, want.Coverage()[:len(covered)], got.Coverage()[:len(covered)])
}

// A reading by the layout of its answer, a terminal that is low, a device that is asked whether it is there, and one that takes one session at once.
func TestSessionsAndReadingsAsDeclared(t *testing.T) {
	_, text, target := practice(t)
	d, err := ReadDialect([]byte(strings.NewReplacer(
		`    match: '(?m)^(?P<value>\S+) +up$'
    ignore: '^Link +State$|^\S+ +(off|starting)$'
`, `    table: {by: columns, columns: {value: Link, state: State}, only: {state: '^up$'}}
`, "  settle: 0.1\n", "  settle: 0.1\n  terminal: dumb\n  rows: 10\n  columns: 80\n  keep-alive: 0.02\n  at-once: 1\n").Replace(text)))
	require.NoError(t, err)
	assert.NotEqual(t, text, d.Text())
	c, err := d.Dial(t.Context(), target)
	require.NoError(t, err)
	read, err := c.(device.Reader).Readings(t.Context(), d.Readings)
	require.NoError(t, err)
	assert.Equal(t, []string{"quay"}, read["links-up"].Set)
	time.Sleep(100 * time.Millisecond)
	p, err := c.(device.Describer).Portrait(t.Context())
	require.NoError(t, err, "an answer of two screens, with a key between them")
	assert.Equal(t, "2.1.0", p.Version)
	assert.Equal(t, portrait.Yes, p.ServicesReady)

	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = d.Dial(ctx, target)
	assert.Equal(t, device.NotReady, device.KindOf(err))
	assert.ErrorContains(t, err, "takes 1 sessions at once")
	c.Close()
	c.Close()
	again, err := d.Dial(t.Context(), target)
	require.NoError(t, err, "the seat is free again")
	again.Close()
}

// A configuration that a device takes back by itself is confirmed over a new connection.
func TestAConfigurationThatIsConfirmed(t *testing.T) {
	_, text, target := practice(t)
	for name, c := range map[string][2]string{
		"confirmed": {"confirm: [{send: apply, success: applied}]", ""},
		"refused":   {"confirm: [{send: 'stay'}]", "the configuration was not confirmed, so the device takes the one before back by itself"},
	} {
		d, err := ReadDialect([]byte(strings.Replace(text, "      abort:", "      "+c[0]+"\n      abort:", 1)))
		require.NoError(t, err, name)
		conn, err := d.Dial(t.Context(), target)
		require.NoError(t, err)
		err = conn.(device.Parts).PutPart(t.Context(), "running", []byte("name lb1\nlink quay\n"))
		if c[1] == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c[1], name)
		}
		conn.Close()
	}
}

// A boot menu that only steps from one entry to the next: what is not in it is told, and nothing is started.
func TestABootMenu(t *testing.T) {
	text, err := os.ReadFile("../../demo/walkthrough/dialects/fernhollow-5.yaml")
	require.NoError(t, err)
	d, err := ReadDialect(text)
	require.NoError(t, err)
	assert.True(t, d.Profile().Loader)
	var at []string
	for range 2 {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at = append(at, ln.Addr().String())
		_ = ln.Close()
	}
	b, err := fernhollow.Open(fernhollow.Spec{Name: "lb5", Model: "LB-5", Serial: "LB5-1", Address: at[0], Line: at[1], User: "helm", Password: "practice", Privileged: "deeper", Version: "2.1.0", Config: "name lb5\n", Storage: 12 << 20},
		t.TempDir(), 100, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	target := device.Target{Address: at[0], Console: at[1]}
	direct := device.Target{Address: at[0], SignIns: []device.SignIn{{User: "helm", Password: "practice"}}, Privileged: []device.SignIn{{Password: "deeper"}}}
	conn, err := d.Dial(t.Context(), direct)
	require.NoError(t, err)
	require.NoError(t, conn.(device.Installer).Clone(t.Context(), "first", nil))
	require.NoError(t, conn.(device.Installer).Clone(t.Context(), "second", nil))
	require.NoError(t, b.Arm(fernhollow.BadStart, box.Fault{}))
	_ = conn.(device.Restarter).Restart(t.Context())
	conn.Close()
	err = d.LoadSlot(t.Context(), target, "third")
	assert.Equal(t, device.Refused, device.KindOf(err))
	assert.ErrorContains(t, err, "choose third in the boot menu: the menu has no such entry")
	require.NoError(t, d.LoadSlot(t.Context(), target, "second"))
	require.Eventually(t, func() bool {
		conn, err := d.Dial(t.Context(), direct)
		if err != nil {
			return false
		}
		defer conn.Close()
		p, err := conn.(device.Describer).Portrait(t.Context())
		return err == nil && p.RunningSlot() != nil && p.RunningSlot().Name == "second"
	}, 20*time.Second, 50*time.Millisecond)
	for broken, says := range map[string]string{"next: n, start": "start", "current: '-> (?P<slot>\\S+)'": "current: x", "loader: ": "user: "} {
		_, err := ReadDialect([]byte(strings.Replace(string(text), broken, says, 1)))
		assert.ErrorContains(t, err, "console: menu", broken)
	}
}

// A configuration gives the device another name, and with it another prompt: that is found out, and does not end the conversation.
func TestAConfigurationThatRenamesTheDevice(t *testing.T) {
	d, _, target := practice(t)
	conn, err := d.Dial(t.Context(), target)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.(device.Parts).PutPart(t.Context(), "running", []byte("name pier9\nlink quay\n")))
	p, err := conn.(device.Describer).Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2.1.0", p.Version)
	data, _, err := conn.(device.Parts).FetchPart(t.Context(), "running")
	require.NoError(t, err)
	assert.Contains(t, string(data), "name pier9")
}

// What looks like a secret is not shown, and what stands behind it keeps its place.
func TestAnswersWithoutSecrets(t *testing.T) {
	assert.Equal(t, "user helm\n  secret *******\ncommunity: ****** x\nSecrets of the sea\n", sameLength("user helm\n  secret h4rb0ur\ncommunity: public x\nSecrets of the sea\n"))
}
