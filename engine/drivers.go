package engine

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"sync"
	"time"

	"verimorph/access"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// Drivers: those that ship with the service, and those that were loaded into it.

// driversLast is how long it takes at most until another process sees what was loaded.
const driversLast = time.Second

// loadedDrivers are the drivers that were loaded, as they were a moment ago.
type loadedDrivers struct {
	mu   sync.Mutex
	at   time.Time // zero: they have to be read before anybody uses them
	all  map[string]device.Driver
	busy bool // somebody reads them; meanwhile what was seen last counts
}

// Driver is how one speaks with a kind of device; nil when nobody knows.
func (e *Engine) Driver(name string) device.Driver {
	if d := e.loadedNow()[name]; d != nil {
		return d
	}
	return e.Drivers[name]
}

// DriverNames are the kinds of devices that can be spoken with.
func (e *Engine) DriverNames() []string {
	all := maps.Clone(e.Drivers)
	maps.Copy(all, e.loadedNow())
	return slices.Sorted(maps.Keys(all))
}

// loadedNow is what is loaded. While the records do not answer, what was seen last counts.
func (e *Engine) loadedNow() map[string]device.Driver {
	if e.Loaded == nil {
		return nil
	}
	l := &e.loaded
	l.mu.Lock()
	defer l.mu.Unlock()
	known := !l.at.IsZero()
	if e.since(l.at) < driversLast || known && l.busy {
		return l.all
	}
	if known { // nobody waits for the records while something is known
		l.busy = true
		l.mu.Unlock()
		all, err := e.readLoaded()
		l.mu.Lock()
		l.busy = false
		if !l.at.IsZero() {
			l.take(all, err, e.now())
			return l.all
		}
		// Something was loaded meanwhile: it is read again.
	}
	all, err := e.readLoaded()
	l.take(all, err, e.now())
	return l.all
}

// take keeps what was read; where that failed, what was seen last.
func (l *loadedDrivers) take(all map[string]device.Driver, err error, now time.Time) {
	if err == nil {
		l.all = all
	}
	l.at = now
}

// readLoaded reads what is loaded, for a short time.
func (e *Engine) readLoaded() (map[string]device.Driver, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	all, err := e.Loaded(ctx)
	if err != nil {
		e.Log.Warn("the loaded dialects cannot be read; those seen last are used", "err", err)
	}
	return all, err
}

// Reload has what was loaded by this process seen at once.
func (e *Engine) Reload() {
	e.loaded.mu.Lock()
	defer e.loaded.mu.Unlock()
	e.loaded.at = time.Time{}
}

// trialLasts is how long somebody may try things on a device.
const trialLasts = 2 * time.Minute

// WithTarget calls f with how to get into a device, while nobody else works on it. f may use it in its own way, as people do who write dialects.
func (e *Engine) WithTarget(ctx context.Context, d store.Device, who access.Actor, why string, f func(context.Context, device.Target) error) error {
	ctx, cancel := context.WithTimeout(ctx, trialLasts)
	defer cancel()
	l, free, err := e.Store.Acquire(ctx, d.ID, e.holder+" (trial)", trialLasts)
	if err != nil {
		return records(err)
	}
	if !free {
		return &device.Error{Kind: device.NotReady, Address: d.Name, Doing: why, Message: "a change or somebody else works on the device; wait until that has ended"}
	}
	defer func() { _ = e.Store.Release(context.WithoutCancel(ctx), l) }()
	expect := ""
	var p portrait.Portrait
	if d.Portrait != nil && json.Unmarshal(d.Portrait, &p) == nil {
		expect = p.Version
	}
	t, err := e.target(ctx, d, expect, who, why)
	if err != nil {
		return err
	}
	return f(ctx, t.Target)
}
