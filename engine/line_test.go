package engine

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/core/verify"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

// converted is the configuration of the controller of the demo for another release; what no rule decides is left out.
func converted(t *testing.T, text, from, to string, byHand bool) (string, *convert.Ledger) {
	lib := demoLibrary(t)
	f, err := lib.ParseStop(from)
	require.NoError(t, err)
	at, err := lib.ParseStop(to)
	require.NoError(t, err)
	doc, bad := lib.Schema(f).Parse("controller.conf", text)
	require.Empty(t, bad)
	r, err := lib.Convert(convert.Job{From: f, To: at, Answers: map[string]string{"GU10": "leave-out"}, ByHand: byHand}, doc)
	require.NoError(t, err)
	return r.Text, r.Ledger
}

// newLine is a controller of train 9 with access points, whose configuration train 8 cannot read.
func newLine(t *testing.T) *field {
	text, err := os.ReadFile("../demo/configs/innersund-wc1.conf")
	require.NoError(t, err)
	nine, _ := converted(t, string(text), "WC-2@8.8.5", "WC-2@9.0.2", false)
	return newField(t, shellbox.Spec{Maker: "Gullwire", Model: "WC-2", Version: "9.0.2", Config: nine, Followers: shellbox.Named("ap", "AP-31", "G", 6, "hall", "deck"), Seats: 50}, "innersund-wc1.conf", "pull-sftp")
}

// A controller goes to another line, which does not read its configuration: somebody is asked to prepare what is carried over before anything is written; that is put, the
// access points follow, and afterwards it goes back.
func TestAControllerChangesItsLine(t *testing.T) {
	t.Parallel()
	f := newLine(t)
	before := f.plain.Part("controller.conf")
	f.start()
	id := f.draft("8.8.5")
	f.release(id)
	asked := f.asks(id, change.AskPerson, "The configuration of WC-2@9.0.2 does not convert to WC-2@8.8.5. Nothing was changed.")
	assert.Contains(t, asked.Question.Text, "-by-hand")
	assert.Equal(t, "9.0.2", f.plain.Status().Version)

	prepared, ledger := converted(t, before, "WC-2@9.0.2", "WC-2@8.8.5", true)
	assert.False(t, ledger.Complete(), "phrases and the radio plan have no place that is certain")
	prepared = strings.Replace(prepared, "wlan.tills.sign-in = phrase\n", "wlan.tills.sign-in = phrase\nwlan.tills.passphrase = typed-again-by-hand\n", 1)
	f.Engine.Worked = func(_ context.Context, _ store.Backup, _, to string) (string, string, bool, error) {
		return prepared, "as worked out in conversion 7", to == "WC-2@8.8.5", nil
	}
	f.answer(id, change.Retry, "")
	f.asks(id, change.AskHand, "print the radio plan")
	c := f.toTheEndOf(id)
	require.Equal(t, change.Done, c.State, failure(c))
	v := verdictOf(t, c)
	assert.Equal(t, verify.Pass, v.Verdict, failure(c))
	assert.Contains(t, resultOf(v, readConfig).Evidence, "as worked out in conversion 7")
	assert.Contains(t, f.plain.Part("controller.conf"), "typed-again-by-hand")
	points, _, _ := f.plain.Followers()
	for _, p := range points {
		assert.Equal(t, "8.8.5", p.Version, "%s came to the controller's release", p.Name)
	}
}

// A network that does not come up with what was prepared fails the verdict, and the way back has the installation of before with its own configuration.
func TestAChangeOfLineIsTakenBack(t *testing.T) {
	t.Parallel()
	f := newLine(t)
	f.policy = change.Automatic
	before := f.plain.Part("controller.conf")
	f.Engine.Worked = func(context.Context, store.Backup, string, string) (string, string, bool, error) {
		return "box.name = bare\n", "as worked out in conversion 7", true, nil
	}
	f.start()
	id := f.draft("8.8.5")
	f.release(id)
	c := f.toTheEndOf(id)
	require.Equal(t, change.Returned, c.State, failure(c))
	assert.Equal(t, "9.0.2", f.plain.Status().Version)
	assert.Equal(t, before, f.plain.Part("controller.conf"), "each installation has a configuration of its own")
	points, _, _ := f.plain.Followers()
	for _, p := range points {
		assert.Equal(t, "9.0.2", p.Version, p.Name)
	}
}

// toTheEndOf answers hand steps and places that are without radio for a moment.
func (f *field) toTheEndOf(id int64) store.Change { return (&subject{field: f}).toTheEnd(id) }
