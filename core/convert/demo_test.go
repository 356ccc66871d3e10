package convert

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
)

func demo(t testing.TB) *Library {
	l, found := ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found, "%s", found.Error())
	return l
}

func stop(t testing.TB, l *Library, text string) Stop {
	s, err := l.ParseStop(text)
	require.NoError(t, err)
	return s
}

// convert converts a text and holds the ledger against it.
func convert(t testing.TB, l *Library, from, to, text string, change func(*Job)) *Result {
	t.Helper()
	job := Job{From: stop(t, l, from), To: stop(t, l, to)}
	if change != nil {
		change(&job)
	}
	s := l.Schema(job.From)
	d, broken := config.Parse("x", text, s.Syntax)
	require.Empty(t, broken)
	r, err := l.Convert(job, d)
	require.NoError(t, err)
	again, broken := config.Parse("x", r.Text, r.T.Syntax)
	require.Empty(t, broken, "%s", r.Text)
	require.Equal(t, r.Text, again.Print())
	require.Empty(t, Check(text, r.Text, r.S, r.T, r.Ledger), "%s", r.Text)
	return r
}

func demoConfig(t testing.TB, name string) string {
	text, err := os.ReadFile("../../demo/configs/" + name)
	require.NoError(t, err)
	return strings.ReplaceAll(string(text), "{{random}}", "demo-4471-secret")
}

// states lists what became of the statements that were not kept.
func states(r *Result) (out []string) {
	for _, row := range r.Ledger.Source {
		if row.State != Kept {
			out = append(out, row.State+": "+row.Path)
		}
	}
	return out
}

// conversions of the demo, with how many statements end in each state: needs a person, dropped, changed, merged, moved.
var demoConversions = []struct {
	file, from, to string
	want           [5]int
	back           string // converting back from there gives the original again, but for what the ledgers list
}{
	{"control-fw1.cfg", "TH-60@4.2.9", "TH-60@5.4.2", [5]int{8, 3, 0, 0, 459}, "TH-60@4.2.9"},
	{"control-fw1.cfg", "TH-60@4.2.9", "TH-80@6.0.1", [5]int{9, 5, 0, 0, 522}, ""},
	{"hollen-sw1.conf", "L24@11.2.7", "L24@12.1.5", [5]int{1, 0, 24, 2, 26}, "L24@11.2.7"},
	{"hollen-sw1.conf", "L24@11.2.7", "C8@13.0.2", [5]int{27, 0, 24, 2, 68}, ""},
	{"tern-rt1.xml", "V1@7.4.7", "V2@7.4.7", [5]int{4, 0, 8, 0, 11}, ""},
	{"tern-rt1.xml", "V1@7.4.7", "V2@9.0.1", [5]int{7, 0, 14, 0, 381}, ""},
	{"innersund-wc1.conf", "WC-2@8.5.4", "WC-2@9.2.3", [5]int{32, 1, 10, 0, 12}, ""},
	{"control-sg1.json", "SG-5@3.8.4", "SG-5@4.4.2", [5]int{4, 0, 0, 0, 102}, "SG-5@3.8.4"},
	{"control-sg1.json", "SG-5@3.8.4", "TD-C@2026-spring-3", [5]int{294, 13, 80, 0, 319}, ""},
	{"control-td1.json", "TD-C@2024-autumn-3", "TD-C@2025-spring-4", [5]int{18, 0, 0, 0, 0}, ""},
	{"marrow-ramp1.ini", "RC-6@F1.06", "RC-6@F2.12", [5]int{0, 0, 1, 0, 0}, "RC-6@F1.06"},
	{"marrow-ramp1.ini", "RC-6@F1.06", "RC-6@F3.05", [5]int{7, 3, 1, 0, 0}, "RC-6@F1.06"},
}

