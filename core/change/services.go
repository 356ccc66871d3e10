package change

import (
	"fmt"
	"strings"
)

// Services move from one gateway to another one that serves as well, some at a time. They are put onto the new home first, and taken off the old one later, by a change
// of its own. Each of the two has its way back: the configuration that was there before.

// A ServicesWish says which services are put onto a device, or taken off it.
type ServicesWish struct {
	From     string            `json:"from,omitempty"` // device that has them; "": they are taken off the device of the change
	Services []string          `json:"services"`       // by their names there
	Rename   map[string]string `json:"rename,omitempty"`
	Use      map[string]string `json:"use,omitempty"`
	// As are the names of the services on the device, in their order.
	As         []string `json:"as"`
	Conversion int64    `json:"conversion,omitempty"` // worked out of the services; 0: the rules alone, which must leave nothing open
	SameKey    bool     `json:"sameKey,omitempty"`    // both devices write secrets under the same key
	Checks     []string `json:"checks,omitempty"`     // targets that have to answer afterwards: URLs, or tcp:HOST:PORT
	Unproven   bool     `json:"unproven,omitempty"`   // of taking off: though nothing proves that they are served elsewhere
	Instead    int64    `json:"-"`                    // the draft that is drafted anew; 0: none
}

// A ServicesJob is what such a change is drafted from. Its path is of one hop, which stays where it is.
type ServicesJob struct {
	Job
	Services []string
	Other    string // where they come from; "": they are taken off
}

// DraftServices lists the steps that put services onto a device, or take them off, and the way back.
func DraftServices(j *ServicesJob) (*Plan, error) {
	parts := j.Can.Parts
	j.Can.Parts = nil
	for _, p := range parts {
		if p.Configuration {
			j.Can.Parts = append(j.Can.Parts, p)
			break
		}
	}
	if len(j.Can.Parts) == 0 {
		return nil, fmt.Errorf("no configuration can be put onto such a device by a change: its dialect restores none")
	}
	names := strings.Join(j.Services, ", ")
	work, put := j.step(0, PlaceServices), "Put: "+names
	work.Title = "Work out what is put"
	text := "put the configuration back that was there before; " + j.Other + " goes on serving"
	if j.Other == "" {
		work.Title, put, text = "Work out what stays", "Take off: "+names, "put the configuration back that was there before, with these services in it"
	}
	plan := &Plan{Steps: []Step{j.step(0, Readings), j.step(0, Backup), work}}
	plan.Steps = append(plan.Steps, j.replaceConfiguration(put, PartParams{Part: j.Can.Parts[0].Name, Serves: true})...)
	last := j.step(-1, Backup) // of no hop: going back puts that of the hop back
	last.Title = "Back up what runs now"
	plan.Steps = append(plan.Steps, j.step(0, Services), last, j.verify())
	number(plan.Steps)
	back := Back{Way: BackByConfiguration, Text: text}
	back.Steps = append(j.replaceConfiguration("Put back what was there before", PartParams{Part: j.Can.Parts[0].Name}), j.step(0, Services), j.step(0, Verify))
	for i := range back.Steps {
		back.Steps[i] = marked(back.Steps[i])
	}
	plan.Back = []Back{back}
	return plan, nil
}

// replaceConfiguration are the steps that put a configuration in the place of the one that is there.
func (j *ServicesJob) replaceConfiguration(title string, p PartParams) (out []Step) {
	for _, s := range j.putBack(0) {
		if s.Kind == PutPart {
			s.Title, s.Params = title, p
		}
		out = append(out, s)
		if s.Kind == Login {
			out = append(out, j.step(0, Confirm))
		}
	}
	return out
}

// MovesServices reports whether a change of a kind puts services onto a device, or takes them off one.
func MovesServices(kind string) bool { return kind == Moving || kind == Withdrawing }

// Where a service stands that moves.
const (
	ServiceHere        = "here"        // on this device alone, as far as is known
	ServiceMoving      = "moving"      // a change puts it onto another one
	ServiceBoth        = "both"        // the other one serves it, and this one still has it
	ServiceWithdrawing = "withdrawing" // a change takes it off
	ServiceGone        = "gone"        // the other one serves it, and it was taken off here
	ServiceUnclear     = "unclear"     // a change that put it elsewhere, or took it off, failed; how it stands is for a person to see
)

// A Moved is a service of a device that a change put elsewhere, or took off; the newest of each counts.
type Moved struct {
	Put      State // of the change that puts it elsewhere; "": none
	TakenOff State // of the change that takes it off; "": none
}

// Stands is where a service stands. there: the device has it now.
func (m Moved) Stands(there bool) string {
	open := func(s State) bool { return s != "" && !s.Over() }
	switch {
	case open(m.TakenOff):
		return ServiceWithdrawing
	case !there && m.TakenOff == Done:
		return ServiceGone
	case open(m.Put):
		return ServiceMoving
	case m.Put == Failed || m.TakenOff == Failed:
		return ServiceUnclear
	case there && m.Put == Done:
		return ServiceBoth
	}
	return ServiceHere
}
