package handover

import (
	"archive/zip"
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"rsc.io/qr"

	"redstart/internal/core/problem"
)

// LabelSheet says what labels are printed on. Lengths are in millimetres.
type LabelSheet struct {
	Width, Height float64
	GapX, GapY    float64
	// PageWidth and PageHeight are those of a sheet; 0: a roll, of which each page is one label.
	PageWidth, PageHeight float64
	// Start is the label of the first sheet with which to begin, from 1: those before it are used.
	Start int
	// Fields are the columns of the register that stand on a label, the first one large.
	Fields []string
}

// Pages are the usual sheets by name, in millimetres (ISO 216; ANSI/ASME Y14.1).
var Pages = map[string][2]float64{"A4": {210, 297}, "letter": {215.9, 279.4}, "roll": {}}

// UsualFields stand on a label for which none were chosen.
var UsualFields = []string{"tag", "name", "address", "mac", "serial"}

// Bounds on labels: what cannot be read is not printed.
const (
	leastLabel  = 12.0 // mm, either way
	mostLabel   = 300.0
	padding     = 1.5 // mm around what is printed
	largestCode = 30.0
	leastModule = 0.25 // mm of a square of a code that phones read
	leastText   = 1.6  // mm of height of a letter
	mostText    = 5.0
	mostFields  = 12
)

// grid is how many labels a sheet has in a row and in a column, and where the first one is.
func (s LabelSheet) grid() (columns, rows int, left, top float64) {
	if s.PageWidth == 0 {
		return 1, 1, 0, 0
	}
	columns = int((s.PageWidth + s.GapX + 0.01) / (s.Width + s.GapX))
	rows = int((s.PageHeight + s.GapY + 0.01) / (s.Height + s.GapY))
	left = (s.PageWidth - float64(columns)*s.Width - float64(columns-1)*s.GapX) / 2
	top = (s.PageHeight - float64(rows)*s.Height - float64(rows-1)*s.GapY) / 2
	return columns, rows, left, top
}

func (s LabelSheet) check() error {
	wrong := func(cause, next string) error { return problem.New(problem.Usage, cause, next).About("label") }
	for _, v := range []float64{s.Width, s.Height, s.GapX, s.GapY, s.PageWidth, s.PageHeight} {
		if math.IsNaN(v) || v < 0 || v > 1000 {
			return wrong("a length is not one of 0 to 1000 mm", "give width and height in millimetres, such as 70x37")
		}
	}
	columns, rows, _, _ := s.grid()
	switch {
	case s.Width < leastLabel || s.Height < leastLabel || s.Width > mostLabel || s.Height > mostLabel:
		return wrong(fmt.Sprintf("a label of %gx%g mm is too small or too large to print on; %g to %g mm either way are taken",
			s.Width, s.Height, leastLabel, mostLabel), "measure it once more")
	case columns < 1 || rows < 1:
		return wrong(fmt.Sprintf("a label of %gx%g mm does not fit on a sheet of %gx%g mm", s.Width, s.Height, s.PageWidth, s.PageHeight),
			"choose a larger sheet, or a roll")
	case s.Start < 1 || s.Start > columns*rows:
		return wrong(fmt.Sprintf("the sheet has %d labels, so there is no label %d to start at", columns*rows, s.Start),
			"count from the top left, row by row")
	case len(s.Fields) == 0 || len(s.Fields) > mostFields:
		return wrong(fmt.Sprintf("1 to %d fields stand on a label", mostFields), "choose some of: "+ColumnKeys())
	}
	for _, key := range s.Fields {
		if !slices.ContainsFunc(Columns, func(c Column) bool { return c.Key == key }) {
			return wrong(fmt.Sprintf("there is no field %q", key), "choose some of: "+ColumnKeys())
		}
	}
	return nil
}

// ColumnKeys lists the keys of all columns, divided by commas.
func ColumnKeys() string {
	var keys []string
	for _, c := range Columns {
		keys = append(keys, c.Key)
	}
	return strings.Join(keys, ", ")
}

// mark is something that is printed on a page: a text with its left end on its baseline, or a
// black bar.
type mark struct {
	x, y, w, h float64
	text       string
	bold       bool
}

// Labels are all labels of a record, laid out page by page.
type Labels struct {
	sheet LabelSheet
	pages [][]mark
	paper *fpdf.Fpdf // measures texts, and becomes the PDF
	at    Record
}

