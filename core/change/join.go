package change

import "fmt"

// Boxes that stand alone come under a controller, and stand alone again. Both ways the box loses its configuration, so that the way back puts the one of a
// backup onto it. Such a change has two members: the controller, which tells what becomes of the box while that has no command line of its own, and the box.

// The members of such a change.
const (
	theController = 1
	theBox        = 2
)

// A JoinJob is what such a change is drafted from. Paths are of one hop: from what runs to what runs afterwards.
type JoinJob struct {
	Controller, Box Job
	Params          JoinParams
	Licences        []string // that the controller is given first
	Managed         bool     // the box follows the controller when the change begins
	Empty           bool     // of a box that stands alone again: nothing is put onto it
	Measured        bool     // there are readings of the box from when it stood alone
}

// DraftJoin lists the steps that bring a box under a controller, and the ways back of both.
func DraftJoin(j *JoinJob) (*EnsemblePlan, error) {
	switch {
	case !j.Box.Can.Follow:
		return nil, fmt.Errorf("the dialect of %s has no become-managed, so it is brought under a controller by hand", j.Params.Child)
	case !j.Controller.Can.Children.Told:
		return nil, fmt.Errorf("%s does not tell what follows it: its dialect has no table of children", j.Params.Controller)
	case j.Params.Group != "" && !j.Controller.Can.Children.Group:
		return nil, fmt.Errorf("the dialect of %s has no group-child, so the group is set by hand", j.Params.Controller)
	case len(j.Licences) > 0 && !j.Controller.Can.Licence:
		return nil, fmt.Errorf("the dialect of %s has no add-licence, so licences are given by hand", j.Params.Controller)
	}
	j.Measured = true // its readings are taken first
	d := j.begin()
	d.lane(theBox, j.Box.step(0, Backup))
	for _, name := range j.Licences {
		d.lane(theController, j.Controller.licence(name))
	}
	d.lane(theBox, j.Box.step(0, GoNoGo), d.last[theController])
	j.convert(d)
	j.end(d)
	back := Back{Way: NoWayBack, Text: "none: the dialect of the controller has no release-child"}
	if j.Controller.Can.Children.Release {
		back = Back{Way: BackByReinstall, Text: fmt.Sprintf("%s gives it back to stand-alone, and the configuration of the backup is put onto it", j.Params.Controller),
			Steps: j.FromHere(JoinStand{Answers: true, Listed: true}, false, true).Steps}
	}
	d.p.Back = [][]Back{{{Way: BackNotNeeded, Text: "it goes on running what it runs"}}, {back}}
	return d.p, nil
}

// DraftRelease lists the steps that have a box stand alone again.
func DraftRelease(j *JoinJob) (*EnsemblePlan, error) {
	if !j.Controller.Can.Children.Release {
		return nil, fmt.Errorf("the dialect of %s has no release-child, so a box is made stand-alone by hand", j.Params.Controller)
	}
	d := j.begin()
	d.lane(theController, j.Controller.step(0, GoNoGo))
	j.give(d)
	j.comesBack(d, j.Empty)
	j.end(d)
	back := Back{Way: NoWayBack, Text: "none: the dialect of the box has no become-managed"}
	if j.Box.Can.Follow {
		back = Back{Way: BackByReinstall, Text: fmt.Sprintf("it is brought under %s again", j.Params.Controller), Steps: j.FromHere(JoinStand{Answers: true, Alone: true}, true, true).Steps}
	}
	d.p.Back = [][]Back{{{Way: BackNotNeeded, Text: "it goes on running what it runs"}}, {back}}
	return d.p, nil
}

// begin makes a plan with what is looked at first: the box only where it answers by itself.
func (j *JoinJob) begin() *ensembleDraft {
	d := &ensembleDraft{p: &EnsemblePlan{}, last: make([]int, theBox+1)}
	d.lane(theController, j.Controller.step(-1, Readings))
	if !j.Managed {
		d.lane(theBox, j.Box.step(-1, Readings))
	}
	d.lane(theController, j.Controller.step(0, Check))
	if !j.Managed {
		d.lane(theBox, j.Box.step(0, Check))
	}
	d.lane(theController, j.Controller.step(0, Backup))
	return d
}

