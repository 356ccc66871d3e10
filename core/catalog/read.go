package catalog

import (
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"verimorph/core/config"
	"verimorph/core/version"
	"verimorph/core/yamldoc"
)

// ReadDir reads every .yaml file of a folder tree, several at a time. The catalogue is usable when findings.Errors() is
// empty.
func ReadDir(fsys fs.FS) (*Catalogue, Findings) {
	var c Catalogue
	var names []string
	var found Findings
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && path.Ext(name) == ".yaml" {
			names = append(names, name)
		}
		return err
	})
	if err != nil {
		found = append(found, Finding{Position: Position{File: ".", Line: 1, Column: 1}, Message: err.Error()})
	}
	families, of := make([]*Family, len(names)), make([]Findings, len(names))
	var next atomic.Int64
	var all sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(names)) {
		all.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(names); i = int(next.Add(1)) - 1 {
				data, err := fs.ReadFile(fsys, names[i])
				if err != nil {
					of[i] = Findings{{Position: Position{File: names[i], Line: 1, Column: 1}, Message: err.Error()}}
					continue
				}
				if !otherFormats[yamldoc.FormatOf(data)] {
					families[i], of[i] = ReadFile(names[i], data)
				}
			}
		})
	}
	all.Wait()
	for i, f := range families {
		found = append(found, of[i]...)
		if f != nil {
			found = append(found, c.Add(f)...)
		}
	}
	if len(c.Families) == 0 && len(found) == 0 {
		found = append(found, Finding{Position: Position{File: ".", Line: 1, Column: 1}, Message: "no catalogue file found",
			Hint: "name a folder that holds .yaml files"})
	}
	return &c, found
}

// otherFormats are those of files that may stand beside catalogue files.
var otherFormats = map[string]bool{config.SchemaFormat: true, "verimorph-conversion/1": true}