func TestDemoConversions(t *testing.T) {
	l := demo(t)
	for _, c := range demoConversions {
		t.Run(c.file+" to "+c.to, func(t *testing.T) {
			text := demoConfig(t, c.file)
			at := stop(t, l, c.from)
			s := l.Schema(at)
			d, broken := config.Parse(c.file, text, s.Syntax)
			require.Empty(t, broken)
			assert.Empty(t, s.Check(d, at.Model, at.Version), "the demo itself is sound")
			r := convert(t, l, c.from, c.to, text, nil)
			n := r.Ledger.Counts
			assert.Equal(t, c.want, [5]int{n[NeedsPerson], n[Dropped], n[Changed], n[Merged], n[Moved]}, "%v", states(r))
			for _, f := range r.T.Check(r.Document, r.Ledger.To.Model, stop(t, l, c.to).Version) {
				assert.True(t, f.Missing, "%s", f)
			}
			if c.back != "" {
				roundTrip(t, l, r, c.to, c.back, d)
			}
		})
	}
}

// roundTrip converts a result back and holds it against the original: every difference must be listed in one of the two
// ledgers.
func roundTrip(t *testing.T, l *Library, up *Result, from, to string, original *config.Document) {
	down := convert(t, l, from, to, up.Text, nil)
	got, _ := config.Parse("x", down.Text, down.T.Syntax)
	listed := map[string]bool{} // paths that may differ
	for _, row := range up.Ledger.Source {
		if row.State == Dropped || row.State == NeedsPerson || row.State == Changed {
			listed[row.Path] = true
		}
	}
	for _, row := range down.Ledger.Target {
		for _, k := range row.Sources {
			if o := up.Ledger.Target[k].Origin; o != FromSource || down.Ledger.Source[k].State == Changed {
				listed[row.Path] = true
			}
		}
		if row.Origin != FromSource {
			listed[row.Path] = true
		}
	}
	for _, row := range down.Ledger.Source {
		if row.State == Dropped || row.State == NeedsPerson {
			for i, u := range up.Ledger.Target {
				if u.Line == row.Line && u.Column == row.Column {
					for _, k := range up.Ledger.Target[i].Sources {
						listed[up.Ledger.Source[k].Path] = true
					}
				}
			}
		}
	}
	for _, d := range config.Compare(original, got, down.T).Differences {
		if d.Kind != config.Cosmetic && !listed[d.Path] && !listed[d.Path+" / "+lastWord(d.Old)] {
			t.Errorf("not listed: %s %s: %q became %q", d.Kind, d.Path, d.Old, d.New)
		}
	}
}

func lastWord(s string) string { f := strings.Fields(s + " -"); return f[0] }

func row(t *testing.T, r *Result, path string) SourceItem {
	t.Helper()
	for _, row := range r.Ledger.Source {
		if row.Path == path {
			return row
		}
	}
	t.Fatalf("no %q in the ledger", path)
	return SourceItem{}
}

