package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"verimorph/core/portrait"
	"verimorph/device"
)

// Portrait asks the device what it is.
func (c *Client) Portrait(ctx context.Context) (*portrait.Portrait, error) {
	return c.portraitBy(ctx, func(*Query) bool { return true })
}

// Identity asks only what tells the device apart and what runs on it: model, serial, version, its last start and its slots.
func (c *Client) Identity(ctx context.Context) (*portrait.Portrait, error) {
	return c.portraitBy(ctx, func(q *Query) bool {
		return q.Rows == "slots" || q.Rows == "" && slices.ContainsFunc(q.groups(), func(name string) bool { return slices.Contains(identity, name) })
	})
}

// identity are the fields that tell a device apart, and what runs on it.
var identity = []string{"model", "serial", "version", "started", "slot", "next"}

// groups are the names of what a query takes out of its answer.
func (q *Query) groups() []string {
	out := append(groupsOf(q.Fields), groupsOf(q.Match)...)
	if q.Table != nil {
		out = append(slices.AppendSeq(out, maps.Keys(q.Table.Columns)), groupsOf(q.Table.Begin)...)
	}
	return out
}

func (c *Client) portraitBy(ctx context.Context, wanted func(*Query) bool) (*portrait.Portrait, error) {
	d := c.d
	said := newAnswers()
	for i := range d.Portrait {
		q := &d.Portrait[i]
		if !wanted(q) {
			continue
		}
		device.Tell(ctx, "reading: "+q.says(), i, len(d.Portrait))
		key := q.key()
		text, ok := said.texts[key]
		if !ok {
			var err error
			if text, err = c.query(ctx, *q, nil, nil); err != nil {
				return nil, err
			}
			said.texts[key], said.echoed[key] = text, c.echoed(q.By)
		}
		if err := c.take(q, text, said); err != nil {
			return nil, err
		}
	}
	p, err := d.portrait(said)
	if err != nil {
		return nil, device.Fail(device.NotUnderstood, c.t.Address, "portrait", "%s", err)
	}
	for i := range d.Portrait {
		if q := &d.Portrait[i]; q.Rows != "" && wanted(q) {
			if why := d.unread(q, said); why != "" {
				set(&p.NotUnderstood, q.Rows, why)
			}
		}
	}
	return p, nil
}

// take takes what a query looks for out of an answer.
func (c *Client) take(q *Query, text string, said *answers) error {
	d := c.d
	if q.Fields.Regexp != nil {
		loc := q.Fields.FindStringSubmatchIndex(text)
		if loc == nil {
			return device.Fail(device.NotUnderstood, c.t.Address, q.says(), "the answer does not fit the dialect %s; it begins %.80q", d.Name, text)
		}
		if err := d.plain(q.Fields.Whole(text, loc, numbers...), said.fields); err != nil {
			return device.Fail(device.NotUnderstood, c.t.Address, q.says(), "%s", err)
		}
	}
	if q.Table != nil {
		return c.laidOut(q, text, said)
	}
	if q.Rows == "" {
		return nil
	}
	row := map[string]string{}
	for _, loc := range q.Match.FindAllStringSubmatchIndex(text, -1) {
		q.Match.WholeInto(row, text, loc, numbers...)
		if err := d.plain(row, row); err != nil {
			return device.Fail(device.NotUnderstood, c.t.Address, q.says(), "%s", err)
		}
		if q.Rows == "children" { // there may be hundreds of them, so no row is kept
			said.children = append(said.children, d.child(row))
			continue
		}
		said.rows[q.Rows] = append(said.rows[q.Rows], row)
		row = map[string]string{}
	}
	return nil
}

// laidOut takes the rows, or the fields, out of an answer by its layout.
func (c *Client) laidOut(q *Query, text string, said *answers) error {
	rows, unread := laidOut(q.Table, text, &proof{frames: []device.Pattern{q.Frame, c.d.Frame}, ignore: []device.Pattern{q.Ignore, c.d.Ignore}, echoed: said.echoed[q.key()]})
	if unread != "" && q.Rows == "" {
		return device.Fail(device.NotUnderstood, c.t.Address, q.says(), "%s; the answer is %s", unread, Quoted(text))
	}
	if unread != "" {
		said.unread[q.Rows] = unread
	}
	for _, row := range rows {
		into := said.fields
		if q.Rows != "" {
			into = map[string]string{}
			said.rows[q.Rows] = append(said.rows[q.Rows], into)
		}
		if err := c.d.plain(row, into); err != nil {
			return device.Fail(device.NotUnderstood, c.t.Address, q.says(), "%s", err)
		}
	}
	return nil
}

// laidOut are the rows of an answer by its layout. unread says what of it is not understood; "" when all is.
func laidOut(l *device.Layout, text string, p *proof) (rows []map[string]string, unread string) {
	framed := false
	rows, unread = l.Read(text, func(line string) bool {
		frame := matches(p.frames, line)
		framed = framed || frame
		return frame || matches(p.ignore, line)
	})
	switch hasFrame := slices.ContainsFunc(p.frames, func(f device.Pattern) bool { return f.Regexp != nil }); {
	case unread != "":
	case !framed && hasFrame:
		unread = "the answer is not complete: its begin or end was not seen"
	case !hasFrame && strings.TrimSpace(text) == "" && !p.echoed:
		unread = "the answer is empty, and nothing shows that it was the answer"
	}
	return rows, unread
}

