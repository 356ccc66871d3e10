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
	from, to := p.Model+"@"+b.Version, p.ModelAt(hop+1)+"@"+p.Hops[hop].To.String()
	return notCarried(lib, from, to, b.ID, b.File, func() (string, error) { return s.Engine.Main(b) }), nil
}

// notCarried lists what of the configuration in a backup has no way from one MODEL@VERSION to another; none where it converts, since what of it needs a person is told by the
// conversion. What cannot be looked at is told as lost, never left out.
func notCarried(lib *convert.Library, from, to string, backup int64, file string, read func() (string, error)) []string {
	unknown := func(err error) []string {
		return []string{fmt.Sprintf("the configuration; what of backup %d could be carried over is not known: %s", backup, err)}
	}
	at, bad := lib.ParseStop(from)
	aim, worse := lib.ParseStop(to)
	if err := errors.Join(bad, worse); err != nil {
		return unknown(err)
	}
	var noWay *convert.TooOldError
	switch _, err := lib.Plan(at, aim, false); {
	case err == nil:
		return nil
	case !errors.As(err, &noWay): // nobody described the one or the other
		return unknown(err)
	}
	text, err := read()
	if err != nil {
		return unknown(err)
	}
	doc, wrong := lib.Schema(at).Parse(file, text)
	if len(wrong) > 0 {
		return unknown(fmt.Errorf("%d lines are not understood, the first: %s", len(wrong), wrong[0]))
	}
	r, err := lib.Convert(convert.Job{From: at, To: aim, ByHand: true}, doc)
	if err != nil {
		return unknown(err)
	}
	how := fmt.Sprintf("verimorph conversion start -backup %d -to %s -by-hand", backup, aim)
	return append([]string{fmt.Sprintf("the configuration: it does not convert from %s to %s. Prepare what is carried over by hand with: %s", at, aim, how)}, bySection(r.Ledger)...)
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