func TestDecisionsPortsAndGuardedSettings(t *testing.T) {
	l := demo(t)
	text := demoConfig(t, "control-fw1.cfg")
	r := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, nil)
	q := r.Ledger.Questions[0]
	assert.Equal(t, []string{"TU12", "tunnel hollen-0 / cipher"}, []string{q.Rule, q.Path})
	assert.Equal(t, NeedsPerson, row(t, r, q.Path).State)
	assert.Contains(t, r.Text, "# secret demo-", "comments stay")

	answered := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, func(j *Job) {
		j.Answers = map[string]string{"TU12": "second", "TU12 @ " + q.Path: "third"}
	})
	assert.Equal(t, 1, answered.Ledger.Counts[NeedsPerson], "%v", states(answered))
	one := row(t, answered, q.Path)
	assert.Equal(t, []string{Changed, "cipher third"}, []string{one.State, answered.Ledger.Target[one.Targets[0]].Text}, "an answer for one place goes before one for all")

	ports := []PortChoice{{Port: "p1", To: "x1", Chosen: true}, {Port: "p2", To: "p1", Chosen: true}, {Port: "p3", To: "p2", Chosen: true}, {Port: "p4", FoldInto: "p2", Chosen: true},
		{Port: "p5", LeaveOut: "the simulator is gone", Chosen: true}, {Port: "p6", To: "p6", Chosen: true}}
	r = convert(t, l, "TH-60@4.2.9", "TH-80@5.4.2", text, func(j *Job) { j.Ports = ports; j.Answers = map[string]string{"TU12": "second"} })
	assert.Equal(t, []string{NeedsPerson, "guarded, the box may be reached through this address; it was dropped"}, []string{row(t, r, "port p5 / address").State, row(t, r, "port p5 / address").Reason})
	assert.Equal(t, Merged, row(t, r, "port p4").State)
	assert.Contains(t, row(t, r, "port p4 / address").Reason, "its port is folded into port p2, which says something else")
	assert.Contains(t, row(t, r, "policy edge / deny simulator servers tcp "+portOf(t, text)).Reason, `there is no zone "simulator"`)
	assert.Contains(t, r.Text, "port x1\n  role outside\n")

	accepted := convert(t, l, "TH-60@4.2.9", "TH-80@5.4.2", text, func(j *Job) {
		j.Ports = ports
		j.Answers = map[string]string{"guarded @ port p5 / address": Accept}
	})
	assert.Equal(t, Dropped, row(t, accepted, "port p5 / address").State)

	for _, c := range []struct {
		ports []PortChoice
		want  string
	}{
		{[]PortChoice{{Port: "p1", To: "p9"}}, "TH-80 has no port p9 for p1; it has x1, x2, p1"},
		{[]PortChoice{{Port: "q1", To: "p1"}}, "TH-60 has no port q1; it has p1, p2"},
		{[]PortChoice{{Port: "p1", To: "p1"}, {Port: "p2", To: "p1"}}, "ports p1 and p2 both go to p1; fold one of them into it instead"},
		{[]PortChoice{{Port: "p1", FoldInto: "p3"}}, "port p1 folds into p3, to which no port is mapped"},
	} {
		d, _ := config.Parse("x", text, config.BlockIndent)
		_, err := l.Convert(Job{From: stop(t, l, "TH-60@4.2.9"), To: stop(t, l, "TH-80@5.4.2"), Ports: c.ports}, d)
		assert.ErrorContains(t, err, c.want)
	}
}

func portOf(t *testing.T, text string) string {
	_, rest, ok := strings.Cut(text, "  deny simulator servers tcp ")
	require.True(t, ok)
	return strings.Fields(rest)[0]
}

// A hand edit can give what the target lacked, and what is told about an edit stands on its line.
func TestFindingsFollowHandEdits(t *testing.T) {
	l := demo(t)
	text := "port p1\n  role outside\nbox\n  place here\n"
	r := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, nil)
	require.Len(t, r.Ledger.Findings, 1)
	assert.Equal(t, `4:1: box: "name" is missing`, r.Ledger.Findings[0].String(), "the line is that of the result")
	assert.False(t, r.Ledger.Complete())
	name := Edit{Kind: EditAdd, Path: "box", Node: &Tree{Name: "name", Words: []config.Word{{Text: "pier"}}}}
	r = convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, func(j *Job) { j.Edits = []Edit{name} })
	assert.Empty(t, r.Ledger.Findings)
	assert.True(t, r.Ledger.Complete())
	twice := Edit{Kind: EditAdd, Path: "", After: "box", Node: &Tree{Name: "port", Words: []config.Word{{Text: "p1"}}}}
	r = convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, func(j *Job) { j.Edits = []Edit{name, twice} })
	require.Len(t, r.Ledger.Findings, 1)
	assert.Equal(t, "7:1: port p1: it stands here already, on line 1", r.Ledger.Findings[0].String())
}

// However much a target does not take, all of it is taken out and listed.
func TestEverythingBeyondWhatADeviceTakesNeedsAPerson(t *testing.T) {
	l := demo(t)
	var b strings.Builder
	b.WriteString("box\n  name x\n")
	for i := range 280 {
		fmt.Fprintf(&b, "tunnel t%d\n  peer 10.0.%d.%d\n  cipher second\n", i, i/200, i%200)
	}
	r := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", b.String(), nil)
	assert.Equal(t, 3*80, r.Ledger.Counts[NeedsPerson])
	assert.Equal(t, 200, strings.Count(r.Text, "tunnel "))
	assert.Contains(t, row(t, r, "tunnel t279 / peer").Reason, "more than 200 of them; the device takes 200")
}

