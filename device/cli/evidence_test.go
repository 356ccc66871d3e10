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
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"

	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/link"
)

// terminalOf is a conversation with a device that answers each line with some pieces of output; say makes it print something by itself.
func terminalOf(t *testing.T, greet string, answer func(line string) []string) (s *session, say func(pieces ...string)) {
	inR, inW := io.Pipe()
	outR, outW := io.Pipe()
	say = func(pieces ...string) {
		for _, p := range pieces {
			_, _ = io.WriteString(outW, p)
			time.Sleep(5 * time.Millisecond)
		}
	}
	go func() {
		say(greet)
		var line strings.Builder
		b := make([]byte, 1)
		for {
			if _, err := inR.Read(b); err != nil {
				return
			}
			if b[0] != '\r' {
				line.WriteByte(b[0])
				continue
			}
			l := line.String()
			line.Reset()
			say(answer(l)...)
		}
	}()
	s = newStream(dialect(t), "box", inW, outR, func() { _ = inW.Close(); _ = outW.Close() })
	t.Cleanup(s.close)
	return s, say
}

const at = "fw1 ~ "

var listings = map[string]string{"page off": "ok\r\n", "tell ports": "  port  link\r\n  p1    up\r\n  p2    up\r\n  p3    down\r\nok\r\n",
	"tell tunnels": "  TU1  up\r\n  TU2  up\r\nok\r\n", "tell translations": "  nat1\r\n  nat2\r\nok\r\n"}

func listing(line string) []string { return []string{line + "\r\n" + listings[line] + at} }

func asked(t *testing.T, s *session, command string) string {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	text, err := s.run(ctx, Step{Send: command}, nil)
	require.NoError(t, err)
	return text
}

func signedIn(t *testing.T, s *session) *Client {
	_, err := s.answer(t.Context(), "sign in", "", Step{}, nil)
	require.NoError(t, err)
	require.NoError(t, s.prepare(t.Context()))
	return &Client{d: s.d, t: device.Target{Address: "box"}, link: link.NewLine(t.Context(), "box", nil, func() {}), term: s}
}

// A message that the device prints by itself, with its prompt, belongs to no answer, whenever it comes.
func TestMessagesByItselfShiftNoAnswer(t *testing.T) {
	message := "\r\n** 04:11:02 port p3 went down\r\n" + at
	for name, tell := range map[string]func(line string) []string{
		"behind an answer":                   func(l string) []string { return append(listing(l), message) },
		"in one piece with an answer":        func(l string) []string { return []string{listing(l)[0] + message} },
		"without its prompt":                 func(l string) []string { return []string{listing(l)[0] + strings.TrimSuffix(message, at)} },
		"between the command and its echo":   func(l string) []string { return append([]string{message}, listing(l)...) },
		"in the middle of the command":       func(l string) []string { return append([]string{l[:3] + message}, listing(l)...) },
		"twice, before and behind":           func(l string) []string { return append(append([]string{message}, listing(l)...), message) },
		"behind an answer, and late at that": func(l string) []string { return append(listing(l), "", "", "", message) },
	} {
		t.Run(name, func(t *testing.T) {
			s, _ := terminalOf(t, "welcome\r\n"+at, tell)
			c := signedIn(t, s)
			for range 3 {
				got, err := c.Readings(t.Context(), sets(s.d))
				require.NoError(t, err)
				assert.Equal(t, []string{"p1", "p2"}, got["ports-up"].Set)
				assert.Equal(t, []string{"nat1", "nat2"}, got["translations"].Set)
				assert.Equal(t, []string{"TU1", "TU2"}, got["tunnels-up"].Set)
			}
		})
	}
}

