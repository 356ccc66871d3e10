package device

import (
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"
)

// Whatever a device prints, a layout ends with rows or with what it does not understand, and never makes more rows than there are lines, elements or items.
func FuzzLayouts(f *testing.F) {
	f.Add("name   size  state\n-----  ----  -----\na.img  1,024 ok\n             fine\n")
	f.Add("name: a\nsize: 4\nport 1\n  state: up\nport 2\n  state: down\n")
	f.Add("name,size,state\n\"a, b\",4,ok\n")
	f.Add(`{"files": [{"name": "a", "size": 4}, {"name": "b"}]}`)
	f.Add(`<r xmlns="urn:x"><files x="1"><name>a</name><size u="k">4</size></files><files><name>b</name></files></r>`)
	begin := Pattern{regexp.MustCompile(`^port (?P<port>\d+)$`)}
	layouts := []Layout{
		{By: ByColumns, Columns: map[string]string{"name": "name", "size": "size", "state": "state"}}, {By: ByPairs, Columns: map[string]string{"name": "name", "size": "size"}},
		{By: ByBlocks, Columns: map[string]string{"state": "state"}, Begin: begin}, {By: ByCSV, Columns: map[string]string{"name": "name", "size": "size"}},
		{By: ByJSON, Path: "files", Columns: map[string]string{"name": "name", "size": "size"}}, {By: ByXML, Path: "r.files", Columns: map[string]string{"name": "name", "size": "size", "x": "@x"}},
	}
	f.Fuzz(func(t *testing.T, text string) {
		most := strings.Count(text, "\n") + strings.Count(text, "<") + strings.Count(text, ",") + 2
		for i := range layouts {
			l := &layouts[i]
			rows, unread := l.Read(text, func(string) bool { return false })
			if len(rows) > most {
				t.Fatalf("%s: %d rows", l.By, len(rows))
			}
			if utf8.ValidString(text) && (l.By == ByColumns || l.By == ByPairs || l.By == ByBlocks) { // what they find stands in the answer as it is
				for _, row := range rows {
					for group, v := range row {
						for _, word := range strings.Fields(v) {
							if !strings.Contains(text, word) {
								t.Fatalf("%s: %s is %q, which is not there", l.By, group, v)
							}
						}
					}
				}
			}
			if strings.ContainsRune(unread, 0) {
				t.Fatalf("%s: %q", l.By, unread)
			}
		}
	})
}
