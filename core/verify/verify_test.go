package verify

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func set(names ...string) Value { return Value{Type: Set, Set: names} }
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
		{"unchanged set has one more", Expectation{Rule: Unchanged}, Readings{"r": set("a")}, Readings{"r": set("a", "b")}, Unmet, "all 1 are there; 1 new: b"},
		{"unchanged number", Expectation{Rule: Unchanged}, Readings{"r": num(3)}, Readings{"r": num(4)}, Unmet, "was 3, is 4"},
		{"enough", Expectation{Rule: AtLeast, Percent: 50}, Readings{"r": num(100)}, Readings{"r": num(50)}, Met, "was 100, is 50"},
		{"too few", Expectation{Rule: AtLeast, Percent: 50}, Readings{"r": num(100)}, Readings{"r": num(49)}, Unmet, "at least 50 %"},
		{"equals", Expectation{Rule: Equals, Value: Value{Type: Flag, Flag: true}}, nil, Readings{"r": {Type: Flag, Flag: true}}, Met, "is yes"},
		{"not read after", Expectation{Rule: KeepsAll}, Readings{"r": set()}, Readings{}, Unmet, "could not be read after"},
		{"not read before", Expectation{Rule: KeepsAll}, nil, Readings{"r": set("a")}, Unmet, "could not be read before"},
		{"unknown rule", Expectation{Rule: "hm"}, Readings{"r": num(1)}, Readings{"r": num(1)}, Unmet, "not known"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			c.e.Reading = "r"
			got := Judge([]Expectation{c.e}, c.before, c.after, false)[0]
			assert.Equal(t, c.state, got.State)
			assert.Contains(t, got.Evidence, c.evidence)
			want := Pending
			if c.state == Met {
				want = Met
			}
			assert.Equal(t, want, Judge([]Expectation{c.e}, c.before, c.after, true)[0].State, "while settling")
		})
	}
}

func TestConclude(t *testing.T) {
	r := func(state, severity string) Result { return Result{State: state, Severity: severity} }
	assert.Equal(t, Fail, Conclude(nil).Verdict, "no evidence is no pass")
	assert.Equal(t, Pass, Conclude([]Result{r(Met, Fails)}).Verdict)
	assert.Equal(t, Degraded, Conclude([]Result{r(Met, Fails), r(Unmet, Degrades)}).Verdict)
	assert.Equal(t, Fail, Conclude([]Result{r(Unmet, Fails), r(Unmet, Degrades)}).Verdict)
	assert.Equal(t, Fail, Conclude([]Result{r(Pending, Fails)}).Verdict)
	assert.Equal(t, Fail, Conclude([]Result{r(Unmet, "")}).Verdict, "an unknown severity is the worse one")
}
