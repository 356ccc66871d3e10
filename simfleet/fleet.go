// Package simfleet runs the simulated devices that ship with the project: real servers on loopback addresses, state on disk, accelerated time, and
// faults that can be set in a file and at run time.
//
// [Load] reads a fleet file (docs/formats/simfleet.md), [Fleet.Start] runs it, [Fleet.Handler] is its control over HTTP. Package box holds what all boxes
// share; each maker has a package.
package simfleet

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"verimorph/core/catalog"
	"verimorph/simfleet/box"
	"verimorph/simfleet/brackmoor"
	"verimorph/simfleet/calderpath"
	"verimorph/simfleet/fernhollow"
	"verimorph/simfleet/gullwire"
	"verimorph/simfleet/licences"
	"verimorph/simfleet/ostrevin"
	"verimorph/simfleet/pellworth"
	"verimorph/simfleet/releasesite"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/strandline"
	"verimorph/simfleet/tarnholm"
)

// Format is the format line of a fleet file (docs/formats/simfleet.md).
const Format = "verimorph-simfleet/1"

// A File describes a fleet.
type File struct {
	Format  string   `yaml:"format"`
	Devices []Device `yaml:"devices"`
	// Licences are how many the simulated licence service has of each name.
	Licences map[string]int `yaml:"licences,omitempty"`
}

// A Device is one simulated box.
type Device struct {
	Name     string               `yaml:"name"`
	Maker    string               `yaml:"maker"`
	Model    string               `yaml:"model"`
	Serial   string               `yaml:"serial"`
	Address  string               `yaml:"address"`
	User     string               `yaml:"user"`
	Password string               `yaml:"password"` // drawn at random when left out
	Watch    string               `yaml:"watchword"`
	Version  string               `yaml:"version"`
	Idle     string               `yaml:"idle"`
	Flash    int64                `yaml:"flash"`
	Files    map[string]int64     `yaml:"files"`
	Config   string               `yaml:"config"` // file name, relative to the fleet file
	Sessions int                  `yaml:"sessions"`
	Line     string               `yaml:"line,omitempty"`      // host:port of its console line
	LineOnly bool                 `yaml:"line-only,omitempty"` // it has no other side
	Faults   map[string]box.Fault `yaml:"faults"`
	Mate     string               `yaml:"mate,omitempty"`    // the box that stands by for it
	Cluster  string               `yaml:"cluster,omitempty"` // that it belongs to; the first one of a name leads
	Units    []shellbox.UnitSpec  `yaml:"units,omitempty"`   // beside the first one: of a stack or a chassis
	// Followers are boxes that follow it; said of the first one of a pair or cluster.
	Followers []Followers `yaml:"followers,omitempty"`
	Blank     bool        `yaml:"blank,omitempty"`    // as it comes out of its crate
	Replaces  string      `yaml:"replaces,omitempty"` // the box whose cables go to it once that one is unplugged
	Calls     string      `yaml:"calls,omitempty"`    // URL of the bootstrap server that a blank one asks what it is to become
	Seats     int         `yaml:"seats,omitempty"`    // how many may follow it
	Through   string      `yaml:"through,omitempty"`  // host:port behind its pair or cluster; said of the first box
	Memory    int64       `yaml:"memory,omitempty"`   // bytes of a virtual one; 4 GiB when left out
	Licences  []string    `yaml:"licences,omitempty"` // classes that it has
	// The installation in the other slot has passwords of its own, which apply when it runs.
	OlderPasswords bool `yaml:"older-passwords"`
}

// Followers are a number of boxes of one model that follow a device, one place after the other.
type Followers struct {
	Name   string   `yaml:"name"` // they are called NAME1, NAME2 ...
	Model  string   `yaml:"model"`
	Serial string   `yaml:"serial"` // how their serials begin
	Count  int      `yaml:"count"`
	Places []string `yaml:"places"`
	New    bool     `yaml:"new,omitempty"` // they wait to be let join
}

