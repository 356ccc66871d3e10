package netconf

import (
	"bufio"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/link"
	"verimorph/simfleet/calderpath"
)

// router is a simulated router that offers NETCONF.
func router(t *testing.T) device.Route {
	text, err := os.ReadFile("../../demo/configs/tern-rt1.xml")
	require.NoError(t, err)
	ln, err := net.Listen("tcp", "127.62.8.1:0")
	require.NoError(t, err)
	_ = ln.Close()
	b, err := calderpath.Open(calderpath.Spec{Name: "box-1", Model: "V1", Serial: "S7", Version: "7.4.7", Address: ln.Addr().String(), User: "hand", Config: string(text)}, t.TempDir(), 200, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	a := b.Access()
	return device.Route{Driver: &Driver{Name: "netconf"}, Target: device.Target{Address: a.Address, SignIns: []device.SignIn{{User: "hand", Password: a.Password}}, HostKey: a.HostKey}}
}

// A device that offers NETCONF and nothing else: its configuration is kept and put back, and every other verb is refused by name before anything
// is sent.
func TestDriver(t *testing.T) {
	route := router(t)
	c, err := route.Dial(t.Context())
	require.NoError(t, err)
	defer c.Close()
	data, proof, err := c.FetchPart(t.Context(), "running")
	require.NoError(t, err)
	assert.Equal(t, "read twice", proof)
	assert.Contains(t, string(data), "<router")
	changed := strings.Replace(string(data), "</router>", "<note>spare</note></router>", 1)
	asked := 0
	c.Before(func(ctx context.Context) error { asked++; return nil })
	if err := c.PutPart(t.Context(), "running", []byte(changed)); err == nil {
		again, _, err := c.FetchPart(t.Context(), "running")
		require.NoError(t, err)
		assert.Contains(t, string(again), "spare")
	} else {
		assert.Equal(t, device.Refused, device.KindOf(err), "the device's own no")
	}
	assert.Equal(t, 1, asked, "whoever may not write any more is asked first")
	c.Before(func(ctx context.Context) error { return fmt.Errorf("not now") })
	assert.ErrorContains(t, c.PutPart(t.Context(), "running", data), "not now")

	for what, do := range map[string]func() error{
		"install": func() error { return c.Install(t.Context(), "a", "b", nil) }, "unpack": func() error { return c.Unpack(t.Context(), "b", nil) }, "clone": func() error { return c.Clone(t.Context(), "b", nil) },
		"choose-slot": func() error { return c.ChooseSlot(t.Context(), "a", "") }, "choose-slot-once": func() error { return c.ChooseSlotOnce(t.Context(), "a") },
		"drain": func() error { return c.Drain(t.Context()) }, "undrain": func() error { return c.Undrain(t.Context()) },
		"power-cycle x": func() error { return c.PowerCycle(t.Context(), "x") }, "update x": func() error { return c.UpdateComponent(t.Context(), "x", "f", nil) }, "add licence x": func() error { return c.AddLicence(t.Context(), "x", "k") },
		"checksum": func() error { _, err := c.Checksum(t.Context(), "f"); return err }, "fetch f": func() error { return c.FetchImage(t.Context(), "u", "f", nil) }, "remove f": func() error { return c.RemoveFile(t.Context(), "f") },
		"try":   func() error { _, err := c.TryConfiguration(t.Context(), nil); return err },
		"saved": func() error { _, _, err := c.FetchPart(t.Context(), "saved"); return err }, "loader": func() error { return route.LoadSlot(t.Context(), "a") },
	} {
		assert.Equal(t, device.Lacking, device.KindOf(do()), what)
	}
	p := c.Profile()
	assert.NotEmpty(t, p.Lacks)
	assert.Equal(t, "xml", p.Part("running").Syntax)
	assert.Nil(t, p.Part("saved"))
}

func TestDialsThatCannotBe(t *testing.T) {
	route := router(t)
	wrong := route
	wrong.SignIns = []device.SignIn{{User: "hand", Password: "wrong"}}
	_, err := wrong.Dial(t.Context())
	assert.Equal(t, device.SignInRefused, device.KindOf(err))
	line := route
	line.Console = "127.0.0.1:1"
	_, err = line.Dial(t.Context())
	assert.Equal(t, device.Lacking, device.KindOf(err))
	nobody := device.Route{Target: route.Target}
	_, err = nobody.Dial(t.Context())
	assert.Equal(t, device.Lacking, device.KindOf(err))
}

// What the standard models tell is the portrait and a reading; the device restarts by the standard way.
func TestTheStandardModels(t *testing.T) {
	route := router(t)
	c, err := route.Dial(t.Context())
	require.NoError(t, err)
	defer c.Close()
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"Calderpath", "V1", "7.4.7"}, []string{p.Maker, p.Model, p.Version})
	assert.NotEmpty(t, p.Started)
	assert.Positive(t, p.UptimeSeconds)
	read, err := c.Readings(t.Context(), append(c.Profile().Readings, device.Reading{Name: "other"}))
	require.NoError(t, err)
	assert.Equal(t, verify.Set, read["interfaces-up"].Type)
	assert.Contains(t, read["interfaces-up"].Set, "port0")
	assert.Equal(t, verify.NotReadable, read["other"].Type)
	require.NoError(t, c.Save(t.Context()))
	c.Before(func(context.Context) error { return fmt.Errorf("not now") })
	assert.ErrorContains(t, c.Save(t.Context()), "not now")
	assert.ErrorContains(t, c.Restart(t.Context()), "not now")
	c.Before(nil)
	require.NoError(t, c.Restart(t.Context()))
}

