package handover

import (
	"archive/zip"
	"bytes"
	"errors"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// Preview is what a document shows before anybody gets it: what is in the file itself.
type Preview struct {
	// Kind is pages for a PDF, page for HTML and drawing for SVG, which whoever shows them draws;
	// sheets, files and lines have what they hold below.
	Kind   string         `json:"kind" jsonschema:"enum=pages,enum=page,enum=drawing,enum=sheets,enum=files,enum=lines"`
	Sheets []PreviewSheet `json:"sheets,omitempty"`
	Files  []PreviewFile  `json:"files,omitempty"`
	Lines  []string       `json:"lines,omitempty"`
	More   bool           `json:"more"` // lines than these
}

// PreviewSheet is the beginning of a sheet of a workbook.
type PreviewSheet struct {
	Name string          `json:"name"`
	Rows [][]PreviewCell `json:"rows"`
	More bool            `json:"more"` // rows than these
}

// PreviewCell is a cell of a workbook: heading as headings are, slanted as what was not verified.
type PreviewCell struct {
	Text    string `json:"text"`
	Heading bool   `json:"heading,omitempty"`
	Slanted bool   `json:"slanted,omitempty"`
}

// PreviewFile is a file of an archive.
type PreviewFile struct {
	Name string `json:"name"`
	Size uint64 `json:"size"` // bytes
}

// Bounds of what is previewed.
const (
	mostPreviewed = 64 << 20 // bytes of a document
	mostShownRows = 60
	mostShown     = 200
	mostLineBytes = 64 << 10
)

// Look previews a document that was made.
func Look(name string, in io.Reader) (Preview, error) {
	content, err := io.ReadAll(io.LimitReader(in, mostPreviewed+1))
	if err != nil {
		return Preview{}, problem.Disk(err, "the document cannot be read", name)
	}
	if len(content) > mostPreviewed {
		return Preview{}, problem.New(problem.Usage, "it is too large for a preview", "save it, and open that").About(name)
	}
	switch path.Ext(name) {
	case ".pdf":
		return Preview{Kind: "pages"}, nil
	case ".html":
		return Preview{Kind: "page"}, nil
	case ".svg":
		return Preview{Kind: "drawing"}, nil
	case ".xlsx":
		return lookSheets(name, content)
	case ".zip":
		return lookFiles(name, content)
	}
	p := Preview{Kind: "lines"}
	if p.More = len(content) > mostLineBytes; p.More {
		content = content[:mostLineBytes]
	}
	p.Lines = strings.Split(strings.TrimRight(string(content), "\r\n"), "\n")
	if len(p.Lines) > mostShown {
		p.Lines, p.More = p.Lines[:mostShown], true
	}
	for i, line := range p.Lines {
		p.Lines[i] = value.Printable(line)
	}
	return p, nil
}

func lookFiles(name string, content []byte) (Preview, error) {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return Preview{}, notWhole(name, err)
	}
	p := Preview{Kind: "files"}
	for _, f := range z.File {
		p.Files = append(p.Files, PreviewFile{f.Name, f.UncompressedSize64})
	}
	return p, nil
}

func lookSheets(name string, content []byte) (p Preview, err error) {
	f, err := excelize.OpenReader(bytes.NewReader(content), excelize.Options{UnzipSizeLimit: mostPreviewed, UnzipXMLSizeLimit: mostPreviewed})
	if err != nil {
		return p, notWhole(name, err)
	}
	defer f.Close()
	p.Kind = "sheets"
	for _, of := range f.GetSheetList() {
		sheet, err := lookSheet(f, of)
		if err != nil {
			return p, notWhole(name, err)
		}
		p.Sheets = append(p.Sheets, sheet)
	}
	return p, nil
}

func lookSheet(f *excelize.File, name string) (s PreviewSheet, err error) {
	s = PreviewSheet{Name: name, Rows: [][]PreviewCell{}}
	rows, err := f.Rows(name)
	if err != nil {
		return s, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for n := 1; rows.Next(); n++ {
		if n > mostShownRows {
			s.More = true
			break
		}
		texts, err := rows.Columns()
		if err != nil {
			return s, err
		}
		row := make([]PreviewCell, len(texts))
		for i, text := range texts {
			at, err := excelize.CoordinatesToCellName(i+1, n)
			if err != nil {
				return s, err
			}
			id, err := f.GetCellStyle(name, at)
			if err != nil {
				return s, err
			}
			style, err := f.GetStyle(id)
			if err != nil {
				return s, err
			}
			row[i].Text = text
			if style.Font != nil {
				row[i].Heading, row[i].Slanted = style.Font.Bold, style.Font.Italic
			}
		}
		s.Rows = append(s.Rows, row)
	}
	return s, rows.Error()
}

// Member opens a file of an archive that was made.
func Member(in io.ReaderAt, size int64, archive, name string) (io.ReadCloser, error) {
	z, err := zip.NewReader(in, size)
	if err != nil {
		return nil, notWhole(archive, err)
	}
	i := slices.IndexFunc(z.File, func(f *zip.File) bool { return f.Name == name })
	if i < 0 {
		return nil, problem.New(problem.Missing, "there is no such file in "+archive, "see which there are").About(name)
	}
	return z.File[i].Open()
}

func notWhole(name string, err error) error {
	return problem.New(problem.Machine, "what was made cannot be read", "make it anew").About(name).Because(err)
}
