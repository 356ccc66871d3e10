package catalog

import (
	"fmt"
	"slices"
	"strings"
)

// A Header is what an image file says of itself.
type Header struct {
	Models  []string
	Version string
	Part    string // component it is for; "" for a main image
}

// ReadHeader reads the first bytes of a file; it fails when they are not those of an image of the family.
func (f *Family) ReadHeader(head []byte) (Header, error) {
	if f.Header.Match == nil {
		return Header{}, fmt.Errorf("the catalogue does not say how images of family %s begin", f.Name)
	}
	m := f.Header.Match
	g := m.FindSubmatch(head[:min(len(head), f.Header.Bytes)])
	if g == nil {
		return Header{}, fmt.Errorf("the file does not begin like a %s image", f.Maker)
	}
	h := Header{Models: strings.Split(string(g[m.SubexpIndex("models")]), ","), Version: string(g[m.SubexpIndex("version")])}
	if i := m.SubexpIndex("part"); i >= 0 {
		h.Part = string(g[i])
	}
	return h, nil
}

// A Listed image is one the catalogue knows, with what it is for.
type Listed struct {
	Image
	Family  *Family
	Version string
	Part    string // component it is for; "" for a main image
}

// Says is the header that the file must have.
func (l *Listed) Says() Header { return Header{Models: l.Models, Version: l.Version, Part: l.Part} }

// Equal reports whether two headers say the same.
func (h Header) Equal(o Header) bool {
	return slices.Equal(h.Models, o.Models) && h.Version == o.Version && h.Part == o.Part
}

func (h Header) String() string {
	s := h.Version + " for " + strings.Join(h.Models, ", ")
	if h.Part != "" {
		s = h.Part + " " + s
	}
	return s
}

// Images lists every image of the catalogue, family by family.
func (c *Catalogue) Images() (out []Listed) {
	for _, f := range c.Families {
		out = append(out, f.Images()...)
	}
	return out
}

// Images lists every image of the family, main ones first, each file once.
func (f *Family) Images() (out []Listed) {
	seen := map[string]bool{}
	add := func(l Listed) {
		if !seen[l.File] {
			seen[l.File] = true
			l.Family = f
			out = append(out, l)
		}
	}
	for i := range f.Releases {
		for _, im := range f.Releases[i].Images {
			add(Listed{Image: im, Version: f.Releases[i].Version.String()})
		}
	}
	for i := range f.Components {
		c := &f.Components[i]
		for k := range c.Rows {
			if row := &c.Rows[k]; row.Image != nil {
				l := Listed{Part: c.Name, Version: row.AtLeast.String(), Image: *row.Image}
				if !row.Version.IsZero() {
					l.Version = row.Version.String()
				}
				add(l)
			}
		}
	}
	return out
}
