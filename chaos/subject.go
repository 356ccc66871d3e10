package chaos

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"verimorph/core/catalog"
	"verimorph/core/convert"
	"verimorph/internal/wire"
	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
)

// The devices that suffer: firewalls with slots, gateways that are drained, ramp controllers that are overwritten and reset, and tide gauges
// that have nothing but a console line.

// A subject is one simulated device.
type subject struct {
	n        int
	kind     string
	name     string
	wall     *tarnholm.Box // a firewall
	plain    *shellbox.Box // any other
	add      map[string]any
	keys     []map[string]any // credentials beside those it is added with
	versions []string         // that it is changed to, one after the other; with back, the first two in turns, and back each time
	back     bool
}

// A look is what the device itself says, without the service.
type look struct {
	version               string
	boots, installs, sent int
	spoilt, bricks        int
	config                string
	ready                 bool
	areas                 []string // version and state, of a gateway
}

func (b *subject) look() look {
	if b.wall != nil {
		st := b.wall.Status()
		return look{st.Version, st.Boots, st.Fits, st.Sent, st.Spoilt, st.Bricks, st.Config, st.Phase == "ready", nil}
	}
	st := b.plain.Status()
	return look{st.Version, st.Boots, st.Installs, st.Sent, st.Spoilt, st.Bricks, st.Main, st.Phase == "ready", st.Areas}
}

func (b *subject) stop() {
	if b.wall != nil {
		b.wall.Stop()
	} else {
		b.plain.Stop()
	}
}

// kindOf says which kind the n-th device is: of ten, six are firewalls, two gateways, one a ramp controller and one a tide gauge.
func kindOf(n int) string {
	switch n % 10 {
	case 1, 6:
		return "gateway"
	case 3:
		return "ramp"
	case 4:
		return "gauge"
	}
	return "firewall"
}

func (w *world) startFleet() error {
	var found catalog.Findings
	if w.cat, found = catalog.ReadDir(os.DirFS(filepath.Join(w.Demo, "catalog"))); len(found.Errors()) > 0 {
		return found.Errors()
	}
	lib, broken := convert.ReadDir(os.DirFS(filepath.Join(w.Demo, "catalog")))
	if len(broken.Errors()) > 0 {
		return broken.Errors()
	}
	w.lib = lib
	card := filepath.Join(w.dir, "card")
	if err := os.MkdirAll(card, 0o700); err != nil {
		return err
	}
	for i := range w.Devices {
		b := &subject{n: i, kind: kindOf(i), name: fmt.Sprintf("%s%d", kindOf(i), i)}
		address, way := fmt.Sprintf("%s.%d:2022", w.Host, i+1), fmt.Sprintf("%s.%d:3022", w.Host, i+1)
		x, err := wire.New(way, address)
		if err != nil {
			return err
		}
		b.add = map[string]any{"name": b.name, "address": way}
		if b.kind == "firewall" {
			err = w.firewall(b, address)
		} else {
			err = w.other(b, address, way, card)
		}
		if err != nil {
			return err
		}
		w.boxes, w.wires = append(w.boxes, b), append(w.wires, x)
	}
	return nil
}

// heard is called by a device when it hears a command: whatever waits for one strikes now.
func (w *world) heard(b *subject) func(string) {
	return func(string) {
		select {
		case strike := <-w.armed:
			go strike(b)
			time.Sleep(5 * time.Millisecond) // so that it falls into the middle of what comes now
		default:
		}
	}
}

func (w *world) configuration(name string) (string, error) {
	data, err := os.ReadFile(filepath.Join(w.Demo, "configs", name))
	return string(data), err
}

func (w *world) firewall(b *subject, address string) error {
	config, err := w.configuration("gullnes-fw1.cfg")
	if err != nil {
		return err
	}
	if b.wall, err = tarnholm.Open(tarnholm.Spec{Name: b.name, Model: "TH-60", Serial: fmt.Sprint("S", b.n), Address: address, User: "bosun", Version: "5.0.7", Idle: "5.0.6", Flash: 24 << 20, Config: config, Sessions: 100},
		filepath.Join(w.dir, "fleet", b.name), w.Factor, slog.New(slog.DiscardHandler)); err != nil {
		return err
	}
	b.wall.OnVerb = w.heard(b)
	a := b.wall.Access()
	b.add["dialect"], b.add["user"], b.add["password"], b.add["privilegedPassword"], b.add["transfer"] = "tarnholm", a.User, a.Password, a.Watchword, "sftp"
	// Another version each time: what lies in the idle slot never looks like what is to be installed.
	b.versions, b.back = []string{"5.4.2", "5.4.0"}, true
	return b.wall.Start()
}

