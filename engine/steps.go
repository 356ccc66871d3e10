package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/device"
	"verimorph/store"
	"verimorph/vault"
)

// works says how each kind of step is carried out. To add a kind: name it in core/change, put it into a choreography
// there, and say here how it is inspected, performed and confirmed.
var works = map[change.Kind]work{
	change.Readings:   {inspect: readingsTaken, perform: takeReadings, confirm: countReadings},
	change.Fetch:      {inspect: fileKept, perform: awaitFile, confirm: fileKeptNow},
	change.Check:      {perform: check},
	change.Backup:     {inspect: backupTaken, perform: takeBackup},
	change.Convert:    {inspect: convertedBefore, perform: convertParts},
	change.Hand:       {perform: askHand},
	change.CleanUp:    {perform: cleanUp},
	change.Licence:    {inspect: licenceThere, perform: addLicence, confirm: licenceNow},
	change.Clone:      {inspect: cloned, intent: slotBefore, perform: clone, confirm: clonedNow},
	change.Send:       {inspect: fileThere, perform: send, confirm: sizeThere},
	change.Checksum:   {perform: compareChecksum},
	change.Component:  {inspect: componentThere, perform: updateComponent, confirm: componentTaken},
	change.PowerCycle: {inspect: componentThere, perform: powerCycle},
	change.Install:    {inspect: installed, intent: slotBefore, perform: install, confirm: installedNow},
	change.Unpack:     {inspect: unpacked, perform: unpack, confirm: unpackedNow},
	change.Point:      {perform: check},
	change.Drain:      {perform: drain},
	change.Save:       {inspect: saved, perform: save, confirm: savedNow},
	change.ChooseSlot: {inspect: slotChosen, intent: slotToChoose, perform: chooseSlot, confirm: slotChosenNow},
	change.KeepSlot:   {perform: keepSlot, confirm: slotKeptNow},
	change.Restart:    {inspect: restarted, intent: startBefore, perform: restart, confirm: wentDown},
	change.Link:       {perform: waitLink},
	change.Login:      {perform: waitLogin},
	change.Confirm:    {perform: confirmVersion},
	change.Services:   {perform: waitServices},
	change.Undrain:    {inspect: inService, perform: undrain, confirm: inServiceNow},
	change.Ahead:      {perform: sendAhead},
	change.Tidy:       {perform: tidy},
	change.Settle:     {perform: settleFirst},
	change.Verify:     {perform: settle, confirm: verdict},

	change.CheckRestore: {perform: checkRestore},
	change.Validate:     {perform: validate},
	change.PutPart:      {inspect: partThere, perform: putPart, confirm: partTaken},
	change.CompareParts: {perform: compareParts},
}

func mib(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

func largest(p *device.Portrait) string {
	if len(p.Files) == 0 {
		return "none"
	}
	f := slices.MaxFunc(p.Files, func(a, b device.File) int { return int(min(max(a.Size-b.Size, -1), 1)) })
	return fmt.Sprintf("%s (%s)", f.Name, mib(f.Size))
}

// A hand step is done by a person, who signs it off.

func askHand(_ *run, _ context.Context, s *store.Step) error {
	return &askError{change.Question{Kind: change.AskHand, Step: s.Plan.Number, Text: "By hand: " + s.Plan.Text, Answers: []change.Action{change.SignOff, change.Leave}}, change.StepRunning}
}

// Backup off the box.

// bundlesAtOnce is how many backups the changes of a process take at once.
const bundlesAtOnce = 100

func backupTaken(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, s.Plan.Hop)
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if err != nil {
		return false, "", records(err)
	}
	if b.Manifest == "" || !b.Complete || r.e.whole(b) != nil {
		return false, "", nil // recorded but not readable: take it again
	}
	return true, r.e.backupNote(ctx, b), nil
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
	select { // what is read off a device is held in memory until it is stored
	case r.e.bundles <- struct{}{}:
		defer func() { <-r.e.bundles }()
	case <-ctx.Done():
		return context.Cause(ctx)
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
	s.Note = r.e.backupNote(ctx, b)
	return nil
}

// Converting what is put back after a reset.

// hopWork is what a firmware change puts back, by hop, and the licences that it brings.
type hopWork struct {
	Hops     map[int][]RestorePart `json:"hops"`
	From     map[int]int64         `json:"from,omitempty"`     // by hop: the backup that it was worked out from
	Licences map[string][]byte     `json:"licences,omitempty"` // sealed key by name
}

// LicenceWork seals licences for a change: the key of each, by name.
func LicenceWork(v *vault.Vault, device string, licences map[string]string) ([]byte, error) {
	w := hopWork{Hops: map[int][]RestorePart{}, Licences: map[string][]byte{}}
	for name, key := range licences {
		var err error
		if w.Licences[name], err = v.Seal(licenceLabel(device, name), []byte(key)); err != nil {
			return nil, err
		}
	}
	return json.Marshal(w)
}

// LicenceKeys opens what LicenceWork sealed: the keys by name. Work of any other content has none.
func LicenceKeys(v *vault.Vault, device string, work []byte) (map[string]string, error) {
	var w hopWork
	if len(work) > 0 {
		if err := json.Unmarshal(work, &w); err != nil {
			return nil, err
		}
	}
	out := map[string]string{}
	for name, sealed := range w.Licences {
		key, err := v.Open(licenceLabel(device, name), sealed)
		if err != nil {
			return nil, err
		}
		out[name] = string(key)
	}
	return out, nil
}

// licenceLabel binds the key of a licence to its place.
func licenceLabel(device, name string) string { return "licence of " + device + ", " + name }

// Licences.

func licenceThere(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return false, "", err
	}
	return slices.Contains(p.Licences, s.Plan.Part), "the device has the licence " + s.Plan.Part, nil
}

