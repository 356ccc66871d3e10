package change

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
)

// Boxes that follow a device: access points of a controller, forwarding nodes. The device reports them as rows; none has a lane of its own. They fetch the
// new image beforehand where they can, join again once the device is back, and start anew in waves by neighbourhood: those of one place stand in for
// each other, so that no place is without.

// ChildAbilities say what a kind of device can do with its children.
type ChildAbilities struct {
	Told      bool   // it says which children it has
	Preload   bool   // they fetch an image while they work
	Files     bool   // it needs their images as files of its own for that
	Restart   bool   // one of them can be started anew
	Authorise bool   // a new one can be let join
	Drain     bool   // one of them can be taken out of service and back, so they go one by one
	Called    string // what they are called, in the plural
	Group     bool   // one of them can be given the settings of a group
	Release   bool   // one of them can be made stand-alone
}

// A ChildOf is a child as it stood when the change was drafted.
type ChildOf struct {
	Name    string `json:"name"`
	Serial  string `json:"serial,omitempty"`
	Model   string `json:"model"`
	Version string `json:"version,omitempty"`
	Place   string `json:"place,omitempty"`
}

// Children are what a change of a device that others follow was drafted from, as it is stored with the change.
type Children struct {
	Children  []ChildOf         `json:"children"`
	Dropped   map[string]string `json:"dropped,omitempty"`   // by model that the release does not serve any more: why
	Authorise []string          `json:"authorise,omitempty"` // serials, and ranges of them, of new ones that are let join
	Alone     []string          `json:"alone,omitempty"`     // places with one of them, which is without while that starts anew
	Called    string            `json:"called"`
	OneByOne  bool              `json:"oneByOne,omitempty"` // each is drained before it starts anew
	AtOnce    bool              `json:"atOnce,omitempty"`   // they start anew by themselves, all at once
}

// ChildrenIn are the children that a device shows by their names.
func ChildrenIn(p *portrait.Portrait) (out []ChildOf) {
	for i := range p.Children {
		if c := &p.Children[i]; c.Name != "" && c.Waiting != portrait.Yes {
			out = append(out, ChildOf{c.Name, c.Serial, c.Model, c.Version, c.Place})
		}
	}
	return out
}

// Served reports whether a release serves a child as a change knows it.
func (c *Children) Served(child *ChildOf) bool {
	_, dropped := c.Dropped[child.Model]
	return !dropped
}

// followed reports whether the children of the device are part of the plan.
func (j *Job) followed() bool {
	return j.Can.Children.Told && len(j.Children) > 0
}

// ChildrenOf is what is stored of the children of a job; nil where it has none.
func (j *Job) ChildrenOf() *Children {
	if !j.followed() {
		return nil
	}
	out := &Children{Children: j.Children, Authorise: j.Authorise, Called: j.called(), OneByOne: j.Can.Children.Drain, AtOnce: !j.Can.Children.Restart, Dropped: map[string]string{}}
	if n := len(j.Path.Hops); n > 0 && j.Family != nil {
		if to := j.Family.Release(j.Path.Hops[n-1].To); to != nil {
			for _, c := range j.Children {
				if m := j.Family.Model(c.Model); m != nil {
					if why := m.Outgrown(to); why != nil {
						out.Dropped[c.Model] = why.Text
					}
				}
			}
		}
	}
	in := map[string]int{}
	for i := range j.Children {
		if out.Served(&j.Children[i]) {
			in[j.Children[i].Place]++
		}
	}
	for i := range j.Children {
		if place := j.Children[i].Place; in[place] == 1 && out.Served(&j.Children[i]) {
			out.Alone = append(out.Alone, place)
		}
	}
	slices.Sort(out.Alone)
	return out
}

// mostWaves is in how many waves the children of a place start anew, where there are so many: a third of them is away at a time.
const mostWaves = 3

// Waves are the children in the order in which they start anew: in none of them all of a place. Those that are alone at their place go last, when the
// others have shown how it goes. With one at a time each has a wave of its own.
func Waves(children []ChildOf, one bool) (waves [][]string) {
	if one {
		for _, c := range children {
			waves = append(waves, []string{c.Name})
		}
		return waves
	}
	places := map[string]int{}
	for _, c := range children {
		places[c.Place]++
	}
	waves = make([][]string, mostWaves+1)
	seen := map[string]int{}
	for _, c := range children {
		n := places[c.Place]
		w := mostWaves // alone
		if n > 1 {
			w = seen[c.Place] % min(n, mostWaves)
		}
		seen[c.Place]++
		waves[w] = append(waves[w], c.Name)
	}
	return slices.DeleteFunc(waves, func(w []string) bool { return len(w) == 0 })
}

// preload is the step in which children fetch their image; it is left out where they cannot.
func (j *Job) preload(hop int) (out []Step) {
	if !j.followed() || !j.Can.Children.Preload {
		return nil
	}
	s := j.step(hop, Preload)
	s.Title = "Preload " + j.called()
	return []Step{s}
}

// called is what the children of the device are called, in the plural.
func (j *Job) called() string { return cmp.Or(j.Can.Children.Called, "children") }

