// Package simfleet runs the simulated devices that ship with the project: real servers on loopback addresses, with
// state on disk, time that can be sped up, and faults that can be set from a file and at run time.
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
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"verimorph/core/catalog"
	"verimorph/simfleet/plainbox"
	"verimorph/simfleet/releasesite"
	"verimorph/simfleet/tarnholm"
)

// Format is the format line of a fleet file (docs/formats/simfleet.md).
const Format = "verimorph-simfleet/1"

// A File describes a fleet.
type File struct {
	Format  string   `yaml:"format"`
	Devices []Device `yaml:"devices"`
}

// A Device is one simulated box.
type Device struct {
	Name     string                    `yaml:"name"`
	Maker    string                    `yaml:"maker"`
	Model    string                    `yaml:"model"`
	Serial   string                    `yaml:"serial"`
	Address  string                    `yaml:"address"`
	User     string                    `yaml:"user"`
	Password string                    `yaml:"password"` // drawn at random when left out
	Watch    string                    `yaml:"watchword"`
	Version  string                    `yaml:"version"`
	Idle     string                    `yaml:"idle"`
	Flash    int64                     `yaml:"flash"`
	Files    map[string]int64          `yaml:"files"`
	Config   string                    `yaml:"config"` // file name, relative to the fleet file
	Sessions int                       `yaml:"sessions"`
	Line     string                    `yaml:"line,omitempty"`      // host:port of its console line
	LineOnly bool                      `yaml:"line-only,omitempty"` // it has no other side
	Faults   map[string]tarnholm.Fault `yaml:"faults"`
	// The installation in the other slot has passwords of its own, which apply when it runs.
	OlderPasswords bool `yaml:"older-passwords"`
}

// A Fleet is a running set of simulated boxes.
type Fleet struct {
	boxes map[string]*tarnholm.Box
	order []string
	plain []*plainbox.Box
	state string
	site  *releasesite.Site // nil: none
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
	f := &Fleet{boxes: map[string]*tarnholm.Box{}, state: state}
	for _, dev := range file.Devices {
		if f.boxes[dev.Name] != nil || f.Plain(dev.Name) != nil || dev.Name == "" || dev.Name != filepath.Base(dev.Name) {
			return nil, fmt.Errorf("%s: device name %q is missing, used twice or no plain name", name, dev.Name)
		}
		config, err := os.ReadFile(filepath.Join(filepath.Dir(name), dev.Config))
		if err != nil {
			return nil, fmt.Errorf("%s: device %s: %w", name, dev.Name, err)
		}
		if dev.Maker != "Tarnholm" {
			b, err := plainbox.Open(plainbox.Spec{Name: dev.Name, Maker: dev.Maker, Model: dev.Model, Serial: dev.Serial, Version: dev.Version, Older: dev.Idle, OlderPasswords: dev.OlderPasswords,
				Address: dev.Address, Line: dev.Line, LineOnly: dev.LineOnly, User: dev.User, Password: dev.Password, Config: string(config), MediumDir: medium},
				filepath.Join(state, dev.Name), factor, log)
			if err != nil {
				return nil, fmt.Errorf("%s: device %s: %w", name, dev.Name, err)
			}
			for fault, v := range dev.Faults {
				if err := b.Arm(fault, plainbox.Fault{Value: v.Value, Times: v.Times}); err != nil {
					return nil, fmt.Errorf("%s: device %s: %w", name, dev.Name, err)
				}
			}
			f.plain = append(f.plain, b)
			continue
		}
		b, err := tarnholm.Open(tarnholm.Spec{
			Name: dev.Name, Model: dev.Model, Serial: dev.Serial, Address: dev.Address, User: dev.User, Password: dev.Password,
			Watchword: dev.Watch, Version: dev.Version, Idle: dev.Idle, Flash: dev.Flash, Files: dev.Files,
			Config: string(config), Sessions: dev.Sessions, OlderPasswords: dev.OlderPasswords, Line: dev.Line,
		}, filepath.Join(state, dev.Name), factor, log)
		if err != nil {
			return nil, err
		}
		for fault, v := range dev.Faults {
			if err := b.Arm(fault, v); err != nil {
				return nil, fmt.Errorf("%s: device %s: %w", name, dev.Name, err)
			}
		}
		f.boxes[dev.Name] = b
		f.order = append(f.order, dev.Name)
	}
	return f, nil
}

