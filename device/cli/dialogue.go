package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/device"
)

// Dialogues: what is said for one purpose, line by line, with the questions that the device may ask before its prompt comes again.

// A Step is one line that is sent, and its answer.
type Step struct {
	Send    string         `yaml:"send"`    // with placeholders filled in
	Key     bool           `yaml:"key"`     // it is sent as it is, without a return
	Wait    float64        `yaml:"wait"`    // seconds of silence allowed; those of the query when left out
	Expect  []Expect       `yaml:"expect"`  // questions that may come, in any order
	Success device.Pattern `yaml:"success"` // what the answer says when it went well; an answer without it is not understood
	Until   device.Pattern `yaml:"until"`   // the answer ends with this, whether a prompt follows or not
	Ends    bool           `yaml:"ends"`    // the connection ends with it
	For     *For           `yaml:"for"`     // it is sent once for each thing that the device names

	whole bool // every line of the answer counts, and nothing else shows where it ends
}

// A For is a list that a device gives, such as its boot statements; a step is said once for each thing in it, as {each}.
type For struct {
	Send   string         `yaml:"send"`   // what the list is the answer to
	Match  device.Pattern `yaml:"match"`  // one thing for each match, in the group each
	Except []string       `yaml:"except"` // things that are left out, with placeholders filled in
}

// An Expect is a question that a device may ask, on the last line of what it said.
type Expect struct {
	Ask     device.Pattern   `yaml:"ask"`
	Answer  string           `yaml:"answer"`  // with placeholders filled in
	Key     bool             `yaml:"key"`     // it is sent as it is, without a return
	Secret  string           `yaml:"secret"`  // what is typed instead of an answer: privileged, or new in set-password
	Times   int              `yaml:"times"`   // how often it may come; once when left out
	Refusal device.ErrorKind `yaml:"refusal"` // the question is the device's "no": it is answered, and the verb fails with this kind

	literal bool // braces in the answer are no placeholders
}

// SecretPrivileged is the password of the privileged level.
const SecretPrivileged = "privileged"

// SecretNew is the password that set-password sets.
const SecretNew = "new"

// steps are the lines of a query: its own, or the one that its short form describes.
func (q *Query) steps() []Step {
	if len(q.Steps) == 0 {
		st := Step{Send: q.Send, Wait: q.Wait, Expect: q.Expect, Success: q.Success, Until: q.Until, Ends: q.Ends, whole: q.whole}
		if q.Ask.Regexp != nil {
			st.Expect = append([]Expect{{Ask: q.Ask, Answer: q.Answer, literal: true}}, q.Expect...)
		}
		return []Step{st}
	}
	out := make([]Step, len(q.Steps))
	for i, st := range q.Steps {
		if st.Wait == 0 {
			st.Wait = q.Wait
		}
		out[i] = st
	}
	return out
}

// says is what a query sends first, for messages.
func (q *Query) says() string {
	if len(q.Steps) == 0 {
		return q.Send
	}
	return q.Steps[0].Send
}

// key is all that a query says and where, so that two that say the same are asked once.
func (q *Query) key() string {
	where := q.By + "\x00" + q.Mode + "\x00"
	if q.Raised {
		where += "raised"
	}
	if len(q.Steps) == 0 {
		return where + "\x00" + q.Send
	}
	for i := range q.Steps {
		where += "\x00" + q.Steps[i].Send
	}
	return where
}

// given reports whether there is something to say.
func (q Query) given() bool { return q.Send != "" || len(q.Steps) > 0 }

// filled is a step with what it and its answers say filled in. What a list of the device will fill in is left as it is.
func (st Step) filled(args map[string]string) (Step, error) {
	var err error
	if st.For != nil {
		f := *st.For
		f.Except = slices.DeleteFunc(slices.Clone(f.Except), func(e string) bool { return lacking(e, args) })
		if f.Send, err = fill(f.Send, args); err != nil {
			return st, err
		}
		for i, e := range f.Except {
			if f.Except[i], err = fill(e, args); err != nil {
				return st, err
			}
		}
		st.For = &f
		args = with(args, "each", eachLater)
	}
	if st.Send, err = fill(st.Send, args); err != nil {
		return st, err
	}
	expect := make([]Expect, len(st.Expect))
	for i, e := range st.Expect {
		if !e.literal {
			if e.Answer, err = fill(e.Answer, args); err != nil {
				return st, err
			}
		}
		expect[i] = e
	}
	st.Expect = expect
	return st, nil
}

// with is a copy of what is filled in, with one more.
func with(args map[string]string, name, value string) map[string]string {
	out := map[string]string{name: value}
	for k, v := range args {
		if k != name {
			out[k] = v
		}
	}
	return out
}

// eachLater stands for a thing of a list that is not known yet: it is filled in as the placeholder that it comes from.
const eachLater = "\x00each"

// without reports whether a step has to do with something that there is none of: then it is left out.
func (st Step) without(args map[string]string) bool {
	text := st.Send
	for _, e := range st.Expect {
		text += e.Answer
	}
	return lacking(text, args)
}

// lacking reports whether a text names something that there is none of.
func lacking(text string, args map[string]string) bool {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if v, given := args[m[1]]; given && v == "" && slices.Contains(mayLack, m[1]) {
			return true
		}
	}
	return false
}

// mayLack are the placeholders for things that there may be none of.
var mayLack = []string{"second", "second_path"}