// Add puts a family into the catalogue; it refuses a second one of the same name and a model that another family has.
func (c *Catalogue) Add(f *Family) (found Findings) {
	if g := c.Family(f.Name); g != nil {
		return Findings{{Position: Position{File: f.File, Line: 1, Column: 1},
			Message: fmt.Sprintf("family %q is already described in %s", f.Name, g.File), Hint: "keep one file a family"}}
	}
	for _, m := range f.Models {
		if g := c.FamilyOfModel(m.Name); g != nil {
			found = append(found, Finding{Position: m.At, Message: fmt.Sprintf("model %q belongs to family %q already", m.Name, g.Name),
				Hint: "a model runs one firmware line"})
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
	root, broken := yamldoc.Parse(name, data, "begin with: format: "+Format)
	if broken != nil {
		return nil, Findings{*broken}
	}
	r := &reader{Reader: yamldoc.Reader{File: name, Scheme: version.Default}, wrong: map[string]map[Position]bool{}}
	f := r.family(root)
	slices.SortStableFunc(f.Releases, func(a, b Release) int { return a.Version.Compare(b.Version) })
	found := check(f, yamldoc.NewPlaces(root), r.wrong)
	found = append(found, r.Found...)
	found.Sort()
	if len(found.Errors()) > 0 {
		return nil, found
	}
	return f, found
}

type node = yamldoc.Node

type reader struct {
	yamldoc.Reader
	wrong map[string]map[Position]bool // by the list they stand in: entries in which something is wrong
}

type fields = map[string]yamldoc.Read

// each reads a list into a slice, item by item, and notes in which something is wrong.
func each[T any](r *reader, what string, into *[]T, read func(*node) T) yamldoc.Read {
	return func(n *node) {
		before := len(r.Found)
		r.Items(n, what, func(n *node) {
			*into = append(*into, read(n))
			if len(r.Found) > before {
				if before = len(r.Found); r.wrong[what] == nil {
					r.wrong[what] = map[Position]bool{}
				}
				r.wrong[what][r.At(n)] = true
			}
		})
		if len(r.Found) > before {
			r.wrong[what] = map[Position]bool{}
		}
	}
}

func (r *reader) family(n *node) *Family {
	f := &Family{File: r.File, Scheme: version.Default, Durations: map[string]Span{}}
	// The scheme says how all other versions are read, wherever it stands in the file.
	if n.Kind != 0 {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "scheme" {
				f.Scheme = r.scheme(n.Content[i+1])
			}
		}
	}
	r.Scheme = f.Scheme
	r.Fields(n, "a catalogue file", []string{"format", "maker", "family", "models", "releases"}, fields{
		"format": func(n *node) {
			if n.Value != Format {
				r.Fail(n, "write "+Format, "format %q is not known", n.Value)
			}
		},
		"scheme": func(*node) {},
		"maker":  r.Text(&f.Maker), "family": r.Text(&f.Name), "title": r.Text(&f.Title), "dialect": r.Text(&f.Dialect),
		"signing-key": func(n *node) {
			if key, err := base64.StdEncoding.DecodeString(n.Value); err != nil || len(key) != ed25519.PublicKeySize {
				r.Fail(n, "base64 of the 32 bytes", "this is not an Ed25519 public key")
			}
			f.SigningKey = n.Value
		},
		"image-header": r.imageHeader(&f.Header),
		"configuration": func(n *node) {
			r.Fields(n, "configuration", []string{"syntax"}, fields{
				"syntax":  r.OneOf(&f.Configuration.Syntax, "block-indent", "braces", "dotted", "ini", "json", "xml"),
				"secrets": r.Texts(&f.Configuration.Secrets), "ordered": r.Texts(&f.Configuration.Ordered),
			})
		},
		"models":       each(r, "models", &f.Models, r.model),
		"releases":     each(r, "releases", &f.Releases, r.release),
		"rules":        each(r, "rules", &f.Rules, r.rule),
		"conditions":   each(r, "conditions", &f.Conditions, r.condition),
		"services":     each(r, "services", &f.Services, r.service),
		"requirements": each(r, "requirements", &f.Requirements, r.requirement),
		"components":   each(r, "components", &f.Components, r.component),
		"skew":         each(r, "skew", &f.Skew, r.skew),
		"effects":      each(r, "effects", &f.Effects, r.effect),
		"messages":     each(r, "messages", &f.Messages, r.message),
		"durations":    func(n *node) { r.durations(n, f) },
	})
	return f
}

func (r *reader) imageHeader(into *ImageHeader) yamldoc.Read {
	return func(n *node) {
		r.Fields(n, "image-header", []string{"bytes", "match"}, fields{
			"bytes": r.Count(&into.Bytes, 1, 65536),
			"match": func(n *node) {
				m, err := yamldoc.Regexp(n.Value)
				if err != nil {
					r.Fail(n, "a regular expression (RE2) with the groups models and version", "%s", err)
					return
				}
				for _, group := range []string{"models", "version"} {
					if m.SubexpIndex(group) < 0 {
						r.Fail(n, "write (?P<"+group+">...) around what says it", "the group %q is missing", group)
						return
					}
				}
				into.Match = m
			},
		})
	}
}

func (r *reader) scheme(n *node) *version.Scheme {
	s := &version.Scheme{}
	r.Fields(n, "scheme", nil, fields{
		"prefix": r.Text(&s.Prefix), "pre": r.Texts(&s.Pre), "words": r.Texts(&s.Words),
		"pattern": func(n *node) {
			p, err := yamldoc.Regexp(n.Value)
			if err != nil {
				r.Fail(n, "a regular expression (RE2)", "%s", err)
			}
			s.Pattern = p
		},
	})
	return s
}

func (r *reader) model(n *node) Model {
	m := Model{At: r.At(n)}
	r.Fields(n, "a model", []string{"name"}, fields{
		"name": r.Text(&m.Name), "title": r.Text(&m.Title), "runs": r.Range(&m.Last), "runs-because": r.Text(&m.LastText),
		"end-of-support": r.Date(&m.EndOfSupport), "successor": r.Text(&m.Successor), "generations": r.Texts(&m.Generations),
		"role": r.OneOf(&m.Role, "controller", "child"),
	})
	return m
}

func (r *reader) release(n *node) Release {
	rel := Release{At: r.At(n), Stage: General}
	var stage string
	r.Fields(n, "a release", []string{"version", "train"}, fields{
		"version": r.Version(&rel.Version), "train": r.Text(&rel.Train), "date": r.Date(&rel.Date),
		"stage":  r.OneOf(&stage, string(Preview), string(General), string(Preferred), string(Withdrawn)),
		"images": each(r, "images", &rel.Images, r.image),
		"base":   r.Version(&rel.Base), "fixes": r.Texts(&rel.Fixes),
		"notes": each(r, "notes", &rel.Notes, r.note), "messages": each(r, "messages", &rel.Messages, r.message),
	})
	if stage != "" {
		rel.Stage = Stage(stage)
	}
	return rel
}

var hex64 = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (r *reader) image(n *node) Image {
	im := Image{At: r.At(n)}
	r.Fields(n, "an image", []string{"file", "models", "size"}, fields{
		"models": r.Texts(&im.Models),
		"file": func(n *node) {
			if im.File = n.Value; !fileName(im.File) {
				r.Fail(n, "use letters, digits, dots, dashes", "%q cannot be the name of an image file", n.Value)
			}
		},
		"size": r.Bytes(&im.Size), "installed": r.Bytes(&im.Installed),
		"sha256": func(n *node) {
			if im.SHA256 = n.Value; !hex64.MatchString(im.SHA256) {
				r.Fail(n, "64 digits 0-9 a-f", "%q is not a SHA-256 sum", n.Value)
			}
		},
	})
	return im
}

func fileName(s string) bool {
	return s != "" && len(s) <= 200 && !strings.ContainsAny(s, "/\\ \t\n\r\"';:*?<>|") && !strings.HasPrefix(s, ".") && !strings.HasPrefix(s, "-")
}

// note takes a sentence, or a mapping with more about it.
// message reads trouble that is foretold.
func (r *reader) message(n *node) Message {
	m := Message{At: r.At(n)}
	r.Fields(n, "a message", []string{"match", "text"}, fields{
		"match": func(n *node) {
			match, err := yamldoc.Regexp(n.Value)
			if err != nil {
				r.Fail(n, "a regular expression (RE2)", "%s", err)
			}
			m.Match = match
		},
		"text": r.Text(&m.Text),
	})
	return m
}

func (r *reader) note(n *node) Note {
	note := Note{Kind: NoteInfo, At: r.At(n)}
	if len(n.Content) == 0 {
		r.Text(&note.Text)(n)
		return note
	}
	r.Fields(n, "a note", []string{"text"}, fields{
		"text": r.Text(&note.Text), "kind": r.OneOf(&note.Kind, NoteFix, NoteCaveat, NoteBehaviour, NoteInfo), "when": r.when(&note.When),
		"hand-step": r.Text(&note.HandStep), "due": r.OneOf(&note.Due, "before", "after"),
	})
	if (note.HandStep != "") != (note.Due != "") {
		r.Fail(n, "a hand step is due before or after the installation", "a note has hand-step and due together or neither")
	}
	return note
}

func (r *reader) when(into *When) yamldoc.Read {
	return func(n *node) {
		r.Fields(n, "when", nil, fields{
			"models": r.Texts(&into.Models), "generations": r.Texts(&into.Generations), "platforms": r.Texts(&into.Platforms),
			"file-systems": r.Texts(&into.FileSystems), "licences": r.Texts(&into.Licences), "uses": r.Texts(&into.Uses), "lacks": r.Texts(&into.Lacks),
		})
	}
}

// only notes fields that are given but do not belong to the kind of item, and those of the kind that are missing.
func (r *reader) only(n *node, what, kind string, common []string, need, may map[string][]string) {
	given := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i].Value
		given[key] = true
		if fits := slices.Concat(need[kind], may[kind]); kind != "" && !slices.Contains(common, key) && !slices.Contains(fits, key) {
			r.Fail(n.Content[i], "it takes: "+strings.Join(fits, ", "), "%s of kind %s has no field %q", what, kind, key)
		}
	}
	for _, key := range need[kind] {
		if !given[key] {
			r.Fail(n, "add "+key+":", "%s of kind %s needs %s", what, kind, key)
		}
	}
}