// convert adds the steps that bring the box under the controller.
func (j *JoinJob) convert(d *ensembleDraft) {
	n := d.lane(theBox, j.Box.step(0, BecomeManaged, j.Params), d.last[theController])
	join := j.Controller.step(0, JoinController, j.Params)
	join.Title = "Wait for " + j.Params.Child + " to join"
	d.lane(theController, join, n)
	if j.Controller.Can.Save {
		d.lane(theController, j.Controller.step(0, Save))
	}
}

// give adds the step in which the controller lets the box go.
func (j *JoinJob) give(d *ensembleDraft) {
	s := j.Controller.step(0, ReleaseChild, j.Params)
	s.Title = "Give " + j.Params.Child + " back"
	d.lane(theController, s, d.last[theBox])
}

// comesBack adds the steps in which a box that stands alone again is waited for and gets its configuration back.
func (j *JoinJob) comesBack(d *ensembleDraft, empty bool) {
	gate := d.last[theController]
	for _, k := range []Kind{Link, Login, Confirm} {
		d.lane(theBox, j.Box.step(0, k), gate)
	}
	if !empty {
		for _, s := range j.Box.putBack(0) {
			d.lane(theBox, s)
		}
	}
	d.lane(theBox, j.Box.step(0, Services))
	if !j.Measured {
		return
	}
	settle := j.Box.step(0, Settle)
	settle.Title = "Compare readings"
	d.lane(theBox, settle)
}

// end adds the verdict.
func (j *JoinJob) end(d *ensembleDraft) {
	s := j.Controller.verify()
	s.Member = 0
	d.add(s, d.last[theController], d.last[theBox])
}

// A JoinStand is how the two stand when such a change has come to rest.
type JoinStand struct {
	Answers bool // the controller does
	Listed  bool // the controller shows the box
	Alone   bool // the box answers by itself
}

// FromHere says how such a change goes on from where it rests. releasing: the box was to stand alone; begun: the command that converts it was begun.
func (j *JoinJob) FromHere(s JoinStand, releasing, begun bool) HalfWay {
	from := [2]string{j.Controller.Path.From.String(), j.Box.Path.From.String()}
	h := HalfWay{Hops: []int{0, 0}, To: from[:]}
	d := &ensembleDraft{p: &EnsemblePlan{}, last: make([]int, theBox+1)}
	name, under := j.Params.Child, j.Params.Controller
	lost := HandParams{Task: fmt.Sprintf("bring %s back to its factory state at the box itself, until it answers", name)}
	switch {
	case !s.Answers:
		h.Why = under + " does not answer, so nobody can say where " + name + " is; see to it first"
	case releasing && s.Listed:
		h.Why = fmt.Sprintf("%s still follows %s; nothing has to be undone", name, under)
	case releasing && !j.Box.Can.Follow:
		h.Why = fmt.Sprintf("%s cannot be brought under %s again by a change: its dialect has no become-managed", name, under)
	case releasing:
		h.Back, h.Why = true, fmt.Sprintf("%s does not follow %s any more, and is brought under it again", name, under)
		if !s.Alone {
			d.lane(theBox, j.Box.step(0, Hand, lost))
		}
		j.convert(d)
	case !s.Listed && s.Alone && !begun:
		h.Why = name + " stands alone as before; nothing has to be undone"
	case s.Listed && !j.Controller.Can.Children.Release:
		h.Why = fmt.Sprintf("%s cannot be given back by a change: the dialect of %s has no release-child", name, under)
	default:
		j.Measured = true
		h.Back, h.Why = true, fmt.Sprintf("%s is given back to stand-alone, with the configuration that it had", name)
		if !s.Listed && !s.Alone {
			h.Why = fmt.Sprintf("%s neither follows %s nor answers by itself; a person brings it back to its factory state, then its configuration is put onto it", name, under)
			d.lane(theBox, j.Box.step(0, Hand, lost))
		}
		if s.Listed {
			j.give(d)
		}
		j.comesBack(d, false)
	}
	if h.Back {
		j.end(d)
		for _, st := range d.p.Steps {
			h.Steps = append(h.Steps, marked(st))
		}
	}
	return h
}
