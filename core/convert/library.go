package convert

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/version"
	"verimorph/core/yamldoc"
)

// A Library is all that is known about configurations: the schemas and conversions beside a catalogue.
type Library struct {
	Catalogue   *catalog.Catalogue
	Schemas     []*config.Schema
	Conversions []*Conversion
}

// A File is a file of the library as text.
type File struct {
	Name string
	Data []byte
}

// ReadDir reads all catalogue, schema and conversion files under a folder.
func ReadDir(fsys fs.FS) (*Library, yamldoc.Findings) {
	cat, found := catalog.ReadDir(fsys)
	var files []File
	_ = fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(name) != ".yaml" {
			return err
		}
		data, err := fs.ReadFile(fsys, name)
		if err == nil && Mine(data) {
			files = append(files, File{name, data})
		}
		return err
	})
	l, more := Load(cat, files)
	return l, append(found, more...)
}

// Mine reports whether a file is a schema or a conversion.
func Mine(data []byte) bool {
	f := yamldoc.FormatOf(data)
	return f == config.SchemaFormat || f == Format
}

// Load reads schemas, those that extend others after those, and then conversions.
func Load(cat *catalog.Catalogue, files []File) (*Library, yamldoc.Findings) {
	l := &Library{Catalogue: cat}
	var found yamldoc.Findings
	broken := map[string]bool{} // schemas that are there and cannot be used: what speaks of them is not at fault
	told := func(wrong yamldoc.Findings) yamldoc.Findings {
		return slices.DeleteFunc(wrong, func(f yamldoc.Finding) bool {
			for id := range broken {
				if f.Message == fmt.Sprintf("schema %q is not known", id) {
					return true
				}
			}
			return false
		})
	}
	var waiting []File
	for _, f := range files {
		if yamldoc.FormatOf(f.Data) == config.SchemaFormat {
			waiting = append(waiting, f)
		}
	}
	// A schema that extends one not read yet waits for it; when nothing moves any more, what is wrong is told.
	for last := false; len(waiting) > 0; {
		var again []File
		for _, f := range waiting {
			if base := yamldoc.FieldOf(f.Data, "extends"); base != "" && l.schema(base) == nil && !last {
				again = append(again, f)
				continue
			}
			s, wrong := config.ReadSchema(f.Name, f.Data, l.scheme, l.schema)
			if s == nil {
				broken[yamldoc.FieldOf(f.Data, "id")] = true
				if base := yamldoc.FieldOf(f.Data, "extends"); broken[base] { // most of it stands there
					wrong = nil
				}
			}
			found = append(found, told(wrong)...)
			if s == nil {
				continue
			}
			if other := l.schema(s.ID); other != nil {
				found = append(found, yamldoc.Finding{Position: yamldoc.Position{File: f.Name, Line: 1, Column: 1}, Message: fmt.Sprintf("schema %q is already described in %s", s.ID, other.File), Hint: "give each schema an id of its own"})
				continue
			}
			s.Secrets = cat.Family(s.Family).Configuration.Secrets // also where the schema forgets to say so
			l.Schemas = append(l.Schemas, s)
		}
		last = len(again) == len(waiting)
		waiting = again
	}
	for _, f := range files {
		if yamldoc.FormatOf(f.Data) != Format {
			continue
		}
		c, wrong := Read(f.Name, f.Data, l.schema, l.scheme)
		found = append(found, told(wrong)...)
		if c != nil {
			l.Conversions = append(l.Conversions, c)
		}
	}
	return l, found
}

func (l *Library) schema(id string) *config.Schema {
	if i := slices.IndexFunc(l.Schemas, func(s *config.Schema) bool { return s.ID == id }); i >= 0 {
		return l.Schemas[i]
	}
	return nil
}

func (l *Library) scheme(family string) *version.Scheme {
	if f := l.Catalogue.Family(family); f != nil {
		if f.Scheme != nil {
			return f.Scheme
		}
		return version.Default
	}
	return nil
}

// A Stop is a model at a release.
type Stop struct {
	Model   string
	Version version.Version
}

func (s Stop) String() string { return s.Model + "@" + s.Version.String() }

// ParseStop reads MODEL@VERSION by the version scheme of the model's family.
func (l *Library) ParseStop(text string) (Stop, error) {
	model, release, ok := strings.Cut(text, "@")
	if !ok || model == "" || release == "" {
		return Stop{}, fmt.Errorf("%q: expected MODEL@VERSION, such as TH-60@5.4.2", text)
	}
	f := l.Catalogue.FamilyOfModel(model)
	if f == nil {
		return Stop{}, fmt.Errorf("model %q is not in the catalogue", model)
	}
	v, err := l.scheme(f.Name).Parse(release)
	if err != nil {
		return Stop{}, err
	}
	return Stop{model, v}, nil
}

// Schema returns the schema for a model and release; without a file of its own, what the catalogue says about the
// family. nil means that the model is not known.
func (l *Library) Schema(at Stop) *config.Schema {
	f := l.Catalogue.FamilyOfModel(at.Model)
	if f == nil {
		return nil
	}
	if s := l.described(f.Name, at); s != nil {
		return s
	}
	return f.Schema()
}

// described returns the schema file for a model and release, or nil.
func (l *Library) described(family string, at Stop) *config.Schema {
	for _, s := range l.Schemas {
		if s.Family == family && s.Applies(at.Model, at.Version) {
			return s
		}
	}
	return nil
}

// SchemaOfFamily returns the schema for FAMILY or FAMILY@VERSION; without a version the newest one, without a file what
// the catalogue says.
func (l *Library) SchemaOfFamily(text string) (*config.Schema, error) {
	name, release, _ := strings.Cut(text, "@")
	f := l.Catalogue.Family(name)
	if f == nil {
		return nil, fmt.Errorf("family %q is not in the catalogue", name)
	}
	at := Stop{}
	if release != "" {
		v, err := l.scheme(name).Parse(release)
		if err != nil {
			return nil, err
		}
		at.Version = v
	} else if len(f.Releases) > 0 {
		at.Version = slices.MaxFunc(f.Releases, func(a, b catalog.Release) int { return a.Version.Compare(b.Version) }).Version
	}
	if s := l.described(name, at); s != nil {
		return s, nil
	}
	return f.Schema(), nil
}
