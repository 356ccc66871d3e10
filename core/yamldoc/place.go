package yamldoc

import (
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// Value is the value of a field of a mapping, or nil.
func Value(n *Node, field string) *Node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == field {
			return n.Content[i+1]
		}
	}
	return nil
}

// Item is the value among those of a list that says something; the list itself where none does, or where it is no list.
func Item(n *Node, text string) *Node {
	if n != nil && n.Kind == yaml.SequenceNode {
		for _, k := range n.Content {
			if k.Value == text {
				return k
			}
		}
	}
	return n
}

// Places finds the nodes of a file by their positions, once the first is asked for.
type Places struct {
	root *Node
	at   map[[2]int]*Node
}

// NewPlaces keeps a file's root.
func NewPlaces(root *Node) *Places { return &Places{root: root} }

// In is the position of a field of the entry that begins at a position, or of a value in the list that the field is; the entry's own position
// where it has no such field.
func (p *Places) In(at Position, field, value string) Position {
	if p == nil || p.root == nil {
		return at
	}
	if p.at == nil {
		p.at = map[[2]int]*Node{}
		var walk func(*Node)
		walk = func(n *Node) {
			if n.Kind == yaml.MappingNode {
				p.at[[2]int{n.Line, n.Column}] = n
			}
			for _, k := range n.Content {
				walk(k)
			}
		}
		walk(p.root)
	}
	n := Item(Value(p.at[[2]int{at.Line, at.Column}], field), value)
	if n == nil {
		return at
	}
	return Position{at.File, n.Line, n.Column}
}

// Regexp compiles a regular expression (RE2). Its error says which character or group is wrong.
func Regexp(text string) (*regexp.Regexp, error) {
	re, err := regexp.Compile(text)
	var wrong *syntax.Error
	if err == nil || !errors.As(err, &wrong) {
		return re, err
	}
	i := strings.Index(text, wrong.Expr)
	what := fmt.Sprintf("%q", wrong.Expr)
	switch {
	case wrong.Code == syntax.ErrMissingParen && wrong.Expr == text:
		open := unclosed(text)
		return nil, fmt.Errorf("the group that begins at character %d (%q) has no closing )", 1+utf8.RuneCountInString(text[:open]), excerpt(text[open:]))
	case wrong.Code == syntax.ErrUnexpectedParen:
		i = strings.LastIndexByte(text, ')')
		what = `")" without its (`
	case i < 0:
		return nil, fmt.Errorf("%s: %q", wrong.Code, wrong.Expr)
	}
	return nil, fmt.Errorf("%s at character %d: %s", wrong.Code, 1+utf8.RuneCountInString(text[:i]), what)
}

// unclosed is the offset of the last ( that nothing closes.
func unclosed(text string) int {
	var open []int
	class := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			i++
		case class:
			class = c != ']'
		case c == '[':
			class = true
		case c == '(':
			open = append(open, i)
		case c == ')' && len(open) > 0:
			open = open[:len(open)-1]
		}
	}
	if len(open) == 0 {
		return 0
	}
	return open[len(open)-1]
}

func excerpt(text string) string {
	if r := []rune(text); len(r) > 20 {
		return string(r[:20]) + "..."
	}
	return text
}
