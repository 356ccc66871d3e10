package config

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"verimorph/core/version"
)

// SchemaFormat is the first line of a schema file. docs/formats/schema.md describes it.
const SchemaFormat = "verimorph-schema/1"

// A Schema says what the statements of a configuration mean: which entry of a list is which, where order matters, what
// values may be, what is secret. The zero Schema knows nothing; trees can be compared with it all the same.
type Schema struct {
	ID         string
	Family     string
	Title      string
	Releases   version.Range // of the family, to whose releases it applies
	Models     []string      // that it applies to; none: all of the family
	Syntax     Syntax
	Types      map[string]*Type
	Top        *Statement        // the root; nil when nothing is known about statements
	Ports      map[string][]Port // of a model, in the order of its front
	Services   *Services         // how services are found in it; nil when it has none
	TextBlocks []TextBlock       // forms of raw texts, besides those that every syntax has
	Release    string            // path of the statement that names the release a file is for; "" when the family writes none

	// OwnKey finds secrets that are written under a key which the device keeps for itself, by their text: another device reads them only when it has the same
	// key. nil: the family has none.
	OwnKey *regexp.Regexp

	// For families of which no more is known: words after which every word is secret, blocks in which order matters.
	Secrets []string
	Ordered []string

	File string
}

// A Key says how the entries of a list are told apart.
type Key string

// The keys. Any other text is the name of a statement inside the entry (or "@" and an attribute) whose value is the key.
const (
	KeyOnce     Key = "once"     // there is one
	KeyWord     Key = "word"     // the first word
	KeyWords    Key = "words"    // all words
	KeyPosition Key = "position" // nothing: entries are matched by what they hold
)

// A Statement describes the statements of one name in one block.
type Statement struct {
	Name       string
	Path       string // of names from the top, joined by " / "
	Text       string
	Section    string // what it is listed under; inherited
	Service    string // the service it belongs to; inherited
	Key        Key
	Ordered    bool     // the order of the statements inside matters
	Repeated   string   // which counts when it stands there several times: "first", "last" or "all"; "" when that is not known
	Words      []string // types of its words; "type..." for the last stands for any number, "type?" may be absent
	Default    string   // what the device assumes when the statement is absent
	HasDefault bool
	Secret     bool // all its words, and all inside, are secret
	Required   bool
	Presence   bool   // of a block: that it is there says something, so it is not there unless it is written
	Guarded    string // why it must not change by itself; inherited
	Defines    string // the kind of object whose name is its key, such as port
	Max        int    // how many a device takes; 0: not known
	Releases   version.Range
	Models     []string
	Statements map[string]*Statement
	Each       *Statement // describes statements inside whose names are keys
	Items      *Statement // describes the items of a JSON list
	ByName     bool       // it is the Each of the block around it: its own name is its key

	implied []*Statement
}

// A Type restricts what a word may be.
type Type struct {
	Name     string
	OneOf    []string
	Match    string   // a regular expression for the whole word
	Low, Top float64  // a number from Low to Top, when Ranged
	Ranged   bool     //
	RefersTo []string // kinds of objects, one of which must define this name
	ListOf   string   // a list of words of that type, separated by commas
	Or       []string // words that are right as well
	Unit     string   // what a number counts

	Units      map[string]float64 // that may stand behind a number, with what each is in Unit
	IgnoreCase bool               // large and small letters are the same
	Unordered  bool               // the order of a list does not matter; that of lists of numbers never does

	matches func(string) bool
}

// A Port is a port of a model.
type Port struct {
	Name  string `json:"name"`
	Speed int    `json:"speed"` // Mbit/s
	Role  string `json:"role"`  // what it is meant for; "" for any
}

// Services says where the services of a gateway's configuration are, and by what they can be grouped. Paths are those
// of statements, with a step "*" for any key.
type Services struct {
	Entries []string // where services are listed
	Address string   // the statement inside an entry that holds its address
	Policy  string   // the statement inside an entry that names its policy
	Naming  string   // a regular expression whose first group is what names of one group share
}

