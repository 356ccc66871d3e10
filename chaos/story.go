package chaos

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
)

// changeAgainAndAgain changes a device, and where it has slots starts its previous installation again, until all that is to be suffered was.
// A device that cannot go back goes on as far as there are releases.
func (w *world) changeAgainAndAgain(ctx context.Context, i int, until <-chan struct{}) {
	b := w.boxes[i]
	stop := make(chan struct{})
	defer close(stop)
	go w.keepSeeing(i, stop)
	for round := 0; ctx.Err() == nil; round++ {
		select {
		case <-until:
			if round > 0 {
				w.spoil(ctx, b, round)
				return
			}
		default:
		}
		wish := w.wish(b, round)
		if wish == nil {
			return
		}
		c, before, ok := w.start(ctx, b, wish)
		if !ok {
			if ctx.Err() == nil {
				w.fail(b, "no change could be started")
			}
			return
		}
		if !w.follow(ctx, b, c) {
			return
		}
		after := b.look()
		w.mu.Lock()
		w.report.Changes++
		w.report.ByKind[b.kind]++
		if c.State == "done" {
			w.report.Done++
		}
		w.mu.Unlock()
		w.hold(b, c, before, after)
		if c.State == "done" {
			continue
		}
		text := ""
		if c.Question != nil {
			text = c.Question.Kind + ": " + c.Question.Text
			_ = w.call(ctx, "POST", fmt.Sprintf("/changes/%d/leave", c.ID), map[string]any{}, nil)
		} else if c.Failure != nil {
			text = *c.Failure
		}
		w.fail(b, "change %d is %s: %s", c.ID, c.State, text)
		return // the rest of this device's story would only repeat it
	}
}

// spoil ends the story of the first firewall with a change that must not pass: after its restart no tunnel comes up.
func (w *world) spoil(ctx context.Context, b *subject, round int) {
	if b.n != 0 {
		return
	}
	if err := b.wall.Arm(tarnholm.TunnelDown, box.Fault{}); err != nil {
		w.fail(b, "%s", err)
		return
	}
	c, before, ok := w.start(ctx, b, w.wish(b, round))
	if !ok || !w.follow(ctx, b, c) {
		return
	}
	switch {
	case b.look().boots == before.boots:
		w.fail(b, "change %d is %s and was to start it without tunnels", c.ID, c.State)
	case c.Verdict == nil && c.State == "done" || c.Verdict != nil && (c.Verdict.Verdict == "pass" || c.Kind != "back" && c.Verdict.Verdict != "fail"): // another state was wanted by going back: there it is a doubt
		w.mu.Lock()
		w.report.FalseDone = append(w.report.FalseDone, fmt.Sprintf("%s, change %d from %s to %s: no tunnel is up, and it is %s, %+v", b.name, c.ID, c.From, c.To, c.State, c.Verdict))
		w.mu.Unlock()
	}
	if c.State == "asking" {
		w.act(ctx, c, "leave", "asking")
	}
}

func (w *world) fail(b *subject, format string, args ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.report.Failed = append(w.report.Failed, b.name+": "+fmt.Sprintf(format, args...))
}

// wish is what is asked for in a round; nil when there is nothing more.
func (w *world) wish(b *subject, round int) map[string]any {
	switch {
	case b.back && round%2 == 1:
		return map[string]any{"device": b.name, "to": "previous", "back": true}
	case b.back:
		return map[string]any{"device": b.name, "to": b.versions[round/2%2]}
	case round >= len(b.versions):
		return nil
	}
	return map[string]any{"device": b.name, "to": b.versions[round], "reset": true}
}

// refresh has the service look at a device, and waits until it has.
func (w *world) refresh(ctx context.Context, b *subject) error {
	var r struct {
		EndedAt *time.Time
		Problem *struct{ Detail string }
	}
	err := w.call(ctx, "POST", "/devices/"+b.name+"/refresh", nil, &r)
	for err == nil && r.EndedAt == nil {
		if err = ctx.Err(); err == nil {
			time.Sleep(100 * time.Millisecond)
			err = w.call(ctx, "GET", "/devices/"+b.name+"/refresh", nil, &r)
		}
	}
	if err == nil && r.Problem != nil {
		err = errors.New(r.Problem.Detail)
	}
	return err
}

// start drafts, approves and starts a change; warnings are accepted by name. It returns how the device was before.
func (w *world) start(ctx context.Context, b *subject, wish map[string]any) (*ended, look, bool) {
	c := &ended{}
	for try := 0; ctx.Err() == nil && try < 200; try++ {
		if err := w.refresh(ctx, b); err != nil {
			time.Sleep(300 * time.Millisecond)
			continue
		}
		if err := w.call(ctx, "POST", "/changes", wish, c); err != nil {
			time.Sleep(300 * time.Millisecond)
			continue
		}
		before := b.look()
		if w.act(ctx, c, "approve", "draft") && w.act(ctx, c, "start", "approved") {
			return c, before, true
		}
		return c, before, false
	}
	return c, look{}, false
}

// act carries out an action. A call that was cut off may have done its work all the same; a start that is refused for its warnings accepts them.
func (w *world) act(ctx context.Context, c *ended, action, state string) bool {
	for try := 0; ctx.Err() == nil && try < 200; try++ {
		err := w.call(ctx, "POST", fmt.Sprintf("/changes/%d/%s", c.ID, action), map[string]any{}, c)
		if err == nil {
			return true
		}
		if w.call(ctx, "GET", fmt.Sprintf("/changes/%d", c.ID), nil, c) == nil && c.State != state && !(c.State == "draft" && action == "start") {
			return true
		}
		if _, names, ok := strings.Cut(err.Error(), "accept each by name with a reason: "); ok {
			names, _, _ = strings.Cut(names, "\"")
			_ = w.call(ctx, "POST", fmt.Sprintf("/changes/%d/accept-warnings", c.ID), map[string]any{"checks": strings.Split(names, ", "), "reason": "it is what is to be suffered"}, nil)
			_ = w.call(ctx, "POST", fmt.Sprintf("/changes/%d/approve", c.ID), map[string]any{}, nil)
		}
		time.Sleep(300 * time.Millisecond)
	}
	return false
}

// follow waits until a change ends or asks for more than a hand; hand steps are signed off. It returns false when there is no time any more.
func (w *world) follow(ctx context.Context, b *subject, c *ended) bool {
	for ctx.Err() == nil {
		switch c.State {
		case "done", "failed", "returned", "stopped":
			return true
		case "asking":
			if c.Question == nil || c.Question.Kind != "hand-step" {
				return true
			}
			_ = w.call(ctx, "POST", fmt.Sprintf("/changes/%d/sign-off", c.ID), map[string]any{"text": "done"}, nil)
		}
		time.Sleep(200 * time.Millisecond)
		now := &ended{}
		if w.call(ctx, "GET", fmt.Sprintf("/changes/%d", c.ID), nil, now) == nil {
			*c = *now
		}
	}
	return false
}

// keepSeeing remembers all that a device is configured with.
func (w *world) keepSeeing(i int, stop <-chan struct{}) {
	for {
		w.seen[i].see(w.boxes[i].look().config)
		select {
		case <-stop:
			return
		case <-time.After(10 * time.Millisecond):
		}
	}
}