// Font sizes are given in mm of height and drawn in points of 1/72 inch.
const pointsPerMM = 72 / 25.4

// LayOut lays labels out in walking order: by area, floor, place and tag. Only entries of the
// chosen tags are printed; nil prints all.
func LayOut(r Record, sheet LabelSheet, tags []string) (*Labels, error) {
	if len(sheet.Fields) == 0 {
		sheet.Fields = UsualFields
	}
	if sheet.Start == 0 {
		sheet.Start = 1
	}
	if err := sheet.check(); err != nil {
		return nil, err
	}
	size := fpdf.SizeType{Wd: sheet.PageWidth, Ht: sheet.PageHeight}
	if sheet.PageWidth == 0 {
		size = fpdf.SizeType{Wd: sheet.Width, Ht: sheet.Height}
	}
	l := &Labels{sheet: sheet, at: r, paper: fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: size, OrientationStr: "P"})} // L would turn pages that lie
	l.paper.AddUTF8FontFromBytes("go", "", goregular.TTF)
	l.paper.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	l.paper.SetAutoPageBreak(false, 0)
	l.paper.SetCreationDate(r.At)
	l.paper.SetModificationDate(r.At)
	l.paper.SetCatalogSort(true)
	l.paper.SetTitle(drawn(r.Site.Name), true)
	entries := slices.DeleteFunc(slices.Clone(r.Entries), func(e Entry) bool { return tags != nil && !slices.Contains(tags, e.Tag) })
	slices.SortStableFunc(entries, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(a.Area, b.Area), cmp.Compare(a.Floor, b.Floor), cmp.Compare(a.Place, b.Place), cmp.Compare(a.Tag, b.Tag))
	})
	if len(entries) == 0 {
		return nil, problem.New(problem.Usage, "no entry is chosen, so there is nothing to print", "choose entries of the plan").About("label")
	}
	columns, rows, left, top := sheet.grid()
	for i, e := range entries {
		at := i + sheet.Start - 1
		if page := at / (columns * rows); page == len(l.pages) {
			l.pages = append(l.pages, nil)
		}
		at %= columns * rows
		marks, err := l.label(e, left+float64(at%columns)*(sheet.Width+sheet.GapX), top+float64(at/columns)*(sheet.Height+sheet.GapY))
		if err != nil {
			return nil, err
		}
		last := len(l.pages) - 1
		l.pages[last] = append(l.pages[last], marks...)
	}
	return l, l.paper.Error()
}

// CodeText is what the code of a label says: any phone shows it, and our scanner finds tag, MAC
// and serial in it.
func CodeText(r Record, e Entry) string {
	text := "TAG: " + e.Tag
	for _, key := range []string{"mac", "serial"} {
		for _, c := range Columns {
			if v := c.of(r, e).Text; c.Key == key && v != "" {
				text += "\n" + map[string]string{"mac": "MAC: ", "serial": "SN: "}[key] + v
			}
		}
	}
	return text
}

// label lays one label out at a place.
func (l *Labels) label(e Entry, x, y float64) ([]mark, error) {
	code, err := qr.Encode(CodeText(l.at, e), qr.M)
	if err != nil {
		return nil, problem.New(problem.Usage, "what its code is to hold is too long", "shorten its serial").About(e.Tag)
	}
	side := min(l.sheet.Height-2*padding, l.sheet.Width/2-padding, largestCode)
	module := side / float64(code.Size+4) // two squares of white around it; the label gives the rest
	if module < leastModule {
		return nil, problem.New(problem.Usage, fmt.Sprintf("the code of %s does not fit on a label of %gx%g mm so that it can be read",
			e.Tag, l.sheet.Width, l.sheet.Height), "take larger labels").About("label")
	}
	var marks []mark
	for row := range code.Size {
		for from := 0; from < code.Size; from++ {
			to := from
			for to < code.Size && code.Black(to, row) {
				to++
			}
			if to > from {
				marks = append(marks, mark{x: x + padding + module*float64(from+2), y: y + (l.sheet.Height-side)/2 + module*float64(row+2),
					w: module * float64(to-from), h: module})
				from = to
			}
		}
	}
	var texts []string
	login := 0 // which text is the login; 0: none
	for _, key := range l.sheet.Fields {
		for _, c := range Columns {
			// What is called as its tag is not said twice.
			if v := c.of(l.at, e).Text; c.Key == key && v != "" && !slices.Contains(texts, drawn(v)) {
				texts = append(texts, drawn(v))
			}
		}
	}
	if e.Login != "" {
		login = len(texts)
		texts = append(texts, e.Login)
	}
	left, width := x+2*padding+side, l.sheet.Width-side-3*padding
	height := (l.sheet.Height - 2*padding) / (float64(len(texts)) + 0.5) / 1.25 // the first one is half as large again
	height = min(height, mostText)
	if height < leastText {
		return nil, problem.New(problem.Usage, fmt.Sprintf("%d fields do not fit on a label of %gx%g mm so that they can be read", len(texts),
			l.sheet.Width, l.sheet.Height), "choose fewer, or take larger labels").About("label")
	}
	at := y + (l.sheet.Height-height*1.25*(float64(len(texts))+0.5))/2
	for i, text := range texts {
		size := height
		if i == 0 {
			size *= 1.5
		}
		at += size * 1.25
		fits, drawn := l.fit(text, i == 0, size, width)
		if login > 0 && i == login && (fits != text || !Drawable(text)) {
			return nil, problem.New(problem.Usage, "its login does not fit on the label so that it can be read whole", "take larger labels, or the sheet: redstart handover logins").About(e.Tag)
		}
		marks = append(marks, mark{x: left, y: at - size*0.3, h: drawn, text: fits, bold: i == 0})
	}
	return marks, nil
}

