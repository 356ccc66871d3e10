package cli

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/backup"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/device/link"
)

const gale = `format: verimorph-dialect/2
dialect: gale
modes:
  - {mode: operate, prompt: '(?P<name>\S+)> '}
  - {mode: privileged, prompt: '(?P<name>\w+)# ', enter: {send: enable, expect: [{ask: 'Password: ', secret: privileged}]}, leave: {send: disable}}
  - {mode: boot, prompt: '(?P<name>\w+)\(boot\)# ', from: privileged, enter: {send: boot}, leave: {send: exit}}
files: {images: 'disk:/images/', send: images/}
session:
  settle: 0.05
  probe: {send: time, match: '^\d+:\d+'}
refusals: [{match: '(?m)^% (?P<message>.*)$', kind: refused}]
values:
  total: {separator: ",", units: {blocks: 512}}
  free: {separator: ",", units: {blocks: 512}}
  uptime: {duration: true}
  unsaved: {words: {"in use, not sealed": "yes", sealed: "no"}}
  services: {words: {all up: "yes", coming up: "no"}}
portrait:
  - {send: who, fields: '(?P<model>\S+) (?P<version>\S+)(?s:.*)up (?P<uptime>.+)\nroom (?P<total>.+) with (?P<free>.+) free\nconfiguration (?P<unsaved>.+)\nservices (?P<services>.+)'}
  - {send: areas, rows: slots, table: {by: columns, columns: {slot: Area, version: Holds, state: Is}, only: {slot: '^[ab]$'}}}
  - {send: cards, rows: parts, table: {by: blocks, begin: '^Card (?P<part>\w+)$', columns: {state: Is}}}
  - {send: files, rows: files, match: '(?m)^(?P<size>\d+) (?P<file>\S+)$'}
backup:
  - {part: main, title: Main configuration, kind: configuration, role: running, file: box.cfg, by: cli, send: list, varies: '^! at \d+',
      restore: {by: cli, mode: boot, each: {prefix: 'put ', skip: '^(!|$)'}, before: [{send: clear, expect: [{ask: 'All of it\? ', answer: 'yes'}]}], after: [{send: keep, success: kept}], abort: [{send: drop}]}}
  - {part: kept, title: Kept configuration, kind: configuration, role: saved, file: kept.cfg, by: cli, send: kept}
verbs:
  choose-slot:
    mode: privileged
    steps:
      - {send: boot}
      - {send: 'first {slot}', success: '^first is'}
      - {send: exit}
  remove-file: {mode: privileged, send: 'wipe {file}', expect: [{ask: 'wipe (?P<what>\S+)\? ', answer: '{file}'}, {ask: 'It is in use. Really\? ', answer: 'n', key: true, refusal: refused}]}
  checksum: {mode: boot, send: 'sum {path}', fields: 'quick: (?P<md5>[0-9A-F\s]+)\nslow: (?P<sha1>.+)\n'}
  install: {send: 'fit {file} {slot}', success: fitted}
  unpack:
    mode: privileged
    send: 'unfold {slot}'
    fields: 'job (?P<job>\d+)'
    job: {send: 'job {job}', every: 0.01, done: 'is done', failed: 'went wrong: (?P<message>.*)', progress: '(?P<percent>\d+) %'}
  restart:
    mode: privileged
    steps:
      - send: reload
        ends: true
        expect:
          - {ask: 'Save\? \[y/n\] ', answer: n, key: true}
          - {ask: 'Proceed\? ', answer: 'yes', times: 2}
`

// A galeBox is as awkward as boxes are: its prompts tell its modes apart, its greeting has a line that looks like one, and it asks before it
// does what cannot be undone, now for a line, now for a single key.
type galeBox struct {
	mode     string // ">", "#" or "(boot)#"
	line     strings.Builder
	ask      func(answer string) string // what becomes of the next answer
	key      bool                       // which is a single key
	said     []string                   // every line and key
	password string
	free     string
	lists    int      // how often its configuration was asked for
	more     string   // of it
	jobs     []string // what it says of its job, one after the other
	gone     bool
}

func (g *galeBox) prompt() string { return "gale" + g.mode + " " }

