package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHowFarTheHeapMayGrow(t *testing.T) {
	for live, want := range map[uint64]int{0: 25, 1 << 20: 1000, 16 << 20: 300, 32 << 20: 100, 40 << 20: 60, 60 << 20: 25, 500 << 20: 25} {
		assert.Equal(t, want, growth(live), "%d MiB live", live>>20)
	}
}
