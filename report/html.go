package report

import (
	_ "embed"
	"html/template"
	"io"
)

//go:embed page.html
var page string

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"sign":    func(kind string) string { return Marks[kind].Sign },
	"counted": Counted,
	"words":   func(kind string) string { return Marks[kind].Words },
	"pick": func(s Side, i int) half {
		if i < 0 {
			return half{}
		}
		return half{s.Lines[i], i + 1}
	},
}).Parse(page))

// half is one side of a row; N is 0 for none.
type half struct {
	Line
	N int
}

// HTML writes the report as one page that needs nothing else.
func (r *Report) HTML(w io.Writer) error { return pageTemplate.Execute(w, r) }
