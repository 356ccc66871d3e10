package catalog

import (
	"fmt"
	"slices"
	"strings"

	"verimorph/core/portrait"
	"verimorph/core/version"
)

// Truth is the answer to a question about a device of which not everything is known.
type Truth int

// The answers.
const (
	No Truth = iota
	Unknown
	Yes
)

// And is the answer to both questions at once.
func (t Truth) And(u Truth) Truth { return min(t, u) }

// When says which devices something matters to. Every part that is given must hold; the zero When holds for all.
type When struct {
	Models      []string `json:"models"`
	Generations []string `json:"generations"`
	Platforms   []string `json:"platforms"`
	FileSystems []string `json:"fileSystems"`
	Licences    []string `json:"licences"`
	Uses        []string `json:"uses"` // conditions that must hold, and must not
	Lacks       []string `json:"lacks"`
}

// Holds answers for one device.
func (w *When) Holds(p *portrait.Portrait) Truth {
	t := Yes
	if len(w.Models) > 0 && !slices.Contains(w.Models, p.Model) {
		return No
	}
	for _, part := range []struct {
		words []string
		has   string
	}{{w.Generations, p.Generation}, {w.Platforms, p.Platform}, {w.FileSystems, p.FileSystem}} {
		if len(part.words) > 0 {
			t = t.And(among(part.words, part.has))
		}
	}
	if len(w.Licences) > 0 {
		t = t.And(licensed(p, w.Licences))
	}
	for _, name := range w.Uses {
		t = t.And(uses(p, name))
	}
	for _, name := range w.Lacks {
		t = t.And(Yes - uses(p, name))
	}
	return t
}

// String says in words when it holds; "" for the zero When.
func (w *When) String() string {
	var parts []string
	for _, part := range []struct {
		what  string
		words []string
	}{{"model", w.Models}, {"hardware generation", w.Generations}, {"platform", w.Platforms}, {"file system", w.FileSystems}, {"licence", w.Licences}} {
		if len(part.words) > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", part.what, strings.Join(part.words, " or ")))
		}
	}
	for _, name := range w.Uses {
		parts = append(parts, "the configuration uses "+name)
	}
	for _, name := range w.Lacks {
		parts = append(parts, "the configuration does not use "+name)
	}
	return strings.Join(parts, " and ")
}

func among(words []string, has string) Truth {
	switch {
	case has == "":
		return Unknown
	case slices.Contains(words, has):
		return Yes
	}
	return No
}

func licensed(p *portrait.Portrait, oneOf []string) Truth {
	switch {
	case slices.ContainsFunc(oneOf, func(l string) bool { return slices.Contains(p.Licences, l) || slices.Contains(p.Given, l) }):
		return Yes
	case p.Licences == nil:
		return Unknown
	}
	return No
}

func uses(p *portrait.Portrait, condition string) Truth {
	has, known := p.Uses[condition]
	switch {
	case !known:
		return Unknown
	case has:
		return Yes
	}
	return No
}

// Met answers whether a device meets a requirement, and says what it has. Storage is asked about the room for images.
func (r *Requirement) Met(p *portrait.Portrait) (Truth, string) {
	switch r.Kind {
	case NeedStorage:
		name, room, known := p.ImageRoom()
		if !known {
			return Unknown, "the free room is not known"
		}
		return enough(room.Free, r.Bytes), fmt.Sprintf("%s are free on %s", Size(room.Free), name)
	case NeedMemory:
		if p.Memory == 0 {
			return Unknown, "the memory is not known"
		}
		return enough(p.Memory, r.Bytes), "it has " + Size(p.Memory)
	case NeedPlatform:
		return among(r.OneOf, p.Platform), has("platform", p.Platform)
	case NeedFileSystem:
		return among(r.OneOf, p.FileSystem), has("file system", p.FileSystem)
	case NeedLicence:
		text := "the licences are not known"
		if p.Licences != nil {
			text = "it has the licences " + strings.Join(p.Licences, ", ")
			if len(p.Licences) == 0 {
				text = "it has no licence"
			}
		}
		if given := slices.DeleteFunc(slices.Clone(p.Given), func(l string) bool { return slices.Contains(p.Licences, l) }); len(given) > 0 {
			text += "; it is given " + strings.Join(given, ", ") + " first"
		}
		return licensed(p, r.OneOf), text
	case NeedContent:
		v, known := p.Components[r.Component]
		if !known {
			return Unknown, "its version is not known"
		}
		c, err := version.Parse(v)
		if err != nil {
			return Unknown, fmt.Sprintf("its version %q cannot be read", v)
		}
		if c.Less(r.AtLeast) {
			return No, "it has " + v
		}
		return Yes, "it has " + v
	case NeedBootVariable:
		v, known := p.BootVariables[r.Variable]
		switch {
		case !known:
			return Unknown, "it is not known how the variable stands"
		case v == r.Value:
			return Yes, "it stands right"
		case v == "":
			return No, "it is clear"
		}
		return No, fmt.Sprintf("it is set to %q", v)
	case NeedConfiguration:
		t := Yes
		if r.Uses != "" {
			t = t.And(uses(p, r.Uses))
		}
		if r.Lacks != "" {
			t = t.And(Yes - uses(p, r.Lacks))
		}
		return t, map[Truth]string{No: "the configuration is not like that", Unknown: "the configuration is not known", Yes: "the configuration is like that"}[t]
	}
	return Unknown, ""
}

// Size puts a number of bytes into words.
func Size(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d bytes", n)
}

func enough(have, need int64) Truth {
	if have < need {
		return No
	}
	return Yes
}

func has(what, value string) string {
	if value == "" {
		return "the " + what + " is not known"
	}
	return "it has " + what + " " + value
}
