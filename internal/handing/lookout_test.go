package handing

import (
	"testing"
	"time"
	_ "time/tzdata"

	"redstart/internal/api"
)

// A lookout looks by the clock of the site, also in the weeks in which clocks are changed.
func TestWhenItLooks(t *testing.T) {
	t.Parallel()
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	at := func(text string) time.Time {
		moment, err := time.ParseInLocation("2006-01-02 15:04", text, oslo)
		if err != nil {
			t.Fatal(err)
		}
		return moment
	}
	for _, c := range []struct {
		how         api.Lookout
		after, want string
	}{
		{api.Lookout{At: "02:30"}, "2026-11-26 02:29", "2026-11-26 02:30"},
		{api.Lookout{At: "02:30"}, "2026-11-26 02:30", "2026-11-27 02:30"},
		{api.Lookout{At: "02:30", Days: []string{"sun"}}, "2026-11-26 12:00", "2026-11-29 02:30"},
		{api.Lookout{At: "02:30", Days: []string{"thu"}}, "2026-11-26 12:00", "2026-12-03 02:30"},
		{api.Lookout{At: "23:59", Days: []string{"mon", "wed"}}, "2026-12-31 12:00", "2027-01-04 23:59"},
		{api.Lookout{At: "04:00"}, "2026-03-28 12:00", "2026-03-29 04:00"},
		{api.Lookout{At: "02:30"}, "2026-03-28 12:00", "2026-03-29 03:30"}, // there is no 02:30 on that day
		{api.Lookout{At: "nonsense"}, "2026-03-28 12:00", ""},
	} {
		got := due(c.how, at(c.after).UTC(), oslo)
		if c.want == "" && got.IsZero() {
			continue
		}
		if c.want == "" || !got.Equal(at(c.want)) {
			t.Errorf("%+v after %s: %v, want %s", c.how, c.after, got, c.want)
		}
	}
}