// followers are those of a device, one by one.
func (d *Device) followers() (out []shellbox.FollowerSpec, err error) {
	for _, f := range d.Followers {
		if len(f.Places) == 0 || f.Name == "" || f.Count < 1 || f.Count > 2000 {
			return nil, errors.New("followers: a name, a count up to 2000 and places are needed")
		}
		for _, spec := range shellbox.Named(f.Name, f.Model, f.Serial, f.Count, f.Places...) {
			spec.New = f.New
			out = append(out, spec)
		}
	}
	return out, nil
}

// behaviours are the makers whose boxes have a command line that is a table of commands.
var behaviours = map[string]func(model string) (shellbox.Behaviour, bool){
	"Brackmoor":  brackmoor.Behaviour,
	"Gullwire":   gullwire.Behaviour,
	"Ostrevin":   ostrevin.Behaviour,
	"Pellworth":  pellworth.Behaviour,
	"Strandline": strandline.Behaviour,
}

// OpenShellBox loads or makes a box of one of those makers.
func OpenShellBox(spec shellbox.Spec, dir string, factor float64, log *slog.Logger) (*shellbox.Box, error) {
	if find := behaviours[spec.Maker]; find != nil {
		if b, ok := find(spec.Model); ok {
			return shellbox.Open(b, spec, dir, factor, log)
		}
	}
	return nil, fmt.Errorf("no simulation for %s %s", spec.Maker, spec.Model)
}

// open loads or makes a box of any maker.
func open(d *Device, config, dir, medium string, factor float64, log *slog.Logger) (box.Box, error) {
	if d.Maker == tarnholm.Maker {
		return tarnholm.Open(tarnholm.Spec{
			Name: d.Name, Model: d.Model, Serial: d.Serial, Address: d.Address, User: d.User, Password: d.Password,
			Watchword: d.Watch, Version: d.Version, Idle: d.Idle, Flash: d.Flash, Files: d.Files,
			Config: config, Sessions: d.Sessions, OlderPasswords: d.OlderPasswords, Line: d.Line, Blank: d.Blank,
		}, dir, factor, log)
	}
	if d.Maker == fernhollow.Maker {
		return fernhollow.Open(fernhollow.Spec{Name: d.Name, Model: d.Model, Serial: d.Serial, Address: d.Address, User: d.User, Password: d.Password, Privileged: d.Watch,
			Version: d.Version, Config: config, Storage: d.Flash, Line: d.Line}, dir, factor, log)
	}
	if d.Maker == calderpath.Maker {
		return calderpath.Open(calderpath.Spec{Name: d.Name, Model: d.Model, Serial: d.Serial, Address: d.Address, User: d.User, Password: d.Password, Version: d.Version, Other: d.Idle, Config: config, Storage: d.Flash, Memory: d.Memory, Licences: d.Licences}, dir, factor, log)
	}
	followers, err := d.followers()
	if err != nil {
		return nil, err
	}
	identity, err := identityOf(d, filepath.Dir(dir))
	if err != nil {
		return nil, err
	}
	return OpenShellBox(shellbox.Spec{Name: d.Name, Blank: d.Blank, Calls: d.Calls, Identity: identity, Followers: followers, Seats: d.Seats, Maker: d.Maker, Model: d.Model, Serial: d.Serial, Version: d.Version, Older: d.Idle, OlderPasswords: d.OlderPasswords,
		Address: d.Address, Line: d.Line, LineOnly: d.LineOnly, User: d.User, Password: d.Password, Config: config, MediumDir: medium, Units: d.Units}, dir, factor, log)
}

// A Fleet is a running set of simulated boxes.
type Fleet struct {
	boxes   map[string]box.Box
	order   []string
	state   string
	site    *releasesite.Site // nil: none
	through map[string]string // by name of the first box of a pair or cluster: where what goes through it is asked
	stops   []func()

	licences map[string]int // that the licence service has, by name
}

