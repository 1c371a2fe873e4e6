package evidence_test

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/evidence"
)

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func mark(after time.Duration, uptime, starts string) evidence.Mark {
	return evidence.Read(map[string]string{"uptime": uptime, "starts": starts}, noon.Add(after), noon.Add(after))
}

// late is a mark whose answer was ten seconds on the way.
func late(after time.Duration, uptime string) evidence.Mark {
	return evidence.Read(map[string]string{"uptime": uptime}, noon.Add(after), noon.Add(after+10*time.Second))
}

func TestWhatShowsARestart(t *testing.T) {
	for _, c := range []struct {
		name          string
		before, after evidence.Mark
		want          string
	}{
		{"it went on running", mark(0, "5000", ""), mark(10*time.Second, "5010", ""), ""},
		{"its clock is a little slow", mark(0, "5000", ""), mark(1000*time.Second, "5992", ""), ""},
		{"it began anew", mark(0, "5000", ""), mark(10*time.Second, "3", ""), "began anew: it told 3s"},
		{"it had run shorter than it was away", mark(0, "0.50", ""), mark(2*time.Second, "0.90", ""), "began anew"},
		{"too coarse to tell", mark(0, "0", ""), mark(time.Second, "0", ""), ""},
		{"the counter went up", mark(0, "", "7"), mark(time.Second, "", "8"), "from 7 to 8"},
		{"the counter stayed", mark(0, "", "7"), mark(time.Hour, "", "7"), ""},
		{"its answer was on the way for long", mark(0, "5000", ""), late(2*time.Second, "5002"), ""},
		{"so was the one before", late(0, "5001"), mark(11*time.Second, "5002", ""), ""},
		{"it told nothing before", evidence.Mark{}, mark(0, "1", "9"), ""},
		{"it tells nothing now", mark(0, "1", "9"), mark(time.Minute, "soon", "-1"), ""},
	} {
		got := c.after.Since(c.before)
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestARestartAfterTheLastWrite(t *testing.T) {
	now := mark(time.Minute, "20.5", "8")
	if now.SinceWrite(noon.Add(30*time.Second), -1) == "" {
		t.Error("it started after the write, and that is not seen")
	}
	if got := now.SinceWrite(noon.Add(50*time.Second), -1); got != "" {
		t.Errorf("it started before the write: %s", got)
	}
	if now.SinceWrite(noon.Add(50*time.Second), 7) == "" {
		t.Error("its counter went up since the write")
	}
	if got := late(time.Minute, "50").SinceWrite(noon.Add(12*time.Second), -1); got != "" {
		t.Errorf("a late answer counts as proof: %s", got)
	}
	// Whole seconds may be nearly one more: the doubt is against the box.
	if got := mark(time.Minute, "20", "").SinceWrite(noon.Add(39500*time.Millisecond), -1); got != "" {
		t.Errorf("a doubt counts as proof: %s", got)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("12.5", "3")
	f.Add("-1", "9999999999999999999")
	f.Add("1e400", "NaN")
	f.Fuzz(func(t *testing.T, uptime, starts string) {
		m := evidence.Read(map[string]string{"uptime": uptime, "starts": starts}, noon, noon)
		if at, ok := m.Started(); ok && at.After(noon) {
			t.Errorf("it started in the future: %s", at)
		}
		_ = m.Since(m)
	})
}

// An up-time shows a restart only beside a moment of this run of the service, and with the drift of the
// box's clock allowed for: 100 ppm over four days are more than half a minute.
func TestNothingRestsOnTheDifferenceOfTwoClocks(t *testing.T) {
	written := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		up      float64 // in seconds, asked four days after the write
		written time.Time
		shows   bool
	}{
		"began two days ago":               {2 * 86400, written, true},
		"ran on, and its clock is slow":    {4 * 86400 * (1 - 100e-6), written, false},
		"ran on since long before":         {9 * 86400, written, false},
		"written before the service began": {60, time.Time{}, false},
	} {
		asked := written.Add(4 * 24 * time.Hour)
		m := evidence.Read(map[string]string{"uptime": strconv.FormatFloat(c.up, 'f', 2, 64)}, asked, asked)
		if how := m.SinceWrite(c.written, -1); (how != "") != c.shows {
			t.Errorf("%s: %q", name, how)
		}
	}
}
