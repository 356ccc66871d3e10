package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/store"
)

// Boxes that follow a device: they fetch the image beforehand, join again, and start anew in waves. One that hangs is named, and tried again; what cannot be
// helped is for a person to accept.

// Names under which it is accepted that the change goes on without a child, with its name behind them: what is accepted of one is not accepted of another.
const (
	checkPreload  = "preload"
	checkChildren = "children"
	checkDrain    = "drain"
	checkPlace    = "place" // with a place behind it: nobody serves there for a while
)

// childWait is how a step waits for children.
type childWait struct {
	r     *run
	s     *store.Step
	wants func(*portrait.Child) bool // what each of them has to show
	again func(context.Context, *portrait.Child) error
	check string   // under which it is accepted that one is missing, with its name behind it
	names []string // that it is about; nil: all that the change knows
	// careful: again interrupts whom it serves, so that it is not said to all of a place at once, and to none that would have to be drained.
	careful, drains bool
	tried           map[string]int
	at              map[string]time.Time // when each was told last
}

// mostTries is how often a child that hangs is told again.
const mostTries = 2

// children are those that a step is about: of the draft, and served by the release.
func (r *run) children(names []string) (out []change.ChildOf) {
	if r.c.Children == nil {
		return nil
	}
	for _, c := range r.c.Children.Children {
		if r.c.Children.Served(&c) && (names == nil || slices.Contains(names, c.Name)) {
			out = append(out, c)
		}
	}
	return out
}

// childOf finds a child by its name, or by its serial where it has another name now; nil when the device does not show it.
func childOf(p *portrait.Portrait, c *change.ChildOf) *portrait.Child {
	if found := p.Child(c.Name); found != nil && (c.Serial == "" || found.Serial == "" || found.Serial == c.Serial) {
		return found
	}
	if i := slices.IndexFunc(p.Children, func(x portrait.Child) bool { return c.Serial != "" && x.Serial == c.Serial }); i >= 0 {
		return &p.Children[i]
	}
	return nil
}

// A missing is a child that does not show what it should. child is nil when it is not there.
type missing struct {
	name, text string
	child      *portrait.Child
}

// look says which of the children do not show what they should.
func (w *childWait) look(p *portrait.Portrait) (not []missing) {
	for _, c := range w.r.children(w.names) {
		switch child := childOf(p, &c); {
		case child == nil:
			not = append(not, missing{c.Name, c.Name + " is not there", nil})
		case !w.wants(child):
			not = append(not, missing{c.Name, child.Text(), child})
		}
	}
	for i := range p.Children {
		if child := &p.Children[i]; w.names == nil && w.r.letIn(child) && !w.wants(child) {
			not = append(not, missing{child.Name, child.Text(), child})
		}
	}
	return not
}

// texts are some children that are missing, in words.
func texts(not []missing) (out []string) {
	for _, m := range not {
		out = append(out, m.text)
	}
	return out
}

// letIn reports whether a child is a new one that this change let join.
func (r *run) letIn(child *portrait.Child) bool {
	all := r.c.Children
	return all != nil && child.Waiting != portrait.Yes && child.Serial != "" && change.SerialIn(child.Serial, all.Authorise) &&
		!slices.ContainsFunc(all.Children, func(c change.ChildOf) bool { return c.Serial == child.Serial })
}

// wait looks until all children show what they should. It tells those that hang again, and asks a person when its time is nearly over.
func (w *childWait) wait(ctx context.Context) error {
	r, s, began := w.r, w.s, w.r.e.now()
	limit := time.Duration(s.Plan.Expect.Limit * float64(time.Second))
	w.tried, w.at = map[string]int{}, map[string]time.Time{}
	all := len(r.children(w.names))
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeChildren(ctx)
		if err != nil {
			return false, "", err
		}
		if err := r.authorise(ctx, s, p, w.at); err != nil {
			return false, "", err
		}
		not, passed := w.look(p), r.e.since(began)
		open := slices.DeleteFunc(slices.Clone(not), func(m missing) bool { return r.accepts(w.check + " " + m.name) })
		switch {
		case len(not) == 0:
			return true, fmt.Sprintf("all %d%s", all, w.triedAgain()), nil
		case len(open) == 0 && passed > limit*3/10: // nobody waits for those again
			return true, fmt.Sprintf("%d of %d; accepted without: %s", all-len(not), all, some(texts(not))), nil
		case passed > limit*8/10:
			return false, "", w.ask(p, open, all)
		}
		if w.again != nil && passed > limit/10 {
			if err := w.tryAgain(ctx, p, open, limit/5); err != nil {
				return false, "", err
			}
		}
		return false, fmt.Sprintf("%d of %d; not yet: %s", all-len(not), all, some(texts(not))), nil
	})
}

