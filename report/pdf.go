package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/johnfercher/maroto/v2"
	"github.com/johnfercher/maroto/v2/pkg/components/col"
	"github.com/johnfercher/maroto/v2/pkg/components/row"
	"github.com/johnfercher/maroto/v2/pkg/components/text"
	"github.com/johnfercher/maroto/v2/pkg/config"
	"github.com/johnfercher/maroto/v2/pkg/consts/align"
	"github.com/johnfercher/maroto/v2/pkg/consts/breakline"
	"github.com/johnfercher/maroto/v2/pkg/consts/fontstyle"
	"github.com/johnfercher/maroto/v2/pkg/consts/orientation"
	"github.com/johnfercher/maroto/v2/pkg/core"
	"github.com/johnfercher/maroto/v2/pkg/core/entity"
	"github.com/johnfercher/maroto/v2/pkg/props"
	"github.com/johnfercher/maroto/v2/pkg/repository"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goitalic"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"
)

// colours of marks, apart for people who see few colours; a sign stands on each.
var colours = map[string]*props.Color{
	"needs-person": {Red: 17, Green: 17, Blue: 17}, "dropped": {Red: 213, Green: 94}, "removed": {Red: 213, Green: 94}, "added": {Green: 114, Blue: 178}, "rule": {Green: 114, Blue: 178},
	"changed": {Red: 230, Green: 159}, "renamed": {Red: 86, Green: 180, Blue: 233}, "moved": {Red: 86, Green: 180, Blue: 233}, "reordered": {Red: 86, Green: 180, Blue: 233},
	"merged": {Red: 204, Green: 121, Blue: 167}, "hand": {Red: 240, Green: 228, Blue: 66},
}

// families of fonts.
const family, mono = "text", "mono"

var (
	white = &props.Color{Red: 255, Green: 255, Blue: 255}
	soft  = &props.Color{Red: 90, Green: 107, Blue: 120}
	plain = &props.Color{Red: 232, Green: 237, Blue: 240}
)

// paper is an empty document of A4 pages that lie, with so many columns.
func paper(title string, columns int) (core.Maroto, error) {
	fonts, err := fonts()
	if err != nil {
		return nil, err
	}
	b := config.NewBuilder().WithCustomFonts(fonts).WithDefaultFont(&props.Font{Family: family})
	b = b.WithOrientation(orientation.Horizontal).WithLeftMargin(10).WithRightMargin(10).WithTopMargin(10)
	b = b.WithPageNumber(props.PageNumber{Pattern: "{current} of {total}", Place: props.RightBottom, Size: 7})
	return maroto.New(b.WithTitle(title, true).WithMaxGridSize(columns).Build()), nil
}

// PDF writes the report on paper of A4 size, lying. Statements that were simply kept are counted, not listed; the texts
// stand side by side at the end, without long runs in which both sides are the same.
func (r *Report) PDF(w io.Writer) error {
	m, err := paper(r.Title, 24)
	if err != nil {
		return err
	}
	m.AddRows(heading(r.Title, 14))
	for _, f := range r.Facts {
		m.AddRows(row.New().Add(text.NewCol(4, f[0], small(soft)), text.NewCol(20, f[1], small(nil))))
	}
	for _, c := range r.Counts {
		m.AddRows(row.New(4.6).Add(sign(c.Kind), text.NewCol(23, Counted(c.Kind, c.N), small(nil))))
	}
	m.AddRows(heading("What needs a person", 11))
	if len(r.Attention) == 0 {
		m.AddRows(row.New().Add(text.NewCol(24, "Nothing.", small(soft))))
	}
	for _, e := range r.Attention {
		m.AddRows(entry(e))
	}
	m.AddRows(heading("By section", 11))
	for _, s := range r.Sections {
		kept := 0
		var shown []core.Row
		for _, e := range s.Entries {
			if e.Kind == "kept" {
				kept++
			} else {
				shown = append(shown, entry(e))
			}
		}
		title := s.Title
		if kept > 0 {
			title += fmt.Sprintf(" (%d kept as they are)", kept)
		}
		m.AddRows(heading(title, 9))
		m.AddRows(shown...)
	}
	rows := r.Rows()
	if len(rows) > 0 {
		m.AddRows(heading("Side by side", 11))
		m.AddRows(row.New().Add(text.NewCol(12, r.Left.Title, small(soft)), text.NewCol(12, r.Right.Title, small(soft))))
	}
	for i := 0; i < len(rows); {
		same := 0
		for i+same < len(rows) && r.same(rows[i+same]) {
			same++
		}
		if same > 2*context+1 {
			for _, pair := range rows[i : i+context] {
				m.AddRows(r.beside(pair))
			}
			m.AddRows(row.New(4).Add(text.NewCol(24, fmt.Sprintf("%d rows that are the same on both sides", same-2*context), props.Text{Size: 7, Style: fontstyle.Italic, Color: soft, Align: align.Center})))
			i += same - context
			same = context
		}
		for _, pair := range rows[i:min(i+max(same, 1), len(rows))] {
			m.AddRows(r.beside(pair))
		}
		i += max(same, 1)
	}
	document, err := m.Generate()
	if err != nil {
		return err
	}
	_, err = w.Write(document.GetBytes())
	return err
}

