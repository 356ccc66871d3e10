package cli

import (
	"bufio"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"verimorph/core/verify"
	"verimorph/device"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// scripted starts an SSH server whose terminal answers each line with what script says, and returns a target for it.
// A script that returns "" hangs up.
func scripted(t *testing.T, greeting string, script func(line string) string) testTarget {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	cfg := &ssh.ServerConfig{PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, nil }}
	cfg.AddHostKey(signer)
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
				_, channels, requests, err := ssh.NewServerConn(c, cfg)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
			terminals:
				for nc := range channels {
					ch, reqs, err := nc.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range reqs {
							_ = r.Reply(true, nil)
						}
					}()
					_, _ = io.WriteString(ch, greeting)
					in := bufio.NewReader(ch)
					for {
						line, err := in.ReadString('\r')
						if err != nil {
							continue terminals
						}
						answer := script(strings.TrimSuffix(line, "\r"))
						if answer == "" {
							_ = ch.Close()
							continue terminals
						}
						_, _ = io.WriteString(ch, answer)
					}
				}
			}()
		}
	}()
	d := *dialect(t)
	d.Setup = nil
	return testTarget{Target: device.Target{Address: ln.Addr().String(), SignIns: []device.SignIn{{User: "u", Password: "p"}}, Privileged: []device.SignIn{{Password: "second"}}}, Dialect: &d}
}

func ask(t *testing.T, target testTarget, command string, wait float64) (string, error) {
	c := dial(t, target)
	return c.query(t.Context(), Query{Send: command, Wait: wait}, nil, nil)
}

// A connection that ends with a command proves nothing: neither that the device heard it, nor that it did not.
func TestAConnectionThatEndsWithACommand(t *testing.T) {
	c := dial(t, scripted(t, "hello\r\nbox ~ ", func(line string) string {
		if line == "cycle" {
			return ""
		}
		return line + "\r\nok\r\nbox ~ "
	}))
	_, err := c.query(t.Context(), Query{Send: "look", Ends: true}, nil, nil)
	require.NoError(t, err)
	assert.False(t, c.HungUp(), "it answered")
	_, err = c.query(t.Context(), Query{Send: "cycle", Ends: true}, nil, nil)
	require.NoError(t, err)
	assert.True(t, c.HungUp())
}

func TestWhatDevicesSay(t *testing.T) {
	echo := func(answer string) func(string) string {
		return func(line string) string { return line + "\r\n" + answer }
	}
	for name, c := range map[string]struct {
		answer, want string
		kind         device.ErrorKind
		text         string
	}{
		"plain":                 {"  one\r\n  two\r\nok\r\n\r\nbox ~ ", "  one\n  two\nok\n\n", "", ""},
		"colours and bells":     {"\x1b[1;31m  one\x1b[0m\x07\r\nbox ~ ", "  one\n", "", ""},
		"another box's prompt":  {"  see:\r\nother ~ \r\nbox ~ ", "  see:\nother ~ \n", "", ""},
		"refused":               {"no: the door is shut\r\nbox ~ ", "", device.Refused, "the device says: the door is shut"},
		"not ready":             {"no: still starting\r\nbox ~ ", "", device.NotReady, "still starting"},
		"no room":               {"no: no room on flash\r\nbox ~ ", "", device.NoRoom, "no room on flash"},
		"no prompt":             {"  one\r\n", "", device.Silent, `no answer for 300ms; the last line was "one"`},
		"a prompt inside":       {"box ~ is what it says\r\nbox ~ ", "box ~ is what it says\n", "", ""},
		"an endless answer":     {strings.Repeat("x", maxAnswer+1), "", device.NotUnderstood, "longer than 8 MiB"},
		"hangs up":              {"", "", device.Lost, "the connection ended"},
		"long last line quoted": {strings.Repeat("y", 500), "", device.Silent, strings.Repeat("y", 120) + `"`},
	} {
		t.Run(name, func(t *testing.T) {
			script := echo(c.answer)
			if c.answer == "" {
				script = func(string) string { return "" }
			}
			wait := 60.0
			if c.kind == device.Silent {
				wait = 0.3
			}
			got, err := ask(t, scripted(t, "hello\r\nbox ~ ", script), "look", wait)
			assert.Equal(t, c.kind, device.KindOf(err), "%v", err)
			if c.kind == "" {
				require.NoError(t, err)
				assert.Equal(t, c.want, got)
			} else {
				assert.ErrorContains(t, err, c.text)
			}
		})
	}
}

