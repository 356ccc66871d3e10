package cli

import (
	"context"
	"slices"
	"strings"

	"verimorph/device"
)

// Modes: a command line with several prompts, and how to get from one to another.

// A Mode is a state of the command line that has a prompt of its own. The first of a dialect is that after sign-in.
type Mode struct {
	Name   string         `yaml:"mode"`
	Prompt device.Pattern `yaml:"prompt"` // the whole last line when the device waits for a command there
	From   string         `yaml:"from"`   // the mode that it is entered from; the first when left out
	Enter  *Step          `yaml:"enter"`
	Leave  *Step          `yaml:"leave"` // back to the mode that it was entered from
}

// raisedMode is the privileged level of a dialect that says with raise how to get there.
const raisedMode = "raised"

// modes are those of a dialect: its own, or the one or two that its short form describes.
func (d *Dialect) modes() []Mode {
	if len(d.Modes) > 0 {
		return d.Modes
	}
	out := []Mode{{Prompt: d.Prompt}}
	if d.Raise.Send != "" {
		out = append(out, Mode{Name: raisedMode, Prompt: d.Prompt,
			Enter: &Step{Send: d.Raise.Send, Expect: []Expect{{Ask: d.Raise.Ask, Secret: SecretPrivileged}}}})
	}
	return out
}

func modeNamed(modes []Mode, name string) *Mode {
	for i := range modes {
		if modes[i].Name == name {
			return &modes[i]
		}
	}
	return nil
}

// modeOf is the mode in which a query is said; "" when it may be said in any.
func (d *Dialect) modeOf(q *Query) string {
	if q.Raised && q.Mode == "" && d.Raise.Send != "" {
		return raisedMode
	}
	return q.Mode
}

// above are the modes that one is entered through, itself first.
func above(modes []Mode, name string) (out []string) {
	for {
		m := modeNamed(modes, name)
		if m == nil {
			return out
		}
		out = append(out, m.Name)
		if m.Name == modes[0].Name {
			return out
		}
		if name = m.From; name == "" {
			name = modes[0].Name
		}
	}
}

// goTo brings the conversation into a mode; "" means whatever it is in.
func (c *Client) goTo(ctx context.Context, target string) error {
	modes := c.term.modes
	if target == "" && len(c.d.Modes) > 0 {
		target = modes[0].Name
	}
	if target == "" || c.term.mode == target {
		return nil
	}
	to := above(modes, target)
	if to == nil {
		return device.Fail(device.Lacking, c.t.Address, "go to mode "+target, "its dialect has no such mode")
	}
	for at := c.term.mode; !slices.Contains(to, at); at = c.term.mode { // up, to a mode that both have in common
		m := modeNamed(modes, at)
		if m == nil || m.Leave == nil {
			return device.Fail(device.NotUnderstood, c.t.Address, "go to mode "+target, "the device is in a mode that is not left; the last line was %q", c.term.lastLine())
		}
		up := above(modes, at)[1]
		if err := c.change(ctx, m.Leave, at, up); err != nil {
			return err
		}
	}
	for c.term.mode != target {
		i := slices.Index(to, c.term.mode)
		if err := c.change(ctx, modeNamed(modes, to[i-1]).Enter, c.term.mode, to[i-1]); err != nil {
			return err
		}
	}
	return nil
}

// change goes from one mode to the next. Where the device asks for the privileged password, the passwords of the target are tried in their order.
func (c *Client) change(ctx context.Context, by *Step, from, to string) error {
	if !slices.ContainsFunc(by.Expect, func(e Expect) bool { return e.Secret == SecretPrivileged }) {
		return c.term.changeMode(ctx, by, from, to)
	}
	words := c.t.Privileged
	if len(words) == 0 {
		words = []device.SignIn{{}} // some devices ask for nothing, or take the empty word
	}
	bound := c.t.RaiseTries
	if bound == 0 {
		bound = 1
	}
	for i, w := range words {
		if c.raises >= bound {
			return device.Fail(device.SignInRefused, c.t.Address, by.Send, "the privileged password was refused before; it is not risked again now")
		}
		c.term.privileged = w.Password
		err := c.term.changeMode(ctx, by, from, to)
		c.term.privileged = ""
		if device.KindOf(err) == device.Refused || device.KindOf(err) == device.SignInRefused { // the password never appears in an error
			err = device.Fail(device.SignInRefused, c.t.Address, by.Send, "%s", strings.TrimPrefix(err.Error(), c.t.Address+": "))
		}
		if err == nil && c.t.Used != nil && w.ID != 0 {
			c.t.Used(w, true)
		}
		if device.KindOf(err) != device.SignInRefused {
			return err
		}
		c.raises++
		if c.refused(w, true); i == len(words)-1 {
			return err
		}
	}
	return nil
}

// changeMode sends a step after which the device is in another mode. Where two modes have the same prompt, only the answer tells: a
// device that did not refuse is there.
func (s *session) changeMode(ctx context.Context, by *Step, from, to string) error {
	s.mode = to
	_, err := s.run(ctx, *by, nil)
	same := modeNamed(s.modes, from).Prompt.String() == modeNamed(s.modes, to).Prompt.String()
	switch {
	case err != nil && same:
		s.mode = from
	case err == nil && s.mode != to:
		kind := device.Refused
		if slices.ContainsFunc(by.Expect, func(e Expect) bool { return e.Secret == SecretPrivileged }) {
			kind = device.SignInRefused
		}
		return device.Fail(kind, s.address, by.Send, "the device did not go to mode %s; it is in mode %s", to, s.mode)
	}
	return err
}
