// Package path computes the supported way from one firmware version to another, with the rule behind every hop, the
// refusal behind every jump not taken, and other ways that are really different.
//
// A question is a portrait, an aim and a policy. The catalogue's rules and the portrait's facts make a graph whose nodes
// are releases; a search from the aim backwards gives the best next stop from everywhere.
//
// Cost is lexicographic: configuration resets first, then restarts that interrupt service, then expected time in steps that a person cares
// about: a stop that is merely allowed and not preferred counts as five minutes more, so that no smaller difference wins over a preferred
// release; then the number of such stops. Among ways that cost the same the one with the newer next stop wins,
// so that the answer is always the same.
package path

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/portrait"
	"verimorph/core/version"
)

// A Question asks for a path.
type Question struct {
	Portrait     *portrait.Portrait // model and version at least
	Aim          Aim
	Policy       Policy
	Alternatives int // how many other ways to look for
}

// Policy says what a path may do.
type Policy struct {
	Previews     bool     // pass through or end at preview releases
	Reset        bool     // take hops that reset the configuration
	MaxHops      int      // at most so many hops; 0: any number
	Services     []string // services that every stop must be able to run
	DropChildren bool     // stop at releases that no longer serve child models the device has
}

// A Path is a supported way. Hops is empty when the device is where it should be.
type Path struct {
	Family       string          `json:"family"`
	Model        string          `json:"model"`
	From         version.Version `json:"from"`
	To           version.Version `json:"to"`
	Aim          string          `json:"aim"` // how the aim was chosen; "" when it was named
	Hops         []Hop           `json:"hops"`
	NotTaken     []Jump          `json:"notTaken"` // the direct jump first, then shorter cuts
	Alternatives []Alternative   `json:"alternatives"`
	Notes        []string        `json:"notes"`
}

// A Hop is one stop to the next.
type Hop struct {
	From          version.Version    `json:"from"`
	To            version.Version    `json:"to"`
	NewModel      string             `json:"newModel"`           // the model afterwards, when the hop changes the platform
	Platform      *Platform          `json:"platform,omitempty"` // what else that changes; nil when the hop does not change it
	Stage         catalog.Stage      `json:"stage"`
	Permit        catalog.Citation   `json:"permit"`     // the rule that permits it
	Because       []catalog.Citation `json:"because"`    // why this stop is needed: what refuses going past it; empty for the aim itself
	Config        string             `json:"config"`     // catalog.ConfigKept, ConfigConverted or ConfigReset
	Restarts      int                `json:"restarts"`   // that interrupt service, those of components included
	Image         catalog.Image      `json:"image"`      // the image to install
	Others        []OtherImage       `json:"others"`     // further files that must be on the device
	Components    []Component        `json:"components"` // in the order in which they are updated
	Low           float64            `json:"low"`        // expected seconds, at the device's own pace
	High          float64            `json:"high"`
	Notes         []Note             `json:"notes"`
	HandSteps     []HandStep         `json:"handSteps"`
	Prerequisites []Prerequisite     `json:"prerequisites"`
	Effects       []catalog.Effect   `json:"effects"`
	Lost          []string           `json:"lost"` // services that cannot run at the stop
}

// A Platform is what a hop onto another platform changes beside the release.
type Platform struct {
	InPlace bool                 `json:"inPlace"` // the same machine goes on
	Ports   []catalog.PortChange `json:"ports,omitempty"`
	Changes []catalog.Foretold   `json:"changes,omitempty"`
}

// Foretells reports whether a value is to be another one afterwards; see [catalog.Foretold].
func (p *Platform) Foretells(value string) bool {
	return p != nil && slices.ContainsFunc(p.Changes, func(f catalog.Foretold) bool { return f.Value == value })
}

// ModelAt is the model of the device when hop i begins; that of the end with the number of hops.
func (p *Path) ModelAt(i int) string {
	model := p.Model
	for _, h := range p.Hops[:max(min(i, len(p.Hops)), 0)] {
		model = cmp.Or(h.NewModel, model)
	}
	return model
}

// Renamed are the ports that have another name on one model of the path than on another, either way; none where a model is not of the path.
func (p *Path) Renamed(from, to string) (out []catalog.PortChange) {
	begins, ends := p.stopOf(from), p.stopOf(to)
	for i := min(begins, ends); i >= 0 && i < max(begins, ends); i++ {
		if p.Hops[i].Platform == nil {
			continue
		}
		for _, c := range p.Hops[i].Platform.Ports {
			if k := slices.IndexFunc(out, func(o catalog.PortChange) bool { return o.To == c.From }); k >= 0 {
				out[k].To = c.To
			} else {
				out = append(out, c)
			}
		}
	}
	if ends < begins {
		for i, c := range out {
			out[i] = catalog.PortChange{From: c.To, To: c.From}
		}
	}
	return out
}

