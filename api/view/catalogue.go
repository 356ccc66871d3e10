package view

import (
	"fmt"
	"slices"
	"strings"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/core/version"
)

// Releases shows the releases of a model's family, newest first. running is what a device runs now; notRun goes with the
// releases in ascending order.
func Releases(f *catalog.Family, model, running string, notRun []*catalog.Citation, has Has) []gen.Release {
	out := []gen.Release{}
	for i := len(f.Releases) - 1; i >= 0; i-- {
		r := &f.Releases[i]
		item := gen.Release{Version: r.Version.String(), Train: r.Train, Stage: gen.ReleaseStage(r.Stage), Runs: notRun[i] == nil}
		if !r.Date.IsZero() {
			item.Date = ptr(r.Date.Format("2006-01-02"))
		}
		if notRun[i] != nil {
			item.Why = ptr(notRun[i].String())
		}
		if im := r.Image(model); im != nil {
			item.There = there(has, im.SHA256)
		}
		if item.Version == running {
			item.Running = ptr(true)
		}
		out = append(out, item)
	}
	return out
}

// Explanation shows why one jump is supported or refused.
func Explanation(from string, to version.Version, permit *catalog.Citation, refusals []catalog.Citation) gen.Explanation {
	out := gen.Explanation{From: from, To: to.String(), Permitted: permit != nil, Refused: Citations(refusals)}
	if permit != nil {
		out.Permit = ptr(citation(*permit))
	}
	return out
}

// Family shows everything a catalogue file says.
func Family(f *catalog.Family, has Has) gen.Family {
	out := gen.Family{Name: f.Name, Title: f.Title, Maker: f.Maker, File: f.File, Models: []gen.Model{}, Releases: []gen.FamilyRelease{}, Rules: []gen.Rule{}, Requirements: []gen.Rule{},
		Components: []gen.ComponentTable{}, Services: []gen.Rule{}, Conditions: []gen.Rule{}, Skew: []gen.Rule{}}
	runs := map[int][]string{}
	for i := range f.Models {
		m := &f.Models[i]
		gm := gen.Model{Name: m.Name, Title: m.Title, Runs: m.Last.String(), Because: m.LastText, Role: m.Role, Generations: orEmpty(m.Generations)}
		if !m.EndOfSupport.IsZero() {
			gm.EndOfSupport = ptr(m.EndOfSupport.Format("2006-01-02"))
		}
		if m.Successor != "" {
			gm.Successor = &m.Successor
		}
		h := catalog.NewHops(f, m)
		for k := len(f.Releases) - 1; k >= 0; k-- {
			r := &f.Releases[k]
			if h.WhyNot(k) != nil {
				continue
			}
			runs[k] = append(runs[k], m.Name)
			if gm.Newest == nil && r.Stage != catalog.Preview {
				gm.Newest = ptr(r.Version.String())
			}
			if gm.Preferred == nil && r.Stage == catalog.Preferred {
				gm.Preferred = ptr(r.Version.String())
			}
		}
		out.Models = append(out.Models, gm)
	}
	for k := len(f.Releases) - 1; k >= 0; k-- {
		out.Releases = append(out.Releases, release(&f.Releases[k], runs[k], has))
	}
	for i := range f.Rules {
		r := &f.Rules[i]
		out.Rules = append(out.Rules, gen.Rule{Id: r.ID, Kind: r.Kind, Says: ruleSays(r), Text: r.Text, Line: r.At.Line})
	}
	for i := range f.Requirements {
		r := &f.Requirements[i]
		says := "to install " + r.Install.String()
		if !r.Leaving.IsZero() {
			says += " from " + r.Leaving.String()
		}
		if len(r.Models) > 0 {
			says += " on " + strings.Join(r.Models, ", ")
		}
		if r.Remedy != "" {
			says += "; otherwise " + r.Remedy
		}
		out.Requirements = append(out.Requirements, gen.Rule{Id: r.ID, Kind: r.Kind, Says: says, Text: r.Text, Line: r.At.Line})
	}
	for i := range f.Services {
		s := &f.Services[i]
		out.Services = append(out.Services, gen.Rule{Id: s.Name, Kind: "service", Says: "runs on " + strings.Join(slices.Concat([]string{s.Runs.String()}, s.Models, s.Generations), ", "), Text: s.Text, Line: s.At.Line})
	}
	for i := range f.Conditions {
		c := &f.Conditions[i]
		out.Conditions = append(out.Conditions, gen.Rule{Id: c.Name, Kind: "condition", Says: "the configuration has " + strings.Join(c.Has, " or "), Text: c.Text, Line: c.At.Line})
	}
	for i := range f.Skew {
		s := &f.Skew[i]
		says := fmt.Sprintf("%s: %s beside %s", s.Between, s.One, s.Other)
		if s.SameTrain {
			says = s.Between + ": inside one train"
		}
		out.Skew = append(out.Skew, gen.Rule{Id: s.ID, Kind: "skew", Says: says, Text: s.Text, Line: s.At.Line})
	}
	for i := range f.Components {
		c := &f.Components[i]
		t := gen.ComponentTable{Name: c.Name, Title: c.Title, Text: c.Text, Trigger: c.Trigger, Order: c.Order, Restarts: c.Restarts, Rows: []gen.ComponentRow{}}
		for k := range c.Rows {
			row := &c.Rows[k]
			gr := gen.ComponentRow{Releases: row.Releases.String(), For: strings.Join(slices.Concat(row.Models, row.Generations), ", "), Version: row.Version.String()}
			if row.Version.IsZero() {
				gr.Version = "at least " + row.AtLeast.String()
			}
			if row.Image != nil {
				gr.File = &row.Image.File
			}
			t.Rows = append(t.Rows, gr)
		}
		out.Components = append(out.Components, t)
	}
	return out
}

