package cli

import (
	"context"
	"strings"

	"verimorph/core/portrait"
	"verimorph/device"
)

// Boxes that follow a device: access points of a controller, forwarding nodes.

// ChildStates say what the device's words for the state of a child mean.
type ChildStates struct {
	Good    device.Pattern `yaml:"good"`    // it is joined and does its work
	Passing device.Pattern `yaml:"passing"` // it is on its way to something else, and needs nobody for that
	Waiting device.Pattern `yaml:"waiting"` // it waits to be authorised
	Drained device.Pattern `yaml:"drained"` // it serves nobody
	Called  string         `yaml:"called"`  // what they are called, in the plural; "children" when left out
}

// children puts together what the answers say about them.
func (d *Dialect) children(said *answers) []portrait.Child {
	out := said.children
	for _, r := range said.rows["children"] {
		out = append(out, d.child(r))
	}
	return out
}

// child is what a row says about one.
func (d *Dialect) child(r map[string]string) portrait.Child {
	states, state := &d.ChildStates, r["state"]
	return portrait.Child{Name: r["child"], Model: r["model"], Serial: r["serial"], Version: strings.Trim(r["version"], "-"), Next: strings.Trim(r["next"], "-"),
		Place: r["place"], Group: r["group"], State: state, Count: 1, Good: fact(states.Good, state), Passing: fact(states.Passing, state), Waiting: fact(states.Waiting, state),
		Drained: fact(states.Drained, state)}
}

// says reports whether a verb has a placeholder.
func (d *Dialect) says(verb, what string) bool {
	q := d.Verbs[verb]
	for _, s := range q.steps() {
		if strings.Contains(s.Send, "{"+what+"}") {
			return true
		}
	}
	return false
}

// childVerbs are those that speak of children.
var childVerbs = []string{"preload", "restart-child", "authorise", "drain-child", "undrain-child", "group-child", "release-child"}

func (c *checker) children() {
	d := c.d
	if d.tells("children") && d.ChildStates.Good.Regexp == nil {
		c.doubt(under("portrait"), "add child-states: {good: PATTERN}", "child-states: without good no child is known to have joined, so a change waits for it in vain")
	}
	for _, verb := range childVerbs {
		if d.Verbs[verb].given() && !d.tells("children") {
			c.wrong(under("verbs", verb), "add rows: children to the portrait", "verbs: %s: nothing in the portrait tells which children there are", verb)
		}
	}
	if d.Verbs["drain-child"].given() != d.Verbs["undrain-child"].given() || d.Verbs["drain-child"].given() && d.ChildStates.Drained.Regexp == nil {
		c.wrong(under("verbs", "drain-child"), "", "verbs: drain-child, undrain-child and child-states: drained belong together")
	}
}

// Preload has children fetch an image while they work: all of them, or the one that the dialect's command names.
func (c *Client) Preload(ctx context.Context, child, file, version string) error {
	_, err := c.verb(ctx, "preload", map[string]string{"child": child, "file": file, "version": version}, nil)
	return err
}

// PreloadsEach reports whether children are told one by one to fetch an image.
func (c *Client) PreloadsEach() bool { return c.d.says("preload", "child") }

// RestartChild starts a child anew.
func (c *Client) RestartChild(ctx context.Context, child string) error {
	_, err := c.verb(ctx, "restart-child", map[string]string{"child": child}, nil)
	return err
}

// Authorise lets a child join.
func (c *Client) Authorise(ctx context.Context, serial string) error {
	_, err := c.verb(ctx, "authorise", map[string]string{"serial": serial}, nil)
	return err
}

// DrainChild has a child serve those whom it serves to their end, and nobody new.
func (c *Client) DrainChild(ctx context.Context, child string) error {
	_, err := c.verb(ctx, "drain-child", map[string]string{"child": child}, nil)
	return err
}

// UndrainChild has a child serve again.
func (c *Client) UndrainChild(ctx context.Context, child string) error {
	_, err := c.verb(ctx, "undrain-child", map[string]string{"child": child}, nil)
	return err
}

// GroupChild gives a child the settings of a group.
func (c *Client) GroupChild(ctx context.Context, child, group string) error {
	_, err := c.verb(ctx, "group-child", map[string]string{"child": child, "group": group}, nil)
	return err
}

// ReleaseChild has a child stand alone again, in its factory state.
func (c *Client) ReleaseChild(ctx context.Context, child string) error {
	_, err := c.verb(ctx, "release-child", map[string]string{"child": child}, nil)
	return err
}

// BecomeManaged has the device follow the controller at an address.
func (c *Client) BecomeManaged(ctx context.Context, controller string) error {
	_, err := c.verb(ctx, "become-managed", map[string]string{"controller": controller}, nil)
	return err
}