func (w *world) other(b *subject, address, way, card string) error {
	spec := shellbox.Spec{Name: b.name, Serial: fmt.Sprint("S", b.n), User: "hand", MediumDir: card, Address: address}
	file, transfer := "", ""
	switch b.kind {
	case "gateway":
		spec.Maker, spec.Model, spec.Version, spec.Older, file, transfer = "Brackmoor", "SG-5", "3.8.4", "3.8.2", "control-sg1.json", "http"
		b.versions, b.back = []string{"3.8.5", "3.8.5"}, true
	case "ramp":
		spec.Maker, spec.Model, spec.Version, file, transfer = "Pellworth", "RC-6", "F1.06", "marrow-ramp1.ini", "tftp"
		b.versions = []string{"F2.03", "F2.10", "F2.12"}
	case "gauge":
		spec.Maker, spec.Model, spec.Version, file, transfer = "Pellworth", "TG-1", "F1.06", "marrow-gauge1.ini", "sftp"
		spec.LineOnly, spec.Line, spec.Address = true, address, ""
		b.versions = []string{"F2.03", "F2.10", "F2.12"}
	}
	config, err := w.configuration(file)
	if err != nil {
		return err
	}
	spec.Config = config
	if b.plain, err = simfleet.OpenShellBox(spec, filepath.Join(w.dir, "fleet", b.name), w.Factor, slog.New(slog.DiscardHandler)); err != nil {
		return err
	}
	b.plain.OnVerb = w.heard(b)
	if err := b.plain.Start(); err != nil {
		return err
	}
	a := b.plain.Access()
	password, token, web, dialect, plate := a.Password, a.Token, a.Web, a.Dialect, a.Plate
	b.add["dialect"], b.add["user"], b.add["password"], b.add["transfer"] = dialect, "hand", password, transfer
	if web != "" {
		b.add["web"], b.add["token"] = web, token
	}
	if b.kind == "gauge" {
		b.add["reach"] = map[string]any{"console": way, "only": true}
	}
	if plate != "" {
		b.keys = append(b.keys, map[string]any{"kind": "password", "device": b.name, "user": "hand", "password": plate})
	}
	switch b.kind {
	case "ramp":
		return b.plain.Arm(shellbox.ByHandKey, box.Fault{})
	case "gauge":
		return b.plain.Arm(shellbox.ByHandCard, box.Fault{})
	}
	return nil
}

// load puts catalogue, conversions, images and devices into the service, and the images onto the card.
func (w *world) load(ctx context.Context) error {
	var files []string
	for _, folder := range []string{"", "schemas", "conversions"} { // each leans on those before
		found, err := filepath.Glob(filepath.Join(w.Demo, "catalog", folder, "*.yaml"))
		if err != nil {
			return err
		}
		files = append(files, found...)
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		if err := w.callOnce(ctx, w.workers[0], "PUT", "/catalogue/"+filepath.Base(f), "application/yaml", text, nil); err != nil {
			return fmt.Errorf("catalogue %s: %w", filepath.Base(f), err)
		}
	}
	for _, l := range w.cat.Images() {
		models := strings.Join(l.Models, " ")
		wanted := l.File == "th60-5.4.2.img" || l.File == "th60-5.4.0.img" || strings.Contains(models, "SG-5") && strings.HasPrefix(l.Version, "3.8") ||
			(strings.Contains(models, "RC-6") || strings.Contains(models, "TG-1")) && (strings.HasPrefix(l.Version, "F1") || strings.HasPrefix(l.Version, "F2") || l.Part != "")
		if !wanted {
			continue
		}
		data, err := firmware.Content(&l)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(w.dir, "card", l.File), data, 0o600); err != nil {
			return err
		}
		if err := w.callOnce(ctx, w.workers[0], "POST", "/images?file="+l.File, "application/octet-stream", data, nil); err != nil {
			return fmt.Errorf("image %s: %w", l.File, err)
		}
	}
	for _, b := range w.boxes {
		if err := w.call(ctx, "POST", "/devices", b.add, nil); err != nil {
			return fmt.Errorf("device %s: %w", b.name, err)
		}
		for _, k := range b.keys {
			if err := w.call(ctx, "POST", "/credentials", k, nil); err != nil {
				return fmt.Errorf("credential of %s: %w", b.name, err)
			}
		}
	}
	return nil
}
