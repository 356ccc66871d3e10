package catalog

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"verimorph/core/version"
)

// ReadDir reads every .yaml file of a folder tree. The catalogue is usable when findings.Errors() is empty.
func ReadDir(fsys fs.FS) (*Catalogue, Findings) {
	var c Catalogue
	var found Findings
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(name) != ".yaml" {
			return err
		}
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		f, fnd := ReadFile(name, data)
		found = append(found, fnd...)
		if f != nil {
			found = append(found, c.Add(f)...)
		}
		return nil
	})
	if err != nil {
		found = append(found, Finding{Message: err.Error()})
	}
	if len(c.Families) == 0 && len(found) == 0 {
		found = append(found, Finding{Position: Position{File: "."}, Message: "no catalogue file found", Hint: "name a folder that holds .yaml files"})
	}
	return &c, found
}

// Add puts a family into the catalogue; it refuses a second one of the same name and a model that another family has.
func (c *Catalogue) Add(f *Family) (found Findings) {
	if g := c.Family(f.Name); g != nil {
		return Findings{{Position: Position{File: f.File, Line: 1, Column: 1}, Message: fmt.Sprintf("family %q is already described in %s", f.Name, g.File), Hint: "keep one file a family"}}
	}
	for _, m := range f.Models {
		if g := c.FamilyOfModel(m.Name); g != nil {
			found = append(found, Finding{Position: m.At, Message: fmt.Sprintf("model %q belongs to family %q already", m.Name, g.Name), Hint: "a model runs one firmware line"})
		}
	}
	if len(found) == 0 {
		c.Families = append(c.Families, f)
	}
	return found
}

// ReadFile reads one family. It returns nil and the findings when the file cannot be used, and otherwise the family
// with the doubts that remain.
func ReadFile(name string, data []byte) (*Family, Findings) {
	r := &reader{file: name}
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return nil, Findings{yamlFinding(name, err)}
	}
	if len(doc.Content) == 0 {
		return nil, Findings{{Position: Position{name, 1, 1}, Message: "the file is empty", Hint: "begin with: format: " + Format}}
	}
	f := r.family(doc.Content[0])
	if len(r.found.Errors()) > 0 {
		return nil, r.found
	}
	slices.SortFunc(f.Releases, func(a, b Release) int { return a.Version.Compare(b.Version) })
	r.found = append(r.found, Check(f)...)
	if len(r.found.Errors()) > 0 {
		return nil, r.found
	}
	return f, r.found
}

var yamlLine = regexp.MustCompile(`line (\d+)`)

func yamlFinding(name string, err error) Finding {
	f := Finding{Position: Position{name, 1, 1}, Message: strings.TrimPrefix(err.Error(), "yaml: "), Hint: "the file is not well-formed YAML"}
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		f.Line, _ = strconv.Atoi(m[1])
	}
	return f
}

// reader walks YAML nodes and collects findings instead of stopping at the first.
type reader struct {
	file  string
	found Findings
}

func (r *reader) at(n *yaml.Node) Position { return Position{r.file, n.Line, n.Column} }

func (r *reader) fail(n *yaml.Node, hint, format string, args ...any) {
	r.found = append(r.found, Finding{Position: r.at(n), Message: fmt.Sprintf(format, args...), Hint: hint})
}

// fields walks a mapping: known keys go to their functions, others are findings; required keys that are absent too.
func (r *reader) fields(n *yaml.Node, what string, required []string, known map[string]func(*yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		r.fail(n, "write it as key: value lines", "%s must be a mapping", what)
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		read, ok := known[key.Value]
		switch {
		case !ok:
			r.fail(key, "known here: "+strings.Join(sortedKeys(known), ", "), "%s has no field %q", what, key.Value)
		case seen[key.Value]:
			r.fail(key, "keep one of them", "%s has %q twice", what, key.Value)
		default:
			read(value)
		}
		seen[key.Value] = true
	}
	for _, k := range required {
		if !seen[k] {
			r.fail(n, "add "+k+": ...", "%s lacks %q", what, k)
		}
	}
}

func (r *reader) items(n *yaml.Node, what string, each func(*yaml.Node)) {
	if n.Kind != yaml.SequenceNode {
		r.fail(n, "write it as a list", "%s must be a list", what)
		return
	}
	for _, item := range n.Content {
		each(item)
	}
}

func (r *reader) text(into *string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.ScalarNode || n.Value == "" {
			r.fail(n, "", "expected text")
			return
		}
		*into = n.Value
	}
}

