// Package faults is a port around a port that loses, delays and doubles frames
// on a seed, as a bad cable does.
package faults

import (
	"math/rand/v2"
	"sync"
	"time"

	"redstart/internal/lan"
)

// Faults are probabilities from 0 to 1 and a longest delay. The zero value
// changes nothing.
type Faults struct {
	Loss      float64
	Duplicate float64
	Delay     time.Duration // each frame is late by a random part of this
}

// Any reports whether there is any fault at all.
func (f Faults) Any() bool { return f.Loss > 0 || f.Duplicate > 0 || f.Delay > 0 }

type port struct {
	lan.Port
	faults Faults
	mu     sync.Mutex
	random *rand.Rand
}

// On puts faults around a port, for the frames that are sent through it.
func On(p lan.Port, f Faults, seed uint64) lan.Port {
	if !f.Any() {
		return p
	}
	return &port{Port: p, faults: f, random: rand.New(rand.NewPCG(seed, 1))}
}

// Send implements lan.Port.
func (p *port) Send(frame []byte) error {
	p.mu.Lock()
	lost := p.random.Float64() < p.faults.Loss
	copies := 1
	if p.random.Float64() < p.faults.Duplicate {
		copies = 2
	}
	late := time.Duration(p.random.Float64() * float64(p.faults.Delay))
	p.mu.Unlock()
	if lost {
		return nil
	}
	for range copies {
		if late <= 0 {
			if err := p.Port.Send(frame); err != nil {
				return err
			}
			continue
		}
		kept := append([]byte(nil), frame...)
		// The frame is on its way; a port that is closed meanwhile just loses it.
		time.AfterFunc(late, func() { _ = p.Port.Send(kept) })
	}
	return nil
}
