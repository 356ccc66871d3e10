package engine

import "github.com/prometheus/client_golang/prometheus"

// What the engine counts. The server registers them.
var (
	StepsEnded = prometheus.NewCounterVec(prometheus.CounterOpts{
		Name: "verimorph_steps_ended_total", Help: "Steps that ended in this process.",
	}, []string{"kind", "state"})
	ChangesEnded = prometheus.NewCounterVec(prometheus.CounterOpts{
		Name: "verimorph_changes_ended_total", Help: "Changes that ended in this process.",
	}, []string{"state"})
)
