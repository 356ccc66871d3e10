package catalog

import (
	"fmt"
	"strings"

	"verimorph/core/version"
)

// Hops answers, for one model, which hops its maker supports. Releases are their indexes in the family; ranges are
// worked out once into one flag a release, since a search asks for every pair.
type Hops struct {
	Family    *Family
	Model     *Model
	Preferred map[string]int // newest preferred release that the model may run, by train
	rules     []compiled
	notRun    []*Citation // why the model may not run a release; nil: it may
}

type compiled struct {
	*Rule
	a, b     []bool // hop: from, to; crossing: leave-from, land-on; leave-train: the train, -
	crossing int    // index of the first release at or after the crossing
}

// NewHops works out the rules that speak about a model.
func NewHops(f *Family, m *Model) *Hops {
	n := len(f.Releases)
	h := &Hops{Family: f, Model: m, Preferred: map[string]int{}, notRun: make([]*Citation, n)}
	for i := range f.Releases {
		h.notRun[i] = whyNot(m, &f.Releases[i])
		if r := &f.Releases[i]; r.Stage == Preferred && h.notRun[i] == nil {
			h.Preferred[r.Train] = i
		}
	}
	known := map[string][]bool{} // rules often speak about the same ranges
	in := func(r version.Range) []bool {
		if out := known[r.String()]; out != nil {
			return out
		}
		out := make([]bool, n)
		known[r.String()] = out
		for i := range f.Releases {
			out[i] = r.Contains(f.Releases[i].Version)
		}
		return out
	}
	for i := range f.Rules {
		r := &f.Rules[i]
		if !r.For(m.Name) || r.Kind == KindPlatformChange {
			continue
		}
		c := compiled{Rule: r}
		switch r.Kind {
		case KindHop:
			c.a, c.b = in(r.From), in(r.To)
		case KindLeaveTrain:
			c.a = make([]bool, n)
			for i := range f.Releases {
				c.a[i] = r.Train == "" || f.Releases[i].Train == r.Train
			}
		case KindCrossing:
			c.a, c.b = in(r.LeaveFrom), in(r.LandOn)
			for c.crossing < n && f.Releases[c.crossing].Version.Less(r.Crossing) {
				c.crossing++
			}
		}
		h.rules = append(h.rules, c)
	}
	return h
}

// whyNot says why a model may not run a release; nil when it may. Whether previews are wanted is for a policy to say.
func whyNot(m *Model, r *Release) *Citation {
	if why := m.Outgrown(r); why != nil {
		return why
	}
	switch {
	case r.Stage == Withdrawn:
		return &Citation{Text: fmt.Sprintf("%s was withdrawn by the maker", r.Version), At: r.At}
	case r.Image(m.Name) == nil:
		return &Citation{Text: fmt.Sprintf("%s has no image for %s", r.Version, m.Name), At: r.At}
	}
	return nil
}

// Outgrown says why a release does not serve a model: it lies outside the releases the model may run, or came out after
// its end of support. nil when it serves it.
func (m *Model) Outgrown(r *Release) *Citation {
	switch {
	case !m.Last.Contains(r.Version):
		text := fmt.Sprintf("%s may run %s only, not %s", m.Name, m.Last, r.Version)
		if m.LastText != "" {
			text += ": " + m.LastText
		}
		return &Citation{Text: text, At: m.At}
	case !m.EndOfSupport.IsZero() && r.Date.After(m.EndOfSupport):
		return &Citation{Text: fmt.Sprintf("support of %s ended on %s, before %s came out on %s", m.Name, m.EndOfSupport.Format("2006-01-02"), r.Version, r.Date.Format("2006-01-02")), At: m.At}
	}
	return nil
}

// WhyNot says why the model may not run a release; nil when it may.
func (h *Hops) WhyNot(i int) *Citation { return h.notRun[i] }

func (h *Hops) version(i int) version.Version { return h.Family.Releases[i].Version }

// Permit returns the first hop rule that covers the pair, the gentlest on the configuration, or nil.
func (h *Hops) Permit(a, b int, reset bool) *Rule {
	var best *Rule
	for i := range h.rules {
		r := &h.rules[i]
		if r.Kind != KindHop || r.Down != (b < a) || !r.a[a] || !r.b[b] || r.SameTrain && h.Family.Releases[a].Train != h.Family.Releases[b].Train {
			continue
		}
		if r.Config == ConfigReset && !reset {
			continue
		}
		if best == nil || harm(r.Config) < harm(best.Config) {
			best = r.Rule
		}
	}
	return best
}

