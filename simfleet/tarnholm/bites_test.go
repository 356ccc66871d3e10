package tarnholm

import (
	"testing"
	"time"

	"verimorph/simfleet/box"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Starting from a slot that is being written starts nothing, until the boot loader is told to start the other one.
func TestStartingFromHalfAnInstallation(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	require.NoError(t, b.fit("5.0.7", "b", true, func(int) {}))
	b.mu.Lock()
	b.st.Next = "b"
	b.mu.Unlock()
	go func() { _ = b.fit("5.0.7", "b", true, func(int) {}) }()
	require.Eventually(t, func() bool { return b.Status().Slots["b"][1] == "fitting" }, 5*time.Second, time.Millisecond)
	b.restart()
	assert.Equal(t, 1, b.Status().Bricks)
	time.Sleep(50 * time.Millisecond)
	assert.Equal(t, "off", b.Status().Phase)
	require.Eventually(t, func() bool { return b.Status().Slots["b"][1] == "broken" }, 5*time.Second, time.Millisecond, "the writing was cut short")
	require.Error(t, b.load("b"))
	require.NoError(t, b.load("a"))
	require.Eventually(t, func() bool { return b.Status().Phase == "ready" }, 20*time.Second, 10*time.Millisecond)
	assert.Equal(t, "a", b.Status().Running)
}

// A second installation during one spoils it.
func TestTwoInstallationsAtOnce(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	first := make(chan error)
	go func() { first <- b.fit("5.0.7", "b", true, func(int) {}) }()
	require.Eventually(t, func() bool { return b.Status().Slots["b"][1] == "fitting" }, 5*time.Second, time.Millisecond)
	assert.Error(t, b.fit("5.0.7", "b", true, func(int) {}))
	assert.Error(t, <-first)
	assert.Equal(t, 1, b.Status().Spoilt)
	assert.Equal(t, "broken", b.Status().Slots["b"][1])
}

// Another unit has another serial number; users are known a while after the address answers.
func TestSwappedAndLate(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	serial := b.serial()
	require.NoError(t, b.Arm(SwappedUnit, box.Fault{Times: -1}))
	assert.NotEqual(t, serial, b.serial())
	require.NoError(t, b.Arm(UsersLate, box.Fault{Value: 100000, Times: -1}))
	b.mu.Lock()
	assert.False(t, b.usersLate(), "only after a start")
	b.mu.Unlock()
	b.restart()
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.True(t, b.usersLate())
}
