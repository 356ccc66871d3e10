package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"

	"verimorph/core/change"
	"verimorph/core/media"
	"verimorph/device"
	"verimorph/store"
)

// A device writes what it is onto a medium in it. What it reads back from that is held against what it runs and against the backup that was taken right before.

// mediumWritten reports whether the medium holds what it should, when the step had begun before.
func mediumWritten(r *run, ctx context.Context, s *store.Step, begun bool) (bool, string, error) {
	if !begun {
		return false, "", nil
	}
	on, problems, err := r.readMedium(ctx, s)
	if k := device.KindOf(err); k == device.Refused || k == device.NotUnderstood { // no medium, or no such file
		return false, "", nil
	}
	if err != nil || len(problems) > 0 {
		return false, "", err
	}
	evidence, err := r.mediumMade(ctx, s, on)
	return err == nil, evidence, err
}

func writeMedium(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.WriteMedium(ctx, change.Of[change.MediumParams](&s.Plan).File, func(f float64) { r.progress(ctx, s, f, "the device writes the medium") })
}

func mediumWrittenNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	on, problems, err := r.readMedium(ctx, s)
	if err != nil {
		return "", err
	}
	if len(problems) > 0 {
		return "", &askError{change.Question{Kind: change.AskFailed, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave},
			Text: fmt.Sprintf("What the device reads from the medium is not what it should be: %s. Answer retry to have it written once more, onto another medium where this one does not keep what is written", strings.Join(problems, "; "))}, change.StepRunning}
	}
	return r.mediumMade(ctx, s, on)
}

// readMedium has the device read the medium, and says what is not as it should be.
func (r *run) readMedium(ctx context.Context, s *store.Step) (on device.OnMedium, problems []string, err error) {
	c, err := r.connect(ctx)
	if err != nil {
		return on, nil, err
	}
	if on, err = c.ReadMedium(ctx, change.Of[change.MediumParams](&s.Plan).File); err != nil {
		return on, nil, err
	}
	p, err := r.portrait(ctx)
	if err != nil {
		return on, nil, err
	}
	for _, x := range []struct{ what, on, is string }{{"model", on.Model, p.Model}, {"serial", on.Serial, p.Serial}, {"release", on.Version, p.Version}} {
		if x.on != "" && x.on != x.is {
			problems = append(problems, fmt.Sprintf("it holds the %s %s, and the device has %s", x.what, x.on, x.is))
		}
	}
	b, source, err := r.backedUp(ctx, s.Plan.Hop)
	if err != nil {
		return on, problems, err
	}
	if on.Configuration == "" || source == nil {
		return on, problems, nil
	}
	text, _, err := c.FetchPart(ctx, source.Name)
	if err != nil {
		return on, problems, err
	}
	was, err := r.e.Main(b)
	if err != nil {
		return on, problems, final("%w", err)
	}
	if !source.Same([]byte(was), text) { // what counts is what the device is configured with now
		if _, err := r.backUpAgain(ctx, s, b); err != nil {
			return on, problems, err
		}
	}
	if sum := fmt.Sprintf("%x", sha256.Sum256(text)); sum != on.Configuration {
		problems = append(problems, "the configuration on it is another one than the device runs")
	}
	return on, problems, nil
}

// mediumMade records what lies on the medium.
func (r *run) mediumMade(ctx context.Context, s *store.Step, on device.OnMedium) (string, error) {
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, r.m.DeviceID, s.Plan.Hop)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", records(err)
	}
	holds := ""
	evidence := "the device read it back: release and serial are those of the device"
	if on.Configuration != "" {
		holds = b.SHA256
		evidence += fmt.Sprintf("; its configuration is that of backup %d", b.ID)
	} else {
		evidence += "; which configuration is on it, the device does not tell"
	}
	file := media.File{Name: change.Of[change.MediumParams](&s.Plan).File, Size: on.Size, SHA256: on.SHA256, Version: r.path.To.String(), Role: media.Snapshot}
	return evidence, records(r.e.Store.MediumWritten(ctx, r.lease, r.c.ID, []media.File{file}, b.ID, holds))
}
