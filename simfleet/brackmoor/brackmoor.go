// Package brackmoor simulates the gateways of Brackmoor: two areas, drained before they restart, signature content beside the firmware, and a web
// side with a token.
package brackmoor

import (
	"fmt"
	"strings"
	"time"

	"verimorph/core/config"
	"verimorph/core/version"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
)

// Behaviour is how the maker's boxes of a model behave; ok is false when it makes no such model.
func Behaviour(string) (b shellbox.Behaviour, ok bool) { return gateway, true }

// The gateways: two areas, drained before they restart, signature content beside the firmware.
var gateway = shellbox.Behaviour{
	Dialect: "brackmoor", Prompt: "(%s) > ", Refusal: "cannot: ", Bye: "out", Main: "gateway.json", Web: true, PassesOn: true,
	Parts: func(name, serial string) map[string]string {
		return map[string]string{"accounts.json": fmt.Sprintf("{\"accounts\": [{\"name\": \"keeper\", \"word\": %q}]}\n", box.Random(16)), "rights.json": fmt.Sprintf("{\"serial\": %q, \"services\": 40}\n", serial), "whole.bin": strings.Repeat("brackmoor whole "+name+"\n", 3000)}
	},
	Serves: func(config string) []string { return shellbox.Members(config, "services") },
	Firmware: shellbox.Firmware{Areas: 2, Drains: true, Room: 4 << 20, Rate: 1_200_000, Install: 200 * time.Second, Link: 80 * time.Second, Login: 110 * time.Second, Ready: 170 * time.Second,
		Parts: []string{"fan-1", "fan-2", "supply-1"}, Components: map[string]string{"signatures": "2024.10"}, Rights: []string{"gateway-2"}, Generation: "2",
		Factory: func(string) map[string]string { return map[string]string{"gateway.json": "{\"gateway\": {}}\n"} }, Convert: services},
	Commands: []shellbox.Command{
		{Words: "self", Do: shellbox.TellSelf},
		{Words: "areas", Do: shellbox.TellAreas},
		{Words: "shelf", Do: shellbox.TellFiles},
		{Words: "inside", Do: shellbox.TellInside},
		{Words: "doing", Do: shellbox.TellWork},
		{Words: "hour", Do: shellbox.TellTime},
		{Words: "diary", Do: shellbox.TellMishaps},
		{Words: "hand {part} {url}", Do: shellbox.GiveFile},
		{Words: "take {url} as {file}", Do: shellbox.BringFile},
		{Words: "hash {file}", Do: shellbox.SumFile},
		{Words: "discard {file}", Do: shellbox.DropFile},
		{Words: "lay {file} in {place}", Do: shellbox.InstallInto},
		{Words: "start-from {place}", Do: shellbox.ChoosePlace},
		{Words: "anew", Do: shellbox.StartAnew},
		{Words: "rest", Do: shellbox.Rest},
		{Words: "work", Do: shellbox.TakeWork},
		{Words: "feed {inner} with {file}", Do: shellbox.UpdateInner},
		{Words: "admit {right}", Do: shellbox.Admit},
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
