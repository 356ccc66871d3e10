package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// Files that a person named, and files that were sent: both are removed here.

func mib(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

func largest(p *portrait.Portrait) string {
	if len(p.Files) == 0 {
		return "none"
	}
	f := slices.MaxFunc(p.Files, func(a, b portrait.File) int { return int(min(max(a.Size-b.Size, -1), 1)) })
	return fmt.Sprintf("%s (%s)", f.Name, mib(f.Size))
}

// cleanUp removes files that a person named, never one that this change sends.
func cleanUp(r *run, ctx context.Context, s *store.Step) error {
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	var removed, gone []string
	for _, name := range change.Of[change.CleanUpParams](&s.Plan).Files {
		if u, file := onUnit(p, name); u != nil {
			if file == nil {
				gone = append(gone, name)
				continue
			}
			c, err := r.connect(ctx)
			if err != nil {
				return err
			}
			if err := c.CleanUnit(ctx, u.Name, file.Name); err != nil {
				return err
			}
			removed = append(removed, name)
			continue
		}
		if p.File(name) == nil {
			gone = append(gone, name)
			continue
		}
		if slot := p.Slot(name); slot != nil && (slot.Running || slot.Next == portrait.Yes) {
			return final("%s is what the device runs, or starts next; it is not removed", name)
		}
		c, err := r.connect(ctx)
		if err != nil {
			return err
		}
		if err := c.RemoveFile(ctx, name); err != nil {
			return err
		}
		removed = append(removed, name)
	}
	s.Note = ""
	if len(removed) > 0 {
		s.Note = "removed: " + strings.Join(removed, ", ")
	}
	if len(gone) > 0 {
		s.Note = strings.TrimPrefix(s.Note+"; not there any more: "+strings.Join(gone, ", "), "; ")
	}
	return nil
}

// tidy removes the files that the hop put on the device.
func tidy(r *run, ctx context.Context, s *store.Step) error {
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	var removed, kept []string
	for _, st := range r.c.Steps {
		if st.Plan.Kind != change.Send || st.Plan.Hop != s.Plan.Hop || st.Plan.Back != s.Plan.Back {
			continue
		}
		name := r.file(&st).Name
		if p.File(name) == nil || r.startsFrom(&st, name) || r.file(&st).Model != "" { // new children fetch theirs later, too
			continue
		}
		if !r.sent(&st) { // it lay there before: somebody else put it there
			kept = append(kept, name)
			continue
		}
		c, err := r.connect(ctx)
		if err != nil {
			return err
		}
		if err := c.RemoveFile(ctx, name); device.KindOf(err) == device.Refused { // no reason to fail a change, let alone to go back
			s.Note = fmt.Sprintf("%s is still on the device: %s", name, err)
			return nil
		} else if err != nil {
			return err
		}
		removed = append(removed, name)
	}
	s.Note = "nothing that was sent is left on the device"
	if why := p.NotUnderstood["files"]; why != "" {
		s.Note = "whether anything that was sent is left is not known: " + why
	}
	if len(removed) > 0 {
		s.Note = strings.Join(removed, ", ") + " removed"
	}
	if len(kept) > 0 {
		s.Note += "; " + strings.Join(kept, ", ") + " lay there before this change and stays"
	}
	return nil
}

// startsFrom reports whether a file is an image that the hop of a step starts as it lies on the device.
func (r *run) startsFrom(s *store.Step, name string) bool {
	return slices.ContainsFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Kind == change.ChooseSlot && st.Plan.Hop == s.Plan.Hop && st.Plan.File() != nil && st.Plan.File().Name == name
	})
}

// sent reports whether it was this change that put the file of a step onto the device: the step was begun, or the file travelled ahead.
func (r *run) sent(s *store.Step) bool {
	if s.Attempts > 0 {
		return true
	}
	for i := range r.c.Steps {
		if st := &r.c.Steps[i]; st.Plan.Kind == change.Prestage && st.Plan.Hop == s.Plan.Hop-1 && strings.Contains(st.Outcome+st.Note, aheadMark(r.file(s).Name)) {
			return true
		}
	}
	return false
}

// aheadMark is how the outcome of sending ahead tells a file that it sent.
func aheadMark(name string) string { return name + " is on the device" }