func (r *reader) rule(n *node) Rule {
	ru := Rule{At: r.At(n), Config: ConfigKept, Restarts: 1, Due: "before"}
	var direction string
	r.Fields(n, "a rule", []string{"id", "kind", "text"}, fields{
		"id": r.Text(&ru.ID), "kind": r.OneOf(&ru.Kind, KindHop, KindLeaveTrain, KindCrossing, KindPlatformChange), "text": r.Text(&ru.Text),
		"models": r.Texts(&ru.Models), "from": r.Range(&ru.From), "to": r.Range(&ru.To),
		"direction": r.OneOf(&direction, "up", "down"), "same-train": r.Bool(&ru.SameTrain),
		"config": r.OneOf(&ru.Config, ConfigKept, ConfigConverted, ConfigReset), "restarts": r.Count(&ru.Restarts, 0, 9),
		"hand-step": r.Text(&ru.HandStep), "due": r.OneOf(&ru.Due, "before", "after"), "train": r.Text(&ru.Train), "crossing": r.Version(&ru.Crossing),
		"leave-from": r.Range(&ru.LeaveFrom), "land-on": r.Range(&ru.LandOn),
		"from-model": r.Text(&ru.FromModel), "to-model": r.Text(&ru.ToModel),
		"in-place": r.Bool(&ru.InPlace),
		"ports": func(n *node) {
			r.Names(n, "ports", func(key, value *node) {
				p := PortChange{From: key.Value}
				r.Text(&p.To)(value)
				ru.Ports = append(ru.Ports, p)
			})
		},
		"will-change": func(n *node) {
			r.Items(n, "will-change", func(n *node) { ru.Changes = append(ru.Changes, r.foretold(n)) })
		},
	})
	ru.Down = direction == "down"
	ranges := []string{"from", "to"}
	if ru.SameTrain && ru.From.IsZero() && ru.To.IsZero() { // once for all trains
		ranges = nil
	}
	r.only(n, fmt.Sprintf("rule %q", ru.ID), ru.Kind, []string{"id", "kind", "text", "models"},
		map[string][]string{KindHop: ranges, KindCrossing: {"crossing"}, KindPlatformChange: {"from-model", "to-model", "from", "to"}},
		map[string][]string{KindHop: {"from", "to", "direction", "same-train", "config", "restarts", "hand-step", "due"}, KindLeaveTrain: {"train"},
			KindCrossing:       {"leave-from", "land-on"},
			KindPlatformChange: {"config", "restarts", "hand-step", "due", "in-place", "ports", "will-change"}})
	if ru.Kind == KindCrossing && ru.LeaveFrom.IsZero() && ru.LandOn.IsZero() {
		r.Fail(n, "add leave-from: or land-on:", "rule %q: a crossing rule says from where or to where", ru.ID)
	}
	return ru
}

