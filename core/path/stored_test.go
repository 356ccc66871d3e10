package path

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A path is stored under names of our own. What an older version stored, under the names of its fields, is read as well.
func TestStoredPaths(t *testing.T) {
	old := `{"Model": "TH-60", "From": "4.2.3", "To": "4.2.9", "NotTaken": [{"From": "4.2.3", "To": "5.0.7", "Refusals": [{"Rule": "R1", "At": {"file": "a.yaml", "line": 3, "column": 1}}]}],
		"Hops": [{"From": "4.2.3", "To": "4.2.9", "Image": {"File": "a.img", "SHA256": "aa", "Size": 7}, "HandSteps": [{"Due": "before", "Text": "look"}], "Low": 4, "Components": [{"Name": "logic", "At": {"file": "a.yaml"}}]}]}`
	var p, again Path
	require.NoError(t, json.Unmarshal([]byte(old), &p))
	require.Len(t, p.Hops, 1)
	h := &p.Hops[0]
	assert.Equal(t, []any{"TH-60", "4.2.9", "a.img", "aa", int64(7), "before", "logic", 4.0, "R1", 3}, []any{p.Model, h.To.String(), h.Image.File, h.Image.SHA256, h.Image.Size, h.HandSteps[0].Due, h.Components[0].Name, h.Low, p.NotTaken[0].Refusals[0].Rule, p.NotTaken[0].Refusals[0].At.Line})
	now, err := json.Marshal(p)
	require.NoError(t, err)
	for _, name := range []string{`"model":"TH-60"`, `"notTaken":[{`, `"handSteps":[{`, `"sha256":"aa"`} {
		assert.Contains(t, string(now), name)
	}
	assert.False(t, strings.Contains(string(now), `"Hops"`))
	require.NoError(t, json.Unmarshal(now, &again))
	assert.Equal(t, p, again)
}
