package device

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// Layouts: answers that are tables, pairs or blocks, or that a device prints as JSON, XML or CSV. A layout accounts for every line, so that what it
// does not know is found.

// A Layout says how an answer is laid out, and where each group of a table, or each field, stands in it.
type Layout struct {
	By        string             `yaml:"by" json:"by"`                         // columns, pairs, blocks, csv, json or xml
	Columns   map[string]string  `yaml:"columns" json:"columns,omitempty"`     // by group: the heading, the key, or the path of names with dots
	Separator string             `yaml:"separator" json:"separator,omitempty"` // between key and value, ":" when left out; between values of csv, "," when left out
	Begin     Pattern            `yaml:"begin" json:"begin"`                   // of blocks: the first line of each; its named groups are groups of the row
	End       Pattern            `yaml:"end" json:"end"`                       // from this line on nothing counts
	Path      string             `yaml:"path" json:"path,omitempty"`           // of json and xml: the names that lead to the rows, with dots
	Only      map[string]Pattern `yaml:"only" json:"only,omitempty"`           // rows whose group fits; others are left out
}

// Ways of laying an answer out.
const (
	ByColumns = "columns"
	ByPairs   = "pairs"
	ByBlocks  = "blocks"
	ByCSV     = "csv"
	ByJSON    = "json"
	ByXML     = "xml"
)

// Layouts are the ways of laying an answer out.
var Layouts = []string{ByColumns, ByPairs, ByBlocks, ByCSV, ByJSON, ByXML}

// Check reports what is wrong with a layout.
func (l *Layout) Check() error {
	switch {
	case !slices.Contains(Layouts, l.By):
		return fmt.Errorf("by %q is none of %s", l.By, strings.Join(Layouts, ", "))
	case len(l.Columns) == 0:
		return errors.New("columns are missing: where each group stands")
	case (l.By == ByBlocks) != (l.Begin.Regexp != nil):
		return errors.New("begin goes with blocks")
	case l.Path != "" && l.By != ByJSON && l.By != ByXML:
		return errors.New("path goes with json and xml")
	}
	return nil
}

// Read takes the rows out of an answer. unread is what of it is not understood; "" when all is. Lines for which skip is true say nothing.
func (l *Layout) Read(text string, skip func(line string) bool) (rows []map[string]string, unread string) {
	var lines []string
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if l.End.Regexp != nil && l.End.MatchString(line) {
			break
		}
		if strings.TrimSpace(line) != "" && !skip(line) {
			lines = append(lines, line)
		}
	}
	switch l.By {
	case ByColumns:
		rows, unread = l.columns(lines)
	case ByPairs:
		var row map[string]string
		if row, unread = l.pairs(lines, map[string]string{}); row != nil {
			rows = append(rows, row)
		}
	case ByBlocks:
		rows, unread = l.blocks(lines)
	case ByCSV:
		rows, unread = l.csv(lines)
	case ByJSON:
		rows, unread = l.json(strings.Join(lines, "\n"))
	case ByXML:
		rows, unread = l.xml(strings.Join(lines, "\n"))
	}
	return slices.DeleteFunc(rows, l.leftOut), unread
}

func (l *Layout) leftOut(row map[string]string) bool {
	for group, p := range l.Only {
		if !p.MatchString(row[group]) {
			return true
		}
	}
	return false
}

func notUnderstood(line string) string { return fmt.Sprintf("the line %.120q is not understood", line) }

// A heading is where a column stands in the line of headings, in characters.
type heading struct {
	group      string
	begin, end int
}

// columns reads a table by its headings. Values may be wider than their heading as long as there is a blank before the next heading begins: a value that
// reaches into the next column is not guessed at. A line whose first column is empty goes on with the row before.
func (l *Layout) columns(lines []string) (rows []map[string]string, unread string) {
	var heads []heading
	for len(lines) > 0 && heads == nil {
		heads = l.headings(lines[0])
		if lines = lines[1:]; heads == nil && len(lines) == 0 {
			return nil, "the headings " + strings.Join(slices.Sorted(maps.Values(l.Columns)), ", ") + " are not there"
		}
	}
	if heads == nil {
		return nil, "the answer is empty"
	}
	for _, line := range lines {
		cells, ok := cut(line, heads)
		switch {
		case !ok:
			return rows, notUnderstood(line)
		case strings.Trim(line, "-=+| ") == "": // a rule between headings and rows
		case cells[0] == "" && len(rows) > 0:
			for i, h := range heads {
				if row := rows[len(rows)-1]; cells[i] != "" && h.group != "" {
					row[h.group] = strings.TrimSpace(row[h.group] + " " + cells[i])
				}
			}
		default:
			row := map[string]string{}
			for i, h := range heads {
				if h.group != "" {
					row[h.group] = cells[i]
				}
			}
			rows = append(rows, row)
		}
	}
	return rows, ""
}

