package tarnholm

import (
	"fmt"
	"time"
)

// Installing: an image is written into a slot piece by piece.

// fit writes an image into a slot. It goes on when the person who asked for it hangs up.
func (b *Box) fit(to, into string, regardless bool, progress func(int)) error {
	b.mu.Lock()
	target, err := b.mayFit(to, into, regardless)
	_, on := b.has(WorksOn)
	boots := b.st.Boots
	b.mu.Unlock()
	if err != nil {
		return err
	}
	reports := make(chan int, 32)
	var failed error
	go func() {
		defer close(reports)
		for p := 10; p <= 100 && failed == nil; p += 10 {
			select {
			case <-b.host.Done():
				return
			case <-time.After(b.sim(fitTime / 10)):
			}
			if failed = b.fitted(target, into, boots, p); failed == nil {
				reports <- p
			}
		}
	}()
	if on {
		return nil
	}
	for p := range reports {
		progress(p)
	}
	return failed
}

// mayFit begins an installation, or says why the box refuses it. The box is locked.
func (b *Box) mayFit(to, into string, regardless bool) (*slot, error) {
	st := &b.st
	run, target := st.Slots[st.Running], st.Slots[into]
	switch {
	case into == st.Running:
		return nil, fmt.Errorf("slot %s is running", into)
	case target.State == "fitting": // it does not notice that it is told twice: both write
		target.State = "broken"
		st.Spoilt++
		b.note("slot %s: two installations at once; nothing of it can be used", into)
		_ = b.save()
		return nil, fmt.Errorf("slot %s is spoilt", into)
	case !follows(run.Version, to) && !regardless:
		return nil, fmt.Errorf("%s does not follow %s; add regardless if it must be", to, run.Version)
	}
	*target = slot{Version: to, State: "fitting", Fresh: true}
	st.Fits++
	b.note("slot %s: writing %s", into, to)
	return target, b.save()
}

// fitted writes the next part of an image, up to so many percent, if the box has not started anew since.
func (b *Box) fitted(target *slot, into string, boots, percent int) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if target.State != "fitting" || b.st.Boots != boots {
		if target.State == "fitting" {
			target.State = "broken"
			b.note("slot %s: writing was cut short by a restart", into)
			_ = b.save()
		}
		return fmt.Errorf("writing slot %s was cut short", into)
	}
	target.Progress = percent
	if percent == 50 && b.hit(FitFails) {
		target.State = "broken"
		b.note("slot %s: writing failed at %d %%", into, percent)
		_ = b.save()
		return fmt.Errorf("writing slot %s failed at %d %%", into, percent)
	}
	if percent == 100 {
		target.State = "good"
		b.note("slot %s: %s is written", into, target.Version)
		_ = b.save()
	}
	return nil
}