// Where every line of an answer counts, a line that looks like the prompt does not end it unnoticed.
func TestALineLikeThePromptEndsNoPart(t *testing.T) {
	part := "name fw1\nbanner\nfw1 ~ \nport p1\nport p2\nport p3\nport p4\n"
	for name, c := range map[string]struct {
		pieces []string
		want   string
	}{
		"many lines behind it, in one piece":   {[]string{"show\r\n" + part + at}, ""},
		"many lines behind it, in more pieces": {[]string{"show\r\n" + part[:21], part[21:] + at}, ""},
		"a message behind the answer":          {[]string{"show\r\nname fw1\r\n" + at + "\r\n** a port\r\n" + at}, "name fw1\n"},
	} {
		s, _ := terminalOf(t, at, func(l string) []string {
			if l == "show" {
				return c.pieces
			}
			return listing(l)
		})
		signedIn(t, s)
		got, err := s.run(t.Context(), Step{Send: "show", whole: true}, nil)
		if c.want == "" {
			require.ErrorContains(t, err, "the prompt stands in the middle of the answer, with 4 lines behind it", name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
}

func sets(d *Dialect) (out []device.Reading) {
	for _, r := range d.Readings {
		if r.Name == "ports-up" || r.Name == "translations" || r.Name == "tunnels-up" {
			out = append(out, r)
		}
	}
	return out
}

// A device that does not echo is spoken with, too; what it printed by itself before is forgotten.
func TestADeviceWithoutEcho(t *testing.T) {
	s, say := terminalOf(t, at, func(l string) []string { return []string{listings[l] + at} })
	c := signedIn(t, s)
	assert.Equal(t, noEcho, s.echo)
	say("\r\n** something happened\r\n" + at)
	got, err := c.Readings(t.Context(), sets(s.d))
	require.NoError(t, err)
	assert.Equal(t, []string{"TU1", "TU2"}, got["tunnels-up"].Set)
}

func TestAnAnswerThatNeverEndsLeavesNothingBehind(t *testing.T) {
	s, _ := terminalOf(t, at, func(l string) []string {
		if l == "tell ports" {
			return []string{l + "\r\n  p1    up\r\n"}
		}
		return listing(l)
	})
	c := signedIn(t, s)
	_, err := c.query(t.Context(), Query{Send: "tell ports", Wait: 0.1}, nil, nil)
	require.Equal(t, device.Silent, device.KindOf(err))
	_, err = c.query(t.Context(), Query{Send: "tell tunnels", Wait: 0.1}, nil, nil)
	assert.Equal(t, device.Lost, device.KindOf(err), "what it still has to say would be taken for the next answer")
	assert.ErrorContains(t, err, "out of step")
}

// A pager that erases its line loses no line of the answer, wherever the output is cut.
func TestAPagersEraseLosesNothing(t *testing.T) {
	for name, erase := range map[string]string{"blanks": "\r              \r", "backspaces": strings.Repeat("\b \b", 14), "a sequence": "\r\x1b[K"} {
		for cut := range len(erase) + 1 {
			paging := make(chan bool, 1)
			s, say := terminalOf(t, at, func(l string) []string {
				if l == "tell ports" {
					paging <- true
					return []string{l + "\r\n  p1    up\r\n[more: any key]"}
				}
				return listing(l)
			})
			signedIn(t, s)
			go func() {
				<-paging // however late it is on a busy machine
				time.Sleep(20 * time.Millisecond)
				say(erase[:cut], erase[cut:]+"  p2    up\r\nok\r\n"+at)
			}()
			assert.Equal(t, "  p1    up\n  p2    up\nok\n", asked(t, s, "tell ports"), "%s, cut at %d", name, cut)
			s.close()
		}
	}
}

// Sequences that set titles, colours, keypads and character sets are no text and hide no prompt.
func TestSequencesThatAreNoText(t *testing.T) {
	for name, p := range map[string]string{"keypad": "\x1b[?1h\x1b=fw1 ~ ", "title": "\x1b]0;fw1: session\x07fw1 ~ ", "title, other end": "\x1b]2;fw1 ~ \x1b\\fw1 ~ ",
		"charset": "\x1b(Bfw1 ~ ", "colour": "\x1b[32mfw1\x1b[0m ~ ", "eight bits": "\x9b0mfw1 ~ ", "device control": "\x1bP1$r0m\x1b\\fw1 ~ ", "cursor": "fw2\x1b[3Dfw1 ~ "} {
		t.Run(name, func(t *testing.T) {
			s, _ := terminalOf(t, p, func(line string) []string { return []string{line + "\r\n\x1b(B  p1  up\r\nok\r\n" + p} })
			signedIn(t, s)
			assert.Equal(t, "fw1", s.name)
			assert.Equal(t, "  p1  up\nok\n", asked(t, s, "tell ports"))
		})
	}
}

// However output is cut into pieces, the same stands on the screen.
func TestPiecesMakeNoDifference(t *testing.T) {
	parts := []string{"text", "caf\u00e9", "\r\n", "\n", "\r", "\b", "\t", " ", "\x1b[K", "\x1b[1;31m", "\x1b]0;title\x07", "\x1b(B", "\x1b[2D", "\x9b", "\xe2\x82\xac"}
	rapid.Check(t, func(t *rapid.T) {
		all := strings.Join(rapid.SliceOfN(rapid.SampledFrom(parts), 0, 30).Draw(t, "output"), "")
		var whole, cut screen
		whole.write([]byte(all))
		for rest := all; rest != ""; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "piece")
			cut.write([]byte(rest[:n]))
			rest = rest[n:]
		}
		assert.Equal(t, string(whole.seen()), string(cut.seen()))
		assert.NotContains(t, string(whole.text), "\x1b")
	})
}

// A reading is a value only when the whole answer was understood.
func TestAnAnswerThatIsNotUnderstoodIsNotNone(t *testing.T) {
	d := dialect(t)
	for text, want := range map[string]verify.Type{
		"  port  link\n  p1    up\n  p3    down\nok\n":                verify.Set,
		"  port  link\nok\n":                                          verify.Set,
		"%% internal error 0x17: this listing is not available\nok\n": verify.NotReadable,
		"  port  link\n  p1    up\n  p2    half-up\nok\n":             verify.NotReadable,
		"  port  link\n  p1    up\n":                                  verify.NotReadable,
		"":                                                            verify.NotReadable,
		"ok\n":                                                        verify.Set,
		"  port  link\n  p1    up\n** 04:11:02 port p3 went down\nok\n": verify.NotReadable,
	} {
		r := sets(d)[0]
		v := d.read(&r, text, true)
		assert.Equal(t, want, v.Type, "%q: %s", text, v)
		if want == verify.NotReadable {
			assert.NotEmpty(t, v.Text, "what was seen is told")
		}
	}
	bare := &Dialect{}
	r := device.Reading{Type: verify.Set, Match: sets(d)[0].Match}
	assert.True(t, func() bool { v := bare.read(&r, "", true); return v.Known() }(), "the echo shows that nothing is the answer")
	assert.Equal(t, verify.NotReadable, bare.read(&r, "", false).Type, "nothing shows that nothing is the answer")
	flag, err := device.ReadReading([]byte("name: f\ntitle: F\ntype: flag\nsend: x\nmatch: '(?m)^(?P<value>on)$'\nignore: '^off$'\nnot-applicable: 'no such unit'\nexpect: {rule: unchanged, severity: fail}\n"))
	require.NoError(t, err)
	assert.Equal(t, verify.Value{Type: verify.Flag, Flag: true}, bare.read(flag, "on\n", true))
	assert.Equal(t, verify.Value{Type: verify.Flag}, bare.read(flag, "off\n", true))
	assert.Equal(t, verify.NotReadable, bare.read(flag, "sleeping\n", true).Type)
	assert.Equal(t, verify.NotApplicable, bare.read(flag, "no such unit\n", true).Type)
	number, err := device.ReadReading([]byte("name: n\ntitle: N\ntype: number\nsend: x\nmatch: 'open (?P<value>\\S+)'\nexpect: {rule: unchanged, severity: fail}\n"))
	require.NoError(t, err)
	assert.Equal(t, verify.Value{Type: verify.NotReadable, Text: `"1'204" is not a number that is understood`}, bare.read(number, "open 1'204\n", true))
}

// A pattern for digits finds a part of a number that is written otherwise. A part is not believed.
func TestAPartOfANumberIsNotTheNumber(t *testing.T) {
	for text, want := range map[string]string{
		"open 1204\n": "1204", "open 1'204\n": `"1'204"`, "open 65’533 KiB\n": `"65’533"`, "open 1,204,7\n": `"1,204,7"`, "open 1 204\n": "1", "open 12.\n": "12", "open 12, 13\n": "12",
		"open 12.5 %\n": "12.5", "open -3 s\n": "-3", "open 7:30\n": "7", "open=-4": "-4", "3\nopen 8\n": "8", "open 9\n5\n": "9", "open 1\u00a0204\n": "\"1\u00a0204\"", "open 2026-11-28\n": "2026",
	} {
		r, err := device.ReadReading([]byte(`{name: n, title: N, type: number, send: x, match: 'open.*?(?P<value>\d+)', expect: {rule: unchanged, severity: fail}}`))
		require.NoError(t, err)
		v := (&Dialect{}).read(r, text, true)
		if strings.HasPrefix(want, `"`) {
			assert.Equal(t, verify.NotReadable, v.Type, text)
			assert.Contains(t, strings.ReplaceAll(v.Text, `\u00a0`, "\u00a0"), want, text)
			continue
		}
		assert.Equal(t, want, v.String(), text)
	}
	last := device.Pattern{Regexp: regexp.MustCompile(`(?P<free>\d+) KiB`)}
	text := "free 65'533 KiB"
	assert.Equal(t, "65'533", last.Whole(text, last.FindStringSubmatchIndex(text), numbers...)["free"], "also the last part of it")
}

// What the device or its dialect does not say is not known, and a number that cannot be read is an error, never 0.
func TestUnknownIsNotNo(t *testing.T) {
	d := dialect(t)
	said := func(fields map[string]string, slots ...string) *answers {
		a := &answers{fields: fields, rows: map[string][]map[string]string{}}
		for _, s := range slots {
			a.rows["slots"] = append(a.rows["slots"], map[string]string{"slot": "a", "version": "1", "state": s})
		}
		return a
	}
	p, err := d.portrait(said(map[string]string{"unsaved": "yes", "services": "ready", "total": "10", "free": "5"}, "good, running, next", "broken"))
	require.NoError(t, err)
	assert.Equal(t, []portrait.Fact{portrait.Yes, portrait.Yes}, []portrait.Fact{p.Unsaved, p.ServicesReady})
	assert.Equal(t, []portrait.Fact{portrait.Yes, portrait.Yes, portrait.No}, []portrait.Fact{p.Slots[0].Good, p.Slots[0].Next, p.Slots[0].Busy})
	assert.True(t, p.Slots[1].Broken())
	for _, words := range []string{"", "perhaps"} {
		p, err = d.portrait(said(map[string]string{"unsaved": words}))
		require.NoError(t, err)
		assert.Equal(t, portrait.Unknown, p.Unsaved, words)
	}
	bare := &Dialect{}
	p, err = bare.portrait(said(map[string]string{"services": "ready", "work": "none", "service": "taking", "total": "7"}, "good"))
	require.NoError(t, err)
	for _, f := range []portrait.Fact{p.ServicesReady, p.Unsaved, p.Drained, p.OutOfService, p.Slots[0].Good, p.Slots[0].Next, p.Slots[0].Busy} {
		assert.Equal(t, portrait.Unknown, f)
	}
	assert.Empty(t, p.Storage, "a total without what is free says nothing")
	for _, bad := range []string{"65'533 KiB", "1'204", "-3", "12.5"} {
		_, err := d.portrait(said(map[string]string{"total": bad, "free": "1"}))
		assert.ErrorContains(t, err, bad)
		a := said(nil)
		a.rows["files"] = []map[string]string{{"file": "x.img", "size": bad}}
		_, err = d.portrait(a)
		assert.ErrorContains(t, err, `size of x.img: "`+bad)
	}
}

// A table of the portrait that is not understood as a whole says so.
func TestALineOfAPortraitThatIsNotUnderstood(t *testing.T) {
	files := "        1000  a.img\r\n"
	s, _ := terminalOf(t, at, func(l string) []string {
		switch l {
		case "tell box":
			return []string{l + "\r\n  name      x\r\n  maker     Tarnholm\r\n  model     TH-60\r\n  serial    S\r\n  running   5.0.7 in slot a\r\n  up        1 s\r\n  started   now\r\n  services  ready\r\n  unsaved   no\r\nok\r\n" + at}
		case "tell slots":
			return []string{l + "\r\n  slot  version      state\r\n  a     5.0.7        good, running, next\r\n  b     5.0.6        good\r\nok\r\n" + at}
		case "tell flash":
			return []string{l + "\r\n" + files + "  total 5000 free 4000\r\nok\r\n" + at}
		}
		return listing(l)
	})
	c := signedIn(t, s)
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Empty(t, p.NotUnderstood)
	files = "        1'000  a.img\r\n"
	p, err = c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"files": `the line "        1'000  a.img" is not understood`}, p.NotUnderstood)
	id, err := c.Identity(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"TH-60", "S", "5.0.7", "a"}, []string{id.Model, id.Serial, id.Version, id.RunningSlot().Name})
	assert.Nil(t, id.Files, "nothing else was asked")
}

