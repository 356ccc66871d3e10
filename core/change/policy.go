package change

import "time"

// A Policy says who approves, and what happens when a change fails, where a change says nothing else. Its JSON is that of the contract.
type Policy struct {
	// SecondPerson: whoever drafted a change may not approve it.
	SecondPerson bool `json:"secondPerson"`
	// WayBack is [Offered] or [Automatic].
	WayBack string `json:"wayBack"`
	// RestartHours is how long after the time to restart from a change may still restart, in hours. Defaults to 4.
	RestartHours *float64 `json:"restartHours,omitempty"`
}

// What happens when a change fails after the point of no return.
const (
	Automatic = "automatic" // the declared way back is taken
	Offered   = "offered"   // a person is asked
)

// RestartWithin is how long a change may pass its point of no return from the time that was given for that, where no end was given.
const RestartWithin = 4 * time.Hour

// RestartEnd is when a change that may restart from a moment may not any more.
func (p *Policy) RestartEnd(from time.Time) time.Time {
	within := RestartWithin
	if p.RestartHours != nil {
		within = time.Duration(*p.RestartHours * float64(time.Hour))
	}
	return from.Add(within)
}

// What a change is for.
const (
	Firmware         = "firmware"   // another version, along a path
	Restoring        = "restore"    // parts of a backup go back
	SingleOperations = "operations" // as a person put them together
	Return           = "back"       // start the installation in the other slot again
	Joining          = "join"       // a box that stands alone comes under a controller
	Releasing        = "release"    // a box stands alone again
	BringingUp       = "bring-up"   // a blank device becomes what its site needs
	Replacing        = "replace"    // a device of another model takes the place of one
	PuttingBack      = "put-back"   // one that was replaced serves again
	Swapping         = "swap"       // a prepared unit takes the place of the one at a site
	Moving           = "move"       // services of another device are put onto this one
	MakingMedium     = "medium"     // a device writes what it is onto a medium
	Withdrawing      = "withdraw"   // services that another device has by now are taken off this one
)
