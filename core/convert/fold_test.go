package convert

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/version"
)

const withPorts = `format: verimorph-schema/1
id: s1
family: toy
releases: ">=1"
syntax: block-indent
ports: {A: [{name: p1..2, speed: 100}], B: [{name: q1, speed: 1000}]}
statements:
  port:
    key: word
    words: [name]
    defines: port
    statements:
      mtu: {type: count, default: 1500}
      storm:
        statements:
          limit: {type: count, default: 10}
          note: text
`

// Two ports become one. Where only one of them says something, the other one means what the device assumes: that is a contradiction like two
// lines that say different things.
func TestPortsThatFoldMeanWhatTheyAssume(t *testing.T) {
	const into = "its port is folded into port q1, "
	for _, c := range []struct {
		what, text, want string
		people           []string
	}{
		{"both assume", "port p1\nport p2\n", "port q1\n", nil},
		{"one writes what the other assumes", "port p1\n  mtu 1500\nport p2\n", "port q1\n  mtu 1500\n", nil},
		{"the other way round", "port p1\nport p2\n  mtu 1500\n", "port q1\n  mtu 1500\n", nil},
		{"the one that stays says more", "port p1\n  mtu 9000\nport p2\n", "port q1\n  mtu 9000\n", []string{"port p2 / mtu: " + into + "which says something else: mtu 9000"}},
		{"the one that goes says more", "port p1\nport p2\n  mtu 9000\n", "port q1\n", []string{"port p2 / mtu: " + into + `which assumes "1500" there`}},
		{"inside a block", "port p1\n  storm\n    note x\nport p2\n  storm\n    limit 20\n", "port q1\n  storm\n    note x\n", []string{"port p2 / storm / limit: " + into + `which assumes "10" there`}},
		{"inside a block that only one has", "port p1\nport p2\n  storm\n    limit 20\n    note x\n", "port q1\n  storm\n    note x\n", []string{"port p2 / storm / limit: " + into + `which assumes "10" there`}},
		{"inside a block that only the other has", "port p1\n  storm\n    limit 20\nport p2\n", "port q1\n  storm\n    limit 20\n", []string{"port p1: " + into + "which says something else: limit 20", "port p2: " + into + "which says something else: limit 20"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			f, found := catalog.ReadFile("toy.yaml", []byte(toy))
			require.Empty(t, found.Errors())
			cat := &catalog.Catalogue{}
			cat.Add(f)
			l, found := Load(cat, []File{{"s1.yaml", []byte(withPorts)}})
			require.Empty(t, found.Errors(), "%s", found.Error())
			d, broken := config.Parse("x", c.text, config.BlockIndent)
			require.Empty(t, broken)
			r, err := l.Convert(Job{From: Stop{"A", version.MustParse("1.0")}, To: Stop{"B", version.MustParse("1.0")},
				Ports: []PortChoice{{Port: "p1", To: "q1", Chosen: true}, {Port: "p2", FoldInto: "q1", Chosen: true}}}, d)
			require.NoError(t, err)
			require.Empty(t, Check(c.text, r.Text, r.S, r.T, r.Ledger))
			assert.Equal(t, c.want, r.Text)
			var people []string
			for _, row := range r.Ledger.Source {
				if row.State == NeedsPerson {
					people = append(people, row.Path+": "+row.Reason)
				}
			}
			for _, row := range r.Ledger.Assumed {
				if row.State == NeedsPerson {
					people = append(people, row.Path+": "+row.Reason)
				}
			}
			assert.Equal(t, c.people, people, strings.Join(people, "\n"))
		})
	}
}
