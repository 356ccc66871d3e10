package report

import (
	"fmt"
	"html/template"
	"io"
	"math"
	"time"

	"github.com/johnfercher/maroto/v2/pkg/components/col"
	"github.com/johnfercher/maroto/v2/pkg/components/row"
	"github.com/johnfercher/maroto/v2/pkg/components/text"
	"github.com/johnfercher/maroto/v2/pkg/consts/fontstyle"
	"github.com/johnfercher/maroto/v2/pkg/core"
	"github.com/johnfercher/maroto/v2/pkg/props"
)

// A Forecast is what a change is expected to do and to whom, along the time, to print and to pin on a wall.
type Forecast struct {
	Title   string
	Facts   [][2]string // name and text
	Seconds float64     // until the last step is over
	Lanes   []Lane
	Clients []Lane
	Steps   []ForecastStep
	Probes  []string // what was measured from outside, in sentences
}

// A Lane is a row of bars along the time. Text stands behind it.
type Lane struct {
	Name, Text string
	Bars       []LaneBar
}

// A LaneBar is a stretch of time in seconds after the start.
type LaneBar struct {
	From, To float64
	Kind     string // "work", "down", "degraded", "outage" or "unknown"
	Text     string
}

// A ForecastStep is a step in the list below the lanes.
type ForecastStep struct {
	Number                int
	Member, Title, Result string
	From, To              float64
}

// barColours tell the kinds of bars apart also in grey; a letter stands on each.
var barColours = map[string]*props.Color{
	"work": {Red: 0, Green: 114, Blue: 178}, "down": {Red: 17, Green: 17, Blue: 17}, "degraded": {Red: 240, Green: 228, Blue: 66}, "outage": {Red: 213, Green: 94}, "unknown": {Red: 204, Green: 121, Blue: 167},
}

var barLetters = map[string]string{"work": "", "down": "", "degraded": "d", "outage": "X", "unknown": "?"}

// barWords says what the bars mean, for the key.
var barWords = [][2]string{{"work", "a step runs"}, {"down", "the device is down"}, {"degraded", "d: less than usual"}, {"outage", "X: an outage"}, {"unknown", "?: not known"}}

