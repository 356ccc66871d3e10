package convert

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"verimorph/core/config"
	"verimorph/core/near"
)

// Unmatched tells which of the answers and ports that a person gave match nothing in a conversion: a slip of the finger must not look like
// a decision. Every message names what is like it. An answer that is empty takes one back; it is not looked at.
func (r *Result) Unmatched(answers map[string]string, ports []PortChoice) (wrong []string) {
	if len(answers) == 0 {
		return r.unmapped(ports)
	}
	say := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	l := r.Ledger
	var paths, guarded, blocks []string
	for _, row := range l.rows() {
		paths = append(paths, row.Path)
		for at := row.Path; ; {
			i := strings.LastIndex(at, " / ")
			if i < 0 {
				break
			}
			at = at[:i]
			blocks = append(blocks, at)
		}
		if row.Guarded != "" {
			guarded = append(guarded, row.Path)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(answers)) {
		answer := answers[key]
		rule, path, at := strings.Cut(key, " @ ")
		switch {
		case answer == "":
		case key == OwnKey && answer != SameKey:
			say("the answer to %s is %q: both devices have the same key", OwnKey, SameKey)
		case key == OwnKey:
		case at && rule == "secret" && !slices.Contains(paths, path):
			say("there is no %q whose secret could be typed in again%s", path, near.Hint(path, paths))
		case at && rule == "secret":
		case at && rule == "guarded" && !slices.Contains(guarded, path):
			if slices.Contains(paths, path) {
				say("%q is not guarded, so nothing is to be accepted%s", path, near.Hint(path, guarded))
			} else {
				say("nothing guarded is called %q%s", path, cmp.Or(near.Hint(path, guarded), near.Hint(path, paths)))
			}
		case at && rule == "settled" && !slices.Contains(paths, path) && !slices.Contains(blocks, path):
			say("there is no %q to settle%s", path, near.Hint(path, append(paths, blocks...)))
		case at && (rule == "guarded" || rule == "settled"):
		default:
			wrong = append(wrong, l.unasked(key, answer)...)
		}
	}
	return append(wrong, r.unmapped(ports)...)
}

// unasked is what is wrong with an answer to a rule.
func (l *Ledger) unasked(key, answer string) []string {
	var asked []string
	for _, q := range l.Questions {
		asked = append(asked, q.Rule, q.Rule+" @ "+q.Path)
		if key != q.Rule && key != q.Rule+" @ "+q.Path {
			continue
		}
		var choices []string
		for _, c := range q.Choices {
			if c.Answer == answer {
				return nil
			}
			choices = append(choices, c.Answer)
		}
		return []string{fmt.Sprintf("%q is no answer to %s; it may be answered: %s", answer, q.Rule, strings.Join(choices, ", "))}
	}
	if rule, _, _ := strings.Cut(key, " @ "); rule != key && slices.Contains(asked, rule) {
		return []string{fmt.Sprintf("%s asks nothing about %q%s", rule, strings.TrimPrefix(key, rule+" @ "), near.Hint(key, asked))}
	}
	return []string{fmt.Sprintf("no rule asks for %q%s", key, near.Hint(key, asked))}
}

// rows are the statements of the source, written and left out.
func (l *Ledger) rows() []SourceItem {
	out := slices.Clone(l.Source)
	for _, row := range l.Assumed {
		out = append(out, row.SourceItem)
	}
	return out
}

// unmapped tells which of the chosen ports neither the source's model nor its configuration has.
func (r *Result) unmapped(ports []PortChoice) (wrong []string) {
	if len(ports) > 0 && r.Ledger.From.Model == r.Ledger.To.Model {
		return []string{fmt.Sprintf("the model stays %s, so no port goes elsewhere; leave the mapping of ports out", r.Ledger.From.Model)}
	}
	known := append(portNames(r.S.Ports[r.Ledger.From.Model]), r.used...)
	for _, c := range ports {
		if !slices.Contains(known, c.Port) {
			wrong = append(wrong, fmt.Sprintf("%s has no port %s%s", r.Ledger.From.Model, c.Port, near.Hint(c.Port, known)))
		}
	}
	return wrong
}

// portNames are the names of ports.
func portNames(list []config.Port) (out []string) {
	for _, p := range list {
		out = append(out, p.Name)
	}
	return out
}
