package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
	"verimorph/transfer"
)

// works says how each kind of step is carried out. To add a kind: name it in core/change, put it into a choreography
// there, and say here how it is inspected, performed and confirmed.
var works = map[change.Kind]work{
	change.Readings:   {inspect: readingsTaken, perform: takeReadings, confirm: countReadings},
	change.Fetch:      {inspect: imageKept, perform: awaitImage, confirm: imageKeptNow},
	change.Check:      {perform: check},
	change.Backup:     {inspect: backupTaken, perform: takeBackup},
	change.Send:       {inspect: imageThere, perform: send, confirm: sizeThere},
	change.Checksum:   {perform: compareChecksum},
	change.Install:    {inspect: installed, intent: slotBefore, perform: install, confirm: slotHolds},
	change.Save:       {inspect: saved, perform: save, confirm: savedNow},
	change.ChooseSlot: {inspect: slotChosen, perform: chooseSlot, confirm: slotChosenNow},
	change.Restart:    {inspect: restarted, intent: startBefore, perform: restart, confirm: wentDown},
	change.Link:       {perform: waitLink},
	change.Login:      {perform: waitLogin},
	change.Confirm:    {perform: confirmVersion},
	change.Services:   {perform: waitServices},
	change.Tidy:       {perform: tidy},
	change.Verify:     {perform: settle, confirm: verdict},

	change.CheckRestore: {perform: checkRestore},
	change.PutPart:      {inspect: partThere, perform: putPart, confirm: partTaken},
	change.CompareParts: {perform: compareParts},
}

// Readings before the change.

func readingsTaken(r *run, _ context.Context, _ *store.Step, _ bool) (bool, string, error) {
	return r.c.Readings != nil, "taken before", nil
}

func takeReadings(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	values, missing, err := c.Readings(ctx)
	if err != nil {
		return err
	}
	if len(missing) > 0 {
		return final("these readings cannot be taken, so nothing could be compared afterwards: %s", strings.Join(missing, ", "))
	}
	if r.c.Readings, err = json.Marshal(values); err != nil {
		return err
	}
	return records(r.e.Store.SetReadings(ctx, r.lease, r.c.ID, r.c.Readings))
}

func countReadings(r *run, _ context.Context, _ *store.Step) (string, error) {
	var values verify.Readings
	err := json.Unmarshal(r.c.Readings, &values)
	var parts []string
	for name, v := range values {
		parts = append(parts, name+" "+short(v))
	}
	slices.Sort(parts)
	return strings.Join(parts, ", "), err
}

func short(v verify.Value) string {
	if v.Type == verify.Set {
		return fmt.Sprint(len(v.Set))
	}
	return v.String()
}

// check: is this the device, does it run what the hop starts from, is the image right, is there room?
func check(r *run, ctx context.Context, s *store.Step) error {
	h := r.hop(s)
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	if err := r.e.recordPortrait(ctx, r.c.DeviceID, p); err != nil {
		return err
	}
	idle := p.IdleSlot()
	switch {
	case p.Model != r.path.Model:
		return final("the device says it is a %s; the path is for a %s", p.Model, r.path.Model)
	case p.Version != h.From.String():
		return final("the device runs %s; this hop starts from %s. Draft a new change from where it stands", p.Version, h.From)
	case idle == nil:
		return final("the device shows no idle slot to install into")
	case idle.Busy:
		return final("slot %s is being written by somebody else", idle.Name)
	}
	if err := r.imageFits(ctx, h.Image.SHA256, h.Image.File, p.Model, h.To.String()); err != nil {
		return err
	}
	need, err := r.room(s, p)
	if err != nil {
		return err
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if d.Transfer == "http" && !c.Has("fetch-image") {
		return final("dialect %q has no fetch-image, so the device cannot download its image; add that verb to the dialect", d.Dialect)
	}
	s.Note = fmt.Sprintf("%s runs %s; image is for it; %s of %s free, %s needed", p.Model, p.Version, mib(p.Free), mib(p.Total), mib(need))
	return nil
}

// The image in our own store.

func imageKept(r *run, _ context.Context, s *store.Step, _ bool) (bool, string, error) {
	im := r.hop(s).Image
	return r.e.Images.Has(im.SHA256), im.File + " is in the image store", nil
}

// awaitImage waits for the download of the hop's image, which goes on beside the change.
func awaitImage(r *run, ctx context.Context, s *store.Step) error {
	im := r.hop(s).Image
	for !r.e.Images.Has(im.SHA256) {
		f, err := r.e.Store.FetchOf(ctx, im.SHA256)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return final("the image store lacks %s and nothing fetches it; add it with: verimorph image add FILE", im.File)
		case err != nil:
			return records(err)
		case !f.Open() && !r.e.Images.Has(im.SHA256):
			return final("the download of %s from site %s is %s: %s", im.File, f.Site, f.State, f.Note)
		}
		r.progress(ctx, s, float64(f.Done)/float64(max(f.Size, 1)), "%s of %s from site %s, %s %s", mib(f.Done), mib(f.Size), f.Site, f.State, f.Note)
		if err := pause(ctx, 300*time.Millisecond); err != nil {
			return err
		}
	}
	return nil
}

func imageKeptNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := imageKept(r, ctx, s, true)
	if err == nil && !done {
		err = final("%s is gone from the image store", r.hop(s).Image.File)
	}
	return evidence, err
}

// imageFits checks the image in our store: it is there, undamaged, and is for the model and version. What its header
// says was compared with the catalogue when it was taken in, and its content has not changed since.
func (r *run) imageFits(ctx context.Context, sum, file, model, version string) error {
	if err := r.e.Images.Verify(sum); err != nil {
		return final("image %s: %w; add it to the image store and draft again", file, err)
	}
	im, err := r.e.Store.Image(ctx, sum)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return final("image %s lies in the image store without a record; add it again", file)
	case err != nil:
		return records(err)
	case im.Part != "":
		return final("image %s is for the component %s, not to be installed by itself", file, im.Part)
	case !slices.Contains(im.Models, model):
		return final("image %s is for %s, the device is a %s", file, strings.Join(im.Models, " and "), model)
	case im.Version != version:
		return final("image %s holds version %s, not %s", file, im.Version, version)
	}
	return nil
}

func mib(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

func largest(p *device.Portrait) string {
	if len(p.Files) == 0 {
		return "none"
	}
	f := slices.MaxFunc(p.Files, func(a, b device.File) int { return int(min(max(a.Size-b.Size, -1), 1)) })
	return fmt.Sprintf("%s (%s)", f.Name, mib(f.Size))
}

// Backup off the box.

func backupTaken(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, s.Plan.Hop)
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if err != nil {
		return false, "", records(err)
	}
	if b.Manifest == "" || r.e.whole(b) != nil {
		return false, "", nil // recorded but not readable: take it again
	}
	return true, r.e.backupNote(b), nil
}

func takeBackup(r *run, ctx context.Context, s *store.Step) (err error) {
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	attempt, err := r.e.Store.BeginAttempt(ctx, d.ID, backup.BeforeChange)
	if err != nil {
		return records(err)
	}
	hop := s.Plan.Hop
	b := store.Backup{DeviceID: r.c.DeviceID, Device: r.c.Device, ChangeID: &r.c.ID, Hop: &hop, Reason: backup.BeforeChange}
	defer func() { r.e.endAttempt(context.WithoutCancel(ctx), attempt, d, backup.BeforeChange, b, err) }()
	if b, err = r.e.take(ctx, c, b, d); err != nil {
		return err
	}
	if !b.Complete {
		return final("the backup is not complete, so nothing was changed; it lacks: %s. What could be read is kept as backup %d", strings.Join(b.Lacks, ", "), b.ID)
	}
	s.Note = r.e.backupNote(b)
	return nil
}

// Sending the image.

