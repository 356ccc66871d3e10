package change

import (
	"fmt"
	"strings"
)

// A prepared unit takes the place of the one that stands at a site. Whoever does it there needs to know nothing of networks: the cables go into the same ports. The unit
// that comes out is not spoken with; it may be broken. What the new one does is held against what was measured of the old one last.

// A SwapJob is what such a change is drafted from. Its path is of one hop, which stays where it is.
type SwapJob struct {
	Job
	OldUnit, NewUnit string      // serials; that of the old one may be ""
	Cables           [][2]string // port and label, in their order
}

// DraftSwap lists the steps that put a prepared unit in the place of the one at the site.
func DraftSwap(j *SwapJob) *Plan {
	hand := j.step(0, Hand, HandParams{Task: j.Task(), Cuts: true})
	hand.Title = "Exchange the unit"
	plan := &Plan{Steps: []Step{hand}}
	for _, k := range []Kind{Link, Login, Confirm, Services} {
		plan.Steps = append(plan.Steps, j.step(0, k))
	}
	plan.Steps = append(plan.Steps, j.step(0, Backup), j.verify())
	number(plan.Steps)
	plan.Back = []Back{{Way: BackNotNeeded, Text: "put the old unit back, with its cables in the same ports; it holds what it did. Keep it until the verdict is there"}}
	return plan
}

// Task is what somebody does at the site.
func (j *SwapJob) Task() string {
	old := "the unit that stands there"
	if j.OldUnit != "" {
		old += " (serial " + j.OldUnit + ")"
	}
	var cables []string
	for _, c := range j.Cables {
		cables = append(cables, strings.TrimSpace(c[0]+" "+parenthesised(c[1])))
	}
	task := fmt.Sprintf("Switch off %s and pull its cables. Put each cable into the port of the same name of the unit with the serial %s, and switch that on", old, j.NewUnit)
	if len(cables) > 0 {
		task += ". Cables: " + strings.Join(cables, ", ")
	}
	return task + ". Keep the old unit until the change is done"
}

func parenthesised(s string) string {
	if s == "" {
		return ""
	}
	return "(" + s + ")"
}