// plain puts what a device wrote into its plain form, by the values of the dialect.
func (d *Dialect) plain(wrote, into map[string]string) error {
	for k, text := range wrote {
		if v, ok := d.Values[k]; ok {
			var err error
			if text, err = v.Read(text); err != nil {
				return fmt.Errorf("%s: %w", k, err)
			}
		}
		into[k] = text
	}
	return nil
}

// numbers are the fields of a portrait that are numbers.
var numbers = []string{"uptime", "total", "free", "memory", "size"}

// answers are what a device said about itself.
type answers struct {
	fields map[string]string
	rows   map[string][]map[string]string
	// children are those of rows that were not kept.
	children []portrait.Child
	texts    map[string]string // by what was said
	unread   map[string]string // by table: what of its layout is not understood
	echoed   map[string]bool   // by what was said
}

func newAnswers() *answers {
	return &answers{fields: map[string]string{}, rows: map[string][]map[string]string{}, texts: map[string]string{}, echoed: map[string]bool{}, unread: map[string]string{}}
}

// unread says why the answer that a table was read from is not understood as a whole; "" when it is. Several queries may read one answer.
func (d *Dialect) unread(q *Query, said *answers) string {
	if q.Table != nil {
		return said.unread[q.Rows]
	}
	key := q.key()
	p := proof{frames: []device.Pattern{q.Frame, d.Frame}, ignore: []device.Pattern{q.Ignore, d.Ignore}, echoed: said.echoed[key]}
	for i := range d.Portrait {
		if o := &d.Portrait[i]; o.key() == key {
			p.rows = append(p.rows, o.Fields, o.Match)
			p.ignore = append(p.ignore, o.Ignore)
		}
	}
	return p.lacks(said.texts[key])
}

// A proof is what shows that an answer was understood as a whole: every line of it is a row, is known to say nothing, or is its frame. So
// a device that says something else is not taken for one that has nothing to say.
type proof struct {
	rows           []device.Pattern
	ignore, frames []device.Pattern // on single lines
	echoed         bool             // the answer is known to be that of its command
}

// lacks says what of an answer is not understood; "" when all is.
func (p *proof) lacks(text string) string {
	var spans [][]int
	for _, r := range p.rows {
		if r.Regexp != nil {
			spans = append(spans, r.FindAllStringIndex(text, -1)...)
		}
	}
	framed, lines, at := false, 0, 0
	for _, line := range strings.SplitAfter(text, "\n") {
		begin, end := at, at+len(strings.TrimRight(line, "\n"))
		at += len(line)
		bare := strings.TrimRight(line, "\n")
		if strings.TrimSpace(bare) == "" {
			continue
		}
		lines++
		if matches(p.frames, bare) {
			framed = true
			continue
		}
		row := slices.ContainsFunc(spans, func(s []int) bool { return s[0] < end && s[1] > begin })
		if !row && !matches(p.ignore, bare) {
			return fmt.Sprintf("the line %.120q is not understood", bare)
		}
	}
	switch hasFrame := slices.ContainsFunc(p.frames, func(f device.Pattern) bool { return f.Regexp != nil }); {
	case hasFrame && !framed:
		return fmt.Sprintf("the answer is not complete: its begin or end was not seen; it is %s", Quoted(text))
	case !hasFrame && lines == 0 && !p.echoed:
		return "the answer is empty, and nothing shows that it was the answer"
	}
	return ""
}

func matches(patterns []device.Pattern, line string) bool {
	return slices.ContainsFunc(patterns, func(p device.Pattern) bool { return p.Regexp != nil && p.MatchString(line) })
}

