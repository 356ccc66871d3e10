package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/core/near"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/link"
)

// The workshop: what people do who write dialects. They try queries on a device and see what each pattern found, record a conversation, and replay it
// without the device.

// An Asked is something of a dialect that can be tried: a query of the portrait, a reading, a part of a backup, or a verb.
type Asked struct {
	Kind string `json:"kind"` // portrait, reading, part or verb
	Name string `json:"name"` // what is sent first for the portrait; else its name
	// Writes: it may change something on the device.
	Writes bool `json:"writes"`
	// Takes are the placeholders that have to be filled in.
	Takes []string `json:"takes,omitempty"`

	index int // of the portrait
}

// What can be tried.
const (
	AskedPortrait = "portrait"
	AskedReading  = "reading"
	AskedPart     = "part"
	AskedVerb     = "verb"
)

// harmless are the verbs that change nothing on a device.
var harmless = []string{"checksum"}

// Askable lists all that can be tried of a dialect: what only reads first.
func (d *Dialect) Askable() (out []Asked) {
	for i := range d.Portrait {
		out = append(out, Asked{Kind: AskedPortrait, Name: d.Portrait[i].says(), index: i})
	}
	for i := range d.Readings {
		out = append(out, Asked{Kind: AskedReading, Name: d.Readings[i].Name, index: i})
	}
	for _, p := range d.Backup {
		out = append(out, Asked{Kind: AskedPart, Name: p.Name})
	}
	var names []string
	for name := range d.Verbs {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		var takes []string
		for _, p := range verbParams[name] {
			if !slices.Contains([]string{"path", "second", "second_path"}, p) {
				takes = append(takes, p)
			}
		}
		out = append(out, Asked{Kind: AskedVerb, Name: name, Writes: !slices.Contains(harmless, name), Takes: takes})
	}
	return out
}

// Select finds what is meant by some words: what is sent for the portrait, or the name of a reading, a part or a verb. Without words it is all of the portrait
// and all readings. What may write is an error unless write says that it may.
func (d *Dialect) Select(words []string, write bool) (out []Asked, err error) {
	all := d.Askable()
	if len(words) == 0 {
		return slices.DeleteFunc(all, func(a Asked) bool { return a.Kind == AskedPart || a.Kind == AskedVerb }), nil
	}
	for _, word := range words {
		found := false
		for _, a := range all {
			if a.Name != word {
				continue
			}
			if a.Writes && !write {
				return nil, fmt.Errorf("%s may change something on the device; say that it may with -write", word)
			}
			found = true
			out = append(out, a)
		}
		if !found {
			var names []string
			for _, a := range all {
				names = append(names, a.Name)
			}
			return nil, fmt.Errorf("the dialect has nothing called %q%s", word, near.Hint(word, names))
		}
	}
	return out, nil
}

// A Mark is what a group of a pattern found, in bytes of the answer.
type Mark struct {
	From  int    `json:"from"`
	To    int    `json:"to"`
	Group string `json:"group"` // "" is the whole match
}

// A Trial is what came of something that was tried.
type Trial struct {
	Asked
	Sent    []string            `json:"sent"`
	Answer  string              `json:"answer"` // without echo and prompt; of a part only how large it is
	Marks   []Mark              `json:"marks"`
	Fields  map[string]string   `json:"fields,omitempty"`
	Table   string              `json:"table,omitempty"`
	Rows    []map[string]string `json:"rows,omitempty"`
	Value   *verify.Value       `json:"value,omitempty"`   // of a reading
	Trouble string              `json:"trouble,omitempty"` // what went wrong, or is not understood; "" when all is
	Took    time.Duration       `json:"took"`
	Shown   string              `json:"shown,omitempty"` // the value as people read it
}

