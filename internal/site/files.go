package site

import (
	"io"
	"strconv"

	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
)

// Download is a file that is given out whole.
type Download struct {
	Name    string
	Kind    string // media type
	Content []byte
}

// Stored is a file of the site that is given out.
type Stored struct {
	Name    string
	Content io.ReadCloser // belongs to whoever answers
}

// fileKinds are the media types of the formats that are given out.
var fileKinds = map[string]string{
	planfile.CSV: "text/csv; charset=utf-8", planfile.JSON: "application/json",
	planfile.XLSX: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}

// Number reads the number of something that has one.
func Number(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, problem.New(problem.Missing, "there is no such "+what, "").About(text)
	}
	return n, nil
}
