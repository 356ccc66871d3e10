package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHowFarTheHeapMayGrow(t *testing.T) {
	for live, want := range map[uint64]int{0: 35, 1 << 20: 1000, 20 << 20: 300, 40 << 20: 100, 50 << 20: 60, 70 << 20: 35, 500 << 20: 35} {
		assert.Equal(t, want, growth(live), "%d MiB live", live>>20)
	}
}