// Try tries one thing. An error means that the conversation is over; what only that thing lacks is its trouble.
func (c *Client) Try(ctx context.Context, a Asked, args map[string]string) (t Trial, err error) {
	began := time.Now()
	t.Asked = a
	switch a.Kind {
	case AskedPortrait:
		err = c.tryPortrait(ctx, &t)
	case AskedReading:
		err = c.tryReading(ctx, &t)
	case AskedPart:
		var data []byte
		var proof string
		data, proof, err = c.FetchPart(ctx, a.Name)
		t.Answer = fmt.Sprintf("%d bytes in %d lines, %s", len(data), strings.Count(string(data), "\n"), proof)
	case AskedVerb:
		err = c.tryVerb(ctx, &t, args)
	}
	t.Took = time.Since(began)
	t.Answer = sameLength(t.Answer)
	switch k := device.KindOf(err); {
	case err == nil:
	case k == device.Refused || k == device.NotUnderstood || k == device.NotReady || k == device.NoRoom || k == device.Lacking || k == device.SignInRefused:
		t.Trouble, err = err.Error(), nil
	case k == device.Silent: // the next question opens another conversation
		t.Trouble, err = err.Error(), nil
	}
	return t, err
}

// sameLength is an answer in which what looks like a secret is masked, byte for byte, so that marks stay where they are.
func sameLength(answer string) string {
	out := []byte(answer)
	for _, loc := range likeSecret.FindAllSubmatchIndex(out, -1) {
		for i := loc[4]; i < loc[5]; i++ {
			out[i] = '*'
		}
	}
	return string(out)
}

// marked are what a pattern finds in a text.
func marked(p device.Pattern, text string) (out []Mark) {
	if p.Regexp == nil {
		return nil
	}
	for _, loc := range p.FindAllStringSubmatchIndex(text, -1) {
		out = append(out, Mark{From: loc[0], To: loc[1]})
		for i, name := range p.SubexpNames() {
			if name != "" && loc[2*i] >= 0 {
				out = append(out, Mark{From: loc[2*i], To: loc[2*i+1], Group: name})
			}
		}
	}
	return out
}

// markedIn are the values that a layout finds in a text. Each is looked for behind the row before, from the left; one that was put together of several lines has no
// mark.
func markedIn(l *device.Layout, text string) (out []Mark) {
	rows, _ := l.Read(text, func(string) bool { return false })
	from := 0
	for _, row := range rows {
		begin := from
		for _, group := range slices.Sorted(maps.Keys(row)) {
			v, at := row[group], begin
			if l.By == device.ByPairs || l.By == device.ByBlocks { // behind its key
				at += max(strings.Index(text[begin:], l.Columns[group]), 0)
			}
			i := strings.Index(text[at:], v)
			if v == "" || i < 0 {
				continue
			}
			at += i
			out = append(out, Mark{From: at, To: at + len(v), Group: group})
			if end := strings.IndexByte(text[at:], '\n'); end >= 0 && len(rows) > 1 {
				from = max(from, at+end)
			}
		}
	}
	slices.SortFunc(out, func(a, b Mark) int { return a.From - b.From })
	return out
}

func (q *Query) sent() (out []string) {
	for _, st := range q.steps() {
		out = append(out, st.Send)
	}
	return out
}

func (c *Client) tryPortrait(ctx context.Context, t *Trial) error {
	q := &c.d.Portrait[t.index]
	t.Sent, t.Table = q.sent(), q.Rows
	text, err := c.query(ctx, *q, nil, nil)
	t.Answer = text
	if err != nil {
		return err
	}
	said := newAnswers()
	said.texts[q.key()], said.echoed[q.key()] = text, c.echoed(q.By)
	err = c.take(q, text, said)
	t.Marks = append(marked(q.Fields, text), marked(q.Match, text)...)
	if q.Table != nil {
		t.Marks = markedIn(q.Table, text)
	}
	t.Fields, t.Rows = said.fields, said.rows[q.Rows]
	if err != nil {
		return err
	}
	if q.Rows != "" {
		t.Trouble = c.d.unread(q, said)
	}
	return nil
}

