package syslog

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"
	"verimorph/internal/selfsigned"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

// The examples of RFC 5424, section 6.5, and what devices really send.
func TestParse(t *testing.T) {
	for line, want := range map[string]Message{
		"<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 - \ufeff'su root' failed for lonvick on /dev/pts/8": {Facility: 4, Severity: Critical, At: time.Date(2003, 10, 11, 22, 14, 15, 3e6, time.UTC), Host: "mymachine.example.com", App: "su", ID: "ID47", Text: "'su root' failed for lonvick on /dev/pts/8"},
		`<165>1 2003-10-11T22:14:15.003Z m evntslog - ID47 [exampleSDID@32473 iut="3" eventSource="Appli\"cation" eventID="1011"][b@1 c="\]"] An entry`: {Facility: 20, Severity: Notice, At: time.Date(2003, 10, 11, 22, 14, 15, 3e6, time.UTC), Host: "m", App: "evntslog", ID: "ID47",
			Data: map[string]map[string]string{"exampleSDID@32473": {"iut": "3", "eventSource": `Appli"cation`, "eventID": "1011"}, "b@1": {"c": "]"}}, Text: "An entry"},
		"<0>1 - - - - - -": {},
		"<34>Oct 11 22:14:15 mymachine su: 'su root' failed":     {Facility: 4, Severity: Critical, At: time.Date(2025, 10, 11, 22, 14, 15, 0, time.UTC), Host: "mymachine", App: "su", Text: "'su root' failed"},
		"<13>Mar  2 11:59:01 fw1 routed[77]: neighbour lost\n":   {Facility: 1, Severity: Notice, At: time.Date(2026, 3, 2, 11, 59, 1, 0, time.UTC), Host: "fw1", App: "routed", Process: "77", Text: "neighbour lost"},
		"<11>2026-03-02T11:59:01+01:00 fw1 kern: it is hot":      {Facility: 1, Severity: Error, At: time.Date(2026, 3, 2, 11, 59, 1, 0, time.FixedZone("", 3600)), Host: "fw1", App: "kern", Text: "it is hot"},
		"<11>something: without a time":                          {Facility: 1, Severity: Error, App: "something", Text: "without a time"},
		"no head at all":                                         {Facility: 1, Severity: Notice, Text: "no head at all"},
		"<192>too much":                                          {Facility: 1, Severity: Notice, Text: "<192>too much"},
		"<007>a zero":                                            {Facility: 1, Severity: Notice, Text: "<007>a zero"},
		"<11>1 2026-99-99T00:00:00Z h a - - - text":              {Facility: 1, Severity: Error, Text: "1 2026-99-99T00:00:00Z h a - - - text"},
		"<11>1 - h a - - [open text":                             {Facility: 1, Severity: Error, Text: "1 - h a - - [open text"},
		"<11>a\x00b\x1b[31mred\xff":                              {Facility: 1, Severity: Error, Text: "ab[31mred\uFFFD"},
		"<15>Dec 31 23:59:59 h app: at the turn of the year":     {Facility: 1, Severity: Debug, At: time.Date(2025, 12, 31, 23, 59, 59, 0, time.UTC), Host: "h", App: "app", Text: "at the turn of the year"},
		"<15>Mar 31 23:59:59 h app: a clock that is a bit ahead": {Facility: 1, Severity: Debug, At: time.Date(2026, 3, 31, 23, 59, 59, 0, time.UTC), Host: "h", App: "app", Text: "a clock that is a bit ahead"},
	} {
		got := Parse([]byte(line), now)
		assert.True(t, want.At.Equal(got.At), "%s: %s", line, got.At)
		want.At, got.At = time.Time{}, time.Time{}
		assert.Equal(t, want, got, line)
	}
	assert.Len(t, Parse([]byte(strings.Repeat("a", 2*MostBytes)), now).Text, MostBytes)
}

// What is written is read as the same again.
func TestFormat(t *testing.T) {
	m := Message{Facility: Audit, Severity: Warning, At: now, Host: "a host", App: "verimorph", Process: "1", ID: "device added", Data: map[string]map[string]string{"change@32473": {"who": `a "b" \ ]`}}, Text: "two\nlines"}
	got := Parse([]byte(m.Format()), now)
	m.Host, m.ID, m.Text = "ahost", "deviceadded", "two lines"
	assert.Equal(t, m, got)
	assert.Equal(t, "<0>1 - - - - - - ", (&Message{}).Format())
	assert.Equal(t, "unknown", Severity(9).String())
	assert.Equal(t, "error", Error.String())
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("<34>1 2003-10-11T22:14:15.003Z m su - ID47 [a b=\"c\"] x"))
	f.Add([]byte("<34>Oct 11 22:14:15 mymachine su[1]: 'su root' failed"))
	f.Fuzz(func(t *testing.T, line []byte) {
		m := Parse(line, now)
		if m.Facility < 0 || m.Facility > 23 || m.Severity < 0 || m.Severity > Debug || strings.ContainsRune(m.Text, 0) {
			t.Fatal(m)
		}
		again := Parse([]byte(m.Format()), now)
		if again.Severity != m.Severity || again.Facility != m.Facility {
			t.Fatal(m, again)
		}
	})
}

