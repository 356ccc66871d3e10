package convert

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"

	"verimorph/core/config"
)

// A Job says what to convert into what.
type Job struct {
	From, To Stop
	Ports    []PortChoice // chosen by a person; what is missing is proposed
	// Answers are those to questions, by rule or by "RULE @ PATH"; [Accept] to guarded settings, by "guarded @ PATH"; why something is settled, by "settled @ PATH";
	// secrets under a key of the old device, see [OwnKey].
	Answers  map[string]string
	Edits    []Edit
	Fragment bool // it is a part of a configuration, so what must stand at its top may be absent
	ByHand   bool // go on where no conversions lead from one to the other, with what is certain
	// OtherUnit: the result is for another unit of the same model, which cannot read secrets under a key of the first one either.
	OtherUnit bool
}

// Secrets that the source writes under a key of the device itself are typed in again, by "secret @ PATH", or the answer to OwnKey is SameKey: both devices
// have the same key.
const (
	OwnKey  = "own-key"
	SameKey = "same"
	secret  = "secret @ "
)

const accepted = "guarded; the difference was accepted"

// Accept is the answer that lets a guarded setting change.
const Accept = "accept"

// settledBy begins the reason of a statement about which a person decided.
const settledBy = "settled by hand: "

// settled is why a person says that nothing is open any more about a statement, or about a block around it; "" when nobody did.
func (c *conversion) settled(path string) string {
	for {
		if why := c.job.Answers["settled @ "+path]; why != "" {
			return why
		}
		i := strings.LastIndex(path, " / ")
		if i < 0 {
			return ""
		}
		path = path[:i]
	}
}

// A Result is a converted configuration.
type Result struct {
	Document *config.Document // the tree of Text
	Text     string
	Ledger   *Ledger
	S, T     *config.Schema

	used []string // ports that the source speaks of
}

// Convert converts a configuration and accounts for each of its statements. The source must have been parsed without
// broken places. Errors: a model, release or schema that is not known, TooOldError, ports that do not exist.
func (l *Library) Convert(job Job, source *config.Document) (*Result, error) {
	stages, err := l.Plan(job.From, job.To, job.ByHand)
	if err != nil {
		return nil, err
	}
	first, last := stages[0], stages[len(stages)-1]
	if source.Syntax != first.S.Syntax {
		return nil, fmt.Errorf("%s is written as %s, but schema %s of %s says %s", source.Name, source.Syntax, first.S.ID, job.From, first.S.Syntax)
	}
	c := &conversion{job: job, source: source, s: first.S, t: last.T, lost: map[int]loss{}}
	if says := first.S.Locate(source, first.S.Release); first.S.Release != "" && says != nil && says.Value() != job.From.Version.String() {
		c.findings = append(c.findings, config.Finding{Path: first.S.Release, Message: fmt.Sprintf("the source says that it is for %s, not %s", says.Value(), job.From.Version), Doubt: true})
	}
	if job.Fragment { // what it refers to and does not define is at its new home
		c.elsewhere = first.S.Open(source)
	}
	source.Root.Walk(func(n *config.Node) { n.Ref = 0 })
	sayings := first.S.Sayings(source)
	at := &origins{list: make([]traceable, 0, len(sayings))}
	all, numbers := make([]origin, len(sayings)), make([]int, len(sayings))
	for i, n := range sayings {
		numbers[i] = i
		all[i] = origin{items: numbers[i : i+1 : i+1], kind: FromSource}
		at.put(n, &all[i])
	}
	var listing sync.WaitGroup // beside the stages, which need nothing of it
	listing.Go(func() { c.items = first.S.Items(source) })
	defer listing.Wait()
	doc := source
	c.real, c.same = len(sayings), map[int]*SameDefault{}
	var passed map[omissionKey]omission
	texts := map[string]string{PortsRule: "ports go where the mapping says"}
	for i, st := range stages {
		r := &stageRun{stage: st, answers: job.Answers, in: doc, before: at, lost: c.lost, source: first.S, real: c.real, omit: c.omit, fragment: job.Fragment,
			last: i == len(stages)-1, passedBefore: passed}
		r.run()
		if st.From.Model != st.To.Model {
			if err := c.ports(r); err != nil {
				return nil, err
			}
		}
		c.prune(r)
		if r.last {
			c.elide(r)
		}
		for _, err := range r.errs {
			c.findings = append(c.findings, config.Finding{Message: err.Error()})
		}
		c.questions = append(c.questions, r.asked...)
		if st.Conversion != nil {
			for _, rule := range st.Conversion.Rules {
				texts[rule.ID] = cmp.Or(rule.Text, rule.Ask, map[string]string{Keep: "carried over as it is", Map: "other values", Adopt: "the new default is right"}[rule.Kind])
			}
		}
		c.stages = append(c.stages, StageName{st.name(), st.From.String(), st.To.String()})
		doc, at, passed = r.out, r.after, r.passed
	}
	listing.Wait()
	c.ownKeys(doc, at)
	c.edit(doc, at)
	c.items = append(c.items, c.omitted...)
	r, err := c.result(doc, at, last.Guessed)
	if err == nil {
		r.Ledger.Rules = texts
	}
	return r, err
}