// fit makes a text narrower until it fits, and cuts it where it would be too small to read.
func (l *Labels) fit(text string, bold bool, size, width float64) (string, float64) {
	for size > leastText && l.width(text, bold, size) > width {
		size = max(size*0.95, leastText)
	}
	for r := []rune(text); l.width(text, bold, size) > width && len(r) > 1; {
		r = r[:len(r)-1]
		text = string(r) + "…"
	}
	return text, size
}

func (l *Labels) width(text string, bold bool, size float64) float64 {
	l.paper.SetFont("go", style(bold), size*pointsPerMM)
	return l.paper.GetStringWidth(text)
}

func style(bold bool) string {
	if bold {
		return "B"
	}
	return ""
}

// PDF writes them as PDF (ISO 32000), black on white.
func (l *Labels) PDF(out io.Writer) error {
	for _, page := range l.pages {
		l.paper.AddPage()
		for _, m := range page {
			if m.text == "" {
				l.paper.Rect(m.x, m.y, m.w, m.h, "F")
				continue
			}
			l.paper.SetFont("go", style(m.bold), m.h*pointsPerMM)
			l.paper.Text(m.x, m.y, m.text)
		}
	}
	return l.paper.Output(out)
}

// SVG writes an archive with a drawing (W3C SVG 1.1) for each page, in millimetres.
func (l *Labels) SVG(out io.Writer) error {
	width, height := l.sheet.PageWidth, l.sheet.PageHeight
	if width == 0 {
		width, height = l.sheet.Width, l.sheet.Height
	}
	w := zip.NewWriter(out)
	for i, page := range l.pages {
		f, err := w.Create(fmt.Sprintf("labels-%03d.svg", i+1))
		if err != nil {
			return err
		}
		var b strings.Builder
		fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" width="%gmm" height="%gmm" viewBox="0 0 %g %g"><rect width="100%%" height="100%%" fill="#fff"/>`,
			width, height, width, height)
		number := func(v float64) string { return strconv.FormatFloat(v, 'f', 3, 64) }
		for _, m := range page {
			if m.text == "" {
				fmt.Fprintf(&b, `<rect x="%s" y="%s" width="%s" height="%s"/>`, number(m.x), number(m.y), number(m.w), number(m.h))
				continue
			}
			weight := ""
			if m.bold {
				weight = ` font-weight="bold"`
			}
			fmt.Fprintf(&b, `<text x="%s" y="%s" font-size="%s" font-family="Go, Arial, Helvetica, sans-serif"%s textLength="%s" lengthAdjust="spacingAndGlyphs">`,
				number(m.x), number(m.y), number(m.h), weight, number(l.width(m.text, m.bold, m.h)))
			_ = xml.EscapeText(&b, []byte(m.text)) // a builder takes everything
			b.WriteString("</text>")
		}
		b.WriteString("</svg>\n")
		if _, err := io.WriteString(f, b.String()); err != nil {
			return err
		}
	}
	return w.Close()
}
