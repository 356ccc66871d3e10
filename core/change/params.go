package change

import "encoding/json"

// Params are the parameters of a step; which type they have follows from its kind ([Spec.Params]).
type Params interface{ isParams() }

// FileParams are those of fetch, send and checksum.
type FileParams struct {
	File   *File `json:"file,omitempty"`   // nil: the hop's image
	Medium bool  `json:"medium,omitempty"` // of checksum: the file lies on a medium that a person carries in
}

// InstallParams are those of install and unpack.
type InstallParams struct {
	File      *File `json:"file,omitempty"`      // nil: the hop's image
	InPlace   bool  `json:"inPlace,omitempty"`   // there is no slot; the device restarts by itself
	OtherSlot bool  `json:"otherSlot,omitempty"` // into the slot that ran before, so that both hold the same
}

// ComponentParams are those of component.
type ComponentParams struct {
	Component string `json:"component"`
	Version   string `json:"version"`        // that it has afterwards
	File      *File  `json:"file,omitempty"` // nil: the main image brings it along
	// Units says of which units, where a device has several with components of their own.
	Units UnitScope `json:"units,omitempty"`
}

// ChildParams are those of preload, children and restart-children.
type ChildParams struct {
	Names   []string `json:"names,omitempty"`   // none: all
	Release bool     `json:"release,omitempty"` // of children: they run the release, and have not only joined
	File    *File    `json:"file,omitempty"`    // of a change that only concerns them: the image that they get; nil: that of the hop
}

// JoinParams are those of become-managed, join and release-child: which box, and whom it follows.
type JoinParams struct {
	Controller string `json:"controller"`     // name of the device that it follows
	Address    string `json:"address"`        // at which the box finds that
	Child      string `json:"child"`          // name of the box as a device here
	Serial     string `json:"serial"`         // of the box
	Name       string `json:"name,omitempty"` // that it has at the controller; "": not known yet
	Model      string `json:"model"`
	Group      string `json:"group,omitempty"` // whose settings it gets; "": those that the controller gives
}

// UnitParams are those of restart-units.
type UnitParams struct {
	Units UnitScope `json:"units"`
}

// PowerParams are those of power.
type PowerParams struct {
	Component string `json:"component"`
	Version   string `json:"version,omitempty"` // that it has afterwards; "": it only has to be there again
	ByHand    bool   `json:"byHand,omitempty"`  // a person switches it; the step waits for it
}

// RestartParams are those of restart, link and login.
type RestartParams struct {
	Component string `json:"component,omitempty"` // for whose sake the running installation is started again; "": another one starts
}

// LicenceParams are those of licence. Its key is kept sealed with the change.
type LicenceParams struct {
	Licence string `json:"licence"`
}

// PartParams are those of convert, validate and put-part.
type PartParams struct {
	Part string `json:"part,omitempty"` // of a backup; of convert "": all that can be put back
	// Serves, of put-part: it takes the place of a configuration that a device serves with, so that failing there or later asks for the way back.
	Serves bool `json:"serves,omitempty"`
}

// HandParams are those of a hand step.
type HandParams struct {
	Task string `json:"task"` // what is to be done
	// Cuts: once it is begun, the device that is replaced may not serve any more.
	Cuts bool `json:"cuts,omitempty"`
}

// PortParams are those of plugged.
type PortParams struct {
	Port string `json:"port"` // of the new device
}

// MediumParams are those of write-medium.
type MediumParams struct {
	File string `json:"file"` // its name on the medium
}

// SlotParams are those of what is done with a slot, or with a named copy of an installation.
type SlotParams struct {
	Once bool   `json:"once,omitempty"` // of choose-slot: for one start
	Slot string `json:"slot,omitempty"` // "": of choose-slot the one just written, else the idle one
	File *File  `json:"file,omitempty"` // of choose-slot: the image that is started as it lies on the device
	Name string `json:"name,omitempty"` // of rename-slot: the new one
}

// CleanUpParams are those of clean-up.
type CleanUpParams struct {
	Files []string `json:"files"`
}

func (FileParams) isParams()      {}
func (InstallParams) isParams()   {}
func (ComponentParams) isParams() {}
func (PowerParams) isParams()     {}
func (RestartParams) isParams()   {}
func (LicenceParams) isParams()   {}
func (PartParams) isParams()      {}
func (HandParams) isParams()      {}
func (SlotParams) isParams()      {}
func (CleanUpParams) isParams()   {}
func (UnitParams) isParams()      {}
func (ChildParams) isParams()     {}
func (JoinParams) isParams()      {}
func (PortParams) isParams()      {}
func (MediumParams) isParams()    {}

// A ParamsType is a type of parameters.
type ParamsType struct {
	Zero Params // empty parameters
	read func([]byte) (Params, error)
}

// typed is the type P as a value.
func typed[P Params]() *ParamsType {
	var zero P
	return &ParamsType{zero, func(data []byte) (Params, error) {
		var p P
		err := json.Unmarshal(data, &p)
		return p, err
	}}
}

// Of returns the parameters of a step as those of type P; the zero value when its kind has others.
func Of[P Params](s *Step) P {
	p, _ := s.Params.(P)
	return p
}

// File is the file that a step moves, compares or installs; nil: the hop's image, or it has to do with none.
func (s *Step) File() *File { return fileOf(s.Params) }

func fileOf(p Params) *File {
	switch p := p.(type) {
	case FileParams:
		return p.File
	case InstallParams:
		return p.File
	case ComponentParams:
		return p.File
	case SlotParams:
		return p.File
	case ChildParams:
		return p.File
	}
	return nil
}

// Component is the component that a step updates, or for whose sake it starts something; "" for none.
func (s *Step) Component() string {
	switch p := s.Params.(type) {
	case ComponentParams:
		return p.Component
	case PowerParams:
		return p.Component
	case RestartParams:
		return p.Component
	}
	return ""
}

// Version is the version that a component has after a step; "" where it only has to be there again.
func (s *Step) Version() string {
	switch p := s.Params.(type) {
	case ComponentParams:
		return p.Version
	case PowerParams:
		return p.Version
	}
	return ""
}

// ByHand reports whether a person does what a step waits for.
func (s *Step) ByHand() bool { return Of[PowerParams](s).ByHand }

// Part is the part of a backup that a step converts, has read or puts back.
func (s *Step) Part() string { return Of[PartParams](s).Part }

// Once reports whether a step chooses a slot for one start.
func (s *Step) Once() bool { return Of[SlotParams](s).Once }

// InPlace reports whether a step installs over the running installation.
func (s *Step) InPlace() bool { return Of[InstallParams](s).InPlace }

// OtherSlot reports whether a step writes the last release into the slot that ran before, too.
func (s *Step) OtherSlot() bool { return Of[InstallParams](s).OtherSlot }

// Irreversible reports whether a step changes which installation the device runs, so that failing there or later asks for the way
// back.
func (s *Step) Irreversible() bool {
	spec, p := s.Kind.Spec(), s.Params
	if spec.Irreversible == nil {
		return false
	}
	if p == nil && spec.Params != nil {
		p = spec.Params.Zero
	}
	return spec.Irreversible(p)
}