// An answer that says neither success nor a known refusal is not taken for success.
func TestNeitherSuccessNorRefusal(t *testing.T) {
	s, _ := terminalOf(t, at, func(l string) []string { return []string{l + "\r\n  well, hm, perhaps\r\n" + at} })
	signedIn(t, s)
	var p device.Pattern
	require.NoError(t, p.UnmarshalJSON([]byte(`"(?m)^done$"`)))
	_, err := s.run(t.Context(), Step{Send: "keep", Success: p}, nil)
	assert.Equal(t, device.NotUnderstood, device.KindOf(err))
	assert.ErrorContains(t, err, `neither success nor a known refusal: "well, hm, perhaps"`)
}

// What needs an SSH connection is refused where there is only a line, with what to do.
func TestOnlyALine(t *testing.T) {
	s, _ := terminalOf(t, at, listing)
	c := signedIn(t, s)
	for _, by := range []string{BySCP, BySFTP, ByNETCONF} {
		_, _, err := c.fetchPart(t.Context(), &PartSource{File: "a.cfg", Path: "running", By: by})
		assert.Equal(t, device.Refused, device.KindOf(err), by)
		assert.ErrorContains(t, err, "only a console line", by)
	}
	assert.Equal(t, device.Refused, device.KindOf(c.putPart(t.Context(), &PartSource{File: "a.cfg", Restore: &Put{By: BySCP, Path: "a.cfg"}}, []byte("x"))))
}

