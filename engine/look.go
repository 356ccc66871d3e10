package engine

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"verimorph/access"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// What is asked of a device outside a change.

// askLimit bounds what is asked of a device outside a change.
const askLimit = 2 * time.Minute

// ask connects to a device outside a change, for as long as askLimit; done ends the connection. by and why go into the
// audit. The host key is pinned at the first contact.
func (e *Engine) ask(ctx context.Context, d store.Device, by access.Actor, why string) (_ context.Context, c *device.Client, done func(), err error) {
	if under := Follows(&d); under != "" {
		return nil, nil, nil, &FollowsError{d.Name, under}
	}
	t, err := e.target(ctx, d, "", by, why)
	if err != nil {
		return nil, nil, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	if c, err = t.Dial(ctx); err != nil {
		cancel()
		return nil, nil, nil, err
	}
	if d.HostKey == "" && c.HostKey() != "" {
		if err := e.Store.PinHostKey(ctx, d.ID, c.HostKey()); err != nil {
			c.Close()
			cancel()
			return nil, nil, nil, err
		}
	}
	return ctx, c, func() { c.Close(); cancel() }, nil
}

// Refresh takes a device's portrait and records it; when that fails, why.
func (e *Engine) Refresh(ctx context.Context, d store.Device, by access.Actor) (p *portrait.Portrait, err error) {
	defer func() {
		if record := (*recordError)(nil); err != nil && !errors.As(err, &record) && ctx.Err() == nil {
			err = errors.Join(err, e.Store.LookFailed(ctx, d.ID, err.Error()))
		}
	}()
	if p, asked, err := e.refreshFollower(ctx, d, by); asked {
		return p, err
	}
	d.Portrait = nil // it is asked itself
	asking, c, done, err := e.ask(ctx, d, by, "refresh")
	if err != nil {
		return nil, err
	}
	defer done()
	if p, err = c.Portrait(asking); err != nil {
		return nil, err
	}
	return p, e.recordPortrait(asking, d.ID, p)
}

func (e *Engine) recordPortrait(ctx context.Context, deviceID int64, p *portrait.Portrait) error {
	data, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return records(e.Store.SetPortrait(ctx, deviceID, data))
}

// TryConfiguration has a device read a configuration without using it. The portrait is the one it has now.
func (e *Engine) TryConfiguration(ctx context.Context, d store.Device, allowed func(*portrait.Portrait) error, text []byte, by access.Actor) ([]device.Message, error) {
	ctx, c, done, err := e.ask(ctx, d, by, "try a configuration")
	if err != nil {
		return nil, err
	}
	defer done()
	p, err := c.Portrait(ctx)
	if err != nil {
		return nil, err
	}
	if err := allowed(p); err != nil {
		return nil, err
	}
	return c.TryConfiguration(ctx, text)
}
