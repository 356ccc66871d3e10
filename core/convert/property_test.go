package convert

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/version"
)

// toy is a catalogue of one family with two releases and two models.
const toy = `format: verimorph-catalogue/1
maker: Toy
family: toy
title: toy
configuration: {syntax: block-indent, secrets: []}
models: [{name: A, title: a}, {name: B, title: b}]
releases:
  - {version: 1.0, train: "1", date: 2020-01-01, stage: general}
  - {version: 2.0, train: "2", date: 2021-01-01, stage: general}
rules: []
`

// drawLibrary draws two schemas, in any two syntaxes, and a conversion between them with rules of every kind.
func drawLibrary(t *rapid.T) *Library {
	f, found := catalog.ReadFile("toy.yaml", []byte(toy))
	if len(found.Errors()) > 0 {
		t.Fatal(found)
	}
	cat := &catalog.Catalogue{}
	cat.Add(f)
	syntaxes := []string{"block-indent", "braces", "dotted", "json", "ini"}
	names := []string{"a", "b", "c", "d"}
	types := rapid.SampledFrom([]string{"text", "word", "{range: [0, 50]}", "ref"})
	schema := func(id, releases, syntax string) string {
		var b strings.Builder
		fmt.Fprintf(&b, "format: verimorph-schema/1\nid: %s\nfamily: toy\nreleases: %q\nsyntax: %s\ntypes:\n  few: {range: [0, 50]}\n  ref: {refers-to: [box], or: [x]}\nports: {A: [{name: k1..3, speed: 10}], B: [{name: k2..3, speed: 10}, {name: m1, speed: 100}]}\nstatements:\n", id, releases, syntax)
		inner := func(indent string) {
			for _, leaf := range []string{"p", "q", "r"} {
				if rapid.IntRange(0, 5).Draw(t, "has") == 0 {
					continue
				}
				typ := types.Draw(t, "type")
				if strings.HasPrefix(typ, "{") {
					typ = "few"
				}
				def := ""
				if rapid.IntRange(0, 3).Draw(t, "default") == 0 {
					def = fmt.Sprintf(", default: \"%d\"", rapid.IntRange(1, 3).Draw(t, "value"))
				}
				guarded := ""
				if rapid.IntRange(0, 5).Draw(t, "guarded") == 0 {
					guarded = ", guarded: it matters"
				}
				fmt.Fprintf(&b, "%s%s: {type: %s%s%s}\n", indent, leaf, typ, def, guarded)
			}
			fmt.Fprintf(&b, "%ss: {type: text}\n", indent)
		}
		for i, name := range names {
			defines := "defines: box, "
			if i == 3 {
				defines = "defines: port, "
			}
			switch syntax {
			case "dotted", "json":
				fmt.Fprintf(&b, "  %s:\n    each:\n      %s\n      statements:\n", name, strings.TrimSuffix(defines, ", "))
				inner("        ")
			default:
				fmt.Fprintf(&b, "  %s:\n    key: word\n    words: [word]\n    %s\n    statements:\n", name, strings.TrimSuffix(defines, ", "))
				inner("      ")
			}
		}
		for _, name := range []string{"z", "w"} { // blocks that need not be written
			fmt.Fprintf(&b, "  %s:\n    statements:\n", name)
			inner("      ")
		}
		fmt.Fprintf(&b, "  y: {type: few, default: \"%d\"}\n", rapid.IntRange(1, 3).Draw(t, "y"))
		return b.String()
	}
	from, to := rapid.SampledFrom(syntaxes).Draw(t, "from"), rapid.SampledFrom(syntaxes).Draw(t, "to")
	var c strings.Builder
	c.WriteString("format: verimorph-conversion/1\nid: c\nfrom: {schema: s1}\nto: {schema: s2}\nrules:\n  - {id: R0, person: a / nothing, because: x}\n")
	block := func(syntax, name, key string) string {
		if syntax == "dotted" || syntax == "json" {
			return name + " / " + key
		}
		return name + " " + key
	}
	for i := range rapid.IntRange(0, 8).Draw(t, "rules") {
		n, m := rapid.SampledFrom(names).Draw(t, "n"), rapid.SampledFrom(names).Draw(t, "m")
		p, q := rapid.SampledFrom([]string{"p", "q", "r", "s"}).Draw(t, "p"), rapid.SampledFrom([]string{"p", "q", "r", "s"}).Draw(t, "q")
		of, into := block(from, n, "*k"), block(to, m, "{k}")
		switch rapid.IntRange(0, 14).Draw(t, "kind") {
		case 0:
			fmt.Fprintf(&c, "  - {id: R%d, keep: %s}\n", i+1, n)
		case 1:
			fmt.Fprintf(&c, "  - {id: R%d, rename: '%s', to: '%s'}\n", i+1, of, into)
		case 2:
			fmt.Fprintf(&c, "  - {id: R%d, move: '%s / %s', to: '%s / %s'}\n", i+1, of, p, into, q)
		case 3:
			fmt.Fprintf(&c, "  - {id: R%d, map: '%s / %s *v', values: {\"1\": \"2\", x: y}, otherwise: %s}\n", i+1, of, p, rapid.SampledFrom([]string{"keep", "person", "7"}).Draw(t, "else"))
		case 4:
			fmt.Fprintf(&c, "  - {id: R%d, split: '%s / %s *v', into: ['%s / %s {v}', '%s / s {v}']}\n", i+1, of, p, into, q, into)
		case 5:
			if p != q {
				fmt.Fprintf(&c, "  - {id: R%d, merge: ['%s / %s *v', '%s / %s *w'], to: '%s / s {v}{w}'}\n", i+1, of, p, of, q, into)
			}
		case 6:
			fmt.Fprintf(&c, "  - {id: R%d, compute: '%s / %s *v', to: '%s / %s {= v * 2}'}\n", i+1, of, p, into, q)
		case 7:
			fmt.Fprintf(&c, "  - {id: R%d, add: '%s / %s 1', for: '%s', text: it is new}\n", i+1, into, p, of)
		case 8:
			fmt.Fprintf(&c, "  - {id: R%d, drop: '%s / %s', because: it is gone, when: {lacks: ['%s / %s x']}}\n", i+1, of, p, block(from, n, "{k}"), q)
		case 9:
			fmt.Fprintf(&c, "  - {id: R%d, decide: '%s', question: what, choices: [{answer: keep, text: k}, {answer: drop, text: d, drop: not wanted}, {answer: move, text: m, to: '%s'}]}\n", i+1, of, into)
		case 11:
			fmt.Fprintf(&c, "  - {id: R%d, move: z / %s, to: w / %s}\n", i+1, p, q)
		case 12:
			fmt.Fprintf(&c, "  - {id: R%d, compute: 'z / %s *v', to: 'y {= v * 2}'}\n", i+1, p)
		case 13:
			fmt.Fprintf(&c, "  - {id: R%d, move: z, to: w}\n", i+1)
		case 14:
			fmt.Fprintf(&c, "  - {id: R%d, split: 'y *v', into: ['y {v}', 'w / %s {v}', 'z / %s {v}']}\n", i+1, p, q)
		case 10:
			fmt.Fprintf(&c, "  - {id: R%d, person: '%s / %s', because: look}\n", i+1, of, p)
		}
	}
	// Rules that speak of statements the drawn schemas lack are left out, as the checker of conversions would refuse them.
	files := []File{{"s1.yaml", []byte(schema("s1", "<2", from))}, {"s2.yaml", []byte(schema("s2", ">=2", to))}}
	lines := strings.Split(c.String(), "\n")
	for {
		l, found := Load(cat, append(slices.Clone(files), File{"c.yaml", []byte(strings.Join(lines, "\n"))}))
		errs := found.Errors()
		if len(errs) == 0 {
			return l
		}
		if errs[0].File != "c.yaml" || errs[0].Line < 6 {
			t.Fatalf("%s\n%s", errs, files[0].Data)
		}
		lines = slices.Delete(lines, errs[0].Line-1, errs[0].Line)
		if len(lines) == 6 {
			lines = append(lines[:5], "  - {id: R, keep: a}", "")
		}
	}
}