// feed takes a byte and returns what the box prints.
func (g *galeBox) feed(b byte) string {
	switch {
	case g.ask != nil && g.key:
		return string(b) + "\r\n" + g.answered(string(b))
	case b != '\r':
		g.line.WriteByte(b)
		if g.ask != nil && g.password != "" && g.mode == ">" { // a password is not echoed
			return ""
		}
		return string(b)
	}
	line := g.line.String()
	g.line.Reset()
	if g.ask != nil {
		return "\r\n" + g.answered(line)
	}
	g.said = append(g.said, line)
	return "\r\n" + g.command(line)
}

func (g *galeBox) answered(text string) string {
	g.said = append(g.said, text)
	f := g.ask
	g.ask, g.key = nil, false
	return f(text)
}

func (g *galeBox) question(text string, key bool, then func(string) string) string {
	g.ask, g.key = then, key
	return text
}

func (g *galeBox) command(line string) string {
	word, rest, _ := strings.Cut(line, " ")
	switch {
	case word == "time":
		return "12:30\r\n" + g.prompt()
	case word == "who":
		return "G-9 2.1\r\nup 3 weeks, 2 days, 4:05:06\r\nroom 24,576 blocks with " + g.free + " free\r\nconfiguration in use, not sealed\r\nservices coming up\r\n" + g.prompt()
	case word == "enable" && g.mode == ">":
		return g.question("Password: ", false, func(p string) string {
			if p == g.password {
				g.mode = "#"
				return g.prompt()
			}
			return "% wrong\r\n" + g.prompt()
		})
	case word == "disable":
		g.mode = ">"
	case word == "boot" && g.mode == "#":
		g.mode = "(boot)#"
	case word == "exit" && g.mode == "(boot)#":
		g.mode = "#"
	case word == "first" && g.mode == "(boot)#" && rest == "b":
		return "first is b\r\n" + g.prompt()
	case word == "first" && g.mode == "(boot)#":
		return "well\r\n" + g.prompt()
	case word == "sum" && g.mode == "(boot)#":
		return "quick: D41D8CD98F00B204\r\n  E9800998ECF8427E\r\nslow: " + strings.Repeat("ab:", 19) + "ab\r\n" + g.prompt()
	case word == "wipe" && g.mode == "#":
		return g.question("wipe "+rest+"? ", false, func(a string) string {
			if a == "busy.img" {
				return g.question("It is in use. Really? ", true, func(string) string { return g.prompt() })
			}
			return g.prompt()
		})
	case word == "reload" && g.mode == "#":
		return g.question("Save? [y/n] ", true, func(string) string {
			again := func(string) string { g.gone = true; return "bye\r\n" }
			return g.question("Proceed? ", false, func(string) string { return g.question("Proceed? ", false, again) })
		})
	case word == "unfold" && rest == "a":
		return "slot a runs\r\n" + g.prompt()
	case word == "unfold":
		g.jobs = map[string][]string{"b": {"is at 10 %", "is at 60 %", "is done"}, "c": {"is at 10 %", "went wrong: no room"}, "d": {"sleeps"}}[rest]
		return "this is job 17\r\n" + g.prompt()
	case word == "job" && rest == "17":
		text := g.jobs[0]
		g.jobs = g.jobs[1:]
		return "job 17 " + text + "\r\n" + g.prompt()
	case word == "areas":
		return "Area  Size  Holds  Is\r\na     7     2.1    running\r\nz     1\r\nb     8     2.0    spare\r\n" + g.prompt()
	case word == "cards":
		return "Card fan\r\n  Is: well\r\nCard supply\r\n  Colour: red\r\nnever mind\r\n" + g.prompt()
	case word == "files":
		return "7 disk:/images/x.img\r\n8 y.img\r\n" + g.prompt()
	case word == "clear" && g.mode == "(boot)#":
		return g.question("All of it? ", false, func(string) string { return g.prompt() })
	case word == "put" && g.mode == "(boot)#" && strings.HasPrefix(rest, "secret"):
		return "% no room for " + rest + "\r\n" + g.prompt()
	case (word == "put" || word == "drop") && g.mode == "(boot)#":
	case word == "keep" && g.mode == "(boot)#":
		return "kept\r\n" + g.prompt()
	case word == "list":
		g.lists++
		return fmt.Sprintf("! at %d\r\nport 1\r\n! at the quay\r\n%s%s", g.lists, g.more, g.prompt())
	case word == "fit":
		return g.question("Slot in use, go on? ", false, func(string) string { return "fitted\r\n" + g.prompt() })
	default:
		return "% not understood: " + line + "\r\n" + g.prompt()
	}
	return g.prompt()
}

