package engine

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
	"verimorph/transfer"
)

// file is the file of a step: its own, or the image of its hop.
func (r *run) file(s *store.Step) *change.File {
	if s.Plan.File() != nil {
		return s.Plan.File()
	}
	h := r.hop(s)
	return change.Image(&h)
}

// The image in our own store.

func fileKept(r *run, _ context.Context, s *store.Step, _ bool) (bool, string, error) {
	im := r.file(s)
	return r.e.Blobs.Has(im.SHA256), im.Name + " is in the image store", nil
}

// awaitFile waits for the download of the file, which goes on beside the change.
func awaitFile(r *run, ctx context.Context, s *store.Step) error {
	im := r.file(s)
	for !r.e.Blobs.Has(im.SHA256) {
		f, err := r.e.Store.FetchOf(ctx, im.SHA256)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return final("the image store lacks %s and nothing fetches it; add it with: verimorph image add FILE", im.Name)
		case err != nil:
			return records(err)
		case !f.Open() && !r.e.Blobs.Has(im.SHA256):
			return final("the download of %s from site %s is %s: %s", im.Name, f.Site, f.State, f.Note)
		}
		r.progress(ctx, s, float64(f.Done)/float64(max(f.Size, 1)), "%s of %s from site %s, %s %s", mib(f.Done), mib(f.Size), f.Site, f.State, f.Note)
		if err := pause(ctx, 300*time.Millisecond); err != nil {
			return err
		}
	}
	return nil
}

func fileKeptNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := fileKept(r, ctx, s, true)
	if err == nil && !done {
		err = final("%s is gone from the image store", r.file(s).Name)
	}
	return evidence, err
}

// fileFits checks a file in our store: it is there, undamaged, and is for the model, the version and the component. What its
// header says was compared with the catalogue when it was taken in, and its content has not changed since.
func (e *Engine) fileFits(ctx context.Context, f *change.File, model string) error {
	if err := e.undamaged(f.SHA256); err != nil {
		return fmt.Errorf("image %s: %w; add it to the image store and draft again", f.Name, err)
	}
	im, err := e.Store.Image(ctx, f.SHA256)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return fmt.Errorf("image %s lies in the image store without a record; add it again", f.Name)
	case err != nil:
		return records(err)
	case im.Part != f.Component && f.Component == "":
		return fmt.Errorf("image %s is for the component %s, not to be installed by itself", f.Name, im.Part)
	case im.Part != f.Component:
		return fmt.Errorf("image %s is not for the component %s", f.Name, f.Component)
	case !slices.Contains(im.Models, model):
		return fmt.Errorf("image %s is for %s, the device is a %s", f.Name, strings.Join(im.Models, " and "), model)
	case f.Component == "" && im.Version != f.Version:
		return fmt.Errorf("image %s holds version %s, not %s", f.Name, im.Version, f.Version)
	}
	return nil
}

// proofLasts is how long a file that was read and hashed counts as undamaged, as long as nobody wrote to it.
const proofLasts = 10 * time.Minute

// A proof is when a file was found undamaged, and how it lay there.
type proof struct {
	at, written time.Time
	size        int64
}

// undamaged reads and hashes a file of the image store, unless that was done a short while ago: a thousand changes to one
// release would otherwise read it thousands of times. The device hashes what it got in any case.
func (e *Engine) undamaged(sum string) error {
	name, err := e.Blobs.Path(sum)
	if err != nil {
		return e.Blobs.Verify(sum)
	}
	st, err := os.Stat(name)
	if err != nil {
		return e.Blobs.Verify(sum)
	}
	now := proof{e.now(), st.ModTime(), st.Size()}
	e.mu.Lock()
	p, ok := e.proofs[sum]
	e.mu.Unlock()
	if ok && p.written.Equal(now.written) && p.size == now.size && now.at.Sub(p.at) < proofLasts {
		return nil
	}
	if err := e.Blobs.Verify(sum); err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.proofs[sum] = now
	return nil
}

// Sending a file.

// fileThere reports whether a file lies on the device with its full size. While it grows, of a step that had begun, somebody is at work:
// the device that fetches it, or what a worker had sent before it died.
func fileThere(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	im := r.file(s)
	c, err := r.connect(ctx)
	if err != nil {
		return false, "", err
	}
	byVersion := c.Profile().Abilities.ByVersion
	for last := int64(-1); ; {
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		size := int64(0)
		if f := p.File(im.Name); f != nil {
			size = f.Size
		}
		if byVersion && im.Component == "" {
			slot := p.Slot(im.Name)
			if slot == nil || slot.Broken() {
				return false, "it does not list " + im.Name + " as one that it can start", nil
			}
			return true, im.Name + " is among the versions that the device can start", nil
		}
		switch {
		case size == im.Size:
			return true, fmt.Sprintf("%s, %d bytes, is on the device", im.Name, size), nil
		case !taken || size <= last:
			return false, fmt.Sprintf("it has %d of %d bytes", size, im.Size), nil
		}
		last = size
		if err := pause(ctx, max(r.wait(5*time.Second), leastOnItsWay)); err != nil { // what a dead worker sent may still be on its way
			return false, "", err
		}
	}
}