// conversion is one run of Convert.
type conversion struct {
	job       Job
	source    *config.Document
	elsewhere map[string]bool      // names of objects that a part refers to and does not define
	items     []config.Item        // first those that are written, then those that are assumed
	omitted   []config.Item        // those that are assumed, until the stages are through
	real      int                  // how many are written
	same      map[int]*SameDefault // assumed items of which the target assumes what comes of them
	s, t      *config.Schema
	lost      map[int]loss // by the place of a statement in items
	findings  []config.Finding
	questions []Question
	stages    []StageName
	portsUsed []PortChoice
	lacks     bool // after the last stage, the target lacks what its schema asks for
	edits     []Edit
}

// omit makes an omission an item, and returns its place.
func (c *conversion) omit(o omission) int {
	k := build(c.s, o.block, c.s.Describe(o.block), o.st)
	it := config.Item{Node: k, Statement: o.st, Around: c.s.Path(o.block), Path: c.s.Path(k), Text: c.s.Masked(k, true), Section: c.s.Section(k), Guarded: o.st.Guarded}
	c.omitted = append(c.omitted, it)
	return c.real + len(c.omitted) - 1
}

// ports maps the ports where the model changes.
func (c *conversion) ports(r *stageRun) error {
	from, to := r.stage.S.Ports[r.stage.From.Model], r.stage.T.Ports[r.stage.To.Model]
	if wrong := CheckPorts(c.job.Ports, from, to, r.stage.From, r.stage.To); len(wrong) > 0 {
		return fmt.Errorf("the ports cannot be mapped:\n%s", strings.Join(wrong, "\n"))
	}
	used := UsedPorts(r.stage.T, r.out)
	if len(to) == 0 {
		if len(used) > 0 {
			c.findings = append(c.findings, config.Finding{Message: fmt.Sprintf("schema %s does not list the ports of %s, so none were mapped; add them to it, or look at each port", r.stage.T.ID, r.stage.To.Model)})
		}
		return nil
	}
	c.portsUsed = ProposePorts(used, from, to, c.job.Ports)
	r.mapPorts(c.portsUsed)
	return nil
}

// prune takes out of the target what its schema does not take, until it takes the rest. What is taken out needs a person.
func (c *conversion) prune(r *stageRun) {
	t := r.stage.T
	for { // every round takes something out, or is the last
		gone := map[*config.Node]bool{}
		missing := false
		c.emptyGroups(r, r.out.Root)
		for _, f := range t.CheckPart(r.out, r.stage.To.Model, r.stage.To.Version, c.elsewhere) {
			switch n := f.Node; {
			case f.Missing:
				missing = true
			case f.Doubt || n.Parent == nil:
			default:
				if st := t.Describe(n.Parent); st != nil && st.KeyInside() && n.Name == string(st.Key) {
					n = n.Parent // an entry without its key is nothing
				}
				if gone[n] {
					continue
				}
				gone[n] = true
				c.takeOut(r, n, fmt.Sprintf("%s does not take it: %s", r.stage.To, f.Message))
			}
		}
		if len(gone) == 0 {
			c.lacks = missing
			return
		}
		r.removeAll(gone)
	}
}

