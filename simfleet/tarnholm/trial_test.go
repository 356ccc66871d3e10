package tarnholm

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/version"
)

func tried(model, release, text string) (out []string) {
	for _, c := range tryConfiguration(strings.Split(strings.TrimSuffix(text, "\n"), "\n"), model, version.MustParse(release)) {
		out = append(out, fmt.Sprintf("%d %s", c.line, c.text))
	}
	return out
}

func TestATrialKnowsModelAndRelease(t *testing.T) {
	for _, c := range []struct {
		model, release, text string
		want                 []string
	}{
		{"TH-60", "4.2.9", "box\n  name x\n  watchword y\nport p6\n  duplex half\n", nil},
		{"TH-60", "5.4.2", "box\n  name x\n  watchword y\nport p6\n  duplex half\n", []string{`3 "watchword" is not understood in box`, `5 "duplex" is not understood in port`}},
		{"TH-60", "5.4.2", "port p7\n", []string{"1 this box has no port p7"}},
		{"TH-40", "5.0.7", "port p4\nport p5\nfast-path\n  enabled on\n", []string{"2 this box has no port p5", `3 "fast-path" is not understood by 5.0.7`}},
		{"TH-80", "5.4.2", "port x2\nport x3\nport p8\nport y1\nmodem\n  pin 1\n", []string{"2 this box has no port x3", "4 this box has no port y1", `5 "modem" is not understood by 5.4.2`}},
		{"TH-60", "6.0.1", "tunnel a\n  peer 10.0.0.1\n  far-end 10.0.0.1\n", []string{`2 "peer" is not understood in tunnel`}},
		{"TH-60", "5.4.2", "tunnel a\n  peer nobody\n  inside 10.0.0.0\n  cipher first\n  secret\n", []string{`2 "nobody" is not an address`, `3 "10.0.0.0" is not an address with its length`, `4 there is no cipher "first"`, "5 secret needs a value"}},
		{"TH-60", "5.4.2", "# a\n\nport p1 # b\n  role inside\npolicy p\n  allow inside any tcp 443\n  deny outside inside any\nport p2\n", []string{`7 no port has the role "outside"`}},
		{"TH-60", "5.4.2", "port p1\nport p1\n", []string{`2 "port p1" was on line 1 already`}},
	} {
		assert.Equal(t, c.want, tried(c.model, c.release, c.text), "%s %s\n%s", c.model, c.release, c.text)
	}
}

// What the demo's boxes run with, they take.
func TestBoxesTakeTheirOwnConfigurations(t *testing.T) {
	for name, at := range map[string][2]string{"hollen-fw1": {"TH-60", "4.2.3"}, "brattsund-fw1": {"TH-40", "4.2.6"}, "vesterkai-fw1": {"TH-80", "5.2.3"}, "gullnes-fw1": {"TH-60", "5.0.7"}, "control-fw1": {"TH-60", "4.2.9"}} {
		text, err := os.ReadFile("../../demo/configs/" + name + ".cfg")
		require.NoError(t, err)
		assert.Empty(t, tried(at[0], at[1], strings.ReplaceAll(string(text), "{{random}}", "x")), name)
	}
}