// tryAgain tells those that hang again, each a few times at most. One that serves meanwhile is not told while nobody else serves at its place.
func (w *childWait) tryAgain(ctx context.Context, p *portrait.Portrait, open []missing, rest time.Duration) error {
	var away []string // who is told now
	for _, m := range open {
		child := m.child
		if child == nil || child.Passing == portrait.Yes || w.tried[child.Name] >= mostTries || w.r.e.since(w.at[child.Name]) < rest {
			continue
		}
		if serves := child.Good == portrait.Yes; w.careful && serves && (w.drains || len(w.r.wouldBeDark(p, append(away, child.Name))) > 0) {
			continue
		}
		away = append(away, child.Name)
		w.tried[child.Name]++
		w.at[child.Name] = w.r.e.now()
		if err := w.r.e.Store.NoteStep(ctx, w.r.lease, w.r.c.ID, w.s.Plan.Number, "tried again", m.text); err != nil {
			return records(err)
		}
		if err := w.again(ctx, child); err != nil {
			return err
		}
	}
	return nil
}

func (w *childWait) triedAgain() string {
	if len(w.tried) == 0 {
		return ""
	}
	return "; told again: " + some(slices.Sorted(maps.Keys(w.tried)))
}

// ask asks a person whether the change goes on without those that are missing, each by its name.
func (w *childWait) ask(p *portrait.Portrait, not []missing, all int) error {
	q := change.Question{Kind: change.AskWarn, Step: w.s.Plan.Number, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
		Text: fmt.Sprintf("%s: %d of %d are missing: %s. Those that could be were told up to %d times. See to them and answer retry, or accept to go on without them",
			w.s.Plan.Title, len(not), all, some(texts(not)), mostTries)}
	for _, m := range not {
		q.Checks = append(q.Checks, w.r.named(w.check+" "+m.name))
	}
	if w.r.canGoBack(p) {
		q.Answers = append(q.Answers, change.GoBack)
	}
	return &askError{q, change.StepRunning}
}

// mostNamed is how many things a message names.
const mostNamed = 6

