package template

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const pier = `format: verimorph-template/1
title: Firewall of a pier
models: [TH-60]
values:
  - {name: site, type: name, help: short name of the pier}
  - {name: uplink, type: prefix}
  - {name: vlan, type: number, from: 1, to: 4094, default: "4"}
  - {name: relay, type: address, optional: true}
  - {name: key, type: secret}
  - {name: mode, type: choice, of: [full, half], default: full}
---
box
  name {{site}}-fw1
port p1
  address {{ uplink }}
  vlan {{vlan}}
  duplex {{mode}}
relay {{relay}}
tunnel control
  key "{{key}}"
`

func ExampleTemplate_Fill() {
	t, _ := Read("pier.tpl", pier)
	text, used, wrong := t.Fill(Source{"the call", map[string]string{"vlan": "7"}},
		Source{"piers.csv, line 2", map[string]string{"site": "hollen", "uplink": "10.61.8.1/24", "vlan": "9", "key": "hush"}})
	fmt.Print(text)
	for _, u := range used {
		fmt.Println(u.Name, u.Value, "from", u.From, u.Over)
	}
	fmt.Println(wrong)
	// Output:
	// box
	//   name hollen-fw1
	// port p1
	//   address 10.61.8.1/24
	//   vlan 7
	//   duplex full
	// tunnel control
	//   key "hush"
	// site hollen from piers.csv, line 2 []
	// uplink 10.61.8.1/24 from piers.csv, line 2 []
	// vlan 7 from the call [piers.csv, line 2]
	// key *** from piers.csv, line 2 []
	// mode full from the template []
	// []
}

// All that is wrong is told at once, and no secret with it.
func TestAllThatIsWrongAtOnce(t *testing.T) {
	tpl, found := Read("pier.tpl", pier)
	require.Empty(t, found)
	text, used, wrong := tpl.Fill(Source{"the call", map[string]string{"vlan": "5000", "uplink": "10.61.8.1", "mode": "some", "key": "hush\nhush", "sitee": "x", "relay": "nowhere"}})
	assert.Empty(t, text)
	assert.Empty(t, used)
	assert.Equal(t, []string{
		"key, from the call: it does not fit",
		`mode, from the call: "some" is none of full, half`,
		`relay, from the call: "nowhere" is no address`,
		"site is missing (name; short name of the pier)",
		"sitee, from the call: the template takes no such value; known and near: site",
		`uplink, from the call: "10.61.8.1" is no address with the length of its network, such as 192.0.2.1/24`,
		"vlan, from the call: 5000 is not from 1 to 4094",
	}, wrong)
}

func TestTemplatesThatAreWrong(t *testing.T) {
	for name, c := range map[string]struct{ text, says string }{
		"no head":       {"box\n", "t:1:1: error: there is no line of three dashes"},
		"other format":  {"format: x/1\n---\n", `format "x/1" is not known`},
		"unknown value": {strings.Replace(pier, "{{site}}", "{{sight}}", 1), `t:13:8: error: no value "sight" is described in the head`},
		"unused":        {strings.Replace(pier, "relay {{relay}}\n", "", 1), "the value relay is described and used nowhere"},
		"type":          {strings.Replace(pier, "type: name", "type: noun", 1), `the value site has the type "noun", which is not known`},
		"default":       {strings.Replace(pier, `default: "4"`, `default: "0"`, 1), "what vlan is by default does not fit: 0 is not from 1 to 4094"},
		"no choice":     {strings.Replace(pier, "of: [full, half], default: full", "default: full", 1), "the choice mode has nothing to choose from"},
		"field":         {strings.Replace(pier, "title:", "tittle:", 1), `a template has no field "tittle"`},
	} {
		_, found := Read("t", c.text)
		require.NotEmpty(t, found, name)
		assert.Contains(t, fmt.Sprint(found), c.says, name)
	}
}

func TestTables(t *testing.T) {
	rows, found := ReadTable("piers.csv", strings.NewReader("device, address,site\n# the north\nfw1,192.0.2.1:22,hollen\nfw2,,\"gull, nes\"\n"), []string{"address"})
	require.Empty(t, found)
	assert.Equal(t, []Row{{"fw1", 3, map[string]string{"address": "192.0.2.1:22"}, map[string]string{"site": "hollen"}}, {"fw2", 4, map[string]string{}, map[string]string{"site": "gull, nes"}}}, rows)
	for text, says := range map[string]string{
		"":                           "there is no line of headings: the file is empty",
		"name\nfw1\n":                "there is no column device",
		"device,a,a\n":               `piers.csv:1:10: error: there are two columns "a"`,
		"device\n":                   "it names no device",
		"device,a\nfw1\n":            "piers.csv:2:1: error: it has 1 columns, and the headings are 2",
		"device,a\nfw1,x\nfw1,y\n":   "device fw1 stands in line 2 already",
		"device,a\nfw1,\"x\nfw2,y\n": "the line cannot be read",
		"device,a\n,x\n":             "it names no device",
	} {
		_, found := ReadTable("piers.csv", strings.NewReader(text), nil)
		require.NotEmpty(t, found, text)
		assert.Contains(t, fmt.Sprint(found), says, text)
	}
}

// Whatever the values are: what comes out is the text with each placeholder replaced once, whatever looks like a placeholder in a value stays as it is.
func TestValuesAreNotReadAgain(t *testing.T) {
	tpl, found := Read("t", "format: verimorph-template/1\nvalues:\n  - {name: a}\n  - {name: b}\n---\n{{a}}|{{b}}|{{a}}")
	require.Empty(t, found)
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringMatching(`[a-z{} .$1\\]{1,12}`)
		a, b := value.Draw(t, "a"), value.Draw(t, "b")
		text, _, wrong := tpl.Fill(Source{"x", map[string]string{"a": a, "b": b}})
		assert.Empty(t, wrong)
		assert.Equal(t, a+"|"+b+"|"+a, text)
	})
}
