package report

import (
	"html/template"
	"io"
	"strconv"
	"strings"

	"github.com/johnfercher/maroto/v2/pkg/components/col"
	"github.com/johnfercher/maroto/v2/pkg/components/row"
	"github.com/johnfercher/maroto/v2/pkg/components/text"
	"github.com/johnfercher/maroto/v2/pkg/consts/border"
	"github.com/johnfercher/maroto/v2/pkg/consts/fontstyle"
	"github.com/johnfercher/maroto/v2/pkg/core"
	"github.com/johnfercher/maroto/v2/pkg/props"
)

// A Packing is what travels with a prepared unit: a label for the box, to cut off, and what somebody does with the unit who need not know anything of networks.
type Packing struct {
	Site, Device, Serial, Model, Version string
	Parcel                               string      // a number to follow it by; "": none
	Back                                 string      // serial of the unit that comes back; "": not known
	Facts                                [][2]string // name and text
	Cables                               []SheetCable
	Tasks                                []SheetTask
}

// PDF writes the label and the note on paper of A4 size, lying.
func (p *Packing) PDF(w io.Writer) error {
	m, err := paper("Spare "+p.Serial+" for "+p.Device, sheetGrid)
	if err != nil {
		return err
	}
	line := func(t string, size float64, style fontstyle.Type) core.Row {
		return row.New().Add(text.NewCol(sheetGrid, t, props.Text{Size: size, Style: style, Top: 3, Bottom: 1}))
	}
	framed := props.Cell{BorderType: border.Full, BorderThickness: 0.6}
	label := col.New(sheetGrid).WithStyle(&framed).Add(
		text.New(orDash(p.Site), props.Text{Size: 26, Style: fontstyle.Bold, Top: 4, Left: 5}),
		text.New(p.Device, props.Text{Size: 22, Style: fontstyle.Bold, Top: 17, Left: 5}),
		text.New(p.Model+"   serial "+p.Serial+"   release "+p.Version, props.Text{Size: 14, Top: 29, Left: 5}),
		text.New(p.parcel(), props.Text{Size: 11, Top: 37, Left: 5}))
	m.AddRows(row.New(46).Add(label), line("cut here  "+strings.Repeat("- ", 120), 8, fontstyle.Normal))
	m.AddRows(line("What to do with it at "+orDash(p.Site), 15, fontstyle.Bold))
	for _, f := range p.Facts {
		m.AddRows(row.New().Add(text.NewCol(18, f[0], small(soft)), text.NewCol(sheetGrid-18, f[1], small(nil))))
	}
	for _, t := range p.Numbered() {
		m.AddRows(row.New(1), t.row())
	}
	if len(p.Cables) > 0 {
		m.AddRows(line("Cables: each into the port of the same name", 12, fontstyle.Bold))
	}
	for _, c := range p.Cables {
		m.AddRows(row.New().Add(text.NewCol(16, c.From, props.Text{Size: 11, Style: fontstyle.Bold, Bottom: 1}), text.NewCol(sheetGrid-16, c.Label, props.Text{Size: 11, Bottom: 1})))
	}
	document, err := m.Generate()
	if err != nil {
		return err
	}
	_, err = w.Write(document.GetBytes())
	return err
}

// Numbered are the tasks, each with its number in front of it: they are no steps of a change.
func (p *Packing) Numbered() (out []SheetTask) {
	for i, t := range p.Tasks {
		out = append(out, SheetTask{Text: strconv.Itoa(i+1) + ". " + t.Text})
	}
	return out
}

func (p *Packing) parcel() string {
	if p.Parcel == "" {
		return "Parcel ____________________"
	}
	return "Parcel " + p.Parcel
}

var packingTemplate = template.Must(template.New("packing").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Spare {{.Serial}} for {{.Device}}</title>
<style>
body{font:15px/1.4 system-ui,sans-serif;margin:24px;color:#111;max-width:900px}
.label{border:2px solid #111;padding:14px 20px;margin-bottom:6px}.label b{display:block;font-size:30px;line-height:1.2}.label span{font-size:18px}
.cut{border-top:1px dashed #777;color:#5a6b78;font-size:12px;margin-bottom:16px}
h1{font-size:21px}h2{font-size:17px;margin:20px 0 6px}
table{border-collapse:collapse}td,th{padding:3px 18px 3px 0;text-align:left;vertical-align:top}
.soft{color:#5a6b78}.task{display:grid;grid-template-columns:22px 1fr 120px;gap:10px;margin:10px 0;break-inside:avoid}
.box{width:18px;height:18px;border:1.5px solid #111}
@media print{body{margin:0}}
</style></head><body>
<div class="label"><b>{{or .Site "-"}}</b><b>{{.Device}}</b><span>{{.Model}} &nbsp; serial {{.Serial}} &nbsp; release {{.Version}}</span><br>Parcel {{or .Parcel "____________________"}}</div>
<div class="cut">cut here</div>
<h1>What to do with it at {{or .Site "-"}}</h1>
<table>{{range .Facts}}<tr><th class="soft">{{index . 0}}</th><td>{{index . 1}}</td></tr>{{end}}</table>
{{range .Numbered}}<div class="task"><span class="box"></span><span>{{.}}</span><span class="soft">at ________</span></div>{{end}}
{{with .Cables}}<h2>Cables: each into the port of the same name</h2>
<table>{{range .}}<tr><th>{{.From}}</th><td>{{.Label}}</td></tr>{{end}}</table>{{end}}
</body></html>
`))

// HTML writes the label and the note as one page that needs nothing else.
func (p *Packing) HTML(w io.Writer) error { return packingTemplate.Execute(w, p) }
