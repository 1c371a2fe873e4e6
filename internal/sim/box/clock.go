package box

import "time"

// wrong is the year in which the clock of a device starts that nobody set.
var wrong = time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)

// Clock is the device's own: it starts in the wrong year until it is set, and a battery
// keeps it through restarts and power cuts.
func (b *Box) Clock() time.Time {
	b.mu.Lock()
	defer b.mu.Unlock()
	return time.Now().Add(b.ahead).UTC()
}

// SetClock sets it.
func (b *Box) SetClock(at time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.ahead = time.Until(at)
}
