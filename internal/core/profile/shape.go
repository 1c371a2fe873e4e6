package profile

import (
	"bytes"
	"fmt"
	"regexp"
)

// Bounds on the shape of a document, looked at before it is read: aliases multiply what they
// stand for, and each level of nesting costs the reader stack and time.
const (
	mostAliases = 8
	mostNested  = 40
	mostLines   = 5000
)

var alias = regexp.MustCompile(`(?m)(?:^|[\s\[{,:-])\*[A-Za-z0-9_-]+`)

// checkShape refuses documents that cost far more to read than any profile does.
func checkShape(doc []byte) error {
	if n := len(alias.FindAll(doc, mostAliases+1)); n > mostAliases {
		return fmt.Errorf("it has more than %d aliases (*name)", mostAliases)
	}
	lines := bytes.Split(doc, []byte("\n"))
	if len(lines) > mostLines {
		return fmt.Errorf("it has more than %d lines", mostLines)
	}
	flow := 0
	for i, line := range lines {
		deep := 0
		for rest := bytes.TrimLeft(line, " "); ; deep++ { // "- - - x" is a list in a list in a list
			next, item := bytes.CutPrefix(rest, []byte("- "))
			if !item {
				next, item = bytes.CutPrefix(rest, []byte("? "))
			}
			if !item {
				break
			}
			rest = bytes.TrimLeft(next, " ")
		}
		indent := (len(line) - len(bytes.TrimLeft(line, " "))) / 2
		opened := flow
		for _, b := range line {
			switch b {
			case '[', '{':
				opened++
			case ']', '}':
				opened = max(0, opened-1)
			}
			if opened > mostNested {
				return fmt.Errorf("line %d is nested more than %d deep", i+1, mostNested)
			}
		}
		if flow = min(opened, mostNested); deep > mostNested || indent > 4*mostNested {
			return fmt.Errorf("line %d is nested more than %d deep", i+1, mostNested)
		}
	}
	return nil
}