func FuzzFrame(f *testing.F) {
	f.Add([]byte("5 abcde3 abc"))
	f.Add([]byte("a line\nanother\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		in := bufio.NewReader(bytes.NewReader(data))
		for n := 0; ; n++ {
			line, err := frame(in)
			if len(line) > MostBytes || n > len(data)+1 {
				t.Fatal("it does not end")
			}
			if err != nil {
				return
			}
		}
	})
}

// ear keeps what was heard.
type ear struct {
	mu  sync.Mutex
	all []string
}

func (e *ear) hear(from netip.Addr, m Message) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.all = append(e.all, from.String()+" "+m.Text)
}

func (e *ear) heard() []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return append([]string(nil), e.all...)
}

func certificate(t *testing.T) (tls.Certificate, *x509.CertPool) {
	c, err := selfsigned.New("peer")
	require.NoError(t, err)
	return c, selfsigned.Pool(c)
}

func listen(t *testing.T) (*Listener, *ear, *x509.CertPool) {
	e := &ear{}
	cert, pool := certificate(t)
	l, err := Listen(Config{UDP: "127.0.0.1:0", TCP: "127.0.0.1:0", TLS: "127.0.0.1:0", Certificate: &cert, Hear: e.hear, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l, e, pool
}

// What is sent in each way arrives, also after the collector was started anew.
func TestSendAndListen(t *testing.T) {
	l, e, pool := listen(t)
	for scheme, at := range map[string]string{"udp": l.UDP, "tcp": l.TCP, "tls": l.TLS} {
		s, err := NewSender(scheme+"://"+at, &tls.Config{RootCAs: pool})
		require.NoError(t, err)
		for i := range 3 {
			require.NoError(t, s.Send(t.Context(), &Message{Severity: Info, Text: fmt.Sprint(scheme, i)}))
		}
		s.Close()
		require.NoError(t, s.Send(t.Context(), &Message{Text: scheme + "again"}))
		s.Close()
	}
	want := []string{}
	for _, scheme := range []string{"udp", "tcp", "tls"} {
		for _, n := range []string{"0", "1", "2", "again"} {
			want = append(want, "127.0.0.1 "+scheme+n)
		}
	}
	assert.Eventually(t, func() bool { return len(e.heard()) == len(want) }, 5*time.Second, 10*time.Millisecond)
	assert.ElementsMatch(t, want, e.heard())
	stranger, err := NewSender("tls://"+l.TLS, nil)
	require.NoError(t, err)
	assert.ErrorContains(t, stranger.Send(t.Context(), &Message{}), "certificate")
	for _, bad := range []string{"", "host:514", "http://host:80", "udp://host", "udp://host:1/x"} {
		_, err := NewSender(bad, nil)
		assert.Error(t, err, bad)
	}
}

// A collector that goes away is noticed with the message that cannot be sent, and connected to again.
func TestCollectorsThatGoAway(t *testing.T) {
	l, _, _ := listen(t)
	at := l.TCP
	s, err := NewSender("tcp://"+at, nil)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Send(t.Context(), &Message{Text: "one"}))
	l.Close()
	assert.ErrorContains(t, s.Send(t.Context(), &Message{Text: "two"}), "syslog collector "+at)
	e := &ear{}
	again, err := Listen(Config{TCP: at, Hear: e.hear, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer again.Close()
	require.NoError(t, s.Send(t.Context(), &Message{Text: "two"}))
	assert.Eventually(t, func() bool { return len(e.heard()) == 1 }, 5*time.Second, 10*time.Millisecond)
}

// Every framing that senders use is heard; one that makes no sense ends its connection and no other.
func TestStreams(t *testing.T) {
	l, e, _ := listen(t)
	send := func(text string) {
		conn, err := (&net.Dialer{}).DialContext(context.Background(), "tcp", l.TCP)
		require.NoError(t, err)
		defer conn.Close()
		_, err = conn.Write([]byte(text))
		require.NoError(t, err)
	}
	send("7 <11>one8 <11>four")
	send("<11>two\n<11>three\x00")
	send("99999999999 x")
	send("4x ")
	send("\n\n")
	send("70000 " + strings.Repeat("a", 70000) + "7 <11>end")
	want := []string{"127.0.0.1 one", "127.0.0.1 four", "127.0.0.1 two", "127.0.0.1 three", "127.0.0.1 " + strings.Repeat("a", MostBytes), "127.0.0.1 end"}
	assert.Eventually(t, func() bool { return len(e.heard()) == len(want) }, 5*time.Second, 10*time.Millisecond)
	assert.ElementsMatch(t, want, e.heard())
}
