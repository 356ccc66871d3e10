package engine

import (
	"context"
	"fmt"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/store"
)

// Named copies of installations: renaming and deleting them. Clone makes them, choose-slot starts them.

// copyNow is how the copy stands that a step names, and how the device stands; nil when there is none of that name.
func (r *run) copyNow(ctx context.Context, name string) (*portrait.Slot, *portrait.Portrait, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, nil, err
	}
	if why := p.NotUnderstood["slots"]; why != "" {
		return nil, nil, final("which copies the device has is not known: %s", why)
	}
	return p.Slot(name), p, nil
}

func slotRenamed(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	in := change.Of[change.SlotParams](&s.Plan)
	old, p, err := r.copyNow(ctx, in.Slot)
	if err != nil {
		return false, "", err
	}
	return taken && old == nil && p.Slot(in.Name) != nil, fmt.Sprintf("%s is called %s", in.Slot, in.Name), nil
}

func renameSlot(r *run, ctx context.Context, s *store.Step) error {
	in := change.Of[change.SlotParams](&s.Plan)
	old, p, err := r.copyNow(ctx, in.Slot)
	switch {
	case err != nil:
		return err
	case old == nil:
		return final("the device shows no copy called %s", in.Slot)
	case p.Slot(in.Name) != nil:
		return final("the device has something called %s already; names have to tell copies apart", in.Name)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if copies := c.Profile().Copies; copies != nil {
		if err := copies.Allowed(in.Name); err != nil {
			return &finalError{err}
		}
	}
	return c.RenameSlot(ctx, in.Slot, in.Name)
}

func slotRenamedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := slotRenamed(r, ctx, s, true)
	if err == nil && !done {
		err = final("the device does not show the new name. It had answered: %s", r.words())
	}
	return evidence, err
}

func slotRemoved(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	name := change.Of[change.SlotParams](&s.Plan).Slot
	slot, _, err := r.copyNow(ctx, name)
	if err != nil {
		return false, "", err
	}
	return taken && slot == nil, name + " is gone from the device", nil
}

// removeSlot deletes a copy that a person named; never what runs, or what the next start is from.
func removeSlot(r *run, ctx context.Context, s *store.Step) error {
	name := change.Of[change.SlotParams](&s.Plan).Slot
	slot, _, err := r.copyNow(ctx, name)
	switch {
	case err != nil:
		return err
	case slot == nil:
		return final("the device shows no copy called %s", name)
	case slot.Running:
		return final("%s is what the device runs; it is not deleted", name)
	case slot.Next == portrait.Yes:
		return final("the next start is from %s; it is not deleted", name)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.RemoveSlot(ctx, name)
}

func slotRemovedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := slotRemoved(r, ctx, s, true)
	if err == nil && !done {
		err = final("the device still shows it. It had answered: %s", r.words())
	}
	return evidence, err
}