// Start makes every box answer, and writes access.json: how to get into each, for whoever sets up the demo.
func (f *Fleet) Start() error {
	var all []tarnholm.Access
	for i, name := range f.order {
		if err := f.boxes[name].Start(); err != nil {
			for _, n := range f.order[:i] {
				f.boxes[n].Stop()
			}
			return err
		}
		all = append(all, f.boxes[name].Access())
	}
	for _, b := range f.plain {
		if err := b.Start(); err != nil {
			f.Stop()
			return err
		}
		a := tarnholm.Access{Name: b.Name, Address: b.Address, User: b.User}
		a.Password, a.Token, a.Web, a.HostKey, a.Dialect = b.Ways()
		a.OlderVersion, a.OlderPassword, a.Plate = b.OlderWay()
		a.Line, a.LineOnly = b.Line, b.LineOnly
		all = append(all, a)
	}
	data, err := json.MarshalIndent(all, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(f.state, "access.json"), data, 0o600)
}

// OpenSite starts the makers' release site with the images of a catalogue, and writes site.json: how to get into it.
func (f *Fleet) OpenSite(c *catalog.Catalogue, address string) (io.Closer, error) {
	name := filepath.Join(f.state, "site.json")
	var access struct{ URL, User, Password string }
	if data, err := os.ReadFile(name); err == nil {
		if err := json.Unmarshal(data, &access); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	} else {
		access.User, access.Password = "C-1042", rand.Text()
	}
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	access.URL = "http://" + ln.Addr().String()
	f.site = releasesite.New(c, access.User, access.Password)
	s := &http.Server{Handler: f.site.Handler(), ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = s.Serve(ln) }()
	data, err := json.MarshalIndent(access, "", " ")
	if err != nil {
		return nil, err
	}
	return s, os.WriteFile(name, data, 0o600)
}

// Site is the release site, or nil.
func (f *Fleet) Site() *releasesite.Site { return f.site }

// Stop cuts all boxes off. Their state stays on disk.
func (f *Fleet) Stop() {
	for _, b := range f.boxes {
		b.Stop()
	}
	for _, b := range f.plain {
		b.Stop()
	}
}

// Plain returns one of the boxes that are no firewalls, or nil.
func (f *Fleet) Plain(name string) *plainbox.Box {
	for _, b := range f.plain {
		if b.Name == name {
			return b
		}
	}
	return nil
}

// Box returns a box by name, or nil.
func (f *Fleet) Box(name string) *tarnholm.Box { return f.boxes[name] }

// Names are the boxes in the order of the file.
func (f *Fleet) Names() []string { return f.order }

// Handler is the fleet's control: GET /devices, POST and DELETE /devices/{name}/faults/{fault} and
// /site/faults/{fault}, POST /devices/{name}/reset. It is for whoever runs the simulation, on loopback, and has no sign-in.
func (f *Fleet) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /devices", func(w http.ResponseWriter, r *http.Request) {
		var all []tarnholm.Status
		for _, n := range f.order {
			all = append(all, f.boxes[n].Status())
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(all)
	})
	act := func(do func(simulated, *http.Request) error) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			err := fmt.Errorf("no device %q; known: %s", r.PathValue("name"), strings.Join(f.allNames(), ", "))
			if b := f.any(r.PathValue("name")); b != nil {
				err = do(b, r)
			}
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
			}
		}
	}
	mux.HandleFunc("GET /simulation", func(w http.ResponseWriter, r *http.Request) {
		var all []Simulated
		for _, n := range f.allNames() {
			all = append(all, f.any(n).simulated())
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(all)
	})
	mux.HandleFunc("POST /devices/{name}/faults/{fault}", act(func(b simulated, r *http.Request) error {
		var fault Fault
		if err := json.NewDecoder(r.Body).Decode(&fault); err != nil {
			return errors.New("the body must be {\"value\": N, \"times\": N}")
		}
		return b.arm(r.PathValue("fault"), fault)
	}))
	mux.HandleFunc("DELETE /devices/{name}/faults/{fault}", act(func(b simulated, r *http.Request) error {
		return b.Heal(r.PathValue("fault"))
	}))
	mux.HandleFunc("/site/faults/{fault}", func(w http.ResponseWriter, r *http.Request) {
		var fault releasesite.Fault
		err := errors.New("no release site runs here")
		if f.site != nil && r.Method == http.MethodDelete {
			f.site.Heal(r.PathValue("fault"))
			return
		}
		if f.site != nil {
			if err = json.NewDecoder(r.Body).Decode(&fault); err == nil {
				err = f.site.Arm(r.PathValue("fault"), fault)
			}
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
		}
	})
	mux.HandleFunc("POST /devices/{name}/reset", act(func(b simulated, _ *http.Request) error { return b.Reset() }))
	return mux
}
