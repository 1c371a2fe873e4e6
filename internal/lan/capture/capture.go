// Package capture is a port around a port that writes what crosses it to a
// packet capture (pcapng, draft-ietf-opsawg-pcapng) while one is asked for.
package capture

import (
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"redstart/internal/lan"
)

// MostBytes is the largest capture, in bytes; what comes after it is not kept.
const MostBytes = 256 << 20

// ErrFull says that a capture is as large as it may be.
var ErrFull = fmt.Errorf("the capture reached %d MiB, and ends there", MostBytes>>20)

// ErrBusy says that a capture is under way.
var ErrBusy = errors.New("a capture is under way already")

// Port writes what crosses it.
type Port struct {
	lan.Port
	mu  sync.Mutex
	out *pcapgo.NgWriter // nil while nothing is written
	err error            // the first of the capture
	has int              // bytes of frames in it
}

var _ lan.Port = (*Port)(nil)

// On wraps a port, which then belongs to the wrapper.
func On(inner lan.Port) *Port { return &Port{Port: inner} }

// Start begins a capture. name is what the interface is called in it.
func (p *Port) Start(w io.Writer, name, program string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.out != nil {
		return ErrBusy
	}
	face := pcapgo.DefaultNgInterface
	face.Name, face.LinkType, face.SnapLength = name, layers.LinkTypeEthernet, 0
	options := pcapgo.DefaultNgWriterOptions
	options.SectionInfo.Application = program
	out, err := pcapgo.NewNgWriterInterface(w, face, options)
	if err == nil {
		p.out, p.err, p.has = out, nil, 0
	}
	return err
}

// Stop ends the capture, and tells what went wrong with it.
func (p *Port) Stop() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.out == nil {
		return nil
	}
	err := errors.Join(p.err, p.out.Flush())
	p.out = nil
	return err
}

func (p *Port) write(frame []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.out == nil || p.err != nil {
		return
	}
	if p.has += len(frame); p.has > MostBytes {
		p.err = ErrFull
		return
	}
	p.err = p.out.WritePacket(gopacket.CaptureInfo{Timestamp: time.Now(), CaptureLength: len(frame),
		Length: len(frame)}, frame)
}

// Send implements lan.Port.
func (p *Port) Send(frame []byte) error {
	p.write(frame)
	return p.Port.Send(frame)
}

// Receive implements lan.Port.
func (p *Port) Receive() ([]byte, error) {
	frame, err := p.Port.Receive()
	if err == nil {
		p.write(frame)
	}
	return frame, err
}
