package change

import (
	"fmt"

	"verimorph/core/catalog"
)

// After is the hop of steps that come after a restore.
const After = -2

// A Restored is one part that is put back.
type Restored struct {
	Name, Title   string
	Save, Restart bool // what the device needs afterwards
	Configuration bool // it is one, in the device's own language
}

// DraftRestore lists the steps that put parts back on a device: a backup of what is there comes first, and everything is
// read again afterwards. Where the device can, it reads a configuration without using it first (validate).
func DraftRestore(f *catalog.Family, parts []Restored, validate bool, pace Pace) ([]Step, error) {
	if len(parts) == 0 {
		return nil, fmt.Errorf("there is nothing to put back")
	}
	if f == nil {
		f = &catalog.Family{}
	}
	j := Job{Family: f, Pace: pace}
	var save, restart bool
	steps := []Step{j.step(-1, Readings), j.step(-1, CheckRestore), j.step(-1, Backup)}
	for _, p := range parts {
		save, restart = save || p.Save, restart || p.Restart
		if p.Configuration && validate {
			steps = append(steps, j.validate(-1, p))
		}
		s := j.step(-1, PutPart, PartParams{Part: p.Name})
		s.Title = "Put back: " + p.Title
		steps = append(steps, s)
	}
	if save {
		steps = append(steps, j.step(-1, Save))
	}
	if restart {
		for _, k := range []Kind{Restart, Link, Login, Confirm, Services} {
			steps = append(steps, j.step(-1, k))
		}
	}
	compare, last := j.step(-1, CompareParts), j.step(After, Backup)
	last.Title = "Back up what runs now"
	steps = append(steps, compare, last, j.verify())
	number(steps)
	return steps, nil
}
