// Package strandline simulates the traffic directors of Strandline: controllers, alone or in clusters, that steer forwarding nodes. Nodes pass traffic on, also
// while no controller serves; one that is taken out of service keeps what it has to its end, and gets nothing new.
package strandline

import (
	"time"

	"verimorph/simfleet/shellbox"
)

// Behaviour is how the maker's boxes of a model behave; ok is false when it makes no such model.
func Behaviour(model string) (b shellbox.Behaviour, ok bool) { return controller, model == "TD-C" }

var controller = shellbox.Behaviour{
	Dialect: "strandline", Prompt: "%s -> ", Refusal: "will not: ", Bye: "bye", Main: "director.json",
	Parts:  func(string, string) map[string]string { return map[string]string{} },
	Serves: func(config string) []string { return shellbox.Members(config, "pools") },
	Firmware: shellbox.Firmware{Areas: 2, Room: 4 << 20, Rate: 4_000_000, Install: 60 * time.Second, Link: 30 * time.Second, Login: 40 * time.Second, Ready: 70 * time.Second,
		Parts:     []string{"fan", "supply"},
		Factory:   func(string) map[string]string { return map[string]string{"director.json": "{\"director\": {}}\n"} },
		Followers: &shellbox.Followers{Join: 5 * time.Second, Between: time.Second, Fetch: 30 * time.Second, Start: 60 * time.Second, Drains: true, Empty: 30 * time.Second, Served: func(string, string) bool { return true }}},
	Commands: []shellbox.Command{
		{Words: "id", Do: shellbox.TellSelf},
		{Words: "images", Do: shellbox.TellAreas},
		{Words: "store", Do: shellbox.TellFiles},
		{Words: "hardware", Do: shellbox.TellInside},
		{Words: "pools", Do: shellbox.TellWork},
		{Words: "clock", Do: shellbox.TellTime},
		{Words: "troubles", Do: shellbox.TellMishaps},
		{Words: "quorum", Do: shellbox.TellGroup},
		{Words: "nodes", Do: shellbox.TellFollowers},
		{Words: "print {part}", Do: shellbox.SayPart},
		{Words: "read {part} {url}", Do: shellbox.TakePart},
		{Words: "get {url} as {file}", Do: shellbox.BringFile},
		{Words: "digest {file}", Do: shellbox.SumFile},
		{Words: "drop {file}", Do: shellbox.DropFile},
		{Words: "image {place} from {file}", Do: shellbox.InstallInto},
		{Words: "boot {place}", Do: shellbox.ChoosePlace},
		{Words: "boot {place} once", Do: shellbox.TryPlace},
		{Words: "reboot", Do: shellbox.StartAnew},
		{Words: "steer", Do: shellbox.TakeOver},
		{Words: "nodes get {file}", Do: shellbox.FetchAll},
		{Words: "node {child} reboot", Do: shellbox.StartFollower},
		{Words: "node {child} drain", Do: shellbox.RestFollower},
		{Words: "node {child} work", Do: shellbox.WakeFollower},
	},
}
