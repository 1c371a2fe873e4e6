package driver

import (
	"fmt"
	"regexp"

	"redstart/internal/core/profile"
)

// CheckRows reports why an expression does not tell the rows of a table: each fit is one
// row, and each named group one of its columns.
func CheckRows(e *regexp.Regexp) error {
	named := 0
	for _, name := range e.SubexpNames() {
		if name != "" {
			named++
		}
	}
	if named < 2 {
		return fmt.Errorf("the rows of a table need at least two named groups, like (?P<port>\\d+)")
	}
	return nil
}

// Rows takes the rows of a table out of a text, as profile.ParseRows reads them.
func Rows(e *regexp.Regexp, text string) string {
	rows := []profile.Row{}
	for _, fit := range e.FindAllStringSubmatch(text, -1) {
		row := profile.Row{}
		for i, name := range e.SubexpNames() {
			if name != "" {
				row[name] = fit[i]
			}
		}
		rows = append(rows, row)
	}
	return profile.RowsText(rows)
}