// serve runs the box and returns a client that is signed in.
func (g *galeBox) serve(t *testing.T, privileged ...string) (*Client, error) {
	d, err := ReadDialect([]byte(gale))
	require.NoError(t, err)
	inR, inW := io.Pipe()
	outR, outW := io.Pipe()
	g.mode = ">"
	go func() {
		defer outW.Close()
		_, _ = io.WriteString(outW, "Welcome aboard.\r\nstorm> ")
		time.Sleep(10 * time.Millisecond)
		_, _ = io.WriteString(outW, "is only the name of a ferry\r\n"+g.prompt())
		b := make([]byte, 1)
		for !g.gone {
			if _, err := inR.Read(b); err != nil {
				return
			}
			_, _ = io.WriteString(outW, g.feed(b[0]))
		}
	}()
	s := newStream(d, "gale", inW, outR, func() { _ = inW.Close(); _ = outW.Close() })
	t.Cleanup(s.close)
	target := device.Target{Address: "gale", RaiseTries: 3}
	for i, p := range privileged {
		target.Privileged = append(target.Privileged, device.SignIn{ID: int64(i + 1), Password: p})
	}
	if _, err = s.answer(t.Context(), "sign in", "", Step{}, nil); err == nil {
		err = s.prepare(t.Context())
	}
	return &Client{d: d, t: target, link: link.NewLine(t.Context(), "gale", nil, func() {}), term: s}, err
}

func TestDialogues(t *testing.T) {
	g := &galeBox{password: "deep", free: "1,229 blocks"}
	c, err := g.serve(t, "shallow", "deep")
	require.NoError(t, err)
	assert.Equal(t, []string{"time"}, g.said, "the probe finds the true prompt behind a greeting with another one")
	assert.Equal(t, "gale", c.term.name)
	since := func() string {
		out := strings.Join(g.said, ", ")
		g.said = nil
		return out
	}
	since()

	sum, err := c.Checksum(t.Context(), "x.img")
	require.NoError(t, err)
	assert.Equal(t, device.Digest{Algorithm: "sha1", Sum: strings.Repeat("ab", 20)}, sum, "the stronger of two")
	assert.Equal(t, "enable, shallow, enable, deep, boot, sum disk:/images/x.img", since(), "through both modes, with the password that is taken")
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2.1", p.Version)
	assert.Equal(t, []portrait.File{{Name: "x.img", Size: 7}, {Name: "y.img", Size: 8}}, p.Files, "with the folder or without")
	assert.Equal(t, "images/", c.Profile().Folder)
	assert.Equal(t, []string{"a 2.1 running", "b 2.0 spare"}, []string{p.Slots[0].Name + " " + p.Slots[0].Version + " " + p.Slots[0].State, p.Slots[1].Name + " " + p.Slots[1].Version + " " + p.Slots[1].State})
	assert.Equal(t, map[string]string{"parts": `the line "never mind" is not understood`}, p.NotUnderstood)
	_, room, _ := p.ImageRoom()
	assert.Equal(t, []any{int64(12582912), int64(629248), int64(2001906), portrait.Yes, portrait.No}, []any{room.Total, room.Free, p.UptimeSeconds, p.Unsaved, p.ServicesReady})
	assert.Equal(t, "exit, disable, who, areas, cards, files", since(), "and back to the first mode")

	require.NoError(t, c.ChooseSlot(t.Context(), "b", ""))
	assert.Equal(t, "enable, shallow, enable, deep, boot, first b, exit", since())
	err = c.ChooseSlot(t.Context(), "c", "")
	assert.Equal(t, device.NotUnderstood, device.KindOf(err))
	assert.ErrorContains(t, err, `first c (line 2 of 3): the answer says neither success nor a known refusal: "well"`)
	since()

	require.NoError(t, c.RemoveFile(t.Context(), "old.img"))
	assert.Equal(t, "exit, wipe old.img, old.img", since(), "from the mode in which the line before had stopped")
	err = c.RemoveFile(t.Context(), "busy.img")
	assert.Equal(t, device.Refused, device.KindOf(err))
	assert.ErrorContains(t, err, "the device says: It is in use. Really?")
	assert.Equal(t, "wipe busy.img, busy.img, n", since(), "a question that is a refusal is answered, so that the conversation goes on")

	require.NoError(t, c.Restart(t.Context()))
	assert.Equal(t, "reload, n, yes, yes", since())
	assert.True(t, c.HungUp())
}