func release(r *catalog.Release, models []string, has Has) gen.FamilyRelease {
	out := gen.FamilyRelease{Version: r.Version.String(), Train: r.Train, Stage: gen.FamilyReleaseStage(r.Stage), Fixes: orEmpty(r.Fixes), Notes: []gen.HopNote{}, Images: []gen.HopImage{}, Models: orEmpty(models)}
	if !r.Date.IsZero() {
		out.Date = ptr(r.Date.Format("2006-01-02"))
	}
	if !r.Base.IsZero() {
		out.Base = ptr(r.Base.String())
	}
	for i := range r.Notes {
		n := &r.Notes[i]
		out.Notes = append(out.Notes, gen.HopNote{Kind: n.Kind, Text: n.Text, Matters: gen.MattersUnknown, When: n.When.String()})
	}
	for _, im := range r.Images {
		out.Images = append(out.Images, gen.HopImage{File: im.File, Role: strings.Join(im.Models, ", "), Version: r.Version.String(), Size: im.Size, Sha256: im.SHA256, There: there(has, im.SHA256)})
	}
	return out
}

// ruleSays puts a rule into a line.
func ruleSays(r *catalog.Rule) string {
	var s string
	switch r.Kind {
	case catalog.KindHop:
		s = fmt.Sprintf("%s to %s, configuration %s", r.From, r.To, r.Config)
		if r.Down {
			s = "down: " + s
		}
		if r.Restarts != 1 {
			s += fmt.Sprintf(", %d restarts", r.Restarts)
		}
	case catalog.KindLeaveTrain:
		train := "every train"
		if r.Train != "" {
			train = "train " + r.Train
		}
		s = train + " is left from its newest preferred release or a later one"
	case catalog.KindCrossing:
		s = "crossing " + r.Crossing.String()
		if !r.LeaveFrom.IsZero() {
			s += " from " + r.LeaveFrom.String()
		}
		if !r.LandOn.IsZero() {
			s += ", landing on " + r.LandOn.String()
		}
	case catalog.KindPlatformChange:
		s = fmt.Sprintf("%s on %s to %s on %s, configuration %s", r.FromModel, r.From, r.ToModel, r.To, r.Config)
	}
	if len(r.Models) > 0 {
		s = strings.Join(r.Models, ", ") + ": " + s
	}
	return s
}

func ptr[T any](v T) *T { return &v }