// bringBack lists the steps by which the children of the device, or of its ensemble, follow a hop.
func (j *Job) bringBack(hop int) (out []Step) {
	if !j.followed() {
		return nil
	}
	all := j.ChildrenOf()
	wait := func(release bool, title string) {
		s := j.step(hop, AwaitChildren, ChildParams{Release: release})
		s.Title = title
		out = append(out, s)
	}
	if !j.Can.Children.Restart {
		wait(true, "Wait for "+j.called()+" on the release")
		return out
	}
	wait(false, "Wait for "+j.called()+" to join")
	served := slices.DeleteFunc(slices.Clone(j.Children), func(c ChildOf) bool { return !all.Served(&c) })
	out = append(out, j.waves(hop, served, nil)...)
	wait(true, "Wait for "+j.called()+" on the release")
	return out
}

// AddChildImages adds to each hop of a path the images of those models of children that its release serves.
func AddChildImages(f *catalog.Family, now *portrait.Portrait, p *path.Path) {
	var models []string
	for _, c := range ChildrenIn(now) {
		if !slices.Contains(models, c.Model) {
			models = append(models, c.Model)
		}
	}
	for i := range p.Hops {
		h := &p.Hops[i]
		release := f.Release(h.To)
		for _, m := range models {
			if model := f.Model(m); release != nil && model != nil && model.Outgrown(release) == nil && release.Image(m) != nil {
				h.Others = append(h.Others, path.OtherImage{Image: *release.Image(m), Role: ChildRole(m), Version: h.To.String()})
			}
		}
	}
}

// waves are the steps in which children start anew; file is the image that they get, nil that of the hop.
func (j *Job) waves(hop int, children []ChildOf, file *File) (out []Step) {
	waves := Waves(children, j.Can.Children.Drain)
	for i, names := range waves {
		s := j.step(hop, RestartChildren, ChildParams{Names: names, File: file})
		s.Title = fmt.Sprintf("Restart %s, wave %d of %d", j.called(), i+1, len(waves))
		if len(names) == 1 {
			s.Title = "Restart " + names[0]
		}
		out = append(out, s)
	}
	return out
}

// childImage lists the steps that bring an image onto the children of its model, through the device that they follow, which stays as it is.
func (j *Job) childImage(p ChildParams) (out []Step) {
	mine := slices.DeleteFunc(slices.Clone(j.Children), func(c ChildOf) bool { return c.Model != p.File.Model })
	for _, c := range mine {
		p.Names = append(p.Names, c.Name)
	}
	if j.Can.Children.Files {
		out = j.bring(0, p.File)
	}
	if j.Can.Children.Preload {
		s := j.step(0, Preload, p)
		s.Title = "Preload " + j.called()
		out = append(out, s)
	}
	out = append(out, j.waves(0, mine, p.File)...)
	p.Release = true
	s := j.step(0, AwaitChildren, p)
	s.Title = "Wait for " + j.called() + " on " + p.File.Version
	return append(out, s)
}

// ChildRole is the role of an image of a path that is for children of a model.
func ChildRole(model string) string { return childRole + model }

const childRole = "child "

// SerialIn reports whether a serial is one of those that were stated, or lies in a stated range FROM..TO. Serials of a range are as long as its ends, and
// differ from them in digits at their ends only.
func SerialIn(serial string, stated []string) bool {
	return slices.ContainsFunc(stated, func(s string) bool {
		from, to, isRange := strings.Cut(s, "..")
		if !isRange {
			return s == serial
		}
		stem, low, err := splitSerial(from)
		upper, high, err2 := splitSerial(to)
		mine, n, err3 := splitSerial(serial)
		return err == nil && err2 == nil && err3 == nil && stem == upper && stem == mine && len(from) == len(serial) && low <= n && n <= high
	})
}

// CheckSerials says what is wrong with serials and ranges of them.
func CheckSerials(stated []string) error {
	for _, s := range stated {
		from, to, isRange := strings.Cut(s, "..")
		if !isRange {
			if !serialForm.MatchString(s) {
				return fmt.Errorf("%q is no serial", s)
			}
			continue
		}
		stem, low, err := splitSerial(from)
		upper, high, err2 := splitSerial(to)
		switch {
		case err != nil || err2 != nil:
			return fmt.Errorf("%q is no range of serials: both ends have to end in a number", s)
		case stem != upper || len(from) != len(to):
			return fmt.Errorf("%q is no range of serials: its ends differ in more than the number at their end", s)
		case low > high:
			return fmt.Errorf("%q is no range of serials: it ends before it begins", s)
		}
	}
	return nil
}

var (
	serialForm  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/-]{0,63}$`)
	serialParts = regexp.MustCompile(`^([A-Za-z0-9._:/-]*?)(\d{1,18})$`)
)

// splitSerial is what stands before the number at the end of a serial, and that number.
func splitSerial(s string) (stem string, n uint64, err error) {
	m := serialParts.FindStringSubmatch(s)
	if m == nil {
		return "", 0, fmt.Errorf("%q does not end in a number", s)
	}
	n, err = strconv.ParseUint(m[2], 10, 64)
	return m[1], n, err
}