// Simple is the schema of a family of which only secret words and ordered blocks are known.
func Simple(syntax Syntax, secrets, ordered []string) *Schema {
	return &Schema{Syntax: syntax, Secrets: secrets, Ordered: ordered}
}

// UsualSecrets are the words after which values are masked when nobody has said what is secret.
var UsualSecrets = []string{"secret", "password", "passphrase", "passwd", "key", "token", "community", "watchword", "code", "shared", "psk", "pin"}

// top is the description of the root, or nil.
func (s *Schema) top() *Statement {
	if s == nil {
		return nil
	}
	return s.Top
}

// of returns the description of a statement inside a block described by st, or nil.
func (st *Statement) of(n *Node) *Statement {
	if st == nil {
		return nil
	}
	if n.Name == "" {
		return st.Items
	}
	if c := st.Statements[n.Name]; c != nil {
		return c
	}
	return st.Each
}

// Describe returns what the schema says about a node, or nil.
func (s *Schema) Describe(n *Node) *Statement {
	if s.top() == nil {
		return nil
	}
	if n.Parent == nil {
		return s.top()
	}
	return s.Describe(n.Parent).of(n)
}

// secret reports whether a statement's words are secret, and from which word on.
func (s *Schema) secret(n *Node, st *Statement) (from int, yes bool) {
	if st != nil && st.Secret {
		return st.keyWords(n), true
	}
	if st == nil && s.Top != nil && slices.Contains(UsualSecrets, strings.TrimPrefix(n.Name, "@")) {
		return 0, true // the schema does not know it, but its name says what it may be
	}
	if len(s.Secrets) == 0 || len(n.Words) == 0 {
		return 0, false
	}
	if slices.Contains(s.Secrets, strings.TrimPrefix(n.Name, "@")) {
		return 0, true
	}
	for i, w := range n.Words[:len(n.Words)-1] {
		if !w.Quoted && slices.Contains(s.Secrets, w.Text) {
			return i + 1, true
		}
	}
	return 0, false
}

// keyWords is how many of a statement's words are its key.
func (st *Statement) keyWords(n *Node) int {
	switch {
	case st == nil:
		return 0
	case st.Key == KeyWord:
		return min(1, len(n.Words))
	case st.Key == KeyWords:
		return len(n.Words)
	}
	return 0
}

// ordered reports whether the order of the statements inside a node matters.
func (s *Schema) ordered(n *Node, st *Statement) bool {
	return st != nil && st.Ordered || s != nil && slices.Contains(s.Ordered, n.Name)
}

// IsSecret reports whether a node, or a block around it, holds secret words.
func (s *Schema) IsSecret(n *Node) bool {
	_, secret := s.describeSecret(n)
	return secret
}

// SecretLike reports whether a statement holds a secret of a form, such as that of [Schema.OwnKey] of the schema that it comes from.
func (s *Schema) SecretLike(n *Node, form *regexp.Regexp) bool {
	return form != nil && slices.ContainsFunc(n.Words, func(w Word) bool { return form.MatchString(w.Text) }) && s.IsSecret(n)
}

// SetSecret puts another secret in the place of one of a form.
func (n *Node) SetSecret(form *regexp.Regexp, text string) {
	words := slices.Clone(n.Words)
	for i := range words {
		if form.MatchString(words[i].Text) {
			words[i].Text = text
		}
	}
	n.SetWords(words)
}

// describeSecret is Describe, and tells whether the node or a block around it holds secret words.
func (s *Schema) describeSecret(n *Node) (st *Statement, secret bool) {
	if n == nil || n.Parent == nil {
		return s.top(), false
	}
	around, secret := s.describeSecret(n.Parent)
	st = around.of(n)
	if !secret {
		_, secret = s.secret(n, st)
	}
	return st, secret
}

// Section is what a node is listed under: the title the schema gives, or the name of the top block it stands in.
func (s *Schema) Section(n *Node) string {
	if st := s.Describe(n); st != nil && st.Section != "" {
		return st.Section
	}
	for n.Parent != nil && n.Parent.Parent != nil {
		n = n.Parent
	}
	return n.Name
}

