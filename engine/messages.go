package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/verify"
	"verimorph/store"
	"verimorph/syslog"
)

// Messages: what devices say by themselves, by syslog and as traps of SNMP. Those of a device that a change works on become part of its journal, and
// trouble in them that nobody foretold is a doubt in its verdict. What comes from elsewhere is nobody's and is dropped.

// A Said is a message of a device.
type Said struct {
	From   netip.Addr
	Host   string // that the message names; it counts only from a relay
	By     string // syslog, SNMP, or the protocol of its connection
	App    string // the program on the device that says it; "" where it does not say
	Bad    bool   // it reports trouble
	Text   string
	Weight string        // its severity in a word
	kept   chan struct{} // closed when all that was heard before is kept; nil but for [messages.settle]
	Change int64         // that works on the device, where that is known: it came over its connection; 0: it is found by where it came from
}

// Bounds: messages that wait to be kept, how often they are kept, and how many lines a change gets from its device in one process, of trouble and of
// everything else apart: what is harmless must not crowd trouble out.
const (
	messagesWait = 4096
	messagesKept = 250 * time.Millisecond
	messagesMost = 1000

	messagesSettle = 3 * time.Second // how long a verdict waits for those that were heard before
)

// messages are those that were heard and not kept yet.
type messages struct {
	e       *Engine
	in      chan Said
	dropped atomic.Int64

	counts map[int64]*lineCount // by change; only keep has them
}

// lineCount is how many lines of its device a change has got.
type lineCount struct{ trouble, other int }

// Heard takes a message. It never waits: when too many come at once, the rest is counted and dropped.
func (e *Engine) Heard(s Said) {
	select {
	case e.messages.in <- s:
	default:
		e.messages.dropped.Add(1)
	}
}

// HeardSyslog takes a message of syslog. From error on it is trouble.
func (e *Engine) HeardSyslog(from netip.Addr, m syslog.Message) {
	e.Heard(Said{From: from, Host: m.Host, By: "syslog", App: m.App, Bad: m.Severity <= syslog.Error, Text: m.Text, Weight: m.Severity.String()})
}

// keep keeps what is heard, until ctx ends.
func (m *messages) keep(ctx context.Context) {
	for {
		var all []Said
		select {
		case s := <-m.in:
			all = append(all, s)
		case <-ctx.Done():
			return
		}
		_ = pause(ctx, messagesKept)
		for len(m.in) > 0 && len(all) < messagesWait {
			all = append(all, <-m.in)
		}
		// Without the records they wait; what comes meanwhile waits behind them, or is counted as dropped.
		for err := m.assign(ctx, all); err != nil && ctx.Err() == nil; err = m.assign(ctx, all) {
			m.e.Log.Warn("messages of devices cannot be kept; it is tried again", "messages", len(all), "err", err)
			_ = pause(ctx, time.Second)
		}
		for _, s := range all {
			if s.kept != nil {
				close(s.kept)
			}
		}
	}
}

// settle waits until what was heard so far is kept, so that a verdict knows it; not for long, since nobody fails because of messages. It
// reports whether it is kept.
func (m *messages) settle(ctx context.Context) bool {
	kept, late := make(chan struct{}), time.After(messagesSettle)
	select {
	case m.in <- Said{kept: kept}:
	case <-late:
		return false
	}
	select {
	case <-kept:
		return true
	case <-ctx.Done():
	case <-late:
	}
	return false
}

// assign writes messages into the journals of the changes that work on their devices.
func (m *messages) assign(ctx context.Context, all []Said) error {
	working, err := m.e.Store.DevicesAtWork(ctx)
	if err != nil || len(working) == 0 {
		return err
	}
	var cat *catalog.Catalogue
	if m.e.Catalogue != nil {
		if cat, err = m.e.Catalogue(ctx); err != nil {
			return err
		}
	}
	now := m.e.now()
	var lines []store.SaidLine
	dropped := m.dropped.Load()
	if dropped > 0 { // nobody knows whose they were
		m.e.Log.Warn("more messages of devices came than can be kept", "dropped", dropped)
		for _, w := range working {
			lines = append(lines, store.SaidLine{ChangeID: w.ChangeID, At: now, Event: store.DeviceLost,
				Detail: fmt.Sprintf("%d messages of devices were dropped: they came faster than they could be kept", dropped)})
		}
	}
	for _, s := range all {
		w := m.e.whose(s, working)
		if w == nil || s.kept != nil {
			continue
		}
		text := strings.TrimPrefix(s.App+": "+s.Text, ": ")
		line := store.SaidLine{ChangeID: w.ChangeID, At: now, Event: store.DeviceSaid, Detail: fmt.Sprintf("%s says by %s: %s: %.1000s", w.Device,
			s.By, s.Weight, text)}
		if s.Bad {
			line.Event = store.DeviceError
			if why, ok := foretold(cat, w, s.Text); ok {
				line.Event, line.Detail = store.DeviceForetold, line.Detail+"; expected: "+why
			}
		}
		lines = append(lines, line)
	}
	if len(lines) > 0 {
		if err := m.e.Store.KeepMessages(ctx, m.fitting(lines)); err != nil {
			return err
		}
	}
	m.dropped.Add(-dropped)
	for _, l := range lines {
		m.count(l)
	}
	m.forget(working)
	return nil
}

