package box

import "time"

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
}

// Always gives the same settings for any serial.
func Always(s Settings) func(string) Settings { return func(string) Settings { return s } }
