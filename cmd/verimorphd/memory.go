package main

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// How much memory the service keeps. A thousand changes at once keep some 70 MiB alive, and what is collected late is paid for each of them; while
// little lives, collecting often only takes time from the changes.
const (
	heapGrowth = 25       // percent that the heap may grow beyond what lives until it is collected
	leastHeap  = 64 << 20 // bytes up to which it may grow in any case
)

// growth is how far the heap may grow beyond what lives until it is collected again, in percent.
func growth(live uint64) int {
	if live == 0 {
		return heapGrowth
	}
	return int(max(heapGrowth, min(1000, (leastHeap-min(live, leastHeap))*100/live)))
}

// tuneMemory sets after each collection how far the heap may grow until the next one, unless GOGC says it.
func tuneMemory() {
	if os.Getenv("GOGC") != "" {
		return
	}
	debug.SetGCPercent(heapGrowth)
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	type mark struct{ _ [1 << 5]byte }
	var collected func(*mark)
	collected = func(*mark) {
		metrics.Read(live)
		debug.SetGCPercent(growth(live[0].Value.Uint64()))
		runtime.SetFinalizer(&mark{}, collected) // the next collection finds it
	}
	collected(nil)
}
