// Package advisory reads security advisories in the OASIS Common Security Advisory Framework (CSAF) 2.0 and says which
// releases of a catalogue they affect and which fix them.
//
// A product of the document's tree maps to a family by its vendor branch (the maker) and its product_name branch (a
// model, or the family's name or title, which stands for all its models). Versions come from product_version branches
// and from product_version_range branches in vers form ("vers:generic/>=5.0|<5.0.7"). A product that a relationship makes of two, such as
// firmware installed on hardware, has the versions of the first and is about the second (CSAF 2.0, section 3.2.2.4).
package advisory

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/version"
)

// An Advisory is one document, as far as we use it.
type Advisory struct {
	ID, Title, Publisher string
	Severity             string // aggregate severity as the document words it; "" when it has none
	Summary              string
	Released             string // date of the current release, RFC 3339
	Revision             string
	CVEs                 []string
	Products             []Product
}

// Status says what the advisory says about a product.
type Status string

// The statuses we tell apart (CSAF 2.0, section 3.2.3.9). First and last affected, and recommended, are folded in.
const (
	Affected    Status = "affected"
	Fixed       Status = "fixed"
	NotAffected Status = "not affected"
	Unclear     Status = "under investigation"
)

// A Product is one version, or a range of them, of one named product with its status.
type Product struct {
	ID, Vendor, Name string
	Version          string // one version; or
	Range            string // vers form
	On               string // the hardware that it is installed on; "" when no relationship says so
	Status           Status
	Remediations     []Remediation
	Flags            []string // why it is not affected, as the document words it
}

// A Remediation is what the document says can be done (CSAF 2.0, section 3.2.3.12).
type Remediation struct {
	Category string // vendor_fix, workaround, mitigation, no_fix_planned or none_available
	Details  string
	URL      string
	Restart  string // what has to be restarted, as the document words it
}

// String tells a remediation in a line.
func (r Remediation) String() string {
	s := r.Details
	if name := map[string]string{"vendor_fix": "fix", "workaround": "workaround", "mitigation": "mitigation", "no_fix_planned": "no fix is planned", "none_available": "none is available"}[r.Category]; name != "" {
		s = name + ": " + s
	}
	if r.Restart != "" && r.Restart != "none" {
		s += fmt.Sprintf(" (restart: %s)", r.Restart)
	}
	if r.URL != "" {
		s += " " + r.URL
	}
	return s
}

// Read reads a CSAF document. It fails on what is not one, naming the place in the document.
func Read(data []byte) (*Advisory, error) {
	d, err := decode(data)
	if err != nil {
		return nil, err
	}
	r := &reading{products: map[string]Product{}, groups: map[string][]string{}, statuses: map[string]Status{}, remedies: map[string][]Remediation{}, flags: map[string][]string{}}
	if err := r.tree(d); err != nil {
		return nil, err
	}
	a := &Advisory{ID: d.Document.Tracking.ID, Title: d.Document.Title, Publisher: d.Document.Publisher.Name, Severity: d.Document.Severity.Text,
		Released: d.Document.Tracking.Current, Revision: d.Document.Tracking.Version}
	for _, n := range d.Document.Notes {
		if n.Category == "summary" {
			a.Summary = n.Text
		}
	}
	for i := range d.Vulnerabilities {
		v := &d.Vulnerabilities[i]
		if v.CVE != "" {
			a.CVEs = append(a.CVEs, v.CVE)
		}
		if err := errors.Join(r.status(v), r.advice(v)); err != nil {
			return nil, err
		}
	}
	for id, p := range r.products {
		if p.Status = r.statuses[id]; p.Status != "" {
			p.Remediations, p.Flags = r.remedies[id], r.flags[id]
			a.Products = append(a.Products, p)
		}
	}
	slices.SortFunc(a.Products, func(x, y Product) int { return strings.Compare(x.ID, y.ID) })
	return a, nil
}

// decode reads a document and looks whether it is one that can be used.
func decode(data []byte) (*document, error) {
	var d document
	if err := json.Unmarshal(data, &d); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			line, column := place(data, syntax.Offset)
			return nil, fmt.Errorf("line %d, column %d: %w", line, column, err)
		}
		return nil, fmt.Errorf("not a CSAF document: %w", err)
	}
	switch {
	case d.Document.Version == "":
		return nil, errors.New("document.csaf_version is missing: this is not a CSAF document")
	case d.Document.Version != "2.0":
		return nil, fmt.Errorf("document.csaf_version is %q; 2.0 can be read", d.Document.Version)
	case d.Document.Tracking.ID == "":
		return nil, errors.New("document.tracking.id is missing")
	}
	return &d, nil
}

