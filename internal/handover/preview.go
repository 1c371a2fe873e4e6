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

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/value"
)

// Bounds of what is previewed.
const (
	mostPreviewed = 64 << 20 // bytes of a document
	mostShownRows = 60
	mostShown     = 200
	mostLineBytes = 64 << 10
)

// Look previews a document that was made.
func Look(name string, in io.Reader) (api.Preview, error) {
	content, err := io.ReadAll(io.LimitReader(in, mostPreviewed+1))
	if err != nil {
		return api.Preview{}, problem.Disk(err, "the document cannot be read", name)
	}
	if len(content) > mostPreviewed {
		return api.Preview{}, problem.New(problem.Usage, "it is too large for a preview", "save it, and open that").About(name)
	}
	switch path.Ext(name) {
	case ".pdf":
		return api.Preview{Kind: "pages"}, nil
	case ".html":
		return api.Preview{Kind: "page"}, nil
	case ".svg":
		return api.Preview{Kind: "drawing"}, nil
	case ".xlsx":
		return lookSheets(name, content)
	case ".zip":
		return lookFiles(name, content)
	}
	p := api.Preview{Kind: "lines"}
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

func lookFiles(name string, content []byte) (api.Preview, error) {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return api.Preview{}, notWhole(name, err)
	}
	p := api.Preview{Kind: "files"}
	for _, f := range z.File {
		p.Files = append(p.Files, api.PreviewFile{Name: f.Name, Size: f.UncompressedSize64})
	}
	return p, nil
}

func lookSheets(name string, content []byte) (p api.Preview, err error) {
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

func lookSheet(f *excelize.File, name string) (s api.PreviewSheet, err error) {
	s = api.PreviewSheet{Name: name, Rows: [][]api.PreviewCell{}}
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
		row := make([]api.PreviewCell, len(texts))
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
