//go:build !race

package engine

// leastLimit is the least hard limit of a step, in seconds.
const leastLimit = 15
