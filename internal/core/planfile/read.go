// Package planfile reads and writes plans as files: CSV (RFC 4180), XLSX
// (ISO/IEC 29500) and JSON (RFC 8259), with columns in any order and under the
// names that a site's own lists use.
package planfile

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
	encodings "golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// MaxFile is the largest plan file that is read, in bytes.
const MaxFile = 4 << 20

// Bounds on what a file may unfold to.
const (
	maxUnzipped = 64 << 20
	maxColumns  = 200
	maxTitles   = 10 // rows above the header
)

// Formats.
const (
	CSV  = "csv"
	XLSX = "xlsx"
	JSON = "json"
)

// Book is a file taken apart into rows, before they are understood.
type Book struct {
	Format   string
	Encoding string // of text that is not UTF-8; "" for what is
	Sheets   []Sheet
	Site     *plan.Site // JSON may hold the site as well
}

// Sheet is one table. CSV and JSON have one, without a name.
type Sheet struct {
	Name      string
	Titles    []string // above the header
	Header    []string
	HeaderRow int
	Rows      []Row
	// Broken are rows that could not be read at all.
	Broken []problem.Cell

	above    []Row // the titles, in case that they are the table after all
	untitled bool
	budget
}

// budget bounds what a file unfolds to, while it does.
type budget struct {
	cells, text int
	spent       error // why no more is read; nil while there is room
}

// Bounds on all cells of a sheet together.
const (
	allCells = 2_000_000
	allText  = 32 << 20 // bytes
)

// spend counts cells, and reports whether there is room for them.
func (b *budget) spend(fields []string) bool {
	b.cells += len(fields)
	for _, f := range fields {
		b.text += len(f)
	}
	if b.spent == nil && (b.cells > allCells || b.text > allText) {
		b.spent = refuse("the file holds far more than a plan", "give the plan's own file")
	}
	return b.spent == nil
}

// finish takes for the table what was taken for titles, where nothing came below.
func (s *Sheet) finish() {
	if s.Header != nil || len(s.above) == 0 {
		return
	}
	rows := slices.DeleteFunc(s.above, func(r Row) bool { return filled(r.Cells) == 0 })
	if len(rows) == 0 {
		return
	}
	first := max(0, slices.IndexFunc(rows, func(r Row) bool { return filled(r.Cells) > 1 }))
	s.untitled, s.above = true, rows[:first]
	for _, r := range rows[first:] {
		s.add(r.Number, r.Cells)
	}
}

// filled counts the cells that hold something.
func filled(cells []string) (n int) {
	for _, c := range cells {
		if strings.TrimSpace(c) != "" {
			n++
		}
	}
	return n
}

// Row is one row of a sheet. Number counts as the file's reader sees it: from
// 1 with the header as 1; in JSON, from 1 with the first entry as 1.
type Row struct {
	Number int
	Cells  []string
}

func refuse(cause, next string) error {
	return problem.New(problem.Usage, cause, next).About("plan file")
}

// read is a file that can be read for as long as somebody waits for it.
type read struct {
	*bytes.Reader
	ctx context.Context
}

func (r read) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(b)
}

func (r read) ReadAt(b []byte, at int64) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.ReadAt(b, at)
}

// Open takes a file apart. Its format is told from its content. The end of the context ends
// it with the context's error.
func Open(ctx context.Context, file []byte) (Book, error) {
	b, err := take(ctx, file)
	if gone := ctx.Err(); gone != nil {
		return Book{}, gone
	}
	return b, err
}

func take(ctx context.Context, file []byte) (Book, error) {
	if len(file) > MaxFile {
		return Book{}, refuse(fmt.Sprintf("the file is larger than %d MiB; a plan of 5,000 entries needs less than one",
			MaxFile>>20), "give the plan's own file")
	}
	if bytes.HasPrefix(file, []byte("PK\x03\x04")) {
		return openXLSX(ctx, file)
	}
	file, encoding, err := decoded(file)
	if err != nil {
		return Book{}, err
	}
	var b Book
	if start := bytes.TrimSpace(file); len(start) > 0 && (start[0] == '{' || start[0] == '[') {
		b, err = openJSON(file)
	} else {
		b, err = openCSV(ctx, file)
	}
	b.Encoding = encoding
	return b, err
}

// Encodings besides UTF-8 that are read.
const (
	utf16Text  = "UTF-16"
	windows    = "Windows-1252"
	controlSet = "\x00\x01\x02\x03\x04\x05\x06\x07\x08\x0b\x0e\x0f\x10\x11\x12\x13\x14\x15\x16\x17\x18\x19\x1a\x1b\x1c\x1d\x1e\x1f\x7f"
)

