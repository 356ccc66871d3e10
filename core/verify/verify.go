// Package verify compares what was measured on a device before and after a change and gives a verdict with evidence.
//
// Pending is not failed and failed is not pending: an expectation that is not met yet is pending until its time to
// settle has run out. A reading that could not be taken never counts as met.
package verify

import (
	"fmt"
	"math"
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
)

// A Value is one measured fact. Only the field of its type is used.
type Value struct {
	Type   Type     `json:"type"`
	Flag   bool     `json:"flag,omitempty"`
	Number float64  `json:"number,omitempty"`
	Text   string   `json:"text,omitempty"`
	Set    []string `json:"set,omitempty"` // sorted, no doubles
}

// String shows a value in a few words.
func (v Value) String() string {
	switch v.Type {
	case Flag:
		return map[bool]string{true: "yes", false: "no"}[v.Flag]
	case Number:
		return strconv.FormatFloat(v.Number, 'f', -1, 64)
	case Set:
		if len(v.Set) == 0 {
			return "none"
		}
		return strings.Join(v.Set, ", ")
	}
	return v.Text
}

// Readings are values by the name of the reading. A reading that could not be taken is absent.
type Readings map[string]Value

// Rules of expectations.
const (
	Unchanged = "unchanged" // equals the reading before
	AtLeast   = "at-least"  // number, or size of a set: at least Percent of before
	KeepsAll  = "keeps-all" // set: nothing of before is missing; more is fine
	Equals    = "equals"    // equals Value
	Within    = "within"    // number: at most Value away from zero
	NoNew     = "no-new"    // set: nothing that was not there before; less is fine
	Contains  = "contains"  // set: all of Value is there; more is fine
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
	Severity string
}

// Compares reports whether the expectation needs the reading before.
func (e *Expectation) Compares() bool {
	return e.Rule != Equals && e.Rule != Within && e.Rule != Contains
}

// States of a result.
const (
	Met     = "met"
	Pending = "pending"
	Unmet   = "unmet"
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

// Judge holds the expectations against the readings. While settling, an expectation that is not met is pending.
func Judge(expectations []Expectation, before, after Readings, settling bool) []Result {
	out := make([]Result, 0, len(expectations))
	for _, e := range expectations {
		r := Result{Reading: e.Reading, Title: e.Title, Severity: e.Severity, State: Unmet}
		b, hasBefore := before[e.Reading]
		a, hasAfter := after[e.Reading]
		if hasBefore {
			r.Before = &b
		}
		if hasAfter {
			r.After = &a
		}
		switch {
		case !hasAfter:
			r.Evidence = "could not be read after the change"
		case !hasBefore && e.Compares():
			r.Evidence = "could not be read before the change, so there is nothing to compare with"
		default:
			var met bool
			if met, r.Evidence = holds(e, b, a); met {
				r.State = Met
			}
		}
		if r.State == Unmet && settling {
			r.State = Pending
		}
		out = append(out, r)
	}
	return out
}

// Conclude turns final results into a verdict. Pending results count as unmet: whoever concludes has stopped waiting.
// Without any result there is no proof, so the verdict is Fail.
func Conclude(results []Result) Verdict {
	v := Verdict{Verdict: Pass, Results: results}
	if len(results) == 0 {
		v.Verdict = Fail
	}
	for _, r := range results {
		switch {
		case r.State == Met:
		case r.Severity == Degrades:
			if v.Verdict == Pass {
				v.Verdict = Degraded
			}
		default:
			v.Verdict = Fail
		}
	}
	return v
}

func holds(e Expectation, before, after Value) (bool, string) {
	// A reading that was defined anew meanwhile, or a rule that does not fit it, proves nothing.
	switch {
	case e.Compares() && before.Type != after.Type:
		return false, fmt.Sprintf("was a %s before and is a %s now: the reading was defined anew, and there is nothing to compare with", before.Type, after.Type)
	case (e.Rule == KeepsAll || e.Rule == NoNew || e.Rule == Contains) && after.Type != Set, e.Rule == Within && after.Type != Number, e.Rule == AtLeast && after.Type != Set && after.Type != Number:
		return false, fmt.Sprintf("the rule %s says nothing about a %s", e.Rule, after.Type)
	}
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
	case Equals:
		return equal(e.Value, after), fmt.Sprintf("is %s; %s is expected", after, e.Value)
	}
	return false, fmt.Sprintf("the rule %q is not known", e.Rule)
}

func setEvidence(before Value, missing, extra []string) string {
	parts := []string{fmt.Sprintf("all %d are there", len(before.Set))}
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
