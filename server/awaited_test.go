package server

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/store"
)

// The return of a device is one thing to whoever waits for it: since it was started, until its services are up, with all stages told.
func TestAReturnIsToldOverAllItsStages(t *testing.T) {
	at := time.Now().Add(-11 * time.Minute)
	c := &store.Change{State: change.Running}
	for _, k := range []change.Kind{change.GoNoGo, change.ChooseSlot, change.Restart, change.Link, change.Login, change.Confirm, change.KeepSlot, change.Prestage, change.Services, change.Tidy} {
		c.Steps = append(c.Steps, store.Step{Plan: change.Step{Kind: k, Expect: catalog.Span{Low: 1, High: 2}}, State: change.StepWaiting})
	}
	for i := range c.Steps {
		for k := range c.Steps {
			c.Steps[k].State, c.Steps[k].Note = change.StepDone, ""
			c.Steps[k].StartedAt = &at
			if k > i {
				c.Steps[k].State, c.Steps[k].StartedAt = change.StepWaiting, nil
			}
		}
		c.Steps[i].State, c.Steps[i].Note = change.StepRunning, "seen now"
		a := awaited(c)
		if i < 2 || i > 8 {
			assert.Nil(t, a, "%s is no return", c.Steps[i].Plan.Kind)
			continue
		}
		require.NotNil(t, a, c.Steps[i].Plan.Kind)
		assert.Equal(t, at, a.Since)
		assert.Equal(t, [2]float64{7, 14}, [2]float64{a.Low, a.High}, "from the restart to the services")
		want := map[int]string{2: "seen now", 3: "it went down, seen now", 4: "it went down, link up, seen now", 5: "it went down, link up, sign-in works, seen now"}[i]
		if want == "" {
			want = "it went down, link up, sign-in works, the version is right, seen now"
		}
		assert.Equal(t, want, a.Text)
	}
	c.State = change.Asking
	assert.Nil(t, awaited(c), "while a person is asked nobody waits")
	c.State = change.Running
	c.Steps = c.Steps[3:]
	c.Steps[0].State = change.StepRunning
	assert.Nil(t, awaited(c), "nothing was started")
}