// A file names the release it is for; a device of another refuses it.
func TestTheReleaseAFileIsFor(t *testing.T) {
	l := demo(t)
	text := demoConfig(t, "marrow-ramp1.ini")
	d, _ := config.Parse("x", text, config.INI)
	at := stop(t, l, "RC-6@F2.00")
	found := l.Schema(at).Check(d, at.Model, at.Version)
	require.Len(t, found, 1)
	assert.Equal(t, "3:1: file / release: the file says that it is for F1.06; F2.00 refuses it", found[0].String())
	r := convert(t, l, "RC-6@F2.00", "RC-6@F2.12", text, nil)
	assert.Contains(t, r.Ledger.Findings[0].Message, "the source says that it is for F1.06, not F2.00")
	assert.Contains(t, r.Text, "release = F2.12")
}

func TestTooOldIsCarriedByHand(t *testing.T) {
	l := demo(t)
	text := demoConfig(t, "marrow-ramp1.ini")
	d, _ := config.Parse("x", text, config.INI)
	job := Job{From: stop(t, l, "RC-6@F1.06"), To: stop(t, l, "RC-6@F3.05")}
	for i, c := range l.Conversions {
		if c.ID == "pw-1-3" {
			l.Conversions = append(l.Conversions[:i:i], l.Conversions[i+1:]...)
			break
		}
	}
	_, err := l.Convert(job, d)
	var old *TooOldError
	require.ErrorAs(t, err, &old)
	assert.Contains(t, err.Error(), "no conversions lead from RC-6@F1.06 (schema pw-1) to RC-6@F3.05 (schema pw-3)")
	r := convert(t, l, "RC-6@F1.06", "RC-6@F3.05", text, func(j *Job) { j.ByHand = true })
	assert.True(t, r.Ledger.Guessed)
	assert.Equal(t, Kept, row(t, r, "ramp bow / upper-limit").State, "what both describe alike is filled in")
	assert.Equal(t, NeedsPerson, row(t, r, "drive 1 / speed").State)
}

func TestHandEdits(t *testing.T) {
	l := demo(t)
	text := demoConfig(t, "hollen-fw1.cfg")
	r := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, nil)
	masked := r.T.MaskText("x", r.Text)
	require.NotContains(t, masked, "demo-4471")
	edited := strings.NewReplacer("  link on\n  speed 100\nport p2", "  link on\nport p2", "tcp 8443", "tcp 9443", "  greeting", "", "policy edge\n", "sign-in\n  tries 3\npolicy edge\n", "  cipher second\ntunnel brattsund", "  cipher third\ntunnel brattsund").Replace(masked)
	after, broken := config.Parse("x", edited, r.T.Syntax)
	require.Empty(t, broken)
	before, _ := config.Parse("x", r.Text, r.T.Syntax)
	assert.Zero(t, r.T.Unmask(after, before))
	edits := Edits(before, after, r.T)
	require.Len(t, edits, 4, "%+v", edits)
	for i := range edits {
		edits[i].ID, edits[i].By = i+1, "bosun"
	}
	got := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, func(j *Job) { j.Edits = edits })
	want, _ := config.Parse("x", strings.ReplaceAll(edited, "***", "demo-4471-secret"), r.T.Syntax)
	have, _ := config.Parse("x", got.Text, r.T.Syntax)
	assert.True(t, config.Compare(want, have, r.T).Same(), "%s", got.Text)
	byHand := 0
	for _, row := range got.Ledger.Target {
		if row.Origin == FromHand {
			byHand++
			assert.Contains(t, row.Rule, "edit ")
			assert.Equal(t, "bosun", row.Reason)
		}
	}
	assert.Equal(t, 3, byHand, "the port of a translation, a cipher, and how often one may try to sign in")
	for _, e := range got.Ledger.Edits {
		assert.Nil(t, e.Node, "a ledger holds no secrets")
	}
	// Undoing one leaves the others.
	less := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, func(j *Job) { j.Edits = edits[1:] })
	assert.Len(t, less.Ledger.Edits, 3)
	// An edit that the target does not take, or that no longer fits, is told.
	odd := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", text, func(j *Job) {
		j.Edits = []Edit{{Kind: EditSet, Path: "port p1 / link", Node: &Tree{Name: "link", Words: []config.Word{{Text: "maybe"}}}}, {Kind: EditRemove, Path: "port p9"}}
	})
	var said []string
	for _, f := range odd.Ledger.Findings {
		said = append(said, f.String())
	}
	assert.Contains(t, strings.Join(said, "\n"), `port p1 / link: "maybe" does not fit; expected one of on, off`)
	assert.Contains(t, strings.Join(said, "\n"), `hand edit 2 no longer fits: there is no "port p9" any more; undo it`)
	assert.False(t, odd.Ledger.Complete())
}

