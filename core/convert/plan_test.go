package convert

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/config"
)

func TestPlansTakeTheFewestConversions(t *testing.T) {
	l := demo(t)
	for _, c := range []struct{ from, to, want string }{
		{"TH-60@4.2.9", "TH-60@4.2.9", "carried over TH-60@4.2.9>TH-60@4.2.9"},
		{"TH-60@4.2.3", "TH-60@4.2.9", "carried over TH-60@4.2.3>TH-60@4.2.9"},
		{"TH-60@4.2.9", "TH-60@6.0.1", "th-4-5 TH-60@4.2.9>TH-60@5.4.2, th-5-6 TH-60@5.4.2>TH-60@6.0.1"},
		{"TH-60@6.0.1", "TH-60@4.2.9", "th-6-5 TH-60@6.0.1>TH-60@5.4.2, th-5-4 TH-60@5.4.2>TH-60@4.2.9"},
		{"TH-60@4.2.9", "TH-80@5.4.2", "th-4-5 TH-60@4.2.9>TH-60@5.4.2, carried over TH-60@5.4.2>TH-80@5.4.2"},
		{"V1@7.4.7", "V2@7.4.7", "carried over V1@7.4.7>V2@7.4.7"},
		{"V1@7.4.7", "V2@9.0.1", "carried over V1@7.4.7>V2@7.4.7, carried over V2@7.4.7>V2@8.4.2, cr-7-9 V2@8.4.2>V2@9.0.1"},
		{"RC-6@F1.06", "RC-6@F2.12", "pw-same RC-6@F1.06>RC-6@F2.12"},
		{"SG-5@3.8.4", "TD-C@2026-spring-3", "sg-3-4 SG-5@3.8.4>SG-5@4.4.2, sg-4-td-2 SG-5@4.4.2>TD-C@2026-spring-3"},
		{"SG-5@3.4.2", "SG-5@4.4.2", "carried over SG-5@3.4.2>SG-5@3.8.5, sg-3-4 SG-5@3.8.5>SG-5@4.4.2"},
		{"TD-C@2026-spring-3", "SG-5@4.4.2", "none"},
	} {
		stages, err := l.Plan(stop(t, l, c.from), stop(t, l, c.to), false)
		got := "none"
		if c.want == "none" {
			var old *TooOldError
			assert.ErrorAs(t, err, &old)
		} else {
			require.NoError(t, err)
			var parts []string
			for i, s := range stages {
				parts = append(parts, fmt.Sprintf("%s %s>%s", s.name(), s.From, s.To))
				if i > 0 {
					assert.Equal(t, stages[i-1].To.String(), s.From.String(), "stages follow each other")
					assert.Same(t, stages[i-1].T, s.S)
				}
			}
			got = strings.Join(parts, ", ")
		}
		assert.Equal(t, c.want, got)
	}
	_, err := l.Plan(stop(t, l, "AP-31@9.2.3"), stop(t, l, "WC-2@9.2.3"), false)
	assert.ErrorContains(t, err, "no schema describes the configuration of AP-31@9.2.3")
	for _, bad := range []string{"TH-60", "@5", "TH-61@5.0.7", "TH-60@ "} {
		_, err := l.ParseStop(bad)
		assert.Error(t, err, bad)
	}
}

func TestSupportTable(t *testing.T) {
	l := demo(t)
	s, err := l.Support(stop(t, l, "TH-60@4.2.9"), stop(t, l, "TH-80@6.0.1"), false)
	require.NoError(t, err)
	verdict, why := map[string]string{}, map[string]string{}
	for _, sec := range s.Sections {
		verdict[sec.Section] = sec.Verdict
		for _, n := range sec.Notes {
			why[n.Path] = n.Verdict + ": " + n.Why
		}
	}
	assert.Equal(t, map[string]string{"Box": WithChanges, "Ports": WithChanges, "Routes": CarriesOver, "Address sets": CarriesOver, "Translations": CarriesOver, "Tunnels": WithChanges,
		"Policies": CarriesOver, "Reporting": WithChanges, "Modem": NotSupported, "People": CarriesOver}, verdict)
	assert.Equal(t, "not-supported: train 6 no longer speaks to modems", why["modem / number"])
	assert.Contains(t, why["port / speed"], `assumed "100"; the old value is written out`)
	assert.Contains(t, why["port"], "its ports have other names or places")
	// What the table promises, the conversion keeps: nothing of a section that carries over needs a person or is lost.
	r := convert(t, l, "TH-60@4.2.9", "TH-80@6.0.1", demoConfig(t, "control-fw1.cfg"), nil)
	for _, row := range r.Ledger.Source {
		if verdict[row.Section] == CarriesOver {
			assert.Contains(t, []string{Kept, Moved}, row.State, row.Path)
		}
	}
	byHand, err := l.Support(stop(t, l, "TD-C@2026-spring-3"), stop(t, l, "SG-5@4.4.2"), true)
	require.NoError(t, err)
	assert.True(t, byHand.Guessed)
}

