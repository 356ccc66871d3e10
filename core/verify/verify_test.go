package verify

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func set(names ...string) Value { return Value{Type: Set, Set: names} }
func unread(seen string) Value  { return Value{Type: NotReadable, Text: seen} }
func num(n float64) Value       { return Value{Type: Number, Number: n} }

func TestJudge(t *testing.T) {
	cases := []struct {
		name          string
		e             Expectation
		before, after Readings
		state         string
		evidence      string
	}{
		{"keeps all", Expectation{Rule: KeepsAll}, Readings{"r": set("a", "b")}, Readings{"r": set("a", "b", "c")}, Met, "all 2 are there; 1 new: c"},
		{"one lost", Expectation{Rule: KeepsAll}, Readings{"r": set("a", "b")}, Readings{"r": set("b")}, Unmet, "1 of 2 missing: a"},
		{"unchanged set has one more", Expectation{Rule: Unchanged}, Readings{"r": set("a")}, Readings{"r": set("a", "b")}, Unmet, "it is there; 1 new: b"},
		{"unchanged number", Expectation{Rule: Unchanged}, Readings{"r": num(3)}, Readings{"r": num(4)}, Unmet, "was 3, is 4"},
		{"enough", Expectation{Rule: AtLeast, Percent: 50}, Readings{"r": num(100)}, Readings{"r": num(50)}, Met, "was 100, is 50"},
		{"too few", Expectation{Rule: AtLeast, Percent: 50}, Readings{"r": num(100)}, Readings{"r": num(49)}, Unmet, "at least 50 %"},
		{"equals", Expectation{Rule: Equals, Value: Value{Type: Flag, Flag: true}}, nil, Readings{"r": {Type: Flag, Flag: true}}, Met, "is yes"},
		{"not read after", Expectation{Rule: KeepsAll}, Readings{"r": set()}, Readings{}, NotProven, "before: none; after: not readable: it was not read"},
		{"not read before", Expectation{Rule: KeepsAll}, nil, Readings{"r": set("a")}, NotProven, "before: not readable: it was not read; after: a; there is nothing to compare with"},
		{"defined anew", Expectation{Rule: AtLeast, Percent: 50}, Readings{"r": set("a")}, Readings{"r": num(7)}, NotProven, "was a set before and is a number now"},
		{"defined anew, to a set", Expectation{Rule: KeepsAll}, Readings{"r": num(7)}, Readings{"r": set("a")}, NotProven, "defined anew"},
		{"at least of a text", Expectation{Rule: AtLeast, Percent: 50}, Readings{"r": {Type: Text, Text: "a"}}, Readings{"r": {Type: Text, Text: "b"}}, NotProven, "the rule at-least says nothing about a text"},
		{"keeps all of a flag", Expectation{Rule: KeepsAll}, Readings{"r": {Type: Flag}}, Readings{"r": {Type: Flag}}, NotProven, "says nothing about a flag"},
		{"unchanged text", Expectation{Rule: Unchanged}, Readings{"r": {Type: Text, Text: "a"}}, Readings{"r": {Type: Text, Text: "b"}}, Unmet, "was a, is b"},
		{"equals another type", Expectation{Rule: Equals, Value: num(1)}, nil, Readings{"r": {Type: Text, Text: "1"}}, Unmet, "is 1; 1 is expected"},
		{"near enough", Expectation{Rule: Within, Value: num(60)}, nil, Readings{"r": num(-60)}, Met, "is -60; at most 60 away from 0"},
		{"too far", Expectation{Rule: Within, Value: num(60)}, nil, Readings{"r": num(-61)}, Unmet, "is -61"},
		{"within of a set", Expectation{Rule: Within, Value: num(60)}, nil, Readings{"r": set()}, NotProven, "says nothing about a set"},
		{"fewer errors", Expectation{Rule: NoNew}, Readings{"r": set("a", "b")}, Readings{"r": set("b")}, Met, "nothing new"},
		{"another error", Expectation{Rule: NoNew}, Readings{"r": set("a", "b")}, Readings{"r": set("b", "c")}, Unmet, "1 new: c"},
		{"errors nobody looked for", Expectation{Rule: NoNew}, nil, Readings{"r": set()}, NotProven, "there is nothing to compare with"},
		{"all of it", Expectation{Rule: Contains, Value: set("a", "b")}, nil, Readings{"r": set("a", "b", "c")}, Met, "is a, b, c"},
		{"not all of it", Expectation{Rule: Contains, Value: set("a", "b")}, nil, Readings{"r": set("b", "c")}, Unmet, "a is missing"},
		{"nothing to keep", Expectation{Rule: KeepsAll}, Readings{"r": set()}, Readings{"r": set("a")}, NotProven, "before: none; after: a; there is nothing to compare with"},
		{"a percentage of nothing", Expectation{Rule: AtLeast, Percent: 50}, Readings{"r": num(0)}, Readings{"r": num(0)}, NotProven, "before: 0; after: 0"},
		{"still none", Expectation{Rule: Unchanged}, Readings{"r": set()}, Readings{"r": set()}, Met, "all 0 are there"},
		{"no error before", Expectation{Rule: NoNew}, Readings{"r": set()}, Readings{"r": set("a")}, Unmet, "1 new: a"},
		{"not understood before and after", Expectation{Rule: KeepsAll}, Readings{"r": unread("%% fault")}, Readings{"r": unread("%% fault")}, NotProven, "before: not readable: %% fault; after: not readable: %% fault"},
		{"not understood after", Expectation{Rule: KeepsAll}, Readings{"r": set("a")}, Readings{"r": unread("%% fault")}, NotProven, "before: a; after: not readable: %% fault"},
		{"not understood, by itself", Expectation{Rule: Equals, Value: num(1)}, nil, Readings{"r": unread("x")}, NotProven, "after: not readable: x"},
		{"no such thing", Expectation{Rule: KeepsAll}, Readings{"r": {Type: NotApplicable}}, Readings{"r": {Type: NotApplicable}}, Inapplicable, "no such thing"},
		{"no such thing any more", Expectation{Rule: KeepsAll}, Readings{"r": set("a")}, Readings{"r": {Type: NotApplicable}}, Unmet, "was a; now"},
		{"there is one now", Expectation{Rule: KeepsAll}, Readings{"r": {Type: NotApplicable}}, Readings{"r": set("a")}, NotProven, "nothing to compare with"},
		{"changed as foretold", Expectation{Rule: Changed, Matches: "V2-.+"}, Readings{"r": {Type: Text, Text: "V1-7"}}, Readings{"r": {Type: Text, Text: "V2-7"}}, Met, "was V1-7, is V2-7"},
		{"changed otherwise", Expectation{Rule: Changed, Matches: "V2-.+"}, Readings{"r": {Type: Text, Text: "V1-7"}}, Readings{"r": {Type: Text, Text: "XV2-7"}}, Unmet, "one that matches V2-.+ was foretold"},
		{"did not change", Expectation{Rule: Changed, Matches: ".*"}, Readings{"r": {Type: Text, Text: "V1-7"}}, Readings{"r": {Type: Text, Text: "V1-7"}}, Unmet, "is still V1-7; another value was foretold"},
		{"changed, nothing before", Expectation{Rule: Changed}, nil, Readings{"r": {Type: Text, Text: "V1-7"}}, NotProven, "there is nothing to compare with"},
		{"unknown rule", Expectation{Rule: "hm"}, Readings{"r": num(1)}, Readings{"r": num(1)}, NotProven, "not known"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			c.e.Reading = "r"
			got := Judge([]Expectation{c.e}, c.before, c.after, false)[0]
			assert.Equal(t, c.state, got.State)
			assert.Contains(t, got.Evidence, c.evidence)
			want := c.state
			if a, ok := c.after["r"]; c.state == Unmet || c.state == NotProven && (!ok || !a.Known()) {
				want = Pending
			}
			assert.Equal(t, want, Judge([]Expectation{c.e}, c.before, c.after, true)[0].State, "while settling")
		})
	}
}