// A label is how a node is told apart from its siblings: its name and its key.
func (s *Schema) label(n *Node, st *Statement, w *surroundings) (name, key string) {
	if st == nil {
		if n.Name == "" {
			if k := keyChild(n); k != nil {
				return "", k.Value()
			}
			return "", n.Value()
		}
		if len(n.Words) > 0 && len(n.Children) > 0 && s.Syntax != Dotted && s.Syntax != XML { // there, what has a value may have others inside
			return n.Name, joinTexts(n.Words)
		}
		if k := keyChild(n); k != nil && w.repeated(n) {
			return n.Name, k.Value()
		}
		return n.Name, ""
	}
	switch st.Key {
	case KeyOnce, "":
		return n.Name, ""
	case KeyWord:
		if len(n.Words) > 0 {
			return n.Name, n.Words[0].Text
		}
		return n.Name, ""
	case KeyWords:
		return n.Name, joinTexts(n.Words)
	case KeyPosition:
		return n.Name, joinTexts(n.Words)
	}
	if c := n.Child(string(st.Key)); c != nil {
		return n.Name, c.Value()
	}
	return n.Name, ""
}

// keyMeaning is the key of a statement in the one spelling of its type.
func (s *Schema) keyMeaning(n *Node, st *Statement) string {
	switch {
	case st.Key == KeyWord && len(n.Words) > 0:
		if t := s.TypeOf(st, 0); t != nil {
			return s.meaning(t, n.Words[0].Text)
		}
	case st.Key == KeyWords:
		return s.Means(st, n.Words)
	case st.KeyInside():
		if k := n.Child(string(st.Key)); k != nil {
			return s.Means(st.of(k), k.Words)
		}
	}
	_, key := s.label(n, st, nil) // nothing beside it counts where it is described
	return key
}

// keyChild guesses the statement that tells an item apart where no schema says it.
func keyChild(n *Node) *Node {
	for _, name := range [...]string{"name", "@name", "id", "@id"} {
		if c := n.Child(name); c != nil && len(c.Words) == 1 && len(c.Children) == 0 {
			return c
		}
	}
	return nil
}

func joinTexts(words []Word) string {
	if len(words) == 1 {
		return words[0].Text
	}
	return strings.Join(texts(words), " ")
}

// Label is a node's name and key, as paths show them.
func (s *Schema) Label(n *Node) string {
	st, secret := s.describeSecret(n)
	return s.labelIn(n, st, secret, &surroundings{block: n.Parent})
}

// labelIn is Label where the surroundings of the node are known.
func (s *Schema) labelIn(n *Node, st *Statement, secret bool, w *surroundings) string {
	name, key := s.label(n, st, w)
	switch {
	case key != "" && secret && (st == nil || st.keyWords(n) == 0):
		key = Mask
	case key == "" && name == "" && n.Parent != nil:
		return "item " + strconv.Itoa(1+w.place(n))
	case key == "":
		return strings.TrimSpace(name)
	}
	return strings.TrimSpace(name + " " + key)
}

// Path is the readable path of a node: the labels of the blocks around it and its own, joined by " / ".
func (s *Schema) Path(n *Node) string {
	if n == nil || n.Parent == nil {
		return ""
	}
	if n.Parent.Parent == nil {
		return s.Label(n)
	}
	return s.Path(n.Parent) + " / " + s.Label(n)
}

// Applies reports whether a schema is for a model and release. An empty model stands for any.
func (s *Schema) Applies(model string, v version.Version) bool {
	return s.Releases.Contains(v) && (len(s.Models) == 0 || model == "" || slices.Contains(s.Models, model))
}

// Exists reports whether a statement exists on a model and release; an empty model and a zero version stand for any.
func (st *Statement) Exists(model string, v version.Version) bool {
	return (v.IsZero() || st.Releases.Contains(v)) && (len(st.Models) == 0 || model == "" || slices.Contains(st.Models, model))
}