// A device that prints without an end is spoken with all the same.
func TestADeviceThatNeverIsQuiet(t *testing.T) {
	s, say := terminalOf(t, at, func(l string) []string { return []string{listing(l)[0] + "\r\n** still here\r\n" + at} })
	c := signedIn(t, s)
	stop := make(chan struct{})
	go func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(time.Millisecond):
				say("\r\n** still here\r\n" + at)
			}
		}
	}()
	defer close(stop)
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	got, err := c.Readings(ctx, sets(s.d)[:1])
	require.NoError(t, err)
	assert.Equal(t, []string{"p1", "p2"}, got["ports-up"].Set)
}

// sent is an Exchange to which the device sends one file.
type sent struct {
	device.Exchange
	data string
}

func (s sent) Expect(string, int64) (string, func(context.Context) ([]byte, error), func(), error) {
	return "sftp://here/1", func(context.Context) ([]byte, error) { return []byte(s.data), nil }, func() {}, nil
}

// A part counts only when two readings are the same, or when it has the sum that the device gives.
func TestPartsThatDiffer(t *testing.T) {
	n := 0
	s, _ := terminalOf(t, at, func(l string) []string {
		n++
		switch l {
		case "show":
			return []string{fmt.Sprintf("show\r\nport p%d\r\n%s", n, at)}
		case "send sftp://here/1":
			return []string{l + "\r\nsent 8 bytes, sum " + strings.Repeat("0", 64) + "\r\n" + at}
		}
		return listing(l)
	})
	c := signedIn(t, s)
	_, _, err := c.fetchPart(t.Context(), &PartSource{File: "running", By: ByCLI, Send: "show"})
	require.ErrorContains(t, err, "two readings in a row differ")
	c.t.Exchange = sent{data: "port p1\n"}
	var said device.Pattern
	require.NoError(t, yaml.Unmarshal([]byte(`'sent (?P<size>\d+) bytes, sum (?P<sha256>\S+)'`), &said))
	_, _, err = c.fetchPart(t.Context(), &PartSource{File: "running", By: PushSFTP, Send: "send {url}", Fields: said})
	require.ErrorContains(t, err, "has not the SHA-256 sum that the device gives")
}