// some names the first few of many.
func some(names []string) string {
	if len(names) <= mostNamed {
		return strings.Join(names, "; ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:mostNamed], "; "), len(names)-mostNamed)
}

// seeChildren is the portrait of a device that says which children it has.
func (r *run) seeChildren(ctx context.Context) (*portrait.Portrait, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	if why := p.NotUnderstood["children"]; why != "" {
		return nil, final("which children it has is not known: %s", why)
	}
	return p, nil
}

// authorise lets those new children join whose serials were stated. Anybody else goes on waiting.
func (r *run) authorise(ctx context.Context, s *store.Step, p *portrait.Portrait, told map[string]time.Time) error {
	if r.c.Children == nil || len(r.c.Children.Authorise) == 0 {
		return nil
	}
	for i := range p.Children {
		child := &p.Children[i]
		if child.Waiting != portrait.Yes || child.Serial == "" || !change.SerialIn(child.Serial, r.c.Children.Authorise) || !told["serial "+child.Serial].IsZero() {
			continue
		}
		c, err := r.connect(ctx)
		if err != nil {
			return err
		}
		told["serial "+child.Serial] = r.e.now()
		if err := r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "authorise", child.Serial); err != nil {
			return records(err)
		}
		if err := c.Authorise(ctx, child.Serial); err != nil {
			return err
		}
	}
	return nil
}

// childGoal is the version that a step brings onto children.
func (r *run) childGoal(s *store.Step) string {
	if f := s.Plan.File(); f != nil {
		return f.Version
	}
	return r.goal(s)
}

// preload has the children fetch the new image while they work, and waits until all have it.
func preload(r *run, ctx context.Context, s *store.Step) error {
	to, names := r.childGoal(s), change.Of[change.ChildParams](&s.Plan).Names
	tell := func(ctx context.Context, child *portrait.Child) error {
		c, err := r.connect(ctx)
		if err != nil {
			return err
		}
		return c.Preload(ctx, child.Name, r.childFile(s, child.Model), to)
	}
	has := func(c *portrait.Child) bool { return c.Version == to || c.Next == to }
	p, err := r.seeChildren(ctx)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	models := map[string]bool{}
	for _, x := range r.children(names) {
		child := childOf(p, &x)
		if child == nil || has(child) || child.Passing == portrait.Yes || models[child.Model] && !c.PreloadsEach() {
			continue
		}
		models[child.Model] = true
		if err := tell(ctx, child); err != nil {
			return err
		}
	}
	w := childWait{r: r, s: s, wants: has, again: tell, check: checkPreload, names: names}
	return w.wait(ctx)
}

// childFile is the name of the image for a model of children in a hop; "" where the device needs none.
func (r *run) childFile(s *store.Step, model string) string {
	if f := s.Plan.File(); f != nil {
		return f.Name
	}
	for _, o := range r.hop(s).Others {
		if o.Role == change.ChildRole(model) {
			return o.File
		}
	}
	return ""
}

// awaitChildren waits until the children have joined again, or run the release besides.
func awaitChildren(r *run, ctx context.Context, s *store.Step) error {
	to, release := r.childGoal(s), change.Of[change.ChildParams](&s.Plan).Release
	w := childWait{r: r, s: s, check: checkChildren, names: change.Of[change.ChildParams](&s.Plan).Names, wants: func(c *portrait.Child) bool { return c.Good == portrait.Yes && (!release || c.Version == to) }}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if can := c.Profile().Abilities.Children; can.Restart {
		w.again, w.careful, w.drains = r.restartChild, true, can.Drain
	}
	if err := w.wait(ctx); err != nil || !release {
		return err
	}
	return r.seenOnChildren(ctx, s, to)
}

// seenOnChildren looks at those children that are devices of their own here: what the device says of them is held against what they say themselves.
func (r *run) seenOnChildren(ctx context.Context, s *store.Step, to string) error {
	var seen, otherwise, checks []string
	for _, x := range r.children(change.Of[change.ChildParams](&s.Plan).Names) {
		d, err := r.e.Store.Device(ctx, x.Name)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return records(err)
		}
		p, err := r.e.Refresh(ctx, d, access.Carrying(r.c.ID))
		if err == nil && p.Version == to {
			seen = append(seen, x.Name)
			continue
		}
		if r.accepts(checkChildren + " " + x.Name) {
			continue
		}
		checks = append(checks, r.named(checkChildren+" "+x.Name))
		if err != nil {
			otherwise = append(otherwise, fmt.Sprintf("%s cannot be looked at: %s", x.Name, err))
		} else {
			otherwise = append(otherwise, fmt.Sprintf("%s says that it runs %s", x.Name, p.Version))
		}
	}
	if len(otherwise) > 0 {
		return &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: checks, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
			Text: fmt.Sprintf("%s: the device says that all run %s, and they do not say so themselves: %s", s.Plan.Title, to, some(otherwise))}, change.StepRunning}
	}
	if len(seen) > 0 {
		s.Note += fmt.Sprintf("; %d of them say so themselves", len(seen))
	}
	return nil
}

func (r *run) restartChild(ctx context.Context, child *portrait.Child) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.RestartChild(ctx, child.Name)
}

// restartChildren starts some children anew, once others at their places can stand in for them. One that can be drained is drained first, and serves
// again at the end.
func restartChildren(r *run, ctx context.Context, s *store.Step) error {
	to, names := r.childGoal(s), change.Of[change.ChildParams](&s.Plan).Names
	if err := r.placesServed(ctx, s, names); err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	drains := c.Profile().Abilities.Children.Drain
	p, err := r.seeChildren(ctx)
	if err != nil {
		return err
	}
	for _, x := range r.children(names) {
		child := childOf(p, &x)
		if child == nil || child.Version == to || child.Passing == portrait.Yes {
			continue
		}
		if drains {
			if err := r.drainChild(ctx, s, child.Name); err != nil {
				return err
			}
		}
		if err := r.restartChild(ctx, child); err != nil {
			return err
		}
	}
	back := func(c *portrait.Child) bool {
		return c.Version == to && (c.Good == portrait.Yes || drains && c.Drained == portrait.Yes)
	}
	w := childWait{r: r, s: s, wants: back, again: r.restartChild, check: checkChildren, names: names}
	if err := w.wait(ctx); err != nil || !drains {
		return err
	}
	return r.undrainChildren(ctx, s, names)
}

