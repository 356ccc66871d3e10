package server

import (
	"bytes"
	"cmp"
	"context"
	"fmt"

	"verimorph/api/gen"
	"verimorph/core/change"
	"verimorph/core/ready"
	"verimorph/report"
	"verimorph/store"
)

// PrintForecast writes the forecast of a change, to print.
func (s *Server) PrintForecast(ctx context.Context, r gen.PrintForecastRequestObject) (gen.PrintForecastResponseObject, error) {
	c, err := s.Planner.Change(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	f, err := s.forecast(ctx, &c)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if value(r.Params.Format) == gen.Pdf {
		if err := f.PDF(&b); err != nil {
			return nil, err
		}
		return gen.PrintForecast200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, nil
	}
	if err := f.HTML(&b); err != nil {
		return nil, err
	}
	return gen.PrintForecast200TexthtmlResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

// forecast is what a change is expected to do, for paper.
func (s *Server) forecast(ctx context.Context, c *store.Change) (*report.Forecast, error) {
	expected, measured, err := s.timeline(ctx, c)
	if err != nil {
		return nil, err
	}
	name := c.Devices()
	if c.Ensemble != nil {
		name = c.Ensemble.Name
	}
	f := &report.Forecast{Title: fmt.Sprintf("Forecast of change %d: %s, from %s to %s", c.ID, name, c.From, c.To), Seconds: expected.Seconds}
	fact := func(name, format string, args ...any) {
		f.Facts = append(f.Facts, [2]string{name, fmt.Sprintf(format, args...)})
	}
	zone := s.Engine.Zone
	fact("State", "%s, drafted by %s", c.State, c.CreatedBy)
	if c.WindowFrom != nil && c.WindowTo != nil {
		fact("Window", "%s to %s", c.WindowFrom.In(zone).Format(ready.Stamp), c.WindowTo.In(zone).Format(ready.Stamp))
	}
	fact("Expected", "%s in all", report.Clock(expected.Seconds))
	if measured != nil {
		fact("Measured", "%s so far or in all", report.Clock(measured.Seconds))
	}
	for _, text := range concerns(c) {
		fact("Besides", "%s", text)
	}
	for i := range c.Members {
		for _, b := range c.WaysBack(&c.Members[i]) {
			fact("Way back", "%s: %s", c.Members[i].Device, b.Text)
		}
	}
	if c.Ensemble != nil {
		fact("Order", "%s", proofText(&c.Ensemble.Proof))
	}
	s.forecastLanes(f, c, expected)
	for _, n := range expected.Clients {
		lane := report.Lane{Name: n.Clients, Text: "outage " + report.Clock(n.Outage) + " expected"}
		if measured != nil {
			for _, m := range measured.Clients {
				if m.Clients == n.Clients {
					lane.Text += ", " + report.Clock(m.Outage) + " measured"
				}
			}
		}
		for _, p := range n.Parts {
			lane.Bars = append(lane.Bars, report.LaneBar{From: p.From, To: p.To, Kind: p.Effect, Text: p.Text})
		}
		f.Clients = append(f.Clients, lane)
	}
	for i := range c.Probes {
		w := &c.Probes[i]
		f.Probes = append(f.Probes, fmt.Sprintf("%s of %s: interruptions: %d, the longest %.1f s; %d of %d did not answer; nobody asked for %.1f s", w.Target, w.Device, w.All(), w.Longest, w.Lost, w.Asked, w.Unwatched))
	}
	return f, nil
}

// downKinds are the steps during which a device serves nobody.
var downKinds = []change.Kind{change.Restart, change.Link, change.Login, change.BecomeManaged}

// forecastLanes draws a lane for each member, and lists the steps.
func (s *Server) forecastLanes(f *report.Forecast, c *store.Change, expected *change.Timeline) {
	lanes := make([]report.Lane, len(c.Members))
	for i := range c.Members {
		lanes[i] = report.Lane{Name: c.Members[i].Device, Text: cmp.Or(c.Members[i].Role, "")}
	}
	k := 0
	for i := range c.Steps {
		st := &c.Steps[i]
		if st.Plan.Back {
			continue
		}
		w := expected.Steps[k]
		k++
		member := ""
		bar := report.LaneBar{From: w.From, To: w.To, Kind: "work", Text: st.Plan.Title}
		if st.Plan.Kind.Is(downKinds...) || st.Plan.InPlace() {
			bar.Kind = "down"
		}
		for m := range lanes {
			if st.Plan.Member == m+1 || st.Plan.Member == 0 || len(lanes) == 1 {
				lanes[m].Bars = append(lanes[m].Bars, bar)
				member = lanes[m].Name
			}
		}
		if st.Plan.Member == 0 {
			member = "all"
		}
		f.Steps = append(f.Steps, report.ForecastStep{Number: st.Plan.Number, Member: member, Title: st.Plan.Title, From: w.From, To: w.To, Result: string(st.State)})
	}
	f.Lanes = lanes
}

// proofText says in a sentence whether the order of the steps is proved.
func proofText(p *change.Proof) string {
	switch {
	case p.Text != "":
		return "not safe: " + p.Text
	case !p.Proved:
		return "not proved: " + p.GaveUp
	}
	return fmt.Sprintf("proved: %d states were walked, with every single failure", p.States)
}