// Load reads a fleet file and opens its boxes, with their state under the folder state. Nothing answers before Start. medium is
// the folder with the images that a card holds when somebody puts one in.
func Load(name, state, medium string, factor float64, log *slog.Logger) (*Fleet, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var file File
	d := yaml.NewDecoder(strings.NewReader(string(data)))
	d.KnownFields(true)
	if err := d.Decode(&file); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if file.Format != Format {
		return nil, fmt.Errorf("%s: format %q is not %s", name, file.Format, Format)
	}
	f := &Fleet{boxes: map[string]box.Box{}, state: state, through: map[string]string{}, licences: file.Licences}
	for i := range file.Devices {
		dev := &file.Devices[i]
		if f.boxes[dev.Name] != nil || dev.Name == "" || dev.Name != filepath.Base(dev.Name) {
			return nil, fmt.Errorf("%s: device name %q is missing, used twice or no plain name", name, dev.Name)
		}
		if err := f.add(dev, filepath.Dir(name), medium, factor, log); err != nil {
			return nil, fmt.Errorf("%s: device %s: %w", name, dev.Name, err)
		}
	}
	for i := range file.Devices {
		if err := f.join(&file.Devices[i], file.Devices); err != nil {
			return nil, fmt.Errorf("%s: device %s: %w", name, file.Devices[i].Name, err)
		}
	}
	var shells []*shellbox.Box
	for _, name := range f.order {
		if b, ok := f.boxes[name].(*shellbox.Box); ok {
			shells = append(shells, b)
		}
	}
	shellbox.Meet(shells...)
	return f, nil
}

// join makes a pair of a device and the one that stands by for it, or a cluster of those that name the same one.
func (f *Fleet) join(d *Device, all []Device) error {
	if b, ok := f.boxes[d.Name].(*shellbox.Box); ok {
		if d.Through != "" {
			f.through[d.Name] = d.Through
		}
		return f.group(b, d, all)
	}
	if err := f.replaces(d); err != nil {
		return err
	}
	var boxes []*tarnholm.Box
	var join func() error
	switch {
	case d.Mate == "" && d.Cluster == "":
		if d.Through != "" {
			return errors.New("through: only what goes through a pair or a cluster can be asked")
		}
		return nil
	case d.Mate != "" && d.Cluster != "":
		return errors.New("it is one of a pair or of a cluster, not both")
	case d.Mate != "":
		standby, ok := f.boxes[d.Mate].(*tarnholm.Box)
		if !ok || d.Mate == d.Name {
			return fmt.Errorf("mate: %q is no other %s box of this file; only those can be pairs", d.Mate, tarnholm.Maker)
		}
		boxes = []*tarnholm.Box{nil, standby}
		join = func() error { return tarnholm.Join(boxes[0], boxes[1]) }
	default:
		for i := range all {
			o := &all[i]
			if o.Cluster != d.Cluster {
				continue
			}
			if len(boxes) == 0 && o.Name != d.Name {
				return nil // the first one joins them
			}
			b, ok := f.boxes[o.Name].(*tarnholm.Box)
			if !ok {
				return fmt.Errorf("cluster: %s is no %s box; only those can be clusters", o.Name, tarnholm.Maker)
			}
			boxes = append(boxes, b)
		}
		join = func() error { return tarnholm.JoinCluster(d.Cluster, boxes...) }
	}
	first, ok := f.boxes[d.Name].(*tarnholm.Box)
	if !ok {
		return fmt.Errorf("only %s boxes can be pairs or clusters", tarnholm.Maker)
	}
	boxes[0] = first
	if d.Through != "" {
		f.through[d.Name] = d.Through
	}
	return join()
}

// replaces tells a box whose cables it gets.
func (f *Fleet) replaces(d *Device) error {
	if d.Replaces == "" {
		return nil
	}
	b, ok := f.boxes[d.Name].(*tarnholm.Box)
	old, known := f.boxes[d.Replaces].(*tarnholm.Box)
	if !ok || !known || b == old {
		return fmt.Errorf("replaces: %q is no other %s box of this file; only those can take each other's place", d.Replaces, tarnholm.Maker)
	}
	b.TakesPlaceOf(old)
	return nil
}

// group is join for boxes whose command line is a table of commands.
func (f *Fleet) group(first *shellbox.Box, d *Device, all []Device) error {
	boxes := []*shellbox.Box{first}
	for i := range all {
		o := &all[i]
		switch b, ok := f.boxes[o.Name].(*shellbox.Box); {
		case o.Name == d.Name || o.Name != d.Mate && (d.Cluster == "" || o.Cluster != d.Cluster):
		case !ok:
			return fmt.Errorf("%s is no box that it could stand in for", o.Name)
		case d.Cluster != "" && slices.IndexFunc(all, func(x Device) bool { return x.Cluster == d.Cluster && x.Name == d.Name }) > i:
			return nil // the first one joins them
		default:
			boxes = append(boxes, b)
		}
	}
	if d.Mate == "" && d.Cluster == "" {
		return nil
	}
	return shellbox.Join(d.Cluster, boxes...)
}

