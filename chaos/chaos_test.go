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
	r, err := Run(t.Context(), bin, Plan{Devices: 5, Kills: 9, Cuts: 6, Outages: 2, Every: 3 * time.Second, Factor: 60, Lease: 2 * time.Second, Host: "127.68.0",
		Catalogue: "../demo/catalog/tarnholm-th.yaml", Configuration: "../demo/configs/gullnes-fw1.cfg", Seed: uint64(time.Now().UnixNano())})
	require.NoError(t, err)
	assert.Empty(t, r.Wrong())
	assert.Equal(t, [3]int{9, 6, 2}, [3]int{r.Kills, r.Cuts, r.Outages})
	assert.GreaterOrEqual(t, r.Done, 5, "work went on all the time")
	assert.NotEmpty(t, r.Resumed, "something was struck")
}
