package report

import (
	"fmt"
	"html/template"
	"io"

	"github.com/johnfercher/maroto/v2/pkg/components/col"
	"github.com/johnfercher/maroto/v2/pkg/components/row"
	"github.com/johnfercher/maroto/v2/pkg/components/text"
	"github.com/johnfercher/maroto/v2/pkg/consts/border"
	"github.com/johnfercher/maroto/v2/pkg/consts/fontstyle"
	"github.com/johnfercher/maroto/v2/pkg/core"
	"github.com/johnfercher/maroto/v2/pkg/props"
)

// A Sheet is what somebody takes along to the rack where a device takes the place of another one: where each cable goes, what hands do in which order, and how
// they undo it. Each task has a box to tick, and a line for the time.
type Sheet struct {
	Title  string
	Facts  [][2]string // name and text
	Old    string      // names of the two devices
	New    string
	Cables []SheetCable
	Hands  []SheetTask
	Back   []SheetTask // the way back, in its order
}

// A SheetCable is a row of the table of cables.
type SheetCable struct {
	From, Label, To string
	Note            string // why it is left out, or that it goes together with another one
}

// A SheetTask is something that hands do.
type SheetTask struct {
	Number int // of the step; 0: it is not part of the plan yet
	Text   string
}

// The grid of a sheet.
const (
	sheetBox  = 4
	sheetTime = 20
	sheetGrid = 100
)

// PDF writes the sheet on paper of A4 size, lying.
func (s *Sheet) PDF(w io.Writer) error {
	m, err := paper(s.Title, sheetGrid)
	if err != nil {
		return err
	}
	head := func(t string, size float64) core.Row {
		return row.New().Add(text.NewCol(sheetGrid, t, props.Text{Size: size, Style: fontstyle.Bold, Top: 3, Bottom: 1}))
	}
	m.AddRows(head(s.Title, 15))
	for _, f := range s.Facts {
		m.AddRows(row.New().Add(text.NewCol(18, f[0], small(soft)), text.NewCol(sheetGrid-18, f[1], small(nil))))
	}
	m.AddRows(head("Cables", 12), s.cable(s.Old, "Label", s.New, "", fontstyle.Bold))
	for _, c := range s.Cables {
		m.AddRows(s.cable(c.From, c.Label, orDash(c.To), c.Note, fontstyle.Normal))
	}
	for _, part := range []struct {
		title string
		tasks []SheetTask
	}{{"In this order", s.Hands}, {"To go back", s.Back}} {
		if len(part.tasks) == 0 {
			continue
		}
		m.AddRows(head(part.title, 12))
		for _, t := range part.tasks {
			m.AddRows(t.row(), row.New(1))
		}
	}
	document, err := m.Generate()
	if err != nil {
		return err
	}
	_, err = w.Write(document.GetBytes())
	return err
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (s *Sheet) cable(from, label, to, note string, style fontstyle.Type) core.Row {
	large := props.Text{Size: 11, Style: style, Bottom: 1}
	return row.New().Add(text.NewCol(16, from, large), text.NewCol(30, label, large), text.NewCol(16, to, large), text.NewCol(sheetGrid-62, note, small(soft)))
}

// row is a task with its box, and a line for the time at which it was done.
func (t SheetTask) row() core.Row {
	box := col.New(sheetBox).WithStyle(&props.Cell{BorderType: border.Full, BorderThickness: 0.4})
	return row.New(8).Add(box, text.NewCol(sheetGrid-sheetBox-sheetTime, t.String(), props.Text{Size: 9, Left: 2}), text.NewCol(sheetTime, "at ________", small(soft)))
}

// String is the task with the number of its step.
func (t SheetTask) String() string {
	if t.Number == 0 {
		return t.Text
	}
	return fmt.Sprintf("Step %d. %s", t.Number, t.Text)
}

var sheetTemplate = template.Must(template.New("sheet").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{.Title}}</title>
<style>
body{font:15px/1.4 system-ui,sans-serif;margin:24px;color:#111}
h1{font-size:21px}h2{font-size:17px;margin:20px 0 6px}
table{border-collapse:collapse}td,th{padding:3px 18px 3px 0;text-align:left;vertical-align:top}
.soft{color:#5a6b78}.task{display:grid;grid-template-columns:22px 1fr 120px;gap:10px;margin:8px 0;break-inside:avoid}
.box{width:18px;height:18px;border:1.5px solid #111}
@media print{body{margin:0}}
</style></head><body>
<h1>{{.Title}}</h1>
<table>{{range .Facts}}<tr><th class="soft">{{index . 0}}</th><td>{{index . 1}}</td></tr>{{end}}</table>
<h2>Cables</h2>
<table><tr><th>{{.Old}}</th><th>Label</th><th>{{.New}}</th><th></th></tr>
{{range .Cables}}<tr><td>{{.From}}</td><td>{{.Label}}</td><td>{{or .To "-"}}</td><td class="soft">{{.Note}}</td></tr>{{end}}</table>
{{define "tasks"}}{{range .}}<div class="task"><span class="box"></span><span>{{.}}</span><span class="soft">at ________</span></div>{{end}}{{end}}
<h2>In this order</h2>{{template "tasks" .Hands}}
{{with .Back}}<h2>To go back</h2>{{template "tasks" .}}{{end}}
</body></html>
`))

// HTML writes the sheet as one page that needs nothing else.
func (s *Sheet) HTML(w io.Writer) error { return sheetTemplate.Execute(w, s) }
