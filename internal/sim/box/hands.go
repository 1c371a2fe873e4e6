package box

import (
	"strings"
	"time"
)

// Hand does with the device what a person would who reads an instruction, and reports
// whether there is such a thing to do.
func (b *Box) Hand(instruction string) bool {
	if b.Model.Hand != nil && b.Model.Hand(b, instruction) {
		return true
	}
	if strings.Contains(strings.ToLower(instruction), "off and on") {
		b.PowerCut()
		return true
	}
	return false
}

// Move puts the switch on its board into a position.
func (b *Box) Move(position string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.position, b.moved = position, time.Now()
	b.events = append(b.events, Event{time.Now(), "hand", position})
}

// Position tells where its switch is, "" for where it left the factory, and since when.
func (b *Box) Position() (position string, since time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.position, b.moved
}

// Scaled is a time of the real device as the simulation takes it.
func (b *Box) Scaled(real time.Duration) time.Duration {
	if b.Pace == 0 {
		return real
	}
	return time.Duration(float64(real) * b.Pace)
}
