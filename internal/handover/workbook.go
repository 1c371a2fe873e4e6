package handover

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/value"
)

// registerXLSX is the register as a workbook (ISO/IEC 29500): a sheet of all entries, one for
// each subnet, one of what differs, and one of every check.
var registerXLSX = &Document{
	Name: "register", Says: "Register of all entries, as a workbook, with a sheet for each subnet, for what differs and for every check",
	File: "register.xlsx", Kind: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
	Write: func(out io.Writer, r Record) error {
		f := excelize.NewFile()
		defer f.Close()
		b := book{File: f, r: r}
		if err := b.fill(); err != nil {
			return err
		}
		var whole bytes.Buffer
		if _, err := f.WriteTo(&whole); err != nil {
			return err
		}
		return repack(out, whole.Bytes())
	},
}

// repack writes an archive with its parts in one order and without times, so that the same is
// the same to the byte.
func repack(out io.Writer, archive []byte) error {
	in, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		return err
	}
	slices.SortFunc(in.File, func(a, b *zip.File) int { return strings.Compare(a.Name, b.Name) })
	w := zip.NewWriter(out)
	for _, part := range in.File {
		from, err := part.Open()
		if err != nil {
			return err
		}
		to, err := w.Create(part.Name)
		if err == nil {
			_, err = io.Copy(to, from)
		}
		if err = errors.Join(err, from.Close()); err != nil {
			return err
		}
	}
	return w.Close()
}

// book is the workbook that is being written.
type book struct {
	*excelize.File
	r                      Record
	heading, plain, unseen int // styles
}

// What a workbook is written in.
const (
	face   = "Calibri"
	points = 11
)

func (b *book) fill() (err error) {
	styles := []*excelize.Style{
		{Font: &excelize.Font{Bold: true, Family: face, Size: points}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E7E4DC"}},
			Border: []excelize.Border{{Type: "bottom", Color: "808080", Style: 1}}},
		{Alignment: &excelize.Alignment{Vertical: "top"}},
		{Font: &excelize.Font{Italic: true, Color: "808080", Family: face, Size: points}, Alignment: &excelize.Alignment{Vertical: "top"}},
	}
	for i, id := range []*int{&b.heading, &b.plain, &b.unseen} {
		if *id, err = b.NewStyle(styles[i]); err != nil {
			return err
		}
	}
	made := time.Time{} // what is the same is the same to the byte
	if err := b.SetDocProps(&excelize.DocProperties{Title: b.r.Site.Name, Creator: "Redstart",
		Created: made.Format(time.RFC3339), Modified: made.Format(time.RFC3339)}); err != nil {
		return err
	}
	if err := b.SetSheetName("Sheet1", b.r.say("Register")); err != nil {
		return err
	}
	if err := b.register(b.r.say("Register"), func(Entry) bool { return true }); err != nil {
		return err
	}
	for _, n := range b.r.Site.Subnets {
		if err := b.register(b.free(sheetName(n.Name)), func(e Entry) bool {
			return e.Address.IsValid() && n.Prefix.Contains(e.Address)
		}); err != nil {
			return err
		}
	}
	if err := b.differences(); err != nil {
		return err
	}
	return b.checks()
}

// sheetName is a name that a sheet may have: without the signs of references, and not long.
func sheetName(text string) string {
	text = strings.Trim(strings.Map(func(r rune) rune {
		if strings.ContainsRune("[]:*?/\\", r) {
			return '-'
		}
		return r
	}, text), "'")
	for r := []rune(text); len(utf16.Encode(r)) > 28; text = string(r) { // and room for a number
		r = r[:len(r)-1]
	}
	return text
}

// free gives a name that no sheet has yet, in any case.
func (b *book) free(name string) string {
	for n := 1; ; n++ {
		try := name
		if n > 1 || name == "" {
			try = strings.TrimSpace(fmt.Sprintf("%s %d", name, n))
		}
		if !slices.ContainsFunc(append(b.GetSheetList(), b.r.say("Differences"), b.r.say("Checks")), func(s string) bool {
			return strings.EqualFold(s, try)
		}) {
			return try
		}
	}
}

