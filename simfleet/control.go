package simfleet

import (
	"slices"

	"verimorph/simfleet/plainbox"
	"verimorph/simfleet/tarnholm"
)

// A Fault is something that goes wrong with a box, whatever its kind.
type Fault struct {
	Value int64 `json:"value,omitempty"`
	Times int   `json:"times,omitempty"`
	Hit   bool  `json:"hit,omitempty"` // it has struck
}

// A FaultKind is a fault that a box knows.
type FaultKind struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Simulated is a look at one box from outside.
type Simulated struct {
	Name    string           `json:"name"`
	Maker   string           `json:"maker"`
	Model   string           `json:"model"`
	Version string           `json:"version"`
	Phase   string           `json:"phase"`
	Faults  map[string]Fault `json:"faults"`
	Can     []FaultKind      `json:"can"`
}

// simulated is a box of any kind.
type simulated interface {
	arm(name string, f Fault) error
	Heal(name string) error
	Reset() error
	simulated() Simulated
}

type firewall struct{ *tarnholm.Box }

func (b firewall) arm(name string, f Fault) error {
	return b.Arm(name, tarnholm.Fault{Value: f.Value, Times: f.Times})
}

func (b firewall) simulated() Simulated {
	st := b.Status()
	out := Simulated{Name: st.Name, Maker: "Tarnholm", Model: b.Model(), Version: st.Version, Phase: st.Phase, Faults: map[string]Fault{}}
	for name, f := range st.Faults {
		out.Faults[name] = Fault{f.Value, f.Times, f.Hit}
	}
	for _, name := range tarnholm.FaultNames {
		out.Can = append(out.Can, FaultKind{name, tarnholm.FaultTexts[name]})
	}
	return out
}

type other struct{ *plainbox.Box }

func (b other) arm(name string, f Fault) error {
	return b.Arm(name, plainbox.Fault{Value: f.Value, Times: f.Times})
}

func (b other) simulated() Simulated {
	st := b.Status()
	out := Simulated{Name: st.Name, Maker: b.Maker, Model: b.Model, Version: st.Version, Phase: st.Phase, Faults: map[string]Fault{}, Can: []FaultKind{}}
	for name, f := range st.Faults {
		out.Faults[name] = Fault{f.Value, f.Times, f.Hit}
	}
	for _, name := range b.FaultNames() {
		out.Can = append(out.Can, FaultKind{name, plainbox.FaultTexts[name]})
	}
	return out
}

// any returns a box of any kind, or nil.
func (f *Fleet) any(name string) simulated {
	if b := f.boxes[name]; b != nil {
		return firewall{b}
	}
	if b := f.Plain(name); b != nil {
		return other{b}
	}
	return nil
}

func (f *Fleet) allNames() []string {
	names := slices.Clone(f.order)
	for _, b := range f.plain {
		names = append(names, b.Name)
	}
	return names
}
