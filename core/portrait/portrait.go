// Package portrait holds what a device is right now, as far as it is known: what it runs, what it has room for, which
// parts it has and which of its catalogue's conditions its configuration fulfils. A portrait comes from the device
// itself or from a file somebody typed (docs/formats/portrait.md), so that work can be planned on paper.
//
// Everything but the model and the version may be unknown. Unknown is not the same as absent: what depends on an unknown
// fact is reported as unknown.
package portrait

import (
	"fmt"
	"maps"
	"slices"

	"verimorph/core/yamldoc"
)

// Format is the first line's value in every portrait file of this generation.
const Format = "verimorph-portrait/1"

// A Portrait is one device, or one member of an ensemble. Its JSON is how it is stored; the file that somebody types has the part of it that
// paths depend on.
type Portrait struct {
	Name       string `json:"name,omitempty"`
	Maker      string `json:"maker,omitempty"`
	Model      string `json:"model"`
	Serial     string `json:"serial,omitempty"`
	Version    string `json:"version"`
	Generation string `json:"generation,omitempty"` // hardware generation
	Platform   string `json:"platform,omitempty"`
	FileSystem string `json:"file_system,omitempty"`
	Memory     int64  `json:"memory,omitempty"` // bytes; 0: unknown

	UptimeSeconds int64  `json:"uptime_seconds,omitempty"`
	Started       string `json:"started,omitempty"`        // what the device says about its last start; another one after each restart
	ServicesReady Fact   `json:"services_ready,omitempty"` //
	Unsaved       Fact   `json:"unsaved,omitempty"`        // running differs from saved configuration
	Work          string `json:"work,omitempty"`           // running work that a restart would end, in its own words
	OutOfService  Fact   `json:"out_of_service,omitempty"` // it takes no new work
	Drained       Fact   `json:"drained,omitempty"`

	Role string `json:"role,omitempty"` // of a member of an ensemble: active, standby, leader or follower; "" where the device does not say
	Mate string `json:"mate,omitempty"` // serial of the other one of a pair
	// Ensemble is the name under which the members of a cluster know each other; "" where the device does not say.
	Ensemble string `json:"ensemble,omitempty"`
	Sync     string `json:"sync,omitempty"`    // how far it mirrors the active one, in the device's own words
	InSync   Fact   `json:"in_sync,omitempty"` // it could take over

	Storage       map[string]Room   `json:"storage,omitempty"` // by name; see ImageRoom
	Files         []File            `json:"files,omitempty"`
	Slots         []Slot            `json:"slots,omitempty"`
	Components    map[string]string `json:"components,omitempty"`     // version by component
	Modules       []Module          `json:"modules,omitempty"`        // fans, disks, line cards ...
	Licences      []string          `json:"licences,omitzero"`        // nil: unknown; empty: none
	Given         []string          `json:"-"`                        // licences that it is given before anything else is done
	BootVariables map[string]string `json:"boot_variables,omitempty"` // "" is clear
	Uses          map[string]bool   `json:"uses,omitempty"`           // condition of the catalogue: whether the configuration fulfils it

	// Follows is the device that this one came under and is managed by: it has no command line of its own then, and what is known of it is that one's word.
	Follows  string     `json:"follows,omitempty"`
	Members  []Portrait `json:"members,omitempty"`  // of an ensemble; then model and version are left out
	Children []Child    `json:"children,omitempty"` // boxes that follow this one
	Seats    int        `json:"seats,omitempty"`    // how many may follow it, by its licences; 0: it does not say
	Units    []Unit     `json:"units,omitempty"`    // parts of the device that run firmware of their own

	// NotUnderstood holds, by table, a line of the device's answer that its driver does not know. What such a table does not show may be
	// there all the same.
	NotUnderstood map[string]string `json:"not_understood,omitempty"`
}

// Serves reports whether it says that it is the member of its ensemble that serves, or leads.
func (p *Portrait) Serves() bool { return p.Role == "active" || p.Role == "leader" }

// Room is one storage, in bytes.
type Room struct {
	Total    int64 `json:"total,omitempty"`
	Free     int64 `json:"free"`
	NoImages bool  `json:"no_images,omitempty"` // it does not take images
}

// A Slot is a place that holds a bootable installation.
type Slot struct {
	Name    string `json:"name"`
	Version string `json:"version,omitempty"` // "": empty
	Running bool   `json:"running,omitempty"`
	State   string `json:"state,omitempty"`   // in the device's own words
	Next    Fact   `json:"next,omitempty"`    // of the next start
	Second  Fact   `json:"second,omitempty"`  // is started when the next one cannot be
	Good    Fact   `json:"good,omitempty"`    // can be started from
	Busy    Fact   `json:"busy,omitempty"`    // being written
	Percent int    `json:"percent,omitempty"` // how far, when busy; below 0 when it does not say
	Written string `json:"written,omitempty"` // when, or for which time, in the device's own words; "" when it does not say

	Description string `json:"description,omitempty"` // that the device keeps of it
	Size        int64  `json:"size,omitempty"`        // bytes; 0: not known
}

