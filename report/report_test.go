package report

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/config"
	"verimorph/core/convert"
)

func TestEveryKindHasAMark(t *testing.T) {
	signs := map[string]string{}
	for _, kind := range append(append([]string{}, convert.States...), DifferenceKinds...) {
		m := Marks[kind]
		assert.NotEmpty(t, m.Sign, kind)
		assert.NotEmpty(t, m.Words, kind)
		signs[kind] = m.Sign
	}
	assert.NotEqual(t, signs[convert.Dropped], signs[convert.Kept])
	assert.Equal(t, "1 needs a person", Counted(convert.NeedsPerson, 1))
	assert.Equal(t, "2 need a person", Counted(convert.NeedsPerson, 2))
}

func comparison(t testing.TB, old, new string) *Report {
	s := config.Simple(config.BlockIndent, []string{"secret"}, nil)
	a, _ := config.Parse("a", old, config.BlockIndent)
	b, _ := config.Parse("b", new, config.BlockIndent)
	return Comparison("Comparison of a with b", "a", "b", s.MaskText("a", old), s.MaskText("b", new), config.Compare(a, b, s))
}

// Rows hold every line of both sides once and in order, whatever the texts are.
func TestRowsHoldEveryLineOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`([a-d]{1,2}\n){0,12}`)
		r := &Report{Left: side("l", text.Draw(t, "left")), Right: side("r", text.Draw(t, "right"))}
		for range rapid.IntRange(0, 5).Draw(t, "links") {
			r.links = append(r.links, [2]int{rapid.IntRange(-1, 15).Draw(t, "l"), rapid.IntRange(-1, 15).Draw(t, "r")})
		}
		l, rt := 0, 0
		for _, row := range r.Rows() {
			if row.Left >= 0 {
				if row.Left != l {
					t.Fatalf("left line %d where %d was due", row.Left, l)
				}
				l++
			}
			if row.Right >= 0 {
				if row.Right != rt {
					t.Fatalf("right line %d where %d was due", row.Right, rt)
				}
				rt++
			}
		}
		if l != len(r.Left.Lines) || rt != len(r.Right.Lines) {
			t.Fatalf("%d of %d and %d of %d lines", l, len(r.Left.Lines), rt, len(r.Right.Lines))
		}
	})
}

func TestLinesThatBelongTogetherShareARow(t *testing.T) {
	r := comparison(t, "a 1\nb 2\nc 3\n", "x 9\na 1\nc 4\n")
	var rows []string
	for _, p := range r.Rows() {
		rows = append(rows, fmt.Sprint(p.Left+1, "|", p.Right+1))
	}
	assert.Equal(t, []string{"0|1", "1|2", "2|0", "3|3"}, rows)
}

func TestHTMLNeedsNothingElseAndShowsNoSecret(t *testing.T) {
	var b bytes.Buffer
	r := comparison(t, "name <b>\nuser x\n  secret aa11\n", "name \"y & z\"\nuser x\n  secret bb22\n# secret cc33\n")
	require.NoError(t, r.HTML(&b))
	page := b.String()
	for _, bad := range []string{"aa11", "bb22", "cc33", "http:", "https:", "<script", "src=", "<b>\n"} {
		assert.NotContains(t, page, bad)
	}
	for _, good := range []string{"name &lt;b&gt;", "y &amp; z", "secret ***", "2 changed", "1 cosmetic", `class="m"`} {
		assert.Contains(t, page, good)
	}
}

func TestPDFLeavesOutLongRunsThatAreTheSame(t *testing.T) {
	lines := make([]string, 2000)
	for i := range lines {
		lines[i] = fmt.Sprintf("line%d value", i)
	}
	old := strings.Join(lines, "\n") + "\n"
	lines[1000] += " changed å ×"
	var small, large bytes.Buffer
	require.NoError(t, comparison(t, old, strings.Join(lines, "\n")+"\n").PDF(&small))
	assert.True(t, strings.HasPrefix(small.String(), "%PDF-"))
	for i := range lines {
		lines[i] += " y"
	}
	require.NoError(t, comparison(t, old, strings.Join(lines[:300], "\n")+"\n").PDF(&large))
	assert.Less(t, strings.Count(small.String(), "/Type /Page\n"), 4)
	assert.Greater(t, strings.Count(large.String(), "/Type /Page\n"), 10)
}

