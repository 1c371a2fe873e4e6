package value

import (
	"testing"
	"time"
	_ "time/tzdata"
)

func TestZonesByTheirRules(t *testing.T) {
	for name, want := range map[string]string{
		"Europe/Oslo": "CET-1CEST,M3.5.0,M10.5.0/3", "Europe/London": "GMT0BST,M3.5.0/1,M10.5.0", "Etc/UTC": "UTC0",
		"Asia/Kolkata": "IST-5:30", "America/New_York": "EST5EDT,M3.2.0,M11.1.0",
		"Australia/Sydney": "AEST-10AEDT,M10.1.0,M4.1.0/3", "America/Sao_Paulo": "<-03>3",
	} {
		zone, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		if got := posixZone(zone, 2026); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	if POSIXZone("Mars/Base") != "" || POSIXZone("") != "" {
		t.Error("a zone that is none")
	}
}
