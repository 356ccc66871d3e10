// Package view shows results of the core in the form of the contract, for the service and for the client's offline use.
package view

import (
	"verimorph/api/gen"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/path"
)

// Path shows a path; the times of its hops are those of the steps, or, where the steps are not known, the catalogue's.
// has says which images are in the image store.
func Path(p *path.Path, steps []change.Step, has func(sha256 string) bool) gen.Path {
	out := gen.Path{Family: p.Family, Model: p.Model, From: p.From.String(), To: p.To.String(), Hops: []gen.Hop{}, NotTaken: []gen.Jump{}, Notes: orEmpty(p.Notes)}
	for _, h := range p.Hops {
		out.Hops = append(out.Hops, gen.Hop{
			From: h.From.String(), To: h.To.String(), Stage: string(h.Stage), Permit: citation(h.Permit), Because: Citations(h.Because),
			Config: gen.HopConfig(h.Config), Image: h.Image.File, ImageThere: has(h.Image.SHA256),
			Low: h.Low, High: h.High, Notes: orEmpty(h.Notes),
		})
	}
	if len(steps) > 0 {
		for i := range out.Hops {
			out.Hops[i].Low, out.Hops[i].High = 0, 0
		}
		for _, s := range steps {
			if s.Hop >= 0 && s.Hop < len(out.Hops) {
				out.Hops[s.Hop].Low += s.Expect.Low
				out.Hops[s.Hop].High += s.Expect.High
			}
		}
	}
	for _, j := range p.NotTaken {
		out.NotTaken = append(out.NotTaken, gen.Jump{From: j.From.String(), To: j.To.String(), Refusals: Citations(j.Refusals)})
	}
	return out
}

func citation(c path.Citation) gen.Citation {
	out := gen.Citation{Text: c.Text}
	if c.Rule != "" {
		out.Rule = &c.Rule
	}
	if c.At.File != "" {
		out.File, out.Line = &c.At.File, &c.At.Line
	}
	return out
}

// Citations shows reasons.
func Citations(cs []path.Citation) []gen.Citation {
	out := []gen.Citation{}
	for _, c := range cs {
		out = append(out, citation(c))
	}
	return out
}

// Differences shows what differs between two configurations.
func Differences(ds []config.Difference) []gen.Difference {
	out := []gen.Difference{}
	for _, d := range ds {
		out = append(out, gen.Difference{Kind: gen.DifferenceKind(d.Kind), Path: d.Path, Old: d.Old, New: d.New, OldLine: d.OldLine, NewLine: d.NewLine, Secret: d.Secret})
	}
	return out
}

func orEmpty(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}