// drawSource draws a configuration in the form of the first schema, with statements it does not know in between.
func drawSource(t *rapid.T, s *config.Schema) *config.Document {
	d := config.Empty("x", s.Syntax)
	value := rapid.SampledFrom([]string{"1", "2", "x", "7", "60", "k1", "k2", "two words", ""})
	seen := map[string]bool{}
	for range rapid.IntRange(1, 8).Draw(t, "blocks") {
		name, key := rapid.SampledFrom([]string{"a", "b", "c", "d", "odd"}).Draw(t, "name"), rapid.SampledFrom([]string{"k1", "k2", "k3"}).Draw(t, "key")
		if seen[name+key] {
			continue
		}
		seen[name+key] = true
		var block *config.Node
		if s.Syntax == config.Dotted || s.Syntax == config.JSON {
			top := d.Root.Child(name)
			if top == nil {
				top = config.NewNode(name)
				top.Form = map[config.Syntax]config.Form{config.Dotted: config.Group, config.JSON: config.Block}[s.Syntax]
				d.Root.Insert(-1, top)
			}
			block = config.NewNode(key)
			block.Form = top.Form
			top.Insert(-1, block)
		} else {
			block = config.NewNode(name, key)
			if s.Syntax != config.BlockIndent {
				block.Form = config.Block
			}
			d.Root.Insert(-1, block)
		}
		for _, leaf := range []string{"p", "q", "r", "s", "odd"} {
			if rapid.Bool().Draw(t, "leaf") && (leaf != "odd" || rapid.IntRange(0, 3).Draw(t, "odd") == 0) {
				k := config.NewNode(leaf, value.Draw(t, "value"))
				k.Words[0].Quoted = s.Syntax == config.JSON
				block.Insert(-1, k)
			}
		}
	}
	if rapid.Bool().Draw(t, "z") {
		z := config.NewNode("z")
		z.Form = map[bool]config.Form{true: config.Group, false: config.Block}[s.Syntax == config.Dotted]
		k := config.NewNode("s", value.Draw(t, "value"))
		k.Words[0].Quoted = s.Syntax == config.JSON
		d.Root.Insert(-1, z)
		z.Insert(-1, k)
	}
	text := commented(t, d.Print(), s.Syntax)
	out, broken := config.Parse("x", text, s.Syntax)
	if len(broken) > 0 {
		t.Fatalf("%s\n%s", broken[0], text)
	}
	return out
}

