package cli

import (
	"bufio"
	"context"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/link"
)

// line is a console line that follows a script: for each thing that is entered, what it says; after a zero it takes its time.
func line(t *testing.T, first string, says func(entered string) string) testTarget {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				fmt.Fprint(c, first)
				in := bufio.NewReader(c)
				for {
					text, err := in.ReadString('\r')
					if err != nil {
						return
					}
					for i, piece := range strings.Split(says(strings.TrimSuffix(text, "\r")), "\x00") {
						time.Sleep(time.Duration(i) * 400 * time.Millisecond)
						fmt.Fprint(c, piece)
					}
				}
			}()
		}
	}()
	dialects, err := ReadDialects(Builtin())
	require.NoError(t, err)
	return testTarget{Target: device.Target{Address: ln.Addr().String(), Console: ln.Addr().String(), SignIns: []device.SignIn{{ID: 1, User: "hand", Password: "word-1"}, {ID: 2, User: "hand", Password: "word-2"}}, Tries: 3}, Dialect: dialects["pellworth-gauge"]}
}

// gaugeLine asks for name and word, and then answers commands.
func gaugeLine(t *testing.T, word string) testTarget {
	state := "name"
	return line(t, "", func(entered string) string {
		switch {
		case state == "name" && entered == "":
			return "\r\ng1 name? "
		case state == "name":
			state = "word"
			return entered + "\r\nword? "
		case state == "word" && entered == word:
			state = "in"
			return "\r\n\r\ng1 ? "
		case state == "word":
			state = "name"
			return "\r\nnot known\r\n\r\ng1 name? "
		case entered == "plate":
			return "plate\r\nname: g1\r\nmaker: Pellworth\r\nmodel: TG-1\r\nserial: S\r\nrelease: F1.06\r\nsince: now\r\nup: all\r\n\r\ng1 ? "
		case entered == "drawer":
			return "drawer\r\nroom 10 of 20\r\n\r\ng1 ? "
		case entered == "say gauge.ini":
			return "say gauge.ini\r\n|[panel]\r\n|code = geheim-4\r\nthat is all of gauge.ini\r\n\r\ng1 ? "
		}
		return entered + "\r\n\r\ng1 ? "
	})
}

func TestSigningInAtAConsoleLine(t *testing.T) {
	target := gaugeLine(t, "word-2")
	var mu sync.Mutex
	var heard strings.Builder
	target.Record = func(p []byte) { mu.Lock(); defer mu.Unlock(); heard.Write(p) }
	var used []int64
	target.Used = func(s device.SignIn, _ bool) { used = append(used, s.ID) }
	c, err := Dial(t.Context(), target)
	require.NoError(t, err)
	defer c.Close()
	assert.Equal(t, []int64{2}, used, "the first was refused, the second let us in")
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "F1.06", p.Version)
	part := target.Dialect.part("running")
	data, _, err := c.fetchPart(t.Context(), part)
	require.NoError(t, err)
	assert.Equal(t, "[panel]\ncode = geheim-4\n", string(data), "without the margin")
	_, err = c.SFTP()
	assert.Equal(t, device.Refused, device.KindOf(err))
	assert.False(t, c.Transfers())
	time.Sleep(50 * time.Millisecond)
	mu.Lock()
	log := heard.String()
	mu.Unlock()
	assert.Contains(t, log, "release: F1.06")
	assert.NotContains(t, log, "geheim-4", "what may hold secrets is not recorded")
	assert.Contains(t, log, "bytes that are not recorded")

	// A line that is signed in already shows its prompt at once.
	again, err := Dial(t.Context(), target)
	require.NoError(t, err)
	assert.Zero(t, again.SignedIn().ID)
	again.Close()
}

func TestConsoleLinesThatDoNotLetUsIn(t *testing.T) {
	_, err := Dial(t.Context(), gaugeLine(t, "another"))
	assert.Equal(t, device.SignInRefused, device.KindOf(err))
	assert.ErrorContains(t, err, "2 of 2 credentials were tried")
	assert.NotContains(t, err.Error(), "word-1")

	one := gaugeLine(t, "word-2")
	one.Tries = 1
	_, err = Dial(t.Context(), one)
	assert.ErrorContains(t, err, "1 of 2 credentials were tried", "no more is risked than is allowed")

	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	_, err = Dial(ctx, line(t, "", func(string) string { return "" }))
	assert.Equal(t, device.NotReady, device.KindOf(err), "silence at the line is a device that is not there yet: %v", err)

	gone := gaugeLine(t, "x")
	gone.Console = "127.0.0.1:1"
	_, err = Dial(t.Context(), gone)
	assert.Equal(t, device.Unreachable, device.KindOf(err))
}

