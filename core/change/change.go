// Package change turns a path into a plan: the [Step] list of a change and of its ways back. It also defines the states of changes and steps.
//
// [Kinds] is the one table of step kinds: title, duration, safe point, parameters, and whether a person may ask for it by itself. [Draft] makes the
// plan of an upgrade, downgrade or rollback, [DraftOperations] that of single operations, [DraftRestore] that of putting a backup back. [Next] is the state
// machine of a change. Parameters have a type for each kind; [Of] reads them.
//
// A plan is stored as JSON with a format number ([PlanFormat]); [Upgrade] reads those of older formats. The package does nothing to any device;
// the engine carries the steps out.
package change

import (
	"cmp"

	"verimorph/core/catalog"
)

// A Step is one act of a change.
type Step struct {
	Number    int   // from 1
	Member    int   // whose device it works on; 0: the change as a whole
	After     []int // numbers of the steps that have to be over first; nil: those before it of the same member, and of the whole
	Hop       int   // index into the path's hops, from 0; -1 for steps around the hops
	Kind      Kind
	Title     string
	Expect    catalog.Span // seconds, at the pace of the installation
	SafePoint bool         // a change may pause before this step
	Back      bool         // of the way back
	Params    Params       // of the type that the kind says; nil: it has none
}

// A File is a file that a step moves or compares.
type File struct {
	Name      string `json:"name"`
	SHA256    string `json:"sha256"`
	Size      int64  `json:"size"`                // bytes
	Component string `json:"component,omitempty"` // that it is for; "" for a main image
	Version   string `json:"version"`
	Model     string `json:"model,omitempty"` // of children that it is for; "" for the device itself
}

// Pace converts the catalogue's durations to the pace of an installation. Factor 1 is real use; simulated fleets run
// faster by their factor. What does not get faster with the fleet (our own network round trips) is allowed for.
type Pace struct {
	Factor float64
	Floor  float64 // the least hard limit of a step of a simulated fleet, in seconds; 0 is 15 s
}

// overhead is what one step costs apart from the device's own time, in seconds, and floor the least hard limit if none is given.
const (
	overhead = 0.4
	floor    = 15
)

// Scale returns the span at this pace; at factor 1 it is the catalogue's own.
func (p Pace) Scale(s catalog.Span) catalog.Span {
	if p.Factor <= 1 {
		return s
	}
	return catalog.Span{Low: s.Low / p.Factor, High: s.High/p.Factor + overhead, Limit: max(s.Limit/p.Factor+overhead, cmp.Or(p.Floor, floor))}
}

// fallback is used where the catalogue gives no duration.
var fallback = catalog.Span{Low: 1, High: 30, Limit: 300}

// byHand is what is expected of a person; nothing is given up because somebody takes longer.
var byHand = catalog.Span{Low: 60, High: 900, Limit: 900}

// fetchSpan is how long a download from a release site takes, between 20 Mbit/s and 1 Gbit/s; the hard limit is for a
// poor line. Our own line does not get faster with a simulated fleet.
func fetchSpan(size int64) catalog.Span {
	return catalog.Span{Low: float64(size) / 125e6, High: float64(size)/2.5e6 + 2, Limit: float64(size)/50e3 + 600}
}

// sendSpan is how long an image takes; the hard limit is ten times the slow case, and never under a minute.
func sendSpan(r catalog.Rate, size int64) catalog.Span {
	if r.Low <= 0 {
		return fallback
	}
	high := float64(size) / r.Low
	return catalog.Span{Low: float64(size) / r.High, High: high, Limit: max(10*high, 60)}
}