// A line that differs every time is no difference; what it looks like elsewhere is. Which part is the running configuration is declared.
func TestLinesThatDifferEveryTime(t *testing.T) {
	g := &galeBox{}
	c, err := g.serve(t)
	require.NoError(t, err)
	text, proof, err := c.FetchPart(t.Context(), "main")
	require.NoError(t, err)
	assert.Equal(t, []any{"! at 1\nport 1\n! at the quay\n", "read twice"}, []any{string(text), proof})
	running, saved := c.Profile().Role(backup.Running), c.Profile().Role(backup.Saved)
	assert.Equal(t, []string{"main", "kept"}, []string{running.Name, saved.Name})
	assert.True(t, running.Same(text, []byte("! at 99\nport 1\n! at the quay\n")))
	assert.False(t, running.Same(text, []byte("! at 1\nport 1\n! at the pier\n")))
	assert.False(t, saved.Same(text, []byte("! at 99\nport 1\n! at the quay\n")))
	d, err := ReadDialect([]byte(strings.Replace(gale, ", varies: '^! at \\d+'", "", 1)))
	require.NoError(t, err)
	c.d = d
	_, _, err = c.FetchPart(t.Context(), "main")
	assert.ErrorContains(t, err, "two readings in a row differ")
}

// A configuration is said line by line, each one answered, with what goes before and after; what is refused is given up, and its text is in no error.
func TestAConfigurationLineByLine(t *testing.T) {
	g := &galeBox{password: "deep"}
	c, err := g.serve(t, "deep")
	require.NoError(t, err)
	require.NoError(t, c.PutPart(t.Context(), "main", []byte("! at 3\nport 1\n  speed {fast}\n\nport 2\n")))
	assert.Equal(t, "time, enable, deep, boot, clear, yes, put port 1, put   speed {fast}, put port 2, keep", strings.Join(g.said, ", "), "braces in a line are no placeholders")
	g.said = nil
	err = c.PutPart(t.Context(), "main", []byte("port 1\nsecret hunter2\nport 2\n"))
	assert.Equal(t, device.Refused, device.KindOf(err))
	assert.ErrorContains(t, err, "line 2 of box.cfg: the device says: no room for secret ***")
	assert.NotContains(t, err.Error(), "hunter2")
	assert.Equal(t, "clear, yes, put port 1, put secret hunter2, drop", strings.Join(g.said, ", "))
	g.said = nil
	assert.ErrorContains(t, c.PutPart(t.Context(), "main", []byte("port 1\nport\x03 2\n")), "line 2 cannot be typed")
	assert.Empty(t, g.said, "nothing is begun that cannot be finished")
}

