package value

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Printable makes one line of a text that comes from outside, of nothing but what can be
// seen: no control characters of either set (ISO/IEC 6429), no marks that change the
// direction of what follows or hide it (Unicode TR9, 2), no bytes that are no UTF-8 (RFC
// 3629). Line breaks and tabs become spaces.
func Printable(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\r' || r == '\t' || r == '\v' || r == '\f' || r == '\u0085' || r == '\u2028' || r == '\u2029':
			return ' '
		case r == unicode.ReplacementChar:
			return -1
		case r == ' ' || unicode.IsPrint(r):
			return r
		case unicode.Is(unicode.Zs, r): // other spaces
			return ' '
		}
		return -1 // control, format, surrogate, private and unassigned
	}, strings.ToValidUTF8(text, ""))
}

// PrintableLines is Printable for a text of several lines of our own, with what came from
// outside in them.
func PrintableLines(text string) string {
	if !strings.Contains(text, "\n") {
		return Printable(text)
	}
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = Printable(l)
	}
	return strings.Join(lines, "\n")
}

// number is what may begin with a sign and is no formula.
var number = regexp.MustCompile(`^[+-]?[0-9]+(\.[0-9]+)?$`)

// Cell gives a text as it stands in a cell of an exported file: one that a spreadsheet would
// run as a formula, or strip of its apostrophe, gets an apostrophe before it. Numbers stay.
func Cell(text string) string {
	if formula(strings.TrimLeft(text, "'")) {
		return "'" + text
	}
	return text
}

// PlainCell is the opposite of Cell.
func PlainCell(cell string) string {
	if rest, marked := strings.CutPrefix(cell, "'"); marked && formula(strings.TrimLeft(rest, "'")) {
		return rest
	}
	return cell
}

func formula(text string) bool {
	first, _ := utf8.DecodeRuneInString(text)
	if text == "" || !strings.ContainsRune("=+-@\t\r\n|%＝＋－＠", first) {
		return false
	}
	return !number.MatchString(text)
}