// headings finds where the columns stand, those that nobody reads as well; nil when a heading is missing. Headings are apart by two blanks or more, or are one word.
func (l *Layout) headings(line string) (out []heading) {
	groups := map[string]string{}
	for group, head := range l.Columns {
		groups[head] = group
	}
	taken := line
	for _, head := range slices.SortedFunc(maps.Keys(groups), func(a, b string) int { return len(b) - len(a) }) { // the longest first: one may be part of another
		i := wordIndex(taken, head)
		if i < 0 {
			return nil
		}
		begin := utf8.RuneCountInString(taken[:i])
		out = append(out, heading{groups[head], begin, begin + utf8.RuneCountInString(head)})
		taken = taken[:i] + strings.Repeat(" ", utf8.RuneCountInString(head)) + taken[i+len(head):]
	}
	runes := []rune(taken)
	for i := 0; i < len(runes); i++ { // what is left are the other headings
		if runes[i] == ' ' || runes[i] == '\t' {
			continue
		}
		begin := i
		for i < len(runes) && !(runes[i] == ' ' && (i+1 == len(runes) || runes[i+1] == ' ')) {
			i++
		}
		out = append(out, heading{"", begin, i})
	}
	sort.Slice(out, func(i, k int) bool { return out[i].begin < out[k].begin })
	return out
}

// wordIndex finds a heading that is not a part of a longer word.
func wordIndex(line, word string) int {
	for from := 0; ; {
		i := strings.Index(line[from:], word)
		if i < 0 {
			return -1
		}
		i += from
		before, after := i == 0 || line[i-1] == ' ', i+len(word) == len(line) || line[i+len(word)] == ' '
		if before && after {
			return i
		}
		from = i + len(word)
	}
}

// cut takes a line apart between the columns: at the last blank between the end of one heading and the begin of the next, since a value may have blanks inside.
func cut(line string, heads []heading) (cells []string, ok bool) {
	runes := []rune(line)
	from := 0
	for i := range heads {
		if i == len(heads)-1 {
			return append(cells, strings.TrimSpace(string(runes[min(from, len(runes)):]))), true
		}
		at := -1
		for k := min(heads[i+1].begin, len(runes)); k >= min(heads[i].end, len(runes)) && at < 0; k-- {
			if k >= len(runes) || k == heads[i+1].begin && k > 0 && runes[k-1] == ' ' || k < heads[i+1].begin && runes[k] == ' ' {
				at = k
			}
		}
		if at < 0 {
			return nil, false
		}
		cells = append(cells, strings.TrimSpace(string(runes[min(from, len(runes)):min(at, len(runes))])))
		from = at
	}
	return cells, true
}

// pairs reads lines of key and value into a row; nil when no key is known. A line that is indented and has no separator goes on with the value before.
func (l *Layout) pairs(lines []string, row map[string]string) (map[string]string, string) {
	separator := l.Separator
	if separator == "" {
		separator = ":"
	}
	last, some := "", len(row) > 0
	for _, line := range lines {
		key, value, found := strings.Cut(line, separator)
		if !found {
			if !strings.HasPrefix(line, " ") && !strings.HasPrefix(line, "\t") || !some && last == "" {
				return row, notUnderstood(line)
			}
			if last != "" {
				row[last] += " " + strings.TrimSpace(line)
			}
			continue
		}
		last = ""
		for group, name := range l.Columns {
			if strings.EqualFold(strings.TrimSpace(key), name) {
				if old, there := row[group]; there && old != strings.TrimSpace(value) {
					return row, fmt.Sprintf("%s is there twice: %.120q", name, line)
				}
				row[group], last = strings.TrimSpace(value), group
			}
		}
		some = true
	}
	if !some {
		return nil, "the answer is empty"
	}
	return row, ""
}

// blocks reads one row a block, which begins with a line of its own and goes on with pairs.
func (l *Layout) blocks(lines []string) (rows []map[string]string, unread string) {
	for len(lines) > 0 {
		m := l.Begin.FindStringSubmatch(lines[0])
		if m == nil {
			return rows, notUnderstood(lines[0])
		}
		end := 1
		for end < len(lines) && !l.Begin.MatchString(lines[end]) {
			end++
		}
		row := Named(l.Begin, m)
		row[""] = "" // the block is there, also when it holds nothing
		if _, unread = l.pairs(lines[1:end], row); unread != "" {
			return rows, unread
		}
		delete(row, "")
		rows, lines = append(rows, row), lines[end:]
	}
	return rows, ""
}

// csv reads values with separators behind a line of headings (RFC 4180).
func (l *Layout) csv(lines []string) (rows []map[string]string, unread string) {
	r := csv.NewReader(strings.NewReader(strings.Join(lines, "\n")))
	r.TrimLeadingSpace = true
	if l.Separator != "" {
		r.Comma, _ = utf8.DecodeRuneInString(l.Separator)
	}
	all, err := r.ReadAll()
	if err != nil || len(all) == 0 {
		return nil, fmt.Sprintf("it is not CSV with a line of headings: %v", err)
	}
	at := map[string]int{}
	for group, name := range l.Columns {
		i := slices.Index(all[0], name)
		if i < 0 {
			return nil, fmt.Sprintf("there is no column %q", name)
		}
		at[group] = i
	}
	for _, values := range all[1:] {
		row := map[string]string{}
		for group, i := range at {
			row[group] = strings.TrimSpace(values[i])
		}
		rows = append(rows, row)
	}
	return rows, ""
}

