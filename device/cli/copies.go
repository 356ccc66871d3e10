package cli

import (
	"fmt"
	"strings"

	"verimorph/device"
)

// Named copies of the running installation: what a change calls its own, and what a device accepts as a name.

// copyName is how a copy is called where the dialect does not say.
const copyName = "before-{change}"

// shortestLimit is how many characters a name must be allowed to have, so that it can hold the number of a change.
const shortestLimit = 8

// allowed reports why a copy cannot be called so.
func (k *Copies) allowed(name string) error {
	signs := k.Signs
	if signs == "" {
		signs = "-._"
	}
	switch {
	case !safeArgument.MatchString(name):
		return fmt.Errorf("%q is no name: it begins with a letter or digit, and has no blanks", name)
	case k.Longest > 0 && len(name) > k.Longest:
		return fmt.Errorf("%q is longer than the %d characters that the device takes", name, k.Longest)
	}
	for _, r := range name {
		if !isPlain(r) && !strings.ContainsRune(signs, r) {
			return fmt.Errorf("%q has the sign %q, which the device does not take in a name", name, r)
		}
	}
	return nil
}

func isPlain(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
}

// name is what the copy is called that a change makes of a version: the number of the change is in it, so that no two are alike. What the
// device does not take in a name is left out, and a name that gets too long is the number alone.
func (k *Copies) name(change int64, version string) string {
	template := k.Name
	if template == "" {
		template = copyName
	}
	keep := func(text string) string {
		return strings.Map(func(r rune) rune {
			if k.allowed("a"+string(r)) != nil {
				return -1
			}
			return r
		}, text)
	}
	name := strings.NewReplacer("{change}", fmt.Sprint(change), "{version}", keep(version)).Replace(template)
	if k.Longest > 0 && len(name) > k.Longest {
		name = fmt.Sprintf("c%d", change)
	}
	return name
}

// profile is what others need to know of them.
func (k *Copies) profile() *device.Copies {
	if k == nil {
		return nil
	}
	return &device.Copies{Name: k.name, Allowed: k.allowed, Apart: k.Apart}
}

// copies finds what is wrong with how copies are named.
func (c *checker) copies() {
	d, k := c.d, c.d.Copies
	if k == nil {
		return
	}
	wrong := func(field, format string, args ...any) {
		c.wrong(under("copies", field), "", "copies: "+format, args...)
	}
	switch {
	case !d.Verbs["clone"].given() || !d.Verbs["choose-slot"].given():
		wrong("", "need the verbs clone, which makes one, and choose-slot, which starts one")
	case d.Installs == FromFiles:
		wrong("", "do not go with installs: files, where each image is an installation of its own")
	case k.Longest < 0 || k.Longest > 0 && k.Longest < shortestLimit:
		wrong("longest", "longest has to be %d at least, so that the number of a change has room", shortestLimit)
	case k.Name != "" && !strings.Contains(k.Name, "{change}"):
		wrong("name", "name has to say {change}, so that no two copies are called alike")
	}
	c.placeholders(under("copies", "name"), "copies: name", k.Name, []string{"change", "version"})
	if err := k.allowed(strings.NewReplacer("{change}", "1", "{version}", "1").Replace(k.Name)); k.Name != "" && err != nil {
		wrong("name", "%s", err)
	}
}
