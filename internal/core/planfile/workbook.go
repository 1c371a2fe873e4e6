package planfile

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Bounds on a workbook before anything of it is unfolded.
const (
	mostParts  = 500
	mostSheets = 50
	mostCells  = 2000      // in a row, of which spreadsheets leave many empty
	mostText   = 128 << 10 // bytes in a cell: 32,767 characters of at most four
	mostDepth  = 100       // of elements
)

// fits looks at a workbook as it is packed: a text that many cells share, a row of many
// cells, or one part that is many sheets, unfold to far more than the file.
func fits(ctx context.Context, file []byte) error {
	archive, err := zip.NewReader(read{bytes.NewReader(file), ctx}, int64(len(file)))
	if err != nil {
		return refuse("the workbook cannot be read: it is damaged", "open and save it again in the spreadsheet")
	}
	if len(archive.File) > mostParts {
		return refuse(fmt.Sprintf("the workbook has %d parts; at most %d are read", len(archive.File), mostParts),
			"keep only the sheets of the plan")
	}
	var whole uint64
	for _, part := range archive.File {
		if whole += part.UncompressedSize64; whole > maxUnzipped {
			return refuse("the workbook cannot be read: it unfolds to far more than a plan", "give the plan alone")
		}
		if !strings.HasSuffix(part.Name, ".xml") || !strings.HasPrefix(part.Name, "xl/") {
			continue
		}
		r, err := part.Open()
		if err != nil {
			return refuse("the workbook cannot be read: it is damaged", "open and save it again in the spreadsheet")
		}
		err = fitsPart(io.LimitReader(r, maxUnzipped))
		if err = errors.Join(err, r.Close()); err != nil {
			return err
		}
	}
	return nil
}

// fitsPart bounds the cells of a row, the sheets of a workbook and the texts of cells.
func fitsPart(r io.Reader) error {
	d := xml.NewDecoder(r)
	d.Strict = false
	cells, sheets, depth, inText, text := 0, 0, 0, false, 0
	for {
		token, err := d.RawToken()
		if err != nil {
			return nil // what is no XML, the workbook's reader says
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			switch t.Name.Local {
			case "row":
				cells = 0
			case "c":
				cells++
			case "sheet":
				sheets++
			case "si", "is":
				inText, text = true, 0
			}
		case xml.EndElement:
			depth--
			inText = inText && t.Name.Local != "si" && t.Name.Local != "is"
		case xml.CharData:
			if inText {
				text += len(t)
			}
		}
		switch {
		case depth > mostDepth:
			return refuse("the workbook cannot be read: it is damaged", "open and save it again in the spreadsheet")
		case cells > mostCells:
			return refuse(fmt.Sprintf("a row has more than %d cells", mostCells), "leave out what is not of the plan")
		case sheets > mostSheets:
			return refuse(fmt.Sprintf("the workbook has more than %d sheets", mostSheets), "keep only those of the plan")
		case text > mostText:
			return refuse(fmt.Sprintf("a cell holds more than %d KiB of text", mostText>>10), "shorten it")
		}
	}
}
