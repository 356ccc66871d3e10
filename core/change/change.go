// Package change turns a path into the steps of a change and says which states a change and a step may be in. It does
// nothing to any device; the engine carries the steps out.
package change

import (
	"fmt"

	"verimorph/core/catalog"
	"verimorph/core/path"
)

// Kind is what a step does.
type Kind string

// The kinds of steps, in the order in which a hop goes through them.
const (
	Readings   Kind = "readings" // measure before the first hop
	Fetch      Kind = "fetch"    // wait until the image is in the image store
	Check      Kind = "check"    // version, room, image fits
	Backup     Kind = "backup"   // fetch the configuration off the box
	Send       Kind = "send"     // move the image onto the box
	Checksum   Kind = "checksum" // let the box compute the image's hash and compare
	Install    Kind = "install"  // into the slot that is not running
	Save       Kind = "save"     // running configuration to saved configuration
	ChooseSlot Kind = "choose-slot"
	Restart    Kind = "restart"
	Link       Kind = "link"     // the address answers again
	Login      Kind = "login"    // sign-in works again
	Confirm    Kind = "version"  // the running version is the hop's
	Services   Kind = "services" // the box says its services are up
	Tidy       Kind = "tidy"     // remove the image file from the box
	Verify     Kind = "verdict"  // measure again, compare until settled, conclude

	// Of a restore.
	CheckRestore Kind = "check-restore" // the device is the one, and the bundle can be read
	PutPart      Kind = "put-part"      // put one part back under its exact name
	CompareParts Kind = "compare-parts" // read all parts again and hold them against what was put
)

// Titles of the kinds, as people read them.
var Titles = map[Kind]string{
	Readings: "Take readings before", Fetch: "Fetch image from the release site", Check: "Check room and image", Backup: "Take a backup",
	Send: "Send image", Checksum: "Compare checksum on device", Install: "Install into the idle slot",
	Save: "Save configuration", ChooseSlot: "Choose slot for next start", Restart: "Restart",
	Link: "Wait for link", Login: "Wait for sign-in", Confirm: "Confirm running version",
	Services: "Wait for services", Tidy: "Remove image from device", Verify: "Compare readings, conclude",
	CheckRestore: "Check device and bundle", PutPart: "Put back", CompareParts: "Compare with the backup",
}

// A Step is one act of a change.
type Step struct {
	Number      int // from 1
	Hop         int // index into the path's hops, from 0; -1 for steps around the hops
	Kind        Kind
	Title       string
	Expect      catalog.Span // seconds, at the pace of the installation
	StopsBefore bool         // a safe point to hold: before this step
	Part        string       `json:",omitempty"` // of put-part: its name
}

// Pace converts the catalogue's durations to the pace of an installation. Factor 1 is real use; simulated fleets run
// faster by their factor. What does not get faster with the fleet (our own network round trips) is allowed for.
type Pace struct {
	Factor float64
}

// overhead is what one step costs apart from the device's own time, in seconds, and floor the least hard limit.
const (
	overhead = 0.4
	floor    = 6
)

// Scale returns the span at this pace; at factor 1 it is the catalogue's own.
func (p Pace) Scale(s catalog.Span) catalog.Span {
	if p.Factor <= 1 {
		return s
	}
	return catalog.Span{Low: s.Low / p.Factor, High: s.High/p.Factor + overhead, Limit: max(s.Limit/p.Factor+overhead, floor)}
}

// perHop is the choreography of one hop on a device with two slots.
var perHop = []Kind{Check, Backup, Send, Checksum, Install, Save, ChooseSlot, Restart, Link, Login, Confirm, Services, Tidy}

// fallback is used where the catalogue gives no duration.
var fallback = catalog.Span{Low: 1, High: 30, Limit: 300}

