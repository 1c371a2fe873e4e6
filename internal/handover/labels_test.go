package handover_test

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/core/label"
	"redstart/internal/handover"
)

// Labels come in walking order, from the label of a used sheet on; the same is the same to the
// byte; and another program finds every text in the PDF.
func TestLabels(t *testing.T) {
	t.Parallel()
	sheet := handover.LabelSheet{Width: 70, Height: 37, PageWidth: 210, PageHeight: 297, Start: 23}
	r := quay()
	r.Entries[0].Area, r.Entries[1].Area = "Z", "A"
	var made [2]bytes.Buffer
	for i := range made {
		l, err := handover.LayOut(r, sheet, nil)
		if err != nil {
			t.Fatal(err)
		}
		if err := l.PDF(&made[i]); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(made[0].Bytes(), made[1].Bytes()) {
		t.Error("made twice, it is not the same")
	}
	path := filepath.Join(t.TempDir(), "labels.pdf")
	if err := os.WriteFile(path, made[0].Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	text, err := exec.CommandContext(t.Context(), "pdftotext", "-layout", path, "-").Output()
	if err != nil {
		t.Fatal(err)
	}
	pages := strings.Split(strings.TrimRight(string(text), "\f"), "\f")
	if len(pages) != 2 || !strings.Contains(pages[0], "10.1.5.8") || strings.Contains(pages[0], "CAM-2") ||
		!strings.Contains(pages[1], "CAM-2") || !strings.Contains(pages[1], "02:00:00:00:00:01") {
		t.Errorf("%q", pages)
	}
	if a, z := strings.Index(pages[1], "CAM-2"), strings.Index(pages[1], "CAM-1"); a > z {
		t.Errorf("not in walking order: %s", pages[1])
	}
	l, err := handover.LayOut(r, handover.LabelSheet{Width: 62, Height: 29, Fields: []string{"tag"}}, []string{"CAM-1", "=cmd()|x"})
	if err != nil {
		t.Fatal(err)
	}
	roll := filepath.Join(t.TempDir(), "roll.pdf")
	var printed bytes.Buffer
	if err := l.PDF(&printed); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(roll, printed.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	// 62 by 29 mm in points of 1/72 inch: it lies as the label does.
	if info, err := exec.CommandContext(t.Context(), "pdfinfo", roll).Output(); err != nil || !strings.Contains(string(info), "175.75 x 82.2") {
		t.Errorf("%v\n%s", err, info)
	}
	var drawings bytes.Buffer
	if err := l.SVG(&drawings); err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(drawings.Bytes()), int64(drawings.Len()))
	if err != nil || len(z.File) != 2 {
		t.Fatalf("%v", err)
	}
	for _, f := range z.File {
		in, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		for d := xml.NewDecoder(in); err == nil; {
			_, err = d.Token()
		}
		if !errors.Is(err, io.EOF) {
			t.Errorf("%s: %v", f.Name, err)
		}
	}
}

// What the code says is what our own scanner finds a device by.
func TestTheCodeOfALabelIsScanned(t *testing.T) {
	t.Parallel()
	r := quay()
	got := label.Parse(handover.CodeText(r, r.Entries[0]))
	if len(got.MACs) != 1 || got.MACs[0] != r.Entries[0].Device || len(got.Serials) != 1 || got.Serials[0] != "S1" {
		t.Errorf("%+v", got)
	}
}

func TestLabelsThatDoNotFit(t *testing.T) {
	t.Parallel()
	whole := handover.LabelSheet{Width: 70, Height: 37, PageWidth: 210, PageHeight: 297}
	for want, change := range map[string]func(*handover.LabelSheet){
		"too small or too large":  func(s *handover.LabelSheet) { s.Width = 8 },
		"does not fit on a sheet": func(s *handover.LabelSheet) { s.Width = 250 },
		"no label 25 to start at": func(s *handover.LabelSheet) { s.Start = 25 },
		"there is no field":       func(s *handover.LabelSheet) { s.Fields = []string{"password"} },
		"so that they can be read": func(s *handover.LabelSheet) {
			s.Height, s.Fields = 12.5, strings.Split("tag kind state name address mac serial model", " ")
		},
		"so that it can be read":      func(s *handover.LabelSheet) { s.Width, s.Height, s.Fields = 18, 12, []string{"tag"} },
		"a length is not one of":      func(s *handover.LabelSheet) { s.GapX = -1 },
		"1 to 12 fields stand":        func(s *handover.LabelSheet) { s.Fields = make([]string, 13) },
		"so there is nothing to prin": nil,
	} {
		s, tags := whole, []string(nil)
		if change != nil {
			change(&s)
		} else {
			tags = []string{}
		}
		if _, err := handover.LayOut(quay(), s, tags); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
}
