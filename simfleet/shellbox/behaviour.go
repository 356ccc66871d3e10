package shellbox

import (
	"strings"
	"time"
)

// A Behaviour is how the boxes of a maker behave.
type Behaviour struct {
	Dialect  string // how to speak with it
	Prompt   string // %s is the name
	Refusal  string // how a refusal begins
	Bye      string // ends a conversation
	Main     string // name of the configuration among its parts
	PassesOn bool   // connections of who is signed in
	Web      bool
	Parts    func(name, serial string) map[string]string // at first, but for the configuration
	Serves   func(config string) []string                // what it does for its users
	Commands []Command
	Firmware Firmware
}

// Firmware is how the firmware of a maker's boxes behaves. Times are the box's own.
type Firmware struct {
	Areas      int  // places for installations; 1: it is overwritten
	Reset      bool // an installation brings the factory state
	Unpack     bool // an area can be started only once it is unpacked
	Drains     bool
	Room       int64   // bytes for files
	Rate       float64 // bytes a second that come in
	Install    time.Duration
	Link       time.Duration            // after a start: until it answers
	Login      time.Duration            // ... until it lets people in
	Ready      time.Duration            // ... until its services are up
	Cards      map[string]time.Duration // parts that come up late
	Parts      []string                 // fans and the like
	Components map[string]string        // versions at first
	Cycled     []string                 // components that take effect when their power goes off and on
	Cycle      time.Duration
	Variables  map[string]string
	Rights     []string // licences at first
	Generation string   // of the hardware
	Crew       *Crew    // its units; nil: it has none of its own
	Followers  *Followers
	Follows    bool   // it stands alone until it is told whom to follow
	Medium     string // prefix of the names of files on a medium
	Convert    func(config, wrote, to string) string
	Check      func(name, text, version string) error // of a file that is put back
	Factory    func(version string) map[string]string // its parts in the factory state
}

// Blocks returns the names that follow a keyword at the begin of a line, up to what ends them.
func Blocks(config, prefix, end string) (names []string) {
	for _, l := range strings.Split(config, "\n") {
		if rest, ok := strings.CutPrefix(strings.TrimSpace(l), prefix); ok {
			if name, _, ok := strings.Cut(rest, end); ok {
				names = append(names, name)
			}
		}
	}
	return names
}

// Members returns the names of the members of an object at the top of a JSON configuration that is written line by line.
func Members(config, object string) (names []string) {
	_, after, _ := strings.Cut(config, `"`+object+`": {`)
	depth := 0
	for _, l := range strings.Split(after, "\n") {
		if t := strings.TrimSpace(l); depth == 0 && strings.HasPrefix(t, `"`) && strings.HasSuffix(t, "{") {
			name, _, _ := strings.Cut(t[1:], `"`)
			names = append(names, name)
		}
		depth += strings.Count(l, "{") - strings.Count(l, "}")
		if depth < 0 {
			break
		}
	}
	return names
}