func (r *reader) foretold(n *node) (f Foretold) {
	r.Fields(n, "a value that changes", []string{"value", "text"}, fields{"value": r.Text(&f.Value), "text": r.Text(&f.Text), "becomes": func(n *node) {
		if _, err := yamldoc.Regexp(n.Value); err != nil {
			r.Fail(n, "write a regular expression", "becomes: %s", err)
			return
		}
		r.Text(&f.Becomes)(n)
	}})
	return f
}

func (r *reader) condition(n *node) Condition {
	c := Condition{At: r.At(n)}
	r.Fields(n, "a condition", []string{"name", "text"}, fields{"name": r.Text(&c.Name), "text": r.Text(&c.Text), "has": r.Texts(&c.Has)})
	return c
}

func (r *reader) service(n *node) Service {
	s := Service{At: r.At(n)}
	r.Fields(n, "a service", []string{"name", "text"}, fields{
		"name": r.Text(&s.Name), "text": r.Text(&s.Text), "runs": r.Range(&s.Runs), "models": r.Texts(&s.Models),
		"generations": r.Texts(&s.Generations), "condition": r.Text(&s.Condition),
	})
	return s
}

func (r *reader) requirement(n *node) Requirement {
	q := Requirement{At: r.At(n)}
	var atLeast string
	r.Fields(n, "a requirement", []string{"id", "kind", "install", "text"}, fields{
		"id":   r.Text(&q.ID),
		"kind": r.OneOf(&q.Kind, NeedStorage, NeedMemory, NeedPlatform, NeedFileSystem, NeedLicence, NeedContent, NeedBootVariable, NeedConfiguration),
		"text": r.Text(&q.Text), "models": r.Texts(&q.Models), "install": r.Range(&q.Install), "leaving": r.Range(&q.Leaving), "remedy": r.Text(&q.Remedy),
		"bytes": r.Bytes(&q.Bytes), "one-of": r.Texts(&q.OneOf), "component": r.Text(&q.Component), "at-least": r.Text(&atLeast),
		"variable": r.Text(&q.Variable), "value": r.Text(&q.Value), "uses": r.Text(&q.Uses), "lacks": r.Text(&q.Lacks),
	})
	q.AtLeast = r.plainVersion(n, atLeast)
	r.only(n, fmt.Sprintf("requirement %q", q.ID), q.Kind, []string{"id", "kind", "text", "models", "install", "leaving", "remedy"},
		map[string][]string{NeedStorage: {"bytes"}, NeedMemory: {"bytes"}, NeedPlatform: {"one-of"}, NeedFileSystem: {"one-of"}, NeedLicence: {"one-of"},
			NeedContent: {"component", "at-least"}, NeedBootVariable: {"variable"}},
		map[string][]string{NeedBootVariable: {"value"}, NeedConfiguration: {"uses", "lacks"}})
	if q.Kind == NeedConfiguration && q.Uses == "" && q.Lacks == "" {
		r.Fail(n, "add uses: or lacks: with the name of a condition", "requirement %q says nothing about the configuration", q.ID)
	}
	return q
}

