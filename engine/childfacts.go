package engine

import (
	"context"
	"fmt"
	"slices"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/store"
)

// What is told of children: as readings and in a verdict, and to the go/no-go checks.

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
	if !ok || !b.Known() {
		return
	}
	if p := joinOf(r.c); r.c.Kind == change.Releasing { // it stands alone afterwards
		b.Set = slices.DeleteFunc(slices.Clone(b.Set), func(name string) bool { return name == p.Name })
		before[readChildren] = b
	}
	if r.c.Children == nil {
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
