package box

import (
	"errors"
	"io"
	"os"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// PlugLine hangs a serial line on the device's console: a pseudo-terminal, whose name it
// gives. close takes it away.
func (b *Box) PlugLine() (name string, close func(), err error) {
	ours, theirs, err := pty.Open()
	if err != nil {
		return "", nil, err
	}
	if _, err := term.MakeRaw(int(theirs.Fd())); err != nil { // else it would hear itself
		return "", nil, errors.Join(err, ours.Close(), theirs.Close())
	}
	if ours, err = unblocked(ours); err != nil {
		return "", nil, errors.Join(err, theirs.Close())
	}
	ended := make(chan struct{})
	go func() {
		defer func() { ended <- struct{}{} }()
		wire := &serialWire{ours, b}
		for !wire.gone() {
			b.Model.Console(b, wire)
		}
	}()
	return theirs.Name(), func() {
		_ = theirs.Close()
		_ = ours.Close() // the console's reading ends with it
		<-ended
	}, nil
}

// unblocked gives a file of the same terminal whose closing ends a reading under way: in the
// mode that it is opened in, the reading goes on until nobody has the other end open.
func unblocked(f *os.File) (*os.File, error) {
	fd, err := unix.FcntlInt(f.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if err := errors.Join(unix.SetNonblock(fd, true), f.Close()); err != nil {
		return nil, errors.Join(err, unix.Close(fd))
	}
	return os.NewFile(uintptr(fd), f.Name()), nil
}

// serialWire is a line whose device takes nothing in, and says nothing, while it is off.
type serialWire struct {
	*os.File
	box *Box
}

func (w *serialWire) Read(p []byte) (int, error) {
	for {
		n, err := w.File.Read(p[:1]) // what a dialogue leaves is for the next
		if err != nil || w.box.isLive() {
			return n, err
		}
	}
}

func (w *serialWire) Write(p []byte) (int, error) {
	if !w.box.isLive() {
		return len(p), nil
	}
	return w.File.Write(p)
}

// gone reports whether the line was taken away.
func (w *serialWire) gone() bool {
	_, err := w.File.Stat()
	return err != nil
}

var _ io.ReadWriter = (*serialWire)(nil)