// plainVersion reads the version of something beside the main image, which need not follow the family's scheme.
func (r *reader) plainVersion(n *node, text string) (v version.Version) {
	if text != "" {
		var err error
		if v, err = version.Parse(text); err != nil {
			r.Fail(n, "", "%s", err)
		}
	}
	return v
}

func (r *reader) component(n *node) Component {
	c := Component{At: r.At(n), Order: "after", Trigger: TriggerCommand}
	r.Fields(n, "a component", []string{"name", "title", "rows"}, fields{
		"name": r.Text(&c.Name), "title": r.Text(&c.Title), "text": r.Text(&c.Text),
		"trigger": r.OneOf(&c.Trigger, TriggerItself, TriggerCommand, TriggerRestart, TriggerPowerCycle),
		"order":   r.OneOf(&c.Order, "before", "after"), "restarts": r.Text(&c.Restarts),
		"duration": func(n *node) {
			if v := r.Numbers(n, 3); v != nil {
				c.Duration = Span{v[0], v[1], v[2]}
			}
		},
		"rows": each(r, "rows", &c.Rows, r.componentRow),
	})
	return c
}

func (r *reader) componentRow(n *node) ComponentRow {
	row := ComponentRow{At: r.At(n)}
	var exact, atLeast string
	r.Fields(n, "a row", []string{"releases"}, fields{
		"releases": r.Range(&row.Releases), "models": r.Texts(&row.Models), "generations": r.Texts(&row.Generations),
		"version": r.Text(&exact), "at-least": r.Text(&atLeast),
		"image": func(n *node) {
			im := r.image(n)
			row.Image = &im
		},
	})
	if (exact == "") == (atLeast == "") {
		r.Fail(n, "give one of version: and at-least:", "a row says which version of the component goes with the releases")
	}
	row.Version, row.AtLeast = r.plainVersion(n, exact), r.plainVersion(n, atLeast)
	return row
}

func (r *reader) skew(n *node) Skew {
	s := Skew{At: r.At(n)}
	r.Fields(n, "a skew", []string{"id", "between", "text"}, fields{
		"id": r.Text(&s.ID), "between": r.OneOf(&s.Between, SkewMembers, SkewChildren), "one": r.Range(&s.One), "other": r.Range(&s.Other),
		"same-train": r.Bool(&s.SameTrain), "text": r.Text(&s.Text),
	})
	return s
}

func (r *reader) effect(n *node) Effect {
	e := Effect{At: r.At(n)}
	r.Fields(n, "an effect", []string{"step", "clients", "effect", "text"}, fields{
		"step": r.OneOf(&e.Step, DurationNames...), "clients": r.Text(&e.Clients), "effect": r.OneOf(&e.Effect, "none", "degraded", "outage"),
		"text": r.Text(&e.Text), "when": r.when(&e.When),
	})
	return e
}

// DurationNames are the step kinds a catalogue may give durations for, in seconds.
var DurationNames = []string{"check", "backup", "send", "checksum", "install", "save", "choose-slot", "restart", "link", "login", "version",
	"services", "readings", "sync", "switch-over", "spread", "restart-units", "hand-over", "units", "preload", "children",
	"restart-children", "become-managed", "join", "release-child"}

func (r *reader) durations(n *node, f *Family) {
	known := fields{
		"send-rate": func(n *node) {
			if v := r.Numbers(n, 2); v != nil {
				f.SendRate = Rate{v[0], v[1]}
			}
		},
	}
	for _, name := range DurationNames {
		known[name] = func(n *node) {
			if v := r.Numbers(n, 3); v != nil {
				f.Durations[name] = Span{v[0], v[1], v[2]}
			}
		}
	}
	r.Fields(n, "durations", nil, known)
}
