// Package portrait holds what a device is right now, as far as it is known: what it runs, what it has room for, which
// parts it has and which of its catalogue's conditions its configuration fulfils. A portrait comes from the device
// itself or from a file somebody typed (docs/formats/portrait.md), so that work can be planned on paper.
//
// Everything but the model and the version may be unknown. Unknown is not the same as absent: what depends on an unknown
// fact is reported as unknown.
package portrait

import (
	"maps"
	"slices"

	"verimorph/core/yamldoc"
)

// Format is the first line's value in every portrait file of this generation.
const Format = "verimorph-portrait/1"

// A Portrait is one device, or one member of an ensemble.
type Portrait struct {
	Name          string            `json:"name,omitempty"`
	Model         string            `json:"model"`
	Version       string            `json:"version"`
	Generation    string            `json:"generation,omitempty"` // hardware generation
	Platform      string            `json:"platform,omitempty"`
	FileSystem    string            `json:"file_system,omitempty"`
	Memory        int64             `json:"memory,omitempty"`         // bytes; 0: unknown
	Storage       map[string]Room   `json:"storage,omitempty"`        // by name; the first in alphabetical order takes images
	Slots         []Slot            `json:"slots,omitempty"`          //
	Components    map[string]string `json:"components,omitempty"`     // version by component
	Licences      []string          `json:"licences,omitempty"`       // nil: unknown; empty: none
	Given         []string          `json:"-"`                        // licences that it is given before anything else is done
	BootVariables map[string]string `json:"boot_variables,omitempty"` // "" is clear
	Uses          map[string]bool   `json:"uses,omitempty"`           // condition of the catalogue: whether the configuration fulfils it
	Members       []Portrait        `json:"members,omitempty"`        // of an ensemble; then model and version are left out
	Children      []Child           `json:"children,omitempty"`       // boxes that follow this one
}

// Room is one storage, in bytes.
type Room struct {
	Total int64 `json:"total,omitempty"`
	Free  int64 `json:"free"`
}

// A Slot is a place that holds a bootable installation.
type Slot struct {
	Name    string `json:"name"`
	Version string `json:"version,omitempty"` // "": empty
	Running bool   `json:"running,omitempty"`
}

// A Child is a number of boxes of one model that follow this one.
type Child struct {
	Model   string `json:"model"`
	Version string `json:"version,omitempty"` // "": that of the device
	Count   int    `json:"count,omitempty"`
}

// ImageRoom is the free room for images and whether it is known.
func (p *Portrait) ImageRoom() (name string, room Room, known bool) {
	for _, name := range slices.Sorted(maps.Keys(p.Storage)) {
		return name, p.Storage[name], true
	}
	return "", Room{}, false
}

// Read reads a portrait file, YAML or JSON.
func Read(file string, data []byte) (*Portrait, yamldoc.Findings) {
	root, broken := yamldoc.Parse(file, data, "begin with: format: "+Format)
	if broken != nil {
		return nil, yamldoc.Findings{*broken}
	}
	r := &reader{yamldoc.Reader{File: file}}
	p := r.portrait(root, true)
	if len(r.Found) > 0 {
		return nil, r.Found
	}
	return &p, nil
}

type reader struct{ yamldoc.Reader }

func (r *reader) portrait(n *yamldoc.Node, top bool) (p Portrait) {
	known := map[string]yamldoc.Read{
		"name": r.Text(&p.Name), "model": r.Text(&p.Model), "version": r.Text(&p.Version), "generation": r.Text(&p.Generation),
		"platform": r.Text(&p.Platform), "file_system": r.Text(&p.FileSystem), "memory": r.Bytes(&p.Memory),
		"storage": func(n *yamldoc.Node) {
			p.Storage = map[string]Room{}
			r.Names(n, "storage", func(k, v *yamldoc.Node) {
				var room Room
				r.Fields(v, "a storage", []string{"free"}, map[string]yamldoc.Read{"total": r.Bytes(&room.Total), "free": r.free(&room.Free)})
				p.Storage[k.Value] = room
			})
		},
		"slots": func(n *yamldoc.Node) {
			r.Items(n, "slots", func(n *yamldoc.Node) {
				var s Slot
				r.Fields(n, "a slot", []string{"name"}, map[string]yamldoc.Read{"name": r.Text(&s.Name), "version": r.Text(&s.Version), "running": r.Bool(&s.Running)})
				p.Slots = append(p.Slots, s)
			})
		},
		"components": func(n *yamldoc.Node) { p.Components = r.words(n, "components") },
		"licences": func(n *yamldoc.Node) {
			p.Licences = []string{}
			r.Texts(&p.Licences)(n)
		},
		"boot_variables": func(n *yamldoc.Node) { p.BootVariables = r.words(n, "boot_variables") },
		"uses": func(n *yamldoc.Node) {
			p.Uses = map[string]bool{}
			r.Names(n, "uses", func(k, v *yamldoc.Node) {
				var b bool
				r.Bool(&b)(v)
				p.Uses[k.Value] = b
			})
		},
		"children": func(n *yamldoc.Node) {
			r.Items(n, "children", func(n *yamldoc.Node) {
				c := Child{Count: 1}
				r.Fields(n, "a child", []string{"model"}, map[string]yamldoc.Read{"model": r.Text(&c.Model), "version": r.Text(&c.Version), "count": r.Count(&c.Count, 1, 1_000_000)})
				p.Children = append(p.Children, c)
			})
		},
	}
	if !top {
		r.Fields(n, "a member", []string{"name", "model", "version"}, known)
		return p
	}
	known["format"] = func(n *yamldoc.Node) {
		if n.Value != Format {
			r.Fail(n, "write "+Format, "format %q is not known", n.Value)
		}
	}
	known["members"] = func(n *yamldoc.Node) {
		r.Items(n, "members", func(n *yamldoc.Node) { p.Members = append(p.Members, r.portrait(n, false)) })
	}
	r.Fields(n, "a portrait", []string{"format"}, known)
	return p
}

// free reads a size that may be 0.
func (r *reader) free(into *int64) yamldoc.Read {
	return func(n *yamldoc.Node) {
		if n.Value == "0" {
			*into = 0
			return
		}
		r.Bytes(into)(n)
	}
}

func (r *reader) words(n *yamldoc.Node, what string) map[string]string {
	out := map[string]string{}
	r.Names(n, what, func(k, v *yamldoc.Node) {
		if v.Value == "" { // a variable that is clear
			out[k.Value] = ""
			return
		}
		var s string
		r.Text(&s)(v)
		out[k.Value] = s
	})
	return out
}