// decoded gives the text in UTF-8, and what it was in if that was something else:
// UTF-16 where its byte order mark says so or every second byte of the beginning is
// zero, else Windows-1252 where all of it is printable then.
func decoded(file []byte) (text []byte, encoding string, err error) {
	file = bytes.TrimPrefix(file, []byte("\ufeff"))
	if utf8.Valid(file) && !bytes.ContainsRune(file, 0) {
		return file, "", nil
	}
	var from encodings.Encoding
	switch order, plain := byteOrder(file); {
	case plain:
		from, encoding = unicode.UTF16(order, unicode.UseBOM), utf16Text
	case !bytes.ContainsAny(file, controlSet):
		from, encoding = charmap.Windows1252, windows
	default:
		return nil, "", refuse("the file is no text that can be read",
			"save it from the spreadsheet as “CSV UTF-8”, or as XLSX")
	}
	text, err = from.NewDecoder().Bytes(file)
	if err != nil || bytes.ContainsRune(text, utf8.RuneError) || bytes.ContainsRune(text, 0) {
		return nil, "", refuse("the file is neither UTF-8 nor "+encoding,
			"save it from the spreadsheet as “CSV UTF-8”, or as XLSX")
	}
	return text, encoding, nil
}

// byteOrder tells the order of UTF-16; plain is false when it is not that.
func byteOrder(file []byte) (order unicode.Endianness, plain bool) {
	switch {
	case bytes.HasPrefix(file, []byte{0xff, 0xfe}):
		return unicode.LittleEndian, true
	case bytes.HasPrefix(file, []byte{0xfe, 0xff}):
		return unicode.BigEndian, true
	}
	head := file[:min(len(file)&^1, 64)]
	even, odd := 0, 0
	for i, b := range head {
		if b == 0 && i%2 == 0 {
			even++
		} else if b == 0 {
			odd++
		}
	}
	most := len(head) / 2 * 3 / 4
	return map[bool]unicode.Endianness{true: unicode.BigEndian, false: unicode.LittleEndian}[even > odd],
		len(head) >= 8 && (even >= most && odd == 0 || odd >= most && even == 0)
}

// separator is a first line that some spreadsheets write and read.
var separator = regexp.MustCompile(`^"?[sS][eE][pP]=(.)"?\r?\n`)

// delimiter guesses from the first lines which of the usual dividers is used.
func delimiter(file []byte) rune {
	best, count := ',', 0
	for _, d := range ",;\t" {
		most := 0
		for i, line := range bytes.SplitN(file, []byte("\n"), maxTitles+2) {
			if i <= maxTitles {
				most = max(most, bytes.Count(line, []byte(string(d))))
			}
		}
		if most > count {
			best, count = d, most
		}
	}
	return best
}

func openCSV(ctx context.Context, file []byte) (Book, error) {
	said := rune(0)
	skipped := 0
	if m := separator.FindSubmatch(file); m != nil {
		said, file, skipped = rune(m[1][0]), file[len(m[0]):], 1
	}
	r := csv.NewReader(read{bytes.NewReader(file), ctx})
	if r.Comma = said; said == 0 || said == '"' || said == '\n' || said == '\r' {
		r.Comma = delimiter(file)
	}
	r.FieldsPerRecord = -1
	var s Sheet
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) || ctx.Err() != nil {
			break
		}
		if bad := (*csv.ParseError)(nil); errors.As(err, &bad) {
			// After a quoting error the reader's rows no longer line up with the file's.
			s.Broken = append(s.Broken, problem.Cell{Row: bad.StartLine + skipped,
				Reason: "the quotes do not pair up; the rows below were not read"})
			break
		}
		row, _ := r.FieldPos(0)
		for i, f := range fields {
			fields[i] = value.PlainCell(f)
		}
		if full := s.add(row+skipped, fields); full {
			break
		}
	}
	return book(CSV, s)
}

// isHeader reports whether a row has a word that lists use for the tag.
func isHeader(fields []string) bool {
	return slices.ContainsFunc(fields, func(h string) bool {
		return plain(h) == "tag" || slices.Contains(spellings["tag"], plain(h))
	})
}