// portrait puts together what the answers say. A number that cannot be read is an error that quotes it.
func (d *Dialect) portrait(said *answers) (*portrait.Portrait, error) {
	var bad error
	number := func(what, s string) int64 {
		if s == "" {
			return 0
		}
		n, err := strconv.ParseInt(s, 10, 64)
		if (err != nil || n < 0) && bad == nil {
			bad = fmt.Errorf("%s: %q is not a number that is understood", what, s)
		}
		return n
	}
	f := said.fields
	p := &portrait.Portrait{
		Name: f["name"], Maker: f["maker"], Model: f["model"], Serial: f["serial"], Version: f["version"], Started: f["started"],
		UptimeSeconds: number("uptime", f["uptime"]), Generation: f["generation"], Work: f["work"],
		Memory: number("memory", f["memory"]), Platform: f["platform"], FileSystem: f["file-system"],
		ServicesReady: d.fact("services", d.ServicesReady, f), Unsaved: d.unsaved(f["unsaved"]), Drained: d.fact("work", d.Drained, f),
	}
	if f["total"] != "" && f["free"] != "" { // the one says nothing without the other
		p.SetImageRoom(number("total", f["total"]), number("free", f["free"]))
	}
	p.Role, p.Mate, p.Ensemble, p.Sync, p.InSync = f["role"], f["mate"], f["ensemble"], f["sync"], d.fact("sync", d.InSync, f)
	p.OutOfService = not(d.fact("service", d.InService, f))
	for _, r := range said.rows["slots"] {
		p.Slots = append(p.Slots, d.slot(r))
		p.Slots[len(p.Slots)-1].Size = number("size of "+r["slot"], r["size"])
	}
	d.chosen(p, f)
	p.Units, p.Children, p.Seats = d.units(said, number), d.children(said), int(number("seats", f["seats"]))
	for _, r := range said.rows["files"] {
		if r["unit"] != "" {
			continue
		}
		p.Files = append(p.Files, portrait.File{Name: strings.TrimPrefix(r["file"], d.Files.Images), Size: number("size of "+r["file"], r["size"])})
	}
	for _, r := range said.rows["storages"] {
		p.AddStorage(r["storage"], number("room of "+r["storage"], r["total"]), number("room in "+r["storage"], r["free"]))
	}
	for _, r := range said.rows["components"] {
		if r["unit"] != "" {
			continue
		}
		set(&p.Components, r["component"], r["version"])
	}
	oldestComponents(p)
	for _, r := range said.rows["variables"] {
		set(&p.BootVariables, r["variable"], strings.Trim(r["value"], "-"))
	}
	for _, r := range said.rows["parts"] {
		p.Modules = append(p.Modules, portrait.Module{Name: r["part"], State: r["state"], Good: fact(d.GoodPart, r["state"])})
	}
	if slices.ContainsFunc(d.Portrait, func(q Query) bool { return q.Rows == "licences" }) {
		p.Licences = []string{} // it says, also when it has none
	}
	for _, r := range said.rows["licences"] {
		if r["licence"] != "" {
			p.Licences = append(p.Licences, r["licence"])
		}
	}
	return p, bad
}

// chosen says of each slot whether it runs, is next and is second, where the device names those slots by themselves. One that it names and does
// not list is none of them.
func (d *Dialect) chosen(p *portrait.Portrait, said map[string]string) {
	running, next, second := d.slotName(said["slot"]), d.slotName(said["next"]), d.slotName(said["second"])
	for i := range p.Slots {
		s := &p.Slots[i]
		s.Running = s.Running || running != "" && running == s.Name
		if next != "" {
			s.Next = portrait.Known(next == s.Name)
		}
		if second != "" {
			s.Second = portrait.Known(second == s.Name)
		}
	}
}

// slotName is the name of a slot without the folder in which such devices keep their images.
func (d *Dialect) slotName(name string) string {
	if d.Installs == FromFiles {
		return strings.TrimPrefix(name, d.Files.Images)
	}
	return name
}

func (d *Dialect) slot(r map[string]string) portrait.Slot {
	s := portrait.Slot{Name: d.slotName(r["slot"]), Version: strings.Trim(r["version"], "-"), State: r["state"], Percent: -1, Description: r["description"], Written: r["written"]}
	s.Running = fact(d.SlotStates["running"], s.State) == portrait.Yes
	s.Next, s.Good, s.Busy = fact(d.SlotStates["next"], s.State), fact(d.SlotStates["good"], s.State), fact(d.SlotStates["busy"], s.State)
	if moment := d.SlotStates["written"].Groups(s.State)["moment"]; moment != "" {
		s.Written = moment
	}
	if s.Busy == portrait.Yes {
		if n, err := strconv.Atoi(d.SlotStates["progress"].Groups(s.State)["percent"]); err == nil {
			s.Percent = n
		}
	}
	return s
}

// fact is whether the device's words fit the pattern; nobody knows without a pattern, or without words.
func fact(p device.Pattern, words string) portrait.Fact {
	if p.Regexp == nil || words == "" {
		return portrait.Unknown
	}
	return portrait.Known(p.MatchString(words))
}

// fact is what a field says: by its pattern, or where the dialect says what its words mean, yes or no.
func (d *Dialect) fact(field string, p device.Pattern, said map[string]string) portrait.Fact {
	words := said[field]
	switch {
	case p.Regexp != nil || len(d.Values[field].Words) == 0:
		return fact(p, words)
	case words == "yes" || words == "no":
		return portrait.Known(words == "yes")
	}
	return portrait.Unknown
}

func not(f portrait.Fact) portrait.Fact {
	if f == portrait.Unknown {
		return f
	}
	return portrait.Known(f == portrait.No)
}

// unsaved is what the field of that name says. Words that say neither yes nor no are not known.
func (d *Dialect) unsaved(words string) portrait.Fact {
	yes, no := strings.EqualFold(words, "yes"), strings.EqualFold(words, "no")
	if d.Unsaved.Regexp != nil {
		yes = words != "" && d.Unsaved.MatchString(words)
	}
	if d.Saved.Regexp != nil {
		no = words != "" && d.Saved.MatchString(words)
	}
	switch {
	case yes == no:
		return portrait.Unknown
	default:
		return portrait.Known(yes)
	}
}

func set(m *map[string]string, k, v string) {
	if *m == nil {
		*m = map[string]string{}
	}
	(*m)[k] = v
}
