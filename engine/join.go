package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/store"
)

// Boxes that come under a controller, and stand alone again. While one follows, it has no command line of its own: what is known of it is the controller's
// word. Its lane and that of the controller never work at the same time, so one may look at the device of the other.

// joins reports whether a change brings a box under a controller, or takes it from there.
func joins(c *store.Change) bool { return c.Kind == change.Joining || c.Kind == change.Releasing }

// joinOf are the parameters of such a change.
func joinOf(c *store.Change) change.JoinParams {
	for i := range c.Steps {
		if p, ok := c.Steps[i].Plan.Params.(change.JoinParams); ok {
			return p
		}
	}
	return change.JoinParams{}
}

// theController is the lane of the controller of such a change.
func (r *run) theController() *run { return r.board.run(0) }

// listed is the box of a step as the controller shows it; nil when it does not.
func (r *run) listed(ctx context.Context, s *store.Step) (*portrait.Child, error) {
	p, err := r.seeChildren(ctx)
	if err != nil {
		return nil, err
	}
	if p.Role != "" && !p.Serves() {
		return nil, fmt.Errorf("%s is %s now, and only whoever serves tells what follows it; have it take over, then answer retry", r.m.Device, p.Role)
	}
	return p.ChildBySerial(change.Of[change.JoinParams](&s.Plan).Serial), nil
}

// becameManaged: the controller shows the box, whose command was sent before.
func becameManaged(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if !taken {
		return false, "", nil
	}
	child, err := r.theController().listed(ctx, s)
	if err != nil {
		r.theController().hangUp() // the next look opens another connection
	}
	if err != nil || child == nil {
		return false, "", err
	}
	return true, "the controller shows it: " + child.Text(), nil
}

func becomeManaged(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.BecomeManaged(ctx, change.Of[change.JoinParams](&s.Plan).Address)
}

// becameManagedNow waits until the box does not answer as it did: it looks for its controller then. Whether it finds it is for the next step.
func becameManagedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	r.hangUp()
	err := r.poll(ctx, s, func() (bool, string, error) {
		r.hangUp()
		p, err := r.portrait(ctx)
		switch device.KindOf(err) {
		case device.Unreachable, device.Lost, device.Silent, device.NotReady:
			return true, "it went down to look for its controller", nil
		case device.SignInRefused, device.HostKeyChanged:
			return true, "it answers in its factory state", nil
		}
		if err != nil {
			return false, "", err
		}
		return false, fmt.Sprintf("it still answers by itself and runs %s", p.Version), nil
	})
	return s.Note, err
}

// joinController has the controller let a box join, gives it its group, and waits until it serves on the release of the controller.
func joinController(r *run, ctx context.Context, s *store.Step) error {
	want := change.Of[change.JoinParams](&s.Plan)
	var told bool
	var child *portrait.Child
	err := r.poll(ctx, s, func() (_ bool, note string, err error) {
		if child, err = r.listed(ctx, s); err != nil {
			return false, "", err
		}
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		switch {
		case child == nil:
			return false, fmt.Sprintf("%s does not show %s (%s) yet", r.m.Device, want.Child, want.Serial), nil
		case child.Waiting == portrait.Yes && !told:
			told = true
			return false, want.Child + " waits to be let join", r.letJoin(ctx, s, want.Serial)
		case child.Waiting == portrait.Yes:
			return false, want.Child + " was let join, and still waits", nil
		case child.Good != portrait.Yes || child.Version != p.Version:
			return false, child.Text(), nil
		case want.Group != "" && child.Group != want.Group:
			return false, fmt.Sprintf("%s is in the group %q", child.Name, child.Group), r.regroup(ctx, child.Name, want.Group)
		}
		return true, fmt.Sprintf("it follows %s as %s", r.m.Device, child.Text()), nil
	})
	if err != nil {
		return err
	}
	return r.follows(ctx, s, child)
}

func (r *run) letJoin(ctx context.Context, s *store.Step, serial string) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if err := r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "authorise", serial); err != nil {
		return records(err)
	}
	return c.Authorise(ctx, serial)
}

func (r *run) regroup(ctx context.Context, child, group string) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.GroupChild(ctx, child, group)
}

// follows records of the box that it follows the controller, and concludes of it what that one says.
func (r *run) follows(ctx context.Context, s *store.Step, child *portrait.Child) error {
	box := r.board.run(1).m
	if err := r.e.recordPortrait(ctx, box.DeviceID, followed(r.m.Device, child)); err != nil {
		return err
	}
	want := change.Of[change.JoinParams](&s.Plan)
	evidence := fmt.Sprintf("%s shows it as %s", r.m.Device, child.Text())
	if want.Group != "" {
		evidence += ", in the group " + child.Group
	}
	v, err := json.Marshal(verify.Conclude([]verify.Result{{Reading: "follows", Title: "Follows " + r.m.Device, State: verify.Met, Severity: verify.Fails, Evidence: evidence}}))
	if err != nil {
		return err
	}
	return records(r.e.Store.SetConclusion(ctx, r.lease, r.c.ID, box.Number, v))
}

// followed is what is known of a box that follows a device, by that one's word.
func followed(controller string, child *portrait.Child) *portrait.Portrait {
	return &portrait.Portrait{Model: child.Model, Serial: child.Serial, Version: child.Version, Follows: controller, ServicesReady: child.Good}
}

