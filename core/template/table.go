package template

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"verimorph/core/yamldoc"
)

// A Row is one device of a table.
type Row struct {
	Device string
	Line   int               // of the file, from 1
	About  map[string]string // columns about the device itself
	Values map[string]string // columns that are values of a template
}

// ReadTable reads a table as comma-separated values (RFC 4180) with a line of headings. The column device names the device; the columns in about are about
// it; every other one is a value. Mistakes are told with their places, all of them.
func ReadTable(file string, data io.Reader, about []string) ([]Row, yamldoc.Findings) {
	var found yamldoc.Findings
	fail := func(line, column int, format string, args ...any) {
		found = append(found, yamldoc.Finding{Position: yamldoc.Position{File: file, Line: line, Column: column}, Message: fmt.Sprintf(format, args...)})
	}
	r := csv.NewReader(data)
	r.FieldsPerRecord, r.TrimLeadingSpace, r.Comment = -1, true, '#'
	head, err := r.Read()
	if err != nil {
		fail(1, 1, "there is no line of headings: %s", reason(err))
		return nil, found
	}
	head[0] = strings.TrimPrefix(head[0], "\ufeff")
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
		line, column := r.FieldPos(i)
		switch {
		case head[i] == "":
			fail(line, column, "a column has no heading")
		case slices.Contains(head[:i], head[i]):
			fail(line, column, "there are two columns %q", head[i])
		}
	}
	at := slices.Index(head, "device")
	if at < 0 {
		fail(1, 1, "there is no column device")
	}
	if len(found) > 0 {
		return nil, found
	}
	var rows []Row
	seen := map[string]int{}
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			line, column := 0, 0
			if p := (*csv.ParseError)(nil); errors.As(err, &p) {
				line, column = p.Line, p.Column
			}
			fail(line, column, "the line cannot be read: %s", reason(err))
			break
		}
		line, _ := r.FieldPos(0)
		if len(record) != len(head) {
			fail(line, 1, "it has %d columns, and the headings are %d", len(record), len(head))
			continue
		}
		row := Row{Device: strings.TrimSpace(record[at]), Line: line, About: map[string]string{}, Values: map[string]string{}}
		switch before, twice := seen[row.Device]; {
		case row.Device == "":
			fail(line, 1, "it names no device")
		case twice:
			fail(line, 1, "device %s stands in line %d already", row.Device, before)
		}
		seen[row.Device] = line
		for i, x := range record {
			switch x = strings.TrimSpace(x); {
			case i == at || x == "":
			case slices.Contains(about, head[i]):
				row.About[head[i]] = x
			default:
				row.Values[head[i]] = x
			}
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 && len(found) == 0 {
		fail(1, 1, "it names no device")
	}
	if len(found) > 0 {
		return nil, found
	}
	return rows, nil
}

// reason is what a reader of comma-separated values says, without the place that is told apart.
func reason(err error) string {
	if p := (*csv.ParseError)(nil); errors.As(err, &p) {
		return p.Err.Error()
	}
	if errors.Is(err, io.EOF) {
		return "the file is empty"
	}
	return err.Error()
}
