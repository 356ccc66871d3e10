// Package spare says where a unit in stock stands on its way to a site and back, which unit fits which device, and when what a unit holds is out of date.
//
// A unit is prepared for one device: it gets that one's release and configuration on the bench. It travels, takes the place of the unit that stands at the site, and
// that one travels back, is wiped, and is in stock again:
//
//	in-stock -> preparing -> prepared -> shipped -> in-service -> coming-back -> arrived -> in-stock
//
// [Unit.State] is worked out of what was recorded, never kept beside it. [Cover] says of each device which unit would stand in for it today.
package spare

import (
	"slices"

	"verimorph/core/change"
)

// A State is where a unit stands.
type State string

// The states of a unit, in the order of its way.
const (
	InStock    State = "in-stock"
	Preparing  State = "preparing" // a change brings it to what its device needs, or has not been started yet
	Prepared   State = "prepared"
	Shipped    State = "shipped"
	InService  State = "in-service"
	ComingBack State = "coming-back"
	Arrived    State = "arrived" // it is back, and still holds what it did
	Retired    State = "retired"
)

// A Unit is a box in stock, with what was recorded of it.
type Unit struct {
	Serial, Model string
	Licences      []string     // classes that it has
	For           string       // device that it is prepared for; "": none
	Holds         string       // digest of the configuration that it was given; "": none
	Prepare       change.State // of the change that prepares it; "": there is none
	Swap          change.State // of the change that puts it in service; "": there is none
	Out           change.State // of the change that took it out of service; "": there is none
	Shipped       bool
	Arrived       bool
	Retired       bool
}

// State is where the unit stands.
func (u *Unit) State() State {
	switch {
	case u.Retired:
		return Retired
	case u.Out == change.Done && u.Arrived:
		return Arrived
	case u.Out == change.Done:
		return ComingBack
	case u.Swap == change.Done || u.Out != "":
		return InService
	case u.Shipped:
		return Shipped
	case u.Prepare == change.Done:
		return Prepared
	case u.Prepare != "" && !u.Prepare.Over():
		return Preparing
	}
	return InStock
}

// Next is what somebody does with the unit next; "" when there is nothing to do. stale says that the device was configured since the unit was prepared.
func (u *Unit) Next(stale bool) string {
	switch at := u.State(); {
	case at == InStock:
		return "prepare it for a device"
	case at == Preparing:
		return "see to the change that prepares it"
	case at == Prepared && stale:
		return "prepare it again: the configuration of " + u.For + " was changed since"
	case at == Prepared:
		return "ship it, or keep it at hand"
	case at == Shipped && stale:
		return "put it in service once it is there; what was configured since is put afterwards"
	case at == Shipped:
		return "put it in service once it is there"
	case at == ComingBack:
		return "record that it is back"
	case at == Arrived:
		return "bring it to its factory state, and prove that it is wiped"
	}
	return ""
}

// Ready reports whether the unit could go to its device as it is.
func (u *Unit) Ready() bool { s := u.State(); return s == Prepared || s == Shipped }

// A Need is a device for which a unit should stand by.
type Need struct {
	Device, Site, Model string
	Licences            []string // nil: not known
	Config              string   // digest of its newest saved configuration; "": there is none
}

// How well a device is covered, from best to worst.
const (
	Covered = "prepared" // a unit holds its configuration of now
	Stale   = "stale"    // a unit holds an older one
	Stock   = "in-stock" // a unit fits and is not prepared
	Doubt   = "doubt"    // a unit of its model is there; whether its licences do is not known
	Nothing = "none"
)

// A Cover is what stands by for a device.
type Cover struct {
	Need
	State  string
	Serial string // of the unit; "": none
	Why    string
}

// Of says of each device which unit would stand in for it. A unit in stock is counted for one device only, the first that it fits.
func Of(needs []Need, units []Unit) []Cover {
	out := make([]Cover, len(needs))
	taken := map[string]bool{}
	for i, n := range needs {
		out[i] = Cover{Need: n, State: Nothing, Why: "no unit of its model is in stock"}
		for k := range units {
			if u := &units[k]; u.Ready() && u.For == n.Device {
				out[i].Serial, out[i].State, out[i].Why = u.Serial, Covered, "it holds the configuration of now"
				if n.Config == "" || u.Holds != n.Config {
					out[i].State, out[i].Why = Stale, "the configuration was changed since it was prepared"
				}
				taken[u.Serial] = true
			}
		}
	}
	for _, want := range []string{Stock, Doubt} { // a sure one before a doubtful one
		for i := range out {
			if out[i].State != Nothing {
				continue
			}
			for k := range units {
				if u := &units[k]; u.State() == InStock && !taken[u.Serial] && u.Model == out[i].Model && fits(u, &out[i].Need) == want {
					out[i].Serial, out[i].State, taken[u.Serial] = u.Serial, want, true
					out[i].Why = map[string]string{Stock: "it fits, and is not prepared", Doubt: "it is of the model; whether it has the licences is not known"}[want]
					break
				}
			}
		}
	}
	return out
}

// fits says how sure it is that a unit of the model does.
func fits(u *Unit, n *Need) string {
	if n.Licences == nil {
		return Doubt
	}
	for _, l := range n.Licences {
		if !slices.Contains(u.Licences, l) {
			return Doubt
		}
	}
	return Stock
}
