package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"verimorph/core/verify"
	"verimorph/device"
)

// Readings takes readings. One that the device refuses, or whose answer is not understood, is not readable and holds what was seen; a
// connection that fails is an error.
func (c *Client) Readings(ctx context.Context, rs []device.Reading) (verify.Readings, error) {
	out := verify.Readings{}
	for i := range rs {
		r := &rs[i]
		text, err := c.query(ctx, Query{By: r.By, Send: r.Send}, nil, nil)
		var e *device.Error
		switch k := device.KindOf(err); {
		case k == device.Refused && r.NotApplicable.Regexp != nil && r.NotApplicable.MatchString(text):
			out[r.Name] = verify.Value{Type: verify.NotApplicable, Text: Quoted(text)}
		case (k == device.Refused || k == device.NotReady || k == device.NotUnderstood) && errors.As(err, &e):
			out[r.Name] = unreadable("%s", e.Message)
		case errors.As(err, &e) && c.beside(r.By, k):
			out[r.Name] = unreadable("by %s: %s", r.By, e.Message)
		case err != nil:
			return nil, err
		default:
			out[r.Name] = c.d.read(r, text, c.echoed(r.By))
		}
	}
	return out, nil
}

// beside reports whether a failure of a protocol says nothing about the connection: the device does not have what was asked for, or it is SNMP, which
// is no connection.
func (c *Client) beside(by string, k device.ErrorKind) bool {
	return by != "" && by != device.ByCLI && k == device.Lacking ||
		by == device.BySNMP && (k == device.Silent || k == device.Unreachable || k == device.SignInRefused)
}

// found are the values in an answer, as the device writes them. why says what of the answer is not understood, where all of it has to be: a line that
// nobody knows may be one more of a set.
func (d *Dialect) found(r *device.Reading, text string, echoed bool) (all []string, why string) {
	p := proof{rows: []device.Pattern{r.Match}, ignore: []device.Pattern{r.Ignore, d.Ignore}, frames: []device.Pattern{r.Frame, d.Frame}, echoed: echoed}
	if r.Table != nil {
		rows, why := laidOut(r.Table, text, &p)
		for _, row := range rows {
			all = append(all, row["value"])
		}
		return all, why
	}
	var number []string
	if r.Type == verify.Number {
		number = []string{"value"}
	}
	for _, loc := range r.Match.FindAllStringSubmatchIndex(text, -1) {
		all = append(all, r.Match.Whole(text, loc, number...)["value"])
	}
	if r.Type == verify.Set || r.Type == verify.Flag {
		why = p.lacks(text)
	}
	return all, why
}

func unreadable(format string, args ...any) verify.Value {
	return verify.Value{Type: verify.NotReadable, Text: fmt.Sprintf(format, args...)}
}

// read finds the value in an answer. echoed says that the answer is known to be that of its command.
func (d *Dialect) read(r *device.Reading, text string, echoed bool) verify.Value {
	if r.NotApplicable.Regexp != nil && r.NotApplicable.MatchString(text) {
		return verify.Value{Type: verify.NotApplicable, Text: Quoted(text)}
	}
	all, why := d.found(r, text, echoed)
	if why != "" {
		return unreadable("%s", why)
	}
	if r.Value != nil {
		for i, text := range all {
			plain, err := r.Value.Read(text)
			if err == nil && plain == "" {
				err = fmt.Errorf("what %q means is not known", text)
			}
			if err != nil {
				return unreadable("%s", err)
			}
			all[i] = plain
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
	case r.Type == device.Clock:
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
