package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
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

// some names the first few of many.
func some(names []string) string { return ready.First(names, "; ") }

// seeChildren is the portrait of a device that says which children it has.
func (r *run) seeChildren(ctx context.Context) (*portrait.Portrait, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	if why := p.NotUnderstood["children"]; why != "" {
		return nil, final("which children it has is not known: %s. Its dialect has to know that line", why)
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
