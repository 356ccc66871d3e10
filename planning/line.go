package planning

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/store"
)

// A hop may lead to another line of firmware, which does not read the configuration and to which it does not convert. What goes lost is listed, from the newest
// backup; what is certain is prepared for hands.

// listLost adds to the hops that reset the configuration what does not come along by itself.
func (s *Planner) listLost(ctx context.Context, d store.Device, p *path.Path) error {
	i := slices.IndexFunc(p.Hops, func(h path.Hop) bool { return h.Config == catalog.ConfigReset })
	if i < 0 || s.Engine.Library == nil {
		return nil
	}
	bs, err := s.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 20})
	if err != nil {
		return err
	}
	k := slices.IndexFunc(bs, func(b store.Backup) bool {
		return b.Complete && b.File != "" && b.Version == p.From.String() && (b.Model == "" || b.Model == p.Model)
	})
	h := &p.Hops[i]
	if k < 0 {
		h.Lost = append(h.Lost, fmt.Sprintf("the configuration; there is no complete backup taken under %s, so nobody can say what of it could be carried over", p.From))
		return nil
	}
	lost, err := s.lostBy(ctx, bs[k], p, i)
	h.Lost = append(h.Lost, lost...)
	return err
}

// lostBy lists what of a backup does not come along over a hop, section by section.
func (s *Planner) lostBy(ctx context.Context, b store.Backup, p *path.Path, hop int) ([]string, error) {
	lib, err := s.Engine.Library(ctx)
	if err != nil {
		return nil, err
	}
	from, bad := lib.ParseStop(p.Model + "@" + b.Version)
	to, worse := lib.ParseStop(p.ModelAt(hop+1) + "@" + p.Hops[hop].To.String())
	if err := errors.Join(bad, worse); err != nil {
		return []string{fmt.Sprintf("the configuration, as far as anybody can say: %s", err)}, nil
	}
	text, err := s.Engine.Main(b)
	if err != nil {
		return []string{fmt.Sprintf("the configuration; backup %d cannot be read: %s", b.ID, err)}, nil
	}
	doc, wrong := lib.Schema(from).Parse(b.File, text)
	if len(wrong) > 0 {
		return []string{fmt.Sprintf("the configuration; %d lines of backup %d are not understood, the first: %s", len(wrong), b.ID, wrong[0])}, nil
	}
	_, err = lib.Plan(from, to, false)
	var noWay *convert.TooOldError
	if !errors.As(err, &noWay) {
		return nil, err // it converts: what of it needs a person is told by the conversion
	}
	r, err := lib.Convert(convert.Job{From: from, To: to, ByHand: true}, doc)
	if err != nil {
		return []string{fmt.Sprintf("the configuration: %s", err)}, nil
	}
	return append([]string{fmt.Sprintf("the configuration: it does not convert from %s to %s. Prepare what is carried over by hand with: verimorph conversion start -backup %d -to %s -by-hand", from, to, b.ID, to)},
		bySection(r.Ledger)...), nil
}

// bySection counts the statements of a ledger by their sections: those that are alike on both sides, and those that are not.
func bySection(l *convert.Ledger) (out []string) {
	var names []string
	alike, lost := map[string]int{}, map[string]int{}
	for _, row := range l.Source {
		name := row.Section
		if name == "" {
			name, _, _ = strings.Cut(row.Path, " / ")
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
		switch row.State {
		case convert.NeedsPerson, convert.Dropped:
			lost[name]++
		default:
			alike[name]++
		}
	}
	for _, name := range names {
		if lost[name] == 0 {
			out = append(out, fmt.Sprintf("configuration, %s: %d statements, all alike on both sides; they are prepared", name, alike[name]))
		} else {
			out = append(out, fmt.Sprintf("configuration, %s: %d of %d statements have no place there that is certain", name, lost[name], lost[name]+alike[name]))
		}
	}
	return out
}