// fitting are the lines that journals may still get: a device that floods is not let fill the records.
func (m *messages) fitting(lines []store.SaidLine) (out []store.SaidLine) {
	more := map[int64]*lineCount{}
	for _, l := range lines {
		n := more[l.ChangeID]
		if n == nil {
			n = &lineCount{}
			if c := m.counts[l.ChangeID]; c != nil {
				*n = *c
			}
			more[l.ChangeID] = n
		}
		if n.add(l.Event) <= messagesMost {
			out = append(out, l)
		}
	}
	return out
}

// add counts a line, and returns how many of its sort there are.
func (n *lineCount) add(event string) int {
	if event == store.DeviceError || event == store.DeviceLost {
		n.trouble++
		return n.trouble
	}
	n.other++
	return n.other
}

// count counts a line that was kept, or had no room any more.
func (m *messages) count(l store.SaidLine) {
	if m.counts[l.ChangeID] == nil {
		m.counts[l.ChangeID] = &lineCount{}
	}
	m.counts[l.ChangeID].add(l.Event)
}

// forget forgets the counts of changes that are over.
func (m *messages) forget(working []store.AtWork) {
	for id := range m.counts {
		if !slices.ContainsFunc(working, func(w store.AtWork) bool { return w.ChangeID == id }) {
			delete(m.counts, id)
		}
	}
}

// whose is the device that a message is of: by the address that it came from, or where that is a relay by the name that it gives; nil when there is none, or
// more than one.
func (e *Engine) whose(s Said, working []store.AtWork) *store.AtWork {
	relay := slices.ContainsFunc(e.Relays, func(p netip.Prefix) bool { return p.Contains(s.From) })
	var found *store.AtWork
	for i := range working {
		w := &working[i]
		mine := false
		if s.Change != 0 {
			mine = w.ChangeID == s.Change
		} else if relay {
			host, _, _ := strings.Cut(s.Host, ".")
			mine = s.Host != "" && (strings.EqualFold(s.Host, w.Device) || strings.EqualFold(host,
				w.Device) || w.Name != nil && (strings.EqualFold(s.Host, *w.Name) || strings.EqualFold(host, *w.Name)))
		} else if host, _, err := net.SplitHostPort(w.Address); err == nil {
			at, err := netip.ParseAddr(host)
			mine = err == nil && at.Unmap() == s.From
		}
		if mine && found != nil {
			return nil
		}
		if mine {
			found = w
		}
	}
	return found
}

// foretold says why trouble is expected in a change: what the catalogue says of the family, or of a release that the change installs.
func foretold(cat *catalog.Catalogue, w *store.AtWork, text string) (why string, ok bool) {
	if cat == nil || w.Family == "" {
		return "", false
	}
	f := cat.Family(w.Family)
	if f == nil {
		return "", false
	}
	var p path.Path
	expected := slices.Clone(f.Messages)
	if json.Unmarshal(w.Path, &p) == nil {
		for i := range p.Hops {
			if rel := f.Release(p.Hops[i].To); rel != nil {
				expected = append(expected, rel.Messages...)
			}
		}
	}
	for _, x := range expected {
		if x.Match.MatchString(text) {
			return x.Text, true
		}
	}
	return "", false
}

const readMessages = "new-errors"

// mostErrors is how many different texts of trouble a verdict quotes.
const mostErrors = 5

// judgeMessages is what the messages of the device say: nothing when none came, since it may send them elsewhere. Where some were lost, that none of them was
// trouble is not proven.
func (r *run) judgeMessages(ctx context.Context) ([]verify.Result, error) {
	kept := r.e.messages.settle(ctx)
	said, err := r.e.Store.MessagesOf(ctx, r.c.ID, 100)
	if err != nil {
		return nil, records(err)
	}
	if said.Heard == 0 && said.Lost == 0 && kept {
		return nil, nil
	}
	heard, foretold, bad, texts := said.Heard, said.Foretold, said.Errors, said.Texts
	res := verify.Result{Reading: readMessages, Title: "New errors in its messages", State: verify.Met, Severity: verify.Degrades,
		After:    &verify.Value{Type: verify.Number, Number: float64(bad)},
		Evidence: fmt.Sprintf("%d messages came during the change, none of them an error that was not expected", heard)}
	if foretold > 0 {
		res.Evidence += fmt.Sprintf("; %d errors were expected", foretold)
	}
	if said.Lost > 0 || !kept {
		res.State = verify.NotProven
		res.Evidence = fmt.Sprintf("some messages of devices were lost during the change; %d came, and none of these is an error that was not expected. Look at the device's own log", heard)
	}
	if bad > 0 {
		res.State = verify.Unmet
		res.Evidence = fmt.Sprintf("%d of %d messages are errors that nobody expected: %s", bad, heard, first(texts, mostErrors))
	}
	return []verify.Result{res}, nil
}