// emptyGroups takes out groups of dotted names in which nothing stands: they cannot be written.
func (c *conversion) emptyGroups(r *stageRun, n *config.Node) {
	for _, k := range slices.Clone(n.Children) {
		c.emptyGroups(r, k)
		if k.Form == config.Group && len(k.Children) == 0 {
			r.loseTarget(k, loss{true, "", "nothing stands inside it, and a name alone cannot be written", AskSettle})
			k.Remove()
		}
	}
}

func (c *conversion) takeOut(r *stageRun, n *config.Node, reason string) {
	path := r.stage.T.Path(n)
	n.Walk(func(k *config.Node) {
		o := r.after.of(k)
		if o == nil {
			return
		}
		if len(o.items) == 0 && o.text != aroundIt {
			c.findings = append(c.findings, config.Finding{Path: path, Message: fmt.Sprintf("what %s adds was taken out again: %s", cmp.Or(o.rule, o.kind), reason), Doubt: true})
		}
		r.loseTarget(k, loss{true, o.rule, reason, AskSettle})
	})
}

// ownKeys sees to secrets that another device could not read, since they are written under a key of the old one.
func (c *conversion) ownKeys(doc *config.Document, at *origins) {
	if c.s.OwnKey == nil || c.job.From.Model == c.job.To.Model && !c.job.OtherUnit || c.job.Answers[OwnKey] == SameKey {
		return
	}
	doc.Root.Walk(func(n *config.Node) {
		o := at.of(n)
		if o == nil || !c.t.SecretLike(n, c.s.OwnKey) {
			return
		}
		for _, item := range o.items {
			if item >= len(c.items) || !c.s.SecretLike(c.items[item].Node, c.s.OwnKey) { // what is only assumed is no secret
				continue
			}
			if again := c.job.Answers[secret+c.items[item].Path]; again != "" {
				n.SetSecret(c.s.OwnKey, again)
				continue
			}
			c.lost[item] = loss{true, "", "it is written under a key that the old device keeps for itself, and another device cannot read it", AskSecret}
		}
	})
}

// edit carries out what was changed by hand.
func (c *conversion) edit(doc *config.Document, at *origins) {
	for i, e := range c.job.Edits {
		if e.ID == 0 {
			e.ID = i + 1
		}
		if err := e.apply(doc, c.t, at, c.lost); err != nil {
			c.findings = append(c.findings, config.Finding{Path: e.Path, Message: fmt.Sprintf("hand edit %d no longer fits: %s; undo it", e.ID, err)})
		}
		e.Node = nil
		c.edits = append(c.edits, e)
	}
}

// check holds the finished text against the target's schema: what it lacks, and what was written by hand. A part of a
// configuration may lack what stands at the top of a whole one.
func (c *conversion) check(text string) error {
	if !c.lacks && len(c.edits) == 0 {
		return nil // every stage took out what the schema does not take
	}
	d, broken := c.t.Parse(c.source.Name, text)
	if len(broken) > 0 {
		return fmt.Errorf("the result cannot be read back: %w", broken[0])
	}
	for _, f := range c.t.CheckPart(d, c.job.To.Model, c.job.To.Version, c.elsewhere) {
		if f.Missing && f.Node.Parent == nil {
			if c.job.Fragment {
				continue
			}
			f.Line, f.Column = 0, 0 // it is about the whole
		}
		c.findings = append(c.findings, f)
	}
	return nil
}

