package device

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"verimorph/core/portrait"
)

// Portrait asks the device what it is.
func (c *Client) Portrait(ctx context.Context) (*Portrait, error) {
	return c.portraitBy(ctx, func(*Query) bool { return true })
}

// Identity asks only what tells the device apart and what runs on it: model, serial, version, its last start and its slots.
func (c *Client) Identity(ctx context.Context) (*Portrait, error) {
	return c.portraitBy(ctx, func(q *Query) bool {
		return q.Rows == "slots" || q.Fields.Regexp != nil && slices.ContainsFunc(q.Fields.SubexpNames(), func(name string) bool {
			return slices.Contains([]string{"model", "serial", "version", "started"}, name)
		})
	})
}

func (c *Client) portraitBy(ctx context.Context, wanted func(*Query) bool) (*Portrait, error) {
	d := c.t.Dialect
	said := answers{fields: map[string]string{}, rows: map[string][]map[string]string{}, texts: map[string]string{}, echoed: map[string]bool{}}
	for i := range d.Portrait {
		q := &d.Portrait[i]
		if !wanted(q) {
			continue
		}
		text, ok := said.texts[q.Send]
		if !ok {
			var err error
			if text, err = c.query(ctx, *q, nil, nil); err != nil {
				return nil, err
			}
			said.texts[q.Send], said.echoed[q.Send] = text, c.term.echo == echoes
		}
		if q.Fields.Regexp != nil {
			loc := q.Fields.FindStringSubmatchIndex(text)
			if loc == nil {
				return nil, &Error{NotUnderstood, c.t.Address, q.Send, fmt.Sprintf("the answer does not fit the dialect %s; it begins %.80q", d.Name, text)}
			}
			for k, v := range q.Fields.whole(text, loc, numbers...) {
				said.fields[k] = v
			}
		}
		if q.Rows != "" {
			for _, loc := range q.Match.FindAllStringSubmatchIndex(text, -1) {
				said.rows[q.Rows] = append(said.rows[q.Rows], q.Match.whole(text, loc, numbers...))
			}
		}
	}
	p, err := d.portrait(&said)
	if err != nil {
		return nil, &Error{NotUnderstood, c.t.Address, "portrait", err.Error()}
	}
	for i := range d.Portrait {
		if q := &d.Portrait[i]; q.Rows != "" && wanted(q) {
			if why := d.unread(q, &said); why != "" {
				set(&p.NotUnderstood, q.Rows, why)
			}
		}
	}
	return p, nil
}

// numbers are the fields of a portrait that are numbers.
var numbers = []string{"uptime", "total", "free", "size"}

// answers are what a device said about itself.
type answers struct {
	fields map[string]string
	rows   map[string][]map[string]string
	texts  map[string]string // by command
	echoed map[string]bool   // by command
}

// unread says why the answer that a table was read from is not understood as a whole; "" when it is. Several queries may read one answer.
func (d *Dialect) unread(q *Query, said *answers) string {
	p := proof{frames: []Pattern{q.Frame, d.Frame}, ignore: []Pattern{q.Ignore, d.Ignore}, echoed: said.echoed[q.Send]}
	for i := range d.Portrait {
		if o := &d.Portrait[i]; o.Send == q.Send {
			p.rows = append(p.rows, o.Fields, o.Match)
			p.ignore = append(p.ignore, o.Ignore)
		}
	}
	return p.lacks(said.texts[q.Send])
}

// A proof is what shows that an answer was understood as a whole: every line of it is a row, is known to say nothing, or is its frame. So
// a device that says something else is not taken for one that has nothing to say.
type proof struct {
	rows           []Pattern
	ignore, frames []Pattern // on single lines
	echoed         bool      // the answer is known to be that of its command
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
	switch hasFrame := slices.ContainsFunc(p.frames, func(f Pattern) bool { return f.Regexp != nil }); {
	case hasFrame && !framed:
		return fmt.Sprintf("the answer is not complete: its begin or end was not seen; it is %s", Quoted(text))
	case !hasFrame && lines == 0 && !p.echoed:
		return "the answer is empty, and nothing shows that it was the answer"
	}
	return ""
}

func matches(patterns []Pattern, line string) bool {
	return slices.ContainsFunc(patterns, func(p Pattern) bool { return p.Regexp != nil && p.MatchString(line) })
}

// portrait puts together what the answers say. A number that cannot be read is an error that quotes it.
func (d *Dialect) portrait(said *answers) (*Portrait, error) {
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
	p := &Portrait{
		Name: f["name"], Maker: f["maker"], Model: f["model"], Serial: f["serial"], Version: f["version"], Started: f["started"],
		Uptime: time.Duration(number("uptime", f["uptime"])) * time.Second, Generation: f["generation"], Work: f["work"],
		ServicesReady: d.ServicesReady.fact(f["services"]), Unsaved: d.unsaved(f["unsaved"]), Drained: d.Drained.fact(f["work"]),
	}
	if f["total"] != "" && f["free"] != "" { // the one says nothing without the other
		p.Total, p.Free = number("total", f["total"]), number("free", f["free"])
	}
	p.OutOfService = not(d.InService.fact(f["service"]))
	for _, r := range said.rows["slots"] {
		p.Slots = append(p.Slots, d.slot(r))
	}
	for _, r := range said.rows["files"] {
		p.Files = append(p.Files, File{r["file"], number("size of "+r["file"], r["size"])})
	}
	for _, r := range said.rows["storages"] {
		p.Stores = append(p.Stores, Store{r["storage"], number("room of "+r["storage"], r["total"]), number("room in "+r["storage"], r["free"])})
	}
	for _, r := range said.rows["components"] {
		set(&p.Components, r["component"], r["version"])
	}
	for _, r := range said.rows["variables"] {
		set(&p.Variables, r["variable"], strings.Trim(r["value"], "-"))
	}
	for _, r := range said.rows["parts"] {
		p.Parts = append(p.Parts, Part{r["part"], r["state"], d.GoodPart.fact(r["state"])})
	}
	if slices.ContainsFunc(d.Portrait, func(q Query) bool { return q.Rows == "licences" }) {
		p.Licences = []string{} // it says, also when it has none
	}
	for _, r := range said.rows["licences"] {
		p.Licences = append(p.Licences, r["licence"])
	}
	return p, bad
}

func (d *Dialect) slot(r map[string]string) Slot {
	s := Slot{Name: r["slot"], Version: strings.Trim(r["version"], "-"), State: r["state"], Percent: -1}
	s.Running = d.SlotStates["running"].fact(s.State) == portrait.Yes
	s.Next, s.Good, s.Busy = d.SlotStates["next"].fact(s.State), d.SlotStates["good"].fact(s.State), d.SlotStates["busy"].fact(s.State)
	s.Written = d.SlotStates["written"].groups(s.State)["moment"]
	if s.Busy == portrait.Yes {
		if n, err := strconv.Atoi(d.SlotStates["progress"].groups(s.State)["percent"]); err == nil {
			s.Percent = n
		}
	}
	return s
}

// fact is whether the device's words fit the pattern; nobody knows without a pattern, or without words.
func (p Pattern) fact(words string) Fact {
	if p.Regexp == nil || words == "" {
		return portrait.Unknown
	}
	return portrait.Known(p.MatchString(words))
}

func not(f Fact) Fact {
	if f == portrait.Unknown {
		return f
	}
	return portrait.Known(f == portrait.No)
}

// unsaved is what the field of that name says. Words that say neither yes nor no are not known.
func (d *Dialect) unsaved(words string) Fact {
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