// commented puts comments into a text.
func commented(t *rapid.T, text string, syntax config.Syntax) string {
	if !syntax.HasComments() || rapid.Bool().Draw(t, "no comments") {
		return text
	}
	var b strings.Builder
	for i, l := range config.Lines(text) {
		if rapid.IntRange(0, 3).Draw(t, "before") == 0 {
			fmt.Fprintf(&b, "%s# before %d, with -- and \"quotes\"\n", l[:len(l)-len(strings.TrimLeft(l, " "))], i%2)
		}
		if b.WriteString(l); rapid.IntRange(0, 3).Draw(t, "behind") == 0 {
			fmt.Fprintf(&b, " # behind %d", i)
		}
		b.WriteString("\n")
	}
	if rapid.Bool().Draw(t, "end") {
		b.WriteString("# the end\n")
	}
	return b.String()
}

func drawJob(t *rapid.T) Job {
	job := Job{From: Stop{"A", version.MustParse("1.0")}, To: Stop{"A", version.MustParse("2.0")}, Answers: map[string]string{}}
	if rapid.Bool().Draw(t, "other model") {
		job.To.Model = "B"
		if rapid.Bool().Draw(t, "choose") {
			job.Ports = []PortChoice{{Port: "k1", To: "m1", Chosen: true}, {Port: "k2", FoldInto: "m1", Chosen: true}, {Port: "k3", LeaveOut: "not wanted", Chosen: true}}
		}
	}
	for i := range 9 {
		if rapid.Bool().Draw(t, "answered") {
			job.Answers[fmt.Sprintf("R%d", i)] = rapid.SampledFrom([]string{"keep", "drop", "move", "other"}).Draw(t, "answer")
		}
	}
	return job
}