// A server says its hello and answers each rpc with what answer makes of it.
type server struct {
	link.Link
	hello  string
	answer func(operation string) string
	mu     sync.Mutex
	heard  []string
	loses  int // how many sessions lose the rpc that comes together with the hello
}

func (s *server) Subsystem(context.Context, string, string) (*link.Stream, error) {
	inR, inW := io.Pipe()
	outR, outW := io.Pipe()
	go func() {
		defer outW.Close()
		said := make(chan struct{})
		go func() { defer close(said); _, _ = io.WriteString(outW, s.hello) }() // both sides speak first
		m := &messages{in: outW, out: bufio.NewReader(inR)}
		if _, err := m.read(); err != nil {
			return
		}
		<-said
		for {
			msg, err := m.read()
			if err != nil {
				return
			}
			var rpc struct {
				ID    string `xml:"message-id,attr"`
				Inner string `xml:",innerxml"`
			}
			if xml.Unmarshal(msg, &rpc) != nil {
				return
			}
			s.mu.Lock()
			lost := rpc.Inner == firstRPC && s.loses > 0
			if lost {
				s.loses--
			}
			if rpc.Inner != firstRPC {
				s.heard = append(s.heard, rpc.Inner)
			}
			s.mu.Unlock()
			if lost {
				continue
			}
			if m.write(fmt.Sprintf(`<rpc-reply message-id="%s" xmlns="%s">%s</rpc-reply>`, rpc.ID, netconfBase, s.answer(rpc.Inner))) != nil {
				return
			}
		}
	}()
	return &link.Stream{In: inW, Out: outR, Close: func() { _ = inW.Close(); _ = outR.Close() }}, nil
}

func helloOf(capabilities ...string) string {
	text := `<hello xmlns="` + netconfBase + `"><capabilities>`
	for _, c := range capabilities {
		text += "<capability>" + c + "</capability>"
	}
	return text + "</capabilities></hello>" + endOfMessage
}

// datastores are a running and a candidate datastore. refuse says no to what contains a text.
func datastores(refuse, no string) func(string) string {
	running, candidate := "<old/><router/>", "<old/><router/>"
	config := regexp.MustCompile(`<config>(.*)</config>`)
	return func(op string) string {
		switch {
		case refuse != "" && strings.Contains(op, refuse):
			return no
		case strings.HasPrefix(op, "<get-config><source><running/>"):
			return "<data>" + running + "</data>"
		case strings.HasPrefix(op, "<get-config>"):
			return "<data>" + candidate + "</data>"
		case strings.HasPrefix(op, "<discard"):
			candidate = running
		case strings.Contains(op, `operation="delete"`):
			candidate = strings.Replace(candidate, "<old/>", "", 1)
		case strings.HasPrefix(op, "<edit-config>"):
			candidate = "<old/>" + config.FindStringSubmatch(op)[1] // it keeps what it is not given
		case strings.HasPrefix(op, "<commit>"):
			running = candidate
		}
		return "<ok/>"
	}
}