// Whatever is read: nothing missing is ever called met, and settling only ever turns unmet into pending.
func TestJudgeAnything(t *testing.T) {
	value := rapid.Custom(func(t *rapid.T) Value {
		v := Value{Type: rapid.SampledFrom([]Type{Flag, Number, Text, Set, NotReadable, NotApplicable}).Draw(t, "type")}
		switch v.Type {
		case Flag:
			v.Flag = rapid.Bool().Draw(t, "flag")
		case Number:
			v.Number = float64(rapid.IntRange(0, 20).Draw(t, "number"))
		case Text:
			v.Text = rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, "text")
		case Set:
			v.Set = slices.Compact(slices.Sorted(slices.Values(rapid.SliceOfN(rapid.SampledFrom([]string{"p1", "p2", "p3", "p4"}), 0, 4).Draw(t, "set"))))
		}
		return v
	})
	readings := rapid.Custom(func(t *rapid.T) Readings {
		r := Readings{}
		for _, name := range []string{"x", "y", "z"} {
			if rapid.IntRange(0, 4).Draw(t, "there") > 0 {
				r[name] = value.Draw(t, name)
			}
		}
		return r
	})
	rapid.Check(t, func(t *rapid.T) {
		var expect []Expectation
		for _, name := range []string{"x", "y", "z"} {
			expect = append(expect, Expectation{Reading: name, Rule: rapid.SampledFrom([]string{Unchanged, AtLeast, KeepsAll, Equals}).Draw(t, "rule"), Percent: 50,
				Value: value.Draw(t, "expected"), Severity: rapid.SampledFrom([]string{Fails, Degrades}).Draw(t, "severity")})
		}
		before, after := readings.Draw(t, "before"), readings.Draw(t, "after")
		final, settling := Judge(expect, before, after, false), Judge(expect, before, after, true)
		require.Len(t, final, len(expect), "every expectation has its line")
		verdict := Conclude(final)
		worst, measured := Pass, false
		for i, r := range final {
			e := expect[i]
			b, hadBefore := before[e.Reading]
			a, hasAfter := after[e.Reading]
			assert.NotEmpty(t, r.Evidence)
			assert.NotEqual(t, Pending, r.State, "whoever concludes has stopped waiting")
			assert.Equal(t, r.State == Met, settling[i].State == Met)
			assert.NotEqual(t, Unmet, settling[i].State)
			if r.State == Met {
				assert.True(t, hasAfter && a.Known(), "what was not read is not met")
				if e.Rule != Equals {
					assert.True(t, hadBefore && b.Known())
					assert.Equal(t, b.Type, a.Type)
				}
				if e.Rule == KeepsAll {
					assert.Subset(t, a.Set, b.Set)
					assert.NotEmpty(t, b.Set, "nothing to keep proves nothing")
				}
				measured = true
				continue
			}
			measured = measured || r.State == Unmet
			if r.State == Unmet {
				assert.True(t, hasAfter, "what was not measured is not unmet")
			}
			lost := r.State == NotProven && hadBefore && b.Known() && !(hasAfter && a.Known())
			switch {
			case r.State == Inapplicable:
				assert.Equal(t, NotApplicable, a.Type)
			case e.Severity == Fails && (r.State == Unmet || lost):
				worst = Fail
			case worst == Pass:
				worst = Degraded
			}
			if hadBefore && hasAfter && e.Rule == Unchanged && r.State == Unmet {
				assert.NotEqual(t, b, a)
			}
		}
		if !measured {
			worst = Fail
		}
		assert.Equal(t, worst, verdict.Verdict)
		// The same readings again, and nothing is unchanged that is not.
		for i, r := range Judge(expect, after, after, false) {
			if a, has := after[expect[i].Reading]; has && a.Known() && expect[i].Rule == Unchanged {
				assert.Equal(t, Met, r.State)
			}
		}
	})
}