// add takes a row in; it reports when no more can be taken.
func (s *Sheet) add(number int, fields []string) (full bool) {
	if !s.spend(fields) {
		return true
	}
	if s.Header == nil {
		// Titles stand above the header, which is known by its tag.
		if !isHeader(fields) && !s.untitled {
			s.above = append(s.above, Row{number, fields})
			if len(s.above) > maxTitles {
				s.finish()
			}
			return false
		}
		for _, r := range s.above {
			s.Titles = append(s.Titles, strings.TrimSpace(strings.Join(r.Cells, " ")))
		}
		s.above = nil
		for len(fields) > 0 && strings.TrimSpace(fields[len(fields)-1]) == "" {
			fields = fields[:len(fields)-1]
		}
		if len(fields) > maxColumns {
			s.spent = refuse(fmt.Sprintf("the file has %d columns; at most %d are read", len(fields), maxColumns),
				"leave out what is not of the plan")
			return true
		}
		for _, h := range fields {
			s.Header = append(s.Header, strings.TrimSpace(h))
		}
		s.HeaderRow = number
		return false
	}
	if strings.TrimSpace(strings.Join(fields, "")) == "" {
		return false
	}
	for len(fields) > len(s.Header) && strings.TrimSpace(fields[len(fields)-1]) == "" {
		fields = fields[:len(fields)-1]
	}
	if len(fields) > len(s.Header) {
		s.Broken = append(s.Broken, problem.Cell{Row: number,
			Reason: fmt.Sprintf("the row has %d fields, the header %d", len(fields), len(s.Header))})
		return false
	}
	if len(s.Rows) == plan.MaxEntries {
		s.Broken = append(s.Broken, problem.Cell{Row: number,
			Reason: fmt.Sprintf("a plan has at most %d entries", plan.MaxEntries)})
		return true
	}
	for len(fields) < len(s.Header) {
		fields = append(fields, "")
	}
	s.Rows = append(s.Rows, Row{number, fields})
	return false
}

func book(format string, sheets ...Sheet) (Book, error) {
	for i := range sheets {
		sheets[i].finish()
		if sheets[i].spent != nil {
			return Book{}, sheets[i].spent
		}
	}
	sheets = slices.DeleteFunc(sheets, func(s Sheet) bool { return len(s.Header) == 0 })
	if len(sheets) == 0 {
		return Book{}, refuse("the file has no header row", "begin it with: "+strings.Join(usual(), ","))
	}
	for _, s := range sheets {
		if len(s.Header) > maxColumns {
			return Book{}, refuse(fmt.Sprintf("the file has %d columns; at most %d are read", len(s.Header),
				maxColumns), "leave out what is not of the plan")
		}
	}
	return Book{Format: format, Sheets: sheets}, nil
}

// usual are the columns of a small plan.
func usual() []string {
	return []string{"tag", "profile", "area", "place", "address", "name", "mac", "serial"}
}

func openXLSX(ctx context.Context, file []byte) (b Book, err error) {
	defer func() {
		// The reader is not ours; a hostile file must not end the service.
		if recover() != nil {
			b, err = Book{}, refuse("the workbook is damaged", "open and save it again in the spreadsheet")
		}
	}()
	if err := fits(ctx, file); err != nil {
		return Book{}, err
	}
	f, err := excelize.OpenReader(read{bytes.NewReader(file), ctx}, excelize.Options{UnzipSizeLimit: maxUnzipped,
		UnzipXMLSizeLimit: maxUnzipped})
	if err != nil {
		return Book{}, refuse("the workbook cannot be read",
			"open and save it again in the spreadsheet; without a password")
	}
	defer f.Close()
	var sheets []Sheet
	for _, name := range f.GetSheetList() {
		if visible, err := f.GetSheetVisible(name); err != nil || !visible {
			continue
		}
		s := Sheet{Name: name}
		rows, err := f.Rows(name)
		if err != nil {
			return Book{}, refuse("the sheet "+name+" cannot be read", "open and save the workbook again")
		}
		for n := 1; rows.Next() && ctx.Err() == nil; n++ {
			fields, err := rows.Columns()
			if err != nil {
				return Book{}, errors.Join(refuse(fmt.Sprintf("row %d of the sheet %s cannot be read", n, name),
					"open and save the workbook again"), rows.Close())
			}
			if full := s.add(n, fields); full {
				break
			}
		}
		if err := s.unsure(f); err != nil {
			return Book{}, err
		}
		if err := rows.Close(); err != nil {
			return Book{}, refuse("the sheet "+name+" cannot be read", "open and save the workbook again")
		}
		sheets = append(sheets, s)
	}
	return book(XLSX, sheets...)
}

