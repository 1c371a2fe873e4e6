package shell

import (
	"regexp"
	"strings"
)

// sequences are what moves the cursor and colours the text (ECMA-48, 5.4 and 5.6)
// instead of being part of it.
var sequences = regexp.MustCompile("\x1b\\[[0-?]*[ -/]*[@-~]|\x1b\\][^\x07\x1b]*(?:\x07|\x1b\\\\)|\x1b[ -/]*[0-~]")

// plain gives the text of what a shell sent, as a person would read it: without
// control sequences, with what was rubbed out left out, lines divided by \n.
func plain(raw string) string {
	raw = sequences.ReplaceAllString(raw, "")
	raw = strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(raw)
	if strings.IndexFunc(raw, control) < 0 {
		return raw
	}
	out := make([]rune, 0, len(raw))
	for _, r := range raw {
		switch {
		case r == '\b' || r == 0x7f:
			if n := len(out); n > 0 && out[n-1] != '\n' {
				out = out[:n-1]
			}
		case !control(r):
			out = append(out, r)
		}
	}
	return string(out)
}

func control(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0x7f }

// withoutEcho leaves out a line that was said and came back.
func withoutEcho(text, said string) string {
	trimmed := strings.TrimLeft(text, "\n")
	if said == "" || !strings.HasPrefix(trimmed, said) {
		return text
	}
	return trimmed[len(said):]
}
