// Package convert turns the configuration of one model and release into that of another and accounts for every line.
//
// A Conversion is a file of rules from one schema to the next. Plan finds the conversions that lead from one model and
// release to another; Convert carries them out one after the other on a tree whose statements remember where they come
// from. What no rule claims, and what the target's schema does not take, needs a person; nothing is dropped without a
// reason. The result is the target and a Ledger: each statement of the source with what became of it, each of the target
// with where it comes from. Check, which shares nothing with the carrying out but the trees, recomputes the ledger from
// the two texts.
//
// docs/formats/conversion.md describes the rules, docs/formats/ledger.md the ledger.
package convert

import (
	"verimorph/core/version"
	"verimorph/core/yamldoc"
)

// Format is the first line of a conversion file.
const Format = "verimorph-conversion/1"

// Kinds of rule.
const (
	Keep    = "keep"    // carries a statement over, with all inside it that has no rule of its own
	Rename  = "rename"  // the same under another name or key; references follow
	Move    = "move"    // to another place
	Map     = "map"     // other values
	Split   = "split"   // one statement becomes several
	Merge   = "merge"   // several become one
	Compute = "compute" // a value is computed
	Add     = "add"     // a statement that the source does not have
	Adopt   = "adopt"   // the target's default is right; without this rule the old default is written out
	Decide  = "decide"  // a person chooses
	Drop    = "drop"    // with a reason
	Person  = "person"  // needs a person, with a reason
)

// A Conversion is a set of rules from one schema to another.
type Conversion struct {
	ID       string
	Title    string
	From, To Side
	Rules    []*Rule
	File     string
}

// A Side says which configurations a conversion reads or writes.
type Side struct {
	Schema   string        // its id
	Releases version.Range // of the schema's family; zero: all the schema is for
	Models   []string      // none: all
}

// A Rule says what becomes of the statements it speaks of. The first rule of a file that matches a statement itself wins;
// a statement that none matches follows the rule of the block around it.
type Rule struct {
	ID      string
	Kind    string
	Of      *pattern   // which statements; of Add: for each of which, may be nil
	More    []*pattern // Merge: the other statements
	To      *template  // where to; nil: the same place
	Into    []*template
	Values  map[string]string // Map
	Else    string            // Map: "keep", "person" or a value
	Missing map[string]string // Merge: what stands for a statement that is absent
	Choices []Choice          // Decide
	Ask     string            // Decide: the question
	Text    string            // why
	When    When
	At      yamldoc.Position
}

// A Choice is an answer to the question of a Decide rule.
type Choice struct {
	Answer string
	Text   string
	To     *template // where it goes then; nil with Drop == "": it is kept
	Drop   string    // why it is dropped then
}

// When restricts a rule.
type When struct {
	FromModels, ToModels     []string
	FromReleases, ToReleases version.Range
	Has, Lacks               []*template // paths of statements that must, or must not, be in the source; any of Has is enough
}
