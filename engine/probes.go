package engine

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"verimorph/core/outage"
	"verimorph/store"
)

// Probes: what is asked all the time while a change runs, so that for how long clients are interrupted is measured and not only worked out of the steps.

// probeEvery is how often a target is asked, and probePatience how long it has to answer; both by our own clock, as its clients have it.
const (
	probeEvery    = 200 * time.Millisecond
	probePatience = time.Second
	probesWritten = 2 * time.Second // how often what was seen is written
)

// CheckProbe says what is wrong with a target: an http or https URL, or tcp:HOST:PORT.
func CheckProbe(target string) error {
	if at, ok := strings.CutPrefix(target, "tcp:"); ok {
		if host, port, err := net.SplitHostPort(at); err != nil || host == "" || port == "" {
			return errors.New("after tcp: comes host:port")
		}
		return nil
	}
	u, err := url.Parse(target)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return errors.New("it has to be an http or https URL, or tcp:HOST:PORT")
	case u.User != nil:
		return errors.New("it must hold no user and no password")
	}
	return nil
}

// prober asks targets. Each time it opens a connection of its own: one that is open already may live through an interruption that others notice.
var prober = &http.Client{
	Timeout:       probePatience,
	Transport:     &http.Transport{DisableKeepAlives: true, Proxy: nil},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// answers asks a target once.
func answers(ctx context.Context, target string) bool {
	ctx, cancel := context.WithTimeout(ctx, probePatience)
	defer cancel()
	if at, ok := strings.CutPrefix(target, "tcp:"); ok {
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, target, nil)
	if err != nil {
		return false
	}
	res, err := prober.Do(r)
	if err != nil {
		return false
	}
	defer func() { _ = res.Body.Close() }()
	_, err = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	return err == nil && res.StatusCode < http.StatusInternalServerError
}

// A watching is what is asked while a change is carried on.
type watching struct {
	mu    sync.Mutex
	seen  []outage.Watch
	start time.Time // of the change, by our clock
}

// watch asks the probes of the devices of a change until stop is called, which writes what was seen last. What was seen before goes on.
func (e *Engine) watch(ctx context.Context, c *store.Change, leases map[int]store.Lease) (stop func()) {
	w := &watching{seen: slices.Clone(c.Probes), start: e.now()}
	if c.StartedAt != nil {
		w.start = w.start.Add(-c.Now.Sub(*c.StartedAt))
	}
	for _, m := range c.Members {
		d, err := e.Store.DeviceByID(ctx, m.DeviceID)
		if err != nil {
			e.Log.Warn("the probes of a device are not known", "device", m.Device, "err", err)
			continue
		}
		for _, target := range d.Settings.Probes {
			if !slices.ContainsFunc(w.seen, func(s outage.Watch) bool { return s.Device == m.Device && s.Target == target }) {
				w.seen = append(w.seen, outage.Watch{Device: m.Device, Target: target})
			}
		}
	}
	if len(w.seen) == 0 {
		return func() {}
	}
	asking, cancel := context.WithCancel(ctx)
	var group sync.WaitGroup
	for i := range w.seen {
		group.Go(func() { w.ask(asking, e, i) })
	}
	write := func(ctx context.Context) {
		if err := e.Store.SetProbes(ctx, leases[c.First().Number], c.ID, w.now()); err != nil && ctx.Err() == nil {
			e.Log.Warn("what the probes saw cannot be written now", "change", c.ID, "err", err)
		}
	}
	group.Go(func() {
		for pause(asking, probesWritten) == nil {
			write(asking)
		}
	})
	return func() {
		cancel()
		group.Wait()
		last, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer done()
		write(last)
	}
}

// ask asks one target again and again.
func (w *watching) ask(ctx context.Context, e *Engine, i int) {
	target := w.seen[i].Target
	for ctx.Err() == nil {
		began := e.now()
		ok := answers(ctx, target)
		if ctx.Err() != nil {
			return
		}
		w.mu.Lock()
		w.seen[i].Note(began.Sub(w.start).Seconds(), ok, probeEvery.Seconds())
		w.mu.Unlock()
		_ = pause(ctx, max(probeEvery-e.since(began), 10*time.Millisecond))
	}
}

// now is what was seen so far.
func (w *watching) now() []outage.Watch {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := slices.Clone(w.seen)
	for i := range out {
		out[i].Gaps = slices.Clone(out[i].Gaps)
	}
	return out
}
