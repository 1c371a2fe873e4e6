// Package planfile reads and writes plans as files: CSV (RFC 4180), XLSX
// (ISO/IEC 29500) and JSON (RFC 8259), with columns in any order and under the
// names that a site's own lists use.
package planfile

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
)

// MaxFile is the largest plan file that is read, in bytes.
const MaxFile = 4 << 20

// Bounds on what a file may unfold to.
const (
	maxUnzipped = 64 << 20
	maxColumns  = 200
)

// Formats.
const (
	CSV  = "csv"
	XLSX = "xlsx"
	JSON = "json"
)

// Book is a file taken apart into rows, before they are understood.
type Book struct {
	Format string
	Sheets []Sheet
	Site   *plan.Site // JSON may hold the site as well
}

// Sheet is one table. CSV and JSON have one, without a name.
type Sheet struct {
	Name   string
	Header []string
	Rows   []Row
	// Broken are rows that could not be read at all.
	Broken []problem.Cell
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

// Open takes a file apart. Its format is told from its content.
func Open(file []byte) (Book, error) {
	if len(file) > MaxFile {
		return Book{}, refuse(fmt.Sprintf("the file is larger than %d MiB; a plan of 5,000 entries needs less than one", MaxFile>>20), "give the plan's own file")
	}
	if bytes.HasPrefix(file, []byte("PK\x03\x04")) {
		return openXLSX(file)
	}
	file = bytes.TrimPrefix(file, []byte("\ufeff"))
	if !utf8.Valid(file) || bytes.ContainsRune(file, 0) {
		return Book{}, refuse("the file is not UTF-8 text", "save it from the spreadsheet as “CSV UTF-8”, or as XLSX")
	}
	if start := bytes.TrimSpace(file); len(start) > 0 && (start[0] == '{' || start[0] == '[') {
		return openJSON(file)
	}
	return openCSV(file)
}

// delimiter guesses from the header which of the usual dividers is used.
func delimiter(file []byte) rune {
	head, _, _ := bytes.Cut(file, []byte("\n"))
	best, count := ',', bytes.Count(head, []byte(","))
	for _, d := range ";\t" {
		if n := bytes.Count(head, []byte(string(d))); n > count {
			best, count = d, n
		}
	}
	return best
}

func openCSV(file []byte) (Book, error) {
	r := csv.NewReader(bytes.NewReader(file))
	r.Comma = delimiter(file)
	r.FieldsPerRecord = -1
	var s Sheet
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if bad := (*csv.ParseError)(nil); errors.As(err, &bad) {
			// After a quoting error the reader's rows no longer line up with the file's.
			s.Broken = append(s.Broken, problem.Cell{Row: bad.StartLine, Reason: "the quotes do not pair up; the rows below were not read"})
			break
		}
		row, _ := r.FieldPos(0)
		if full := s.add(row, fields); full {
			break
		}
	}
	return book(CSV, s)
}

// add takes a row in; it reports when no more can be taken.
func (s *Sheet) add(number int, fields []string) (full bool) {
	if s.Header == nil {
		for _, h := range fields {
			s.Header = append(s.Header, strings.TrimSpace(h))
		}
		return false
	}
	if strings.TrimSpace(strings.Join(fields, "")) == "" {
		return false
	}
	for len(fields) > len(s.Header) && strings.TrimSpace(fields[len(fields)-1]) == "" {
		fields = fields[:len(fields)-1]
	}
	if len(fields) > len(s.Header) {
		s.Broken = append(s.Broken, problem.Cell{Row: number, Reason: fmt.Sprintf("the row has %d fields, the header %d", len(fields), len(s.Header))})
		return false
	}
	if len(s.Rows) == plan.MaxEntries {
		s.Broken = append(s.Broken, problem.Cell{Row: number, Reason: fmt.Sprintf("a plan has at most %d entries", plan.MaxEntries)})
		return true
	}
	for len(fields) < len(s.Header) {
		fields = append(fields, "")
	}
	s.Rows = append(s.Rows, Row{number, fields})
	return false
}

func book(format string, sheets ...Sheet) (Book, error) {
	sheets = slices.DeleteFunc(sheets, func(s Sheet) bool { return len(s.Header) == 0 })
	if len(sheets) == 0 {
		return Book{}, refuse("the file has no header row", "begin it with: "+strings.Join(usual(), ","))
	}
	for _, s := range sheets {
		if len(s.Header) > maxColumns {
			return Book{}, refuse(fmt.Sprintf("the file has %d columns; at most %d are read", len(s.Header), maxColumns), "leave out what is not of the plan")
		}
	}
	return Book{Format: format, Sheets: sheets}, nil
}

// usual are the columns of a small plan.
func usual() []string {
	return []string{"tag", "profile", "area", "place", "address", "name", "mac", "serial"}
}

func openXLSX(file []byte) (b Book, err error) {
	defer func() {
		// The reader is not ours; a hostile file must not end the service.
		if recover() != nil {
			b, err = Book{}, refuse("the workbook is damaged", "open and save it again in the spreadsheet")
		}
	}()
	f, err := excelize.OpenReader(bytes.NewReader(file), excelize.Options{UnzipSizeLimit: maxUnzipped, UnzipXMLSizeLimit: maxUnzipped})
	if err != nil {
		return Book{}, refuse("the workbook cannot be read", "open and save it again in the spreadsheet; without a password")
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
		for n := 1; rows.Next(); n++ {
			fields, err := rows.Columns()
			if err != nil {
				return Book{}, errors.Join(refuse(fmt.Sprintf("row %d of the sheet %s cannot be read", n, name), "open and save the workbook again"), rows.Close())
			}
			if full := s.add(n, fields); full {
				break
			}
		}
		if err := rows.Close(); err != nil {
			return Book{}, refuse("the sheet "+name+" cannot be read", "open and save the workbook again")
		}
		sheets = append(sheets, s)
	}
	return book(XLSX, sheets...)
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
		return Book{}, problem.New(problem.Usage, "the JSON cannot be understood"+at, `write {"entries": [{"tag": …, "profile": …}, …]}`).About("plan file").Because(err)
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
	}
	slices.Sort(s.Header)
	for i, e := range doc.Entries {
		fields := make([]string, len(s.Header))
		for j, key := range s.Header {
			text, ok := asText(e[key])
			if !ok {
				s.Broken = append(s.Broken, problem.Cell{Row: i + 1, Column: key, Reason: "is neither text, number, yes/no nor a list of texts"})
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
