package media

import (
	"fmt"
	"strings"
	"time"

	"verimorph/core/change"
)

// Kinds of media that are kept.
const (
	Snapshot = "snapshot" // a device wrote its own state onto it
	Recovery = "recovery" // made here from files: an image, and the newest configuration, encrypted
)

// State is where a medium stands.
type State string

// The states of a medium.
const (
	Making      State = "being-made"  // the change that makes it is not over
	NotMade     State = "not-made"    // it failed, or was stopped
	Unconfirmed State = "unconfirmed" // it was given out, and nobody has said that it was read back
	Good        State = "good"        // when it was looked at last, everything on it was as it should be
	Damaged     State = "damaged"     // when it was looked at last, something was not
	Retired     State = "retired"
)

// A Medium is one that is kept somewhere, to bring a device back.
type Medium struct {
	Label, Kind, Device string
	Place               string // where it lies
	Model, Version      string // what it would bring back
	Holds               string // SHA-256 of the configuration on it; "": not known
	Change              change.State
	Written             time.Time // zero: not yet
	Checked             time.Time // zero: never
	Problems            []string  // of the last check
	Retired             bool
}

// State is where the medium stands.
func (m *Medium) State() State {
	switch {
	case m.Retired:
		return Retired
	case m.Written.IsZero() && (m.Kind == Recovery || m.Change != "" && !m.Change.Over()):
		return Making
	case m.Written.IsZero():
		return NotMade
	case len(m.Problems) > 0:
		return Damaged
	case m.Checked.IsZero():
		return Unconfirmed
	}
	return Good
}

// Now is what a device is by now, as far as it is known. What is not known is "".
type Now struct {
	Model, Version string
	Config         string // SHA-256 of its configuration in its newest backup
	Backup         int64
}

// Older says in what a medium would bring back something else than the device is by now; empty: nothing that is known.
func (m *Medium) Older(n Now) (other []string) {
	if n.Model != "" && m.Model != "" && n.Model != m.Model {
		other = append(other, fmt.Sprintf("the device is a %s by now, not a %s", n.Model, m.Model))
	}
	if n.Version != "" && m.Version != "" && n.Version != m.Version {
		other = append(other, fmt.Sprintf("the device runs %s by now, it would bring back %s", n.Version, m.Version))
	}
	switch {
	case m.Holds == "" || n.Config == "":
		other = append(other, "whether its configuration is the newest is not known")
	case m.Holds != n.Config:
		other = append(other, fmt.Sprintf("the configuration was changed since (backup %d)", n.Backup))
	}
	return other
}

// BringsBack says what it would bring back, in a few words.
func (m *Medium) BringsBack() string {
	of := "its configuration"
	if !m.Written.IsZero() {
		of += " of " + m.Written.UTC().Format("2006-01-02 15:04 MST")
	}
	return strings.TrimSpace(fmt.Sprintf("%s %s with %s", m.Model, m.Version, of))
}

// How well media stand in for a device.
const (
	CoverNone  = "none"  // there is no medium that could be used
	CoverDoubt = "doubt" // there is one, and something about it is not known
	CoverOld   = "old"   // there is one, with something older than the device is
	CoverGood  = "good"
)

// A Cover is the medium that would stand in for a device best.
type Cover struct {
	State, Label, Why string
}

// CoverOf finds the medium that would stand in for a device best. A damaged one never does; one that nobody has read back is a doubt.
func CoverOf(device string, n Now, all []Medium) Cover {
	best := Cover{State: CoverNone, Why: "no medium is kept for it"}
	rank := map[string]int{CoverNone: 0, CoverDoubt: 1, CoverOld: 2, CoverGood: 3}
	for i := range all {
		m := &all[i]
		if m.Device != device {
			continue
		}
		c := Cover{State: CoverGood, Label: m.Label, Why: m.BringsBack()}
		older := m.Older(n)
		switch s := m.State(); {
		case s == Damaged:
			c = Cover{CoverNone, m.Label, "it was damaged when it was looked at last"}
		case s == Unconfirmed:
			c.State, c.Why = CoverDoubt, "nobody has said that it was read back"
		case s != Good:
			continue
		case len(older) == 1 && strings.Contains(older[0], "not known"):
			c.State, c.Why = CoverDoubt, older[0]
		case len(older) > 0:
			c.State, c.Why = CoverOld, strings.Join(older, "; ")
		}
		if rank[c.State] > rank[best.State] || best.Label == "" && c.Label != "" {
			best = c
		}
	}
	return best
}
