// Package ostrevin simulates the chassis switch of Ostrevin with one supervisor: packages are unpacked beside each other, logic and boot loader follow
// the main version, line cards come up late.
package ostrevin

import (
	"strings"
	"time"

	"verimorph/core/version"
	"verimorph/simfleet/shellbox"
)

// Behaviour is how the maker's boxes of a model behave; ok is false when it makes no such model.
func Behaviour(model string) (b shellbox.Behaviour, ok bool) { return chassis, model == "C8" }

// The chassis with one supervisor: packages are unpacked beside each other, logic and boot loader follow the main version, line
// cards come up late.
var chassis = shellbox.Behaviour{
	Dialect: "ostrevin", Prompt: "<%s>$ ", Refusal: "refused, ", Bye: "quit", Main: "box.conf",
	Parts: func(string, string) map[string]string { return map[string]string{} },
	Serves: func(config string) []string {
		return shellbox.Blocks(config, "port ", " {")
	},
	Firmware: shellbox.Firmware{Areas: 2, Unpack: true, Room: 8 << 20, Rate: 600_000, Install: 180 * time.Second, Link: 160 * time.Second,
		Login: 200 * time.Second, Ready: 260 * time.Second, Cycle: 300 * time.Second,
		Parts: []string{"fan-tray", "supply-1", "supply-2"}, Cards: map[string]time.Duration{"card-1": 300 * time.Second, "card-2": 340 * time.Second,
			"card-3": 560 * time.Second, "card-8": 320 * time.Second},
		Components: map[string]string{"boot-loader": "1.6", "logic": "44"},
		Cycled:     []string{"logic"}, Variables: map[string]string{"start-from": ""}, Generation: "S1",
		Convert: braces,
		Factory: func(string) map[string]string { return map[string]string{"box.conf": "box {\n}\n"} }},
	Commands: []shellbox.Command{
		{Words: "who", Do: shellbox.TellSelf},
		{Words: "sets", Do: shellbox.TellAreas},
		{Words: "disk", Do: shellbox.TellFiles},
		{Words: "rack", Do: shellbox.TellInside},
		{Words: "ports", Do: shellbox.TellWork},
		{Words: "hour", Do: shellbox.TellTime},
		{Words: "events", Do: shellbox.TellMishaps},
		{Words: "post {part} {url}", Do: shellbox.GiveFile},
		{Words: "in {part} {url}", Do: shellbox.TakePart},
		{Words: "pull {url} as {file}", Do: shellbox.BringFile},
		{Words: "prove {file}", Do: shellbox.SumFile},
		{Words: "erase {file}", Do: shellbox.DropFile},
		{Words: "fill {place} with {file}", Do: shellbox.InstallInto},
		{Words: "unfold {place}", Do: shellbox.UnpackPlace},
		{Words: "copy-to {place}", Do: shellbox.ClonePlace},
		{Words: "begin-from {place}", Do: shellbox.ChoosePlace},
		{Words: "once-from {place}", Do: shellbox.TryPlace},
		{Words: "begin-again", Do: shellbox.StartAnew},
		{Words: "renew {inner} with {file}", Do: shellbox.UpdateInner},
		{Words: "power {inner} off-on", Do: shellbox.CycleInner},
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