func TestConversionErrorsHavePlaces(t *testing.T) {
	l := demo(t)
	good := "format: verimorph-conversion/1\nid: x\nfrom: {schema: th-4}\nto: {schema: th-5}\nrules:\n  - {id: A, keep: box}\n"
	for text, want := range map[string]string{
		good:                                                                                       "",
		strings.Replace(good, "th-4", "th-3", 1):                                                   `x.yaml:3:16: error: schema "th-3" is not known`,
		good + "  - {id: A, keep: port}\n":                                                         `x.yaml:7:5: error: rule "A" is there already`,
		good + "  - {id: B, keep: boxes}\n":                                                        `x.yaml:7:19: error: schema "th-4" has no "boxes" in "the top"`,
		good + "  - {id: B, keep: port / rolle}\n":                                                 `schema "th-4" has no "rolle" in "port"`,
		good + "  - {id: B, move: 'port *p / link'}\n":                                             `move lacks "to"`,
		good + "  - {id: B, move: 'port *p / link', to: 'ports {p}'}\n":                            `schema "th-5" has no "ports" for step 1 of "ports {p}"`,
		good + "  - {id: B, move: 'port *p / link', to: 'port {q} / link'}\n":                      `{q} is used but not kept`,
		good + "  - {id: B, drop: port}\n":                                                         `drop lacks "because"`,
		good + "  - {id: B, keep: port, drop: port, because: x}\n":                                 "a rule cannot both",
		good + "  - {id: B, keep: port, to: port}\n":                                               `keep takes no "to"`,
		good + "  - {id: B, merge: [box / name], to: box / name x}\n":                              "merging takes several statements",
		good + "  - {id: B, compute: 'port *p / speed *s', to: 'port {p} / speed {= s * }'}\n":     "expected a number",
		good + "  - {id: B, compute: 'port *p / speed *s', to: 'port {p} / speed {= twice(s)}'}\n": "there is no function twice",
		good + "  - {id: B, keep: box}\n":                                                          "rule B is never used: rule A speaks of the same statements",
		good + "  - {id: B, keep: 'box / **x y'}\n":                                                "must be the last of its step",
		good + "  - {id: B}\n":                                                                     "the rule does not say what to do",
	} {
		c, found := Read("x.yaml", []byte(text), l.schema, l.scheme)
		if want == "" {
			assert.Empty(t, found)
			assert.NotNil(t, c)
			continue
		}
		assert.Contains(t, found.Error(), want, "%s", text)
	}
}

func TestExpressions(t *testing.T) {
	c := captures{{"a", []string{"7"}}, {"net", []string{"10.1.2.3/22"}}, {"m", []string{"255.255.252.0"}}}
	for text, want := range map[string]string{
		"a * 2 + 1": "15", "(a + 1) / 2": "4", "-a": "-7", "round(a / 2)": "4", "floor(a/2)": "3", "min(a, 3)": "3", "max(a,3)": "7", "a / 4": "1.75",
		"mask(22)": "255.255.252.0", "bits(m)": "22", "network(net)": "10.1.0.0/22", "host(net)": "10.1.2.3", "length(net)": "22",
	} {
		got, err := evaluate(text, c, false)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"a / 0", "net * 2", "b", "a +", "(a", "mask(40)", "bits(a)", "a b", "min(a)"} {
		_, err := evaluate(text, c, false)
		assert.Error(t, err, text)
	}
}
