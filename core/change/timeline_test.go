package change

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
)

var routed = []catalog.Effect{{Step: "restart", Clients: "routed traffic", Effect: "outage", Text: "all routes are withdrawn"},
	{Step: "services", Clients: "routed traffic", Effect: "degraded", Text: "routes come back"}, {Step: "restart", Clients: "guests", Effect: "outage", Text: "the page is gone"},
	{Step: "backup", Clients: "people", Effect: "none"}}

// seconds says how long steps of some kinds take; all others take none.
func seconds(s *Step) float64 {
	return map[Kind]float64{Backup: 5, Send: 20, Install: 60, Restart: 2, Link: 30, Login: 10, Services: 40, Sync: 15, Switch: 1, Settle: 4}[s.Kind]
}

// What is interrupted is interrupted from the restart on until services begin to come back; who has no such step waits until they all are.
func TestWhatClientsNotice(t *testing.T) {
	plan, err := Draft(bySlots("5.0.7", "5.4.2"))
	require.NoError(t, err)
	line := Lay(plan.Steps, seconds, routed, 0)
	assert.Equal(t, 167.0, line.Seconds)
	assert.Equal(t, []Noticed{
		{"routed traffic", []Part{{85, 127, "outage", "all routes are withdrawn", 1}, {127, 167, "degraded", "routes come back", 1}}, 42, 40},
		{"guests", []Part{{85, 167, "outage", "the page is gone", 1}}, 82, 0},
		{"people", nil, 0, 0},
	}, line.Clients)
	s := &Step{Expect: catalog.Span{Low: 10, High: 20}}
	assert.Equal(t, 15.0, Lasting(s))
}

// Of a pair both get ready side by side, and only the one that serves is noticed: nobody, but for the switch.
func TestOfAPairNobodyNotices(t *testing.T) {
	p, err := DraftEnsemble(alike(Pair, 2, 1, bySlots("5.0.7", "5.4.2")))
	require.NoError(t, err)
	effects := slices.Concat(routed, []catalog.Effect{{Step: "switch-over", Clients: "routed traffic", Effect: "degraded", Text: "a moment"}})
	line := Lay(p.Steps, seconds, effects, 1)
	for _, c := range line.Clients {
		assert.Zero(t, c.Outage, c.Clients)
	}
	require.Len(t, line.Clients[0].Parts, 1)
	part := line.Clients[0].Parts[0]
	assert.Equal(t, Part{182, 183, "degraded", "a moment", 2}, part)
	assert.Equal(t, []Part{{182, 183, "unknown", "the catalogue does not say what they notice of a switch", 2}}, line.Clients[1].Parts, "what nobody says is not nothing")
	both, alone := line.Seconds, Lay(p.Steps, seconds, effects, 0)
	assert.Less(t, both, 2*167.0+15+15+1+4+4, "getting ready is side by side")
	assert.NotZero(t, alone.Clients[0].Outage, "as if each served for itself")

	// Steps that do not say what they wait for wait for their member and for the whole.
	steps := []Step{{Number: 1, Member: 1, Kind: Backup}, {Number: 2, Member: 2, Kind: Send}, {Number: 3, Member: 1, Kind: Send}, {Number: 4, Kind: Verify}}
	assert.Equal(t, []When{{1, 1, 0, 5}, {2, 2, 0, 20}, {3, 1, 5, 25}, {4, 0, 25, 25}}, Lay(steps, seconds, nil, 0).Steps)
}
