// Package change turns a path into the steps of a change and of its ways back, and says which states a change and a step
// may be in. It does nothing to any device; the engine carries the steps out.
package change

import (
	"cmp"
	"verimorph/core/catalog"
)

// Kind is what a step does.
type Kind string

// The kinds of steps, in the order in which a hop goes through them.
const (
	Readings   Kind = "readings"  // measure before the first hop
	Fetch      Kind = "fetch"     // wait until the image is in the image store
	Check      Kind = "check"     // ready or not: version, room, image, health ...
	Backup     Kind = "backup"    // fetch the configuration off the box
	Convert    Kind = "convert"   // for the release of the hop, where the box comes back empty
	Hand       Kind = "hand"      // a person does it and signs off
	CleanUp    Kind = "clean-up"  // remove files that a person named
	Licence    Kind = "licence"   // give the device a licence that it lacks
	Clone      Kind = "clone"     // copy the running installation into the other slot first
	Send       Kind = "send"      // move a file onto the box
	Checksum   Kind = "checksum"  // let the box compute the file's hash and compare
	Component  Kind = "component" // firmware beside the main image
	PowerCycle Kind = "power"     // of a part, so that its firmware takes effect
	Install    Kind = "install"   // into the slot that is not running, or in place
	Unpack     Kind = "unpack"    // what was installed, where that is an act of its own
	Point      Kind = "point"     // ready or not, right before the point of no return
	Drain      Kind = "drain"     // let running work finish
	Save       Kind = "save"      // running configuration to saved configuration
	ChooseSlot Kind = "choose-slot"
	Restart    Kind = "restart"
	Link       Kind = "link"      // the address answers again
	Login      Kind = "login"     // sign-in works again
	Confirm    Kind = "version"   // the running version is the hop's
	Validate   Kind = "validate"  // have the device read a configuration without using it
	PutPart    Kind = "put-part"  // put one part back under its exact name
	KeepSlot   Kind = "keep-slot" // a slot that was chosen for one start is chosen for good
	Services   Kind = "services"  // the box says its services are up
	Undrain    Kind = "undrain"   // return to service
	Tidy       Kind = "tidy"      // remove the files that were sent
	Ahead      Kind = "ahead"     // while services start: what the next hop needs travels already, where there is room
	Settle     Kind = "settle"    // measure again and compare, before the way back is given up
	Verify     Kind = "verdict"   // measure again, compare until settled, conclude

	// Of a restore.
	CheckRestore Kind = "check-restore" // the device is the one, and the bundle can be read
	CompareParts Kind = "compare-parts" // read all parts again and hold them against what was put
)

// Titles of the kinds, as people read them.
var Titles = map[Kind]string{
	Readings: "Take readings before", Fetch: "Fetch from the release site", Check: "Check that all is ready", Backup: "Take a backup",
	Convert: "Convert the configuration", Hand: "By hand", CleanUp: "Remove files that were named", Licence: "Add licence", Clone: "Copy the running installation", Send: "Send image", Checksum: "Compare checksum on device",
	Component: "Update component", PowerCycle: "Power off and on", Install: "Install into the idle slot", Unpack: "Unpack", Point: "Check before no return",
	Drain: "Drain", Save: "Save configuration", ChooseSlot: "Choose slot for next start", Restart: "Restart",
	Link: "Wait for link", Login: "Wait for sign-in", Confirm: "Confirm running version", KeepSlot: "Choose slot for good",
	Services: "Wait for services", Undrain: "Return to service", Tidy: "Remove sent files from device", Verify: "Compare readings, conclude",
	Ahead: "Send ahead for the next hop", Settle: "Compare before the other slot", Validate: "Have the device read it first",
	CheckRestore: "Check device and bundle", PutPart: "Put back", CompareParts: "Compare with the backup",
}

// Moves reports whether how long a step of this kind takes depends on what it moves, so that other steps of the kind tell nothing.
func (k Kind) Moves() bool { return k == Send || k == Fetch || k == Component || k == Ahead }

// A Step is one act of a change.
type Step struct {
	Number      int // from 1
	Hop         int // index into the path's hops, from 0; -1 for steps around the hops
	Kind        Kind
	Title       string
	Expect      catalog.Span // seconds, at the pace of the installation
	StopsBefore bool         // a safe point to hold: before this step
	Part        string       `json:",omitempty"` // of put-part: its name; of component, power and a restart for its sake: the component's; of licence: its name
	File        *File        `json:",omitempty"` // of fetch, send, checksum and component; nil: the hop's image
	Text        string       `json:",omitempty"` // of a hand step: what is to be done
	Once        bool         `json:",omitempty"` // of choose-slot: for one start
	InPlace     bool         `json:",omitempty"` // of install: there is no slot; the device restarts by itself
	Media       bool         `json:",omitempty"` // of check and checksum: the file lies on a medium that a person carries in
	Other       bool         `json:",omitempty"` // of install and unpack: into the slot that ran before, so that both hold the same
	Back        bool         `json:",omitempty"` // of the way back
	Names       []string     `json:",omitempty"` // of clean-up: the files
	Wants       string       `json:",omitempty"` // of component: the version it has afterwards
}

// A File is a file that a step moves or compares.
type File struct {
	Name, SHA256 string
	Size         int64
	Component    string `json:",omitempty"` // that it is for; "" for a main image
	Version      string
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
