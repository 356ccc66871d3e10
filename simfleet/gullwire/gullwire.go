// Package gullwire simulates the wireless controllers of Gullwire, alone, as pairs and as clusters, with the access points that follow them: they fetch their
// image from the controller, beforehand when they are told to, and join it again one after the other. Access points that stand alone have a command line
// of their own until they are told whom to follow.
package gullwire

import (
	"strings"
	"time"

	"verimorph/core/version"
	"verimorph/simfleet/shellbox"
)

// Behaviour is how the maker's boxes of a model behave; ok is false when it makes no such model.
func Behaviour(model string) (b shellbox.Behaviour, ok bool) {
	switch model {
	case "WC-2":
		return controller, true
	case "AP-12", "AP-31":
		return point, true
	}
	return b, false
}

// point is an access point that stands alone.
var point = shellbox.Behaviour{
	Dialect: "gullwire-point", Prompt: "%s : ", Refusal: "no, ", Bye: "leave", Main: "point.conf",
	Parts:  func(string, string) map[string]string { return map[string]string{} },
	Serves: wlans,
	Firmware: shellbox.Firmware{Areas: 2, Room: 1 << 20, Rate: 500_000, Install: 60 * time.Second, Link: 40 * time.Second, Login: 60 * time.Second, Ready: 80 * time.Second, Follows: true,
		Factory: func(string) map[string]string { return map[string]string{"point.conf": "box.name = point\n"} }},
	Commands: []shellbox.Command{
		{Words: "about", Do: shellbox.TellSelf},
		{Words: "halves", Do: shellbox.TellAreas},
		{Words: "drawer", Do: shellbox.TellFiles},
		{Words: "wlans", Do: shellbox.TellWork},
		{Words: "time", Do: shellbox.TellTime},
		{Words: "say {part}", Do: shellbox.SayPart},
		{Words: "hear {part} {url}", Do: shellbox.TakePart},
		{Words: "bring {url} as {file}", Do: shellbox.BringFile},
		{Words: "sum {file}", Do: shellbox.SumFile},
		{Words: "bin {file}", Do: shellbox.DropFile},
		{Words: "lay {file} into {place}", Do: shellbox.InstallInto},
		{Words: "next {place}", Do: shellbox.ChoosePlace},
		{Words: "restart", Do: shellbox.StartAnew},
		{Words: "follow {controller}", Do: shellbox.Follow},
		{Words: "password of {user}", Do: shellbox.ChangePassword},
	},
}

var controller = shellbox.Behaviour{
	Dialect: "gullwire", Prompt: "%s :: ", Refusal: "no, ", Bye: "leave", Main: "controller.conf",
	Parts:  func(string, string) map[string]string { return map[string]string{} },
	Serves: wlans,
	Firmware: shellbox.Firmware{Areas: 2, Room: 4 << 20, Rate: 1_000_000, Install: 120 * time.Second, Link: 110 * time.Second, Login: 140 * time.Second, Ready: 200 * time.Second,
		Parts: []string{"fan", "supply"}, Components: map[string]string{"portal-pages": "8.5"}, Rights: []string{"access-50"},
		Factory:   func(string) map[string]string { return map[string]string{"controller.conf": ""} },
		Convert:   converted,
		Followers: &shellbox.Followers{Join: 20 * time.Second, Between: time.Second, Fetch: 60 * time.Second, Start: 80 * time.Second, Served: served}},
	Commands: []shellbox.Command{
		{Words: "about", Do: shellbox.TellSelf},
		{Words: "halves", Do: shellbox.TellAreas},
		{Words: "drawer", Do: shellbox.TellFiles},
		{Words: "innards", Do: shellbox.TellInside},
		{Words: "wlans", Do: shellbox.TellWork},
		{Words: "time", Do: shellbox.TellTime},
		{Words: "remarks", Do: shellbox.TellMishaps},
		{Words: "mates", Do: shellbox.TellGroup},
		{Words: "points", Do: shellbox.TellFollowers},
		{Words: "say {part}", Do: shellbox.SayPart},
		{Words: "hear {part} {url}", Do: shellbox.TakePart},
		{Words: "bring {url} as {file}", Do: shellbox.BringFile},
		{Words: "sum {file}", Do: shellbox.SumFile},
		{Words: "bin {file}", Do: shellbox.DropFile},
		{Words: "lay {file} into {place}", Do: shellbox.InstallInto},
		{Words: "next {place}", Do: shellbox.ChoosePlace},
		{Words: "restart", Do: shellbox.StartAnew},
		{Words: "lead", Do: shellbox.TakeOver},
		{Words: "dress {inner} with {file}", Do: shellbox.UpdateInner},
		{Words: "points take {file}", Do: shellbox.FetchAll},
		{Words: "point {child} restart", Do: shellbox.StartFollower},
		{Words: "let {serial} in", Do: shellbox.LetIn},
		{Words: "password of {user}", Do: shellbox.ChangePassword},
		{Words: "point {child} group {group}", Do: shellbox.GroupFollower},
		{Words: "point {child} alone", Do: shellbox.GiveBack},
	},
}

// wlans are the networks of a configuration.
func wlans(config string) (names []string) {
	for _, l := range strings.Split(config, "\n") {
		if rest, ok := strings.CutPrefix(l, "wlan."); ok {
			if name, found := strings.CutSuffix(strings.Split(rest, " ")[0], ".title"); found {
				names = append(names, name)
			}
		}
	}
	return names
}

// served reports whether a release serves a model of access points.
func served(model, release string) bool {
	v := version.MustParse(release)
	switch model {
	case "AP-12":
		return v.Less(version.MustParse("9"))
	case "AP-31":
		return !v.Less(version.MustParse("8.5"))
	}
	return false
}
