package cli

import (
	"maps"
	"slices"

	"verimorph/core/backup"
)

// A Coverage is one thing that a dialect can have, and what follows where it has it not.
type Coverage struct {
	Kind    string `json:"kind"` // verb, field, table, part or reading
	Name    string `json:"name"`
	Has     bool   `json:"has"`
	Without string `json:"without"`      // what follows when it is missing
	By      string `json:"by,omitempty"` // the protocol that it goes by; "" is the command line
}

// covered are the verbs, fields and tables that matter, with what follows without each.
var covered = []Coverage{
	{Kind: "verb", Name: "checksum", Without: "firmware cannot be changed: nothing proves that an image arrived undamaged"},
	{Kind: "verb", Name: "install", Without: "firmware cannot be changed, except where images are started as they lie on the device"},
	{Kind: "verb", Name: "choose-slot", Without: "where there are slots, firmware cannot be changed"},
	{Kind: "verb", Name: "restart", Without: "where there are slots, firmware cannot be changed; restarts are done by hand"},
	{Kind: "verb", Name: "remove-file", Without: "where there are slots, firmware cannot be changed; damaged images are not removed"},
	{Kind: "verb", Name: "choose-slot-once", Without: "a new installation is not tried for one start before it is kept"},
	{Kind: "verb", Name: "clone", Without: "the running installation is not copied before it is changed"},
	{Kind: "verb", Name: "rename-slot", Without: "copies of installations keep their names"},
	{Kind: "verb", Name: "remove-slot", Without: "copies of installations are deleted by hand"},
	{Kind: "verb", Name: "unpack", Without: "images that have to be unpacked cannot be installed"},
	{Kind: "verb", Name: "fetch-image", Without: "the device fetches no images; they are pushed"},
	{Kind: "verb", Name: "save", Without: "the running configuration is not saved before a restart"},
	{Kind: "verb", Name: "try-configuration", Without: "the device does not read a converted configuration before it is used"},
	{Kind: "verb", Name: "take-over", Without: "of a pair or cluster nobody becomes the active one at a command"},
	{Kind: "verb", Name: "spread", Without: "what is installed on a stack is not brought onto its other units; it is only waited until they have it"},
	{Kind: "verb", Name: "restart-unit", Without: "the units of a stack or chassis start anew together, never one after the other"},
	{Kind: "verb", Name: "hand-over", Without: "the units of a stack or chassis start anew together, never one after the other"},
	{Kind: "verb", Name: "bring-along", Without: "a unit that missed an update is brought to the release of the others by hand"},
	{Kind: "verb", Name: "clean-unit", Without: "files on a unit are removed by hand"},
	{Kind: "verb", Name: "update-unit", Without: "firmware beside the main image is updated on all units at once"},
	{Kind: "verb", Name: "preload", Without: "boxes that follow the device fetch their image only when they start anew"},
	{Kind: "verb", Name: "restart-child", Without: "boxes that follow the device start anew by themselves, all at once"},
	{Kind: "verb", Name: "authorise", Without: "new boxes are let join by hand"},
	{Kind: "verb", Name: "drain-child", Without: "boxes that follow the device are not taken out of service before they start anew"},
	{Kind: "verb", Name: "group-child", Without: "the group of a box that follows the device is set by hand"},
	{Kind: "verb", Name: "release-child", Without: "a box that follows the device is made stand-alone by hand"},
	{Kind: "verb", Name: "become-managed", Without: "the device is brought under a controller by hand"},
	{Kind: "verb", Name: "set-password", Without: "the first password of a new device is replaced by hand"},
	{Kind: "verb", Name: "write-medium", Without: "the device writes no medium with its own state; one is made from files"},
	{Kind: "verb", Name: "read-medium", Without: "a medium that the device wrote is not read back, so it writes none"},
	{Kind: "verb", Name: "drain", Without: "the device is not taken out of service before a restart"},
	{Kind: "verb", Name: "update-component", Without: "firmware beside the main image is updated by hand"},
	{Kind: "verb", Name: "power-cycle", Without: "the power of a part is switched by hand"},
	{Kind: "verb", Name: "add-licence", Without: "licences are given by hand"},
	{Kind: "field", Name: "model", Without: "no path can be planned"},
	{Kind: "field", Name: "version", Without: "no path can be planned, and no upgrade is ever proven"},
	{Kind: "field", Name: "serial", Without: "whether it is the same unit is not known before it is written to"},
	{Kind: "field", Name: "started", Without: "whether the device was started anew is told only by its uptime"},
	{Kind: "field", Name: "uptime", Without: "whether the device was started anew may not be known"},
	{Kind: "field", Name: "services", Without: "whether its services are ready is not known"},
	{Kind: "field", Name: "unsaved", Without: "whether its configuration is saved is not known: a warning before each change"},
	{Kind: "field", Name: "free", Without: "whether an image has room is not known"},
	{Kind: "table", Name: "files", Without: "whether an image lies on the device with its full size is not known, so none can be sent"},
	{Kind: "table", Name: "slots", Without: "where there are slots, nothing is known of the other installation, and there is no way back to it"},
	{Kind: "table", Name: "components", Without: "the versions of components are not known"},
	{Kind: "table", Name: "parts", Without: "the health of fans, supplies and cards is not known"},
	{Kind: "table", Name: "variables", Without: "boot variables are not checked"},
	{Kind: "table", Name: "units", Without: "a stack or chassis counts as one box: its units are neither looked at nor waited for"},
	{Kind: "table", Name: "children", Without: "boxes that follow the device are neither looked at nor waited for"},
	{Kind: "table", Name: "licences", Without: "whether the licences for a release are there is not known"},
}

// goes is the protocol that a verb goes by; "" is the command line, or that there is none.
func (d *Dialect) goes(verb string) string {
	if q := d.Verbs[verb]; q.byProtocol() {
		return q.By
	}
	return ""
}

// Coverage lists what a dialect has, and what follows from what it lacks.
func (d *Dialect) Coverage() []Coverage {
	var fields, tables []string
	for _, q := range d.Portrait {
		fields = append(fields, groupsOf(q.Fields)...)
		if q.Table != nil && q.Rows == "" {
			fields = slices.AppendSeq(fields, maps.Keys(q.Table.Columns))
		}
		if q.Rows != "" {
			tables = append(tables, q.Rows)
		}
	}
	out := slices.Clone(covered)
	for i := range out {
		switch c := &out[i]; c.Kind {
		case "verb":
			c.Has, c.By = d.Verbs[c.Name].given(), d.goes(c.Name)
		case "field":
			c.Has = slices.Contains(fields, c.Name)
		case "table":
			c.Has = slices.Contains(tables, c.Name)
		}
	}
	has := func(restored bool) bool {
		return slices.ContainsFunc(d.Backup, func(p PartSource) bool {
			return p.Kind == backup.Configuration && (!restored || p.Restore != nil)
		})
	}
	if d.Medium == "" {
		by := d.Files.By
		if by == "" {
			by = bySftp
		}
		out = append(out, Coverage{Kind: "verb", Name: "send", Has: true, By: by, Without: "images are carried in by a person"})
	}
	return append(out,
		Coverage{Kind: "part", Name: "configuration", Has: has(false), Without: "there is no backup, and no change of firmware begins without one"},
		Coverage{Kind: "part", Name: "configuration, put back", Has: has(true), Without: "backups are not put back, and after a reset the configuration is entered by hand"},
		Coverage{Kind: "reading", Name: "any", Has: len(d.Readings) > 0, Without: "a verdict rests on version and portrait alone"})
}
