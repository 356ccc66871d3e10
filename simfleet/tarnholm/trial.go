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

// tryConfiguration is what the box itself knows of its configurations. It is written apart from any schema, so that it
// does not agree with somebody else's mistakes.
func tryConfiguration(lines []string, model string, v version.Version) (out []complaint) {
	no := func(i int, format string, args ...any) {
		out = append(out, complaint{i + 1, fmt.Sprintf(format, args...)})
	}
	train5 := !v.Less(version.MustParse("5.0"))
	train6 := !v.Less(version.MustParse("6.0"))
	blocks := map[string]string{"box": "name place clock-from idle-after", "port": "role address link speed mtu note", "route": "via cost", "addresses": "member", "tunnel": "inside secret cipher renew",
		"policy": "allow deny allow-set", "report": "to community", "user": "level secret"}
	if train5 {
		blocks["rewrite"], blocks["sign-in"] = "match to log", "greeting tries"
		if model != "TH-40" {
			blocks["fast-path"] = "enabled"
		}
	} else {
		blocks["translate"] = "arrive deliver log"
		blocks["box"] += " watchword"
		blocks["port"] += " duplex"
		blocks["report"] += " facility"
	}
	blocks["tunnel"] += map[bool]string{false: " peer", true: " far-end"}[train6]
	if !train6 && model != "TH-80" {
		blocks["modem"] = "number pin"
	}
	ports := map[string]int{"TH-40": 4, "TH-60": 6, "TH-80": 8}[model]
	zones := map[string]bool{"any": true, "tunnel": true}
	for _, l := range lines {
		if role, ok := strings.CutPrefix(l, "  role "); ok {
			zones[strings.TrimSpace(role)] = true
		}
	}
	block, known := "", ""
	seen := map[string]int{}
	for i, l := range lines {
		text, _, _ := strings.Cut(strings.TrimRight(l, "\r "), " #")
		words := strings.Fields(text)
		if len(words) == 0 || words[0][0] == '#' {
			continue
		}
		if !strings.HasPrefix(text, " ") {
			block = words[0]
			var ok bool
			if known, ok = blocks[block]; !ok {
				no(i, "%q is not understood by %s", block, v)
				continue
			}
			if first := seen[text]; first > 0 {
				no(i, "%q was on line %d already", text, first)
			}
			seen[text] = i + 1
			if block == "port" && len(words) > 1 {
				n, err := strconv.Atoi(strings.TrimLeft(words[1], "px"))
				most := ports
				if strings.HasPrefix(words[1], "x") {
					most = map[string]int{"TH-80": 2}[model]
				}
				if err != nil || n < 1 || n > most {
					no(i, "this box has no port %s", words[1])
				}
			}
			continue
		}
		if _, ok := blocks[block]; !ok {
			continue
		}
		if !slices.Contains(strings.Fields(known), words[0]) {
			no(i, "%q is not understood in %s", words[0], block)
			continue
		}
		switch value := strings.TrimPrefix(strings.TrimSpace(text), words[0]+" "); {
		case len(words) == 1:
			no(i, "%s needs a value", words[0])
		case block == "port" && words[0] == "address", block == "tunnel" && words[0] == "inside":
			if _, err := netip.ParsePrefix(value); err != nil {
				no(i, "%q is not an address with its length", value)
			}
		case words[0] == "via" || words[0] == "peer" || words[0] == "far-end":
			if _, err := netip.ParseAddr(value); err != nil {
				no(i, "%q is not an address", value)
			}
		case words[0] == "cipher" && train5 && !slices.Contains([]string{"second", "third", "fourth"}, value), words[0] == "cipher" && !train5 && !slices.Contains([]string{"first", "second", "third"}, value):
			no(i, "there is no cipher %q", value)
		case words[0] == "link" && value != "on" && value != "off":
			no(i, "link is on or off, not %q", value)
		case (words[0] == "allow" || words[0] == "deny") && len(words) > 2:
			for _, z := range words[1:3] {
				if !zones[z] {
					no(i, "no port has the role %q", z)
				}
			}
		}
	}
	return out
}
