package device

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func pattern(text string) Pattern { return Pattern{Regexp: regexp.MustCompile(text)} }

func TestLayouts(t *testing.T) {
	slots := map[string]string{"slot": "Slot", "version": "Version", "state": "State"}
	for name, c := range map[string]struct {
		l      Layout
		text   string
		want   string // rows as slot/version/state
		unread string
	}{
		"columns":             {Layout{By: ByColumns, Columns: slots}, "Slot  Version  State\n----  -------  -----\na     5.0.7    running, good\nb     5.4.2    good\n", "a/5.0.7/running, good b/5.4.2/good", ""},
		"a wide value":        {Layout{By: ByColumns, Columns: slots}, "Slot  Version  State\nslotA 5.0.7-p1 good\n", "slotA/5.0.7-p1/good", ""},
		"one too wide":        {Layout{By: ByColumns, Columns: slots}, "Slot  Version  State\nslot-a 5.0.7   good\n", "", `the line "slot-a 5.0.7   good" is not understood`},
		"right-aligned":       {Layout{By: ByColumns, Columns: slots}, "Slot   Version  State\n   a     5.0.7  good\n", "a/5.0.7/good", ""},
		"others beside":       {Layout{By: ByColumns, Columns: slots}, "No  Slot  Made by  Version  State\n1   a     R and D  5.0.7    good\n", "a/5.0.7/good", ""},
		"continued":           {Layout{By: ByColumns, Columns: slots}, "Slot  Version  State\na     5.0.7    running,\n               good\n", "a/5.0.7/running, good", ""},
		"no room between":     {Layout{By: ByColumns, Columns: slots}, "Slot  Version  State\na     5.0.7-with-a-long-name good\n", "", `the line "a     5.0.7-with-a-long-name good" is not understood`},
		"no headings":         {Layout{By: ByColumns, Columns: slots}, "a 5.0.7 good\n", "", "the headings Slot, State, Version are not there"},
		"nothing":             {Layout{By: ByColumns, Columns: slots}, "\n", "", "the answer is empty"},
		"headings and none":   {Layout{By: ByColumns, Columns: slots}, "Slot  Version  State\n", "", ""},
		"until the end":       {Layout{By: ByColumns, Columns: slots, End: pattern("^Total")}, "Slot  Version  State\na     5.0.7    good\nTotal: 1 of 2\n???\n", "a/5.0.7/good", ""},
		"only some":           {Layout{By: ByColumns, Columns: slots, Only: map[string]Pattern{"slot": pattern("^b$")}}, "Slot  Version  State\na     5.0.7    good\nb     5.4.2    good\n", "b/5.4.2/good", ""},
		"pairs":               {Layout{By: ByPairs, Columns: map[string]string{"slot": "Boot area", "version": "release"}}, "Boot area: a\nColour: blue\nRelease: 5.0.7\n", "a/5.0.7/", ""},
		"pairs, wrapped":      {Layout{By: ByPairs, Columns: map[string]string{"state": "State"}}, "State: running,\n   good\nAge: 7\n   years\n", "//running, good", ""},
		"pairs, equal signs":  {Layout{By: ByPairs, Separator: "=", Columns: map[string]string{"slot": "area"}}, "area = a=b\n", "a=b//", ""},
		"pairs, strange":      {Layout{By: ByPairs, Columns: slots}, "Slot: a\nwhatever\n", "a//", `the line "whatever" is not understood`},
		"pairs, twice":        {Layout{By: ByPairs, Columns: slots}, "Slot: a\nSlot: a\nSlot: b\n", "a//", `Slot is there twice: "Slot: b"`},
		"blocks":              {Layout{By: ByBlocks, Begin: pattern(`^Area (?P<slot>\w)$`), Columns: map[string]string{"version": "Holds", "state": "Is"}}, "Area a\n  Holds: 5.0.7\n  Is: good\nArea b\nArea c\n  Is: empty\n", "a/5.0.7/good b// c//empty", ""},
		"blocks, strange":     {Layout{By: ByBlocks, Begin: pattern(`^Area (?P<slot>\w)$`), Columns: slots}, "Areas\nArea a\n", "", `the line "Areas" is not understood`},
		"csv":                 {Layout{By: ByCSV, Columns: slots}, "Slot,Size,Version,State\na,7,5.0.7,\"running, good\"\n", "a/5.0.7/running, good", ""},
		"csv, semicolons":     {Layout{By: ByCSV, Separator: ";", Columns: slots}, "Slot;Version;State\na;5.0.7;good\n", "a/5.0.7/good", ""},
		"csv, cut":            {Layout{By: ByCSV, Columns: slots}, "Slot,Version,State\na,5.0.7\n", "", "it is not CSV"},
		"csv, no column":      {Layout{By: ByCSV, Columns: slots}, "Slot,State\na,b\n", "", `there is no column "Version"`},
		"json":                {Layout{By: ByJSON, Path: "box.areas", Columns: map[string]string{"slot": "name", "version": "holds.release"}}, `{"box": {"areas": [{"name": "a", "holds": {"release": "5.0.7"}}, {"name": 7, "holds": {"release": null}}]}}`, "a/5.0.7/ 7//", ""},
		"json, one":           {Layout{By: ByJSON, Columns: map[string]string{"slot": "name"}}, `{"name": "a"}`, "a//", ""},
		"json, an empty list": {Layout{By: ByJSON, Path: "areas.area", Columns: slots}, `{"areas": {}}`, "", ""},
		"xml, an empty list":  {Layout{By: ByXML, Path: "areas.area", Columns: slots}, `<areas/>`, "", ""},
		"xml, another list":   {Layout{By: ByXML, Path: "areas.area", Columns: slots}, `<areas><aera/></areas>`, "", `there is nothing at "areas.area"`},
		"json, no path":       {Layout{By: ByJSON, Path: "areas", Columns: slots}, `{"name": "a"}`, "", `there is nothing at "areas"`},
		"json, a list":        {Layout{By: ByJSON, Columns: map[string]string{"slot": "name"}}, `{"name": ["a", "b"]}`, "", `what stands at "name" is no single value`},
		"json, cut":           {Layout{By: ByJSON, Columns: slots}, `{"name": "a"`, "", "it is not JSON"},
		"json and more":       {Layout{By: ByJSON, Columns: slots}, `{} {}`, "", "something stands behind the JSON"},
		"xml":                 {Layout{By: ByXML, Path: "box.areas.area", Columns: map[string]string{"slot": "@name", "version": "release"}}, `<box><areas><area name="a"><release>5.0.7</release></area><area name="b"/></areas></box>`, "a/5.0.7/ b//", ""},
		"xml, cut":            {Layout{By: ByXML, Path: "box", Columns: slots}, `<box><areas>`, "", "it is not XML"},
		"xml, a bomb":         {Layout{By: ByXML, Path: "box", Columns: slots}, `<!DOCTYPE box [<!ENTITY a "aaaa">]><box>&a;</box>`, "", "a document type is not read"},
		"xml, a shaft":        {Layout{By: ByXML, Path: "a", Columns: slots}, strings.Repeat("<a>", 5000), "", "more than 100 deep"},
	} {
		rows, unread := c.l.Read(c.text, func(line string) bool { return line == "ok" })
		var got []string
		for _, r := range rows {
			got = append(got, r["slot"]+"/"+r["version"]+"/"+r["state"])
		}
		assert.Equal(t, c.want, strings.Join(got, " "), name)
		if c.unread == "" {
			assert.Empty(t, unread, name)
		} else {
			assert.Contains(t, unread, c.unread, name)
		}
	}
}

