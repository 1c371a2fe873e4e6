// Package line opens serial lines: consoles of boxes that are reached by no network.
package line

import (
	"fmt"
	"io"
	"slices"

	"go.bug.st/serial"

	"redstart/internal/core/problem"
)

// Mode is how a line is set. The zero Mode is 9600 bits a second, 8 bits, no parity, 1
// stop bit.
type Mode struct {
	Speed  int    `yaml:"speed"`  // bits a second; 0: 9600
	Bits   int    `yaml:"bits"`   // of a character; 0: 8
	Parity string `yaml:"parity"` // none, even or odd; "": none
	Stop   int    `yaml:"stop"`   // stop bits, 1 or 2; 0: 1
}

const maxSpeed = 4_000_000

// Check says what is wrong with a mode.
func (m Mode) Check() error {
	switch {
	case m.Speed < 0 || m.Speed > maxSpeed:
		return fmt.Errorf("speed is in bits a second")
	case m.Bits != 0 && (m.Bits < 5 || m.Bits > 8):
		return fmt.Errorf("bits is 5 to 8")
	case !slices.Contains([]string{"", "none", "even", "odd"}, m.Parity):
		return fmt.Errorf("parity is none, even or odd, not %q", m.Parity)
	case m.Stop < 0 || m.Stop > 2:
		return fmt.Errorf("stop is 1 or 2")
	}
	return nil
}

// Open opens a line by the name of its device file. It is opened by one alone.
func Open(name string, m Mode) (io.ReadWriteCloser, error) {
	mode := &serial.Mode{BaudRate: 9600, DataBits: 8}
	if m.Speed > 0 {
		mode.BaudRate = m.Speed
	}
	if m.Bits > 0 {
		mode.DataBits = m.Bits
	}
	switch m.Parity {
	case "even":
		mode.Parity = serial.EvenParity
	case "odd":
		mode.Parity = serial.OddParity
	}
	if m.Stop == 2 {
		mode.StopBits = serial.TwoStopBits
	}
	port, err := serial.Open(name, mode)
	if err != nil {
		return nil, problem.New(problem.Machine, "the serial line cannot be opened",
			"plug it in, close what else uses it, or let the service use it").About(name).Because(err)
	}
	return port, nil
}
