package device

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"verimorph/core/verify"
)

// Readings takes readings. One that the device refuses, or whose answer is not understood, is not readable and holds what was seen; a
// connection that fails is an error.
func (c *Client) Readings(ctx context.Context, rs []Reading) (verify.Readings, error) {
	out := verify.Readings{}
	for i := range rs {
		r := &rs[i]
		text, err := c.query(ctx, Query{Send: r.Send}, nil, nil)
		var e *Error
		switch k := KindOf(err); {
		case k == Refused && r.NotApplicable.Regexp != nil && r.NotApplicable.MatchString(text):
			out[r.Name] = verify.Value{Type: verify.NotApplicable, Text: Quoted(text)}
		case (k == Refused || k == NotReady || k == NotUnderstood) && errors.As(err, &e):
			out[r.Name] = unreadable("%s", e.Message)
		case err != nil:
			return nil, err
		default:
			out[r.Name] = r.read(text, c.t.Dialect, c.term.echo == echoes)
		}
	}
	return out, nil
}

func unreadable(format string, args ...any) verify.Value {
	return verify.Value{Type: verify.NotReadable, Text: fmt.Sprintf(format, args...)}
}

// read finds the value in an answer. echoed says that the answer is known to be that of its command.
func (r *Reading) read(text string, d *Dialect, echoed bool) verify.Value {
	if r.NotApplicable.Regexp != nil && r.NotApplicable.MatchString(text) {
		return verify.Value{Type: verify.NotApplicable, Text: Quoted(text)}
	}
	var all, number []string
	if r.Type == verify.Number {
		number = []string{"value"}
	}
	for _, loc := range r.Match.FindAllStringSubmatchIndex(text, -1) {
		all = append(all, r.Match.whole(text, loc, number...)["value"])
	}
	if r.Type == verify.Set || r.Type == verify.Flag {
		p := proof{rows: []Pattern{r.Match}, ignore: []Pattern{r.Ignore, d.Ignore}, frames: []Pattern{r.Frame, d.Frame}, echoed: echoed}
		if why := p.lacks(text); why != "" {
			return unreadable("%s", why)
		}
	}
	v := verify.Value{Type: r.Type}
	switch {
	case r.Type == verify.Set:
		slices.Sort(all)
		v.Set = slices.Compact(all)
	case r.Type == verify.Flag:
		v.Flag = len(all) > 0
	case len(all) == 0:
		return unreadable("nothing in the answer fits; it is %s", Quoted(text))
	case r.Type == Clock:
		at, err := time.Parse(time.RFC3339, all[0])
		if err != nil {
			return unreadable("%q is not a time that is understood", all[0])
		}
		v = verify.Value{Type: verify.Number, Number: time.Until(at).Round(time.Second).Seconds()}
	case r.Type == verify.Number:
		n, err := strconv.ParseFloat(all[0], 64)
		if err != nil {
			return unreadable("%q is not a number that is understood", all[0])
		}
		v.Number = n
	default:
		v.Text = all[0]
	}
	return v
}