// A line that was silent for a while answers every knock when it speaks again: the name is asked once more before the password is.
func TestALineThatAsksForTheNameOnceMore(t *testing.T) {
	late := gaugeLine(t, "word-1")
	state := "name"
	again := line(t, "", func(entered string) string {
		switch {
		case state == "name" && entered == "":
			return "\r\ng1 name? "
		case state == "name":
			state = "word"
			return "\r\ng1 name? \x00\r\ng1 name? \x00hand\r\nword? "
		case entered == "word-1":
			return "\r\n\r\ng1 ? "
		}
		return entered + "\r\n\r\ng1 ? "
	})
	again.SignIns = late.SignIns
	c, err := Dial(t.Context(), again)
	require.NoError(t, err)
	assert.Equal(t, int64(1), c.SignedIn().ID)
	c.Close()

	deaf := line(t, "", func(string) string { return "\r\ng1 name? " })
	_, err = Dial(t.Context(), deaf)
	assert.Equal(t, device.NotReady, device.KindOf(err), "no password was sent, so nothing was refused: it is tried again later")
	assert.ErrorContains(t, err, "asks for the name again")
}

func TestTheBootLoader(t *testing.T) {
	dialects, err := ReadDialects(Builtin())
	require.NoError(t, err)
	var chosen string
	loader := line(t, "", func(entered string) string {
		switch entered {
		case "a", "b":
			chosen = entered
			return entered + "\r\nstarting from " + entered + "\r\n"
		case "":
			return "\r\nnothing starts by itself\r\nstart from? "
		}
		return "\r\nno: nothing there\r\nstart from? "
	})
	loader.Dialect = dialects["tarnholm"]
	require.NoError(t, LoadSlot(t.Context(), loader, "b"))
	assert.Equal(t, "b", chosen)
	assert.Equal(t, device.Refused, device.KindOf(LoadSlot(t.Context(), loader, "z")), "it asks again")
	assert.Equal(t, device.NotUnderstood, device.KindOf(LoadSlot(t.Context(), loader, "a;b")), "only a plain name is sent")
	_, err = Dial(t.Context(), loader)
	assert.Equal(t, device.NotReady, device.KindOf(err), "a boot loader is no place to sign in")

	up := line(t, "", func(string) string { return "\r\nname: " })
	up.Dialect = dialects["tarnholm"]
	assert.Equal(t, device.NotReady, device.KindOf(LoadSlot(t.Context(), up, "b")), "a device that is up is left alone")
	up.Dialect = dialects["brackmoor"]
	assert.Equal(t, device.Refused, device.KindOf(LoadSlot(t.Context(), up, "b")))
}

func TestReadingsThatSomebodyAdds(t *testing.T) {
	good := "name: x\ntitle: X\ntype: number\nsend: tell x\nmatch: '(?P<value>\\d+)'\nexpect: {rule: equals, value: '7', severity: fail}\n"
	r, err := device.ReadReading([]byte(good))
	require.NoError(t, err)
	e := device.Expectations([]device.Reading{*r})
	assert.Equal(t, 7.0, e[0].Value.Number)
	for what, change := range map[string][2]string{
		"unknown field":           {"title: X", "titel: X"},
		"one command on one line": {"send: tell x", "send: \"tell x\\rreboot\""},
		"needs a name, a match":   {"name: x\n", ""},
		"type \"moon\"":           {"type: number", "type: moon"},
		"severity \"bad\"":        {"severity: fail", "severity: bad"},
		"\"seven\" is no number":  {"'7'", "seven"},
	} {
		_, err := device.ReadReading([]byte(strings.Replace(good, change[0], change[1], 1)))
		require.Error(t, err, what)
		if what != "unknown field" {
			assert.ErrorContains(t, err, what)
		}
	}
}

// A clock is read as the number of seconds by which the device is ahead; sets of errors may lose some and win none.
func TestClocksAndErrorsAsReadings(t *testing.T) {
	clock := "name: c\ntitle: C\ntype: clock\nsend: hour\nmatch: 'is (?P<value>\\S+)'\nexpect: {rule: within, value: '60', severity: degraded}\n"
	r, err := device.ReadReading([]byte(clock))
	require.NoError(t, err)
	for ahead, want := range map[time.Duration]float64{0: 0, time.Hour: 3600, -time.Minute: -60} {
		v := (&Dialect{}).read(r, "it is "+time.Now().Add(ahead).UTC().Format(time.RFC3339), true)
		assert.Equal(t, verify.Number, v.Type)
		assert.InDelta(t, want, v.Number, 2)
	}
	assert.Equal(t, verify.NotReadable, (&Dialect{}).read(r, "it is late", true).Type, "what is no time is not readable")
	e := device.Expectations([]device.Reading{*r})[0]
	assert.Equal(t, verify.Value{Type: verify.Number, Number: 60}, e.Value)
	assert.False(t, e.Compares(), "it needs nothing from before")

	errors := strings.NewReplacer("type: clock", "type: set", "rule: within, value: '60'", "rule: no-new").Replace(clock)
	_, err = device.ReadReading([]byte(errors))
	require.NoError(t, err)
	for bad, says := range map[string]string{
		strings.Replace(clock, "rule: within, value: '60'", "rule: unchanged", 1): "of a clock, only within can be expected",
		strings.Replace(clock, "'60'", "soon", 1):                                 "is no number",
		strings.Replace(errors, "type: set", "type: text", 1):                     "no-new is a rule for sets",
		strings.Replace(clock, "type: clock", "type: set", 1):                     "within is a rule for numbers and clocks",
	} {
		_, err := device.ReadReading([]byte(bad))
		assert.ErrorContains(t, err, says)
	}
}