// said is what was asked for beside reading.
func (s *server) said() (out []string) {
	for _, h := range s.heard {
		if !strings.HasPrefix(h, "<get-config>") {
			out = append(out, h)
		}
	}
	return out
}

// Where the device has a candidate datastore, a configuration goes there, is committed so that the device takes it back by itself, and confirmed over a session of its own. What
// the device keeps though it was not given it is deleted.
func TestAConfigurationIsConfirmed(t *testing.T) {
	s := &server{hello: helloOf(base10, candidateStore, confirmedCommit+"?x=1"), answer: datastores("", "")}
	require.NoError(t, Replace(t.Context(), s, "r1", "running", []byte("<router><a/></router>")))
	text := strings.Join(s.heard, "\n")
	name := regexp.MustCompile(`<persist>(verimorph-\w+)</persist>`).FindStringSubmatch(text)
	require.NotNil(t, name, text)
	assert.Equal(t, []string{"<lock><target><running/></target></lock>", "<lock><target><candidate/></target></lock>", "<discard-changes/>",
		"<edit-config><target><candidate/></target><default-operation>replace</default-operation><config><router><a/></router></config></edit-config>",
		`<edit-config><target><candidate/></target><default-operation>none</default-operation><config><old xmlns="" xmlns:nc="` + netconfBase + `" nc:operation="delete"/></config></edit-config>`,
		"<commit><confirmed/><confirm-timeout>120</confirm-timeout><persist>" + name[1] + "</persist></commit>",
		"<unlock><target><running/></target></unlock>", "<unlock><target><candidate/></target></unlock>", "<close-session/>",
		"<commit><persist-id>" + name[1] + "</persist-id></commit>", "<close-session/>"}, s.said())

	no := `<rpc-error><error-type>application</error-type><error-tag>invalid-value</error-tag><error-severity>error</error-severity><error-path>/router</error-path><error-message>no</error-message></rpc-error>`
	for _, refuse := range []string{"<default-operation>replace", `operation="delete"`, "<commit>"} {
		s = &server{hello: helloOf(base10, candidateStore, confirmedCommit), answer: datastores(refuse, no)}
		err := Replace(t.Context(), s, "r1", "running", []byte("<router><a/></router>"))
		assert.Equal(t, device.Refused, device.KindOf(err), refuse)
		assert.ErrorContains(t, err, "invalid-value: no, at /router", refuse)
		assert.Equal(t, refuse == "<commit>", strings.Contains(strings.Join(s.heard, "\n"), "<commit>"), "nothing is committed that was refused")
		assert.Equal(t, 2, strings.Count(strings.Join(s.heard, "\n"), "<discard-changes/>"), "nothing of ours stays in the candidate")
	}
	s = &server{hello: helloOf(base10, candidateStore), answer: datastores("<commit/>", "<ok/>")}
	assert.ErrorContains(t, Replace(t.Context(), s, "r1", "running", []byte("<router><a/></router>")), "its running configuration is as it was before")

	s = &server{hello: helloOf(base10, candidateStore, confirmedCommit), answer: datastores("<persist-id>", no)}
	assert.ErrorContains(t, Replace(t.Context(), s, "r1", "running", []byte("<router/>")), "was not confirmed, so the device takes the one before back within 120 s")

	s = &server{hello: helloOf(base10, writableRunning), answer: func(op string) string {
		if strings.HasPrefix(op, "<lock>") {
			return `<rpc-error><error-tag>lock-denied</error-tag><error-severity>error</error-severity><error-message>session 4 has it</error-message></rpc-error>`
		}
		return "<ok/>"
	}}
	err := Replace(t.Context(), s, "r1", "running", []byte("<router/>"))
	assert.Equal(t, device.NotReady, device.KindOf(err), "that passes")
	assert.NotContains(t, strings.Join(s.heard, "\n"), "edit-config")
	for name, c := range map[string]struct{ id, sessions, says string }{
		"told":             {"4", "<session><session-id>4</session-id><username>mira</username><source-host>10.0.0.5</source-host><login-time>2026-01-02T03:04:05Z</login-time></session>", "session 4 has the lock: mira from 10.0.0.5, since 2026-01-02T03:04:05Z"},
		"half told":        {"4", "<session><session-id>3</session-id><username>otto</username></session><session><session-id>4</session-id></session>", "session 4 has the lock: a user that it does not name"},
		"not NETCONF":      {"0", "", "somebody has the lock who does not speak NETCONF"},
		"gone meanwhile":   {"4", "<session><session-id>3</session-id><username>otto</username></session>", "lock-denied: in the way"},
		"without a number": {"", "<session><session-id/><username>otto</username></session>", "lock-denied: in the way"},
	} {
		s := &server{hello: helloOf(base10, writableRunning), answer: func(op string) string {
			if strings.HasPrefix(op, "<get>") {
				return `<data><netconf-state xmlns="` + ietfMonitoring + `"><sessions>` + c.sessions + `</sessions></netconf-state></data>`
			}
			return `<rpc-error><error-tag>lock-denied</error-tag><error-severity>error</error-severity><error-message>in the way</error-message><error-info><session-id>` + c.id + `</session-id></error-info></rpc-error>`
		}}
		err := Replace(t.Context(), s, "r1", "running", []byte("<router/>"))
		assert.ErrorContains(t, err, c.says, name)
		assert.NotContains(t, err.Error(), "otto", name)
		assert.Equal(t, device.NotReady, device.KindOf(err), name)
	}
	s = &server{hello: helloOf(base10, startupStore), answer: func(string) string {
		return `<rpc-error><error-tag>partial-operation</error-tag><error-severity>warning</error-severity></rpc-error><ok/>`
	}}
	require.NoError(t, save(t.Context(), s, "r1"), "a warning is no refusal")
	assert.Contains(t, strings.Join(s.heard, "\n"), "<copy-config>")
}

