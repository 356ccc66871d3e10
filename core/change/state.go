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
	Pausing  State = "pausing" // asked to pause; goes on to the next safe point
	Paused   State = "paused"  // by somebody
	// Scheduled: it goes on by itself when its moment comes. One that was begun waits before its point of no return, one that was not
	// waits for its window.
	Scheduled State = "scheduled"
	Asking    State = "asking"   // needs a person; the question stands in its record
	Done      State = "done"     // carried out, verdict pass or degraded
	Returned  State = "returned" // the way back was taken, and the device does what it did before
	Failed    State = "failed"   // a step failed, or the verdict is fail
	Stopped   State = "stopped"  // by a person
)

// Action is what a person asks of a change.
type Action string

// Actions.
const (
	Approve  Action = "approve"
	Start    Action = "start"
	Pause    Action = "pause"
	Resume   Action = "resume"
	Stop     Action = "stop"
	Arm      Action = "arm"       // an approved change starts by itself when its window opens
	Early    Action = "early"     // it does not wait for the approved time; it has to be approved again
	SetTerms Action = "set-terms" // say when it may run
	TakeOn   Action = "take-on"   // take warnings on, before the start
	// Answers to a question.
	SignOff Action = "sign-off" // the hand step is done
	Accept  Action = "accept"   // the warnings are accepted
	Retry   Action = "retry"    // the step that failed is to be tried again
	GoBack  Action = "go-back"  // take the declared way back
	Leave   Action = "leave"    // leave the device as it stands
)

var transitions = map[Action]map[State]State{
	Approve: {Drafted: Approved, Paused: Paused, Scheduled: Scheduled, Asking: Asking},
	Start:   {Approved: Running},
	Arm:     {Approved: Scheduled},
	Early:   {Approved: Drafted, Scheduled: Paused},
	Pause:   {Running: Pausing, Scheduled: Paused},
	Resume:  {Paused: Running, Pausing: Running},
	Stop:    {Drafted: Stopped, Approved: Stopped, Paused: Stopped, Scheduled: Stopped},
	SignOff: {Asking: Running},
	Accept:  {Asking: Running},
	Retry:   {Asking: Running},
	GoBack:  {Asking: Running, Paused: Running, Scheduled: Running},
	Leave:   {Asking: Failed},

	// What was approved has to be approved again. A change that rests or asks may be given other times.
	TakeOn:   {Drafted: Drafted, Approved: Drafted},
	SetTerms: {Drafted: Drafted, Approved: Drafted, Paused: Paused, Asking: Asking, Scheduled: Paused},
}

// actions are those that are offered, in the order in which they are told. [SetTerms] and [TakeOn] come with more than a word.
var actions = []Action{Approve, Start, Arm, Early, Pause, Resume, Stop, SignOff, Accept, Retry, GoBack, Leave}

// Questions that a change may ask.
const (
	AskHand   = "hand-step"   // do it and sign off
	AskWarn   = "warnings"    // accept them, or leave it
	AskFailed = "failed"      // a step failed after the point of no return
	AskPerson = "conversion"  // the configuration needs decisions
	AskBack   = "back-failed" // the way back itself failed
	AskUnit   = "other-unit"  // another unit answers
	AskStands = "not-as-left" // the device does not stand where the change left it
	AskTime   = "window"      // the window is over
	AskData   = "our-data"    // what this installation holds cannot be used
	AskFault  = "our-fault"   // the service broke off in a step again and again
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

// A Situation is what decides, beside its state, what can be asked of a change.
type Situation struct {
	State      State
	Question   *Question // of a change that asks
	CanGoBack  bool      // something was done that a declared way back undoes
	Approved   bool      // and nothing has changed since that has to be approved
	Begun      bool      // it was started
	Opens      bool      // its window opens later
	AtATime    bool      // it has an approved time to go on at
	PauseAsked bool      // somebody asked it to pause, and it asked before it came to that
}

// Next is the state after an action, or an error that says what is possible instead.
func Next(s Situation, a Action) (State, error) {
	if to, ok := transitions[a][s.State]; ok && s.allows(a) {
		switch {
		case s.State == Scheduled && !s.Begun && (a == Pause || a == Early || a == SetTerms):
			to = map[Action]State{Pause: Approved, Early: Drafted, SetTerms: Drafted}[a]
		case to == Running && s.State == Asking && a != GoBack && s.PauseAsked:
			to = Pausing
		}
		return to, nil
	}
	switch a {
	case TakeOn:
		return s.State, fmt.Errorf("warnings of a change that is %s are accepted when it asks for it", s.State)
	case SetTerms:
		return s.State, fmt.Errorf("the terms of a change that is %s stay as they are; pause it first", s.State)
	}
	possible := Possible(s)
	hint := "nothing can be done with it any more"
	if len(possible) > 0 {
		hint = fmt.Sprintf("possible now: %v", possible)
	}
	switch {
	case s.State == Running && a == Stop:
		hint = "pause it first: it stops at the next safe point"
	case s.State == Scheduled && a == Resume:
		hint = "it goes on by itself at the approved time; to go before that is an act of its own, which needs a reason and approval again: early"
	case !s.Approved && slices.Contains(possible, Approve) && s.State != Drafted:
		hint = "what was approved has changed; it has to be approved again first"
	}
	return s.State, fmt.Errorf("cannot %s a change that is %s; %s", a, s.State, hint)
}

// Possible lists the actions that a situation allows, in a fixed order.
func Possible(s Situation) (out []Action) {
	for _, a := range actions {
		if _, ok := transitions[a][s.State]; ok && s.allows(a) {
			out = append(out, a)
		}
	}
	return out
}

// allows says whether an action that the state knows makes sense now.
func (s *Situation) allows(a Action) bool {
	if s.State == Asking && a != Approve && a != SetTerms && (s.Question == nil || !slices.Contains(s.Question.Answers, a)) {
		return false
	}
	switch a {
	case Approve:
		return s.State == Drafted || !s.Approved
	case Arm:
		return s.Opens
	case Early:
		return s.AtATime
	case GoBack: // back to where it was: that needs no new approval
		return s.State == Asking || s.CanGoBack
	case Resume, SignOff, Accept, Retry:
		return s.Approved
	}
	return true
}

// Open reports whether a change in this state occupies its device.
func (s State) Open() bool {
	return slices.Contains([]State{Running, Pausing, Paused, Scheduled, Asking}, s)
}

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