// Whoever gives up does not wait until a silent device says something.
func TestGivingUpOnASilentDevice(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer ln.Close()
	taken := make(chan net.Conn, 1)
	go func() {
		if c, err := ln.Accept(); err == nil {
			_, _ = c.Read(make([]byte, 1)) // what it says first: it is connected, on its side too
			taken <- c
		}
	}()
	dialects, err := ReadDialects(Builtin())
	require.NoError(t, err)
	target := testTarget{Target: device.Target{Address: ln.Addr().String(), SignIns: []device.SignIn{{User: "u", Password: "p"}}, Tries: 1}, Dialect: dialects["tarnholm"]}
	ctx, giveUp := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		_, err := Dial(ctx, target)
		ended <- err
	}()
	defer (<-taken).Close()
	giveUp()
	select {
	case err := <-ended:
		assert.Equal(t, device.Silent, device.KindOf(err))
		assert.ErrorContains(t, err, "before the time for it was over")
	case <-time.After(10 * time.Second):
		t.Fatal("it waits all the same")
	}
	_, err = Dial(ctx, target)
	assert.Equal(t, device.Unreachable, device.KindOf(err), "given up before there was a connection")
	assert.ErrorContains(t, err, "no connection came about before the time for it was over")
}

// Licences: the key is typed where the device asks, and a dialect that would put it elsewhere is refused.
func TestDialectsOfLicences(t *testing.T) {
	text, err := fs.ReadFile(Builtin(), "brackmoor.yaml")
	require.NoError(t, err)
	d, err := ReadDialect(text)
	require.NoError(t, err)
	assert.True(t, d.abilities().Licence)
	for _, bad := range []string{"add-licence: {send: 'admit {licence}'}", "add-licence: {send: 'admit {licence}', ask: 'key: $', answer: x}"} {
		_, err := ReadDialect([]byte(strings.Replace(string(text), "add-licence: {send: 'admit {licence}', ask: 'key: $'}", bad, 1)))
		assert.ErrorContains(t, err, "add-licence needs an ask")
	}
	_, err = ReadDialect([]byte(strings.Replace(string(text), "'admit {licence}'", "'admit {licence} {key}'", 1)))
	assert.ErrorContains(t, err, "there is no {key} here", "a key is part of no command")
}

// Listening says nothing, goes on when the line is taken away, and ends when it is to.
func TestListeningAtALine(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer ln.Close()
	said := make(chan []byte, 10)
	go func() {
		for i := range 2 {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			_, _ = fmt.Fprintf(c, "start %d", i)
			_ = c.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
			buf := make([]byte, 10)
			n, _ := c.Read(buf)
			said <- buf[:n]
			_ = c.Close()
		}
	}()
	ctx, stop := context.WithCancel(t.Context())
	heard := make(chan string, 10)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		link.Listen(ctx, ln.Addr().String(), func(p []byte) { heard <- string(p) })
	}()
	assert.Equal(t, "start 0", <-heard)
	assert.Empty(t, <-said)
	assert.Equal(t, "start 1", <-heard, "the line was taken away, and is there again")
	stop()
	<-ended
}

// A jump host is asked what it is, and can be changed in no way.
func TestAJumpHostIsOnlyPassedThrough(t *testing.T) {
	dialects, err := ReadDialects(Builtin())
	require.NoError(t, err)
	d := dialects["jump-host"]
	require.NotNil(t, d)
	assert.NotEmpty(t, d.lacksForFirmware(), "no firmware is changed on it")
	can := d.abilities()
	assert.False(t, can.Restart || can.Drain || can.Save || can.Licence || can.Validate || can.Unpack || can.Clone)
	assert.Empty(t, can.Parts)
	for _, prompt := range []string{"root@jump1:~# ", "keeper@jump1:/home$ ", "jump% "} {
		assert.True(t, d.Prompt.MatchString(prompt), prompt)
	}
	assert.False(t, d.Prompt.MatchString("no prompt"))
	g := d.Portrait[0].Fields.Groups("Linux jump1 6.1.0 x86_64\n")
	assert.Equal(t, map[string]string{"maker": "Linux", "name": "jump1", "version": "6.1.0", "model": "x86_64"}, g)
}