// each lists what a device names for a step, without what the step leaves out.
func (s *session) each(ctx context.Context, f *For) (out []string, err error) {
	text, err := s.run(ctx, Step{Send: f.Send}, nil)
	if err != nil {
		return nil, err
	}
	for _, m := range f.Match.FindAllStringSubmatch(text, -1) {
		if x := device.Named(f.Match, m)["each"]; !slices.Contains(f.Except, x) && !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out, nil
}

// runEach says a step once for each thing of its list.
func (s *session) runEach(ctx context.Context, st Step, progress func(string)) (string, error) {
	things, err := s.each(ctx, st.For)
	if err != nil {
		return "", err
	}
	var all strings.Builder
	for _, x := range things {
		one := st
		one.For, one.Send, one.Expect = nil, strings.ReplaceAll(st.Send, "{each}", x), slices.Clone(st.Expect)
		if !safePath.MatchString(x) {
			return all.String(), device.Fail(device.NotUnderstood, s.address, st.Send, "%q cannot be part of a command", x)
		}
		for i := range one.Expect {
			one.Expect[i].Answer = strings.ReplaceAll(one.Expect[i].Answer, "{each}", x)
		}
		text, err := s.run(ctx, one, progress)
		all.WriteString(text)
		if err != nil {
			return all.String(), err
		}
	}
	return all.String(), nil
}

// say says all lines of a query and returns the answers, joined. It ends at the first line that the device refuses or answers with something else
// than the dialect knows.
func (s *session) say(ctx context.Context, q Query, args map[string]string, progress func(string)) (string, error) {
	if s.name != "" {
		args = with(args, "name", s.name)
	}
	steps := slices.DeleteFunc(q.steps(), func(st Step) bool { return st.without(args) })
	for i, st := range steps { // all of it is known to be sayable before anything is said
		filled, err := st.filled(args)
		if err != nil {
			return "", device.Fail(device.NotUnderstood, s.address, st.Send, "%s", err)
		}
		steps[i] = filled
	}
	var all strings.Builder
	for i, st := range steps {
		run := s.run
		if st.For != nil {
			run = s.runEach
		}
		text, err := run(ctx, st, progress)
		all.WriteString(text)
		if err != nil {
			if e, ok := err.(*device.Error); ok && len(steps) > 1 {
				e.Doing = fmt.Sprintf("%s (line %d of %d)", e.Doing, i+1, len(steps))
			}
			return all.String(), err
		}
		if text != "" && !strings.HasSuffix(text, "\n") && i < len(steps)-1 {
			all.WriteByte('\n')
		}
	}
	if len(q.Steps) > 0 && q.Success.Regexp != nil && !q.Success.MatchString(all.String()) {
		return all.String(), notSuccess(s.address, q.says(), all.String())
	}
	return all.String(), nil
}

func notSuccess(address, doing, text string) error {
	return device.Fail(device.NotUnderstood, address, doing, "the answer says neither success nor a known refusal: %s", Quoted(text))
}

// run sends a line and returns the answer without echo and prompt. A refusal becomes an *Error, and so does an answer that does not
// say what the step calls success. What the device printed before is not part of the answer.
func (s *session) run(ctx context.Context, st Step, progress func(string)) (string, error) {
	s.settle()
	s.hungUp = false
	line, echo := st.Send+"\r", st.Send
	if st.Key {
		line, echo = st.Send, ""
	}
	switch err := s.send(line); {
	case errors.Is(err, errFlood):
		s.broken = true
		return "", device.Fail(device.NotUnderstood, s.address, st.Send, "%s", err)
	case err != nil:
		return "", device.Fail(device.Lost, s.address, st.Send, "the connection ended")
	}
	text, err := s.answer(ctx, st.Send, echo, st, progress)
	if err != nil {
		s.broken = true
		return text, err
	}
	if err := s.d.refusal(s.address, st.Send, text); err != nil {
		return text, err
	}
	if s.no != nil {
		return text, s.no
	}
	if st.Success.Regexp != nil && !st.Success.MatchString(text) {
		return text, notSuccess(s.address, st.Send, text)
	}
	return text, nil
}

// questions is how a session stands with what a step expects to be asked.
type questions struct {
	of     []Expect
	came   []int // how often each came
	begin  int   // of the line with the last one that was answered
	length int   // of that line when it was answered
}

func (s *session) expecting(of []Expect) questions {
	s.no = nil
	return questions{of: of, came: make([]int, len(of)), begin: -1}
}

// question answers what stands on the last line, if that is a question that is expected, and reports whether it did. One that was answered is not answered again before
// the device has gone on.
func (s *session) question(k *questions, doing string) bool {
	line := s.screen.line()
	if len(k.of) == 0 || s.screen.begin == k.begin && len(line) <= k.length {
		return false
	}
	for i, e := range k.of {
		if k.came[i] >= max(e.Times, 1) || s.endsWith(e.Ask) == 0 {
			continue
		}
		k.came[i]++
		k.begin, k.length = s.screen.begin, len(line)
		if e.Refusal != "" && s.no == nil {
			s.no = device.Fail(e.Refusal, s.address, doing, "%s", "the device says: "+strings.TrimSpace(string(line)))
		}
		text := e.Answer
		if e.Secret == SecretPrivileged {
			text = s.privileged
		}
		if !e.Key {
			text += "\r"
		}
		_ = s.send(text)
		return true
	}
	return false
}