// fonts are our own: they know all signs, and the built-in ones are slow, since their code page is read for every text.
func fonts() ([]*entity.CustomFont, error) {
	return repository.New().AddUTF8FontFromBytes(family, fontstyle.Normal, goregular.TTF).AddUTF8FontFromBytes(family, fontstyle.Bold, gobold.TTF).
		AddUTF8FontFromBytes(family, fontstyle.Italic, goitalic.TTF).AddUTF8FontFromBytes(mono, fontstyle.Normal, gomono.TTF).Load()
}

// context is how many rows are shown around those that differ.
const context = 3

// same reports whether a row says nothing new: both lines are the same, and nothing but that is said of them.
func (r *Report) same(p Row) bool {
	if p.Left < 0 || p.Right < 0 {
		return false
	}
	a, b := r.Left.Lines[p.Left], r.Right.Lines[p.Right]
	plain := func(kind string) bool { return kind == "" || kind == "kept" || kind == "cosmetic" }
	return a.Text == b.Text && plain(a.Kind) && plain(b.Kind)
}

func (r *Report) beside(p Row) core.Row {
	return row.New(3.4).Add(append(lineOf(r.Left, p.Left), lineOf(r.Right, p.Right)...)...)
}

func heading(s string, size float64) core.Row {
	return row.New().Add(text.NewCol(24, s, props.Text{Size: size, Style: fontstyle.Bold, Top: 2, Bottom: 1}))
}

func small(c *props.Color) props.Text {
	return props.Text{Size: 8, Left: 1, Color: c, Bottom: 0.6, BreakLineStrategy: breakline.DashStrategy}
}

// words is small text that breaks between words, unless one of them is too long for a line.
func words(s string, c *props.Color) props.Text {
	t := small(c)
	t.BreakLineStrategy = breaking(s, 38)
	return t
}

func breaking(s string, most int) breakline.Strategy {
	for _, w := range strings.Fields(s) {
		if len(w) > most {
			return breakline.DashStrategy
		}
	}
	return breakline.EmptySpaceStrategy
}

func code(s string) props.Text {
	strategy := breaking(s, 24)
	return props.Text{Size: 7, Family: mono, Bottom: 0.6, BreakLineStrategy: strategy}
}

// sign is a cell with the mark of a kind.
func sign(kind string) core.Col {
	if kind == "" {
		return col.New(1)
	}
	back, ink := colours[kind], white
	if back == nil {
		back, ink = plain, nil
	}
	if kind == "changed" || kind == "hand" || kind == "moved" || kind == "renamed" || kind == "reordered" || kind == "merged" {
		ink = nil
	}
	return text.NewCol(1, Marks[kind].Sign, props.Text{Size: 8, Style: fontstyle.Bold, Align: align.Center, Color: ink}).WithStyle(&props.Cell{BackgroundColor: back})
}

func entry(e Entry) core.Row {
	what := Marks[e.Kind].Words
	if e.Guarded {
		what += ", guarded"
	}
	where := e.Path
	if e.OldLine > 0 {
		where += fmt.Sprintf(", line %d", e.OldLine)
	}
	if e.NewLine > 0 {
		where += fmt.Sprintf(", now %d", e.NewLine)
	}
	return row.New().Add(sign(e.Kind), text.NewCol(3, what, small(nil)), text.NewCol(6, where, words(where, nil)), text.NewCol(4, e.Old, code(e.Old)), text.NewCol(4, e.New, code(e.New)), text.NewCol(6, e.Note, words(e.Note, soft)))
}

func lineOf(s Side, i int) []core.Col {
	if i < 0 {
		return []core.Col{col.New(12)}
	}
	l := s.Lines[i]
	body := l.Text
	if len([]rune(body)) > 72 {
		body = string([]rune(body)[:71]) + "…"
	}
	return []core.Col{text.NewCol(1, fmt.Sprint(i+1), props.Text{Size: 6, Color: soft, Align: align.Right}), sign(l.Kind), text.NewCol(10, body, props.Text{Size: 6.5, Family: mono})}
}
