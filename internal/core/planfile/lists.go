package planfile

import (
	"bytes"
	"fmt"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/problem"
)

// Kinds are the media types of the formats.
var Kinds = map[string]string{
	CSV: "text/csv; charset=utf-8", JSON: "application/json",
	XLSX: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}

// Table writes lines as CSV or as a workbook of one sheet.
func Table(format, sheet string, lines [][]string) ([]byte, error) {
	var out bytes.Buffer
	switch format {
	case CSV:
		return Lines(lines)
	case XLSX:
		workbook := excelize.NewFile()
		defer workbook.Close()
		if err := workbook.SetSheetName("Sheet1", sheet); err != nil {
			return nil, err
		}
		for i, l := range lines {
			if err := workbook.SetSheetRow(sheet, fmt.Sprintf("A%d", i+1), &l); err != nil {
				return nil, err
			}
		}
		err := workbook.Write(&out)
		return out.Bytes(), err
	}
	return nil, problem.New(problem.Usage, "there is no such format", "choose csv or xlsx").About(format)
}
