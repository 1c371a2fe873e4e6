package match_test

import (
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
)

// A box hangs on the port behind which fewest boxes are: the others lead there. Where two say so
// alike, nobody knows.
func TestWhereABoxHangs(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	mac := func(last byte) address.MAC { return address.MAC{2, 0, 0, 0, 0, last} }
	sw := func(self byte, ports map[string][]byte) *device.Found {
		f := &device.Found{}
		f.Add(device.Sighting{MAC: mac(self), Protocol: "snmp", At: at, Facts: map[string]string{"model": "FS8"}})
		for port, behind := range ports {
			for _, b := range behind {
				f.Add(device.Sighting{MAC: mac(self), Protocol: "snmp", At: at, Part: "port " + port, Facts: map[string]string{"behind": mac(b).String()}})
			}
		}
		return f
	}
	s := match.Segment{
		Entries: []plan.Entry{{Tag: "CORE"}, {Tag: "HALL"}},
		Matched: map[address.MAC]string{mac(1): "CORE", mac(2): "HALL"},
		Found:   []*device.Found{sw(1, map[string][]byte{"1": {2, 11, 12}, "2": {13}}), sw(2, map[string][]byte{"7": {11}, "8": {12, 1, 13}, "9": {14}}), sw(3, map[string][]byte{"5": {14}})},
	}
	got := match.OnPorts(s)
	for box, want := range map[byte]string{11: "HALL/7", 12: "", 13: "CORE/2", 14: "HALL/9", 15: ""} {
		if h := got[mac(box)]; h.At != want || want != "" && !h.Seen.Equal(at) {
			t.Errorf("%d hangs at %+v, want %q", box, h, want)
		}
	}
	if h := got[mac(11)]; !h.Alone || h.Contradicts("hall/port 7") || !h.Contradicts("HALL/9") || !h.Contradicts("CORE/1") {
		t.Errorf("%+v", h)
	}
	if h := (match.Hangs{At: "CORE/1"}); h.Contradicts("HALL/7") || !h.Contradicts("CORE/2") || h.Contradicts("") {
		t.Error("behind a port with others a box may hang anywhere, but not at another port of that switch")
	}
	if !match.SamePort("HALL/Port 7", "hall/7") || match.SamePort("HALL/7", "HALL/17") {
		t.Error("ports are told apart wrongly")
	}
}