// Whatever is printed in columns, with two blanks between them, is read back.
func TestColumnsComeBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		heads := []string{"Slot", "Version", "State"}
		cell := rapid.StringMatching(`[a-z0-9.]{1,12}`)
		var table [][]string
		for range rapid.IntRange(1, 6).Draw(t, "rows") {
			table = append(table, []string{cell.Draw(t, "slot"), cell.Draw(t, "version"), cell.Draw(t, "state")})
		}
		width := make([]int, 3)
		for _, row := range append([][]string{heads}, table...) {
			for i, c := range row {
				width[i] = max(width[i], len(c))
			}
		}
		right := rapid.Bool().Draw(t, "right-aligned")
		var text strings.Builder
		for _, row := range append([][]string{heads}, table...) {
			for i, c := range row {
				pad := strings.Repeat(" ", width[i]-len(c))
				if right {
					text.WriteString(pad + c + "  ")
				} else {
					text.WriteString(c + pad + "  ")
				}
			}
			text.WriteByte('\n')
		}
		l := Layout{By: ByColumns, Columns: map[string]string{"slot": "Slot", "version": "Version", "state": "State"}}
		rows, unread := l.Read(text.String(), func(string) bool { return false })
		assert.Empty(t, unread, text.String())
		var got [][]string
		for _, r := range rows {
			got = append(got, []string{r["slot"], r["version"], r["state"]})
		}
		assert.Equal(t, table, got, text.String())
	})
}