func harm(config string) int {
	switch config {
	case ConfigReset:
		return 2
	case ConfigConverted:
		return 1
	}
	return 0
}

// Refused reports whether a restricting rule forbids the pair.
func (h *Hops) Refused(a, b int) bool {
	for i := range h.rules {
		if h.rules[i].refuses(h, a, b) {
			return true
		}
	}
	return false
}

func (c *compiled) refuses(h *Hops, a, b int) bool {
	switch c.Kind {
	case KindLeaveTrain:
		if a >= b || !c.a[a] || h.Family.Releases[a].Train == h.Family.Releases[b].Train {
			return false
		}
		best, ok := h.Preferred[h.Family.Releases[a].Train]
		return ok && a < best
	case KindCrossing:
		return a < c.crossing && c.crossing <= b && (!c.a[a] || !c.b[b])
	}
	return false
}

// Refusals says why a pair is not supported: every restricting rule that forbids it, and, when no hop rule covers it,
// that nothing permits it. It is empty when the pair is supported.
func (h *Hops) Refusals(a, b int, reset bool) (out []Citation) {
	from, to := h.version(a), h.version(b)
	for i := range h.rules {
		c := &h.rules[i]
		if !c.refuses(h, a, b) {
			continue
		}
		var text string
		switch c.Kind {
		case KindLeaveTrain:
			train := h.Family.Releases[a].Train
			text = fmt.Sprintf("train %s is left only from its newest preferred release %s or a later one, not from %s", train, h.version(h.Preferred[train]), from)
		case KindCrossing:
			var parts []string
			if !c.a[a] {
				parts = append(parts, fmt.Sprintf("must start from %s, not %s", c.LeaveFrom, from))
			}
			if !c.b[b] {
				parts = append(parts, fmt.Sprintf("must land on %s, not %s", c.LandOn, to))
			}
			text = fmt.Sprintf("a hop that crosses %s %s", c.Crossing, strings.Join(parts, " and "))
		}
		out = append(out, Citation{c.ID, text + ": " + c.Text, c.At})
	}
	if h.Permit(a, b, reset) == nil {
		text := fmt.Sprintf("no hop rule permits %s to %s", from, to)
		if r := h.Permit(a, b, true); r != nil {
			out = append(out, Citation{r.ID, text + " without a configuration reset, which the policy does not allow", r.At})
		} else {
			out = append(out, Citation{Text: text, At: Position{File: h.Family.File, Line: 1, Column: 1}})
		}
	}
	return out
}

// End describes a release as the end of a hop: two releases with equal descriptions are alike to every rule. down
// reports whether a rule permits going down onto it.
func (h *Hops) End(b int) (description []byte, down bool) {
	rel := &h.Family.Releases[b]
	for i := range h.rules {
		c := &h.rules[i]
		bit := byte('0')
		switch {
		case c.Kind == KindHop && c.b[b]:
			bit = '1'
			down = down || c.Down
			if c.SameTrain {
				description = append(description, rel.Train...)
			}
		case c.Kind == KindCrossing && c.crossing <= b && c.b[b]:
			bit = '1'
		case c.Kind == KindCrossing && c.crossing <= b:
			bit = '2'
		case c.Kind == KindLeaveTrain && c.a[b]:
			description = append(description, rel.Train...)
		}
		description = append(description, bit)
	}
	return description, down
}

// Start describes a release as the start of a hop, as End does for the other side.
func (h *Hops) Start(a int) (description []byte) {
	for i := range h.rules {
		c := &h.rules[i]
		bit := byte('0')
		if c.a[a] {
			bit = '1'
		}
		if c.Kind == KindCrossing && c.crossing <= a {
			bit = '2'
		}
		if c.Kind == KindHop && c.SameTrain {
			description = append(description, h.Family.Releases[a].Train...)
		}
		if c.Kind == KindLeaveTrain && c.a[a] {
			if best, ok := h.Preferred[h.Family.Releases[a].Train]; ok && a < best {
				bit = '3'
			}
		}
		description = append(description, bit)
	}
	return description
}
