package box

import (
	"bufio"
	"io"
	"os"
	"testing"
)

// A line is taken away although somebody still has its other end open.
func TestALineIsTakenAwayFromWhoHasItOpen(t *testing.T) {
	reading := make(chan struct{}, 1)
	b := &Box{Model: Model{Console: func(_ *Box, line io.ReadWriter) {
		select {
		case reading <- struct{}{}:
		default:
		}
		_, _ = bufio.NewReader(line).ReadByte() // it ends with the line
	}}}
	name, unplug, err := b.PlugLine()
	if err != nil {
		t.Fatal(err)
	}
	other, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	<-reading
	unplug() // hangs where its reading goes on
}