// A forecast shows what is worst in each cell of its grid, and both papers hold all of it.
func TestForecastOnPaper(t *testing.T) {
	f := &Forecast{Title: "Forecast of change 1", Seconds: 90, Facts: [][2]string{{"State", "draft"}},
		Lanes:   []Lane{{Name: "fw1", Text: "active", Bars: []LaneBar{{0, 90, "work", "all the time"}, {30, 60, "down", "restart"}}}},
		Clients: []Lane{{Name: "tunnels <all>", Bars: []LaneBar{{10, 20, "degraded", "set up anew"}, {15, 16, "outage", "keys"}}}},
		Steps:   []ForecastStep{{1, "fw1", "Restart", "waiting", 30, 60}}, Probes: []string{"one interruption"}}
	cells := f.cells(&f.Lanes[0])
	assert.Equal(t, []string{"work", "down", "work"}, []string{cells[0], cells[45], cells[89]})
	assert.Equal(t, "outage", f.cells(&f.Clients[0])[15])
	var page, paper bytes.Buffer
	require.NoError(t, f.HTML(&page))
	for _, want := range []string{"Forecast of change 1", "tunnels &lt;all&gt;", "0:30 min to 1:00 min", "one interruption", "left:33.333%;width:33.333%"} {
		assert.Contains(t, page.String(), want)
	}
	require.NoError(t, f.PDF(&paper))
	assert.True(t, bytes.HasPrefix(paper.Bytes(), []byte("%PDF-")))
	assert.Equal(t, "1:01:05 h", Clock(3665))
}

// A sheet for the rack names every cable with its label, every task in its order, and how to undo it.
func TestASheetForTheRack(t *testing.T) {
	s := &Sheet{Title: "larger in the place of small", Old: "small", New: "larger", Facts: [][2]string{{"Window", "01:00 to 03:00"}},
		Cables: []SheetCable{{From: "p1", Label: "rack 1, <panel 4>", To: "x1"}, {From: "p3", Note: "left out: unused"}},
		Hands:  []SheetTask{{4, "Switch small off"}, {5, "Move the cable"}}, Back: []SheetTask{{0, "Switch larger off"}}}
	var page, paper bytes.Buffer
	require.NoError(t, s.HTML(&page))
	for _, want := range []string{"larger in the place of small", "rack 1, &lt;panel 4&gt;", "x1", "left out: unused", "Step 4. Switch small off", "To go back", "Switch larger off", "01:00 to 03:00"} {
		assert.Contains(t, page.String(), want)
	}
	assert.NotContains(t, page.String(), "Step 0")
	require.NoError(t, s.PDF(&paper))
	assert.True(t, bytes.HasPrefix(paper.Bytes(), []byte("%PDF-")))
	s.Back = nil
	page.Reset()
	require.NoError(t, s.HTML(&page))
	assert.NotContains(t, page.String(), "To go back")
}

// What travels with a unit names it once large, every task in its order with a number, and every cable; where nobody knows which unit comes back, none is named.
func TestWhatTravelsWithAUnit(t *testing.T) {
	p := &Packing{Site: "Quay <north>", Device: "quay-fw1", Serial: "N-1", Model: "B4", Version: "2.0", Cables: []SheetCable{{From: "p1", Label: "panel <4>"}}, Facts: [][2]string{{"Release", "2.0"}},
		Tasks: []SheetTask{{Text: "See that the serial is N-1"}, {Text: "Switch it on"}}}
	var page, paper bytes.Buffer
	require.NoError(t, p.HTML(&page))
	for _, want := range []string{"<b>Quay &lt;north&gt;</b>", "serial N-1", "Parcel ____", "panel &lt;4&gt;", "1. See that the serial is N-1", "2. Switch it on", "the port of the same name"} {
		assert.Contains(t, page.String(), want)
	}
	require.NoError(t, p.PDF(&paper))
	assert.True(t, bytes.HasPrefix(paper.Bytes(), []byte("%PDF-")))
	p.Cables, p.Parcel = nil, "RX-1"
	page.Reset()
	require.NoError(t, p.HTML(&page))
	assert.NotContains(t, page.String(), "the port of the same name")
	assert.Contains(t, page.String(), "Parcel RX-1")
}
