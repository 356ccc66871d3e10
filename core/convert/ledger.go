package convert

import (
	"slices"

	"verimorph/core/config"
)

// LedgerFormat is named in every ledger. docs/formats/ledger.md describes it.
const LedgerFormat = "verimorph-ledger/2"

// ledgerFormat1 did not account for what a source leaves out. Such ledgers are still read.
const ledgerFormat1 = "verimorph-ledger/1"

// What became of a statement of the source. Each is in exactly one state.
const (
	Kept        = "kept"         // the same at the same place
	Moved       = "moved"        // the same at another place
	Changed     = "changed"      // it says something else, or became several
	Merged      = "merged"       // one statement of the target comes from it and others
	Dropped     = "dropped"      // for a reason
	NeedsPerson = "needs-person" // nothing is decided; it may stand in the target for the time being
	Unsaid      = "unsaid"       // of what the source only assumes: the target says nothing either, and assumes what comes of it
)

// What a person is asked about a statement.
const (
	AskAnswer = "answer" // to answer the question of a rule
	AskPorts  = "ports"  // to say where its port goes, or to confirm what is proposed
	AskAccept = "accept" // to accept what became of a guarded setting
	AskSettle = "settle" // to say that it is settled, and why
	AskSecret = "secret" // to type a secret in again, or to say that both devices have the same key
)

// States lists the states, those that need attention first.
var States = []string{NeedsPerson, Dropped, Changed, Merged, Moved, Kept}

// Where a statement of the target comes from.
const (
	FromSource  = "source"
	FromDefault = "default" // what the source's release assumed
	FromRule    = "rule"
	FromHand    = "hand"
)

// A Ledger accounts for every statement of the source and of the target.
type Ledger struct {
	Format    string            `json:"format"`
	From      Party             `json:"from"`
	To        Party             `json:"to"`
	Stages    []StageName       `json:"stages"`
	Rules     map[string]string `json:"rules"`   // what the rules named below say
	Source    []SourceItem      `json:"source"`  // in the order of the file
	Assumed   []AssumedItem     `json:"assumed"` // what the source leaves out and the device assumes, but for what the target plainly assumes, too
	Target    []TargetItem      `json:"target"`  // in the order of the file
	Comments  []CommentItem     `json:"comments"`
	Questions []Question        `json:"questions"`
	Ports     []PortChoice      `json:"ports"`
	Findings  []config.Finding  `json:"findings"` // what the target's schema still misses, and what was taken out again
	Edits     []Edit            `json:"edits"`
	Counts    map[string]int    `json:"counts"` // of the source, by state
	Guessed   bool              `json:"guessed"`
	Fragment  bool              `json:"fragment,omitempty"` // it is a part of a configuration
}

// A Party is one side of a conversion.
type Party struct {
	Model   string `json:"model"`
	Version string `json:"version"`
	Schema  string `json:"schema"`
	File    string `json:"file"`
	SHA256  string `json:"sha256"`
	Lines   int    `json:"lines"`
}

// A StageName names one stage of a conversion.
type StageName struct {
	Conversion string `json:"conversion"`
	From       string `json:"from"`
	To         string `json:"to"`
}

// A SourceItem is one statement of the source. Texts are masked.
type SourceItem struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Path    string `json:"path"`
	Text    string `json:"text"`
	Section string `json:"section"`
	State   string `json:"state"`
	Rule    string `json:"rule,omitempty"`
	Reason  string `json:"reason,omitempty"`
	Guarded string `json:"guarded,omitempty"`
	Ask     string `json:"ask,omitempty"` // of what needs a person
	Targets []int  `json:"targets"`       // places in Ledger.Target
}

// An AssumedItem is a statement that the source leaves out, with its default. Line and column are those of the block in which it is
// missing.
type AssumedItem struct {
	SourceItem
	Inside []string     `json:"inside"`         // the names from that block to it
	Same   *SameDefault `json:"same,omitempty"` // of what is unsaid
}

// A SameDefault is what the target assumes where it says nothing.
type SameDefault struct {
	At   string `json:"at"`   // path of the statement that is not there
	Text string `json:"text"` // what it would say
	rule string
}

// A CommentItem is a line of a comment of the source. Texts that speak of secrets are masked.
type CommentItem struct {
	Line   int    `json:"line"`
	Text   string `json:"text"`
	Path   string `json:"path"`             // of the statement beside which it stands; "" at the end of the file
	State  string `json:"state"`            // Kept or Dropped
	Target int    `json:"target,omitempty"` // of what is kept: the line of the statement beside which it stands now; 0 at the end of the file
	Doubt  bool   `json:"doubt,omitempty"`  // it may be untrue: what it speaks of was changed
	Reason string `json:"reason,omitempty"`
}

// A TargetItem is one statement of the target. Texts are masked.
type TargetItem struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Path    string `json:"path"`
	Text    string `json:"text"`
	Section string `json:"section"`
	Origin  string `json:"origin"`
	Rule    string `json:"rule,omitempty"`
	Reason  string `json:"reason,omitempty"`
	Sources []int  `json:"sources"`           // places in Ledger.Source
	Assumed []int  `json:"assumed,omitempty"` // places in Ledger.Assumed
}

// A Question is a decision that a rule asks for.
type Question struct {
	Rule    string   `json:"rule"`
	Path    string   `json:"path"` // of the statement it is about
	Line    int      `json:"line"`
	Text    string   `json:"text"`
	Choices []Answer `json:"choices"`
	Answer  string   `json:"answer,omitempty"`
}

// An Answer is one possible answer.
type Answer struct {
	Answer string `json:"answer"`
	Text   string `json:"text"`
}

// Complete reports whether nothing needs a person.
func (l *Ledger) Complete() bool {
	if l.Counts[NeedsPerson] > 0 {
		return false
	}
	if slices.ContainsFunc(l.Assumed, func(row AssumedItem) bool { return row.State == NeedsPerson }) {
		return false
	}
	for _, f := range l.Findings {
		if !f.Doubt {
			return false
		}
	}
	return true
}