// stopOf is the first stop, from 0, at which the device is of a model; -1 when it never is.
func (p *Path) stopOf(model string) int {
	for i := range len(p.Hops) + 1 {
		if p.ModelAt(i) == model {
			return i
		}
	}
	return -1
}

// LastModel is the model of the device at the end of the path.
func (p *Path) LastModel() string { return p.ModelAt(len(p.Hops)) }

// An OtherImage must be on the device though it is not the one to install.
type OtherImage struct {
	catalog.Image
	Role    string `json:"role"` // "base" or the component's name
	Version string `json:"version"`
}

// A Component is firmware beside the main image that the hop brings along.
type Component struct {
	Name       string           `json:"name"`
	Title      string           `json:"title"`
	From       string           `json:"from"` // From is "" when it is not known
	To         string           `json:"to"`
	Order      string           `json:"order"` // "before" or "after" the main image
	Trigger    string           `json:"trigger"`
	Restarts   string           `json:"restarts"`   // the part that restarts; "" when none does
	Interrupts bool             `json:"interrupts"` // the device's service
	Low        float64          `json:"low"`
	High       float64          `json:"high"`
	At         catalog.Position `json:"at"`
}

// A Note of the release that matters to this device, or may matter.
type Note struct {
	Kind    string        `json:"kind"`
	Text    string        `json:"text"`
	Matters catalog.Truth `json:"matters"` // Yes or Unknown
	When    string        `json:"when"`    // in words; "" when it matters to every device
}

// A HandStep is work for a person.
type HandStep struct {
	Due     string        `json:"due"` // "before" or "after"
	Text    string        `json:"text"`
	Matters catalog.Truth `json:"matters"`
	When    string        `json:"when"`
}

// A Prerequisite is what the device must be like for the hop.
type Prerequisite struct {
	ID       string        `json:"id"` // "" for the room that the images take
	Kind     string        `json:"kind"`
	Text     string        `json:"text"`
	State    catalog.Truth `json:"state"` // Yes: met, No: to be put right first, Unknown
	Evidence string        `json:"evidence"`
	Remedy   string        `json:"remedy"`
}

// A Jump is a tempting hop that is not supported.
type Jump struct {
	From     version.Version    `json:"from"`
	To       version.Version    `json:"to"`
	Refusals []catalog.Citation `json:"refusals"`
}

// An Alternative is another way to the same aim that stands on really different stops: at some stop a rule, a train or
// a component table tells the two ways apart.
type Alternative struct {
	Hops     []Hop   `json:"hops"`
	Low      float64 `json:"low"` // seconds
	High     float64 `json:"high"`
	Restarts int     `json:"restarts"`
	Resets   int     `json:"resets"`
	Why      string  `json:"why"` // how it differs from the best way
}

// A NoPathError says why there is no path, how far one could get and what would have to change.
type NoPathError struct {
	Family, Model string
	From, To      version.Version
	Aim           string
	Blocks        []catalog.Citation // what refuses the aim itself or the direct jump
	Nearest       version.Version    // the reachable release closest to the aim; zero when there is none
	Beyond        bool               // Nearest lies beyond the aim: nothing that can be reached lies before it
	Changes       []string           // what would have to change for a path to exist
}

func (e *NoPathError) Error() string {
	var s strings.Builder
	fmt.Fprintf(&s, "no supported path for %s from %s to %s", e.Model, e.From, e.goal())
	for i, b := range e.Blocks {
		s.WriteString(map[bool]string{true: ": ", false: "; "}[i == 0])
		s.WriteString(b.String())
	}
	if !e.Nearest.IsZero() {
		fmt.Fprintf(&s, "; the nearest release that can be reached is %s", e.Nearest)
		if e.Beyond {
			s.WriteString(", which lies beyond the aim: nothing before it can be reached")
		}
	}
	if len(e.Changes) > 0 {
		s.WriteString("; there would be one if " + strings.Join(e.Changes, ", or if "))
	}
	return s.String()
}

func (e *NoPathError) goal() string {
	if e.To.IsZero() {
		return e.Aim
	}
	return e.To.String()
}

// An UnknownError says that a name is not in the catalogue, with what is.
type UnknownError struct {
	What, Name, Family string
	Near               []string // known names that look alike, best first
	Spelled            string   // how the catalogue writes it; "" when it does not know it
}

func (e *UnknownError) Error() string {
	if e.Spelled != "" {
		return fmt.Sprintf("%s %s is written %s in the catalogue of family %s; the two are one version, so write one of them everywhere", e.What, e.Name, e.Spelled, e.Family)
	}
	s := fmt.Sprintf("%s %s is not in the catalogue", e.What, e.Name)
	if e.Family != "" {
		s += " of family " + e.Family
	}
	if len(e.Near) > 0 {
		s += "; known and near: " + strings.Join(e.Near, ", ")
	}
	return s
}
