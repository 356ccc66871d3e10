// Package verify compares what was measured on a device before and after a change and gives a verdict with evidence.
//
// A reading has one of three results: a value; not readable, with what was seen; not applicable, because the device says that it has no
// such thing. An expectation is met only when the values that it compares were measured. One that had nothing to compare with is not
// proven, which is neither met nor unmet, and keeps the verdict from being a pass.
//
// Pending is not failed and failed is not pending: an expectation that is not met yet is pending until its time to
// settle has run out.
package verify

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Type is the type of a reading.
type Type string

// The types of readings.
const (
	Flag   Type = "flag"
	Number Type = "number"
	Text   Type = "text"
	Set    Type = "set" // of names, such as the ports that are up
	// Not values, but what came of a reading instead. Text says what was seen.
	NotReadable   Type = "not-readable"
	NotApplicable Type = "not-applicable"
)

// A Value is one measured fact. Only the field of its type is used.
type Value struct {
	Type   Type     `json:"type"`
	Flag   bool     `json:"flag,omitempty"`
	Number float64  `json:"number,omitempty"`
	Text   string   `json:"text,omitempty"`
	Set    []string `json:"set,omitempty"` // sorted, no doubles
}

// Known reports whether it is a value at all.
func (v Value) Known() bool { return v.Type != "" && v.Type != NotReadable && v.Type != NotApplicable }

// String shows a value in a few words.
func (v Value) String() string {
	switch v.Type {
	case NotReadable:
		return strings.TrimSuffix("not readable: "+v.Text, ": ")
	case NotApplicable:
		return strings.TrimSuffix("not applicable: "+v.Text, ": ")
	case Flag:
		return map[bool]string{true: "yes", false: "no"}[v.Flag]
	case Number:
		return strconv.FormatFloat(v.Number, 'f', -1, 64)
	case Set:
		if len(v.Set) == 0 {
			return "none"
		}
		if len(v.Set) > mostShown { // hundreds of access points
			return fmt.Sprintf("%s and %d more, %d in all", strings.Join(v.Set[:someShown], ", "), len(v.Set)-someShown, len(v.Set))
		}
		return strings.Join(v.Set, ", ")
	case Text:
		if v.Text == "" {
			return "nothing"
		}
	}
	return v.Text
}

// Of a set with more than mostShown elements someShown are shown.
const (
	mostShown = 60
	someShown = 12
)

// Readings are what came of readings, by name. One that nobody took is absent.
type Readings map[string]Value

// of is what came of a reading; one that is absent was not read.
func (r Readings) of(name string) Value {
	if v, ok := r[name]; ok {
		return v
	}
	return Value{Type: NotReadable, Text: "it was not read"}
}

// Rules of expectations.
const (
	Unchanged = "unchanged" // equals the reading before
	AtLeast   = "at-least"  // number, or size of a set: at least Percent of before
	KeepsAll  = "keeps-all" // set: nothing of before is missing; more is fine
	Equals    = "equals"    // equals Value
	Within    = "within"    // number: at most Value away from zero
	NoNew     = "no-new"    // set: nothing that was not there before; less is fine
	Contains  = "contains"  // set: all of Value is there; more is fine
	Changed   = "changed"   // any: not what it was before, and as Matches says
)

// Severities: what an expectation that is not met means for the verdict.
const (
	Fails    = "fail"
	Degrades = "degraded"
)

// An Expectation is what a reading must satisfy after a change.
type Expectation struct {
	Reading  string
	Title    string
	Rule     string
	Percent  float64 // AtLeast
	Value    Value   // Equals, Within, Contains
	Matches  string  // Changed: regular expression that the whole of the new value matches; "": any value
	Severity string
}

// Compares reports whether the expectation needs the reading before.
func (e *Expectation) Compares() bool {
	return e.Rule != Equals && e.Rule != Within && e.Rule != Contains
}

// Vacuous reports whether a value from before proves nothing, because anything afterwards would satisfy the rule.
func (e *Expectation) Vacuous(before Value) bool {
	return (e.Rule == KeepsAll || e.Rule == AtLeast) && before.Known() && size(before) == 0
}

// Nothing says why there is nothing to compare with, given what was read before; "" when there is something.
func (e *Expectation) Nothing(before Value) string {
	switch {
	case !e.Compares() || before.Type == NotApplicable:
		return ""
	case !before.Known():
		return before.String()
	case e.Vacuous(before):
		return "it was " + before.String() + " before, so anything would do"
	}
	return ""
}

