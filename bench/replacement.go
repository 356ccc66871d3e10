package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"verimorph/simfleet/tarnholm"
)

// A small firewall is replaced by its larger successor, with a configuration of two thousand statements: how long we take ourselves, and how many decisions
// a person makes.
const (
	swapHost   = "127.70.0.5"
	swapFactor = 500.0 // what the devices take does not count
	swapOld    = "127.75.0.1:2022"
	swapNew    = "127.75.0.2:2022"
	swapLimit  = 5 * time.Second
)

// swapProcess is the two firewalls.
func swapProcess(dir string, _ int) {
	text, err := os.ReadFile("demo/configs/control-fw1.cfg")
	check(err)
	var boxes []*tarnholm.Box
	for _, s := range []tarnholm.Spec{{Name: "old", Model: "TH-60", Serial: "OLD", Address: swapOld, Version: "4.2.9", Config: string(text), Sessions: 100},
		{Name: "new", Model: "TH-80", Serial: "NEW", Address: swapNew, Version: "5.4.2", Blank: true}} {
		s.User, s.Password, s.Watchword, s.Flash = "bosun", "bench", "bench", 32<<20
		b, err := tarnholm.Open(s, filepath.Join(dir, s.Name), swapFactor, slog.New(slog.DiscardHandler))
		check(err)
		check(b.Start())
		boxes = append(boxes, b)
	}
	boxes[1].TakesPlaceOf(boxes[0])
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin) // until the bench ends
}

// openRow is a statement about which a person decides.
type openRow struct {
	Path, State, Ask string
	Line             int
}

// A bench conversion is what the bench reads of one.
type benchConversion struct {
	ID       int64
	Complete bool
	Ledger   struct {
		Source, Assumed []openRow
		Ports           []map[string]any
		Questions       []struct {
			Rule, Path, Answer string
			Choices            []struct{ Answer string }
		}
	}
}

func benchReplacement(ctx context.Context, dir string) {
	b, closeAll := newManyBench(ctx, dir, swapHost, swapFactor)
	defer closeAll()
	_, stop := b.startProcess("swap", filepath.Join(dir, "fleet"), 2, 1)
	defer stop()
	defer b.startService()()
	for _, pattern := range []string{"tarnholm-th.yaml", "schemas/th-*.yaml", "conversions/th-*.yaml"} {
		files, err := filepath.Glob("demo/catalog/" + pattern)
		check(err)
		for _, f := range files {
			text, err := os.ReadFile(f)
			check(err)
			b.call("PUT", "/catalogue/"+filepath.Base(f), "application/yaml", text, nil)
		}
	}
	for name, address := range map[string]string{"old": swapOld, "new": swapNew} {
		b.post("/devices", map[string]any{"name": name, "address": address, "dialect": "tarnholm", "user": "bosun", "password": "bench", "privilegedPassword": "bench"}, nil)
	}
	b.post("/backups", map[string]any{"device": "old"}, nil)
	var c benchConversion
	b.post("/conversions", map[string]any{"source": map[string]any{"backup": 1}, "to": "TH-80@5.4.2"}, &c)
	open, decisions := c.open(), 0
	for n := 0; !c.Complete && n < 5; n++ {
		decisions += b.decide(&c)
	}
	if !c.Complete {
		check(fmt.Errorf("the conversion is still open: %v", c.open()))
	}
	wish := map[string]any{"device": "new", "old": "old", "conversion": c.ID}
	began := time.Now()
	b.post("/replacements/preview", wish, nil)
	b.post("/replacements", wish, nil)
	row(fmt.Sprintf("replacement, %d statements, preview and draft", len(c.Ledger.Source)), time.Since(began), "limit", swapLimit, "<= 1")
	fmt.Printf("%-48s  %8d    %-18s %8d    %6.2f  %s\n", "  decisions of a person", decisions, "open statements", len(open), float64(decisions)/float64(len(open)), "<= 1")
}

// open are the statements about which a person decides.
func (c *benchConversion) open() (out []openRow) {
	for _, r := range append(c.Ledger.Source, c.Ledger.Assumed...) {
		if r.State == "needs-person" {
			out = append(out, r)
		}
	}
	return out
}

// decide makes one decision for each statement that is open, as a person would: what is proposed, what is offered first, what is guarded is accepted, the rest is settled.
func (b *manyBench) decide(c *benchConversion) (decisions int) {
	answers, ports := map[string]string{}, false
	for _, r := range c.open() {
		switch r.Ask {
		case "ports":
			ports = true
		case "accept":
			answers["guarded @ "+r.Path] = "accept"
		case "secret":
			answers["secret @ "+r.Path] = "typed again"
		case "answer":
			for _, q := range c.Ledger.Questions {
				if q.Path == r.Path {
					answers[q.Rule+" @ "+q.Path] = q.Choices[0].Answer
				}
			}
		default:
			answers["settled @ "+r.Path] = "seen to"
		}
	}
	for _, q := range c.Ledger.Questions {
		if q.Answer == "" {
			answers[q.Rule+" @ "+q.Path] = q.Choices[0].Answer
		}
	}
	body := map[string]any{"answers": answers}
	if ports { // confirming what is proposed is one decision for each port
		var chosen []map[string]any
		for _, p := range c.Ledger.Ports {
			p["chosen"], p["sure"] = true, false
			delete(p, "why")
			chosen = append(chosen, p)
		}
		body["ports"] = chosen
		decisions++
	}
	data, err := json.Marshal(body)
	check(err)
	*c = benchConversion{ID: c.ID}
	b.call("PATCH", fmt.Sprintf("/conversions/%d", c.ID), "application/json", bytes.TrimSpace(data), c)
	return decisions + len(answers)
}
