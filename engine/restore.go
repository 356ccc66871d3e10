package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// A RestoreWork says what a restore puts back on which device. It is stored with the change: what is approved is what is
// carried out.
type RestoreWork struct {
	Backup      int64         `json:"backup"`
	Model       string        `json:"model"`
	Serial      string        `json:"serial"`      // of the device it is for
	Replacement bool          `json:"replacement"` // another device than the one the bundle was taken from
	Parts       []RestorePart `json:"parts"`
}

// A RestorePart is one part that is put back.
type RestorePart struct {
	Name   string `json:"name"`
	Title  string `json:"title"`
	File   string `json:"file"`
	Kind   string `json:"kind"`
	Syntax string `json:"syntax,omitempty"`
	SHA256 string `json:"sha256"`           // of the bundle's part
	Sealed []byte `json:"sealed,omitempty"` // converted for the device; the bundle's own content when there is none
	Note   string `json:"note,omitempty"`   // what was converted
}

// RestoreLabel binds a converted part to its place.
func RestoreLabel(device, part string) string { return "restore of " + device + ", " + part }

// PartsNow reads some parts of a device as they are now. unread says of which that was not possible, and why.
func (e *Engine) PartsNow(ctx context.Context, d store.Device, names []string, by access.Actor) (p *portrait.Portrait, now map[string][]byte, unread map[string]string, err error) {
	ctx, c, done, err := e.ask(ctx, d, by, "look at what a restore would change")
	if err != nil {
		return nil, nil, nil, err
	}
	defer done()
	if p, err = c.Portrait(ctx); err != nil {
		return nil, nil, nil, err
	}
	now, unread = map[string][]byte{}, map[string]string{}
	for _, name := range names {
		s := e.Profile(d).Part(name)
		if s == nil {
			unread[name] = "the device has no such part"
			continue
		}
		data, _, err := c.FetchPart(ctx, s.Name)
		switch k := device.KindOf(err); {
		case err == nil:
			now[name] = data
		case k == device.Refused || k == device.NotUnderstood:
			unread[name] = err.Error()
		default:
			return nil, nil, nil, err
		}
	}
	return p, now, unread, nil
}

// work reads what a restore is to put back.
func (r *run) work() (w RestoreWork, err error) {
	if err := json.Unmarshal(r.c.Work, &w); err != nil {
		return w, final("the record of this restore cannot be read: %w", err)
	}
	return w, nil
}

// wanted is the part of a step, its source in the dialect, and the content that is to be put.
func (r *run) wanted(ctx context.Context, st *store.Step) (RestorePart, *device.Part, []byte, error) {
	d, err := r.device(ctx)
	if err != nil {
		return RestorePart{}, nil, nil, err
	}
	parts, err := r.toPut(ctx, st)
	if err != nil {
		return RestorePart{}, nil, nil, err
	}
	name := st.Plan.Part()
	for _, p := range parts {
		if p.Name != name {
			continue
		}
		s := r.e.Profile(d).Part(name)
		if s == nil || s.Restore == nil {
			return p, nil, nil, final("dialect %q cannot put %s back", d.Dialect, p.Title)
		}
		var data []byte
		if p.Sealed != nil {
			data, err = r.e.Vault.Open(RestoreLabel(d.Name, name), p.Sealed)
		} else {
			data, err = r.e.Backups.Read(p.SHA256)
		}
		if err != nil {
			return p, nil, nil, final("%s cannot be read from our own store: %w; nothing was put on the device", p.Title, err)
		}
		return p, s, data, nil
	}
	return RestorePart{}, nil, nil, final("this restore has no part %q", name)
}

// toPut lists what a step's part of the change puts back: of a restore what was drafted, of a hop that resets the device what
// was worked out before, of its way back the hop's backup as it is.
func (r *run) toPut(ctx context.Context, s *store.Step) ([]RestorePart, error) {
	switch {
	case r.c.Kind == change.Restoring:
		w, err := r.work()
		return w.Parts, err
	case s.Plan.Back:
		b, err := r.e.Store.BackupOf(ctx, r.c.ID, r.m.DeviceID, s.Plan.Hop)
		if err != nil {
			return nil, records(err)
		}
		return r.partsOf(ctx, b)
	}
	w, err := r.hopWork()
	return w.Hops[s.Plan.Hop], err
}

// checkRestore: is this the device, is it as it was when the restore was drafted, can everything be read?
func checkRestore(r *run, ctx context.Context, s *store.Step) error {
	w, err := r.work()
	if err != nil {
		return err
	}
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	switch {
	case p.Model != w.Model:
		return final("the device says it is a %s; this restore is for a %s", p.Model, w.Model)
	case p.Serial != w.Serial:
		return final("the device has serial %s; this restore was drafted for %s. Draft it anew for the device that is there now", p.Serial, w.Serial)
	case p.Version != r.c.From:
		return final("the device runs %s; this restore was drafted for %s. Draft it anew", p.Version, r.c.From)
	}
	var size int64
	for _, part := range w.Parts {
		_, _, data, err := r.wanted(ctx, partStep(part.Name))
		if err != nil {
			return err
		}
		size = max(size, int64(len(data)))
	}
	if _, room, _ := p.ImageRoom(); room.Total > 0 && room.Free < size {
		return final("no room: the largest part needs %s and %s of %s is free; remove files from the device, the largest is %s", mib(size), mib(room.Free), mib(room.Total), largest(p))
	}
	s.Note = fmt.Sprintf("%s %s runs %s; %d parts of backup %d can be read", p.Model, p.Serial, p.Version, len(w.Parts), w.Backup)
	return nil
}

