package main

import (
	"fmt"
	"time"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/prove"
	"verimorph/core/version"
)

// benchProve measures how long plans of several boxes take to be walked, in every order and with every single failure: those of rolling clusters,
// and the worst case, in which all members go down and come up side by side.
func benchProve() {
	for _, n := range []int{5, 8} {
		limit := map[int]time.Duration{5: 2 * time.Second, 8: 30 * time.Second}[n]
		for name, plan := range map[string]*prove.Plan{"rolling": rolling(n), "all at once": atOnce(n)} {
			var r *prove.Result
			took := best(1, func() { r = prove.Check(plan) })
			if !r.Proved {
				check(fmt.Errorf("%d members, %s: not proved: %s %v", n, name, r.GaveUp, r.Broken))
			}
			row(fmt.Sprintf("%d members, %s: %d states", n, name, r.States), took, "limit", limit, "at most 1")
		}
	}
}

// rolling is a cluster that is changed one member after the other.
func rolling(n int) *prove.Plan {
	from, to := version.MustParse("5.0.7"), version.MustParse("5.4.2")
	way := &path.Path{From: from, To: to, Hops: []path.Hop{{From: from, To: to, Restarts: 1, Config: catalog.ConfigKept}}}
	j := change.EnsembleJob{Kind: change.Cluster, Turns: make([]change.Turn, 1)}
	for i := range n {
		j.Members = append(j.Members, change.EnsembleMember{Name: fmt.Sprint("n", i+1), Active: i == 0, Sync: true,
			Job: change.Job{Family: &catalog.Family{}, Pace: change.Pace{Factor: 1}, Path: way}})
		j.Turns[0].Members, j.Turns[0].Hops = append(j.Turns[0].Members, i+1), append(j.Turns[0].Hops, 0)
	}
	plan, err := change.DraftEnsemble(j)
	check(err)
	return plan.Proof()
}

// atOnce are members that go down together, as a person accepted.
func atOnce(n int) *prove.Plan {
	p := &prove.Plan{Rules: prove.Rules{Dark: true, Together: true, Interrupts: true}}
	for i := range n {
		p.Members = append(p.Members, prove.Member{Name: fmt.Sprint("unit ", i+1), Active: i == 0, Sync: true})
		for k, e := range []prove.Effect{prove.Commits, prove.Down, prove.Up} {
			s := prove.Step{Number: len(p.Steps) + 1, Title: string(e), Member: i + 1, Effect: e, Version: 1, Rest: k == 0}
			if k > 0 {
				s.After = []int{s.Number - 1}
			}
			p.Steps = append(p.Steps, s)
		}
	}
	return p
}
