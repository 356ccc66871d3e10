package plainbox

import (
	"fmt"
	"strings"
	"time"

	"verimorph/core/config"
	"verimorph/core/version"
)

// A Manner is how the boxes of a maker behave.
type Manner struct {
	Dialect  string
	prompt   string // %s is the name
	no       string // how a refusal begins
	bye      string // ends a conversation
	main     string // name of the configuration among its parts
	netconf  bool
	passesOn bool // connections of who is signed in
	web      bool
	parts    func(name, serial string) map[string]string
	serves   func(config string) []string // what it does for its users
	commands []command
	fw       traits
}

// MannerOf is how the boxes of a maker and model behave.
func MannerOf(s Spec) (Manner, bool) {
	switch {
	case s.Maker == "Brackmoor":
		return brackmoor, true
	case s.Maker == "Calderpath":
		return calderpath, true
	case s.Maker == "Pellworth" && s.Model == "TG-1":
		return gauge, true
	case s.Maker == "Pellworth":
		return ramp, true
	case s.Maker == "Ostrevin" && s.Model == "C8":
		return chassis, true
	}
	return Manner{}, false
}

// The gateways: two areas, drained before they restart, signature content beside the firmware.
var brackmoor = Manner{
	Dialect: "brackmoor", prompt: "(%s) > ", no: "cannot: ", bye: "out", main: "gateway.json", web: true, passesOn: true,
	parts: func(name, serial string) map[string]string {
		return map[string]string{"accounts.json": fmt.Sprintf("{\"accounts\": [{\"name\": \"keeper\", \"word\": %q}]}\n", random()), "rights.json": fmt.Sprintf("{\"serial\": %q, \"services\": 40}\n", serial), "whole.bin": strings.Repeat("brackmoor whole "+name+"\n", 3000)}
	},
	serves: func(config string) (names []string) {
		_, after, _ := strings.Cut(config, `"services": {`)
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
	},
	fw: traits{areas: 2, drains: true, room: 4 << 20, rate: 1_200_000, install: 200 * time.Second, link: 80 * time.Second, login: 110 * time.Second, ready: 170 * time.Second,
		parts: []string{"fan-1", "fan-2", "supply-1"}, components: map[string]string{"signatures": "2024.10"}, rights: []string{"gateway-2"}, generation: "2",
		factory: func(string) map[string]string { return map[string]string{"gateway.json": "{\"gateway\": {}}\n"} }, convert: services},
	commands: []command{
		{"self", tellSelf}, {"areas", tellAreas}, {"shelf", tellFiles}, {"inside", tellInside}, {"doing", tellWork}, {"hour", tellTime}, {"diary", tellMishaps},
		{"hand {part} {url}", giveFile}, {"take {url} as {file}", bringFile}, {"hash {file}", sumFile}, {"discard {file}", dropFile},
		{"lay {file} in {place}", installInto}, {"start-from {place}", choosePlace}, {"anew", startAnew}, {"rest", rest}, {"work", takeWork},
		{"feed {inner} with {file}", updateInner}, {"admit {right}", admit},
	},
}

// services is what train 4 makes of a gateway's configuration of train 3, and the other way round: port and protocol stand under listen,
// and ciphers have another name. Ciphers that the other train does not offer go; what train 3 assumes is written down.
func services(text, wrote, to string) string {
	third := func(v string) bool { return version.MustParse(v).Less(version.MustParse("4")) }
	doc, broken := config.Parse("gateway.json", text, config.JSON)
	all := doc.Root.Child("services")
	if third(wrote) == third(to) || len(broken) > 0 || all == nil {
		return text
	}
	into := func(from, to *config.Node, names ...string) {
		for _, name := range names {
			if k := from.Child(name); k != nil {
				to.Insert(len(to.Children), k.Copy())
				k.Remove()
			}
		}
	}
	for _, s := range all.Children {
		if third(to) {
			if listen := s.Child("listen"); listen != nil {
				into(listen, s, "port", "protocol")
				listen.Remove()
			}
			if c := s.Child("cipher-set"); c != nil && c.Value() == "second" {
				c.Rename("ciphers")
			} else if c != nil {
				c.Remove()
			}
			continue
		}
		listen := config.NewNode("listen")
		listen.Form = config.Group
		s.Insert(len(s.Children), listen)
		into(s, listen, "port", "protocol")
		switch c := s.Child("ciphers"); {
		case c == nil:
			s.Insert(len(s.Children), config.NewNode("cipher-set", "second"))
		case c.Value() == "second":
			c.Rename("cipher-set")
		default:
			c.Remove()
		}
	}
	return doc.Print()
}