func (c *Client) tryReading(ctx context.Context, t *Trial) error {
	r := &c.d.Readings[t.index]
	t.Sent = []string{r.Send}
	text, err := c.query(ctx, Query{By: r.By, Send: r.Send}, nil, nil)
	t.Answer = text
	if err != nil && (r.NotApplicable.Regexp == nil || !r.NotApplicable.MatchString(text)) {
		return err
	}
	v := c.d.read(r, text, c.echoed(r.By))
	t.Value, t.Shown, t.Marks = &v, v.String(), marked(r.Match, text)
	if r.Table != nil {
		t.Marks = markedIn(r.Table, text)
	}
	if v.Type == verify.NotReadable {
		t.Trouble = v.Text
	}
	return nil
}

func (c *Client) tryVerb(ctx context.Context, t *Trial, args map[string]string) error {
	for _, p := range t.Takes {
		if args[p] == "" {
			return device.Fail(device.NotUnderstood, c.t.Address, t.Name, "what is filled in for {%s}? Say it with -fill %s=...", p, p)
		}
	}
	q := c.d.Verbs[t.Name]
	t.Sent = q.sent()
	given := map[string]string{}
	for k, v := range args {
		given[k] = v
	}
	if t.Name == "choose-slot" {
		given["second"], given["second_path"] = args["second"], ""
	}
	text, err := c.verb(ctx, t.Name, given, nil)
	t.Answer = text
	t.Marks = append(marked(q.Fields, text), marked(q.Match, text)...)
	t.Fields = q.Fields.Groups(text)
	return err
}

// dialRecorded dials a device and keeps all that is said, for a recording.
func (d *Dialect) dialRecorded(ctx context.Context, t device.Target) (*Client, *recorder, error) {
	rec := &recorder{}
	for _, in := range append(slices.Clone(t.SignIns), t.Privileged...) {
		rec.secrets = append(rec.secrets, in.Password)
	}
	c, err := d.dialKeeping(ctx, t, rec)
	return c, rec, err
}

// TryAll tries things on a device, one after the other, and hears of each. An error is that of the connection.
func (d *Dialect) TryAll(ctx context.Context, t device.Target, all []Asked, args map[string]string, hear func(Trial)) (*Recording, error) {
	rec := &Recording{Device: t.Address, Dialect: d.Name, At: time.Now().UTC().Truncate(time.Second)}
	c, kept, err := d.dialRecorded(ctx, t)
	if err != nil {
		return rec, err
	}
	defer c.Close()
	for _, a := range all {
		trial, err := c.Try(ctx, a, args)
		if err != nil {
			rec.Pieces = kept.kept()
			return rec, err
		}
		hear(trial)
	}
	rec.Pieces = kept.kept()
	return rec, nil
}

// Replay tries things on a recording. Things that the recording does not hold are told by name.
func (d *Dialect) Replay(ctx context.Context, r *Recording, all []Asked, hear func(Trial)) (lacks []string, err error) {
	for _, a := range all {
		dev := newReplay(r)
		s := newStream(d, r.Device, dev, dev, func() { _ = dev.Close() })
		c := &Client{d: d, t: device.Target{Address: r.Device, Privileged: []device.SignIn{{Password: "secret"}}}, link: link.NewLine(ctx, r.Device, nil, func() { _ = dev.Close() }), term: s}
		c.callers.open = map[string]device.Caller{}
		for _, by := range device.Protocols {
			c.callers.open[by] = &replayed{by: by, r: r, lacks: dev.lack}
		}
		trial := Trial{Asked: a}
		err = nil
		if d.speaks() {
			if _, err = s.answer(ctx, "sign in", "", Step{}, nil); err == nil {
				err = s.prepare(ctx)
			}
		}
		if err == nil {
			trial, err = c.Try(ctx, a, nil)
		}
		c.Close()
		dev.mu.Lock()
		unheard := dev.lacks
		dev.mu.Unlock()
		switch {
		case len(unheard) > 0:
			lacks = append(lacks, fmt.Sprintf("%s %s: the recording has no answer to %q", a.Kind, a.Name, unheard[0]))
		case err != nil && ctx.Err() != nil:
			return lacks, err
		case err != nil:
			trial.Trouble = err.Error()
			hear(trial)
		default:
			hear(trial)
		}
	}
	return lacks, nil
}
