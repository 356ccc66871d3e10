package planning

import (
	"bytes"
	"context"
	"strings"

	"verimorph/core/backup"
	"verimorph/store"
)

// cableLabels are the labels of the cables of a device, by its newest backup, and its ports in the order of the plan: a plan has lines of a port, a tab and where its cable
// goes. A plan only helps: where there is none, or none that can be read, there are no labels.
func (s *Planner) cableLabels(ctx context.Context, d store.Device) (labels map[string]string, ports []string) {
	labels = map[string]string{}
	all, err := s.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 1})
	if err != nil || len(all) == 0 {
		return labels, nil
	}
	m, err := s.Engine.Backups.Manifest(all[0].Manifest)
	if err != nil {
		return labels, nil
	}
	for _, p := range m.Parts {
		if p.Kind != backup.Plan {
			continue
		}
		data, err := s.Backups.Read(p.SHA256)
		if err != nil {
			return labels, ports
		}
		for line := range strings.Lines(string(bytes.TrimSpace(data))) {
			if port, where, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
				labels[port] = where
				ports = append(ports, port)
			}
		}
	}
	return labels, ports
}