// table begins a sheet: its heading stays, and its rows can be filtered.
func (b *book) table(name string, headings []string, widths []float64, rows [][]any) error {
	if _, err := b.NewSheet(name); err != nil {
		return err
	}
	if err := b.printed(name); err != nil {
		return err
	}
	w, err := b.NewStreamWriter(name)
	if err != nil {
		return err
	}
	for i, width := range widths {
		if err := w.SetColWidth(i+1, i+1, width); err != nil {
			return err
		}
	}
	if err := w.SetPanes(&excelize.Panes{Freeze: true, XSplit: 1, YSplit: 1, TopLeftCell: "B2", ActivePane: "bottomRight"}); err != nil {
		return err
	}
	heading := make([]any, len(headings))
	for i, h := range headings {
		heading[i] = excelize.Cell{StyleID: b.heading, Value: b.r.say(h)}
	}
	if err := w.SetRow("A1", heading); err != nil {
		return err
	}
	for i, row := range rows {
		if err := w.SetRow(fmt.Sprintf("A%d", i+2), row); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	last, err := excelize.CoordinatesToCellName(len(headings), len(rows)+1)
	if err != nil {
		return err
	}
	return b.AutoFilter(name, "A1:"+last, nil)
}

// printed has a sheet printed lying, as wide as a page, with its heading on each.
func (b *book) printed(name string) error {
	lying, a4, one, any, yes := "landscape", 9, 1, 0, true
	return errors.Join(b.SetSheetProps(name, &excelize.SheetPropsOptions{FitToPage: &yes}),
		b.SetPageLayout(name, &excelize.PageLayoutOptions{Orientation: &lying, Size: &a4, FitToWidth: &one, FitToHeight: &any}),
		b.SetDefinedName(&excelize.DefinedName{Name: "_xlnm.Print_Titles", Scope: name, RefersTo: "'" + strings.ReplaceAll(name, "'", "''") + "'!$1:$1"}))
}

// narrowest and widest are bounds on the width of columns, in characters.
const (
	narrowest = 8
	widest    = 60
)

func (b *book) register(name string, chosen func(Entry) bool) error {
	columns := b.r.columns()
	headings, widths := make([]string, len(columns)), make([]float64, len(columns))
	for i, c := range columns {
		headings[i], widths[i] = c.Says, float64(len([]rune(b.r.say(c.Says)))+4)
	}
	var rows [][]any
	for _, e := range b.r.Entries {
		if !chosen(e) {
			continue
		}
		row := make([]any, len(columns))
		for i, c := range columns {
			v := c.of(b.r, e)
			style := b.plain
			if !v.Verified {
				style = b.unseen
			}
			row[i] = excelize.Cell{StyleID: style, Value: value.Cell(v.Text)}
			widths[i] = min(max(widths[i], float64(len([]rune(v.Text))+2), narrowest), widest)
		}
		rows = append(rows, row)
	}
	return b.table(name, headings, widths, rows)
}

func (b *book) differences() error {
	var rows [][]any
	for _, e := range b.r.Entries {
		for _, what := range e.unverified(b.r) {
			rows = append(rows, []any{value.Cell(e.Tag), value.Cell(e.Place), b.r.say(e.State), value.Cell(what)})
		}
	}
	return b.table(b.r.say("Differences"), []string{"Tag", "Place", "State", "What differs"}, []float64{20, 26, 18, 90}, rows)
}

func (b *book) checks() error {
	var rows [][]any
	for _, e := range b.r.Entries {
		for _, c := range e.Checks {
			rows = append(rows, []any{value.Cell(e.Tag), value.Cell(c.Name), value.Cell(c.Expected), value.Cell(c.Observed),
				b.r.say(c.Verdict.String()), value.Cell(c.By), c.At.UTC().Format("2006-01-02 15:04:05 UTC")})
		}
	}
	return b.table(b.r.say("Checks"), []string{"Tag", "Check", "Expected", "Observed", "Result", "Rests on", "At"},
		[]float64{20, 26, 34, 34, 16, 60, 24}, rows)
}
