package netconf

import (
	"encoding/xml"
	"slices"
	"strings"
	"time"

	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/device"
)

// The standard models: what a device is (ietf-system, RFC 7317; ietf-hardware, RFC 8348) and which of its interfaces are up (ietf-interfaces, RFC 8343).

const (
	ietfSystem     = "urn:ietf:params:xml:ns:yang:ietf-system"
	ietfHardware   = "urn:ietf:params:xml:ns:yang:ietf-hardware"
	ietfInterfaces = "urn:ietf:params:xml:ns:yang:ietf-interfaces"
)

// systemState is what ietf-system tells.
type systemState struct {
	System struct {
		Hostname string `xml:"hostname"`
	} `xml:"data>system"`
	State struct {
		Platform struct {
			OS      string `xml:"os-name"`
			Release string `xml:"os-release"`
			Version string `xml:"os-version"`
			Machine string `xml:"machine"`
		} `xml:"platform"`
		Clock struct {
			Now  string `xml:"current-datetime"`
			Boot string `xml:"boot-datetime"`
		} `xml:"clock"`
	} `xml:"data>system-state"`
}

// component is one of ietf-hardware.
type component struct {
	Name     string `xml:"name"`
	Class    string `xml:"class"`
	Maker    string `xml:"mfg-name"`
	Model    string `xml:"model-name"`
	Serial   string `xml:"serial-num"`
	Software string `xml:"software-rev"`
	Firmware string `xml:"firmware-rev"`
	Hardware string `xml:"hardware-rev"`
	State    struct {
		Oper string `xml:"oper-state"`
	} `xml:"state"`
}

type hardware struct {
	Components []component `xml:"data>hardware>component"`
}

// interfaces are those of ietf-interfaces, in the tree of RFC 8343 or in that of the version before it.
type interfaces struct {
	XMLName xml.Name `xml:"rpc-reply"`
	All     []struct {
		Name string `xml:"name"`
		Oper string `xml:"oper-status"`
	} `xml:"data>interfaces>interface"`
	Older []struct {
		Name string `xml:"name"`
		Oper string `xml:"oper-status"`
	} `xml:"data>interfaces-state>interface"`
}

// is reports whether the class of a component is one of the identities of ietf-hardware.
func (c *component) is(class string) bool {
	return c.Class == class || strings.HasSuffix(c.Class, ":"+class)
}

// describe puts a portrait together of what the models tell. What none tells stays unknown.
func (s *session) describe() (*portrait.Portrait, error) {
	p := &portrait.Portrait{ServicesReady: portrait.Unknown}
	var system systemState
	if err := s.ask(`<system xmlns="`+ietfSystem+`"><hostname/></system><system-state xmlns="`+ietfSystem+`"/>`, &system); err != nil {
		return nil, err
	}
	p.Name, p.Platform = system.System.Hostname, system.State.Platform.OS
	p.Version, p.Model = system.State.Platform.Release, system.State.Platform.Machine
	p.Started = system.State.Clock.Boot
	now, bad := time.Parse(time.RFC3339, system.State.Clock.Now)
	boot, worse := time.Parse(time.RFC3339, system.State.Clock.Boot)
	if bad == nil && worse == nil && now.After(boot) {
		p.UptimeSeconds = int64(now.Sub(boot).Seconds())
	}
	var h hardware
	if err := s.ask(`<hardware xmlns="`+ietfHardware+`"/>`, &h); err != nil {
		return nil, err
	}
	for i := range h.Components {
		c := &h.Components[i]
		if !c.is("chassis") {
			p.Modules = append(p.Modules, portrait.Module{Name: c.Name, State: c.State.Oper, Good: enabled(c.State.Oper)})
			continue
		}
		p.Maker, p.Serial, p.Generation = c.Maker, c.Serial, c.Hardware
		if c.Model != "" {
			p.Model = c.Model
		}
		if c.Software != "" {
			p.Version = c.Software
		}
		if c.Firmware != "" {
			p.Components = map[string]string{"boot-loader": c.Firmware}
		}
	}
	if p.Model == "" || p.Version == "" {
		return nil, device.Fail(device.NotUnderstood, s.address, "tell what it is", "neither ietf-system nor ietf-hardware tells both model and version")
	}
	return p, nil
}

// enabled is whether a component works, by its oper-state (RFC 8348).
func enabled(state string) portrait.Fact {
	switch state {
	case "enabled":
		return portrait.Yes
	case "disabled", "testing":
		return portrait.No
	}
	return portrait.Unknown
}

// ask is get for a model that a device need not have: then it tells nothing.
func (s *session) ask(filter string, into any) error {
	err := s.get(filter, into)
	if no, ok := err.(rpcErrors); ok && slices.ContainsFunc(no, func(e rpcError) bool {
		return slices.Contains([]string{"unknown-namespace", "unknown-element", "invalid-value", "data-missing"}, e.Tag)
	}) {
		return nil
	}
	return err
}

// interfacesUp is the reading that every such device has.
var interfacesUp = device.Reading{Name: "interfaces-up", Title: "Interfaces up", Type: verify.Set, Send: "ietf-interfaces"}

func init() {
	interfacesUp.Expect.Rule, interfacesUp.Expect.Severity = verify.KeepsAll, verify.Fails
}

// up reads which interfaces are up.
func (s *session) up() (verify.Value, error) {
	var all interfaces
	filter := `<interfaces xmlns="` + ietfInterfaces + `"/><interfaces-state xmlns="` + ietfInterfaces + `"/>`
	err := s.get(filter, &all)
	if _, refused := err.(rpcErrors); refused { // it may have only the one of the two
		all = interfaces{}
		err = s.get(`<interfaces xmlns="`+ietfInterfaces+`"/>`, &all)
	}
	if no, refused := err.(rpcErrors); refused {
		return verify.Value{Type: verify.NotReadable, Text: no.Error()}, nil
	}
	if err != nil {
		return verify.Value{}, err
	}
	v := verify.Value{Type: verify.Set, Set: []string{}}
	told := false
	for _, i := range append(all.All, all.Older...) {
		told = told || i.Oper != ""
		if i.Oper == "up" {
			v.Set = append(v.Set, i.Name)
		}
	}
	if !told {
		return verify.Value{Type: verify.NotReadable, Text: "no interface tells its oper-status"}, nil
	}
	slices.Sort(v.Set)
	v.Set = slices.Compact(v.Set)
	return v, nil
}