func imageThere(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return false, "", err
	}
	f := p.File(r.hop(s).Image.File)
	if f != nil && f.Size == r.hop(s).Image.Size {
		return true, fmt.Sprintf("%s, %d bytes, is on the device", f.Name, f.Size), nil
	}
	return false, "", nil
}

func send(r *run, ctx context.Context, s *store.Step) error {
	im := r.hop(s).Image
	local, err := r.e.Images.Path(im.SHA256)
	if err != nil {
		return &finalError{err}
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	if d.Transfer == "http" {
		url, withdraw := r.e.Serve.Offer(local, time.Duration(s.Plan.Expect.Limit*float64(time.Second)))
		defer withdraw()
		err := c.FetchImage(ctx, url, im.File, func(f float64) { r.progress(ctx, s, f, "the device fetches %s", im.File) })
		if device.KindOf(err) == device.Refused { // to the device a broken download is a refusal; to us it is worth another try
			return fmt.Errorf("the fetch %w: %s", transfer.ErrBroken, err)
		}
		return err
	}
	files, err := c.SFTP()
	if err != nil {
		return err
	}
	// A transfer that stands still is broken, even when the connection is not.
	patience := max(r.wait(stallTime), 3*time.Second)
	stalled := time.AfterFunc(patience, r.cut)
	defer stalled.Stop()
	err = transfer.Push(ctx, files, local, im.File, func(done, total int64) {
		stalled.Reset(patience)
		r.progress(ctx, s, float64(done)/float64(total), "%s of %s sent", mib(done), mib(total))
	})
	if err != nil {
		if full := r.roomFor(ctx, s); full != nil {
			return full
		}
	}
	return err
}

// stallTime is how long a transfer may stand still.
const stallTime = 30 * time.Second

// roomFor looks at the device after a transfer failed: when the rest of the image does not fit, trying again is no use.
func (r *run) roomFor(ctx context.Context, s *store.Step) error {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil // the connection is gone as well: it is tried again, and looked at again
	}
	_, err = r.room(s, p)
	return err
}

// room returns how many bytes of the hop's image are still to come, and an error when the device has no room for them.
func (r *run) room(s *store.Step, p *device.Portrait) (need int64, err error) {
	im := r.hop(s).Image
	need = im.Size
	if f := p.File(im.File); f != nil {
		need -= f.Size // a part of it is there already
	}
	if p.Free < need {
		err = final("no room: %s needs %s more and %s of %s is free; remove files from the device, the largest is %s", im.File, mib(need), mib(p.Free), mib(p.Total), largest(p))
	}
	return need, err
}

func sizeThere(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := imageThere(r, ctx, s, true)
	if err == nil && !done {
		return "", &againError{change.Send, "the image on the device does not have its full size"}
	}
	return evidence, err
}

func compareChecksum(r *run, ctx context.Context, s *store.Step) error {
	im := r.hop(s).Image
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	sum, err := c.Checksum(ctx, im.File)
	if err != nil {
		return err
	}
	if sum != im.SHA256 {
		if err := c.RemoveFile(ctx, im.File); err != nil {
			return err
		}
		return &againError{change.Send, fmt.Sprintf("the device computes SHA-256 %.12s for %s, it should be %.12s; the damaged file was removed", sum, im.File, im.SHA256)}
	}
	s.Note = "the device computes SHA-256 " + sum[:12] + ", as it should be"
	return nil
}

// Installing. What the idle slot held before is remembered with the intent: only then does the same version in it
// afterwards prove that our installation went through.

type slotIntent struct{ Slot, Version string }

func slotBefore(r *run, ctx context.Context, _ *store.Step) (any, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	idle := p.IdleSlot()
	if idle == nil {
		return nil, final("the device shows no idle slot")
	}
	return slotIntent{idle.Name, idle.Version}, nil
}

func (r *run) intended(kind change.Kind, hop int) (in slotIntent, err error) {
	for _, s := range r.c.Steps {
		if s.Plan.Kind == kind && s.Plan.Hop == hop && s.Intent != nil {
			return in, json.Unmarshal(s.Intent, &in)
		}
	}
	return in, final("the journal does not say which slot was written")
}