// A reading gathers what a document says of each product, by its number.
type reading struct {
	products map[string]Product
	groups   map[string][]string
	statuses map[string]Status
	remedies map[string][]Remediation
	flags    map[string][]string
}

// tree takes in the product tree (CSAF 2.0, section 3.2.2).
func (r *reading) tree(d *document) error {
	for i := range d.Tree.Branches {
		walk(&d.Tree.Branches[i], Product{}, r.products, 0)
	}
	for _, n := range d.Tree.Names { // products outside of the branches; only a relationship may say more of them
		if _, ok := r.products[n.ID]; !ok {
			r.products[n.ID] = Product{ID: n.ID, Name: n.Name}
		}
	}
	for _, g := range d.Tree.Groups {
		r.groups[g.ID] = g.Products
	}
	return relate(d.Tree.Relationships, r.products)
}

// members are products and those of groups.
func (r *reading) members(ids, groups []string) (out []string, err error) {
	out = slices.Clone(ids)
	for _, g := range groups {
		if _, ok := r.groups[g]; !ok {
			return nil, fmt.Errorf("vulnerabilities: product group %q is not in the product tree", g)
		}
		out = append(out, r.groups[g]...)
	}
	return out, nil
}

// status takes in which products a weakness affects. What is affected by one of a document is affected, whatever the others say.
func (r *reading) status(v *vulnerability) error {
	for _, s := range []struct {
		status Status
		ids    [][]string
	}{{NotAffected, [][]string{v.Status.NotAffected}}, {Fixed, [][]string{v.Status.Fixed, v.Status.FirstFixed, v.Status.Recommended}},
		{Unclear, [][]string{v.Status.Investigated}}, {Affected, [][]string{v.Status.Affected, v.Status.FirstAffected, v.Status.LastAffected}}} {
		for _, id := range slices.Concat(s.ids...) {
			if _, ok := r.products[id]; !ok {
				return fmt.Errorf("vulnerabilities: product_status names product %q, which the product tree does not have", id)
			}
			if worse(s.status, r.statuses[id]) {
				r.statuses[id] = s.status
			}
		}
	}
	return nil
}

// advice takes in what is said of products: remediations, and flags that justify why one is not affected.
func (r *reading) advice(v *vulnerability) error {
	for _, x := range v.Remediations {
		ids, err := r.members(x.Products, x.Groups)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if one := (Remediation{x.Category, x.Details, x.URL, x.Restart.Category}); !slices.Contains(r.remedies[id], one) {
				r.remedies[id] = append(r.remedies[id], one)
			}
		}
	}
	for _, flag := range v.Flags {
		ids, err := r.members(flag.Products, flag.Groups)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if label := strings.ReplaceAll(flag.Label, "_", " "); !slices.Contains(r.flags[id], label) {
				r.flags[id] = append(r.flags[id], label)
			}
		}
	}
	return nil
}

func worse(a, b Status) bool {
	order := []Status{"", NotAffected, Fixed, Unclear, Affected}
	return slices.Index(order, a) > slices.Index(order, b)
}

func place(data []byte, offset int64) (line, column int) {
	before := data[:min(int(offset), len(data))]
	return 1 + bytes.Count(before, []byte("\n")), len(before) - bytes.LastIndexByte(before, '\n')
}

type document struct {
	Document struct {
		Version   string `json:"csaf_version"`
		Title     string `json:"title"`
		Publisher struct {
			Name string `json:"name"`
		} `json:"publisher"`
		Severity struct {
			Text string `json:"text"`
		} `json:"aggregate_severity"`
		Notes []struct {
			Category string `json:"category"`
			Text     string `json:"text"`
		} `json:"notes"`
		Tracking struct {
			ID      string `json:"id"`
			Current string `json:"current_release_date"`
			Version string `json:"version"`
		} `json:"tracking"`
	} `json:"document"`
	Tree struct {
		Branches      []branch       `json:"branches"`
		Names         []fullName     `json:"full_product_names"`
		Relationships []relationship `json:"relationships"`
		Groups        []struct {
			ID       string   `json:"group_id"`
			Products []string `json:"product_ids"`
		} `json:"product_groups"`
	} `json:"product_tree"`
	Vulnerabilities []vulnerability `json:"vulnerabilities"`
}

