// Package catalog holds what makers support: families, models, releases, images, the rules of supported hops, and how long steps take. It reads
// YAML files (docs/formats/catalogue.md) and needs no service.
//
// [ReadFile] reads one file, [ReadDir] joins a folder of files into a [Catalogue] and checks them against each other. [Hops] answers which hops the rules
// support for a model. What is wrong with a file comes as findings with file, line and column.
package catalog

import (
	"regexp"
	"slices"
	"time"

	"verimorph/core/version"
	"verimorph/core/yamldoc"
)

// Format is the first line's value in every catalogue file of this generation.
const Format = "verimorph-catalogue/1"

// A Catalogue is a set of families with distinct names, each with models of its own.
type Catalogue struct {
	Families []*Family
}

// Family returns the family with that name, or nil.
func (c *Catalogue) Family(name string) *Family {
	for _, f := range c.Families {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// FamilyOfModel returns the family that has the model, or nil.
func (c *Catalogue) FamilyOfModel(model string) *Family {
	for _, f := range c.Families {
		if f.Model(model) != nil {
			return f
		}
	}
	return nil
}

// A Family is one firmware line of one maker.
type Family struct {
	Maker, Name, Title string
	Dialect            string // name of the dialect its boxes speak
	Scheme             *version.Scheme
	SigningKey         string // Ed25519 public key in base64 (RFC 8032) that signs its images; "" when the maker does not sign
	Header             ImageHeader
	Configuration      Configuration
	Models             []Model
	Releases           []Release // in ascending order of version
	Rules              []Rule
	Conditions         []Condition
	Services           []Service
	Requirements       []Requirement
	Components         []Component
	Skew               []Skew
	Effects            []Effect
	Messages           []Message       // that its boxes send in a change of firmware, though nothing is wrong
	Durations          map[string]Span // expected time by step kind, at the device's own pace
	SendRate           Rate            // how fast the boxes take an image
	File               string          // where it was read
}

// An ImageHeader says how the family's image files begin.
type ImageHeader struct {
	Bytes int            // how much of the file it takes
	Match *regexp.Regexp // with groups models (names with commas between), version and, for components, part; nil: not known
}

// Configuration says how the family's configuration is written.
type Configuration struct {
	Syntax  string   // "block-indent"
	Secrets []string // keywords whose values are secret
	Ordered []string // blocks in which the order of entries matters
}

// A Model is a hardware type.
type Model struct {
	Name, Title  string
	Last         version.Range // releases it may run; zero means all
	LastText     string        // the maker's words for that limit
	EndOfSupport time.Time     // releases published later do not serve it; zero: not announced
	Successor    string        // model that replaces it
	Generations  []string      // hardware generations
	Role         string        // "" for a box on its own, "controller" or "child"
	At           Position
}

// A Release is one version of the family.
type Release struct {
	Version  version.Version
	Train    string
	Date     time.Time
	Stage    Stage
	Images   []Image
	Base     version.Version // release whose image must be on the device too, though it is not installed; zero: none
	Fixes    []string        // advisories and faults, by their numbers
	Notes    []Note
	Messages []Message // that boxes send when it is installed, though nothing is wrong
	At       Position
}

// A Message is trouble that devices report in a change though nothing is wrong: it is foretold.
type Message struct {
	Match *regexp.Regexp // on the text
	Text  string         // why it is expected
	At    Position
}

// Stage says how far a release has ripened.
type Stage string

// The stages, from least to most advisable; withdrawn releases are never suggested.
const (
	Withdrawn Stage = "withdrawn"
	Preview   Stage = "preview"
	General   Stage = "general"
	Preferred Stage = "preferred"
)

// An Image is a firmware file of a release for some models.
type Image struct {
	File      string   `json:"file"`
	Models    []string `json:"models"`
	Size      int64    `json:"size"`      // bytes
	Installed int64    `json:"installed"` // bytes it takes in a slot; 0 when the maker does not say
	SHA256    string   `json:"sha256"`
	At        Position `json:"at"`
}

// Note kinds.
const (
	NoteFix       = "fix"
	NoteCaveat    = "caveat"
	NoteBehaviour = "behaviour"
	NoteInfo      = "info"
)

// A Note is a piece of a release's notes. A hand step is work for a person, before or after the installation.
type Note struct {
	Kind     string
	Text     string
	When     When
	HandStep string
	Due      string // "before" or "after", with a hand step
	At       Position
}

// Rule kinds.
const (
	KindHop            = "hop"             // permits going from one range to another
	KindLeaveTrain     = "leave-train"     // a train is left only from its newest preferred release or a later one
	KindCrossing       = "crossing"        // passing a version demands where one leaves from or lands
	KindPlatformChange = "platform-change" // permits going on as another model
)

// Configuration effects of a hop, from harmless to worst.
const (
	ConfigKept      = "kept"
	ConfigConverted = "converted"
	ConfigReset     = "reset"
)

// A Rule permits or restricts hops. Every rule has an identifier that reasons cite.
type Rule struct {
	ID        string
	Kind      string
	Models    []string      // empty: all models
	From, To  version.Range // hop, platform-change: the ranges
	Down      bool          // hop: permits going down instead of up
	SameTrain bool          // hop: only inside one train, whichever
	Config    string        // hop, platform-change: what happens to the configuration
	Restarts  int           // hop, platform-change: restarts that interrupt service
	HandStep  string        // hop, platform-change: work for a person
	Due       string        // with a hand step: "before" (the default) or "after" the hop
	Train     string        // leave-train: which train, "" for every train
	Crossing  version.Version
	LeaveFrom version.Range // crossing: where one must come from; zero: anywhere
	LandOn    version.Range // crossing: where one must arrive; zero: anywhere
	FromModel string        // platform-change
	ToModel   string        // platform-change
	InPlace   bool          // platform-change: the same machine goes on, and keeps its memory, its storage and its host
	Ports     []PortChange  // platform-change: ports that have another name afterwards
	Changes   []Foretold    // platform-change: what tells monitoring which device this is, and will be something else
	Text      string        // the maker's words
	At        Position
}

// A PortChange is a port that has another name on another platform.
type PortChange struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Values that a change of platform may foretell beside those that a dialect reads.
const (
	ValueSerial  = "serial"
	ValueHostKey = "host-key"
)

// A Foretold is a value by which a device is known, and which a change of platform changes: its serial, its host key, or what a reading of its dialect
// gives. What is not foretold has to stay as it is.
type Foretold struct {
	Value   string `json:"value"`             // ValueSerial, ValueHostKey, or the name of a reading
	Text    string `json:"text"`              // what that means for whoever watches the device
	Becomes string `json:"becomes,omitempty"` // regular expression that the new value matches; "": it only has to be another one
}

// For reports whether the rule speaks about the model.
func (r *Rule) For(model string) bool { return len(r.Models) == 0 || slices.Contains(r.Models, model) }

// A Condition is something a configuration may fulfil, such as using a feature. The configuration fulfils it when it
// has a statement at one of the paths ("tunnel/peer": a statement whose first word is peer inside one that begins with
// tunnel).
type Condition struct {
	Name, Text string
	Has        []string
	At         Position
}

// A Service is something the boxes do for their users that not every release, model or generation can do.
type Service struct {
	Name, Text  string
	Runs        version.Range // releases that can do it
	Models      []string      // empty: all
	Generations []string      // empty: all
	Condition   string        // condition that tells whether a device uses it; "" when only a person knows
	At          Position
}

// Requirement kinds.
const (
	NeedStorage       = "storage"
	NeedMemory        = "memory"
	NeedPlatform      = "platform"
	NeedFileSystem    = "file-system"
	NeedLicence       = "licence"
	NeedContent       = "content"
	NeedBootVariable  = "boot-variable"
	NeedConfiguration = "configuration"
)

// A Requirement is what a device must be like to install some releases. When it is not met and there is a remedy, a
// person can put it right first; without one the hop is not possible.
type Requirement struct {
	ID, Kind  string
	Models    []string
	Install   version.Range   // releases it holds for
	Leaving   version.Range   // only when coming from here; zero: from anywhere
	Bytes     int64           // storage: free; memory: at least
	OneOf     []string        // platform, file-system, licence
	Component string          // content: which component
	AtLeast   version.Version // content
	Variable  string          // boot-variable: must be clear, or
	Value     string          // boot-variable: must have this value
	Uses      string          // configuration: condition that must hold
	Lacks     string          // configuration: condition that must not hold
	Remedy    string
	Text      string
	At        Position
}

// For reports whether the requirement speaks about the model.
func (r *Requirement) For(model string) bool {
	return len(r.Models) == 0 || slices.Contains(r.Models, model)
}

// Triggers of a component's update.
const (
	TriggerItself     = "by-itself"   // the release does it while it starts
	TriggerCommand    = "command"     // a command does it
	TriggerRestart    = "restart"     // a command, then one more restart of the device
	TriggerPowerCycle = "power-cycle" // a command, then power off and on
)

// A Component is firmware beside the main image that must match it.
type Component struct {
	Name, Title, Text string
	Trigger           string
	Order             string // "before" or "after" the main image
	Restarts          string // the part that restarts; "" when none does
	Duration          Span
	Rows              []ComponentRow
	At                Position
}

// Interrupts reports whether updating the component interrupts the device's service.
func (c *Component) Interrupts() bool {
	return c.Trigger == TriggerRestart || c.Trigger == TriggerPowerCycle
}

// A ComponentRow says which version of the component goes with some releases.
type ComponentRow struct {
	Releases    version.Range
	Models      []string
	Generations []string
	Version     version.Version // exactly this one, or
	AtLeast     version.Version // this one or a later one
	Image       *Image          // the file it comes in; nil when the main image has it
	At          Position
}

// Skew tolerances.
const (
	SkewMembers  = "members"  // between members of one kind
	SkewChildren = "children" // one: the controller, other: its children
)

// A Skew says which different versions may work together for the time of a change. Equal versions always may.
type Skew struct {
	ID, Between string
	One, Other  version.Range
	SameTrain   bool // releases of one train may work together
	Text        string
	At          Position
}

// An Effect is what a kind of client notices of a step.
type Effect struct {
	Step    string   `json:"step"`
	Clients string   `json:"clients"`
	Effect  string   `json:"effect"` // "none", "degraded" or "outage"
	Text    string   `json:"text"`
	When    When     `json:"when"`
	At      Position `json:"at"`
}

// A Position is a place in a file, counted from 1.
type Position = yamldoc.Position

// A Finding is something wrong or doubtful in a catalogue file.
type Finding = yamldoc.Finding

// Findings is a list of findings.
type Findings = yamldoc.Findings

// A Span is an expected range and a hard limit in seconds at the device's own pace.
type Span struct {
	Low, High, Limit float64
}

// A Rate is a range in bytes a second.
type Rate struct {
	Low, High float64
}

// A Citation names a rule and what it says here.
type Citation struct {
	Rule string   `json:"rule"` // identifier of the rule; "" when no rule speaks (nothing permits it)
	Text string   `json:"text"`
	At   Position `json:"at"`
}

func (c Citation) String() string {
	if c.Rule == "" {
		return c.Text
	}
	return c.Text + " [" + c.Rule + "]"
}

// Model returns the model with that name, or nil.
func (f *Family) Model(name string) *Model {
	for i := range f.Models {
		if f.Models[i].Name == name {
			return &f.Models[i]
		}
	}
	return nil
}

// Release returns the release of that version, or nil.
func (f *Family) Release(v version.Version) *Release {
	i, ok := slices.BinarySearchFunc(f.Releases, v, func(r Release, v version.Version) int { return r.Version.Compare(v) })
	if !ok {
		return nil
	}
	return &f.Releases[i]
}

// Named returns the index of the release with that text as its version, or -1.
func (f *Family) Named(text string) int {
	v, err := f.Scheme.Parse(text)
	if err != nil {
		return -1
	}
	i, ok := slices.BinarySearchFunc(f.Releases, v, func(r Release, v version.Version) int { return r.Version.Compare(v) })
	if !ok {
		return -1
	}
	return i
}

// Spelled returns the release whose version has the same numbers and words as a text but is written differently; nil when there is none.
func (f *Family) Spelled(text string) *Release {
	v, err := f.Scheme.Parse(text)
	if err != nil {
		return nil
	}
	i := slices.IndexFunc(f.Releases, func(r Release) bool { return r.Version.Order(v) == 0 && r.Version.String() != text })
	if i < 0 {
		return nil
	}
	return &f.Releases[i]
}

// Beside returns a copy of the family with releases of which nothing is known but that devices run them: they can be left, not stopped at. Their
// train is that of the described release before them, or after.
func (f *Family) Beside(versions []version.Version) *Family {
	out := *f
	out.Releases = slices.Clone(f.Releases)
	for _, v := range versions {
		i, _ := slices.BinarySearchFunc(out.Releases, v, func(r Release, v version.Version) int { return r.Version.Compare(v) })
		r := Release{Version: v, Stage: General}
		switch {
		case i > 0 && (i == len(out.Releases) || !v.Within(out.Releases[i].Train)):
			r.Train, r.At = out.Releases[i-1].Train, out.Releases[i-1].At
		case i < len(out.Releases):
			r.Train, r.At = out.Releases[i].Train, out.Releases[i].At
		}
		out.Releases = slices.Insert(out.Releases, i, r)
	}
	return &out
}

// Component returns the component of that name, or nil.
func (f *Family) Component(name string) *Component {
	for i := range f.Components {
		if f.Components[i].Name == name {
			return &f.Components[i]
		}
	}
	return nil
}

// Row returns what goes with a release on a model of a generation, or nil. An unknown generation ("") fits every row of
// the model's generations; the first one is taken then.
func (c *Component) Row(v version.Version, m *Model, generation string) *ComponentRow {
	for i := range c.Rows {
		if c.Rows[i].fits(v, m, generation) {
			return &c.Rows[i]
		}
	}
	return nil
}

func (r *ComponentRow) fits(v version.Version, m *Model, generation string) bool {
	if !r.Releases.Contains(v) || len(r.Models) > 0 && !slices.Contains(r.Models, m.Name) {
		return false
	}
	if len(r.Generations) == 0 || slices.Contains(r.Generations, generation) {
		return true
	}
	return generation == "" && slices.ContainsFunc(m.Generations, func(g string) bool { return slices.Contains(r.Generations, g) })
}

// Image returns the release's image for a model, or nil.
func (r *Release) Image(model string) *Image {
	for i := range r.Images {
		if slices.Contains(r.Images[i].Models, model) {
			return &r.Images[i]
		}
	}
	return nil
}

// NewestPreferred returns the newest preferred release of a train, or nil.
func (f *Family) NewestPreferred(train string) *Release {
	for i := len(f.Releases) - 1; i >= 0; i-- {
		if r := &f.Releases[i]; r.Train == train && r.Stage == Preferred {
			return r
		}
	}
	return nil
}