func (r *run) slot(ctx context.Context, name string) (*device.Slot, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	for i := range p.Slots {
		if p.Slots[i].Name == name {
			return &p.Slots[i], nil
		}
	}
	return nil, final("the device shows no slot %q", name)
}

func installed(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if !taken || s.Intent == nil {
		return false, "", nil
	}
	in, err := r.intended(change.Install, s.Plan.Hop)
	if err != nil {
		return false, "", err
	}
	to := r.hop(s).To.String()
	for {
		slot, err := r.slot(ctx, in.Slot)
		if err != nil {
			return false, "", err
		}
		switch {
		case slot.Running:
			return false, "", final("slot %s is running; it was idle when the installation began. Somebody else restarted the device", slot.Name)
		case slot.Busy: // begun before we were interrupted, and still going on: wait, never start a second one
			r.progress(ctx, s, float64(slot.Percent)/100, "slot %s is being written, %d %%", slot.Name, slot.Percent)
			if err := pause(ctx, r.wait(3*time.Second)); err != nil {
				return false, "", err
			}
		case slot.Good && slot.Version == to && in.Version != to:
			return true, fmt.Sprintf("slot %s holds %s", slot.Name, to), nil
		default:
			return false, "", nil
		}
	}
}

func install(r *run, ctx context.Context, s *store.Step) error {
	in, err := r.intended(change.Install, s.Plan.Hop)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.Install(ctx, r.hop(s).Image.File, in.Slot, func(f float64) {
		r.progress(ctx, s, f, "slot %s is being written, %.0f %%", in.Slot, f*100)
	})
}

func slotHolds(r *run, ctx context.Context, s *store.Step) (string, error) {
	in, err := r.intended(change.Install, s.Plan.Hop)
	if err != nil {
		return "", err
	}
	slot, err := r.slot(ctx, in.Slot)
	if err != nil {
		return "", err
	}
	if to := r.hop(s).To.String(); !slot.Good || slot.Version != to {
		return "", final("slot %s should hold %s and be good; the device shows %s, %s", slot.Name, to, slot.Version, slot.State)
	}
	return fmt.Sprintf("slot %s holds %s", slot.Name, slot.Version), nil
}

// Saving the configuration.

func saved(r *run, ctx context.Context, _ *store.Step, _ bool) (bool, string, error) {
	p, err := r.portrait(ctx)
	return err == nil && !p.Unsaved, "running and saved configuration are the same", err
}

func save(r *run, ctx context.Context, _ *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.Save(ctx)
}

func savedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := saved(r, ctx, s, true)
	if err == nil && !done {
		return "", final("the device still shows unsaved configuration after saving")
	}
	return evidence, err
}

// Choosing the slot of the next start.

func slotChosen(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	in, err := r.intended(change.Install, s.Plan.Hop)
	if err != nil {
		return false, "", err
	}
	slot, err := r.slot(ctx, in.Slot)
	if err != nil {
		return false, "", err
	}
	return slot.Next, fmt.Sprintf("the next start is from slot %s, %s", slot.Name, slot.Version), nil
}

func chooseSlot(r *run, ctx context.Context, s *store.Step) error {
	in, err := r.intended(change.Install, s.Plan.Hop)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.ChooseSlot(ctx, in.Slot)
}

func slotChosenNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := slotChosen(r, ctx, s, true)
	if err == nil && !done {
		return "", final("the device does not show the chosen slot as next")
	}
	return evidence, err
}

// Restarting. Whether a restart that was intended has happened is told by the slot that runs. A device at whose address
// nothing answers any more is on its way; one that accepts connections but does not talk may be going down or coming
// up, and only another look tells.

type bootState int

const (
	bootUnclear bootState = iota
	bootOld               // it runs from the slot it ran from before
	bootGone              // nothing answers
	bootNew               // it runs from the chosen slot
)

