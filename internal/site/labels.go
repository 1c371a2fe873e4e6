package site

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/handover"
)

// usualLabel is the size of labels where none is given: 24 of them are on a sheet of A4.
const usualLabel = "70x37"

// Labels prints the labels of entries in walking order.
func (s *Site) Labels(ctx context.Context, o api.LabelOptions) (Download, error) {
	sheet, err := labelSheet(o)
	if err != nil {
		return Download{}, err
	}
	r, err := s.record(ctx)
	if err != nil {
		return Download{}, err
	}
	tags, err := chosenOf(r, o.Tags)
	if err != nil {
		return Download{}, err
	}
	labels, err := handover.LayOut(r, sheet, tags)
	if err != nil {
		return Download{}, err
	}
	var out bytes.Buffer
	if o.Format == "svg" {
		err = labels.SVG(&out)
		return Download{s.store.Key + "-labels.zip", "application/zip", out.Bytes()}, err
	}
	err = labels.PDF(&out)
	return Download{s.store.Key + "-labels.pdf", "application/pdf", out.Bytes()}, err
}

func labelSheet(o api.LabelOptions) (sheet handover.LabelSheet, err error) {
	if sheet.Width, sheet.Height, err = lengths(cmp.Or(o.Size, usualLabel)); err != nil {
		return sheet, err
	}
	if o.Gap != "" {
		if sheet.GapX, sheet.GapY, err = lengths(o.Gap); err != nil {
			return sheet, err
		}
	}
	page, known := handover.Pages[cmp.Or(o.Page, "A4")]
	if !known {
		return sheet, problem.New(problem.Usage, fmt.Sprintf("there is no page %q", o.Page), "choose A4, letter or roll").About("label")
	}
	sheet.PageWidth, sheet.PageHeight, sheet.Start = page[0], page[1], 1
	if o.Start != "" {
		if sheet.Start, err = strconv.Atoi(o.Start); err != nil {
			return sheet, problem.New(problem.Usage, "the label to start at is no number", "count from the top left, row by row").About("label")
		}
	}
	for _, key := range strings.Split(o.Fields, ",") {
		if key = strings.TrimSpace(key); key != "" {
			sheet.Fields = append(sheet.Fields, key)
		}
	}
	return sheet, nil
}

// lengths reads two lengths in millimetres: 63.5x38.1.
func lengths(text string) (a, b float64, err error) {
	left, right, two := strings.Cut(strings.ToLower(text), "x")
	a, err1 := strconv.ParseFloat(strings.TrimSpace(left), 64)
	b, err2 := strconv.ParseFloat(strings.TrimSpace(right), 64)
	if !two || err1 != nil || err2 != nil {
		return 0, 0, problem.New(problem.Usage, fmt.Sprintf("%q is not width and height in millimetres", text),
			"write it like 70x37, or 63.5x38.1").About("label")
	}
	return a, b, nil
}