func TestEscapesThatArriveInPieces(t *testing.T) {
	s := &session{d: dialect(t), modes: dialect(t).modes(), out: make(chan []byte, 8)}
	for _, piece := range []string{"a\x1b", "[1", ";31mb\x1b[0m", "c\r", "\nbox ~ \x1b[", "0m"} {
		s.out <- []byte(piece)
	}
	got, err := s.answer(t.Context(), "look", "", Step{Wait: 1}, nil)
	require.NoError(t, err)
	assert.Equal(t, "abc\n", got)
}

func TestPausesAndQuestions(t *testing.T) {
	target := scripted(t, "box ~ ", func(line string) string {
		switch line {
		case "raise":
			return "raise\r\nWatchword: "
		case "second":
			return "\r\nok\r\n\r\nbox = "
		case "keep":
			return "keep\r\nok\r\n\r\nbox = "
		}
		return line + "\r\nno: what?\r\nbox ~ "
	})
	c := dial(t, target)
	require.NoError(t, c.Save(t.Context()))
	require.NoError(t, c.Save(t.Context()), "it raises once")

	refuses := scripted(t, "box ~ ", func(line string) string {
		if line == "raise" {
			return "raise\r\nWatchword: "
		}
		return "\r\nno: wrong watchword\r\n\r\nbox ~ "
	})
	err := dial(t, refuses).Save(t.Context())
	assert.Equal(t, device.SignInRefused, device.KindOf(err))
	assert.NotContains(t, err.Error(), "second")
}

func TestPortraitsThatDoNotFit(t *testing.T) {
	c := dial(t, scripted(t, "box ~ ", func(line string) string { return line + "\r\n  name x\r\nok\r\nbox ~ " }))
	_, err := c.Portrait(t.Context())
	assert.Equal(t, device.NotUnderstood, device.KindOf(err))
	assert.ErrorContains(t, err, "tell box: the answer does not fit the dialect tarnholm")

	c = dial(t, scripted(t, "box ~ ", func(line string) string { return line + "\r\nok\r\nbox ~ " }))
	values, err := c.Readings(t.Context(), c.d.Readings)
	require.NoError(t, err)
	for name, v := range values {
		if name == "sessions" || name == "clock" {
			assert.Equal(t, verify.NotReadable, v.Type, "a number that is not there is not readable, and neither is a time")
			continue
		}
		assert.Equal(t, verify.Value{Type: verify.Set}, v, "an empty set is an answer where the end of the answer was seen")
	}
}

func TestAddressesThatAreNoDevice(t *testing.T) {
	web, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer web.Close()
	go func() {
		for {
			c, err := web.Accept()
			if err != nil {
				return
			}
			_, _ = io.WriteString(c, "HTTP/1.1 400 Bad Request\r\n\r\n")
			_ = c.Close()
		}
	}()
	_, err = Dial(t.Context(), testTarget{Target: device.Target{Address: web.Addr().String(), SignIns: []device.SignIn{{User: "u", Password: "p"}}}, Dialect: dialect(t)})
	assert.Equal(t, device.Unreachable, device.KindOf(err))
	assert.ErrorContains(t, err, "the address answers, but SSH does not")
	began := time.Now()
	_, err = Dial(t.Context(), testTarget{Target: device.Target{Address: "127.0.0.1:1", SignIns: []device.SignIn{{User: "u", Password: "p"}}}, Dialect: dialect(t)})
	assert.ErrorContains(t, err, "nothing answers (connection refused)")
	assert.Less(t, time.Since(began), 5*time.Second)
}

func TestFill(t *testing.T) {
	got, err := fill("fit {file} into {slot}", map[string]string{"file": "th60-5.0.7.img", "slot": "b"})
	require.NoError(t, err)
	assert.Equal(t, "fit th60-5.0.7.img into b", got)
	for _, bad := range []string{"", "a b", "a\rcycle", "-x", "a;b", "$(x)", "a|b", "ä", strings.Repeat("a", 300), "../x"} {
		_, err := fill("sum {file}", map[string]string{"file": bad})
		assert.ErrorContains(t, err, "cannot be part of a command", fmt.Sprintf("%q", bad))
	}
}