// unsure finds the cells whose value is not in the file: formulas that nobody worked
// out, and cells that were merged, of which only the first has one.
func (s *Sheet) unsure(f *excelize.File) error {
	merged, err := f.GetMergeCells(s.Name)
	if err != nil {
		return refuse("the sheet "+s.Name+" cannot be read", "open and save the workbook again")
	}
	for _, m := range merged {
		column, row, err := excelize.CellNameToCoordinates(m.GetStartAxis())
		_, last, err2 := excelize.CellNameToCoordinates(m.GetEndAxis())
		if err != nil || err2 != nil || last <= s.HeaderRow && s.HeaderRow > 0 && last < s.HeaderRow {
			continue // a title
		}
		s.Broken = append(s.Broken, problem.Cell{Row: row, Column: s.columnName(column),
			Reason: fmt.Sprintf("the cells %s to %s are merged, so only one of them has a value; take them apart",
				m.GetStartAxis(), m.GetEndAxis())})
	}
	for _, r := range s.Rows {
		for i := range s.Header {
			if i < len(r.Cells) && r.Cells[i] != "" {
				continue
			}
			at, err := excelize.CoordinatesToCellName(i+1, r.Number)
			if err != nil {
				continue
			}
			if formula, err := f.GetCellFormula(s.Name, at); err == nil && formula != "" {
				s.Broken = append(s.Broken, problem.Cell{Row: r.Number, Column: s.Header[i], Value: "=" + formula,
					Reason: "is a formula whose result is not in the file; open and save it in the spreadsheet, or put the value there"})
			}
		}
	}
	return nil
}

func (s *Sheet) columnName(column int) string {
	if column-1 < len(s.Header) {
		return s.Header[column-1]
	}
	name, err := excelize.ColumnNumberToName(column)
	if err != nil {
		return ""
	}
	return name
}

// document is a plan as JSON: a list of entries, or an object with entries
// and, if it holds the whole site, the site.
type document struct {
	Site    *plan.Site       `json:"site,omitempty"`
	Entries []map[string]any `json:"entries"`
}

func openJSON(file []byte) (Book, error) {
	var doc document
	d := json.NewDecoder(bytes.NewReader(file))
	d.UseNumber()
	var err error
	if bytes.TrimSpace(file)[0] == '[' {
		err = d.Decode(&doc.Entries)
	} else {
		d.DisallowUnknownFields()
		err = d.Decode(&doc)
	}
	if err != nil {
		at := ""
		if s := (*json.SyntaxError)(nil); errors.As(err, &s) {
			at = fmt.Sprintf(" in line %d", 1+bytes.Count(file[:min(int(s.Offset), len(file))], []byte("\n")))
		}
		return Book{}, problem.New(problem.Usage, "the JSON cannot be understood"+at,
			`write {"entries": [{"tag": …, "profile": …}, …]}`).About("plan file").Because(err)
	}
	var s Sheet
	seen := map[string]bool{}
	for _, e := range doc.Entries {
		for key := range e {
			if !seen[key] {
				seen[key] = true
				s.Header = append(s.Header, key)
			}
		}
		if len(s.Header) > maxColumns {
			return Book{}, refuse(fmt.Sprintf("its entries have more than %d different keys", maxColumns),
				"leave out what is not of the plan")
		}
	}
	slices.Sort(s.Header)
	for i, e := range doc.Entries {
		fields := make([]string, len(s.Header))
		for j, key := range s.Header {
			text, ok := asText(e[key])
			if !ok {
				s.Broken = append(s.Broken, problem.Cell{Row: i + 1, Column: key,
					Reason: "is neither text, number, yes/no nor a list of texts"})
			}
			fields[j] = text
		}
		if full := s.add(i+1, fields); full {
			break
		}
	}
	if len(doc.Entries) == 0 {
		s.Header = usual() // a file that holds the site alone
	}
	b, err := book(JSON, s)
	b.Site = doc.Site
	return b, err
}

func asText(v any) (string, bool) {
	switch v := v.(type) {
	case nil:
		return "", true
	case string:
		return v, true
	case json.Number:
		return v.String(), true
	case bool:
		if v {
			return "yes", true
		}
		return "", true
	case []any:
		if len(v) > 0 {
			if _, rows := v[0].(map[string]any); rows {
				text, err := json.Marshal(v)
				return string(text), err == nil // what is wrong in it, its setting says
			}
		}
		var list []string
		for _, x := range v {
			s, ok := x.(string)
			if !ok {
				return "", false
			}
			list = append(list, s)
		}
		return strings.Join(list, " "), true
	}
	return "", false
}