// released: the controller does not show the box any more, whose command was sent before.
func released(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if !taken {
		return false, "", nil
	}
	child, err := r.listed(ctx, s)
	return err == nil && child == nil, r.m.Device + " does not show it any more", err
}

func releaseChild(r *run, ctx context.Context, s *store.Step) error {
	child, err := r.listed(ctx, s)
	if err != nil {
		return err
	}
	if child == nil {
		return final("%s does not show %s; refresh both and see where it is", r.m.Device, change.Of[change.JoinParams](&s.Plan).Child)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.ReleaseChild(ctx, child.Name)
}

func releasedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	err := r.poll(ctx, s, func() (bool, string, error) {
		done, evidence, err := released(r, ctx, s, true)
		if err != nil || done {
			return done, evidence, err
		}
		return false, r.m.Device + " still shows it", nil
	})
	return s.Note, err
}

// halfJoined looks where the box of such a change is, and says how the change goes on from there.
func (r *run) halfJoined(ctx context.Context, c *store.Change) (*change.HalfWay, error) {
	job, err := r.e.joinJob(ctx, c)
	if err != nil {
		return nil, err
	}
	seen := r.lookAtAll(ctx)
	for i := range c.Members {
		r.board.run(i).hangUp()
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	s := change.JoinStand{Answers: seen[0] != nil, Alone: seen[1] != nil}
	s.Listed = s.Answers && seen[0].ChildBySerial(job.Params.Serial) != nil
	begun := slices.ContainsFunc(c.Steps, func(st store.Step) bool {
		return st.Plan.Kind.Is(change.BecomeManaged, change.ReleaseChild) && !st.Plan.Back && st.State != change.StepWaiting && st.State != change.StepSkipped
	})
	h := job.FromHere(s, c.Kind == change.Releasing, begun)
	return &h, nil
}

// joinJob is such a change as far as it takes to say how it goes on.
func (e *Engine) joinJob(ctx context.Context, c *store.Change) (*change.JoinJob, error) {
	j := &change.JoinJob{Params: joinOf(c)}
	for i, job := range []*change.Job{&j.Controller, &j.Box} {
		var err error
		if *job, err = e.memberJob(ctx, &c.Members[i]); err != nil {
			return nil, err
		}
	}
	return j, nil
}

// joinFacts looks whether a box can come under the device, or leave it. c is the view of the controller.
func (e *Engine) joinFacts(ctx context.Context, f *ready.Facts, c *store.Change, p *portrait.Portrait) error {
	if !joins(c) || c.First().Number != 1 || p == nil {
		return nil
	}
	want := joinOf(c)
	if want.Serial == "" { // a lane sees only its own steps
		whole, err := e.Store.Change(ctx, c.ID)
		if err != nil {
			return records(err)
		}
		want = joinOf(&whole)
	}
	j := &ready.JoinFacts{Box: want.Child, Model: want.Model, Serial: want.Serial, Releasing: c.Kind == change.Releasing, Now: p.Children, Seats: p.Seats, Licence: len(c.Licences()) > 0, Unknown: true}
	if p.Role != "" && !p.Serves() {
		j.Stands = fmt.Sprintf("it is %s, and does not serve", p.Role)
	}
	if e.Catalogue != nil {
		cat, err := e.Catalogue(ctx)
		if err != nil {
			return unusable(err)
		}
		if family := cat.FamilyOfModel(p.Model); family != nil {
			m, v := family.Model(want.Model), version.Version{}
			if v, err = version.Parse(p.Version); err == nil && m != nil && family.Release(v) != nil {
				j.Unknown = false
				if why := m.Outgrown(family.Release(v)); why != nil {
					j.NotServed = fmt.Sprintf("%s does not serve the %s: %s", p.Version, want.Model, why.Text)
				}
			}
		}
	}
	f.Join = j
	return nil
}

// FollowsError says that a device follows another one, and has no command line of its own.
type FollowsError struct{ Device, Controller string }

func (e *FollowsError) Error() string {
	return fmt.Sprintf("%s follows %s and has no command line of its own; look at it and change it there. To have it stand alone again: verimorph change release %s",
		e.Device, e.Controller, e.Device)
}

// Follows is the device that one follows, by what was last seen of it; "" when it stands by itself.
func Follows(d *store.Device) string {
	var p portrait.Portrait
	if d.Portrait == nil || json.Unmarshal(d.Portrait, &p) != nil {
		return ""
	}
	return p.Follows
}

// refreshFollower asks the device that another one follows about it. asked is false when it follows nobody any more that tells of it: then it is asked itself.
func (e *Engine) refreshFollower(ctx context.Context, d store.Device, by access.Actor) (p *portrait.Portrait, asked bool, err error) {
	var before portrait.Portrait
	if d.Portrait == nil || json.Unmarshal(d.Portrait, &before) != nil || before.Follows == "" {
		return nil, false, nil
	}
	c, err := e.Store.Device(ctx, before.Follows)
	if errors.Is(err, store.ErrNotFound) {
		return nil, false, nil
	}
	if err != nil {
		return nil, true, records(err)
	}
	seen, err := e.Refresh(ctx, c, by)
	if err != nil {
		return nil, true, fmt.Errorf("%s follows %s, which cannot be looked at: %w", d.Name, c.Name, err)
	}
	child := seen.ChildBySerial(before.Serial)
	if child == nil {
		return nil, false, nil
	}
	p = followed(c.Name, child)
	return p, true, e.recordPortrait(ctx, d.ID, p)
}
