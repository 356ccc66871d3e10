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
	Asking   State = "asking"   // needs a person; the question stands in its record
	Done     State = "done"     // carried out, verdict pass or degraded
	Returned State = "returned" // the way back was taken, and the device does what it did before
	Failed   State = "failed"   // a step failed, or the verdict is fail
	Stopped  State = "stopped"  // by a person
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
	// Answers to a question.
	SignOff Action = "sign-off" // the hand step is done
	Accept  Action = "accept"   // the warnings are accepted
	Retry   Action = "retry"    // the step that failed is to be tried again
	GoBack  Action = "go-back"  // take the declared way back
	Leave   Action = "leave"    // leave the device as it stands
)

var transitions = map[Action]map[State]State{
	Approve: {Drafted: Approved},
	Start:   {Approved: Running},
	Hold:    {Running: Holding, Held: Held},
	Resume:  {Held: Running, Holding: Running},
	Stop:    {Drafted: Stopped, Approved: Stopped, Held: Stopped},
	SignOff: {Asking: Running},
	Accept:  {Asking: Running},
	Retry:   {Asking: Running},
	GoBack:  {Asking: Running, Held: Running},
	Leave:   {Asking: Failed},
}

var actions = []Action{Approve, Start, Hold, Resume, Stop, SignOff, Accept, Retry, GoBack, Leave}

// Questions that a change may ask.
const (
	AskHand   = "hand-step"   // do it and sign off
	AskWarn   = "warnings"    // accept them, or leave it
	AskFailed = "failed"      // a step failed after the point of no return
	AskPerson = "conversion"  // the configuration needs decisions
	AskBack   = "back-failed" // the way back itself failed
)

// A Question is what a change waits for a person to answer.
type Question struct {
	Kind    string   `json:"kind"`
	Step    int      `json:"step"`
	Text    string   `json:"text"`
	Answers []Action `json:"answers"`
	Checks  []string `json:"checks,omitempty"` // of warnings: which
	Backup  int64    `json:"backup,omitempty"` // of AskPerson: whose configuration is to be converted
	To      string   `json:"to,omitempty"`     // and what for, MODEL@VERSION
}

// Next is the state after an action, or an error that says what is possible instead. q is the question of a change that
// asks, nil otherwise; canGoBack says whether a held change has passed the point of no return, waits whether it would go on by itself.
func Next(s State, a Action, q *Question, canGoBack, waits bool) (State, error) {
	possible := Possible(s, q, canGoBack, waits)
	if slices.Contains(possible, a) {
		return transitions[a][s], nil
	}
	hint := "nothing can be done with it any more"
	if len(possible) > 0 {
		hint = fmt.Sprintf("possible now: %v", possible)
	}
	if s == Running && a == Stop {
		hint = "hold it first: it stops at the next safe point"
	}
	return s, fmt.Errorf("cannot %s a change that is %s; %s", a, s, hint)
}

// Possible lists the actions that a state allows, in a fixed order.
func Possible(s State, q *Question, canGoBack, waits bool) (out []Action) {
	for _, a := range actions {
		if _, ok := transitions[a][s]; !ok {
			continue
		}
		if s == Asking && (q == nil || !slices.Contains(q.Answers, a)) || s == Held && (a == GoBack && !canGoBack || a == Hold && !waits) {
			continue
		}
		out = append(out, a)
	}
	return out
}

// Open reports whether a change in this state occupies its device.
func (s State) Open() bool { return slices.Contains([]State{Running, Holding, Held, Asking}, s) }

// Over reports whether a change in this state has ended.
func (s State) Over() bool { return slices.Contains([]State{Done, Returned, Failed, Stopped}, s) }

// StepState is where a step stands in the journal.
type StepState string

// States of a step.
const (
	StepWaiting StepState = "waiting"
	StepRunning StepState = "running" // intent is recorded; the device may have been touched
	StepDone    StepState = "done"    // confirmed by looking at the device
	StepFailed  StepState = "failed"
	StepSkipped StepState = "skipped" // not carried out: the way back was taken before
)