// A device that loses what comes together with the hello is asked over another session; nothing but the small first request is said twice.
func TestFirstRequestIsLost(t *testing.T) {
	s := &server{hello: helloOf(base10), loses: 1, answer: func(string) string { return "<data><a/></data>" }}
	data, err := Fetch(t.Context(), s, "r1", "running")
	require.NoError(t, err)
	assert.Equal(t, "<a/>\n", string(data))
	assert.Equal(t, []string{"<get-config><source><running/></source></get-config>", "<close-session/>"}, s.heard)

	s.loses, s.heard = 2, nil
	ctx, cancel := context.WithTimeout(t.Context(), firstWaits+2*firstPause)
	defer cancel()
	_, err = Fetch(ctx, s, "r1", "running")
	assert.Equal(t, device.Silent, device.KindOf(err), "%v", err)
	assert.Empty(t, s.heard)
}

// Hostile and broken peers: each gets a clear error.
func TestPeersThatAreNone(t *testing.T) {
	for name, c := range map[string]struct {
		hello, answer, says string
		kind                device.ErrorKind
	}{
		"no hello":          {"Welcome\n", "", "no hello", device.Lost},
		"another version":   {helloOf("urn:other"), "", "speaks no NETCONF that is known here", device.NotUnderstood},
		"a document type":   {`<!DOCTYPE x [<!ENTITY a "b">]>` + helloOf(base10), "", "it has a document type", device.NotUnderstood},
		"no data":           {helloOf(base10), "<ok/>", "the reply has no data", device.NotUnderstood},
		"an unknown entity": {helloOf(base10), "<data>&bomb;</data>", "no XML that is taken", device.NotUnderstood},
		"half an element":   {helloOf(base10), "<data>", "no XML that is taken", device.NotUnderstood},
	} {
		s := &server{hello: c.hello, answer: func(string) string { return c.answer }}
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		if name == "no hello" {
			cancel()
			ctx, cancel = context.WithTimeout(t.Context(), time.Second)
		}
		_, err := Fetch(ctx, &ended{s, name == "no hello"}, "r1", "running")
		cancel()
		assert.ErrorContains(t, err, c.says, name)
		assert.Equal(t, c.kind, device.KindOf(err), name)
	}
}

// ended is a server whose session ends behind its hello.
type ended struct {
	*server
	at bool
}

func (e *ended) Subsystem(ctx context.Context, name, doing string) (*link.Stream, error) {
	if !e.at {
		return e.server.Subsystem(ctx, name, doing)
	}
	return &link.Stream{In: io.Discard, Out: strings.NewReader(e.hello), Close: func() {}}, nil
}
