package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

// A controller goes to another line of firmware and back: what goes lost is listed from its newest backup, what is carried over by hand is prepared in a conversion, and that is
// put.
func TestAChangeOfLine(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "innersund-wc1", serial: "WC2-00071", maker: "Gullwire", model: "WC-2", version: "8.8.5", idle: "8.5.4", config: "innersund-wc1.conf", transfer: "pull-sftp"})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	e.must("backup", "take", "innersund-wc1")
	e.client("", "conversion", "start", "-backup", "1", "-to", "WC-2@9.0.2")
	e.must("conversion", "change", "1", "-answer", "GU10=leave-out")
	up := e.draft("innersund-wc1", "9.0.2")
	require.Equal(t, gen.ChangeStateDone, e.run(up).State, e.must("change", "show", "1"))

	out := strings.Join(strings.Fields(e.must("path", "innersund-wc1", "-to", "8.8.5", "-reset")), " ")
	assert.Contains(t, out, "there is no complete backup taken under 9.0.2", "what was there before says nothing")
	backup := decode[gen.Backup](t, e.must("backup", "take", "innersund-wc1", "-json")).Id
	out = strings.ReplaceAll(e.must("path", "innersund-wc1", "-to", "8.8.5", "-reset"), "\n  |    ", " ")
	for _, says := range []string{"lost: the configuration: it does not convert from WC-2@9.0.2 to WC-2@8.8.5", "-by-hand", "Radio plans: 20 of 25 statements have no place there that is certain",
		"Accounts: ", "all alike on both sides; they are prepared"} {
		assert.Contains(t, out, says)
	}
	assert.NotContains(t, out, "demo-cx62rd638kuerp7z")
	id := e.prepared(backup)

	e.must("change", "draft", "innersund-wc1", "-to", "8.8.5", "-reset")
	e.must("change", "approve", "2")
	e.must("change", "start", "2")
	ch := e.await("2", "the hand step", func(c gen.Change) bool { return c.State == gen.ChangeStateAsking || c.EndedAt != nil })
	require.Equal(t, gen.ChangeStateAsking, ch.State, e.must("change", "show", "2"))
	assert.Contains(t, ch.Question.Text, "print the radio plan")
	e.must("change", "sign-off", "2", "-text", "printed")
	require.Equal(t, gen.ChangeStateDone, e.awaitEnd("2").State, e.must("change", "show", "2"))
	assert.Contains(t, e.must("change", "verdict", "2"), "conversion "+id)
	assert.Contains(t, e.box("innersund-wc1").Part("controller.conf"), "plan.hall.channel-low = 1")
}

// prepared works out by hand what is carried over.
func (e *env) prepared(backup int64) (id string) {
	e.t.Helper()
	from := []string{"conversion", "start", "-backup", fmt.Sprint(backup), "-to", "WC-2@8.8.5"}
	e.refused(1, []string{"carry it over by hand"}, from...)
	e.refused(1, []string{"need a person"}, append(from, "-by-hand")...)
	text := strings.NewReplacer("wlan.tills.sign-in = phrase\n", "wlan.tills.sign-in = phrase\nwlan.tills.passphrase = typed-by-hand-1\n",
		"wlan.displays.sign-in = phrase\n", "wlan.displays.sign-in = phrase\nwlan.displays.passphrase = typed-by-hand-2\n",
		"plan.hall.wlans", "plan.hall.channel-low = 1\nplan.hall.wlans").Replace(e.must("conversion", "show", "2", "-text"))
	file := filepath.Join(e.dir, "by-hand.conf")
	require.NoError(e.t, os.WriteFile(file, []byte(text), 0o600))
	out, stderr, code := e.client("", "conversion", "change", "2", "-edited", file, "-settle", "wlan=typed again", "-settle", "plan=from the print")
	require.Zero(e.t, code, out+stderr)
	return "2"
}
