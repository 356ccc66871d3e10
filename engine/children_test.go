package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
)

// controller is one with 24 access points at six places, and a seventh with one only.
func controller(t *testing.T) *field {
	points := append(shellbox.Named("ap", "AP-31", "G", 18, "hall", "deck", "quay", "office"), shellbox.FollowerSpec{Name: "mast", Model: "AP-31", Serial: "G9000", Place: "mast"},
		shellbox.FollowerSpec{Name: "new1", Model: "AP-31", Serial: "G7001", Place: "hall", New: true}, shellbox.FollowerSpec{Name: "new2", Model: "AP-31", Serial: "G8002", Place: "hall", New: true})
	return newField(t, shellbox.Spec{Maker: "Gullwire", Model: "WC-2", Version: "8.5.4", Followers: points, Seats: 50}, "innersund-wc1.conf", "pull-sftp")
}

func TestAControllerWithAccessPoints(t *testing.T) {
	t.Parallel()
	f := controller(t)
	f.start()
	f.authorise = []string{"G7000..G7009"}
	id := f.draft("8.5.5")
	c := f.change(id)
	require.NotNil(t, c.Children)
	assert.Len(t, c.Children.Children, 19)
	assert.Equal(t, []string{"mast"}, c.Children.Alone)
	f.release(id)
	asked := f.asks(id, change.AskWarn, "1 places have one only, and are without while that starts anew")
	assert.Equal(t, []string{"places"}, asked.Question.Checks)
	require.Equal(t, change.Done, f.accepting(id), failure(f.change(id)))
	assert.Equal(t, verify.Pass, verdictOf(t, f.change(id)).Verdict, failure(f.change(id)))
	points, _, dark := f.plain.Followers()
	assert.Zero(t, dark, "no place with several was without")
	for _, p := range points[:19] {
		assert.Equal(t, "8.5.5", p.Version, p.Name)
		assert.Equal(t, 1, p.Starts, "%s: it had its image, so one start was enough", p.Name)
		assert.Equal(t, "serves", p.State, p.Name)
	}
	assert.False(t, points[19].New, "its serial was stated")
	assert.True(t, points[20].New, "nobody stated its serial")
}

// An access point that hangs is named and told again; one that cannot be helped is for a person to accept.
func TestAccessPointsThatGoWrong(t *testing.T) {
	t.Parallel()
	for fault, c := range map[string]struct {
		says    string
		verdict string
	}{
		shellbox.FollowerHangOnce: {"", verify.Pass},
		shellbox.FollowerLoops:    {`ap2 runs 8.5.5 and is "started a moment ago, not in service"`, verify.Degraded},
		shellbox.FollowerGone:     {"ap2 is not there", verify.Degraded},
		shellbox.FollowerNoFetch:  {`ap2 runs 8.5.4`, verify.Degraded},
	} {
		t.Run(fault, func(t *testing.T) {
			t.Parallel()
			f := controller(t)
			f.start()
			id := f.draft("8.5.5")
			f.release(id)
			f.asks(id, change.AskWarn, "places have one only")
			require.NoError(t, f.plain.Arm(fault, box.Fault{Value: 2}))
			f.answer(id, change.Accept, "it is what the window is for")
			if c.says != "" {
				f.asks(id, change.AskWarn, c.says)
			}
			require.Equal(t, change.Done, f.accepting(id), failure(f.change(id)))
			assert.Equal(t, c.verdict, verdictOf(t, f.change(id)).Verdict, failure(f.change(id)))
			_, _, dark := f.plain.Followers()
			assert.Zero(t, dark)
		})
	}
}
