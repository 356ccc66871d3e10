package cli

import (
	"context"
	"time"

	"verimorph/device"
)

// Asking: one command and its answer, at the level that it needs.

func (c *Client) query(ctx context.Context, q Query, args map[string]string, progress func(string)) (string, error) {
	if q.byProtocol() {
		return c.call(ctx, q, args)
	}
	if err := c.ready(ctx, c.d.modeOf(&q), q.says()); err != nil {
		return "", err
	}
	text, err := c.term.say(ctx, q, args, progress)
	c.term.used = time.Now()
	return text, err
}

// ready makes sure that there is a conversation in which something can be said, in a mode. doing is for errors.
func (c *Client) ready(ctx context.Context, mode, doing string) error {
	if c.term != nil && c.term.broken { // what it still has to say would be taken for the next answer
		if c.link.Lasts() {
			return device.Fail(device.Lost, c.t.Address, doing, "the line is out of step after an answer that did not come to its end")
		}
		c.hangUp()
	}
	if c.term != nil && !c.link.Lasts() && c.term.gone() { // it was signed out meanwhile; nothing has been said yet
		c.hangUp()
	}
	if c.term == nil {
		var err error
		if c.term, err = c.open(ctx); err != nil {
			c.term = nil
			return err
		}
	}
	return c.goTo(ctx, mode)
}

// hangUp ends the conversation; the next query opens another.
func (c *Client) hangUp() {
	c.term.close()
	c.term = nil
}

// gone reports whether the device has ended the conversation, or soon will: it was silent for nearly as long as the device allows.
func (s *session) gone() bool {
	if s.settle(); s.over {
		return true
	}
	idle := time.Duration(s.d.Session.Idle * float64(time.Second))
	return idle > 0 && !s.used.IsZero() && time.Since(s.used) > idle*3/4
}
