package portrait

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a device does not say is not told; what it says comes in an order that does not change.
func TestTold(t *testing.T) {
	assert.Empty(t, (&Portrait{Model: "X", Version: "1"}).Told())
	p := Portrait{Generation: "K2", Memory: 64 << 20, UptimeSeconds: 93784, Started: "on Monday", Work: "3 flows", OutOfService: No}
	assert.Equal(t, []Line{{"hardware", "K2"}, {"memory", "64.0 MiB"}, {"uptime", "1 d 2 h"}, {"work", "3 flows"}, {"new work", "taken"}}, p.Told())
	p.OutOfService, p.UptimeSeconds = Yes, 3725
	assert.Contains(t, p.Told(), Line{"new work", "not taken"})
	assert.Contains(t, p.Told(), Line{"uptime", "1 h 2 min"})
	p.UptimeSeconds = 0
	assert.Contains(t, p.Told(), Line{"started", "on Monday"}, "where it does not say how long that is ago")
	pair := Portrait{Role: "standby", Mate: "S2", Sync: "97 %", InSync: No}
	assert.Equal(t, []Line{{"role", "standby"}, {"mate", "S2"}, {"sync", "97 %; it could not take over"}}, pair.Told())
	pair.Sync, pair.InSync = "", Yes
	assert.Contains(t, pair.Told(), Line{"sync", "it could take over"})
	pair.Role = "active"
	assert.Contains(t, pair.Told(), Line{"sync", "another one could take over"})
	p.UptimeSeconds = 61
	assert.Contains(t, p.Told(), Line{"uptime", "1 min 1 s"})
}