func (r *run) bootState(ctx context.Context, s *store.Step) (bootState, string, error) {
	r.hangUp()
	d, err := r.device(ctx)
	if err != nil {
		return bootUnclear, "", err
	}
	if up, _ := linkUp(ctx, d.Address); !up {
		return bootGone, "the device went down", ctx.Err() // when the context has ended, silence says nothing about the device
	}
	if r.c.Kind == store.Restore {
		return r.startedAgain(ctx, s)
	}
	in, err := r.intended(change.Install, s.Plan.Hop)
	if err != nil {
		return bootUnclear, "", err
	}
	slot, err := r.slot(ctx, in.Slot)
	switch device.KindOf(err) {
	case device.Unreachable, device.Lost, device.NotReady, device.Silent:
		return bootUnclear, err.Error(), nil
	}
	switch {
	case err != nil:
		return bootUnclear, "", err
	case slot.Running:
		return bootNew, "the device runs from slot " + slot.Name, nil
	}
	return bootOld, "the device still answers and runs from the old slot", nil
}

func restarted(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if !taken {
		return false, "", nil
	}
	return r.awaitBoot(ctx, s, func(b bootState) bool { return b != bootUnclear })
}

// awaitBoot looks until the state is settled, and reports whether the restart has begun.
func (r *run) awaitBoot(ctx context.Context, s *store.Step, settled func(bootState) bool) (bool, string, error) {
	for {
		b, seen, err := r.bootState(ctx, s)
		if err != nil {
			return false, "", err
		}
		if settled(b) {
			return b == bootGone || b == bootNew, seen, nil
		}
		s.Note = seen
		if err := pause(ctx, r.wait(time.Second)); err != nil {
			return false, "", err
		}
	}
}

func restart(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	err = c.Restart(ctx)
	r.hangUp()
	if k := device.KindOf(err); k == device.Lost {
		err = nil // that is how a restart looks
	}
	return err
}

// wentDown waits until the device really is on its way: a box goes on answering for a moment after it was told to
// restart, and taking that for the return would be a false start of everything that follows.
func wentDown(r *run, ctx context.Context, s *store.Step) (string, error) {
	_, evidence, err := r.awaitBoot(ctx, s, func(b bootState) bool { return b == bootGone || b == bootNew })
	return evidence, err
}

// Coming back, in stages. Each stage polls until it is reached or its hard limit is over; what was last seen stands in
// the note, so that a failure tells it.

// poll calls look until it says done. Errors that mean "not yet" are noted; others end the waiting.
func (r *run) poll(ctx context.Context, s *store.Step, look func() (done bool, seen string, err error)) error {
	began := time.Now()
	for {
		done, seen, err := look()
		if err != nil {
			switch device.KindOf(err) {
			case device.Unreachable, device.Lost, device.NotReady, device.Silent:
				r.hangUp()
				seen = err.Error()
			default:
				return err
			}
		}
		if done {
			s.Note = seen
			return nil
		}
		r.progress(ctx, s, expectedFraction(s.Plan.Expect, began), "%s", seen)
		if err := pause(ctx, r.wait(3*time.Second)); err != nil {
			return err
		}
	}
}

func waitLink(r *run, ctx context.Context, s *store.Step) error {
	return r.poll(ctx, s, func() (bool, string, error) {
		d, err := r.device(ctx)
		if err != nil {
			return false, "", err
		}
		up, seen := linkUp(ctx, d.Address)
		return up, seen, nil
	})
}

func waitLogin(r *run, ctx context.Context, s *store.Step) error {
	return r.poll(ctx, s, func() (bool, string, error) {
		_, err := r.connect(ctx)
		return err == nil, "sign-in is accepted", err
	})
}