// validate has the device read a configuration before it is used. Lines that it would refuse are a doubt that a person may take on:
// a device may refuse at a trial what it takes when it starts.
func validate(r *run, ctx context.Context, s *store.Step) error {
	p, _, text, err := r.wanted(ctx, s)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	said, err := c.TryConfiguration(ctx, text)
	if err != nil {
		return err
	}
	if len(said) == 0 {
		s.Note = "the device reads all of " + p.File
		return nil
	}
	var lines []string
	for _, m := range said {
		lines = append(lines, fmt.Sprintf("line %d", m.Line))
	}
	s.Note = fmt.Sprintf("the device would refuse %d lines of %s: %s", len(said), p.File, first(lines, 8))
	if r.accepts(checkValidation) {
		s.Note += "; that was accepted"
		return nil
	}
	return &askError{change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{r.named(checkValidation)}, Answers: []change.Action{change.Accept, change.Retry, change.Leave},
		Text: s.Note + ". It was not put on the device"}, change.StepRunning}
}

// checkValidation is the name under which lines that the device would refuse are accepted.
const checkValidation = "validation"

// same reports whether a part on a device is what was put: to the byte, or for configurations of a release in meaning, since a device may
// write them in its own way.
func (e *Engine) same(ctx context.Context, model, release string, p RestorePart, of *device.Part, want, got []byte) (bool, error) {
	if of.Same(want, got) {
		return true, nil
	}
	if p.Syntax == "" {
		return false, nil
	}
	schema, err := e.reading(ctx, model, release, config.Syntax(p.Syntax), p.File, string(got))
	if err != nil {
		return false, err
	}
	a, bad1 := schema.Parse(p.File, of.Steady(string(want)))
	b, bad2 := schema.Parse(p.File, of.Steady(string(got)))
	return len(bad1)+len(bad2) == 0 && config.Compare(a, b, schema).Same(), nil
}

// partStep stands for a step that puts a part of a restore.
func partStep(name string) *store.Step {
	return &store.Step{Plan: change.Step{Hop: -1, Kind: change.PutPart, Params: change.PartParams{Part: name}}}
}

func (r *run) partIsThere(ctx context.Context, st *store.Step) (bool, error) {
	p, s, want, err := r.wanted(ctx, st)
	if err != nil {
		return false, err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return false, err
	}
	got, _, err := c.FetchPart(ctx, s.Name)
	if k := device.KindOf(err); k == device.Refused || k == device.NotUnderstood { // it is not there at all, or empty
		return false, nil
	}
	if err != nil {
		return false, err
	}
	model, release := r.modelAfter(st), r.goal(st)
	if r.c.Kind == change.Restoring {
		w, err := r.work()
		if err != nil {
			return false, err
		}
		model, release = w.Model, r.c.From
	}
	return r.e.same(ctx, model, release, p, s, want, got)
}

func partThere(r *run, ctx context.Context, s *store.Step, begun bool) (bool, string, error) {
	p, _, _, err := r.wanted(ctx, s)
	if err != nil || p.Kind == backup.System {
		return false, "", err
	}
	there, err := r.partIsThere(ctx, s)
	if err == nil && !there && s.Plan.Irreversible() {
		err = r.asBackedUp(ctx, s, begun)
	}
	return there, p.File + " is on the device as it should be", err
}

func putPart(r *run, ctx context.Context, s *store.Step) error {
	_, source, data, err := r.wanted(ctx, s)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.PutPart(ctx, source.Name, data)
}

func partTaken(r *run, ctx context.Context, s *store.Step) (string, error) {
	p, source, _, err := r.wanted(ctx, s)
	if err != nil {
		return "", err
	}
	if p.Kind == backup.System || source.Restore.Restart {
		return p.File + " was taken; it takes effect with the next start", nil
	}
	there, err := r.partIsThere(ctx, s)
	if err == nil && !there {
		return "", final("%s was put on the device, but reading it again gives something else", p.File)
	}
	return p.File + " was put back and read again", err
}

// compareParts reads every part again when all is done: one may have changed another.
func compareParts(r *run, ctx context.Context, s *store.Step) error {
	w, err := r.work()
	if err != nil {
		return err
	}
	var good, other, whole []string
	for _, p := range w.Parts {
		if p.Kind == backup.System {
			whole = append(whole, p.File)
			continue
		}
		there, err := r.partIsThere(ctx, partStep(p.Name))
		if err != nil {
			return err
		}
		if there {
			good = append(good, p.File)
		} else {
			other = append(other, p.File)
		}
	}
	if len(other) > 0 {
		return final("not as in the backup after all: %s. What was there before is in the backup that this change took", strings.Join(other, ", "))
	}
	s.Note = fmt.Sprintf("as in the backup: %s", strings.Join(good, ", "))
	if len(whole) > 0 {
		s.Note = strings.TrimPrefix(strings.TrimSuffix(s.Note, "as in the backup: ")+fmt.Sprintf("; unpacked by the device, not compared: %s", strings.Join(whole, ", ")), "; ")
	}
	return nil
}

// startBefore remembers which start the device is in before a restart: only another one afterwards proves that it was restarted. Where
// a slot was chosen the slot tells, and the start only tells a command that was never heard from a start that failed.
func startBefore(r *run, ctx context.Context, s *store.Step) (any, error) {
	p, err := r.portrait(ctx)
	bySlot := r.c.Kind != change.Restoring && r.bySlot(s)
	switch {
	case bySlot && (err != nil || p.Started == ""):
		return nil, nil
	case err != nil:
		return nil, err
	case p.Started == "":
		return nil, final("the dialect does not say when the device was started, so a restart could not be told; restart it by hand, then draft the rest anew")
	}
	return slotIntent{Started: p.Started, Version: p.Version}, nil
}