func TestConclude(t *testing.T) {
	r := func(state, severity string) Result { return Result{State: state, Severity: severity} }
	assert.Equal(t, Fail, Conclude(nil).Verdict, "no evidence is no pass")
	assert.Equal(t, Pass, Conclude([]Result{r(Met, Fails)}).Verdict)
	assert.Equal(t, Degraded, Conclude([]Result{r(Met, Fails), r(Unmet, Degrades)}).Verdict)
	assert.Equal(t, Fail, Conclude([]Result{r(Unmet, Fails), r(Unmet, Degrades)}).Verdict)
	assert.Equal(t, Fail, Conclude([]Result{r(Pending, Fails)}).Verdict)
	assert.Equal(t, Fail, Conclude([]Result{r(Unmet, "")}).Verdict, "an unknown severity is the worse one")
	assert.Equal(t, Degraded, Conclude([]Result{r(Met, Fails), r(NotProven, Fails)}).Verdict, "not proven is no pass")
	assert.Equal(t, Degraded, Conclude([]Result{r(Met, Fails), r(NotProven, Degrades)}).Verdict)
	assert.Equal(t, Pass, Conclude([]Result{r(Met, Fails), r(Inapplicable, Fails)}).Verdict)
	assert.Equal(t, Fail, Conclude([]Result{r(NotProven, Degrades), r(Inapplicable, Fails)}).Verdict, "nothing was measured")
	before, after := num(1), unread("x")
	assert.Equal(t, Fail, Conclude([]Result{r(Met, Fails), {State: NotProven, Severity: Fails, Before: &before, After: &after}}).Verdict, "what can no longer be read may be broken")
	v := Conclude([]Result{r(Met, Fails), r(NotProven, Fails), r(Inapplicable, Fails), r(Unmet, Fails)})
	assert.Len(t, v.Open(), 2)
}

