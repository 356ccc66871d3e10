// Package pellworth simulates the field devices of Pellworth: ramp controllers, and tide gauges with a console line and a card. An update brings the
// factory state; files are for one release.
package pellworth

import (
	"fmt"
	"strings"
	"time"

	"verimorph/simfleet/shellbox"
)

// Behaviour is how the maker's boxes of a model behave; ok is false when it makes no such model.
func Behaviour(model string) (b shellbox.Behaviour, ok bool) {
	if model == "TG-1" {
		return gauge, true
	}
	return ramp, true
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
	return shellbox.Blocks(config, "["+word, "]")
}

// The ramp controllers: one installation, a return to the factory state with every update, a key switch, files over TFTP.
var ramp = shellbox.Behaviour{
	Dialect: "pellworth", Prompt: "%s ? ", Refusal: "bad: ", Bye: "bye", Main: "ramp.ini",
	Parts: func(string, string) map[string]string {
		return map[string]string{"marks.map": "lower 0\nupper 8200\npark 400\n"}
	},
	Serves: func(config string) []string {
		var out []string
		for _, r := range sections(config, "ramp ") {
			out = append(out, "ramp-"+r)
		}
		return out
	},
	Firmware: shellbox.Firmware{Areas: 1, Reset: true, Room: 524288, Rate: 6000, Install: 180 * time.Second, Link: 40 * time.Second,
		Login: 52 * time.Second, Ready: 85 * time.Second, Cycle: 60 * time.Second,
		Parts: []string{"brake", "drive-1", "drive-2", "drive-3", "drive-4", "drive-5",
			"drive-6"}, Components: map[string]string{"web-manager": "1.9", "drive-logic": "7"}, Cycled: []string{"drive-logic"},
		Variables: map[string]string{"key-switch": "run"}, Generation: "K2", Check: ownRelease,
		Factory: func(v string) map[string]string {
			return map[string]string{"ramp.ini": "[file]\nrelease = " + v + "\n", "marks.map": "lower 0\nupper 0\npark 0\n"}
		}},
	Commands: []shellbox.Command{
		{Words: "plate", Do: shellbox.TellSelf},
		{Words: "stock", Do: shellbox.TellAreas},
		{Words: "drawer", Do: shellbox.TellFiles},
		{Words: "look", Do: shellbox.TellInside},
		{Words: "moves", Do: shellbox.TellWork},
		{Words: "watch", Do: shellbox.TellTime},
		{Words: "troubles", Do: shellbox.TellMishaps},
		{Words: "out {part} {url}", Do: shellbox.GiveFile},
		{Words: "in {part} {url}", Do: shellbox.TakePart},
		{Words: "get {url} as {file}", Do: shellbox.BringFile},
		{Words: "count {file}", Do: shellbox.SumFile},
		{Words: "bin {file}", Do: shellbox.DropFile},
		{Words: "load {file}", Do: shellbox.InstallHere},
		{Words: "fit {inner} {file}", Do: shellbox.UpdateInner},
		{Words: "drives-off-on {inner}", Do: shellbox.CycleInner},
		{Words: "call {name}", Do: shellbox.CallLine},
	},
}

// The tide gauges: the same firmware line, a console line and a card.
var gauge = shellbox.Behaviour{
	Dialect: "pellworth-gauge", Prompt: "%s ? ", Refusal: "bad: ", Bye: "bye", Main: "gauge.ini",
	Parts:  func(string, string) map[string]string { return map[string]string{} },
	Serves: func(config string) []string { return sections(config, "tide") },
	Firmware: shellbox.Firmware{Areas: 1, Reset: true, Room: 262144, Rate: 6000, Install: 120 * time.Second, Link: 20 * time.Second,
		Login: 30 * time.Second, Ready: 45 * time.Second,
		Parts: []string{"battery", "float"}, Variables: map[string]string{"key-switch": "service"}, Medium: "card/", Check: ownRelease,
		Factory: func(v string) map[string]string {
			return map[string]string{"gauge.ini": "[file]\nrelease = " + v + "\n"}
		}},
	Commands: []shellbox.Command{
		{Words: "plate", Do: shellbox.TellSelf},
		{Words: "stock", Do: shellbox.TellAreas},
		{Words: "drawer", Do: shellbox.TellFiles},
		{Words: "look", Do: shellbox.TellInside},
		{Words: "moves", Do: shellbox.TellWork},
		{Words: "watch", Do: shellbox.TellTime},
		{Words: "troubles", Do: shellbox.TellMishaps},
		{Words: "say {part}", Do: shellbox.SayPart},
		{Words: "type {part}", Do: shellbox.TypePart},
		{Words: "keep all as {file}", Do: shellbox.KeepOnCard},
		{Words: "kept {file}", Do: shellbox.TellCard},
		{Words: "count {file}", Do: shellbox.SumFile},
		{Words: "load {file}", Do: shellbox.InstallHere},
	},
}
