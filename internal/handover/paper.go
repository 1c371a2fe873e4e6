package handover

import (
	"fmt"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"

	"redstart/internal/core/value"
)

// Measures of a page of A4 (ISO 216), in millimetres.
const (
	pageWidth  = 210.0
	pageHeight = 297.0
	margin     = 18.0
	inner      = pageWidth - 2*margin
	foot       = 16.0
	line       = 4.2 // of usual text
	small      = 3.2 // of tables
	tableText  = 7   // points
)

// paper is a document of pages with a foot, bookmarks and tables that break over pages.
type paper struct {
	*fpdf.Fpdf
	r Record
}

func newPaper(r Record, title string) *paper {
	p := &paper{fpdf.New("P", "mm", "A4", ""), r}
	p.AddUTF8FontFromBytes("go", "", goregular.TTF)
	p.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(false, foot)
	p.SetCreationDate(r.At)
	p.SetModificationDate(r.At)
	p.SetCatalogSort(true)
	r.Site.Name, r.Site.Contact, r.Site.Notes = drawn(r.Site.Name), drawn(r.Site.Contact), drawn(r.Site.Notes)
	p.r = r
	p.SetTitle(r.Site.Name+", "+title, true)
	p.SetCreator("Redstart", true)
	p.AliasNbPages("{pages}")
	p.SetFooterFunc(func() {
		p.font("", 8)
		p.SetXY(margin, pageHeight-foot+4)
		p.CellFormat(inner*0.8, 5, p.cut(r.Site.Name+", "+title+", "+r.stamp(), inner*0.8), "", 0, "L", false, 0, "")
		p.CellFormat(inner*0.2, 5, fmt.Sprintf("%d / {pages}", p.PageNo()), "", 0, "R", false, 0, "")
	})
	p.AddPage()
	return p
}

// Drawable reports whether a text is drawn as it is, letter by letter.
func Drawable(text string) bool { return drawn(text) == text }

// drawn is a text as it can be drawn: on one line, without signs beyond the font's plane.
func drawn(text string) string {
	return strings.Map(func(r rune) rune {
		if r > 0xffff {
			return '?'
		}
		return r
	}, value.Printable(text))
}

// stamp says of which moment a document is.
func (r Record) stamp() string { return r.At.UTC().Format("2006-01-02 15:04 UTC") }

func (p *paper) font(style string, points float64) { p.SetFont("go", style, points) }

// room begins a new page where less than so much is left.
func (p *paper) room(height float64) {
	if p.GetY()+height > pageHeight-foot-margin/3 {
		p.AddPage()
	}
}

// heading writes a heading of a level from 0, with a bookmark.
func (p *paper) heading(level int, text string) {
	text = drawn(text)
	points := [...]float64{18, 13, 10.5}[level]
	p.room(30)
	if p.GetY() > margin+1 {
		p.Ln(3)
	}
	p.Bookmark(text, level, -1)
	p.font("B", points)
	p.MultiCell(inner, points*0.5, text, "", "L", false)
	p.Ln(1.5)
}

func (p *paper) say(text string) {
	p.font("", 9.5)
	for _, l := range p.SplitText(drawn(text), inner-2) {
		p.room(line)
		p.SetX(margin)
		p.CellFormat(inner, line, l, "", 1, "L", false, 0, "")
	}
	p.Ln(1)
}

// cut shortens a text to a width.
func (p *paper) cut(text string, width float64) string {
	text = drawn(text)
	for r := []rune(text); p.GetStringWidth(text) > width-2 && len(r) > 1; {
		r = r[:len(r)-1]
		text = string(r) + "…"
	}
	return text
}

// mostLines is how many lines one cell of a table takes; the register and the checks have the
// rest.
const mostLines = 8

// table writes rows under a heading that comes again on each page. Widths are parts of the
// whole width.
func (p *paper) table(headings []string, parts []float64, rows [][]string) {
	widths, whole := make([]float64, len(parts)), 0.0
	for _, part := range parts {
		whole += part
	}
	for i, part := range parts {
		widths[i] = inner * part / whole
	}
	head := func() {
		p.font("B", tableText)
		for i, h := range headings {
			p.CellFormat(widths[i], small+1.2, p.cut(p.r.say(h), widths[i]), "B", 0, "L", false, 0, "")
		}
		p.Ln(-1)
		p.font("", tableText)
	}
	p.room(20)
	head()
	for _, row := range rows {
		cells, height := make([][]string, len(row)), 1
		for i, text := range row {
			cells[i] = p.wrapped(text, widths[i])
			height = max(height, len(cells[i]))
		}
		if p.GetY()+float64(height)*small+1 > pageHeight-foot-margin/3 {
			p.AddPage()
			head()
		}
		top := p.GetY()
		x := margin
		for i, lines := range cells {
			for n, text := range lines {
				p.SetXY(x, top+0.4+float64(n)*small)
				p.CellFormat(widths[i], small, text, "", 0, "L", false, 0, "")
			}
			x += widths[i]
		}
		bottom := top + float64(height)*small + 0.8
		p.SetDrawColor(190, 190, 190)
		p.SetLineWidth(0.1)
		p.Line(margin, bottom, margin+inner, bottom)
		p.SetDrawColor(0, 0, 0)
		p.SetLineWidth(0.2)
		p.SetXY(margin, bottom)
	}
	p.Ln(2)
}

// wrapped breaks a text into lines of a width, words that are too long as well.
func (p *paper) wrapped(text string, width float64) []string {
	if text = drawn(strings.TrimSpace(text)); text == "" {
		return []string{""}
	}
	lines := p.SplitText(text, width)
	if len(lines) > mostLines {
		lines = append(lines[:mostLines-1], "…")
	}
	return lines
}