// json reads rows out of a JSON text (RFC 8259).
func (l *Layout) json(text string) (rows []map[string]string, unread string) {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, fmt.Sprintf("it is not JSON: %s", err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, "something stands behind the JSON"
	}
	return l.rowsIn(v)
}

// rowsIn are the rows at the path of a tree of maps and lists.
func (l *Layout) rowsIn(v any) (rows []map[string]string, unread string) {
	found, ok := along(v, l.Path)
	if !ok && l.holdsNone(v) {
		return nil, ""
	}
	if !ok {
		return nil, fmt.Sprintf("there is nothing at %q", l.Path)
	}
	list, isList := found.([]any)
	if !isList {
		list = []any{found}
	}
	for _, item := range list {
		row := map[string]string{}
		for group, path := range l.Columns {
			if x, ok := along(item, path); ok && x != nil {
				if m, ok := x.(map[string]any); ok && m[ownText] != nil {
					x = m[ownText]
				}
				switch x.(type) {
				case map[string]any, []any:
					return rows, fmt.Sprintf("what stands at %q is no single value", path)
				}
				row[group] = strings.TrimSpace(fmt.Sprint(x))
			}
		}
		rows = append(rows, row)
	}
	return rows, ""
}

// holdsNone reports whether what should hold the rows is there and holds nothing: a list without entries is not written at all (RFC 7950 section 7.8.5).
func (l *Layout) holdsNone(v any) bool {
	i := strings.LastIndex(l.Path, ".")
	if i < 0 {
		return false
	}
	found, ok := along(v, l.Path[:i])
	switch x := found.(type) {
	case nil:
		return ok
	case string:
		return strings.TrimSpace(x) == ""
	case map[string]any:
		return len(x) == 0
	}
	return false
}

// along follows names with dots. Of a list it takes the value in each item.
func along(v any, path string) (any, bool) {
	if path == "" {
		return v, true
	}
	name, rest, _ := strings.Cut(path, ".")
	switch x := v.(type) {
	case map[string]any:
		next, ok := x[name]
		if !ok {
			return nil, false
		}
		return along(next, rest)
	case []any:
		var all []any
		for _, item := range x {
			got, ok := along(item, path)
			if !ok {
				return nil, false
			}
			if list, isList := got.([]any); isList {
				all = append(all, list...)
			} else {
				all = append(all, got)
			}
		}
		return all, true
	}
	return nil, false
}

// maxXMLDepth bounds how deep elements may stand inside each other.
const maxXMLDepth = 100

// xml reads rows out of an XML document. Elements of one name beside each other are a list; an attribute x is "@x". A document type is refused.
func (l *Layout) xml(text string) (rows []map[string]string, unread string) {
	d := xml.NewDecoder(strings.NewReader(text))
	for {
		token, err := d.Token()
		if err != nil {
			return nil, fmt.Sprintf("it is not XML: %s", err)
		}
		switch t := token.(type) {
		case xml.Directive:
			return nil, "a document type is not read"
		case xml.StartElement:
			v, err := element(d, t, 1)
			if err != nil {
				return nil, fmt.Sprintf("it is not XML: %s", err)
			}
			return l.rowsIn(map[string]any{t.Name.Local: v})
		}
	}
}

// ownText is the text of an element that has attributes as well.
const ownText = "#text"

// element reads an element: a text, or what stands inside it by name.
func element(d *xml.Decoder, start xml.StartElement, depth int) (any, error) {
	if depth > maxXMLDepth {
		return nil, fmt.Errorf("elements are more than %d deep", maxXMLDepth)
	}
	inside := map[string]any{}
	for _, a := range start.Attr {
		if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" { // what a prefix stands for is no content
			inside["@"+a.Name.Local] = a.Value
		}
	}
	var text strings.Builder
	for {
		token, err := d.Token()
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.CharData:
			text.Write(t)
		case xml.Directive:
			return nil, errors.New("a document type is not read")
		case xml.StartElement:
			v, err := element(d, t, depth+1)
			if err != nil {
				return nil, err
			}
			name := t.Name.Local
			switch before := inside[name].(type) {
			case nil:
				inside[name] = v
			case []any:
				inside[name] = append(before, v)
			default:
				inside[name] = []any{before, v}
			}
		case xml.EndElement:
			said := strings.TrimSpace(text.String())
			if len(inside) == 0 {
				return said, nil
			}
			if said != "" {
				inside[ownText] = said
			}
			return inside, nil
		}
	}
}
