// Package evidence judges what shows that a box restarted. Only what a box that
// merely applied its settings could not give counts: that it was silent for long
// enough, that its up-time or start counter began anew, or that a connection
// died of it.
package evidence

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/fact"
)

// Ways in which a family shows that it restarted.
const (
	Silence    = "silence"    // it answered at no address for long enough
	Uptime     = "uptime"     // its up-time began anew
	Starts     = "starts"     // its start counter went up
	Connection = "connection" // a connection from before was reset by it; only where its address stays
)

// Ways lists all of them.
var Ways = []string{Silence, Uptime, Starts, Connection}

// Mark is what a box told at one moment of how long it runs. The zero Mark told
// nothing.
type Mark struct {
	Asked  time.Time // it was told no sooner
	At     time.Time // and no later
	Uptime float64   // in seconds; meaningful with HasUptime
	Grain  float64   // how exact the up-time is, in seconds
	Starts int64     // meaningful with HasStarts

	HasUptime, HasStarts bool
}

// Read makes a mark of what a box told between two moments: its answer may have been
// long on the way. What cannot be understood tells nothing.
func Read(facts map[string]string, asked, at time.Time) Mark {
	m := Mark{Asked: asked, At: at}
	if text := strings.TrimSpace(facts[fact.Uptime]); text != "" {
		if v, err := strconv.ParseFloat(text, 64); err == nil && v >= 0 && v < 1e9 {
			m.Uptime, m.Grain, m.HasUptime = v, 1, true
			if _, decimals, exact := strings.Cut(text, "."); exact {
				for range min(len(decimals), 3) {
					m.Grain /= 10
				}
			}
		}
	}
	if text := strings.TrimSpace(facts[fact.Starts]); text != "" {
		if n, err := strconv.ParseInt(text, 10, 64); err == nil && n >= 0 {
			m.Starts, m.HasStarts = n, true
		}
	}
	return m
}

// Known reports whether the box gave anything to go by.
func (m Mark) Known() bool { return m.HasUptime || m.HasStarts }

// drift is how much faster or slower than ours a box's clock may run, as a part.
const drift = 0.01

// Started gives the earliest moment at which the box may have started, by its up-time; times are of the clock
// by which it was asked.
func (m Mark) Started() (at time.Time, ok bool) {
	if !m.HasUptime {
		return time.Time{}, false
	}
	return m.Asked.Add(-time.Duration((m.Uptime/(1-drift) + m.Grain) * float64(time.Second))), true
}

// Since says what in a later mark shows that the box restarted after an earlier
// one; "" when nothing does.
func (m Mark) Since(before Mark) string {
	if m.HasStarts && before.HasStarts && m.Starts > before.Starts {
		return fmt.Sprintf("its start counter went from %d to %d", before.Starts, m.Starts)
	}
	if !m.HasUptime || !before.HasUptime {
		return ""
	}
	passed := m.Asked.Sub(before.At).Seconds()                         // at least
	least := before.Uptime + passed*(1-drift) - m.Grain - before.Grain // had it gone on running
	if m.Uptime < least {
		return fmt.Sprintf("its up-time began anew: it told %s",
			time.Duration(m.Uptime*float64(time.Second)).Round(10*time.Millisecond))
	}
	return ""
}

// SinceWrite says what shows that the box restarted after the moment of the last
// write, when starts was its counter (negative: never read); "" when nothing does. The moment is one of this
// run of the service, with its monotonic clock; zero where it was written before, of which an up-time shows
// nothing: either clock may have been set since.
func (m Mark) SinceWrite(written time.Time, starts int64) string {
	if m.HasStarts && starts >= 0 && m.Starts > starts {
		return fmt.Sprintf("its start counter went from %d to %d", starts, m.Starts)
	}
	if at, ok := m.Started(); ok && !written.IsZero() && at.After(written) {
		return fmt.Sprintf("its up-time began anew: it told %s",
			time.Duration(m.Uptime*float64(time.Second)).Round(10*time.Millisecond))
	}
	return ""
}
