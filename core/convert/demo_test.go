package convert

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
)

func demo(t testing.TB) *Library {
	l, found := ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found, "%s", found.Error())
	return l
}

func stop(t testing.TB, l *Library, text string) Stop {
	s, err := l.ParseStop(text)
	require.NoError(t, err)
	return s
}

// convert converts a text and holds the ledger against it.
func convert(t testing.TB, l *Library, from, to, text string, change func(*Job)) *Result {
	t.Helper()
	job := Job{From: stop(t, l, from), To: stop(t, l, to)}
	if change != nil {
		change(&job)
	}
	s := l.Schema(job.From)
	d, broken := config.Parse("x", text, s.Syntax)
	require.Empty(t, broken)
	r, err := l.Convert(job, d)
	require.NoError(t, err)
	again, broken := config.Parse("x", r.Text, r.T.Syntax)
	require.Empty(t, broken, "%s", r.Text)
	require.Equal(t, r.Text, again.Print())
	require.Empty(t, Check(text, r.Text, r.S, r.T, r.Ledger), "%s", r.Text)
	return r
}

func demoConfig(t testing.TB, name string) string {
	text, err := os.ReadFile("../../demo/configs/" + name)
	require.NoError(t, err)
	return strings.ReplaceAll(string(text), "{{random}}", "demo-4471-secret")
}

// states lists what became of the statements that were not kept.
func states(r *Result) (out []string) {
	for _, row := range r.Ledger.Source {
		if row.State != Kept {
			out = append(out, row.State+": "+row.Path)
		}
	}
	return out
}

func TestDemoConversions(t *testing.T) {
	l := demo(t)
	for _, c := range []struct{ file, from, to string }{
		{"control-fw1.cfg", "TH-60@4.2.9", "TH-60@5.4.2"},
		{"control-fw1.cfg", "TH-60@4.2.9", "TH-80@6.0.1"},
		{"hollen-sw1.conf", "L24@11.2.7", "L24@12.1.5"},
		{"hollen-sw1.conf", "L24@11.2.7", "C8@13.0.2"},
		{"tern-rt1.xml", "V1@7.4.7", "V2@7.4.7"},
		{"tern-rt1.xml", "V1@7.4.7", "V2@9.0.1"},
		{"innersund-wc1.conf", "WC-2@8.5.4", "WC-2@9.2.3"},
		{"control-sg1.json", "SG-5@3.8.4", "SG-5@4.4.2"},
		{"control-sg1.json", "SG-5@3.8.4", "TD-C@2026-spring-3"},
		{"control-td1.json", "TD-C@2024-autumn-3", "TD-C@2025-spring-4"},
		{"marrow-ramp1.ini", "RC-6@F1.06", "RC-6@F2.12"},
		{"marrow-ramp1.ini", "RC-6@F1.06", "RC-6@F3.05"},
	} {
		t.Run(c.file+" to "+c.to, func(t *testing.T) {
			text := demoConfig(t, c.file)
			s := l.Schema(stop(t, l, c.from))
			d, broken := config.Parse(c.file, text, s.Syntax)
			require.Empty(t, broken)
			at := stop(t, l, c.from)
			assert.Empty(t, s.Check(d, at.Model, at.Version), "the demo itself is sound")
			r := convert(t, l, c.from, c.to, text, nil)
			t.Log(r.Ledger.Counts, r.Ledger.Findings)
			seen := map[string]int{}
			for _, row := range r.Ledger.Source {
				if row.State != Kept && row.State != Moved {
					key := row.State + " " + row.Rule + " " + row.Reason
					if seen[key]++; seen[key] < 2 {
						t.Log(row)
					}
				}
			}
		})
	}
}