func send(r *run, ctx context.Context, s *store.Step) error {
	im := r.file(s)
	local, err := r.e.Blobs.Path(im.SHA256)
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
	pushes := c.Profile().Pushes != ""
	if c.Profile().Fetches && d.Settings.Transfer != "sftp" || !pushes && !c.Transfers() {
		return r.letFetch(ctx, s, c, d, local, im)
	}
	defer c.CloseFiles()
	// A transfer that stands still is broken, even when the connection is not.
	patience := max(r.wait(stallTime), 5*time.Second)
	stalled := time.AfterFunc(patience, r.cut)
	defer stalled.Stop()
	tell := func(done, total int64) {
		stalled.Reset(patience)
		r.progress(ctx, s, float64(done)/float64(total), "%s of %s sent", mib(done), mib(total))
	}
	if pushes {
		err = pushWhole(ctx, c, local, im, tell)
	} else {
		err = pushBySFTP(ctx, c, local, im, tell)
	}
	if err != nil {
		if full := r.roomFor(ctx, s); full != nil {
			return full
		}
	}
	return err
}

// pushBySFTP sends a file over SFTP, from where an earlier try broke off.
func pushBySFTP(ctx context.Context, c *device.Client, local string, im *change.File, tell func(done, total int64)) error {
	files, err := c.SFTP()
	if err != nil {
		return err
	}
	return transfer.Push(ctx, files, local, c.Profile().Folder+im.Name, tell)
}

// pushWhole sends a file from its begin.
func pushWhole(ctx context.Context, c *device.Client, local string, im *change.File, tell func(done, total int64)) error {
	f, err := os.Open(local)
	if err != nil {
		return &finalError{err}
	}
	defer f.Close()
	return c.PushImage(ctx, device.Image{File: im.Name, Version: im.Version, Size: im.Size}, f, func(done int64) { tell(done, im.Size) })
}

// sendAhead lets what the next hop needs travel while the device's services start. Nothing depends on it: what does not fit, is not
// here yet or breaks off is sent when its hop comes to it. So it never fails, and whatever it leaves is looked at then.
func sendAhead(r *run, ctx context.Context, s *store.Step) error {
	limited, cancel := context.WithTimeout(ctx, time.Duration(s.Plan.Expect.Limit*0.8*float64(time.Second)))
	defer cancel()
	defer context.AfterFunc(limited, r.cut)()
	var sent, left []string
	note := func() {
		var parts []string
		if len(sent) > 0 {
			parts = append(parts, strings.Join(sent, ", "))
		}
		if len(left) > 0 {
			parts = append(parts, "later: "+strings.Join(left, ", "))
		}
		if s.Note = strings.Join(parts, "; "); s.Note == "" {
			s.Note = "there is nothing to send"
		}
	}
	for i := range r.c.Steps {
		next := r.c.Steps[i]
		if next.Plan.Kind != change.Send || next.Plan.Hop != s.Plan.Hop+1 || next.Plan.Back {
			continue
		}
		next.Plan.Number, next.Plan.Expect = s.Plan.Number, s.Plan.Expect
		im := r.file(&next)
		there, err := r.oneAhead(limited, &next)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			r.hangUp()
			left = append(left, fmt.Sprintf("%s (%s)", im.Name, err))
			continue
		}
		if there {
			sent = append(sent, im.Name+" lay there already")
		} else {
			sent = append(sent, aheadMark(im.Name))
		}
	}
	note()
	return nil
}

// oneAhead sends one file ahead; there says that it lay on the device already.
func (r *run) oneAhead(ctx context.Context, next *store.Step) (there bool, err error) {
	if !r.e.Blobs.Has(r.file(next).SHA256) {
		return false, errors.New("it is not in the image store yet")
	}
	done, _, err := fileThere(r, ctx, next, false)
	if err != nil || done {
		return done, err
	}
	p, err := r.portrait(ctx)
	if err != nil {
		return false, err
	}
	if _, room, _ := p.ImageRoom(); room.Total == 0 {
		return false, errors.New("the device does not say how much room it has")
	}
	if _, err := r.room(next, p); err != nil {
		return false, errors.New("there is no room beside the files of this hop")
	}
	return false, send(r, ctx, next)
}

