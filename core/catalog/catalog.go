// Package catalog holds what makers support: families, models, releases, images, the rules of supported hops, and
// how long things take. It is read from YAML files (docs/formats/catalogue.md) and needs no service.
package catalog

import (
	"slices"
	"time"

	"verimorph/core/version"
)

// Format is the first line's value in every catalogue file of this generation.
const Format = "verimorph-catalogue/1"

// A Catalogue is a set of families with distinct names.
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
	Configuration      Configuration
	Models             []Model
	Releases           []Release // in ascending order of version
	Rules              []Rule
	Durations          map[string]Span // expected time by step kind, at the device's own pace
	SendRate           Rate            // how fast the boxes take an image
	File               string          // where it was read
}

// Configuration says how the family's configuration is written.
type Configuration struct {
	Syntax  string   // "block-indent"
	Secrets []string // keywords whose values are secret
	Ordered []string // blocks in which the order of entries matters
}

// A Model is a hardware type.
type Model struct {
	Name, Title string
	Last        version.Range // releases it may run; zero means all
	LastText    string        // the maker's words for that limit
	At          Position
}

// A Release is one version of the family.
type Release struct {
	Version version.Version
	Train   string
	Date    time.Time
	Stage   Stage
	Images  []Image
	Notes   []string
	At      Position
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
	File      string
	Models    []string
	Size      int64 // bytes
	Installed int64 // bytes it takes in a slot; 0 when the maker does not say
	SHA256    string
}

// Rule kinds.
const (
	KindHop        = "hop"         // permits going from one range to another
	KindLeaveTrain = "leave-train" // a train is left only from its newest preferred release
	KindCrossing   = "crossing"    // passing a version demands where one leaves from or lands
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
	From, To  version.Range // hop: the ranges
	Down      bool          // hop: permits going down instead of up
	Config    string        // hop: what happens to the configuration
	Train     string        // leave-train: which train, "" for every train
	Crossing  version.Version
	LeaveFrom version.Range // crossing: where one must come from; zero: anywhere
	LandOn    version.Range // crossing: where one must arrive; zero: anywhere
	Text      string        // the maker's words
	At        Position
}

// For reports whether the rule speaks about the model.
func (r *Rule) For(model string) bool { return len(r.Models) == 0 || slices.Contains(r.Models, model) }

// A Position is a place in a file, counted from 1.
type Position struct {
	File         string
	Line, Column int
}

// A Span is an expected range and a hard limit in seconds at the device's own pace.
type Span struct {
	Low, High, Limit float64
}

// A Rate is a range in bytes a second.
type Rate struct {
	Low, High float64
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
