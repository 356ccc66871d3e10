package peers

import (
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/syslog"
)

// logger sends in both forms and over both transports, and what it says is heard with its severity, program and text.
func TestLogger(t *testing.T) {
	var mu sync.Mutex
	var heard []string
	l, err := syslog.Listen(syslog.Config{UDP: "127.0.0.1:0", TCP: "127.0.0.1:0", Now: time.Now, Log: slog.New(slog.DiscardHandler), Hear: func(from netip.Addr, m syslog.Message) {
		mu.Lock()
		defer mu.Unlock()
		ago := time.Since(m.At)
		heard = append(heard, fmt.Sprint(from, " ", m.Facility, " ", m.Severity, " ", m.App, " ", m.Text, " ", m.Host != "", " ", ago < time.Minute && ago > -time.Minute))
	}})
	require.NoError(t, err)
	defer l.Close()
	logger := program(t, "logger", "bsdutils")
	n := 0
	for _, form := range []string{"--rfc5424", "--rfc3164"} {
		for _, way := range [][]string{{"-d", "-P", portOf(t, l.UDP)}, {"-T", "-P", portOf(t, l.TCP)}, {"-T", "--octet-count", "-P", portOf(t, l.TCP)}} {
			out, err := run(t, logger, append(way, form, "-n", "127.0.0.1", "-p", "local3.err", "-t", "routed", "neighbour lost")...)
			require.NoError(t, err, out)
			n++
		}
	}
	lines := func() []string { mu.Lock(); defer mu.Unlock(); return append([]string(nil), heard...) }
	assert.Eventually(t, func() bool { return len(lines()) == n }, 10*time.Second, 20*time.Millisecond, "%v", lines())
	for _, h := range lines() {
		assert.Equal(t, "127.0.0.1 19 error routed neighbour lost true true", h)
	}
}

// What we send arrives in rsyslog as what it was, over UDP and TCP.
func TestRsyslog(t *testing.T) {
	dir := t.TempDir()
	udp, tcp, file := free(t), free(t), filepath.Join(dir, "heard")
	conf := write(t, filepath.Join(dir, "rsyslog.conf"), `
module(load="imudp")
module(load="imtcp")
global(workDirectory="%s")
template(name="all" type="string" string="%%syslogfacility%%|%%syslogseverity%%|%%app-name%%|%%msgid%%|%%structured-data%%|%%msg%%\n")
input(type="imudp" address="127.0.0.1" port="%s")
input(type="imtcp" address="127.0.0.1" port="%s")
action(type="omfile" file="%s" template="all")
`, dir, portOf(t, udp), portOf(t, tcp), file)
	daemon(t, nil, program(t, "rsyslogd", "rsyslog"), "-n", "-f", conf, "-i", filepath.Join(dir, "pid"))
	answers(t, tcp)
	for scheme, at := range map[string]string{"udp": udp, "tcp": tcp} {
		s, err := syslog.NewSender(scheme+"://"+at, nil)
		require.NoError(t, err)
		for i := range 2 {
			require.NoError(t, s.Send(t.Context(), &syslog.Message{Facility: syslog.Audit, Severity: syslog.Warning, At: time.Now(), Host: "here", App: "verimorphd", ID: "alarm", Text: fmt.Sprintf("over %s, %d", scheme, i),
				Data: map[string]map[string]string{"change@32473": {"who": `a "b" ]`}}}))
		}
		s.Close()
	}
	var got string
	assert.Eventually(t, func() bool {
		text, _ := os.ReadFile(file)
		got = string(text)
		return strings.Count(got, "verimorphd") == 4
	}, 20*time.Second, 100*time.Millisecond)
	for _, want := range []string{"over udp, 0", "over udp, 1", "over tcp, 0", "over tcp, 1"} {
		assert.Contains(t, got, `13|4|verimorphd|alarm|[change@32473 who="a \"b\" \]"]|`+want)
	}
}
