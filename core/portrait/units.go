package portrait

import (
	"fmt"
	"slices"
)

// A Unit is a part of a device that runs firmware of its own, and that the device speaks for: a member of a stack, or a supervisor of a chassis.
type Unit struct {
	Name       string            `json:"name"` // as the device calls it
	Role       string            `json:"role,omitempty"`
	Model      string            `json:"model,omitempty"`
	Serial     string            `json:"serial,omitempty"`
	Version    string            `json:"version,omitempty"` // that it runs; "": it does not say
	Next       string            `json:"next,omitempty"`    // that it starts next; "" where the device does not say
	Holds      []string          `json:"holds,omitempty"`   // versions that lie on it; none where the device does not say
	State      string            `json:"state,omitempty"`   // in the device's own words
	Good       Fact              `json:"good,omitempty"`    // it does its work
	Passing    Fact              `json:"passing,omitempty"` // its state passes by itself, as that of a sync under way does
	Hot        Fact              `json:"hot,omitempty"`     // it could take over from the active one
	Room       *Room             `json:"room,omitempty"`    // nil: the device does not say
	Files      []File            `json:"files,omitempty"`
	Components map[string]string `json:"components,omitempty"` // version by component
}

// Serves reports whether the unit is the one that speaks for the device.
func (u *Unit) Serves() bool { return u.Role == "active" || u.Role == "leader" }

// Has reports whether a version runs on the unit or lies on it.
func (u *Unit) Has(version string) Fact {
	switch {
	case u.Version == version || u.Next == version || slices.Contains(u.Holds, version):
		return Yes
	case u.Next == "" && u.Holds == nil:
		return Unknown
	}
	return No
}

// Text is a unit in a few words.
func (u *Unit) Text() string {
	text := "unit " + u.Name
	if u.Role != "" {
		text += ", " + u.Role + ","
	}
	if u.Version == "" {
		text += " does not say what it runs"
	} else {
		text += " runs " + u.Version
	}
	if u.State != "" {
		text += fmt.Sprintf(" and is %q", u.State)
	}
	return text
}

// Unit returns the unit of that name, or nil.
func (p *Portrait) Unit(name string) *Unit {
	if i := slices.IndexFunc(p.Units, func(u Unit) bool { return u.Name == name }); i >= 0 {
		return &p.Units[i]
	}
	return nil
}

// ActiveUnit returns the unit that speaks for the device, or nil: when none says so, and when several do.
func (p *Portrait) ActiveUnit() (active *Unit) {
	for i := range p.Units {
		switch u := &p.Units[i]; {
		case !u.Serves():
		case active != nil:
			return nil
		default:
			active = u
		}
	}
	return active
}

// File returns the file of the unit with that name, or nil.
func (u *Unit) File(name string) *File {
	if i := slices.IndexFunc(u.Files, func(f File) bool { return f.Name == name }); i >= 0 {
		return &u.Files[i]
	}
	return nil
}