// The routers say what they are; the rest of them comes with their own protocols.
var calderpath = Manner{
	Dialect: "calderpath", prompt: "%s:: ", no: "! ", bye: "leave", main: "running", netconf: true,
	parts: func(string, string) map[string]string {
		return map[string]string{"keys.store": "key ring " + random() + random() + "\n"}
	},
	fw:       traits{areas: 1, factory: func(string) map[string]string { return nil }},
	commands: []command{{"identity", tellSelf}, {"post {part} {url}", giveFile}},
}

// release is the release that a file of a field device names.
func release(text string) string {
	for _, l := range strings.Split(text, "\n") {
		if v, ok := strings.CutPrefix(strings.TrimSpace(l), "release = "); ok {
			return strings.TrimSpace(v)
		}
	}
	return ""
}

// ownRelease refuses files of another release.
func ownRelease(name, text, version string) error {
	if strings.HasSuffix(name, ".ini") && release(text) != version {
		return fmt.Errorf("the file is for %q, this is %s", release(text), version)
	}
	return nil
}

// sections lists the sections of an INI file that begin with a word.
func sections(config, word string) []string {
	return blocks(config, "["+word, "]")
}

// The ramp controllers: one installation, a return to the factory state with every update, a key switch, files over TFTP.
var ramp = Manner{
	Dialect: "pellworth", prompt: "%s ? ", no: "bad: ", bye: "bye", main: "ramp.ini",
	parts: func(string, string) map[string]string {
		return map[string]string{"marks.map": "lower 0\nupper 8200\npark 400\n"}
	},
	serves: func(config string) []string {
		var out []string
		for _, r := range sections(config, "ramp ") {
			out = append(out, "ramp-"+r)
		}
		return out
	},
	fw: traits{areas: 1, reset: true, room: 524288, rate: 6000, install: 180 * time.Second, link: 40 * time.Second, login: 52 * time.Second, ready: 85 * time.Second, cycle: 60 * time.Second,
		parts: []string{"brake", "drive-1", "drive-2", "drive-3", "drive-4", "drive-5", "drive-6"}, components: map[string]string{"web-manager": "1.9", "drive-logic": "7"}, cycled: []string{"drive-logic"},
		variables: map[string]string{"key-switch": "run"}, generation: "K2", check: ownRelease,
		factory: func(v string) map[string]string {
			return map[string]string{"ramp.ini": "[file]\nrelease = " + v + "\n", "marks.map": "lower 0\nupper 0\npark 0\n"}
		}},
	commands: []command{
		{"plate", tellSelf}, {"stock", tellAreas}, {"drawer", tellFiles}, {"look", tellInside}, {"moves", tellWork}, {"watch", tellTime}, {"troubles", tellMishaps},
		{"out {part} {url}", giveFile}, {"in {part} {url}", takePart}, {"get {url} as {file}", bringFile}, {"count {file}", sumFile}, {"bin {file}", dropFile},
		{"load {file}", installHere}, {"fit {inner} {file}", updateInner}, {"drives-off-on {inner}", cycleInner}, {"call {name}", callLine},
	},
}

