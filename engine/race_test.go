//go:build race

package engine

// The race detector makes everything slower, and the tests share a machine: a hard limit that a step would keep has to be far away.
const leastLimit = 30