// States of a result.
const (
	Met     = "met"
	Pending = "pending"
	Unmet   = "unmet"
	// NotProven: there was nothing to compare with, or nothing could be read. It is neither met nor unmet.
	NotProven = "not-proven"
	// Inapplicable: the device says before and after that it has no such thing.
	Inapplicable = "not-applicable"
)

// A Result is one expectation held against the readings.
type Result struct {
	Reading  string `json:"reading"`
	Title    string `json:"title"`
	State    string `json:"state"`
	Severity string `json:"severity"`
	Before   *Value `json:"before,omitempty"`
	After    *Value `json:"after,omitempty"`
	Evidence string `json:"evidence"` // what was expected and what was seen, in a sentence
}

// Verdicts.
const (
	Pass     = "pass"
	Degraded = "degraded"
	Fail     = "fail"
)

// A Verdict is the outcome of a change with its evidence, in the order of the expectations.
type Verdict struct {
	Verdict string   `json:"verdict"`
	Results []Result `json:"results"`
}

// Judge holds the expectations against the readings. While settling, an expectation that is not met, and one whose reading cannot be
// read now, is pending.
func Judge(expectations []Expectation, before, after Readings, settling bool) []Result {
	out := make([]Result, 0, len(expectations))
	for _, e := range expectations {
		b, a := before.of(e.Reading), after.of(e.Reading)
		r := Result{Reading: e.Reading, Title: e.Title, Severity: e.Severity}
		if _, ok := before[e.Reading]; ok {
			r.Before = &b
		}
		if _, ok := after[e.Reading]; ok {
			r.After = &a
		}
		if r.State, r.Evidence = judge(e, b, a); settling && (r.State == Unmet || r.State == NotProven && !a.Known()) {
			r.State = Pending
		}
		out = append(out, r)
	}
	return out
}

// judge is the state of one expectation, and the sentence that says what was compared with what.
func judge(e Expectation, before, after Value) (state, evidence string) {
	switch {
	case after.Type == NotApplicable && before.Type == NotApplicable:
		return Inapplicable, "the device has no such thing, before and after"
	case after.Type == NotApplicable && e.Compares() && before.Known():
		return Unmet, fmt.Sprintf("was %s; now the device says that it has no such thing", before)
	case !after.Known() && e.Compares():
		return NotProven, fmt.Sprintf("before: %s; after: %s", before, after)
	case !after.Known():
		return NotProven, fmt.Sprintf("after: %s; nothing can be said of it", after)
	case e.Compares() && !before.Known():
		return NotProven, fmt.Sprintf("before: %s; after: %s; there is nothing to compare with", before, after)
	}
	// A reading that was defined anew meanwhile, or a rule that does not fit it, proves nothing.
	if why := unfit(e, before, after); why != "" {
		return NotProven, why
	}
	if e.Vacuous(before) {
		return NotProven, fmt.Sprintf("before: %s; after: %s; there is nothing to compare with", before, after)
	}
	met, evidence := holds(e, before, after)
	if met {
		return Met, evidence
	}
	return Unmet, evidence
}

// Conclude turns final results into a verdict: pass when every line was measured and met, or is not applicable by the device's own
// word. A line that is not proven makes it degraded at best; one that was measured before and cannot be read any more weighs like one
// that is not met. Pending results count as unmet: whoever concludes has stopped waiting. Without any measured line there is no proof,
// so the verdict is Fail.
func Conclude(results []Result) Verdict {
	v := Verdict{Verdict: Pass, Results: results}
	worse := func(to string) {
		if v.Verdict == Pass || to == Fail {
			v.Verdict = to
		}
	}
	measured := false
	for _, r := range results {
		measured = measured || r.State == Met || r.State == Unmet
		switch {
		case r.State == Met || r.State == Inapplicable:
		case r.State == NotProven && !r.lost():
			worse(Degraded)
		case r.Severity == Degrades:
			worse(Degraded)
		default:
			worse(Fail)
		}
	}
	if !measured {
		v.Verdict = Fail
	}
	return v
}

// lost reports whether something was measured before and cannot be read any more.
func (r *Result) lost() bool {
	return r.Before != nil && r.Before.Known() && (r.After == nil || !r.After.Known())
}