// A vulnerability is one weakness that a document speaks of.
type vulnerability struct {
	CVE    string `json:"cve"`
	Status struct {
		Affected      []string `json:"known_affected"`
		NotAffected   []string `json:"known_not_affected"`
		Fixed         []string `json:"fixed"`
		FirstFixed    []string `json:"first_fixed"`
		FirstAffected []string `json:"first_affected"`
		LastAffected  []string `json:"last_affected"`
		Recommended   []string `json:"recommended"`
		Investigated  []string `json:"under_investigation"`
	} `json:"product_status"`
	Remediations []struct {
		Category string   `json:"category"`
		Details  string   `json:"details"`
		URL      string   `json:"url"`
		Products []string `json:"product_ids"`
		Groups   []string `json:"group_ids"`
		Restart  struct {
			Category string `json:"category"`
		} `json:"restart_required"`
	} `json:"remediations"`
	Flags []struct {
		Label    string   `json:"label"`
		Products []string `json:"product_ids"`
		Groups   []string `json:"group_ids"`
	} `json:"flags"`
}

type branch struct {
	Category string    `json:"category"`
	Name     string    `json:"name"`
	Branches []branch  `json:"branches"`
	Product  *fullName `json:"product"`
}

type fullName struct {
	ID   string `json:"product_id"`
	Name string `json:"name"`
}

type relationship struct {
	Category string   `json:"category"`
	Product  fullName `json:"full_product_name"`
	Of       string   `json:"product_reference"`
	To       string   `json:"relates_to_product_reference"`
}

// relate adds the products that relationships make of two others. One may build on another, in any order.
func relate(list []relationship, products map[string]Product) error {
	for len(list) > 0 {
		var rest []relationship
		for _, r := range list {
			part, ok := products[r.Of]
			whole, there := products[r.To]
			if !ok || !there {
				rest = append(rest, r)
				continue
			}
			if _, twice := products[r.Product.ID]; twice {
				return fmt.Errorf("product_tree.relationships: product %q is there already", r.Product.ID)
			}
			p := part
			p.ID = r.Product.ID
			switch r.Category {
			case "installed_on":
				p.On = cmp.Or(whole.On, whole.Name)
				p.Vendor = cmp.Or(p.Vendor, whole.Vendor)
			case "default_component_of", "optional_component_of", "external_component_of", "installed_with": // it is about the whole, whatever the part is called
				if whole.Version != "" || whole.Range != "" {
					p = whole
				} else { // firmware as a part of hardware
					p.On, p.Vendor = cmp.Or(whole.On, whole.Name), cmp.Or(p.Vendor, whole.Vendor)
				}
				p.ID = r.Product.ID
			default:
				return fmt.Errorf("product_tree.relationships: category %q of product %q is not known", r.Category, r.Product.ID)
			}
			products[p.ID] = p
		}
		if len(rest) == len(list) {
			missing := rest[0].Of
			if _, ok := products[missing]; ok {
				missing = rest[0].To
			}
			return fmt.Errorf("product_tree.relationships: product %q speaks of %q, which the product tree does not have", rest[0].Product.ID, missing)
		}
		list = rest
	}
	return nil
}

// maxDepth bounds how deep a product tree is followed.
const maxDepth = 32

func walk(b *branch, p Product, out map[string]Product, depth int) {
	switch b.Category {
	case "vendor":
		p.Vendor = b.Name
	case "product_name":
		p.Name = b.Name
	case "product_version":
		p.Version = b.Name
	case "product_version_range":
		p.Range = b.Name
	}
	if b.Product != nil {
		p.ID = b.Product.ID
		out[p.ID] = p
	}
	if depth < maxDepth {
		for i := range b.Branches {
			walk(&b.Branches[i], p, out, depth+1)
		}
	}
}

// about reports whether a product means a model of a family.
func (p *Product) about(f *catalog.Family, model string) bool {
	if p.On != "" && !strings.EqualFold(p.On, model) && !strings.EqualFold(p.On, f.Name) && !strings.EqualFold(p.On, f.Title) {
		return false
	}
	return strings.EqualFold(p.Vendor, f.Maker) && (strings.EqualFold(p.Name, model) || strings.EqualFold(p.Name, f.Name) || strings.EqualFold(p.Name, f.Title))
}

// Families lists the families of a catalogue that the advisory speaks about.
func (a *Advisory) Families(c *catalog.Catalogue) (out []*catalog.Family) {
	for _, f := range c.Families {
		if slices.ContainsFunc(f.Models, func(m catalog.Model) bool {
			return slices.ContainsFunc(a.Products, func(p Product) bool { return p.about(f, m.Name) })
		}) {
			out = append(out, f)
		}
	}
	return out
}

