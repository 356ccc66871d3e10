// Package ostrevin simulates the switches of Ostrevin: a chassis with one or two supervisors, and stacks. Packages are unpacked beside each other and
// brought onto every unit, logic and boot loader follow the main version, line cards and units come up late.
package ostrevin

import (
	"strings"
	"time"

	"verimorph/core/version"
	"verimorph/simfleet/shellbox"
)

// Behaviour is how the maker's boxes of a model behave; ok is false when it makes no such model.
func Behaviour(model string) (b shellbox.Behaviour, ok bool) {
	switch model {
	case "C8":
		return chassis, true
	case "L24":
		return stack, true
	}
	return b, false
}

// The stack: its units come back one after the other, and load for minutes what their ports run.
var stack = func() shellbox.Behaviour {
	b := chassis
	b.Firmware.Room, b.Firmware.Cards, b.Firmware.Cycled, b.Firmware.Generation = 4<<20, nil, nil, "A"
	b.Firmware.Parts = []string{"fan", "supply"}
	b.Firmware.Components = map[string]string{"boot-loader": "1.6"}
	b.Firmware.Crew = &shellbox.Crew{Leads: "leader", Follows: "follower", Room: 2 << 20, Takes: 491520, Apart: 25 * time.Second, Load: 240 * time.Second,
		Align: 60 * time.Second, Components: []string{"boot-loader"}}
	return b
}()

// The chassis: packages are unpacked beside each other, logic and boot loader follow the main version, line cards come up late. A second supervisor takes
// over without anybody noticing, once it is in step.
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
		Crew:    &shellbox.Crew{Leads: "active", Follows: "standby", Room: 4 << 20, Takes: 983040, Apart: 10 * time.Second, Align: 90 * time.Second, Components: []string{"boot-loader"}},
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
		{Words: "units", Do: shellbox.TellUnits},
		{Words: "spread {place}", Do: shellbox.SpreadPlace},
		{Words: "unit {unit} follow", Do: shellbox.BringAlong},
		{Words: "unit {unit} erase {file}", Do: shellbox.CleanUnit},
		{Words: "unit {unit} begin-again", Do: shellbox.RestartUnit},
		{Words: "unit {unit} renew {inner} with {file}", Do: shellbox.UpdateUnit},
		{Words: "hand-over", Do: shellbox.HandOver},
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