// letFetch has the device fetch the file from us.
func (r *run) letFetch(ctx context.Context, s *store.Step, c *device.Client, d store.Device, local string, im *change.File) error {
	if r.e.Receiver == nil {
		return final("this service hands no files out; start it with -receive-%s", d.Settings.Transfer)
	}
	url, withdraw, err := r.e.Receiver.OfferFile(strings.TrimPrefix(d.Settings.Transfer, "pull-"), local, time.Duration(s.Plan.Expect.Limit*float64(time.Second)))
	if err != nil {
		return final("%w; start it with -receive-%s, or let the device fetch in another way", err, d.Settings.Transfer)
	}
	defer withdraw()
	err = c.FetchImage(ctx, url, im.Name, func(f float64) { r.progress(ctx, s, f, "the device fetches %s", im.Name) })
	switch device.KindOf(err) {
	case device.NoRoom:
		if full := r.roomFor(ctx, s); full != nil {
			return full
		}
	case device.Refused: // to the device a broken download is a refusal; when it came for the file, that is worth another try
		if r.e.Receiver.Came(url) {
			return fmt.Errorf("the fetch %w: %s", transfer.ErrBroken, err)
		}
		return final("the device refuses to fetch %s, and did not come for it: %w", im.Name, err)
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
func (r *run) room(s *store.Step, p *portrait.Portrait) (need int64, err error) {
	im := r.file(s)
	need = im.Size
	if f := p.File(im.Name); f != nil {
		need -= f.Size // a part of it is there already
	}
	_, room, _ := p.ImageRoom()
	if room.Total > 0 && room.Free < need { // where the device does not say, it is its own to refuse
		err = final("no room: %s needs %s more and %s of %s is free; remove files from the device, the largest is %s", im.Name, mib(need), mib(room.Free), mib(room.Total), largest(p))
	}
	return need, err
}

// digest is the sum of a file in our store, by the algorithm that a device uses. By another one than ours the file is read for it.
func (e *Engine) digest(f *change.File, algorithm string) (device.Digest, error) {
	if algorithm == device.Validated {
		return device.Digest{Algorithm: algorithm, Sum: f.Version}, nil
	}
	h, ok := map[string]func() hash.Hash{"md5": md5.New, "sha1": sha1.New, "sha512": sha512.New}[algorithm]
	if !ok {
		return device.Digest{Algorithm: "sha256", Sum: f.SHA256}, nil
	}
	if err := e.undamaged(f.SHA256); err != nil {
		return device.Digest{}, final("%w", err)
	}
	name, err := e.Blobs.Path(f.SHA256)
	if err != nil {
		return device.Digest{}, final("%w", err)
	}
	file, err := os.Open(name)
	if err != nil {
		return device.Digest{}, final("%w", err)
	}
	defer file.Close()
	sum := h()
	if _, err := io.Copy(sum, file); err != nil {
		return device.Digest{}, err
	}
	return device.Digest{Algorithm: algorithm, Sum: hex.EncodeToString(sum.Sum(nil))}, nil
}

// damages is what to think when a file arrives damaged again and again.
const damages = "something between here and the device damages it"

func sizeThere(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := fileThere(r, ctx, s, true)
	if err == nil && !done {
		return "", &againError{change.Send, "the file on the device does not have its full size: " + evidence, damages}
	}
	return evidence, err
}

func compareChecksum(r *run, ctx context.Context, s *store.Step) error {
	im := r.file(s)
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	medium := change.Of[change.FileParams](&s.Plan).Medium
	name := im.Name
	if medium {
		name = r.e.Profile(d).Medium + name
	}
	sum, err := c.Checksum(ctx, name)
	wrong := ""
	switch {
	case medium && device.KindOf(err) == device.Refused:
		wrong = fmt.Sprintf("the device does not find %s: %s", name, err)
	case err != nil:
		return err
	default:
		right, err := r.e.digest(im, sum.Algorithm)
		if err != nil {
			return err
		}
		if sum != right {
			wrong = fmt.Sprintf("the device computes %s %.12s for %s, it should be %.12s", sum.Name(), sum.Sum, name, right.Sum)
			if sum.Algorithm == device.Validated {
				wrong = "the device does not say that it has checked " + name + " and holds it whole"
			}
		}
	}
	switch {
	case wrong == "":
		s.Note = fmt.Sprintf("the device computes %s %.12s for %s, as it should be", sum.Name(), sum.Sum, name)
		if sum.Algorithm == device.Validated {
			s.Note = "the device says that it has checked " + name + " itself and holds it whole; it tells no sum"
		}
		if sum.Weak() {
			s.Note += "; " + sum.Name() + " is weak: it finds damage, not a file that was made to have this sum. The size was compared, too, and the header when the file was taken in"
		}
		return nil
	case medium: // another medium is a matter for a person
		return &askError{change.Question{Kind: change.AskHand, Step: s.Plan.Number, Text: wrong + ". Nothing was changed. Put the right medium in, then answer retry", Answers: []change.Action{change.Retry, change.Leave}}, change.StepRunning}
	}
	i := slices.IndexFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Kind == change.Send && st.Plan.Hop == s.Plan.Hop && st.Plan.Back == s.Plan.Back && st.Plan.Number < s.Plan.Number && r.file(&st).Name == im.Name
	})
	if i < 0 { // it was only to be compared; what to do about it is for whoever asked
		return final("%s. The file was left as it is", wrong)
	}
	if sum.Algorithm == device.Validated {
		return &againError{change.Send, wrong, damages}
	}
	if err := c.RemoveFile(ctx, name); err != nil {
		return err
	}
	return &againError{change.Send, wrong + "; the damaged file was removed", damages}
}
