package cli

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/device"
)

// Parts of a device that run firmware of their own: members of a stack, supervisors of a chassis.

// UnitStates say what the device's words for the state of a unit mean.
type UnitStates struct {
	Good    device.Pattern `yaml:"good"`    // it does its work
	Passing device.Pattern `yaml:"passing"` // it is on its way to something else, and needs nobody for that
	Hot     device.Pattern `yaml:"hot"`     // it could take over from the active one
}

// versionList is what stands between versions that a device lists.
var versionList = regexp.MustCompile(`[,;\s]+`)

// units puts together what the answers say about them. number reads a number, and what names it.
func (d *Dialect) units(said *answers, number func(what, text string) int64) (out []portrait.Unit) {
	for _, r := range said.rows["units"] {
		u := portrait.Unit{Name: r["unit"], Role: r["role"], Model: r["model"], Serial: r["serial"], Version: strings.Trim(r["version"], "-"), Next: strings.Trim(r["next"], "-"),
			State: r["state"], Good: fact(d.UnitStates.Good, r["state"]), Passing: fact(d.UnitStates.Passing, r["state"]), Hot: fact(d.UnitStates.Hot, r["state"])}
		u.Holds = versionList.Split(strings.TrimSpace(r["holds"]), -1)
		if u.Holds[0] == "" {
			u.Holds = nil
		}
		if r["total"] != "" && r["free"] != "" {
			u.Room = &portrait.Room{Total: number("room of unit "+u.Name, r["total"]), Free: number("room in unit "+u.Name, r["free"])}
		}
		for _, f := range said.rows["files"] {
			if f["unit"] == u.Name {
				u.Files = append(u.Files, portrait.File{Name: f["file"], Size: number("size of "+f["file"], f["size"])})
			}
		}
		for _, c := range said.rows["components"] {
			if c["unit"] == u.Name {
				set(&u.Components, c["component"], c["version"])
			}
		}
		out = append(out, u)
	}
	return out
}

// oldestComponents says of the device what is the oldest on any of its units: that is what has to be updated.
func oldestComponents(p *portrait.Portrait) {
	for i := range p.Units {
		for name, text := range p.Units[i].Components {
			was, told := p.Components[name]
			if old, err := version.Parse(was); told && err == nil {
				if v, err := version.Parse(text); err != nil || !v.Less(old) {
					continue
				}
			}
			set(&p.Components, name, text)
		}
	}
}

// tells reports whether such devices fill a table of the portrait.
func (d *Dialect) tells(table string) bool {
	return slices.ContainsFunc(d.Portrait, func(q Query) bool { return q.Rows == table })
}

// unitVerbs are those that speak of units.
var unitVerbs = []string{"spread", "bring-along", "clean-unit", "restart-unit", "hand-over", "update-unit"}

func (c *checker) units() {
	d := c.d
	if d.Verbs["hand-over"].given() && d.UnitStates.Hot.Regexp == nil {
		c.wrong(under("verbs", "hand-over"), "add unit-states: {hot: PATTERN}", "verbs: hand-over: nothing says when a unit could take over, so none ever would")
	}
	if d.tells("units") {
		if d.UnitStates.Good.Regexp == nil {
			c.doubt(under("portrait"), "add unit-states: {good: PATTERN}", "unit-states: without good no unit is known to be well, so a change waits for it in vain")
		}
		return
	}
	for _, verb := range unitVerbs {
		if d.Verbs[verb].given() {
			c.wrong(under("verbs", verb), "add rows: units to the portrait", "verbs: %s: nothing in the portrait tells which units there are", verb)
		}
	}
}

// Spread brings what a slot holds onto all units.
func (c *Client) Spread(ctx context.Context, slot, file string, progress device.Progress) error {
	_, err := c.verb(ctx, "spread", map[string]string{"slot": slot, "file": file}, progress)
	return err
}

// BringAlong gives a unit the release of the active one.
func (c *Client) BringAlong(ctx context.Context, unit string) error {
	_, err := c.verb(ctx, "bring-along", map[string]string{"unit": unit}, nil)
	return err
}

// CleanUnit removes a file from a unit.
func (c *Client) CleanUnit(ctx context.Context, unit, file string) error {
	_, err := c.verb(ctx, "clean-unit", map[string]string{"unit": unit, "file": file}, nil)
	return err
}

// RestartUnit starts one unit anew.
func (c *Client) RestartUnit(ctx context.Context, unit string) error {
	_, err := c.verb(ctx, "restart-unit", map[string]string{"unit": unit}, nil)
	return err
}

// UpdateUnit updates firmware beside the main image on one unit.
func (c *Client) UpdateUnit(ctx context.Context, unit, component, file string, progress device.Progress) error {
	_, err := c.verb(ctx, "update-unit", map[string]string{"unit": unit, "component": component, "file": file}, progress)
	return err
}

// HandOver has the unit that stands by take over.
func (c *Client) HandOver(ctx context.Context) error {
	_, err := c.verb(ctx, "hand-over", nil, nil)
	return err
}