func confirmVersion(r *run, ctx context.Context, s *store.Step) error {
	to := r.c.To
	if s.Plan.Hop >= 0 {
		to = r.hop(s).To.String()
	}
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		if p.Version != to {
			return false, "", final("the device came back with %s, not %s", p.Version, to)
		}
		seen := "the device runs " + p.Version
		if slot := p.RunningSlot(); slot != nil {
			seen += " from slot " + slot.Name
		}
		return true, seen, r.e.recordPortrait(ctx, r.c.DeviceID, p)
	})
}

func waitServices(r *run, ctx context.Context, s *store.Step) error {
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		if !p.ServicesReady {
			return false, "the device says its services are starting", nil
		}
		return true, "the device says its services are ready", nil
	})
}

// tidy removes the image file that the hop put on the device.
func tidy(r *run, ctx context.Context, s *store.Step) error {
	name := r.hop(s).Image.File
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	if s.Note = name + " is not on the device"; p.File(name) == nil {
		return nil
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if err := c.RemoveFile(ctx, name); err != nil {
		return err
	}
	s.Note = name + " was removed"
	return nil
}

// The verdict: compare until everything is met or the time to settle is over.

func settle(r *run, ctx context.Context, s *store.Step) error {
	began := time.Now()
	patience := time.Duration(s.Plan.Expect.Limit * float64(time.Second) * 9 / 10)
	for {
		results, err := r.judge(ctx, time.Since(began) < patience)
		switch k := device.KindOf(err); {
		case k == device.Unreachable || k == device.Lost || k == device.NotReady || k == device.Silent:
			r.hangUp()
			r.progress(ctx, s, 0, "%s", err)
			if time.Since(began) >= patience {
				return err
			}
		case err != nil:
			return err
		default:
			open := 0
			for _, res := range results {
				if res.State == verify.Pending {
					open++
				}
			}
			if open == 0 {
				v, err := json.Marshal(verify.Conclude(results))
				s.Note = string(v)
				return err
			}
			r.progress(ctx, s, expectedFraction(s.Plan.Expect, began), "%d of %d readings are not back yet: %s", open, len(results), pendingNames(results))
		}
		if err := pause(ctx, r.wait(3*time.Second)); err != nil {
			return err
		}
	}
}

func pendingNames(results []verify.Result) string {
	var names []string
	for _, res := range results {
		if res.State == verify.Pending {
			names = append(names, res.Title+" ("+res.Evidence+")")
		}
	}
	return strings.Join(names, "; ")
}

func (r *run) judge(ctx context.Context, settling bool) ([]verify.Result, error) {
	var before verify.Readings
	if err := json.Unmarshal(r.c.Readings, &before); err != nil {
		return nil, final("the readings from before the change cannot be read: %w", err)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return nil, err
	}
	p, err := c.Portrait(ctx)
	if err != nil {
		return nil, err
	}
	after, _, err := c.Readings(ctx)
	if err != nil {
		return nil, err
	}
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	dialect := r.e.Dialects[d.Dialect]
	if dialect == nil {
		return nil, final("dialect %q is not known here", d.Dialect)
	}
	// The version is a reading like any other, and the first one anybody looks for.
	version := verify.Expectation{Reading: "version", Title: "Running version", Rule: verify.Equals, Value: verify.Value{Type: verify.Text, Text: r.c.To}, Severity: verify.Fails}
	after["version"] = verify.Value{Type: verify.Text, Text: p.Version}
	before["version"] = verify.Value{Type: verify.Text, Text: r.c.From}
	expect := dialect.Expectations()
	if r.c.Kind == store.Restore {
		// A restore brings another state back: what was up before need not be up after. It is shown, as a doubt.
		for i := range expect {
			expect[i].Severity = verify.Degrades
		}
	}
	return verify.Judge(append([]verify.Expectation{version}, expect...), before, after, settling), nil
}

func verdict(_ *run, _ context.Context, s *store.Step) (string, error) { return s.Note, nil }

// linkUp reports whether something accepts connections at an address.
func linkUp(ctx context.Context, address string) (up bool, seen string) {
	conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		return false, "nothing answers at " + address
	}
	_ = conn.Close()
	return true, address + " accepts connections"
}
