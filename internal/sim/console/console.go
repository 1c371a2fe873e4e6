// Package console is the text console of simulated boxes: dialogues and menus, over
// SSH or over anything else that carries bytes.
package console

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
)

// maxLine is the longest line that a box takes, in bytes.
const maxLine = 256

// Terminal is one person, or program, at a box's console.
type Terminal struct {
	in   *bufio.Reader
	out  io.Writer
	echo bool
}

// New makes a terminal of a connection. Echo says whether the box sends back what is
// typed, as most do.
func New(c io.ReadWriter, echo bool) *Terminal {
	return &Terminal{in: bufio.NewReaderSize(c, maxLine), out: c, echo: echo}
}

// Say prints text; lines are divided by \n.
func (t *Terminal) Say(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	_, _ = io.WriteString(t.out, strings.ReplaceAll(text, "\n", "\r\n")) // whoever was there may have gone
}

// Ask prints a question and gives the line that is typed.
func (t *Terminal) Ask(format string, args ...any) (string, error) {
	t.Say(format, args...)
	return t.line(t.echo)
}

// Secret asks without showing what is typed.
func (t *Terminal) Secret(format string, args ...any) (string, error) {
	t.Say(format, args...)
	return t.line(false)
}

// Key waits for one key.
func (t *Terminal) Key() (byte, error) {
	c, err := t.in.ReadByte()
	if err == nil && c == ctrlC {
		err = ErrInterrupted
	}
	return c, err
}

var errTooLong = errors.New("the line is too long")

// ErrInterrupted says that whoever is there pressed Ctrl-C.
var ErrInterrupted = errors.New("interrupted")

const ctrlC = 0x03

func (t *Terminal) line(echo bool) (string, error) {
	var line []byte
	for {
		c, err := t.in.ReadByte()
		switch {
		case err != nil:
			return "", err
		case c == ctrlC:
			return "", ErrInterrupted
		case c == '\r' || c == '\n':
			if c == '\r' && t.in.Buffered() > 0 {
				if next, err := t.in.Peek(1); err == nil && next[0] == '\n' {
					_, _ = t.in.Discard(1) // it was just peeked at
				}
			}
			t.Say("\n")
			return string(line), nil
		case c == '\b' || c == 0x7f:
			if len(line) > 0 {
				line = line[:len(line)-1]
				if echo {
					t.Say("\b \b")
				}
			}
		case len(line) == maxLine:
			return "", errTooLong
		case c >= ' ':
			line = append(line, c)
			if echo {
				_, _ = t.out.Write([]byte{c})
			}
		}
	}
}
