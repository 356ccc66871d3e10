package engine

import (
	"context"

	"verimorph/core/backup"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// Running and saved configuration.

func saved(r *run, ctx context.Context, _ *store.Step, _ bool) (bool, string, error) {
	unsaved, err := r.unsaved(ctx)
	return err == nil && unsaved == portrait.No, "running and saved configuration are the same", err
}

// unsaved is whether the running configuration differs from the saved one: by the device's word, or else by reading both, where its
// dialect knows them. Otherwise nobody knows.
func (r *run) unsaved(ctx context.Context) (portrait.Fact, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return portrait.Unknown, err
	}
	d, err := r.device(ctx)
	if err != nil || p.Unsaved != portrait.Unknown {
		return p.Unsaved, err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return portrait.Unknown, err
	}
	var texts [][]byte
	running := r.e.Profile(d).Role(backup.Running)
	for _, part := range []*device.Part{running, r.e.Profile(d).Role(backup.Saved)} {
		if part == nil {
			return portrait.Unknown, nil
		}
		text, _, err := c.FetchPart(ctx, part.Name)
		if k := device.KindOf(err); k == device.Refused || k == device.NotUnderstood {
			return portrait.Unknown, nil
		}
		if err != nil {
			return portrait.Unknown, err
		}
		texts = append(texts, text)
	}
	return portrait.Known(!running.Same(texts[0], texts[1])), nil
}

func save(r *run, ctx context.Context, _ *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.Save(ctx)
}

func savedNow(r *run, ctx context.Context, _ *store.Step) (string, error) {
	unsaved, err := r.unsaved(ctx)
	switch {
	case err != nil:
		return "", err
	case unsaved == portrait.Yes:
		return "", final("the device still shows unsaved configuration after saving. It had answered: %s", r.words())
	case unsaved == portrait.Unknown:
		return "the device took the command; whether anything is unsaved is not known, since it does not say", nil
	}
	return "running and saved configuration are the same", nil
}
