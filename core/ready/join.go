package ready

import (
	"cmp"
	"fmt"
	"slices"

	"verimorph/core/portrait"
)

// JoinFacts are those of a box that comes under a device, or leaves it.
type JoinFacts struct {
	Box, Model, Serial string
	Releasing          bool // it leaves
	Now                []portrait.Child
	Seats              int  // how many may follow the device; 0: not known
	Licence            bool // the change gives the device one first
	// NotServed says why the release of the device does not serve the model; "": it does. Unknown: no catalogue tells.
	NotServed string
	Unknown   bool
	Stands    string // why the device cannot take it or give it now: it does not serve; "": it can
}

func (f *JoinFacts) checks(add adder) {
	if f == nil {
		return
	}
	i := slices.IndexFunc(f.Now, func(c portrait.Child) bool { return c.Serial == f.Serial })
	joined := 0
	for i := range f.Now {
		if f.Now[i].Waiting != portrait.Yes {
			joined++
		}
	}
	const title = "Box and controller"
	stop := func(remedy, format string, args ...any) { add(Joins, title, Stop, remedy, format, args...) }
	switch {
	case f.Stands != "":
		stop("draft it for the one that serves", "%s", f.Stands)
	case f.Releasing && i < 0:
		stop("refresh both and see where it is", "%s (%s) does not follow it", f.Box, f.Serial)
	case f.Releasing:
		add(Joins, title, Pass, "", "%s", f.Now[i].Text())
	case i >= 0 && f.Now[i].Waiting != portrait.Yes:
		stop("refresh the device; somebody brought it here by hand", "%s (%s) follows it already: %s", f.Box, f.Serial, f.Now[i].Text())
	case f.NotServed != "":
		stop("bring the controller to a release that serves it first", "%s", f.NotServed)
	case f.Seats > 0 && joined >= f.Seats && !f.Licence:
		stop("give a licence with more seats: draft it with -licence", "%d of %d seats are taken", joined, f.Seats)
	case f.Unknown:
		add(Joins, title, Warn, "look it up in the papers of the maker", "whether its release serves the %s is not known: no catalogue that is loaded tells", f.Model)
	default:
		add(Joins, title, Pass, "", "its release serves the %s; %s", f.Model, cmp.Or(seatsLeft(f.Seats, joined), "how many may follow it is not known"))
	}
}

func seatsLeft(seats, taken int) string {
	if seats == 0 {
		return ""
	}
	return fmt.Sprintf("%d of %d seats are taken", taken, seats)
}
