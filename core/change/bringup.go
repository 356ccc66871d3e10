package change

import (
	"fmt"
	"slices"

	"verimorph/core/catalog"
)

// Bringing a blank device up: its first password is replaced, it gets its licences, goes to the wanted release along the path, and gets its configuration.
// Each step finds out by a look at the device whether it is done already, so that a device that is half-way, or done, goes on or stays as it is.

// A BringUpJob is what such a change is drafted from. The last hop of its path is no hop: it stands for what is done on the release that was reached.
type BringUpJob struct {
	Job
	Password bool // a new one is set
	Put      bool // a configuration is put onto it
	// Content are files of components beside the main image, such as signatures, that it is to have on the release that was reached.
	Content []*File
	Calls   bool // it asks by itself for its release and its configuration
}

// DraftBringUp lists the steps that bring a device up.
func DraftBringUp(j BringUpJob) (*Plan, error) {
	last := len(j.Path.Hops) - 1
	part := slices.IndexFunc(j.Can.Parts, func(p Restored) bool { return p.Configuration })
	switch {
	case j.Password && !j.Can.Password:
		return nil, fmt.Errorf("no password can be set on such a device by a change: its dialect has no set-password; keep the first one, or set it by hand")
	case len(j.Licences) > 0 && !j.Can.Licence:
		return nil, fmt.Errorf("no licence can be given to such a device by a change; its dialect has no add-licence")
	case slices.ContainsFunc(j.Content, func(f *File) bool { return !slices.Contains(j.Can.Components, f.Component) }):
		return nil, fmt.Errorf("such a device updates no such component by a command: its dialect has no update-component for it; leave it out, or do it by hand")
	case len(j.Content) > 0 && j.Calls:
		return nil, fmt.Errorf("a device that asks by itself is handed no content; update it once it has called")
	case j.Put && part < 0:
		return nil, fmt.Errorf("no configuration can be put onto such a device by a change: its dialect restores none")
	}
	for i := range last {
		if what := j.beyond(&j.Path.Hops[i]); what != "" {
			return nil, fmt.Errorf("the hop from %s to %s %s, which a change cannot carry out; do it by hand, or look for another path", j.Path.Hops[i].From, j.Path.Hops[i].To, what)
		}
	}
	if j.Calls {
		return j.wait(), nil
	}
	plan := &Plan{Steps: []Step{j.step(0, Check)}}
	add := func(steps ...Step) { plan.Steps = append(plan.Steps, steps...) }
	if j.Password {
		add(j.step(0, SetPassword))
	}
	add(j.licences()...)
	hops := j.Job
	hops.Licences = nil
	for i := range last {
		add(hops.hop(i)...)
		if j.Password && j.Path.Hops[i].Config == catalog.ConfigReset { // it has its first one again
			add(j.step(i, SetPassword))
		}
		plan.Back = append(plan.Back, j.back(i))
	}
	for _, f := range j.Content {
		update := j.step(last, Component, ComponentParams{Component: f.Component, Version: f.Version, File: f})
		update.Title = "Update " + f.Component
		add(append(j.bring(last, f), update)...)
	}
	if j.Put {
		add(j.step(last, Backup))
		put := j.Job
		put.Can.Parts = j.Can.Parts[part : part+1]
		for _, s := range put.putBack(last) {
			if s.Kind == PutPart {
				s.Title = "Put the configuration"
			}
			add(s)
		}
	}
	add(j.step(last, Services), j.verify())
	number(plan.Steps)
	plan.Back = append(plan.Back, Back{Way: BackNotNeeded, Text: "it was blank before; what was put onto it is put anew, or it is reset at the device"})
	return plan, nil
}

// callPatience is how long a device may take until it calls, in seconds of real time: somebody has to carry it to its place first.
const callPatience = 7 * 24 * 3600

// wait lists the steps of a device that asks by itself: release and configuration it takes over alone, and is held against both afterwards.
func (j *BringUpJob) wait() *Plan {
	wait := j.step(0, AwaitCall)
	wait.Expect = catalog.Span{Low: byHand.Low, High: byHand.High, Limit: callPatience}
	plan := &Plan{Steps: []Step{wait, j.step(0, Link), j.step(0, Login), j.step(0, Confirm)}}
	if j.Password {
		plan.Steps = append(plan.Steps, j.step(0, SetPassword))
	}
	plan.Steps = append(append(plan.Steps, j.licences()...), j.step(0, Services), j.verify())
	number(plan.Steps)
	plan.Back = []Back{{Way: BackNotNeeded, Text: "it was blank before; what it was handed is handed anew, or it is reset at the device"}}
	return plan
}

// licences are the steps that give the device those that it is given first.
func (j *Job) licences() (out []Step) {
	for _, name := range j.Licences {
		out = append(out, j.licence(name))
	}
	return out
}

func (j *Job) licence(name string) Step {
	s := j.step(0, Licence, LicenceParams{name})
	s.Title = licenceTitle(name)
	return s
}

func licenceTitle(name string) string { return "Add licence " + name }
