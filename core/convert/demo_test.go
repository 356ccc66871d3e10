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

func TestTarnholmUp(t *testing.T) {
	l := demo(t)
	r := convert(t, l, "TH-60@4.2.9", "TH-60@5.4.2", demoConfig(t, "hollen-fw1.cfg"), nil)
	t.Log(r.Text)
	for _, row := range r.Ledger.Source {
		t.Log(row)
	}
	for _, row := range r.Ledger.Target {
		t.Log(row)
	}
	assert.Empty(t, states(r))
}
