package shell

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"unicode/utf8"
)

// What is left of any text is what a person can read.
func FuzzPlain(f *testing.F) {
	for _, seed := range []string{"q1> ", "\x1b[1mq1\x1b[0m> ", "-- more --\r          \rnext", "ab\b\bcd",
		"\x1b]0;title\x07x", "a\x00b\x07", "\x1b", "\x1b[", "line\r\nline\rline"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		got := plain(raw)
		if len(got) > len(raw)+2*strings.Count(raw, "\xff")+3*len(raw) {
			t.Errorf("%q became longer: %q", raw, got)
		}
		if strings.ContainsAny(got, "\r\b\x07\x00\x1b\x7f") {
			t.Errorf("%q left control characters: %q", raw, got)
		}
		if utf8.ValidString(raw) && plain(got) != got {
			t.Errorf("%q is not plain yet: %q", raw, got)
		}
	})
}

// loop is a connection whose other side said something and keeps what it gets.
type loop struct {
	io.Reader
	bytes.Buffer
}

func (l *loop) Read(b []byte) (int, error) { return l.Reader.Read(b) }
func (*loop) Close() error                 { return nil }

// Whatever options are wished for, each is answered once and text comes through.
func FuzzTelnet(f *testing.F) {
	for _, seed := range [][]byte{[]byte("login: "), {255, 251, 1, 'a'}, {255, 253, 24, 255, 250, 24, 1, 255, 240, 'x'},
		{255, 255}, {255}, {255, 250}, bytes.Repeat([]byte{255, 251, 3}, 50)} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, said []byte) {
		l := &loop{Reader: bytes.NewReader(said)}
		text, err := io.ReadAll(io.LimitReader(overTelnet(l), 1<<20))
		if err != nil || len(text) > len(said) {
			t.Errorf("% x: %d bytes, %v", said, len(text), err)
		}
		if n := l.Buffer.Len(); n%3 != 0 || n > 3*2*256 {
			t.Errorf("% x: answered with %d bytes", said, n)
		}
	})
}