func addLicence(r *run, ctx context.Context, s *store.Step) error {
	w, err := r.hopWork()
	if err != nil {
		return err
	}
	key, err := r.e.Vault.Open(licenceLabel(r.c.Device, s.Plan.Part), w.Licences[s.Plan.Part])
	if err != nil {
		return final("the key of licence %s cannot be read: %w", s.Plan.Part, err)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.AddLicence(ctx, s.Plan.Part, string(key))
}

func licenceNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := licenceThere(r, ctx, s, true)
	if err == nil && !done {
		return "", final("the device took the key but does not show the licence %s", s.Plan.Part)
	}
	return evidence, err
}

func (r *run) hopWork() (w hopWork, err error) {
	if len(r.c.Work) > 0 {
		err = json.Unmarshal(r.c.Work, &w)
	}
	if w.Hops == nil {
		w.Hops = map[int][]RestorePart{}
	}
	return w, err
}

func convertedBefore(r *run, _ context.Context, s *store.Step, _ bool) (bool, string, error) {
	w, err := r.hopWork()
	parts := w.Hops[s.Plan.Hop]
	var notes []string
	for _, p := range parts {
		notes = append(notes, strings.TrimSuffix(p.File+": "+p.Note, ": "))
	}
	return len(parts) > 0, strings.Join(notes, "; "), err
}

// convertParts works out what is put back on the device once the installation has reset it: every part of the hop's backup
// that can be put back, the configuration converted for the new release.
func convertParts(r *run, ctx context.Context, s *store.Step) error {
	h := r.hop(s)
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, s.Plan.Hop)
	if err != nil {
		return records(err)
	}
	parts, err := r.partsOf(ctx, b)
	if err != nil {
		return err
	}
	if s.Plan.Part != "" {
		parts = slices.DeleteFunc(parts, func(p RestorePart) bool { return p.Name != s.Plan.Part })
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	for i := range parts {
		p := &parts[i]
		if p.Kind != backup.Configuration {
			continue
		}
		text, err := r.e.Backups.Read(p.SHA256)
		if err != nil {
			return final("%s cannot be read from our own store: %w", p.Title, err)
		}
		out, note, err := r.e.convert(ctx, b, p.File, string(text), r.path.Model, h.From.String(), h.To.String())
		var open *openError
		if errors.As(err, &open) {
			to := r.path.Model + "@" + h.To.String()
			return &askError{change.Question{Kind: change.AskPerson, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave}, Backup: b.ID, To: to,
				Text: fmt.Sprintf("%s. Nothing was changed. Work it out with: verimorph conversion start -backup %d -to %s; then answer retry", open.Error(), b.ID, to)}, change.StepRunning}
		}
		if err != nil {
			return final("%s cannot be converted: %w", p.Title, err)
		}
		if p.Sealed, err = r.e.Vault.Seal(RestoreLabel(d.Name, p.Name), []byte(out)); err != nil {
			return err
		}
		p.Note = note
	}
	w, err := r.hopWork()
	if err != nil {
		return err
	}
	w.Hops[s.Plan.Hop] = parts
	if w.From == nil {
		w.From = map[int]int64{}
	}
	w.From[s.Plan.Hop] = b.ID
	data, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if err := r.e.Store.SetWork(ctx, r.lease, r.c.ID, data); err != nil {
		return records(err)
	}
	r.c.Work = data
	_, s.Note, err = convertedBefore(r, ctx, s, true)
	return err
}

// partsOf lists the parts of a bundle that a reset device gets back.
func (r *run) partsOf(ctx context.Context, b store.Backup) (out []RestorePart, err error) {
	m, err := r.e.Backups.Manifest(b.Manifest)
	if err != nil {
		return nil, final("backup %d cannot be read: %w", b.ID, err)
	}
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	for _, want := range r.e.Dialects[d.Dialect].Abilities().Parts {
		i := slices.IndexFunc(m.Parts, func(p backup.Part) bool { return p.Name == want.Name })
		if i < 0 {
			return nil, final("backup %d lacks %s, which has to go back", b.ID, want.Title)
		}
		p := m.Parts[i]
		out = append(out, RestorePart{Name: p.Name, Title: p.Title, File: p.File, Kind: p.Kind, Syntax: p.Syntax, SHA256: p.SHA256})
	}
	return out, nil
}

// cleanUp removes files that a person named, never one that this change sends.
func cleanUp(r *run, ctx context.Context, s *store.Step) error {
	p, err := r.portrait(ctx)
	if err != nil {
		return err
	}
	var removed, gone []string
	for _, name := range s.Plan.Names {
		if p.File(name) == nil {
			gone = append(gone, name)
			continue
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
		if p.File(name) == nil {
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

// sent reports whether it was this change that put the file of a step onto the device: the step was begun, or the file travelled ahead.
func (r *run) sent(s *store.Step) bool {
	if s.Attempts > 0 {
		return true
	}
	for i := range r.c.Steps {
		if st := &r.c.Steps[i]; st.Plan.Kind == change.Ahead && st.Plan.Hop == s.Plan.Hop-1 && strings.Contains(st.Outcome+st.Note, aheadMark(r.file(s).Name)) {
			return true
		}
	}
	return false
}

// aheadMark is how the outcome of sending ahead tells a file that it sent.
func aheadMark(name string) string { return name + " is on the device" }

// resets reports whether the hop of a step brings the device back in its factory state.
func (r *run) resets(hop int) bool {
	return hop >= 0 && hop < len(r.path.Hops) && r.path.Hops[hop].Config == catalog.ConfigReset
}
