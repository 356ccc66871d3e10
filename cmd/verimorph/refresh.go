package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// refresh has the service look at a device, shows how far it is, and prints the device.
func (c *client) refresh(ctx context.Context, name string, noWait bool) error {
	r, err := call[gen.Refresh](c, func(a *api.Client) (*http.Response, error) { return a.RefreshDevice(ctx, name) })
	if err != nil {
		return err
	}
	if noWait {
		return c.show(r, func() { c.printf("Refresh %d of %s is %s.\n", r.Id, r.Device, r.State) })
	}
	if r, err = c.awaitRefresh(ctx, r); err != nil {
		return err
	}
	if r.Problem != nil {
		return &problemError{*r.Problem}
	}
	d, err := call[gen.Device](c, func(a *api.Client) (*http.Response, error) { return a.GetDevice(ctx, name) })
	if err != nil {
		return err
	}
	return c.show(d, func() { c.printDevice(d) })
}

// awaitRefresh follows a refresh until it has ended. While the service is away it keeps trying, and says so: the refresh goes on when it is back.
func (c *client) awaitRefresh(ctx context.Context, r gen.Refresh) (gen.Refresh, error) {
	defer c.status("")
	away := false
	for wait := 50 * time.Millisecond; r.EndedAt == nil; wait = min(2*wait, time.Second) {
		if !away {
			c.status(refreshLine(&r))
		}
		select {
		case <-ctx.Done():
			return r, fmt.Errorf("interrupted; the service goes on looking at %s. See: verimorph device show %s", r.Device, r.Device)
		case <-time.After(wait):
		}
		now, err := call[gen.Refresh](c, func(a *api.Client) (*http.Response, error) { return a.GetRefresh(ctx, r.Device) })
		var refused *problemError
		switch {
		case err == nil:
			r, away = now, false
		case ctx.Err() != nil:
		case errors.As(err, &refused) && refused.Status < http.StatusInternalServerError:
			return r, err
		default:
			c.serviceAway(&away)
		}
	}
	return r, nil
}

// serviceAway says, once, that the service is away.
func (c *client) serviceAway(said *bool) {
	const text = "the service is away; trying again"
	c.status(text)
	if !*said && !c.terminal && !c.json {
		c.printf("%s\n", text)
	}
	*said = true
}

// refreshLine says how far a refresh is, and how long such a look takes as a rule.
func refreshLine(r *gen.Refresh) string {
	line := fmt.Sprintf("%s: waiting for a worker", r.Device)
	if r.StartedAt != nil && r.Doing != nil {
		line = fmt.Sprintf("%s: %.0f %%, %s", r.Device, math.Round(float64(r.Fraction)*100), *r.Doing)
	}
	switch usual := r.UsualSeconds; {
	case usual != nil && *usual < 1:
		line += "; usually less than 1 s in all"
	case usual != nil:
		line += fmt.Sprintf("; usually %s in all", duration(float64(*usual)))
	}
	return line
}