// placesServed waits until at every place of a wave another one serves while it is away. A place that has only those is left to what was accepted.
func (r *run) placesServed(ctx context.Context, s *store.Step, names []string) error {
	limit, began := time.Duration(s.Plan.Expect.Limit*float64(time.Second)), r.e.now()
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeChildren(ctx)
		if err != nil {
			return false, "", err
		}
		dark := slices.DeleteFunc(r.wouldBeDark(p, names), func(place string) bool { return r.accepts(checkPlace + " " + place) })
		switch {
		case len(dark) == 0:
			return true, "at every place others serve meanwhile", nil
		case r.e.since(began) > limit/2:
			var checks []string
			for _, place := range dark {
				checks = append(checks, r.named(checkPlace+" "+place))
			}
			return false, "", &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: checks,
				Answers: []change.Action{change.Accept, change.Retry, change.Leave},
				Text:    fmt.Sprintf("%s: nobody would serve at %s, since the others there do not. See to them and answer retry, or accept it", s.Plan.Title, some(dark))}, change.StepRunning}
		}
		return false, "it is waited until others serve at " + some(dark), nil
	})
}

// wouldBeDark are the places at which nobody would serve while some children are away, though the change knows others there.
func (r *run) wouldBeDark(p *portrait.Portrait, names []string) (dark []string) {
	others, serve := map[string]bool{}, map[string]bool{}
	for _, c := range r.children(nil) {
		if slices.Contains(names, c.Name) {
			continue
		}
		others[c.Place] = true
		if child := childOf(p, &c); child != nil && child.Good == portrait.Yes {
			serve[c.Place] = true
		}
	}
	for _, c := range r.children(names) {
		if others[c.Place] && !serve[c.Place] && !slices.Contains(dark, c.Place) {
			dark = append(dark, c.Place)
		}
	}
	return dark
}

// drainChild waits until a child serves nobody any more; one that will not come to that is left to a person.
func (r *run) drainChild(ctx context.Context, s *store.Step, name string) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if err := c.DrainChild(ctx, name); err != nil {
		return err
	}
	limit, began := time.Duration(s.Plan.Expect.Limit*float64(time.Second)), r.e.now()
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeChildren(ctx)
		if err != nil {
			return false, "", err
		}
		child := p.Child(name)
		switch {
		case child == nil:
			return false, "", final("%s went away while it was drained", name)
		case child.Drained == portrait.Yes:
			return true, name + " serves nobody", nil
		case r.e.since(began) > limit*4/10 && r.accepts(checkDrain+" "+name):
			return true, fmt.Sprintf("%s; accepted that it is cut off", child.Text()), nil
		case r.e.since(began) > limit*4/10:
			return false, "", &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{r.named(checkDrain + " " + name)},
				Answers: []change.Action{change.Accept, change.Retry, change.Leave},
				Text:    fmt.Sprintf("%s does not drain: %s. Nothing else was done to it. See to it and answer retry, or accept that those whom it serves are cut off", name, child.Text())}, change.StepRunning}
		}
		return false, child.Text(), nil
	})
}

// undrainChildren has children serve again, and waits until they do: the next one is not touched before.
func (r *run) undrainChildren(ctx context.Context, s *store.Step, names []string) error {
	p, err := r.seeChildren(ctx)
	if err != nil {
		return err
	}
	serve := func(ctx context.Context, child *portrait.Child) error {
		c, err := r.connect(ctx)
		if err != nil {
			return err
		}
		return c.UndrainChild(ctx, child.Name)
	}
	for _, x := range r.children(names) {
		if child := childOf(p, &x); child != nil && child.Good != portrait.Yes {
			if err := serve(ctx, child); err != nil {
				return err
			}
		}
	}
	w := childWait{r: r, s: s, wants: func(c *portrait.Child) bool { return c.Good == portrait.Yes }, again: serve, check: checkChildren, names: names}
	return w.wait(ctx)
}

// Readings of children, from the portrait.
const (
	readChildren      = "children"
	readChildVersions = "child-versions"
)

