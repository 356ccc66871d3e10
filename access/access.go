// Package access decides who may do what. Whatever changes the state of a change passes one function, [Decide], with an [Actor]: the
// store calls it inside the transaction that writes the act, on the record as it is locked there, so no caller can go round it and nothing
// can change between the decision and the act. Calls that touch other records pass [May] with the right that the call needs.
//
// The package knows no network and no database. What decides is handed in as [Facts].
//
// # Errors
//
// A refusal is a [*Refusal] with a [Reason], so that callers can tell a missing right from a state in which an act makes no sense.
package access

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"verimorph/core/change"
	"verimorph/core/ready"
)

// A Right is something that an actor may do.
type Right string

// Rights.
const (
	Look       Right = "look"
	Draft      Right = "draft"      // draft changes, take backups, refresh devices: nothing that a device's users notice
	Approve    Right = "approve"    // approve what was drafted, and take warnings on
	Operate    Right = "operate"    // start, pause, stop, answer questions, go back
	Administer Right = "administer" // devices, credentials, keys, catalogues, policies, users
)

// An Actor is who acts: a person, or the service by itself at its time.
type Actor struct {
	name   string
	from   string
	rights []Right // nil: none
	self   bool
	change int64
}

// Person is somebody who has signed in; from is the network address, "" where none is known. Every person has every right as long as
// there are no roles.
func Person(name, from string) Actor {
	return Actor{name: name, from: from, rights: []Right{Look, Draft, Approve, Operate, Administer}}
}

// Service is the service itself, acting at a time that was set or in its own upkeep; as names what of it, as the audit shows it.
func Service(as string) Actor {
	return Actor{name: as, self: true, rights: []Right{Look, Draft, Operate}}
}

// Carrying is the service as it carries a change out.
func Carrying(change int64) Actor {
	a := Service(fmt.Sprintf("change %d", change))
	a.change = change
	return a
}

// Change is the change that the service carries out as this actor; 0 for none.
func (a Actor) Change() int64 { return a.change }

// String is how journal and audit name the actor.
func (a Actor) String() string { return a.name }

// From is the network address that the actor came from; "" where none is known.
func (a Actor) From() string { return a.from }

// IsService reports whether the service acts by itself.
func (a Actor) IsService() bool { return a.self }

// MarshalText writes the name, for records that say who.
func (a Actor) MarshalText() ([]byte, error) { return []byte(a.name), nil }

// A Reason says why an act is refused.
type Reason string

// Reasons.
const (
	NoRight    Reason = "no-right"   // the actor lacks the right
	Incomplete Reason = "incomplete" // something has to be said with the act
	WrongState Reason = "state"      // the act makes no sense now
	ByPolicy   Reason = "policy"     // the policy forbids it
	NotReady   Reason = "not-ready"  // the device was not found ready
)

// A Refusal says why an act is refused, and what to do.
type Refusal struct {
	Reason Reason
	Text   string
}

func (r *Refusal) Error() string { return r.Text }

func refuse(r Reason, format string, args ...any) error {
	return &Refusal{r, fmt.Sprintf(format, args...)}
}

// May reports whether an actor has a right; a *Refusal otherwise.
func May(a Actor, r Right) error {
	if slices.Contains(a.rights, r) {
		return nil
	}
	who := a.name
	if who == "" {
		who = "nobody"
	}
	return refuse(NoRight, "%s may not do that: it needs the right to %s", who, r)
}

// needs is the right that each act on a change needs.
var needs = map[change.Action]Right{
	change.Approve: Approve, change.Accept: Approve, change.TakeOn: Approve,
	change.SetTerms: Draft,
	change.Start:    Operate, change.Arm: Operate, change.Early: Operate, change.Pause: Operate, change.Resume: Operate, change.Stop: Operate,
	change.SignOff: Operate, change.Retry: Operate, change.GoBack: Operate, change.Leave: Operate,
}

// Facts are what a decision about an act on a change rests on.
type Facts struct {
	Change    int64
	CreatedBy string
	Situation change.Situation
	Policy    change.Policy
	// Unsafe is what the plan of an ensemble can come to that must not happen; "" when nothing was found.
	Unsafe string
	// Looked says that a change has to be found ready before it starts. Then Checks is what was found, at CheckedAt; Accepts reports whether
	// somebody took a warning on; Now is the time by the clock that CheckedAt is of.
	Looked    bool
	Checks    []ready.Check
	CheckedAt time.Time
	Accepts   func(check string) bool
	Now       time.Time
}

// LookLasts is how old a look at the device may be when a change starts.
const LookLasts = 5 * time.Minute

// leastWords is how much has to be said where a reason is asked for.
const leastWords = 3

// Decide says which state a change has after an act of somebody, or refuses it. text is what the actor says with it.
func Decide(a Actor, act change.Action, text string, f *Facts) (change.State, error) {
	right, known := needs[act]
	if !known {
		return f.Situation.State, refuse(WrongState, "there is no act %q on a change", act)
	}
	if act == change.Stop && f.Situation.State == change.Drafted { // whoever may draft may take a draft away
		right = Draft
	}
	if err := May(a, right); err != nil {
		return f.Situation.State, err
	}
	if why := reasonFor[act]; why != "" && len(strings.TrimSpace(text)) < leastWords {
		return f.Situation.State, refuse(Incomplete, "say why %s", why)
	}
	to, err := change.Next(f.Situation, act)
	if err != nil {
		return to, &Refusal{WrongState, err.Error()}
	}
	switch act {
	case change.Approve, change.Accept: // what is accepted after the approval is not what was approved
		if f.Unsafe != "" && act == change.Approve {
			return f.Situation.State, refuse(NotReady, "the order of its steps is not safe, so it cannot be approved: %s; draft it anew", f.Unsafe)
		}
		err = f.secondPerson(a)
	case change.Start:
		err = f.ready()
	}
	return to, err
}

// reasonFor are the acts with which a reason has to be given, and for what.
var reasonFor = map[change.Action]string{
	change.Accept: "the warnings are accepted",
	change.TakeOn: "the warnings are accepted",
	change.Early:  "it has to go before the approved time",
}

func (f *Facts) secondPerson(a Actor) error {
	if f.Policy.SecondPerson && f.CreatedBy == a.name {
		return refuse(ByPolicy, "change %d was drafted by you; the policy asks for the approval of somebody else, also of what is accepted after that", f.Change)
	}
	return nil
}

// ready refuses a start when nobody has looked at the device just before, something stops it, or a warning was not taken on.
func (f *Facts) ready() error {
	if !f.Looked {
		return nil
	}
	if f.CheckedAt.IsZero() || f.Now.Sub(f.CheckedAt) > LookLasts {
		return refuse(NotReady, "nobody has looked at the device just before; check the change first")
	}
	if stops := ready.Of(f.Checks, ready.Stop); len(stops) > 0 {
		return refuse(NotReady, "not ready: %s", ready.Text(stops))
	}
	var open []ready.Check
	var names []string
	for _, w := range ready.Of(f.Checks, ready.Warn) {
		if f.Accepts == nil || !f.Accepts(w.Name) {
			open, names = append(open, w), append(names, w.Name)
		}
	}
	if len(open) > 0 {
		return refuse(NotReady, "there are warnings: %s. Put them right, or accept each by name with a reason: %s", ready.Text(open), strings.Join(names, ", "))
	}
	return nil
}
