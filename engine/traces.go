package engine

import (
	"encoding/json"
	"fmt"
	"strings"

	"verimorph/core/change"
	"verimorph/store"
)

// traces tells what a change wrote to the device up to a step that failed, and what is gone by that: whoever reads of a failure has to know
// how the device stands.
func (r *run) traces(failed *store.Step) string {
	var done []string
	say := func(format string, args ...any) { done = append(done, fmt.Sprintf(format, args...)) }
	files := map[string]bool{}
	var names []string
	for i := range r.c.Steps {
		s := &r.c.Steps[i]
		began := s.State != change.StepWaiting && s.State != change.StepSkipped
		wrote := began && (s.Attempts > 0 || s.State == change.StepRunning)
		if !wrote {
			continue
		}
		maybe := ""
		if s.State != change.StepDone {
			maybe = ", or was about to be"
		}
		switch s.Plan.Kind {
		case change.CleanUp:
			say("removed%s: %s", maybe, strings.Join(change.Of[change.CleanUpParams](&s.Plan).Files, ", "))
		case change.Licence:
			say("licence %s was added%s", licenceOf(s), maybe)
		case change.Send:
			if name := r.file(s).Name; !files[name] {
				files[name] = true
				names = append(names, name)
			}
		case change.Tidy:
			if s.State == change.StepDone {
				files, names = map[string]bool{}, nil
			}
		case change.Install, change.Clone:
			say("%s", r.writtenTo(s, maybe))
		case change.Component:
			if s.Plan.File() != nil {
				say("%s was updated to %s%s", s.Plan.Component(), s.Plan.Version(), maybe)
			}
		case change.Save:
			say("the running configuration was saved%s; what was saved before is in the backup", maybe)
		case change.PutPart:
			say("%s was put onto it%s", s.Plan.Part(), maybe)
		case change.Drain:
			say("it was drained%s", maybe)
		case change.Undrain:
			say("it was returned to service%s", maybe)
		case change.PowerCycle:
			say("the power of %s was switched off and on%s", s.Plan.Component(), maybe)
		case change.Restart:
			say("it was restarted%s", maybe)
		}
	}
	if len(names) > 0 {
		say("%s lies on the device, whole or in part", strings.Join(names, ", "))
	}
	if len(done) == 0 {
		return "Nothing was written to the device"
	}
	return "On the device: " + strings.Join(done, "; ")
}

// writtenTo tells what an installation wrote over.
func (r *run) writtenTo(s *store.Step, maybe string) string {
	v := r.goal(s)
	if s.Plan.Kind == change.Clone {
		v = "a copy of " + r.hop(s).From.String()
	}
	var in slotIntent
	if s.Intent == nil || json.Unmarshal(s.Intent, &in) != nil {
		return fmt.Sprintf("%s was installed%s", v, maybe)
	}
	if s.Plan.InPlace() {
		return fmt.Sprintf("%s was installed over %s%s", v, in.Version, maybe)
	}
	if in.Version == "" {
		return fmt.Sprintf("%s was written into slot %s%s", v, in.Slot, maybe)
	}
	return fmt.Sprintf("%s was written into slot %s%s; %s, which was there, is gone", v, in.Slot, maybe, in.Version)
}
