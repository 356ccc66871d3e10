package planning

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/config"
	"verimorph/core/portrait"
	"verimorph/core/spare"
	"verimorph/store"
)

// Whether anything of what a unit did is still on it.

// WipedSpare looks whether anything of what a unit did is still on it. It has to answer at its place on the bench with its first password, as it does in its factory state.
// same are statements that a unit of that model says in its factory state as well. What is found stays, with an error that names it.
func (s *Planner) WipedSpare(ctx context.Context, by access.Actor, serial, at string, same []string) (string, error) {
	if err := access.May(by, access.Draft); err != nil {
		return "", err
	}
	x, err := s.spareIn(ctx, serial, "proved to be wiped", spare.Arrived, spare.InStock, spare.Prepared)
	if err != nil {
		return "", err
	}
	bench, err := s.Device(ctx, at)
	if err != nil {
		return "", err
	}
	p, err := s.Engine.Refresh(ctx, bench, by)
	if err != nil {
		return "", conflict("%s cannot be looked at now: %s", bench.Name, err)
	}
	if p.Serial != x.Serial {
		return "", conflict("the unit at %s has the serial %s, and %s was meant", bench.Address, p.Serial, x.Serial)
	}
	of := x.Was
	if of == "" {
		of = x.For
	}
	proof, err := (&wipe{s: s, by: by, unit: &x, bench: bench, now: p, same: same}).proof(ctx, of)
	if err != nil {
		return "", err
	}
	return proof, s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "spare wiped", Device: of, Detail: x.Serial + ": " + proof}, tx.WipeSpare(ctx, x.ID, bench.ID, p.Version, p.Licences, proof)
	})
}

// held are the kinds of parts that must be gone. Licences may stay with the unit, and a whole-system archive differs at every look.
var held = []string{backup.Configuration, backup.Users, backup.Certificates, backup.Plan}

// A wipe is such a look in the making.
type wipe struct {
	s     *Planner
	by    access.Actor
	unit  *store.Spare
	bench store.Device
	now   *portrait.Portrait
	same  []string // that such a unit says in its factory state as well
}

// proof compares what a unit holds now with the newest backup of the device that it was, part by part.
func (w *wipe) proof(ctx context.Context, of string) (string, error) {
	if of == "" {
		return "no device is recorded that it was; there is nothing to compare with", nil
	}
	s := w.s
	was, err := s.Device(ctx, of)
	if err != nil {
		return "", err
	}
	b, err := s.backupOfUnit(ctx, was, w.unit)
	if err != nil {
		return "", err
	}
	if b == nil {
		return "", conflict("there is no complete backup of %s, so nobody can say what would have to be gone", of)
	}
	m, err := s.Engine.Backups.Manifest(b.Manifest)
	if err != nil {
		return "", damaged("backup %d cannot be read: %s", b.ID, err)
	}
	var parts []backup.Part
	var names []string
	for _, part := range m.Parts {
		if slices.Contains(held, part.Kind) {
			parts, names = append(parts, part), append(names, part.Name)
		}
	}
	_, now, unread, err := s.Engine.PartsNow(ctx, w.bench, names, w.by)
	if err != nil {
		return "", conflict("%s cannot be read now: %s", w.bench.Name, err)
	}
	blank, err := w.blank(ctx)
	if err != nil {
		return "", err
	}
	var left, checked []string
	for _, part := range parts {
		if unread[part.Name] != "" {
			left = append(left, fmt.Sprintf("%s: what is on it cannot be read (%s)", part.Title, unread[part.Name]))
			continue
		}
		data, err := s.Backups.Read(part.SHA256)
		if err != nil {
			return "", damaged("backup %d cannot be read: %s", b.ID, err)
		}
		there, err := w.left(ctx, b, &part, string(data), string(now[part.Name]), blank)
		if err != nil {
			return "", err
		}
		left, checked = append(left, there...), append(checked, part.Title)
	}
	switch {
	case len(left) > 0:
		return "", conflict("the unit is not wiped: of %s there is still %s. Bring it to its factory state; where such a unit says the same in that state, name it (-same)",
			of, strings.Join(firstOf(left, 8), "; "))
	case len(checked) == 0:
		return "", conflict("backup %d of %s has no part that could be looked for, so nobody can say whether the unit is wiped; retire it, or look by hand", b.ID, of)
	}
	return fmt.Sprintf("nothing of backup %d of %s is on it any more: %s", b.ID, of, strings.Join(checked, ", ")), nil
}

