package box

import (
	"time"

	"redstart/internal/core/address"
)

// Stock is what the site has of a model, and how the plan names it.
type Stock struct {
	Model   Model
	Prefix  [3]byte       // of its MACs
	Serial  string        // how serials are printed, of a number
	Away    time.Duration // how long a restart takes
	Factory func(serial string) Settings

	Short   string // within tags: CLK
	Kind    string
	Profile string
	// Row completes a line of the plan for one device, the number-th of its area; nil
	// leaves it as it is. usual is the terminal of the usual size.
	Row func(row map[string]string, b *Box, number int, usual bool)

	// Plan are its lines of the whole terminal's plan, as CSV with a header; nil for what
	// the plan does not hold, and for what is dealt out in shares.
	Plan []byte
	// Stands are those that stand at the whole terminal besides.
	Stands []Stand
}

// Stand is one device at the terminal.
type Stand struct {
	Tag string // of the entry that it truly is; "" for what the plan does not hold
	// Port of the managed switch that it hangs on; 0 for behind a field switch.
	Port int
	// Named says by what its line of the plan names it: mac, serial or "".
	Named string
	// Missing has not arrived, though the plan says that it is wired.
	Missing bool
	// Factory is its state if that is not the model's; nil: it is.
	Factory *Settings
	// Model is its model where devices differ in what hangs behind them; nil: as of all.
	Model *Model
	MAC   address.MAC   // zero: any
	Boot  time.Duration // how long after power-up it is first there; 0: a moment
	Guest address.MAC   // who has the address that it hands out
	// Speaks LLDP to the switch that it hangs on.
	Speaks bool
}

// Each gives one stand for each tag, at ports from port on; 0: all behind field switches.
func Each(port int, tags ...string) []Stand {
	var list []Stand
	for i, tag := range tags {
		s := Stand{Tag: tag}
		if port > 0 {
			s.Port = port + i
		}
		list = append(list, s)
	}
	return list
}

// Hang is one MAC behind a port of a switch.
type Hang struct {
	MAC    address.MAC
	Port   int
	Speaks bool // LLDP
}

// Always gives the same settings for any serial.
func Always(s Settings) func(string) Settings { return func(string) Settings { return s } }