func (r *reader) texts(into *[]string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		r.items(n, "this", func(n *yaml.Node) {
			var s string
			r.text(&s)(n)
			*into = append(*into, s)
		})
	}
}

func (r *reader) oneOf(into *string, words ...string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if !slices.Contains(words, n.Value) {
			r.fail(n, "use one of: "+strings.Join(words, ", "), "%q is not known here", n.Value)
		}
		*into = n.Value
	}
}

func (r *reader) version(into *version.Version) func(*yaml.Node) {
	return func(n *yaml.Node) {
		v, err := version.Parse(n.Value)
		if err != nil {
			r.fail(n, "", "%s", err)
		}
		*into = v
	}
}

func (r *reader) rangeOf(into *version.Range) func(*yaml.Node) {
	return func(n *yaml.Node) {
		v, err := version.ParseRange(n.Value)
		if err != nil {
			r.fail(n, "", "%s", err)
		}
		*into = v
	}
}

func (r *reader) family(n *yaml.Node) *Family {
	f := &Family{File: r.file, Durations: map[string]Span{}}
	var format string
	r.fields(n, "a catalogue file", []string{"format", "maker", "family", "models", "releases"}, map[string]func(*yaml.Node){
		"format": func(n *yaml.Node) {
			if format = n.Value; format != Format {
				r.fail(n, "write "+Format, "format %q is not known", format)
			}
		},
		"maker": r.text(&f.Maker), "family": r.text(&f.Name), "title": r.text(&f.Title), "dialect": r.text(&f.Dialect),
		"configuration": func(n *yaml.Node) {
			r.fields(n, "configuration", []string{"syntax"}, map[string]func(*yaml.Node){
				"syntax":  r.oneOf(&f.Configuration.Syntax, "block-indent"),
				"secrets": r.texts(&f.Configuration.Secrets), "ordered": r.texts(&f.Configuration.Ordered),
			})
		},
		"models": func(n *yaml.Node) {
			r.items(n, "models", func(n *yaml.Node) { f.Models = append(f.Models, r.model(n)) })
		},
		"releases": func(n *yaml.Node) {
			r.items(n, "releases", func(n *yaml.Node) { f.Releases = append(f.Releases, r.release(n)) })
		},
		"rules":     func(n *yaml.Node) { r.items(n, "rules", func(n *yaml.Node) { f.Rules = append(f.Rules, r.rule(n)) }) },
		"durations": func(n *yaml.Node) { r.durations(n, f) },
	})
	return f
}

func (r *reader) model(n *yaml.Node) Model {
	m := Model{At: r.at(n)}
	r.fields(n, "a model", []string{"name"}, map[string]func(*yaml.Node){
		"name": r.text(&m.Name), "title": r.text(&m.Title), "runs": r.rangeOf(&m.Last), "runs-because": r.text(&m.LastText),
	})
	return m
}

func (r *reader) release(n *yaml.Node) Release {
	rel := Release{At: r.at(n), Stage: General}
	var stage string
	r.fields(n, "a release", []string{"version", "train"}, map[string]func(*yaml.Node){
		"version": r.version(&rel.Version), "train": r.text(&rel.Train), "notes": r.texts(&rel.Notes),
		"date": func(n *yaml.Node) {
			d, err := time.Parse(time.DateOnly, n.Value)
			if err != nil {
				r.fail(n, "write it as 2026-05-01", "%q is not a date", n.Value)
			}
			rel.Date = d
		},
		"stage": r.oneOf(&stage, string(Preview), string(General), string(Preferred), string(Withdrawn)),
		"images": func(n *yaml.Node) {
			r.items(n, "images", func(n *yaml.Node) { rel.Images = append(rel.Images, r.image(n)) })
		},
	})
	if stage != "" {
		rel.Stage = Stage(stage)
	}
	return rel
}

var hex64 = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (r *reader) image(n *yaml.Node) Image {
	var im Image
	r.fields(n, "an image", []string{"file", "models", "size", "sha256"}, map[string]func(*yaml.Node){
		"file": func(n *yaml.Node) {
			if im.File = n.Value; im.File == "" || strings.ContainsAny(im.File, "/\\ \t\n\"';") || strings.HasPrefix(im.File, ".") || strings.HasPrefix(im.File, "-") {
				r.fail(n, "use letters, digits, dots, dashes", "%q cannot be the name of an image file", n.Value)
			}
		},
		"models": r.texts(&im.Models), "size": r.bytes(&im.Size), "installed": r.bytes(&im.Installed),
		"sha256": func(n *yaml.Node) {
			if im.SHA256 = n.Value; !hex64.MatchString(im.SHA256) {
				r.fail(n, "64 digits 0-9 a-f", "%q is not a SHA-256 sum", n.Value)
			}
		},
	})
	return im
}

