package value_test

import (
	"strings"
	"testing"
	"unicode"

	"redstart/internal/core/value"
)

// Every class of character that a terminal or a reader would take for something else goes,
// and what people write stays.
func TestPrintable(t *testing.T) {
	for text, want := range map[string]string{
		"Kåre's café, 東京, ½":                    "Kåre's café, 東京, ½",
		"\x1b]0;owned\x07title":                 "]0;ownedtitle",
		"\x1b[2Kverified":                       "[2Kverified",
		"a\r\nb\tc\vd\fe\u0085f\u2028g":         "a  b c d e f g",
		"C1 \u009b31m \u0090x\u009c":            "C1 31m x",
		"bidi \u202eevil\u202c \u2066x\u2069":   "bidi evil x",
		"marks \u200e\u200f\u061c\u200b\ufeff.": "marks .",
		"bell\a back\b del\x7f nul\x00":         "bell back del nul",
		"bad \xff\xfe utf8 \ufffd":              "bad  utf8 ",
		"no\u00a0break":                         "no break",
	} {
		if got := value.Printable(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	if got := value.PrintableLines("one\n\x1b[1mtwo\r\nthree"); got != "one\n[1mtwo \nthree" {
		t.Errorf("%q", got)
	}
}

func FuzzPrintable(f *testing.F) {
	f.Add("\x1b[31m\u202ex\xff")
	f.Fuzz(func(t *testing.T, text string) {
		got := value.Printable(text)
		if value.Printable(got) != got {
			t.Errorf("%q changes once more: %q", text, got)
		}
		for _, r := range got {
			if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) {
				t.Errorf("%q lets %U through", text, r)
			}
		}
	})
}

// What a spreadsheet would run is marked in every export, numbers are not, and what is read
// back is what was written.
func TestCells(t *testing.T) {
	for text, want := range map[string]string{
		"=cmd|' /C calc'!A0": "'=cmd|' /C calc'!A0", "+SUM(1)": "'+SUM(1)", "-x": "'-x", "@A1": "'@A1", "\t=1": "'\t=1",
		"＝1+1": "'＝1+1", "＠A1": "'＠A1", "-12.5": "-12.5", "+47 123": "'+47 123", "+47": "+47", "HALL-CAM-01": "HALL-CAM-01", "": "", "'=1": "''=1",
		"'quoted'": "'quoted'", "|x": "'|x", "-": "'-", "10.40.8.1": "10.40.8.1",
	} {
		if got := value.Cell(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

func FuzzCell(f *testing.F) {
	for _, s := range []string{"=1", "'=1", "''", "-1e5", "'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		cell := value.Cell(text)
		if got := value.PlainCell(cell); got != text {
			t.Errorf("%q became %q and then %q", text, cell, got)
		}
		if cell != "" && strings.ContainsRune("=@", rune(cell[0])) {
			t.Errorf("%q is run", cell)
		}
	})
}