// Broken reports whether the device says of a slot that holds something that it cannot be started from.
func (s *Slot) Broken() bool { return s.Version != "" && s.Good == No && s.Busy != Yes }

// A File lies on the device's storage.
type File struct {
	Name string `json:"name"`
	Size int64  `json:"size"` // bytes
}

// A Module is a part of the device with its state in the device's own words: a fan, a disk, a line card.
type Module struct {
	Name  string `json:"name"`
	State string `json:"state,omitempty"`
	Good  Fact   `json:"good,omitempty"`
}

// A Child is a box that follows this one, such as an access point its controller; in a file that somebody typed it is a number of them of one model.
type Child struct {
	Model   string `json:"model"`
	Version string `json:"version,omitempty"` // "": that of the device
	Count   int    `json:"count,omitempty"`

	// What the device tells of each.
	Name    string `json:"name,omitempty"`
	Serial  string `json:"serial,omitempty"`
	Next    string `json:"next,omitempty"`    // that it has fetched for its next start
	Place   string `json:"place,omitempty"`   // those of one place stand in for each other
	Group   string `json:"group,omitempty"`   // whose settings it has; "" where the device does not say
	State   string `json:"state,omitempty"`   // in the device's own words
	Good    Fact   `json:"good,omitempty"`    // it is joined and does its work
	Passing Fact   `json:"passing,omitempty"` // its state passes by itself
	Waiting Fact   `json:"waiting,omitempty"` // it waits to be authorised
	Drained Fact   `json:"drained,omitempty"` // it serves nobody
}

// Text is a child in a few words.
func (c *Child) Text() string {
	text := c.Name
	if c.Version != "" {
		text += " runs " + c.Version
	}
	if c.State != "" {
		text += fmt.Sprintf(" and is %q", c.State)
	}
	return text
}

// Child returns the child of that name, or nil.
func (p *Portrait) Child(name string) *Child {
	if i := slices.IndexFunc(p.Children, func(c Child) bool { return c.Name == name }); i >= 0 {
		return &p.Children[i]
	}
	return nil
}

// ChildBySerial returns the child with that serial, or nil.
func (p *Portrait) ChildBySerial(serial string) *Child {
	if i := slices.IndexFunc(p.Children, func(c Child) bool { return serial != "" && c.Serial == serial }); i >= 0 {
		return &p.Children[i]
	}
	return nil
}

// ImageRoom is the storage that takes images, and whether it is known: the first in alphabetical order of those that may.
func (p *Portrait) ImageRoom() (name string, room Room, known bool) {
	for _, name := range slices.Sorted(maps.Keys(p.Storage)) {
		if r := p.Storage[name]; !r.NoImages {
			return name, r, true
		}
	}
	return "", Room{}, false
}

// imageStorage is how the storage for images is called where the device gives it no name.
const imageStorage = "flash"

// SetImageRoom says how much room the storage for images has, in bytes, where the device gives it no name.
func (p *Portrait) SetImageRoom(total, free int64) {
	p.store(imageStorage, Room{Total: total, Free: free})
}

// AddStorage adds a storage that takes no images, in bytes.
func (p *Portrait) AddStorage(name string, total, free int64) {
	if r, taken := p.Storage[name]; taken && !r.NoImages { // the device's own name counts
		p.store("image storage", r)
	}
	p.store(name, Room{Total: total, Free: free, NoImages: true})
}

func (p *Portrait) store(name string, r Room) {
	if p.Storage == nil {
		p.Storage = map[string]Room{}
	}
	p.Storage[name] = r
}

// RunningSlot returns the slot the device runs from, or nil.
func (p *Portrait) RunningSlot() *Slot { return p.slot(func(s Slot) bool { return s.Running }) }

// IdleSlot returns the first slot that is not running, or nil.
func (p *Portrait) IdleSlot() *Slot { return p.slot(func(s Slot) bool { return !s.Running }) }

// Slot returns the slot of that name, or nil.
func (p *Portrait) Slot(name string) *Slot {
	return p.slot(func(s Slot) bool { return s.Name == name })
}

func (p *Portrait) slot(is func(Slot) bool) *Slot {
	if i := slices.IndexFunc(p.Slots, is); i >= 0 {
		return &p.Slots[i]
	}
	return nil
}

// File returns the file with that name, or nil.
func (p *Portrait) File(name string) *File {
	if i := slices.IndexFunc(p.Files, func(f File) bool { return f.Name == name }); i >= 0 {
		return &p.Files[i]
	}
	return nil
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
