package cli

import (
	"context"
	"errors"
	"strconv"
	"time"

	"verimorph/device"
)

// Jobs: verbs that a device carries out in the background. Its answer gives a number, and another command says how far that is.

// A Job says how to ask for what a verb began.
type Job struct {
	Send     string         `yaml:"send"` // with {job} filled in: the group job of the fields of the verb
	Mode     string         `yaml:"mode"`
	Every    float64        `yaml:"every"` // seconds between two times of asking; 2 when left out
	Wait     float64        `yaml:"wait"`
	Done     device.Pattern `yaml:"done"`
	Failed   device.Pattern `yaml:"failed"`   // group message: the device's words
	Running  device.Pattern `yaml:"running"`  // it goes on; what the progress fits goes on as well
	Progress device.Pattern `yaml:"progress"` // groups percent, or done and total
}

// jobEvery is how often a device is asked for a job when the dialect does not say.
const jobEvery = 2 * time.Second

// background says what a verb says, and waits for the job that the device begins with it. A job that was begun before, over a connection that was lost, is asked
// for first: only when the device does not know it any more the verb is said again.
func (c *Client) background(ctx context.Context, verb string, args map[string]string, progress device.Progress) (string, error) {
	q, jobs := c.d.Verbs[verb], device.JobsOf(ctx)
	if id := jobs.Open(verb); id != "" {
		text, err := c.await(ctx, &q, id, progress)
		var gone *unknownJob
		if !errors.As(err, &gone) {
			if ended := c.jobEnded(ctx, verb, err); ended != nil {
				return text, ended
			}
			return text, err
		}
		if err := jobs.Over(ctx, verb); err != nil {
			return text, err
		}
	}
	begun, err := c.query(ctx, q, args, nil)
	if err != nil {
		return begun, err
	}
	id := q.Fields.Groups(begun)["job"]
	if id == "" {
		return begun, device.Fail(device.NotUnderstood, c.t.Address, q.says(), "the answer names no job: %s", Quoted(begun))
	}
	if err := jobs.Begun(ctx, verb, id); err != nil {
		return begun, err
	}
	text, err := c.await(ctx, &q, id, progress)
	var gone *unknownJob
	if errors.As(err, &gone) {
		err = gone.err
	}
	if ended := c.jobEnded(ctx, verb, err); ended != nil {
		return text, ended
	}
	return text, err
}

// jobEnded notes that a job is over, unless it may still be going on: nobody knows that once the connection is lost.
func (c *Client) jobEnded(ctx context.Context, verb string, err error) error {
	if err == nil || device.KindOf(err) == device.Refused {
		return device.JobsOf(ctx).Over(ctx, verb)
	}
	return nil
}

// unknownJob is the error of a device whose first answer about a job says nothing that is known of it.
type unknownJob struct{ err error }

func (e *unknownJob) Error() string { return e.err.Error() }

// await asks for a job until it is over. An answer that says neither that it is done, nor that it failed, nor that it goes on, is not understood.
func (c *Client) await(ctx context.Context, q *Query, id string, progress device.Progress) (string, error) {
	j := q.Job
	poll := Query{By: q.By, Send: j.Send, Mode: j.Mode, Wait: j.Wait}
	every := jobEvery
	if j.Every > 0 {
		every = time.Duration(j.Every * float64(time.Second))
	}
	for first := true; ; first = false {
		text, err := c.query(ctx, poll, map[string]string{"job": id}, nil)
		if k := device.KindOf(err); first && (k == device.Refused || k == device.NotUnderstood) {
			return text, &unknownJob{err}
		}
		if err != nil {
			return text, err
		}
		failed := j.Failed.Groups(text)
		part, goesOn := fraction(j.Progress, text)
		switch {
		case failed != nil:
			words := failed["message"]
			if words == "" {
				words = Quoted(text)
			}
			return text, device.Fail(device.Refused, c.t.Address, q.says(), "%s", "the device says: "+words)
		case j.Done.MatchString(text):
			return text, nil
		case !goesOn && (j.Running.Regexp == nil || !j.Running.MatchString(text)):
			err := device.Fail(device.NotUnderstood, c.t.Address, q.says(), "what became of job %s is not understood: %s", id, Quoted(text))
			if first {
				return text, &unknownJob{err}
			}
			return text, err
		}
		if goesOn && progress != nil {
			progress(part)
		}
		select {
		case <-ctx.Done():
			return text, device.Fail(device.Silent, c.t.Address, q.says(), "%s", "given up while job "+id+" runs on the device: "+context.Cause(ctx).Error())
		case <-time.After(every):
		}
	}
}

// fraction is how far something is by the last match of a pattern, from 0 to 1.
func fraction(p device.Pattern, text string) (part float64, ok bool) {
	if p.Regexp == nil {
		return 0, false
	}
	all := p.FindAllStringSubmatch(text, -1)
	if len(all) == 0 {
		return 0, false
	}
	g := device.Named(p, all[len(all)-1])
	if n, err := strconv.ParseFloat(g["percent"], 64); err == nil {
		return n / 100, true
	}
	if total, err := strconv.ParseFloat(g["total"], 64); err == nil && total > 0 {
		done, _ := strconv.ParseFloat(g["done"], 64)
		return done / total, true
	}
	return 0, false
}