// Whatever sets there are: a rule about them is met exactly when what it forbids is not there.
func TestRulesAboutSets(t *testing.T) {
	names := rapid.SliceOfDistinct(rapid.SampledFrom([]string{"a", "b", "c", "d"}), rapid.ID[string])
	rapid.Check(t, func(t *rapid.T) {
		before, after := names.Draw(t, "before"), names.Draw(t, "after")
		slices.Sort(before)
		slices.Sort(after)
		within := func(a, b []string) bool {
			return !slices.ContainsFunc(a, func(x string) bool { return !slices.Contains(b, x) })
		}
		for rule, want := range map[string]bool{KeepsAll: within(before, after), NoNew: within(after, before), Contains: within(before, after), Unchanged: slices.Equal(before, after)} {
			e := Expectation{Reading: "r", Rule: rule, Value: set(before...)}
			got := Judge([]Expectation{e}, Readings{"r": set(before...)}, Readings{"r": set(after...)}, false)[0]
			if rule == KeepsAll && len(before) == 0 {
				assert.Equal(t, NotProven, got.State)
				continue
			}
			assert.Equal(t, want, got.State == Met, "%s of %v and %v: %s", rule, before, after, got.Evidence)
			assert.NotEmpty(t, got.Evidence)
		}
	})
}

// Whatever the number: within is met on both sides of zero alike, and needs nothing from before.
func TestWithinOfNumbers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, most := rapid.Float64Range(-1e6, 1e6).Draw(t, "n"), rapid.Float64Range(0, 1e6).Draw(t, "most")
		e := Expectation{Reading: "r", Rule: Within, Value: num(most)}
		assert.False(t, e.Compares())
		judge := func(x float64) bool {
			return Judge([]Expectation{e}, nil, Readings{"r": num(x)}, false)[0].State == Met
		}
		assert.Equal(t, max(n, -n) <= most, judge(n))
		assert.Equal(t, judge(n), judge(-n))
		assert.False(t, Judge([]Expectation{e}, nil, Readings{}, false)[0].State == Met, "what could not be read is not met")
	})
}

// Why there is nothing to compare with, as the readiness check tells it.
func TestNothingToCompareWith(t *testing.T) {
	keeps, equals := Expectation{Rule: KeepsAll}, Expectation{Rule: Equals}
	for _, c := range []struct {
		e      Expectation
		before Value
		want   string
	}{
		{keeps, set("a"), ""}, {keeps, Value{Type: NotApplicable, Text: "no ports"}, ""}, {equals, unread("x"), ""},
		{keeps, unread("x"), "not readable: x"}, {keeps, Value{}, ""}, {keeps, set(), "it was none before, so anything would do"},
	} {
		assert.Equal(t, c.want, c.e.Nothing(c.before), "%v", c.before)
	}
	_, evidence := judge(keeps, set("a"), set("a"))
	assert.Equal(t, "it is there", evidence, "nothing new is not told")
}

// A set of hundreds is told by its first elements and how many there are.
func TestALargeSetIsShort(t *testing.T) {
	v := Value{Type: Set}
	for i := range 500 {
		v.Set = append(v.Set, fmt.Sprintf("ap%03d", i))
	}
	assert.Equal(t, "ap000, ap001, ap002, ap003, ap004, ap005, ap006, ap007, ap008, ap009, ap010, ap011 and 488 more, 500 in all", v.String())
	v.Set = v.Set[:60]
	assert.NotContains(t, v.String(), "more")
}