// Clock is a time after the start as people read it.
func Clock(seconds float64) string {
	d := time.Duration(math.Round(seconds)) * time.Second
	if d >= time.Hour {
		return fmt.Sprintf("%d:%02d:%02d h", int(d.Hours()), int(d.Minutes())%60, int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d:%02d min", int(d.Minutes()), int(d.Seconds())%60)
}

// The grid of a page: names to the left, the time to the right.
const (
	gridName  = 22
	gridTime  = 90
	gridText  = 28
	gridWidth = gridName + gridTime + gridText
)

// cells are the kinds of bars that a lane shows in each cell of the grid; of several the one that is listed last in the order of barWords.
func (f *Forecast) cells(l *Lane) (out [gridTime]string) {
	rank := map[string]int{}
	for i, w := range barWords {
		rank[w[0]] = i + 1
	}
	for _, b := range l.Bars {
		from, to := f.cell(b.From), f.cell(b.To)
		for i := from; i <= max(from, min(to, gridTime-1)); i++ {
			if rank[b.Kind] > rank[out[i]] {
				out[i] = b.Kind
			}
		}
	}
	return out
}

func (f *Forecast) cell(at float64) int {
	return min(max(int(at/max(f.Seconds, 1)*gridTime), 0), gridTime-1)
}

// PDF writes the forecast on paper of A4 size, lying.
func (f *Forecast) PDF(w io.Writer) error {
	m, err := paper(f.Title, gridWidth)
	if err != nil {
		return err
	}
	head := func(s string, size float64) core.Row {
		return row.New().Add(text.NewCol(gridWidth, s, props.Text{Size: size, Style: fontstyle.Bold, Top: 2, Bottom: 1}))
	}
	m.AddRows(head(f.Title, 14))
	for _, fact := range f.Facts {
		m.AddRows(row.New().Add(text.NewCol(gridName, fact[0], small(soft)), text.NewCol(gridWidth-gridName, fact[1], small(nil))))
	}
	m.AddRows(head("Along the time", 11), f.scale())
	for i := range f.Lanes {
		m.AddRows(f.lane(&f.Lanes[i]), row.New(1))
	}
	m.AddRows(head("What is noticed", 11), f.scale())
	for i := range f.Clients {
		m.AddRows(f.lane(&f.Clients[i]), row.New(1))
	}
	if len(f.Clients) == 0 {
		m.AddRows(row.New().Add(text.NewCol(gridWidth, "Not known: the catalogue says nothing of what clients notice.", small(soft))))
	}
	m.AddRows(key())
	for i := range f.Clients {
		for _, b := range f.Clients[i].Bars {
			m.AddRows(row.New().Add(text.NewCol(gridName, f.Clients[i].Name, small(soft)), text.NewCol(gridWidth-gridName, fmt.Sprintf("%s to %s: %s", Clock(b.From), Clock(b.To), b.Text), small(nil))))
		}
	}
	for _, p := range f.Probes {
		m.AddRows(row.New().Add(text.NewCol(gridName, "Measured from outside", small(soft)), text.NewCol(gridWidth-gridName, p, small(nil))))
	}
	m.AddRows(head("Steps", 11))
	for _, s := range f.Steps {
		m.AddRows(row.New().Add(text.NewCol(6, fmt.Sprint(s.Number), small(soft)), text.NewCol(30, s.Member, small(nil)), text.NewCol(52, s.Title, small(nil)),
			text.NewCol(26, fmt.Sprintf("%s to %s", Clock(s.From), Clock(s.To)), small(soft)), text.NewCol(gridWidth-114, s.Result, small(nil))))
	}
	document, err := m.Generate()
	if err != nil {
		return err
	}
	_, err = w.Write(document.GetBytes())
	return err
}

// scale is the time above the lanes.
func (f *Forecast) scale() core.Row {
	r := row.New(4).Add(col.New(gridName))
	for i := range 6 {
		r.Add(text.NewCol(gridTime/6, Clock(f.Seconds*float64(i)/6), props.Text{Size: 7, Color: soft}))
	}
	return r.Add(text.NewCol(gridText, Clock(f.Seconds), props.Text{Size: 7, Color: soft}))
}

// lane draws a lane: neighbouring cells of one kind become one column.
func (f *Forecast) lane(l *Lane) core.Row {
	r := row.New(5).Add(text.NewCol(gridName, l.Name, props.Text{Size: 8}))
	cells := f.cells(l)
	for i := 0; i < gridTime; {
		n := 1
		for i+n < gridTime && cells[i+n] == cells[i] {
			n++
		}
		c := col.New(n)
		if kind := cells[i]; kind != "" {
			c = text.NewCol(n, barLetters[kind], props.Text{Size: 6, Left: 0.4, Top: 0.8}).WithStyle(&props.Cell{BackgroundColor: barColours[kind]})
		} else {
			c = c.WithStyle(&props.Cell{BackgroundColor: plain})
		}
		r.Add(c)
		i += n
	}
	return r.Add(text.NewCol(gridText, l.Text, props.Text{Size: 7, Left: 1, Color: soft}))
}

// key says what the bars mean.
func key() core.Row {
	r := row.New(6)
	for _, w := range barWords {
		r.Add(col.New(3).WithStyle(&props.Cell{BackgroundColor: barColours[w[0]]}), text.NewCol(gridWidth/len(barWords)-3, w[1], props.Text{Size: 7, Left: 1, Top: 1}))
	}
	return r
}

// forecastTemplate is the page. Bars are placed in per cent of the whole time.
var forecastTemplate = template.Must(template.New("forecast").Funcs(template.FuncMap{
	"clock":  Clock,
	"letter": func(kind string) string { return barLetters[kind] },
	"place": func(b LaneBar, f *Forecast) template.CSS {
		whole := max(f.Seconds, 1)
		return template.CSS(fmt.Sprintf("left:%.3f%%;width:%.3f%%", 100*b.From/whole, max(100*(b.To-b.From)/whole, 0.3)))
	},
	"words": func() [][2]string { return barWords },
	"colour": func(kind string) template.CSS {
		c := barColours[kind]
		return template.CSS(fmt.Sprintf("background:rgb(%d,%d,%d)", c.Red, c.Green, c.Blue))
	},
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{.Title}}</title>
<style>
body{font:13px/1.4 system-ui,sans-serif;margin:24px;color:#111}
h1{font-size:20px}h2{font-size:15px;margin:18px 0 6px}
table{border-collapse:collapse;width:100%}td,th{padding:2px 8px 2px 0;text-align:left;vertical-align:top}
.lane{display:grid;grid-template-columns:160px 1fr 220px;gap:8px;align-items:center;margin:3px 0}
.time{position:relative;height:16px;background:#e8edf0}
.bar{position:absolute;top:0;bottom:0;font-size:10px;overflow:hidden;padding-left:2px;print-color-adjust:exact;-webkit-print-color-adjust:exact}
.soft{color:#5a6b78}.key span{display:inline-block;margin-right:16px}.key i{display:inline-block;width:16px;height:10px;margin-right:4px;print-color-adjust:exact;-webkit-print-color-adjust:exact}
@media print{body{margin:0}}
</style></head><body>
<h1>{{.Title}}</h1>
<table>{{range .Facts}}<tr><th>{{index . 0}}</th><td>{{index . 1}}</td></tr>{{end}}</table>
{{define "lane"}}<div class="lane"><b>{{.L.Name}}</b><div class="time">{{$f := .F}}{{range .L.Bars}}<span class="bar" title="{{.Text}}" style="{{place . $f}};{{colour .Kind}}">{{letter .Kind}}</span>{{end}}</div><span class="soft">{{.L.Text}}</span></div>{{end}}
<h2>Along the time: {{clock .Seconds}}</h2>
{{range .LanesWith}}{{template "lane" .}}{{end}}
<h2>What is noticed</h2>
{{range .ClientsWith}}{{template "lane" .}}{{else}}<p>Not known: the catalogue says nothing of what clients notice.</p>{{end}}
<p class="key">{{range words}}<span><i style="{{colour (index . 0)}}"></i>{{index . 1}}</span>{{end}}</p>
<table>{{range .Clients}}{{$n := .Name}}{{range .Bars}}<tr><td>{{$n}}</td><td>{{clock .From}} to {{clock .To}}</td><td>{{.Text}}</td></tr>{{end}}{{end}}</table>
{{with .Probes}}<h2>Measured from outside</h2>{{range .}}<p>{{.}}</p>{{end}}{{end}}
<h2>Steps</h2>
<table>{{range .Steps}}<tr><td>{{.Number}}</td><td>{{.Member}}</td><td>{{.Title}}</td><td class="soft">{{clock .From}} to {{clock .To}}</td><td>{{.Result}}</td></tr>{{end}}</table>
</body></html>
`))

// laneOf is a lane with the forecast that it belongs to.
type laneOf struct {
	L Lane
	F *Forecast
}

func (f *Forecast) with(lanes []Lane) (out []laneOf) {
	for _, l := range lanes {
		out = append(out, laneOf{l, f})
	}
	return out
}

// LanesWith are the lanes for the page.
func (f *Forecast) LanesWith() []laneOf { return f.with(f.Lanes) }

// ClientsWith are the clients for the page.
func (f *Forecast) ClientsWith() []laneOf { return f.with(f.Clients) }

// HTML writes the forecast as one page that needs nothing else.
func (f *Forecast) HTML(w io.Writer) error { return forecastTemplate.Execute(w, f) }