// add opens a device of the file with its faults.
func (f *Fleet) add(d *Device, folder, medium string, factor float64, log *slog.Logger) error {
	var config []byte
	var err error
	if d.Config != "" || !d.Blank {
		if config, err = os.ReadFile(filepath.Join(folder, d.Config)); err != nil {
			return err
		}
	}
	b, err := open(d, string(config), filepath.Join(f.state, d.Name), medium, factor, log)
	if err != nil {
		return err
	}
	for fault, v := range d.Faults {
		if err := b.Arm(fault, v); err != nil {
			return err
		}
	}
	f.boxes[d.Name] = b
	f.order = append(f.order, d.Name)
	return nil
}

// Start makes every box answer, and writes access.json: how to get into each, for whoever sets up the demo.
func (f *Fleet) Start() error {
	var all []box.Access
	for _, name := range f.order {
		if err := f.boxes[name].Start(); err != nil {
			f.Stop()
			return err
		}
		all = append(all, f.boxes[name].Access())
	}
	for name, address := range f.through {
		stop, _, err := f.boxes[name].(interface {
			Through(address string) (stop func(), at string, err error)
		}).Through(address)
		if err != nil {
			f.Stop()
			return fmt.Errorf("device %s: through: %w", name, err)
		}
		f.stops = append(f.stops, stop)
	}
	data, err := json.MarshalIndent(all, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(f.state, "access.json"), data, 0o600)
}

// An entrance is how to get into a service that stands beside the fleet, as it is kept under the state folder. Taken are the serials that have taken a licence.
type entrance struct {
	URL, User, Password string
	Taken               map[string][]string `json:",omitempty"`
}

// enter reads how to get into a service, or draws it.
func enter(name string) (e *entrance, err error) {
	e = &entrance{}
	data, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		e.User, e.Password = "C-1042", rand.Text()
		return e, nil
	}
	if err == nil {
		err = json.Unmarshal(data, e)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return e, nil
}

func (e *entrance) save(name string) error {
	data, err := json.MarshalIndent(e, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(name, data, 0o600)
}

// open serves a service at an address, and writes how to get into it.
func (e *entrance) open(name, address string, h http.Handler) (io.Closer, error) {
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	e.URL = "http://" + ln.Addr().String()
	s := &http.Server{Handler: h, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = s.Serve(ln) }()
	return s, e.save(name)
}

// OpenSite starts the makers' release site with the images of a catalogue, and writes site.json: how to get into it.
func (f *Fleet) OpenSite(c *catalog.Catalogue, address string) (io.Closer, error) {
	name := filepath.Join(f.state, "site.json")
	e, err := enter(name)
	if err != nil {
		return nil, err
	}
	f.site = releasesite.New(c, e.User, e.Password)
	return e.open(name, address, f.site.Handler())
}

// OpenLicences starts a licence service with the licences of the fleet, and writes licences.json: how to get into it, and who has taken which.
func (f *Fleet) OpenLicences(address string) (io.Closer, error) {
	name := filepath.Join(f.state, "licences.json")
	e, err := enter(name)
	if err != nil {
		return nil, err
	}
	l := licences.New(e.User, e.Password, f.licences, e.Taken)
	l.Keep = func(taken map[string][]string) error {
		e.Taken = taken
		return e.save(name)
	}
	return e.open(name, address, l.Handler())
}

// Site is the release site, or nil.
func (f *Fleet) Site() *releasesite.Site { return f.site }

// Stop cuts all boxes off. Their state stays on disk.
func (f *Fleet) Stop() {
	for _, stop := range f.stops {
		stop()
	}
	f.stops = nil
	for _, b := range f.boxes {
		b.Stop()
	}
}

// Box returns a box by name, or nil.
func (f *Fleet) Box(name string) box.Box { return f.boxes[name] }

// Names are the boxes in the order of the file.
func (f *Fleet) Names() []string { return f.order }
