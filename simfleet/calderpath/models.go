package calderpath

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
)

// The models that the box fills: the standard ones, and one of its maker for its packages.

const packagesModel = "urn:calderpath:packages"

// oneFile is the file that a filter asks for.
var oneFile = regexp.MustCompile(`<file>([^<]+)</file>`)

// models is what the box tells of the models that a filter names: ietf-system (RFC 7317), ietf-hardware (RFC 8348), ietf-interfaces (RFC 8343), and its packages. The
// caller holds the lock.
func (b *Box) models(filter string) string {
	out := ""
	if strings.Contains(filter, "ietf-system") {
		out += fmt.Sprintf(`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>%s</hostname></system><system-state xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><platform><os-name>%s</os-name><os-release>%s</os-release><machine>%s</machine></platform><clock><current-datetime>%s</current-datetime><boot-datetime>%s</boot-datetime></clock></system-state>`,
			box.Escape(b.spec.Name), Maker, b.version(), b.st.Model, time.Now().Format(time.RFC3339), b.st.BootAt.Format(time.RFC3339Nano))
	}
	if strings.Contains(filter, "ietf-hardware") {
		out += fmt.Sprintf(`<hardware xmlns="urn:ietf:params:xml:ns:yang:ietf-hardware"><component><name>box</name><class>iana-hardware:chassis</class><mfg-name>%s</mfg-name><model-name>%s</model-name><serial-num>%s</serial-num><software-rev>%s</software-rev></component></hardware>`,
			Maker, b.st.Model, b.st.Serial, b.version())
	}
	if strings.Contains(filter, "ietf-interfaces") {
		out += `<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">`
		names, up := b.ports()
		for _, name := range names {
			out += fmt.Sprintf("<interface><name>%s</name><oper-status>%s</oper-status></interface>", name, map[bool]string{true: "up", false: "down"}[up[name]])
		}
		out += "</interfaces>"
	}
	if strings.Contains(filter, packagesModel) {
		out += b.packagesXML(filter)
	}
	return out
}

// packagesXML tells of the packages, the machine and the licences; of one package only where the filter asks for one.
func (b *Box) packagesXML(filter string) string {
	only := ""
	if m := oneFile.FindStringSubmatch(filter); m != nil {
		only = m[1]
	}
	services := map[bool]string{true: "ready", false: "starting"}[b.up() >= rise.AllUp]
	out := fmt.Sprintf(`<packages xmlns="%s"><running>%s</running><activated>%s</activated><services>%s</services><unsaved>no</unsaved><total>%d</total><free>%d</free><running-version>%s</running-version><activated-version>%s</activated-version>`,
		packagesModel, b.st.Running, b.st.Next, services, b.spec.Storage, b.free(), b.version(), b.versionOf(b.st.Next))
	out += fmt.Sprintf("<memory>%d</memory><host>%s</host><licences>", b.memory(), b.hostKind())
	for _, l := range b.st.Licences {
		out += fmt.Sprintf("<licence class=\"%s\"/>", box.Escape(l))
	}
	out += "</licences>"
	entries, _ := os.ReadDir(b.packages())
	for _, e := range entries {
		if only != "" && e.Name() != only {
			continue
		}
		out += b.packageXML(e.Name(), only != "")
	}
	return out + "</packages>"
}

// packageXML tells of one package, with its sum where it is asked for by name.
func (b *Box) packageXML(name string, sum bool) string {
	data, err := os.ReadFile(filepath.Join(b.packages(), name))
	if err != nil {
		return ""
	}
	version, state := "", "damaged"
	if h, err := firmware.Read(strings.NewReader(string(data))); err == nil {
		version, state = h.Version, "whole"
	}
	out := fmt.Sprintf("<package><file>%s</file><version>%s</version><size>%d</size><state>%s</state>", name, version, len(data), state)
	if sum {
		s := sha256.Sum256(data)
		out += "<sha256>" + hex.EncodeToString(s[:]) + "</sha256>"
	}
	return out + "</package>"
}

// activatePackage has a package started next; the caller holds the lock.
func (b *Box) activatePackage(name string) (string, *refusal) {
	switch {
	case name != filepath.Base(name) || !b.starts(name):
		return no("data-missing", "there is no such package that could be started")
	case b.st.Faults.Hit(NotActivated):
		return "", nil
	}
	b.st.Next = name
	if err := b.save(); err != nil {
		return no("operation-failed", err.Error())
	}
	return "", nil
}

// removePackage deletes a package that neither runs nor is activated; the caller holds the lock.
func (b *Box) removePackage(name string) (string, *refusal) {
	switch {
	case name == b.st.Running || name == b.st.Next:
		return no("in-use", "that package is in use")
	case name != filepath.Base(name) || os.Remove(filepath.Join(b.packages(), name)) != nil:
		return no("data-missing", "there is no such package")
	}
	return "", nil
}
