package planning

import (
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/convert"
)

// What has no way to another line of firmware is listed by section; what converts is not, and what nobody can look at is told, never left out.
func TestWhatIsNotCarriedOver(t *testing.T) {
	lib, found := convert.ReadDir(os.DirFS("../demo/catalog"))
	require.Empty(t, found.Errors())
	nine := "box.name = hall\nbox.place = Hall\nplan.hall.low.power = 100\nplan.hall.wlans = crew\nwlan.crew.title = Crew\nwlan.crew.phrase = hush-hush\n"
	for name, c := range map[string]struct {
		from, to, text string
		err            error
		says           []string // none: nothing is lost
	}{
		"another line":       {"WC-2@9.0.2", "WC-2@8.8.5", nine, nil, []string{"conversion start -backup 7 -to WC-2@8.8.5 -by-hand", "Box: 2 statements, all alike", "Radio plans: 1 of 2 statements", "Networks: 1 of 2 statements"}},
		"it converts":        {"TH-60@4.2.9", "TH-60@5.4.2", "", errors.New("nobody asks for it"), nil},
		"nobody described":   {"AP-31@9.0.2", "AP-31@8.8.5", nine, nil, []string{"what of backup 7 could be carried over is not known", "no schema describes"}},
		"no such model":      {"ZZ-1@1", "ZZ-1@2", nine, nil, []string{"is not known"}},
		"it cannot be read":  {"WC-2@9.0.2", "WC-2@8.8.5", "", errors.New("the disk is gone"), []string{"is not known: the disk is gone"}},
		"it is no such text": {"WC-2@9.0.2", "WC-2@8.8.5", "box.name \"hall\n= = =\n", nil, []string{"lines are not understood, the first: controller.conf:1"}},
	} {
		lost := strings.Join(notCarried(lib, c.from, c.to, 7, "controller.conf", func() (string, error) { return c.text, c.err }), "\n")
		if c.says == nil {
			assert.Empty(t, lost, name)
		}
		for _, says := range c.says {
			assert.Contains(t, lost, says, name)
		}
		assert.NotContains(t, lost, "hush-hush", name)
	}
}
