package change

import (
	"fmt"
	"slices"
)

// State is where a change stands.
type State string

// States of a change.
const (
	Drafted  State = "draft"
	Approved State = "approved"
	Running  State = "running"
	Holding  State = "holding" // asked to hold; goes on to the next safe point
	Held     State = "held"
	Done     State = "done"    // carried out, verdict pass or degraded
	Failed   State = "failed"  // a step failed, or the verdict is fail
	Stopped  State = "stopped" // by a person
)

// Action is what a person asks of a change.
type Action string

// Actions.
const (
	Approve Action = "approve"
	Start   Action = "start"
	Hold    Action = "hold"
	Resume  Action = "resume"
	Stop    Action = "stop"
)

var transitions = map[Action]map[State]State{
	Approve: {Drafted: Approved},
	Start:   {Approved: Running},
	Hold:    {Running: Holding},
	Resume:  {Held: Running, Holding: Running},
	Stop:    {Drafted: Stopped, Approved: Stopped, Held: Stopped},
}

// Next is the state after an action, or an error that says what is possible instead.
func Next(s State, a Action) (State, error) {
	if to, ok := transitions[a][s]; ok {
		return to, nil
	}
	hint := "nothing can be done with it any more"
	if possible := Possible(s); len(possible) > 0 {
		hint = fmt.Sprintf("possible now: %v", possible)
	}
	if s == Running && a == Stop {
		hint = "hold it first: it stops at the next safe point"
	}
	return s, fmt.Errorf("cannot %s a change that is %s; %s", a, s, hint)
}

// Possible lists the actions that a state allows, in a fixed order.
func Possible(s State) (out []Action) {
	for _, a := range []Action{Approve, Start, Hold, Resume, Stop} {
		if _, ok := transitions[a][s]; ok {
			out = append(out, a)
		}
	}
	return out
}

// Open reports whether a change in this state occupies its device.
func (s State) Open() bool { return slices.Contains([]State{Running, Holding, Held}, s) }

// Over reports whether a change in this state has ended.
func (s State) Over() bool { return slices.Contains([]State{Done, Failed, Stopped}, s) }

// StepState is where a step stands in the journal.
type StepState string

// States of a step.
const (
	StepWaiting StepState = "waiting"
	StepRunning StepState = "running" // intent is recorded; the device may have been touched
	StepDone    StepState = "done"    // confirmed by looking at the device
	StepFailed  StepState = "failed"
)