// The tide gauges: the same firmware line, a console line and a card.
var gauge = Manner{
	Dialect: "pellworth-gauge", prompt: "%s ? ", no: "bad: ", bye: "bye", main: "gauge.ini",
	parts:  func(string, string) map[string]string { return map[string]string{} },
	serves: func(config string) []string { return sections(config, "tide") },
	fw: traits{areas: 1, reset: true, room: 262144, rate: 6000, install: 120 * time.Second, link: 20 * time.Second, login: 30 * time.Second, ready: 45 * time.Second,
		parts: []string{"battery", "float"}, variables: map[string]string{"key-switch": "service"}, medium: "card/", check: ownRelease,
		factory: func(v string) map[string]string {
			return map[string]string{"gauge.ini": "[file]\nrelease = " + v + "\n"}
		}},
	commands: []command{
		{"plate", tellSelf}, {"stock", tellAreas}, {"drawer", tellFiles}, {"look", tellInside}, {"moves", tellWork}, {"watch", tellTime}, {"troubles", tellMishaps},
		{"say {part}", sayPart}, {"type {part}", typePart}, {"count {file}", sumFile}, {"load {file}", installHere},
	},
}

// The chassis with one supervisor: packages are unpacked beside each other, logic and boot loader follow the main version, line
// cards come up late.
var chassis = Manner{
	Dialect: "ostrevin", prompt: "<%s>$ ", no: "refused, ", bye: "quit", main: "box.conf",
	parts: func(string, string) map[string]string { return map[string]string{} },
	serves: func(config string) []string {
		return blocks(config, "port ", " {")
	},
	fw: traits{areas: 2, unpack: true, room: 8 << 20, rate: 600_000, install: 180 * time.Second, link: 160 * time.Second, login: 200 * time.Second, ready: 260 * time.Second, cycle: 300 * time.Second,
		parts: []string{"fan-tray", "supply-1", "supply-2"}, cards: map[string]time.Duration{"card-1": 300 * time.Second, "card-2": 340 * time.Second, "card-3": 560 * time.Second, "card-8": 320 * time.Second},
		components: map[string]string{"boot-loader": "1.6", "logic": "44"}, cycled: []string{"logic"}, variables: map[string]string{"start-from": ""}, generation: "S1",
		convert: braces,
		factory: func(string) map[string]string { return map[string]string{"box.conf": "box {\n}\n"} }},
	commands: []command{
		{"who", tellSelf}, {"sets", tellAreas}, {"disk", tellFiles}, {"rack", tellInside}, {"ports", tellWork}, {"hour", tellTime}, {"events", tellMishaps},
		{"post {part} {url}", giveFile}, {"in {part} {url}", takePart}, {"pull {url} as {file}", bringFile}, {"prove {file}", sumFile}, {"erase {file}", dropFile},
		{"fill {place} with {file}", installInto}, {"unfold {place}", unpackPlace}, {"copy-to {place}", clonePlace},
		{"begin-from {place}", choosePlace}, {"once-from {place}", tryPlace}, {"begin-again", startAnew},
		{"renew {inner} with {file}", updateInner}, {"power {inner} off-on", cycleInner},
	},
}

// braces is what train 12 makes of a configuration of train 11, and the other way round: what stands in ports has other names.
func braces(config, wrote, to string) string {
	old, now := version.MustParse(wrote).Less(version.MustParse("12")), version.MustParse(to).Less(version.MustParse("12"))
	if old == now {
		return config
	}
	words := map[string]string{"vlan": "untagged"}
	if now {
		words = map[string]string{"untagged": "vlan"}
	}
	inPort := false
	var out strings.Builder
	for _, l := range strings.SplitAfter(config, "\n") {
		switch {
		case strings.HasPrefix(l, "port "):
			inPort = true
		case strings.HasPrefix(l, "}"):
			inPort = false
		case inPort:
			for from, into := range words {
				if rest, ok := strings.CutPrefix(l, "    "+from+" "); ok {
					l = "    " + into + " " + rest
				}
			}
		}
		out.WriteString(l)
	}
	return out.String()
}