// Open lists the results that are neither met nor inapplicable.
func (v *Verdict) Open() (out []Result) {
	for _, r := range v.Results {
		if r.State != Met && r.State != Inapplicable {
			out = append(out, r)
		}
	}
	return out
}

// unfit says why a rule says nothing about what was read; "" when it does.
func unfit(e Expectation, before, after Value) string {
	switch {
	case e.Compares() && before.Type != after.Type:
		return fmt.Sprintf("was a %s before and is a %s now: the reading was defined anew, and there is nothing to compare with", before.Type, after.Type)
	case (e.Rule == KeepsAll || e.Rule == NoNew || e.Rule == Contains) && after.Type != Set, e.Rule == Within && after.Type != Number, e.Rule == AtLeast && after.Type != Set && after.Type != Number:
		return fmt.Sprintf("the rule %s says nothing about a %s", e.Rule, after.Type)
	case !slices.Contains([]string{Unchanged, AtLeast, KeepsAll, Equals, Within, NoNew, Contains, Changed}, e.Rule):
		return fmt.Sprintf("the rule %q is not known", e.Rule)
	}
	return ""
}

func holds(e Expectation, before, after Value) (bool, string) {
	switch e.Rule {
	case Unchanged:
		if before.Type == Set {
			missing, extra := difference(before.Set, after.Set), difference(after.Set, before.Set)
			return len(missing)+len(extra) == 0, setEvidence(before, missing, extra)
		}
		return equal(before, after), fmt.Sprintf("was %s, is %s", before, after)
	case KeepsAll:
		missing := difference(before.Set, after.Set)
		return len(missing) == 0, setEvidence(before, missing, difference(after.Set, before.Set))
	case AtLeast:
		b, a := size(before), size(after)
		return a >= b*e.Percent/100, fmt.Sprintf("was %g, is %g; at least %g %% of before is expected", b, a, e.Percent)
	case NoNew:
		extra := difference(after.Set, before.Set)
		if len(extra) == 0 {
			return true, "nothing new"
		}
		return false, fmt.Sprintf("%d new: %s", len(extra), strings.Join(extra, ", "))
	case Contains:
		missing := difference(e.Value.Set, after.Set)
		if len(missing) == 0 {
			return true, fmt.Sprintf("is %s", after)
		}
		return false, fmt.Sprintf("is %s; %s is missing", after, strings.Join(missing, ", "))
	case Within:
		return math.Abs(after.Number) <= e.Value.Number, fmt.Sprintf("is %g; at most %g away from 0 is expected", after.Number, e.Value.Number)
	case Changed:
		return changed(e.Matches, before, after)
	case Equals:
		return equal(e.Value, after), fmt.Sprintf("is %s; %s is expected", after, e.Value)
	}
	return false, "" // not reached: unfit has looked
}

// changed holds a value that was foretold to become another one against what it became.
func changed(pattern string, before, after Value) (bool, string) {
	evidence := fmt.Sprintf("was %s, is %s", before, after)
	if equal(before, after) {
		return false, "is still " + after.String() + "; another value was foretold"
	}
	if pattern == "" {
		return true, evidence
	}
	ok, err := regexp.MatchString("^(?:"+pattern+")$", after.String())
	if err != nil || !ok {
		return false, evidence + "; one that matches " + pattern + " was foretold"
	}
	return true, evidence
}

func setEvidence(before Value, missing, extra []string) string {
	parts := []string{"it is there"}
	if n := len(before.Set); n != 1 {
		parts[0] = fmt.Sprintf("all %d are there", n)
	}
	if len(missing) > 0 {
		parts[0] = fmt.Sprintf("%d of %d missing: %s", len(missing), len(before.Set), strings.Join(missing, ", "))
	}
	if len(extra) > 0 {
		parts = append(parts, fmt.Sprintf("%d new: %s", len(extra), strings.Join(extra, ", ")))
	}
	return strings.Join(parts, "; ")
}

func equal(a, b Value) bool {
	return a.Type == b.Type && a.Flag == b.Flag && a.Number == b.Number && a.Text == b.Text && slices.Equal(a.Set, b.Set)
}

func size(v Value) float64 {
	if v.Type == Set {
		return float64(len(v.Set))
	}
	return v.Number
}

func difference(a, b []string) (out []string) {
	for _, s := range a {
		if !slices.Contains(b, s) {
			out = append(out, s)
		}
	}
	return out
}