// backupOfUnit is the newest complete backup of a device from when it was the unit; nil: there is none.
func (s *Planner) backupOfUnit(ctx context.Context, d store.Device, x *store.Spare) (*store.Backup, error) {
	all, err := s.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 200})
	if err != nil {
		return nil, err
	}
	for i := range all {
		b := &all[i]
		if !b.Complete || b.File == "" {
			continue
		}
		m, err := s.Engine.Backups.Manifest(b.Manifest)
		if err == nil && (m.Serial == x.Serial || x.Was == "") { // of a unit that never was in service: what it was given
			return b, nil
		}
	}
	return nil, nil
}

// left lists what of a part is still there. Of a configuration that is each statement; anything else is there as a whole or not. Secrets are not shown.
func (w *wipe) left(ctx context.Context, b *store.Backup, part *backup.Part, was, now string, blank map[string]bool) (out []string, err error) {
	if part.Kind != backup.Configuration {
		if text := strings.TrimSpace(was); text != "" && text == strings.TrimSpace(now) {
			out = append(out, part.Title+", all of it")
		}
		return out, nil
	}
	there, err := w.statements(ctx, w.now.Model, w.now.Version, part.File, now)
	if err != nil {
		return nil, err
	}
	old, err := w.statements(ctx, b.Model, b.Version, part.File, was)
	if err != nil {
		return nil, err
	}
	for text, shown := range old {
		if _, still := there[text]; still && !blank[text] && !slices.Contains(w.same, shown) {
			out = append(out, part.Title+": "+shown)
		}
	}
	slices.Sort(out)
	return out, nil
}

// statements are those of a configuration that say something, each with the blocks around it, and how it is shown.
func (w *wipe) statements(ctx context.Context, model, release, file, text string) (map[string]string, error) {
	lib, err := w.s.Engine.Library(ctx)
	if err != nil {
		return nil, err
	}
	schema := config.Simple(config.Guess(file, text), nil, nil)
	if stop, err := lib.ParseStop(model + "@" + release); err == nil {
		if known := lib.Schema(stop); known != nil && known.ID != "" {
			schema = known
		}
	}
	doc, bad := schema.Parse(file, text)
	if len(bad) > 0 {
		return nil, conflict("%d lines of %s of %s@%s are not understood, so nobody can say whether it is wiped; the first: %s", len(bad), file, model, release, bad[0])
	}
	out := map[string]string{}
	doc.Root.Walk(func(n *config.Node) {
		if n.Parent == nil || len(n.Children) > 0 {
			return
		}
		var path, shown []string
		for x := n; x != nil && x.Parent != nil; x = x.Parent {
			path, shown = append(path, strings.TrimSpace(x.Text())), append(shown, said(schema, x))
		}
		slices.Reverse(path)
		slices.Reverse(shown)
		out[strings.Join(path, " / ")] = strings.Join(shown, " / ")
	})
	return out, nil
}

// said is a statement as it is shown: without its secret.
func said(s *config.Schema, n *config.Node) string {
	if s.IsSecret(n) {
		return n.Name + " ***"
	}
	return strings.TrimSpace(n.Text())
}

// blank are the statements that units of the model said before they were prepared for the first time: what they were backed up with then.
func (w *wipe) blank(ctx context.Context) (map[string]bool, error) {
	all, err := w.s.Store.Spares(ctx, true)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for i := range all {
		x := &all[i]
		if x.Prepare == nil || x.BenchID == nil || x.Model != w.unit.Model || x.Serial == w.unit.Serial {
			continue
		}
		bs, err := w.s.Store.BackupsOf(ctx, *x.Prepare, *x.BenchID)
		if err != nil {
			return nil, err
		}
		if len(bs) == 0 || bs[0].File == "" {
			continue
		}
		text, err := w.s.Engine.Main(bs[0])
		if err != nil {
			continue // it only helps
		}
		said, err := w.statements(ctx, bs[0].Model, bs[0].Version, bs[0].File, text)
		if err != nil {
			continue
		}
		for text := range said {
			out[text] = true
		}
	}
	return out, nil
}

func firstOf(list []string, n int) []string {
	if len(list) <= n {
		return list
	}
	return append(slices.Clone(list[:n]), fmt.Sprintf("%d more", len(list)-n))
}
