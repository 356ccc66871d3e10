package gullwire

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// What an installation makes of the configuration of another one.

var (
	power   = regexp.MustCompile(`(?m)^(plan\.\S+)\.power-(low|high) = (\d+)`)
	channel = regexp.MustCompile(`(?m)^(plan\.\S+)\.channel-(low|high) = `)
	phrase  = regexp.MustCompile(`(?m)^(wlan\.\S+)\.passphrase = `)
	meshKey = regexp.MustCompile(`(?m)^mesh\.key = .*\n`)
	oldAP   = regexp.MustCompile(`(?m)^(ap\.\S+)\.model = AP-12\b`)
)

// converted is the configuration with which an installation starts: train 9 writes what train 8 wrote in its own way, and train 8 cannot read a radio plan of train 9 and starts empty.
func converted(config, wrote, to string) string {
	switch {
	case strings.HasPrefix(wrote, "9.") && strings.HasPrefix(to, "8."):
		return "box.name = unnamed\n"
	case strings.HasPrefix(wrote, "8.") && strings.HasPrefix(to, "9."):
		return nine(config)
	}
	return config
}

// nine turns a configuration of train 8 into one of train 9. Access points that it does not serve any more are left out.
func nine(config string) string {
	config = power.ReplaceAllStringFunc(config, func(l string) string {
		m := power.FindStringSubmatch(l)
		dbm, _ := strconv.Atoi(m[3])
		return fmt.Sprintf("%s.%s.power = %d", m[1], m[2], dbm*10)
	})
	config = channel.ReplaceAllString(config, "$1.$2.channel = ")
	config = phrase.ReplaceAllString(config, "$1.phrase = ")
	config = meshKey.ReplaceAllString(config, "")
	for _, m := range oldAP.FindAllStringSubmatch(config, -1) {
		config = regexp.MustCompile(`(?m)^`+regexp.QuoteMeta(m[1])+`\..*\n`).ReplaceAllString(config, "")
	}
	return config
}