// Status is what the advisory says about a release on a model; "" when it says nothing. Where it says more than one
// thing, the worse counts.
func (a *Advisory) Status(f *catalog.Family, model, release string) (Status, string) {
	p := a.Product(f, model, release)
	if p == nil {
		return "", ""
	}
	return p.Status, p.Says()
}

// Product is what of the advisory speaks about a release on a model, the worst of it; nil when nothing does.
func (a *Advisory) Product(f *catalog.Family, model, release string) (worst *Product) {
	v, err := f.Scheme.Parse(release)
	if err != nil {
		return nil
	}
	for i := range a.Products {
		p := &a.Products[i]
		if p.about(f, model) && p.covers(f.Scheme, v) && (worst == nil || worse(p.Status, worst.Status)) {
			worst = p
		}
	}
	return worst
}

// Says lists what the products of an advisory say, each once.
func (a *Advisory) Says() []string {
	out := []string{}
	for i := range a.Products {
		for _, line := range strings.Split(a.Products[i].Says(), "\n") {
			if line != "" && !slices.Contains(out, line) {
				out = append(out, line)
			}
		}
	}
	return out
}

// Says tells what can be done, and why it is not affected, one thing a line.
func (p *Product) Says() string {
	var lines []string
	for _, r := range p.Remediations {
		lines = append(lines, r.String())
	}
	for _, flag := range p.Flags {
		lines = append(lines, "not affected: "+flag)
	}
	return strings.Join(lines, "\n")
}

func (p *Product) covers(scheme *version.Scheme, v version.Version) bool {
	switch {
	case p.Version != "":
		other, err := scheme.Parse(p.Version)
		return err == nil && other.Order(v) == 0
	case p.Range != "":
		r, err := VersRange(scheme, p.Range)
		return err == nil && r(v)
	}
	return true
}

// VersRange reads a range in vers form, "vers:<scheme>/<constraint>|<constraint>...", as a test. Versions are ordered by
// the family's own scheme. Constraints are taken in pairs of a lower and an upper bound, as vers asks.
func VersRange(scheme *version.Scheme, text string) (func(version.Version) bool, error) {
	body := text
	if rest, ok := strings.CutPrefix(text, "vers:"); ok {
		_, after, ok := strings.Cut(rest, "/")
		if !ok {
			return nil, fmt.Errorf("range %q: expected vers:SCHEME/CONSTRAINTS", text)
		}
		body = after
	}
	if body == "*" {
		return func(version.Version) bool { return true }, nil
	}
	type constraint struct {
		op string
		v  version.Version
	}
	var all []constraint
	for _, part := range strings.Split(body, "|") {
		part = strings.TrimSpace(part)
		op := "="
		for _, o := range []string{">=", "<=", "!=", ">", "<", "="} {
			if rest, ok := strings.CutPrefix(part, o); ok {
				op, part = o, rest
				break
			}
		}
		v, err := scheme.Parse(strings.TrimSpace(part))
		if err != nil {
			return nil, fmt.Errorf("range %q: %w", text, err)
		}
		all = append(all, constraint{op, v})
	}
	slices.SortStableFunc(all, func(a, b constraint) int { return a.v.Compare(b.v) })
	return func(v version.Version) bool {
		// From the lowest constraint up: the last bound at or below v says whether v is inside.
		inside := len(all) > 0 && strings.HasPrefix(firstBound(all, func(c constraint) string { return c.op }), "<")
		for _, c := range all {
			k := v.Compare(c.v)
			switch {
			case k == 0 && c.op == "!=":
				return false
			case k == 0 && c.op == "=", k == 0 && c.op == ">=", k == 0 && c.op == "<=":
				return true
			case k == 0 && (c.op == ">" || c.op == "<"):
				return false
			case k > 0 && (c.op == ">" || c.op == ">="):
				inside = true
			case k > 0 && (c.op == "<" || c.op == "<="):
				inside = false
			}
		}
		return inside
	}, nil
}

// firstBound is the operator of the lowest constraint that bounds a range.
func firstBound[C any](all []C, op func(C) string) string {
	for _, c := range all {
		if o := op(c); o[0] == '<' || o[0] == '>' {
			return o
		}
	}
	return ""
}

// Affects returns a test of releases for path questions: what the advisory calls affected, or says is still being looked
// into, is not a way out.
func (a *Advisory) Affects(c *catalog.Catalogue) func(model, release string) bool {
	return func(model, release string) bool {
		f := c.FamilyOfModel(model)
		if f == nil {
			return false
		}
		status, _ := a.Status(f, model, release)
		return status == Affected || status == Unclear
	}
}