// childReadings adds what the children of a device tell.
func childReadings(values verify.Readings, p *portrait.Portrait) {
	if len(p.Children) == 0 {
		return
	}
	var joined, run []string
	for i := range p.Children {
		if c := &p.Children[i]; c.Good == portrait.Yes {
			joined, run = append(joined, c.Name), append(run, c.Version)
		}
	}
	values[readChildren], values[readChildVersions] = set(joined), set(run)
	if why := p.NotUnderstood["children"]; why != "" {
		values[readChildren], values[readChildVersions] = verify.Value{Type: verify.NotReadable, Text: why}, verify.Value{Type: verify.NotReadable, Text: why}
	}
}

// childExpectations are what is expected of the children: those that had joined have, and run the release.
func childExpectations(before verify.Readings, version string) []verify.Expectation {
	if b, ok := before[readChildren]; !ok || b.Known() && len(b.Set) == 0 {
		return nil
	}
	return []verify.Expectation{
		{Reading: readChildren, Title: "Children that joined", Rule: verify.KeepsAll, Severity: verify.Degrades},
		{Reading: readChildVersions, Title: "Versions of children", Rule: verify.Equals, Value: set([]string{version}), Severity: verify.Degrades},
	}
}

// withoutDropped leaves those children out of the readings before that the release does not serve: a person took that on.
func (r *run) withoutDropped(before verify.Readings) {
	b, ok := before[readChildren]
	if !ok || !b.Known() || r.c.Children == nil {
		return
	}
	b.Set = slices.DeleteFunc(slices.Clone(b.Set), func(name string) bool {
		return slices.ContainsFunc(r.c.Children.Children, func(c change.ChildOf) bool { return c.Name == name && !r.c.Children.Served(&c) })
	})
	before[readChildren] = b
}

// childFacts looks at the children of a device: whether they are there, and what the change does to them.
func (e *Engine) childFacts(ctx context.Context, f *ready.Facts, c *store.Change, p *portrait.Portrait) error {
	if p == nil || c.Children == nil || c.Ensemble != nil && !p.Serves() { // of several, whoever serves has them
		return nil
	}
	out := &f.Children
	out.Now, out.Seats, out.Alone, out.AtOnce, out.Called = p.Children, p.Seats, c.Children.Alone, c.Children.AtOnce, c.Children.Called
	out.Stated = func(serial string) bool { return change.SerialIn(serial, c.Children.Authorise) }
	out.Dropped = map[string]ready.DroppedChildren{}
	if c.Ensemble != nil { // a lane sees only its own steps
		whole, err := e.Store.Change(ctx, c.ID)
		if err != nil {
			return records(err)
		}
		c = &whole
	}
	var down []change.Step
	for _, child := range c.Children.Children {
		out.Want = append(out.Want, ready.ChildWanted{Name: child.Name, Serial: child.Serial})
		if why := c.Children.Dropped[child.Model]; why != "" {
			d := out.Dropped[child.Model]
			d.Why, d.Names = why, append(d.Names, child.Name)
			out.Dropped[child.Model] = d
		}
	}
	for i := range c.Steps {
		if s := &c.Steps[i].Plan; s.Kind == change.RestartChildren && !s.Back || c.Children.AtOnce && s.Kind.Is(change.Services, change.AwaitChildren) && !s.Back {
			down = append(down, *s)
			if s.Kind == change.RestartChildren {
				break // of one wave
			}
		}
	}
	if len(down) == 0 {
		return nil
	}
	var err error
	out.Half, out.Most, err = e.Last(ctx, c, down)
	return err
}

// childrenTogether holds the children of whoever serves against those of the draft, as a result of a verdict.
func (r *run) childrenTogether(s *store.Step, members []portrait.Portrait) []verify.Result {
	want := r.children(nil)
	if len(want) == 0 {
		return nil
	}
	res := verify.Result{Reading: readChildren, Title: "Children that joined", State: verify.Met, Severity: verify.Degrades}
	i := slices.IndexFunc(members, func(p portrait.Portrait) bool { return p.Serves() })
	if i < 0 {
		res.State, res.Evidence = verify.NotProven, "no member serves that could tell"
		return []verify.Result{res}
	}
	to := r.goal(s)
	w := childWait{r: r, s: s, wants: func(c *portrait.Child) bool { return c.Good == portrait.Yes && c.Version == to }}
	not := w.look(&members[i])
	res.Evidence = fmt.Sprintf("%d of %d follow %s and run %s", len(want)-len(not), len(want), members[i].Name, to)
	if len(not) > 0 {
		res.State = verify.Unmet
		res.Evidence += ": " + some(texts(not))
	}
	return []verify.Result{res}
}
