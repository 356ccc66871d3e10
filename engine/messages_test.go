package engine

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/store"
	"verimorph/syslog"
)

// A device's own messages are part of the journal of its change; trouble that nobody foretold is a doubt in its verdict. What comes from elsewhere, whoever it says
// it is of, is not.
func TestMessagesOfADevice(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		said    []syslog.Message
		from    string // "": the device
		relay   bool
		verdict string
		says    string
	}{
		"an error":             {said: []syslog.Message{{Severity: syslog.Error, App: "routed", Text: "neighbour lost"}}, verdict: verify.Degraded, says: "1 of 1 messages are errors that nobody expected"},
		"no error":             {said: []syslog.Message{{Severity: syslog.Warning, Text: "it is warm"}}, verdict: verify.Pass, says: "1 messages came during the change, none of them an error"},
		"an error foretold":    {said: []syslog.Message{{Severity: syslog.Critical, App: "tabled", Text: "table 7 is rebuilt"}}, verdict: verify.Pass, says: "1 errors were expected"},
		"from elsewhere":       {said: []syslog.Message{{Severity: syslog.Error, Host: "box", Text: "neighbour lost"}}, from: "127.0.0.9", verdict: verify.Pass},
		"through a relay":      {said: []syslog.Message{{Severity: syslog.Error, Host: "box.harbour.example", Text: "neighbour lost"}}, from: "127.0.0.9", relay: true, verdict: verify.Degraded, says: "neighbour lost"},
		"another of the relay": {said: []syslog.Message{{Severity: syslog.Error, Host: "other", Text: "neighbour lost"}}, from: "127.0.0.9", relay: true, verdict: verify.Pass},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newRig(t, nil)
			cat, found := catalog.ReadDir(os.DirFS("../demo/catalog"))
			require.Empty(t, found.Errors())
			cat.Family("th").Messages = []catalog.Message{{Match: regexp.MustCompile(`^table \d+ is rebuilt$`), Text: "tables are rebuilt at the first start"}}
			r.Engine.Catalogue = func(context.Context) (*catalog.Catalogue, error) { return cat, nil }
			if c.relay {
				r.Engine.Relays = []netip.Prefix{netip.MustParsePrefix("127.0.0.9/32")}
			}
			from := netip.MustParseAddrPort(r.d.Address).Addr()
			if c.from != "" {
				from = netip.MustParseAddr(c.from)
			}
			var once sync.Once
			r.Engine.strike = func(w *run, s *store.Step, _ string) {
				if s.Plan.Kind == change.Restart {
					once.Do(func() {
						for _, m := range c.said {
							r.HeardSyslog(from, m)
						}
					})
				}
			}
			r.start()
			id := r.begin("5.0.7", "5.4.2")
			done := r.awaitEnd(id)
			require.Equal(t, change.Done, done.State, failure(done))
			v := verdictOf(t, done)
			assert.Equal(t, c.verdict, v.Verdict, failure(done))
			said := strings.Contains(r.journal(id), "says by syslog")
			assert.Equal(t, c.says != "", said)
			if c.says != "" {
				assert.Contains(t, resultOf(v, readMessages).Evidence, c.says)
			}
		})
	}
}

// A device that floods does not fill the records, and nobody waits for it.
func TestAFloodOfMessages(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	from := netip.MustParseAddrPort(r.d.Address).Addr()
	id := r.begin("5.0.7", "5.4.2")
	m := r.Engine.messages
	_, err := r.Store.Pool.Exec(t.Context(), `UPDATE changes SET started_at = now() WHERE id = $1`, id)
	require.NoError(t, err)
	for range messagesMost + 500 {
		r.HeardSyslog(from, syslog.Message{Severity: syslog.Info, Text: "again"})
	}
	r.HeardSyslog(from, syslog.Message{Severity: syslog.Error, Text: "a fan stands still"})
	ctx, cancel := context.WithCancel(t.Context())
	go m.keep(ctx)
	defer cancel()
	require.True(t, m.settle(t.Context()))
	said, err := r.Store.MessagesOf(t.Context(), id, 10)
	require.NoError(t, err)
	assert.Equal(t, messagesMost+1, said.Heard, "harmless messages do not crowd an error out")
	require.Len(t, said.Texts, 1)
	assert.Contains(t, said.Texts[0], "a fan stands still")
	assert.Zero(t, said.Lost)
	for range 3 * messagesWait {
		r.HeardSyslog(from, syslog.Message{Severity: syslog.Error, Text: "and again"})
	}
	require.True(t, m.settle(t.Context()))
	r.HeardSyslog(from, syslog.Message{Severity: syslog.Info, Text: "later"})
	require.True(t, m.settle(t.Context()))
	said, err = r.Store.MessagesOf(t.Context(), id, 10)
	require.NoError(t, err)
	assert.Positive(t, said.Lost, "that some were dropped stands in the journal")
	assert.LessOrEqual(t, said.Heard, 2*messagesMost)
}

// Every line of the audit goes to the collector, in order, also those that were written while it was away; none of those before somebody wanted it.
func TestTheAuditIsForwarded(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	audit := func(n int) {
		require.NoError(t, r.Store.Audit(t.Context(), access.Person("mate", ""), "tested", "box", fmt.Sprint("line ", n)))
	}
	audit(0)
	var mu sync.Mutex
	var heard []string
	hear := func(_ netip.Addr, m syslog.Message) {
		mu.Lock()
		defer mu.Unlock()
		heard = append(heard, fmt.Sprint(m.Facility, " ", m.Severity, " ", m.ID, " ", m.Text))
	}
	lines := func() []string { mu.Lock(); defer mu.Unlock(); return append([]string(nil), heard...) }
	l, err := syslog.Listen(syslog.Config{TCP: "127.0.0.1:0", Hear: hear, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	at := l.TCP
	r.Engine.Collector, err = syslog.NewSender("tcp://"+at, nil)
	require.NoError(t, err)
	defer r.Engine.Collector.Close()
	send := func() error { _, err := r.Engine.forwardSome(t.Context()); return err }
	require.NoError(t, send())
	audit(1)
	r.Engine.notify(t.Context(), Notice{Event: "backup.failed", Device: "box", Text: "it did not answer"})
	require.NoError(t, send())
	require.Eventually(t, func() bool { return len(lines()) == 2 }, 5*time.Second, 20*time.Millisecond)
	l.Close()
	audit(2)
	assert.Error(t, send())
	audit(3)
	// A line whose transaction has not ended yet has a lower number than one that is there already: it must not be passed over.
	open, err := r.Store.Pool.Begin(t.Context())
	require.NoError(t, err)
	_, err = open.Exec(t.Context(), `INSERT INTO audit (who, event, detail) VALUES ('slow', 'tested', 'line 4')`)
	require.NoError(t, err)
	audit(5)
	l, err = syslog.Listen(syslog.Config{TCP: at, Hear: hear, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, send())
	require.NoError(t, open.Commit(t.Context()))
	require.NoError(t, send())
	want := []string{"13 notice audit mate: tested, box, line 1", "13 warning alarm the service: alarm, box, backup.failed: it did not answer", "13 notice audit mate: tested, box, line 2", "13 notice audit mate: tested, box, line 3", "13 notice audit slow: tested, line 4", "13 notice audit mate: tested, box, line 5"}
	assert.Eventually(t, func() bool { return len(lines()) >= len(want) }, 5*time.Second, 20*time.Millisecond)
	for i := range want {
		assert.Contains(t, lines(), want[i])
	}
	assert.NotContains(t, strings.Join(lines(), "\n"), "line 0")
}