// Draft lists the steps that take one device along a path. It fails when there is nothing to do, and when a hop asks for
// something that the choreography does not do.
//
// lacks says which images are still to be fetched; their hops begin with waiting for that. It may be nil.
func Draft(f *catalog.Family, p *path.Path, pace Pace, lacks func(sha256 string) bool) ([]Step, error) {
	if len(p.Hops) == 0 {
		return nil, fmt.Errorf("the device runs %s already; there is nothing to change", p.To)
	}
	for _, h := range p.Hops {
		if what := beyond(&h); what != "" {
			return nil, fmt.Errorf("the hop from %s to %s %s, which a change cannot carry out yet; do it by hand, or look for another path", h.From, h.To, what)
		}
	}
	steps := []Step{{Hop: -1, Kind: Readings, Expect: span(f, pace, "readings")}}
	for i, h := range p.Hops {
		if lacks != nil && lacks(h.Image.SHA256) {
			steps = append(steps, Step{Hop: i, Kind: Fetch, Expect: fetchSpan(h.Image.Size), StopsBefore: true})
		}
		for _, kind := range perHop {
			s := Step{Hop: i, Kind: kind}
			switch kind {
			case Send:
				s.Expect = pace.Scale(sendSpan(f.SendRate, h.Image.Size))
			case Tidy:
				s.Expect = span(f, pace, string(Check))
			default:
				s.Expect = span(f, pace, string(kind))
			}
			// From the choice of slot to the confirmed version the box is between two installations: no place to rest.
			s.StopsBefore = kind != Restart && kind != Link && kind != Login && kind != Confirm
			steps = append(steps, s)
		}
	}
	verify := span(f, pace, "services")
	steps = append(steps, Step{Hop: -1, Kind: Verify, Expect: verify, StopsBefore: true})
	for i := range steps {
		steps[i].Number, steps[i].Title = i+1, Titles[steps[i].Kind]
	}
	return steps, nil
}

// After is the hop of steps that come after a restore.
const After = -2

// A Restored is one part that a restore puts back.
type Restored struct {
	Name, Title   string
	Save, Restart bool // what the device needs afterwards
}

// DraftRestore lists the steps that put parts back on a device: a backup of what is there comes first, and everything is
// read again afterwards.
func DraftRestore(f *catalog.Family, parts []Restored, pace Pace) ([]Step, error) {
	if len(parts) == 0 {
		return nil, fmt.Errorf("there is nothing to put back")
	}
	if f == nil {
		f = &catalog.Family{}
	}
	var save, restart bool
	steps := []Step{{Kind: Readings, Expect: span(f, pace, "readings")}, {Kind: CheckRestore, Expect: span(f, pace, "check")}, {Kind: Backup, Expect: span(f, pace, "backup")}}
	for _, p := range parts {
		save, restart = save || p.Save, restart || p.Restart
		steps = append(steps, Step{Kind: PutPart, Part: p.Name, Title: "Put back: " + p.Title, Expect: span(f, pace, "backup")})
	}
	after := []Kind{}
	if save {
		after = append(after, Save)
	}
	if restart {
		after = append(after, Restart, Link, Login, Confirm, Services)
	}
	for _, k := range after {
		steps = append(steps, Step{Kind: k, Expect: span(f, pace, string(k))})
	}
	steps = append(steps, Step{Kind: CompareParts, Expect: span(f, pace, "backup")}, Step{Kind: Backup, Hop: After, Title: "Back up what runs now", Expect: span(f, pace, "backup")})
	steps = append(steps, Step{Kind: Verify, Expect: span(f, pace, "services")})
	for i := range steps {
		s := &steps[i]
		if s.Number = i + 1; s.Hop != After {
			s.Hop = -1
		}
		if s.Title == "" {
			s.Title = Titles[s.Kind]
		}
		s.StopsBefore = i > 0 && s.Kind != Restart && s.Kind != Link && s.Kind != Login && s.Kind != Confirm
	}
	return steps, nil
}

// beyond says what of a hop the choreography of one device with two slots does not do; "" when it does all.
func beyond(h *path.Hop) string {
	switch {
	case h.NewModel != "":
		return "goes on as another model"
	case len(h.Components) > 0:
		return "brings " + h.Components[0].Title + " along"
	case len(h.Others) > 0:
		return "needs a base image on the device"
	case len(h.HandSteps) > 0:
		return "asks for work by hand (" + h.HandSteps[0].Text + ")"
	case h.Restarts != 1:
		return fmt.Sprintf("takes %d restarts", h.Restarts)
	}
	return ""
}

func span(f *catalog.Family, pace Pace, name string) catalog.Span {
	s, ok := f.Durations[name]
	if !ok {
		s = fallback
	}
	return pace.Scale(s)
}

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
