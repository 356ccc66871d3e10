package chaos

import (
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The short form: see make chaos for the long one.
func TestAnInstallationSuffers(t *testing.T) {
	bin := t.TempDir()
	out, err := exec.Command("go", "build", "-o", bin, "../cmd/verimorphd").CombinedOutput()
	require.NoError(t, err, string(out))
	r, err := Run(t.Context(), bin, Plan{Devices: 6, Kills: 7, Pauses: 3, Cuts: 8, Outages: 2, Every: 4 * time.Second, Factor: 60, Lease: 2 * time.Second, Host: "127.68.0", Demo: "../demo", Seed: uint64(time.Now().UnixNano())})
	require.NoError(t, err)
	assert.Empty(t, r.Wrong())
	assert.Equal(t, [4]int{7, 3, 8, 2}, [4]int{r.Kills, r.Pauses, r.Cuts, r.Outages})
	assert.GreaterOrEqual(t, r.Done, 6, "work went on all the time")
	assert.Positive(t, r.InCommand, "some struck in the middle of a command")
	for _, kind := range []string{"firewall", "gateway", "ramp", "gauge"} {
		assert.Positive(t, r.ByKind[kind], "%s: %v", kind, r.ByKind)
	}
	assert.NotEmpty(t, r.Resumed, "something was struck")
}