// result prints the target and writes the ledger.
func (c *conversion) result(doc *config.Document, at *origins, guessed bool) (*Result, error) {
	var text string
	var places []config.Place
	var from Party
	var beside sync.WaitGroup
	beside.Go(func() {
		text, places = doc.PrintPlaces()
		from = party(c.job.From, c.s, c.source.Name, c.source.Print())
	})
	targets := c.t.Items(doc)
	c.lodge(at, targets)
	beside.Wait()
	if err := c.check(text); err != nil {
		return nil, err
	}
	l := &Ledger{Format: LedgerFormat, Stages: c.stages, Questions: c.questions, Ports: c.portsUsed, Findings: c.findings, Edits: c.edits, Counts: map[string]int{}, Guessed: guessed, Fragment: c.job.Fragment, Assumed: []AssumedItem{}}
	l.From, l.To = from, party(c.job.To, c.t, c.source.Name, text)
	byPlace := func(a, b config.Item) int {
		p, q := places[a.Seq], places[b.Seq]
		return cmp.Or(cmp.Compare(p.Line, q.Line), cmp.Compare(p.Column, q.Column))
	}
	if !slices.IsSortedFunc(targets, byPlace) {
		slices.SortStableFunc(targets, byPlace)
	}
	goesTo, first := make([][]int, len(c.items)), make([]int, len(c.items)) // most go to one place
	several := make([]bool, len(c.items))
	l.Target = make([]TargetItem, len(targets))
	for i, it := range targets {
		p := places[it.Seq]
		row := TargetItem{Line: p.Line, Column: p.Column, Path: it.Path, Text: it.Text, Section: it.Section, Origin: FromRule, Reason: aroundIt, Sources: []int{}}
		if o := at.of(it.Node); o != nil {
			row.Origin, row.Rule, row.Reason = o.kind, o.rule, o.text
			if o.kind == FromDefault {
				row.Reason += "; " + c.assumes(it)
			}
			if len(o.items) > 0 {
				slices.Sort(o.items)
				written, _ := slices.BinarySearch(o.items, c.real)
				row.Sources = o.items[:written:written]
				for _, k := range o.items[written:] {
					row.Assumed = append(row.Assumed, k-c.real)
				}
			}
			for _, k := range o.items {
				if goesTo[k] == nil {
					goesTo[k] = first[k : k : k+1]
				}
				goesTo[k] = append(goesTo[k], i)
				several[k] = several[k] || len(o.items) > 1
			}
		}
		l.Target[i] = row
	}
	l.Source = make([]SourceItem, c.real)
	for i, it := range c.items {
		row := SourceItem{Line: it.Node.Line, Column: it.Node.Column, Path: it.Path, Text: it.Text, Section: it.Section, Guarded: it.Guarded, Targets: goesTo[i]}
		if row.Targets == nil {
			row.Targets = []int{}
		}
		c.state(&row, i, it, several[i], targets, l)
		if i >= c.real {
			l.Assumed = append(l.Assumed, AssumedItem{row, inside(it.Node), c.same[i]})
			continue
		}
		l.Counts[row.State]++
		l.Source[i] = row
	}
	c.comments(doc, places, l)
	return &Result{Document: doc, Text: text, Ledger: l, S: c.s, T: c.t, used: UsedPorts(c.s, c.source)}, nil
}