func TestLedgerIsCompleteOnRandomTreesAndRules(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := drawLibrary(t)
		source := drawSource(t, l.Schemas[0])
		before := source.Print()
		r, err := l.Convert(drawJob(t), source)
		if err != nil {
			t.Fatalf("%v", err)
		}
		if source.Print() != before {
			t.Fatal("converting changed the source")
		}
		if wrong := Check(before, r.Text, r.S, r.T, r.Ledger); len(wrong) > 0 {
			t.Fatalf("%s\nfrom\n%s\nto\n%s%s", strings.Join(wrong, "\n"), before, r.Text, about(l, r))
		}
		// What the target does not take is not in it.
		d, _ := config.Parse("x", r.Text, r.T.Syntax)
		for _, f := range r.T.Check(d, r.Ledger.To.Model, version.MustParse("2.0")) {
			if !f.Missing {
				t.Fatalf("the target holds what it does not take: %s\n%s", f, r.Text)
			}
		}
	})
}

// Whatever is done to a ledger, the audit sees it.
func TestTamperedLedgersAreFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := drawLibrary(t)
		source := drawSource(t, l.Schemas[0])
		r, err := l.Convert(drawJob(t), source)
		if err != nil || len(r.Ledger.Source) == 0 {
			t.SkipNow()
		}
		copied, _ := json.Marshal(r.Ledger)
		var bad Ledger
		_ = json.Unmarshal(copied, &bad)
		i := rapid.IntRange(0, len(bad.Source)-1).Draw(t, "row")
		text := r.Text
		switch kind := rapid.IntRange(0, 7).Draw(t, "tampering"); {
		case kind == 0:
			bad.Source = slices.Delete(bad.Source, i, i+1)
		case kind == 1:
			bad.Source = append(bad.Source, bad.Source[i])
		case kind == 2:
			bad.Source[i].Line += 1000
		case kind == 3 && len(bad.Source[i].Targets) > 0:
			bad.Source[i].Targets = nil
		case kind == 4 && len(bad.Target) > 0:
			bad.Target = bad.Target[:len(bad.Target)-1]
		case kind == 5 && bad.Source[i].State != Dropped:
			bad.Source[i].State = Dropped
		case kind == 6:
			text += "\n"
		case kind == 7 && bad.Source[i].State != Kept:
			bad.Source[i].State, bad.Source[i].Reason = Kept, ""
		default:
			return
		}
		if len(Check(source.Print(), text, r.S, r.T, &bad)) == 0 {
			t.Fatalf("not found: row %d %+v\n%s", i, r.Ledger.Source[i], copied)
		}
	})
}

// FuzzCheck gives the audit ledgers that were damaged at will: it never panics, and passes only what is true.
func FuzzCheck(f *testing.F) {
	l := demo(f)
	text := demoConfig(f, "marrow-ramp1.ini")
	r := convert(f, l, "RC-6@F1.06", "RC-6@F3.05", text, nil)
	good, _ := json.Marshal(r.Ledger)
	f.Add(good)
	f.Add([]byte(`{"format":"verimorph-ledger/1","source":[{"targets":[5]}],"target":[{"sources":[-1]}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var bad Ledger
		if json.Unmarshal(data, &bad) != nil {
			return
		}
		if len(Check(text, r.Text, r.S, r.T, &bad)) > 0 {
			return
		}
		if len(bad.Source) != len(r.Ledger.Source) || len(bad.Target) != len(r.Ledger.Target) {
			t.Fatal("a ledger of another length passed")
		}
	})
}

// about shows what a failed property is about.
func about(l *Library, r *Result) string {
	var b strings.Builder
	for _, rule := range l.Conversions[0].Rules {
		fmt.Fprintf(&b, "rule %s: %s", rule.ID, rule.Kind)
		if rule.Of != nil {
			fmt.Fprintf(&b, " %s", rule.Of.text)
		}
		if rule.To != nil {
			fmt.Fprintf(&b, " to %s", rule.To.text)
		}
		fmt.Fprintln(&b)
	}
	for i, s := range []*config.Schema{r.S, r.T} {
		s.Top.Walk(func(st *config.Statement) {
			if st.HasDefault {
				fmt.Fprintf(&b, "schema %d: %s %v, default %q\n", i+1, st.Path, st.Words, st.Default)
			}
		})
	}
	ledger, _ := json.MarshalIndent([]any{r.Ledger.Source, r.Ledger.Assumed, r.Ledger.Target, r.Ledger.Comments}, "", " ")
	return b.String() + string(ledger)
}
