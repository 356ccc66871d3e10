package config

import "strings"

const iniComment = " ;#" // a blank before a ; or # begins a comment behind a value

// ini reads sections in [ ] with lines key = value. Lines before the first section belong to no section.
func (p *parser) ini() {
	lead := p.begin()
	held := p.mayHold()
	section := p.root
	var words []Word
	p.lines(func(number, start, end, next int) {
		body := skipBlanks(p.text, start, end)
		if body == end || p.text[body] == '#' || p.text[body] == ';' {
			p.comment(body, end)
			return
		}
		if p.commentedOut(body) {
			return
		}
		n := p.node()
		n.Line, n.Column = number, body-start+1
		n.lead, n.own, n.open, n.close, n.end = int32(lead), int32(body), int32(next), int32(next), int32(next)
		if p.text[body] == '[' {
			stop := strings.LastIndexByte(p.text[body:end], ']')
			if stop < 0 {
				p.fail(end, "a section begins on this line and does not end; expected ]")
				return
			}
			stop += body
			if rest := skipBlanks(p.text, stop+1, end); rest < end && p.text[rest] != ';' && p.text[rest] != '#' {
				p.fail(rest, "expected the end of the line or a comment after ]")
				return
			}
			var bad int
			var message string
			if words, bad, message = p.splitWords(words[:0], start, body+1, stop); message != "" {
				p.fail(bad, "%s", message)
				return
			}
			if len(words) == 0 {
				p.fail(body+1, "expected the name of a section")
				return
			}
			n.Name, n.Words, n.Form, n.Parent = words[0].Text, p.keepWords(words[1:]...), Block, p.root
			p.root.Children = append(p.root.Children, n)
			section = n
		} else {
			eq := strings.IndexByte(p.text[body:end], '=')
			if eq < 0 {
				p.fail(end, "expected = and a value")
				return
			}
			eq += body
			name := strings.TrimRight(p.text[body:eq], " \t")
			if bad, message := p.unreadable(body, eq); bad >= 0 {
				p.fail(bad, "%s", message)
				return
			}
			if name == "" || strings.ContainsAny(name, "\r") {
				p.fail(body, "expected a name before =")
				return
			}
			var value Word
			var bad int
			var message string
			if value, next, bad, message = p.valueOrText(held, eq+1, start, end, next, iniComment); message != "" {
				p.fail(bad, "%s", message)
				return
			}
			n.open, n.close, n.end = int32(next), int32(next), int32(next)
			n.Name, n.Words, n.Parent = name, p.keepWords(value), section
			section.Children = append(section.Children, n)
			if section != p.root {
				section.close, section.end = int32(next), int32(next)
			}
		}
		lead = next
	})
	p.root.close = int32(lead)
}