// What a device does in the background is asked for until it is over.
func TestJobs(t *testing.T) {
	g := &galeBox{password: "deep"}
	c, err := g.serve(t, "deep")
	require.NoError(t, err)
	var seen []float64
	require.NoError(t, c.Unpack(t.Context(), "b", func(f float64) { seen = append(seen, f) }))
	assert.Equal(t, []float64{0.1, 0.6}, seen)
	for slot, says := range map[string]string{"c": "the device says: no room", "d": `what became of job 17 is not understood: "job 17 sleeps"`, "a": `the answer names no job: "slot a runs"`} {
		err := c.Unpack(t.Context(), slot, nil)
		assert.ErrorContains(t, err, says)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	q := c.d.Verbs["unpack"]
	q.Job.Every = 10
	err = c.Unpack(ctx, "b", nil)
	assert.Equal(t, device.Silent, device.KindOf(err))
	assert.ErrorContains(t, err, "given up while job 17 runs on the device")
}

// A question that nobody expects is quoted, and is not answered.
func TestAQuestionThatNobodyExpects(t *testing.T) {
	g := &galeBox{password: "deep"}
	c, err := g.serve(t)
	require.NoError(t, err)
	q := c.d.Verbs["install"]
	q.Wait = 0.2
	c.d.Verbs["install"] = q
	err = c.Install(t.Context(), "x.img", "b", nil)
	assert.Equal(t, device.Silent, device.KindOf(err))
	assert.ErrorContains(t, err, `the last line was "Slot in use, go on?"`)
	assert.Equal(t, []string{"time", "fit x.img b"}, g.said)
	_, err = c.Checksum(t.Context(), "x.img")
	assert.ErrorContains(t, err, "out of step", "nothing else is said where a question stands")
}

// Passwords that are refused are counted, and not more of them are risked than the target says.
func TestAModeThatIsNotReached(t *testing.T) {
	g := &galeBox{password: "deep", free: "a lot"}
	c, err := g.serve(t, "one", "two", "three", "deep")
	require.NoError(t, err)
	_, err = c.Checksum(t.Context(), "x.img")
	assert.Equal(t, device.SignInRefused, device.KindOf(err))
	assert.ErrorContains(t, err, "not risked again")
	assert.NotContains(t, err.Error(), "three")
	assert.Equal(t, "time, enable, one, enable, two, enable, three", strings.Join(g.said, ", "))
	_, err = c.Portrait(t.Context())
	assert.ErrorContains(t, err, `who: free: "a lot" is not a number that is understood`, "it is still in the first mode; a number that cannot be read is quoted")
}

// A device that does not answer the probe as one that is signed in to is not spoken with.
func TestAProbeThatFails(t *testing.T) {
	s, _ := terminalOf(t, at, func(line string) []string { return []string{line + "\r\nbusy\r\n" + at} })
	s.d.Session.Probe = Probe{Send: "tell clock", Match: s.d.Frame}
	_, err := s.answer(t.Context(), "sign in", "", Step{}, nil)
	require.NoError(t, err)
	err = s.prepare(t.Context())
	assert.Equal(t, device.NotUnderstood, device.KindOf(err))
	assert.ErrorContains(t, err, `the answer to tell clock is not that of a device that is signed in to: "busy"`)
}

// A session that the device ended while nothing was said is opened again before the next line, which is sent once.
func TestASessionThatEndedMeanwhile(t *testing.T) {
	said := make(chan string, 10)
	target := scripted(t, "box ~ ", func(line string) string {
		said <- line
		if line == "last" {
			return ""
		}
		return line + "\r\nok\r\nbox ~ "
	})
	c := dial(t, target)
	_, err := c.query(t.Context(), Query{Send: "last", Ends: true}, nil, nil)
	require.NoError(t, err)
	_, err = c.query(t.Context(), Query{Send: "look"}, nil, nil)
	require.NoError(t, err)
	target.Dialect.Session.Idle = 0.05
	first := c.term
	time.Sleep(50 * time.Millisecond)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	_, err = c.query(ctx, Query{Send: "again"}, nil, nil)
	require.NoError(t, err)
	assert.NotSame(t, first, c.term, "the device would have signed out by now")
	assert.Equal(t, []string{"last", "look", "again"}, []string{<-said, <-said, <-said})
	assert.Empty(t, said)
}

func TestDialogueErrors(t *testing.T) {
	for name, c := range map[string][3]string{
		"a folder":        {"send: images/}", "send: 'my images/'}", `files: send: "my images/" cannot be part of a command`},
		"no such mode":    {"{mode: boot, send: 'sum {path}'", "{mode: bout, send: 'sum {path}'", `verbs: checksum: there is no mode "bout"`},
		"from nowhere":    {"from: privileged", "from: boot", `modes: "boot": from "boot" is none of the modes before it`},
		"no way back":     {", leave: {send: exit}", "", `modes: "boot": it needs enter and leave`},
		"twice":           {"mode: privileged, prompt", "mode: operate, prompt", "a name of its own"},
		"first is left":   {"prompt: '(?P<name>\\S+)> '}", "prompt: '(?P<name>\\S+)> ', leave: {send: bye}}", "it is neither entered nor left"},
		"both":            {"session:", "prompt: 'x> '\nsession:", "modes: take the place of prompt and raise"},
		"both ways":       {"    mode: privileged\n    steps:\n      - {send: boot}", "    send: x\n    steps:\n      - {send: boot}", "choose-slot: steps take the place of send"},
		"placeholder":     {"answer: '{file}'", "answer: '{slot}'", "remove-file: there is no {slot} here"},
		"a secret":        {"secret: privileged", "secret: mine", `there is no secret "mine"`},
		"a refusal":       {"refusal: refused", "refusal: no", `refusal "no" is none of`},
		"nothing asked":   {"{ask: 'Proceed\\? ', answer: 'yes', times: 2}", "{answer: 'yes'}", "restart: expect: ask is missing"},
		"a value":         {"uptime: {duration: true}", "uptime: {}", "values: uptime: give one of"},
		"probe":           {", match: '^\\d+:\\d+'", "", "probe needs a match"},
		"a job's number":  {"fields: 'job (?P<job>\\d+)'", "fields: 'job \\d+'", "unpack: job: fields has no group job"},
		"a job's command": {"send: 'job {job}'", "send: 'jobs'", "unpack: job: the command does not say {job}"},
		"a job's end":     {"done: 'is done', ", "", "unpack: job: done and failed are needed"},
		"a job's way":     {", progress: '(?P<percent>\\d+) %'}", "}", "unpack: job: running or progress is needed"},
		"each with send":  {"each: {prefix", "send: x, each: {prefix", "restore: each is for by cli, without send"},
		"no each":         {"each: {prefix: 'put ', skip: '^(!|$)'}, ", "", "restore: by cli needs send, ask and end, or each"},
		"a step's place":  {"after: [{send: keep", "after: [{send: 'keep {x}'", "backup: main: after: there is no {x} here"},
		"a layout":        {"table: {by: columns,", "table: {by: rows,", `portrait: areas: table: by "rows" is none of columns`},
		"only what":       {"only: {slot:", "only: {size:", `table: only: there is no group "size"`},
		"a row's name":    {"columns: {slot: Area, version", "columns: {version", "table: there is no column for slot"},
		"no begin":        {"begin: '^Card (?P<part>\\w+)$', ", "", "table: begin goes with blocks"},
		"a role twice":    {"role: saved", "role: running", "another part is the running configuration already"},
		"a strange role":  {"role: saved", "role: spare", `role "spare" is neither running nor saved`},
		"portrait's mode": {"- {send: who", "- {mode: x, send: who", `portrait: who: there is no mode "x"`},
	} {
		broken := strings.Replace(gale, c[0], c[1], 1)
		require.NotEqual(t, gale, broken, name)
		_, err := ReadDialect([]byte(broken))
		assert.ErrorContains(t, err, c[2], name)
	}
}

// A device that echoes every letter takes a long line only while somebody reads what it says, and one that never listens ends in an error.
func TestTypingWhileTheDeviceTalks(t *testing.T) {
	g := &galeBox{}
	c, err := g.serve(t)
	require.NoError(t, err)
	text, err := c.query(t.Context(), Query{Send: "who " + strings.Repeat("x", 5000)}, nil, nil)
	require.NoError(t, err)
	assert.Contains(t, text, "G-9 2.1")

	d, err := ReadDialect([]byte(gale))
	require.NoError(t, err)
	_, inW := io.Pipe() // nobody reads
	outR, outW := io.Pipe()
	go func() {
		for err := error(nil); err == nil; {
			_, err = outW.Write([]byte(strings.Repeat("y", 1000)))
		}
	}()
	s := newStream(d, "gale", inW, outR, func() { _ = inW.Close(); _ = outR.Close() })
	defer s.close()
	assert.ErrorIs(t, s.send("who\r"), errFlood)
}

// A step that is said once for each thing of a list, on a device whose prompt has no name and in a verb that nothing is filled into.
func TestAStepForEachThing(t *testing.T) {
	var said []string
	target := scripted(t, "box ~ ", func(line string) string {
		said = append(said, line)
		if line == "statements" {
			return line + "\r\n1 a.img\r\n2 b.img\r\n2 b.img\r\nbox ~ "
		}
		return line + "\r\nbox ~ "
	})
	c := dial(t, target)
	target.Dialect.Prompt = device.Pattern{Regexp: regexp.MustCompile("box ~ ")}
	_, err := c.query(t.Context(), Query{Steps: []Step{{Send: "drop {each}", For: &For{Send: "statements", Match: device.Pattern{Regexp: regexp.MustCompile(`(?m)^\d (?P<each>\S+)$`)}}}}}, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"statements", "drop a.img", "drop b.img"}, said)
}
