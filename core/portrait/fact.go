package portrait

import (
	"encoding/json"
	"fmt"
)

// A Fact is what is known about a question that is answered by yes or no. Its zero value is that nobody knows, which is never the same as
// no: a device that does not say whether something is unsaved may well have something unsaved.
type Fact string

// What may be known.
const (
	Unknown Fact = ""
	Yes     Fact = "yes"
	No      Fact = "no"
)

// Known is the Fact of something that is known.
func Known(yes bool) Fact {
	if yes {
		return Yes
	}
	return No
}

// Bool is nil when nobody knows.
func (f Fact) Bool() *bool {
	if f == Unknown {
		return nil
	}
	yes := f == Yes
	return &yes
}

// Or is one text for each of what may be known.
func (f Fact) Or(yes, no, unknown string) string {
	switch f {
	case Yes:
		return yes
	case No:
		return no
	}
	return unknown
}

// String is yes, no or "not known".
func (f Fact) String() string { return f.Or("yes", "no", "not known") }

// UnmarshalJSON also takes true and false, which older records hold.
func (f *Fact) UnmarshalJSON(data []byte) error {
	switch s := string(data); s {
	case "true", `"yes"`:
		*f = Yes
	case "false", `"no"`:
		*f = No
	case "null", `""`:
		*f = Unknown
	default:
		return fmt.Errorf("%s is neither yes nor no", s)
	}
	return nil
}

var _ json.Unmarshaler = (*Fact)(nil)