// Every port in use gets exactly one place, none twice, and what was chosen stays.
func TestPortProposals(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		port := rapid.Custom(func(t *rapid.T) config.Port {
			return config.Port{Speed: rapid.SampledFrom([]int{10, 100, 1000}).Draw(t, "speed"), Role: rapid.SampledFrom([]string{"", "uplink"}).Draw(t, "role")}
		})
		ports := func(prefix string) []config.Port {
			list := rapid.SliceOfN(port, 0, 6).Draw(t, "ports")
			for i := range list {
				list[i].Name = fmt.Sprint(prefix, i+1)
			}
			return list
		}
		from, to := ports("p"), ports(rapid.SampledFrom([]string{"p", "x"}).Draw(t, "prefix"))
		var used []string
		for _, p := range from {
			used = append(used, p.Name)
		}
		var chosen []PortChoice
		if len(from) > 0 && len(to) > 0 && rapid.Bool().Draw(t, "choose") {
			chosen = []PortChoice{{Port: from[0].Name, To: to[len(to)-1].Name, Chosen: true}}
		}
		got := ProposePorts(used, from, to, chosen)
		if len(got) != len(used) {
			t.Fatalf("%d proposals for %d ports", len(got), len(used))
		}
		taken := map[string]bool{}
		mapped := 0
		for i, c := range got {
			if c.Port != used[i] {
				t.Fatalf("%s where %s was due", c.Port, used[i])
			}
			if c.To == "" {
				continue
			}
			if mapped++; taken[c.To] {
				t.Fatalf("%s is taken twice", c.To)
			}
			taken[c.To] = true
			if c.Sure && (c.To != c.Port || to[0].Name[0] != 'p') {
				t.Fatalf("%+v is not sure", c)
			}
		}
		if mapped != min(len(used), len(to)) {
			t.Fatalf("%d of %d ports are mapped to %d", mapped, len(used), len(to))
		}
		if len(chosen) > 0 && got[0].To != chosen[0].To {
			t.Fatal("a choice was overruled")
		}
		if wrong := CheckPorts(chosen, from, to, Stop{}, Stop{}); len(wrong) > 0 {
			t.Fatal(wrong)
		}
	})
}

func TestPortFiles(t *testing.T) {
	for text, want := range map[string]string{
		"format: verimorph-ports/1\nports:\n  p1: x1\n  p2: {fold-into: x1}\n  p3: {leave-out: not wanted}\n": "",
		"format: verimorph-ports/1\nports:\n  p1: x1\n  p1: x2\n":                                             "x.yaml",
		"format: verimorph-ports/1\nports:\n  p1: {}\n":                                                       `x.yaml:3:7: error: it is not said what becomes of port "p1"`,
		"format: verimorph-ports/1\nports:\n  p1: {fold-into: x1, leave-out: y}\n":                            `it is not said what becomes of port "p1"`,
		"format: verimorph-ports/2\nports: {}\n":                                                              "is not known here",
		"ports: [p1]\n":                                                                                       "ports must be a mapping",
		"":                                                                                                    "the file is empty",
	} {
		got, found := ReadPorts("x.yaml", []byte(text))
		if want == "" {
			assert.Empty(t, found)
			assert.Equal(t, []PortChoice{{Port: "p1", To: "x1", Chosen: true}, {Port: "p2", FoldInto: "x1", Chosen: true}, {Port: "p3", LeaveOut: "not wanted", Chosen: true}}, got)
			continue
		}
		assert.Contains(t, found.Error(), want, "%s", text)
	}
}