func (r *reader) bytes(into *int64) func(*yaml.Node) {
	return func(n *yaml.Node) {
		v, err := strconv.ParseInt(n.Value, 10, 64)
		if err != nil || v <= 0 {
			r.fail(n, "a whole number of bytes above 0", "%q is not a size", n.Value)
		}
		*into = v
	}
}

func (r *reader) rule(n *yaml.Node) Rule {
	ru := Rule{At: r.at(n), Config: ConfigKept}
	var direction string
	given := map[string]bool{}
	mark := func(key string, read func(*yaml.Node)) func(*yaml.Node) {
		return func(n *yaml.Node) { given[key] = true; read(n) }
	}
	r.fields(n, "a rule", []string{"id", "kind", "text"}, map[string]func(*yaml.Node){
		"id": r.text(&ru.ID), "kind": r.oneOf(&ru.Kind, KindHop, KindLeaveTrain, KindCrossing), "text": r.text(&ru.Text),
		"models":     r.texts(&ru.Models),
		"from":       mark("from", r.rangeOf(&ru.From)),
		"to":         mark("to", r.rangeOf(&ru.To)),
		"direction":  mark("direction", r.oneOf(&direction, "up", "down")),
		"config":     mark("config", r.oneOf(&ru.Config, ConfigKept, ConfigConverted, ConfigReset)),
		"train":      mark("train", r.text(&ru.Train)),
		"crossing":   mark("crossing", r.version(&ru.Crossing)),
		"leave-from": mark("leave-from", r.rangeOf(&ru.LeaveFrom)),
		"land-on":    mark("land-on", r.rangeOf(&ru.LandOn)),
	})
	ru.Down = direction == "down"
	fits := map[string][]string{
		KindHop:        {"from", "to", "direction", "config"},
		KindLeaveTrain: {"train"},
		KindCrossing:   {"crossing", "leave-from", "land-on"},
	}[ru.Kind]
	for _, key := range sortedKeys(given) {
		if ru.Kind != "" && !slices.Contains(fits, key) {
			r.fail(n, "it takes: "+strings.Join(fits, ", "), "rule %q: a %s rule has no field %q", ru.ID, ru.Kind, key)
		}
	}
	switch {
	case ru.Kind == KindHop && (!given["from"] || !given["to"]):
		r.fail(n, "add from: and to:", "rule %q: a hop rule needs both ranges", ru.ID)
	case ru.Kind == KindCrossing && (!given["crossing"] || !given["leave-from"] && !given["land-on"]):
		r.fail(n, "add crossing: and leave-from: or land-on:", "rule %q: a crossing rule says what is crossed and from where or to where", ru.ID)
	}
	return ru
}

// DurationNames are the step kinds a catalogue may give durations for, in seconds.
var DurationNames = []string{"check", "backup", "send", "checksum", "install", "save", "choose-slot", "restart", "link", "login", "version", "services", "readings"}

func (r *reader) durations(n *yaml.Node, f *Family) {
	known := map[string]func(*yaml.Node){
		"send-rate": func(n *yaml.Node) {
			if v := r.numbers(n, 2); v != nil {
				f.SendRate = Rate{v[0], v[1]}
			}
		},
	}
	for _, name := range DurationNames {
		known[name] = func(n *yaml.Node) {
			if v := r.numbers(n, 3); v != nil {
				f.Durations[name] = Span{v[0], v[1], v[2]}
			}
		}
	}
	r.fields(n, "durations", nil, known)
}

// numbers reads a list of exactly count positive numbers in ascending order.
func (r *reader) numbers(n *yaml.Node, count int) []float64 {
	var v []float64
	err := n.Decode(&v)
	if err == nil && (len(v) != count || !slices.IsSorted(v) || v[0] < 0) {
		err = errors.New("not ascending")
	}
	if err != nil {
		r.fail(n, map[int]string{2: "write [low, high]", 3: "write [low, high, hard limit] in seconds"}[count], "expected %d numbers in ascending order", count)
		return nil
	}
	return v
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