// state decides what became of a statement.
func (c *conversion) state(row *SourceItem, i int, it config.Item, several bool, targets []config.Item, l *Ledger) {
	lost, isLost := c.lost[i]
	for _, k := range row.Targets {
		row.Rule = join(row.Rule, l.Target[k].Rule)
	}
	why := ""
	if isLost && lost.person && lost.ask == AskSettle || len(row.Targets) == 0 && !isLost {
		if why = c.settled(it.Path); why != "" {
			isLost, row.Rule, row.Reason = false, join(row.Rule, lost.rule), settledBy+why
		}
	}
	if isLost && lost.ask == AskPorts && i >= c.real {
		lost.person, lost.reason = false, "it goes with its port: "+lost.reason
	}
	switch {
	case i >= c.real && c.same[i] != nil && !isLost && len(row.Targets) == 0:
		row.State, row.Rule = Unsaid, c.same[i].rule
	case why != "" && len(row.Targets) == 0:
		row.State = Dropped
	case len(row.Targets) == 0 && !isLost:
		row.State, row.Ask, row.Reason = NeedsPerson, AskSettle, "no rule says what becomes of it"
	case len(row.Targets) == 0 && !lost.person:
		row.State, row.Rule, row.Reason = Dropped, lost.rule, lost.reason
	case isLost && lost.person:
		row.State, row.Ask, row.Rule, row.Reason = NeedsPerson, lost.ask, lost.rule, lost.reason
	case several:
		row.State = Merged
	default:
		row.State = Kept
		for _, k := range row.Targets {
			t := targets[k]
			if !sameWords(it, t) {
				row.State = Changed
				break
			}
			if t.Around != it.Around || !byName(it) && !byName(t) && t.Node.Name != it.Node.Name || byName(it) != byName(t) {
				row.State = Moved
			}
		}
		if len(row.Targets) > 1 { // it was split
			row.State = Changed
		}
	}
	if isLost && row.Reason == "" { // some of what it became went away again
		row.Reason = "partly: " + lost.reason
	}
	if row.Guarded != "" && (row.State == Changed || row.State == Dropped || row.State == Merged) {
		if c.job.Answers["guarded @ "+it.Path] == Accept {
			row.Reason = accepted
			return
		}
		became := "it was dropped"
		if len(row.Targets) > 0 {
			became = "it became " + l.Target[row.Targets[0]].Text
		}
		row.State, row.Ask, row.Reason = NeedsPerson, AskAccept, fmt.Sprintf("guarded, %s; %s", row.Guarded, became)
	}
}

// inside are the names from the block in which an assumed statement is missing to the statement.
func inside(n *config.Node) (out []string) {
	for ; !slices.Contains(n.Parent.Children, n); n = n.Parent {
		if out = append(out, n.Name); n.Parent.Parent == nil {
			break
		}
	}
	slices.Reverse(out)
	return out
}

// assumes says what the target assumes where it leaves a statement out.
func (c *conversion) assumes(it config.Item) string {
	if it.Statement == nil || !it.Statement.HasDefault {
		return fmt.Sprintf("what %s assumes is not known", c.job.To)
	}
	value := it.Statement.Default
	if c.t.IsSecret(it.Node) {
		value = config.Mask
	}
	return fmt.Sprintf("%s assumes %q", c.job.To, value)
}

// byName reports whether what an item says is its own name.
func byName(it config.Item) bool {
	return it.Statement != nil && it.Statement.ByName && len(it.Node.Words) == 0
}

// sameWords reports whether two items say the same words. A name that is a key counts as a word.
func sameWords(a, b config.Item) bool {
	if byName(a) || byName(b) {
		x, y := a.Node.Value(), b.Node.Value()
		if byName(a) {
			x = a.Node.Name
		}
		if byName(b) {
			y = b.Node.Name
		}
		return x == y
	}
	return slices.EqualFunc(a.Node.Words, b.Node.Words, func(a, b config.Word) bool { return a.Text == b.Text })
}

// lodge hands what became part of the name of a group, which has no line of its own, to the first item inside.
func (c *conversion) lodge(at *origins, targets []config.Item) {
	var is map[*config.Node]bool
	for _, x := range at.list {
		n, o := x.n, x.o
		if n.Form != config.Group || o == nil || len(o.items) == 0 || n.Parent == nil {
			continue
		}
		if is == nil {
			is = make(map[*config.Node]bool, len(targets))
			for _, it := range targets {
				is[it.Node] = true
			}
		}
		for k := n; len(k.Children) > 0 && !is[n]; {
			if k = k.Children[0]; is[k] && at.of(k) != nil {
				to := at.of(k)
				to.items, to.kind = append(to.items, o.items...), FromSource
				break
			}
		}
	}
}

func party(at Stop, s *config.Schema, file, text string) Party {
	sum := sha256.Sum256([]byte(text))
	lines := strings.Count(text, "\n")
	if text != "" && !strings.HasSuffix(text, "\n") {
		lines++
	}
	return Party{at.Model, at.Version.String(), s.ID, file, hex.EncodeToString(sum[:]), lines}
}
