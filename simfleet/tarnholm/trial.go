package tarnholm

import (
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"verimorph/core/version"
)

// maxTrial is the largest file a trial reads, in bytes.
const maxTrial = 4 << 20

// trial reads a configuration from the flash as the running release would, says what it does not take, line by line, and
// changes nothing.
func (s *shell) trial(args []string) error {
	name, err := s.file(args)
	if err != nil {
		return err
	}
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	if info.Size() > maxTrial {
		return fmt.Errorf("the file is larger than %d bytes", maxTrial)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	s.b.mu.Lock()
	model, release := s.b.spec.Model, s.b.st.Slots[s.b.st.Running].Version
	s.b.mu.Unlock()
	refused := 0
	lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	for _, c := range tryConfiguration(lines, model, version.MustParse(release)) {
		s.say("  line %d: %s", c.line, c.text)
		refused++
	}
	s.say("  %d lines read, %d refused, nothing changed", len(lines), refused)
	return nil
}

type complaint struct {
	line int
	text string
}

// A trial is what a box knows of its configurations while it reads one. It is written apart from any schema, so that it does not agree with
// somebody else's mistakes.
type trial struct {
	model   string
	version version.Version
	train5  bool
	blocks  map[string]string // which statements each block may hold
	zones   map[string]bool   // roles that ports have
	seen    map[string]int    // the line of each block
	block   string            // that it is in
	out     []complaint
}

// tryConfiguration returns what a box complains about.
func tryConfiguration(lines []string, model string, v version.Version) []complaint {
	t := trial{model: model, version: v, train5: !v.Less(version.MustParse("5.0")), seen: map[string]int{}, zones: map[string]bool{"any": true, "tunnel": true}}
	t.blocks = t.understood()
	for _, l := range lines {
		if role, ok := strings.CutPrefix(l, "  role "); ok {
			t.zones[strings.TrimSpace(role)] = true
		}
	}
	for i, l := range lines {
		text, _, _ := strings.Cut(strings.TrimRight(l, "\r "), " #")
		words := strings.Fields(text)
		switch {
		case len(words) == 0 || words[0][0] == '#':
		case !strings.HasPrefix(text, " "):
			t.begins(i, text, words)
		default:
			t.statement(i, text, words)
		}
	}
	return t.out
}

func (t *trial) no(i int, format string, args ...any) {
	t.out = append(t.out, complaint{i + 1, fmt.Sprintf(format, args...)})
}

// understood is what a release and model know.
func (t *trial) understood() map[string]string {
	train6 := !t.version.Less(version.MustParse("6.0"))
	blocks := map[string]string{"box": "name place clock-from manage idle-after", "port": "role address link speed mtu note", "route": "via cost",
		"addresses": "member", "tunnel": "inside secret cipher renew", "policy": "allow deny allow-set", "report": "to community", "user": "level secret"}
	if t.train5 {
		blocks["rewrite"], blocks["sign-in"] = "match to log", "greeting tries"
		if t.model != "TH-40" {
			blocks["fast-path"] = "enabled"
		}
	} else {
		blocks["translate"] = "arrive deliver log"
		blocks["box"] += " watchword"
		blocks["port"] += " duplex"
		blocks["report"] += " facility"
	}
	blocks["tunnel"] += map[bool]string{false: " peer", true: " far-end"}[train6]
	if !train6 && t.model != "TH-80" {
		blocks["modem"] = "number pin"
	}
	return blocks
}

// begins reads the first line of a block.
func (t *trial) begins(i int, text string, words []string) {
	t.block = words[0]
	if _, ok := t.blocks[t.block]; !ok {
		t.no(i, "%q is not understood by %s", t.block, t.version)
		return
	}
	if first := t.seen[text]; first > 0 {
		t.no(i, "%q was on line %d already", text, first)
	}
	t.seen[text] = i + 1
	if t.block == "port" && len(words) > 1 {
		n, err := strconv.Atoi(strings.TrimLeft(words[1], "px"))
		most := map[string]int{"TH-40": 4, "TH-60": 6, "TH-80": 8}[t.model]
		if strings.HasPrefix(words[1], "x") {
			most = map[string]int{"TH-80": 2}[t.model]
		}
		if err != nil || n < 1 || n > most {
			t.no(i, "this box has no port %s", words[1])
		}
	}
}

// statement reads a line inside a block.
func (t *trial) statement(i int, text string, words []string) {
	known, ok := t.blocks[t.block]
	if !ok {
		return
	}
	if !slices.Contains(strings.Fields(known), words[0]) {
		t.no(i, "%q is not understood in %s", words[0], t.block)
		return
	}
	ciphers := []string{"first", "second", "third"}
	if t.train5 {
		ciphers = []string{"second", "third", "fourth"}
	}
	switch value := strings.TrimPrefix(strings.TrimSpace(text), words[0]+" "); {
	case len(words) == 1:
		t.no(i, "%s needs a value", words[0])
	case t.block == "port" && words[0] == "address", t.block == "tunnel" && words[0] == "inside":
		if _, err := netip.ParsePrefix(value); err != nil {
			t.no(i, "%q is not an address with its length", value)
		}
	case words[0] == "via" || words[0] == "peer" || words[0] == "far-end":
		if _, err := netip.ParseAddr(value); err != nil {
			t.no(i, "%q is not an address", value)
		}
	case words[0] == "cipher" && !slices.Contains(ciphers, value):
		t.no(i, "there is no cipher %q", value)
	case words[0] == "link" && value != "on" && value != "off":
		t.no(i, "link is on or off, not %q", value)
	case (words[0] == "allow" || words[0] == "deny") && len(words) > 2:
		for _, z := range words[1:3] {
			if !t.zones[z] {
				t.no(i, "no port has the role %q", z)
			}
		}
	}
}
