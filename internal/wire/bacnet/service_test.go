package bacnet_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/bytesof"
)

func value(t testing.TB, as, text string) []byte {
	t.Helper()
	b, err := bacnet.AppendValue(nil, as, text)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

var requests = map[string]bacnet.Request{
	// Annex F.3.5 and F.3.8, with the object of the device itself.
	"read": {Service: bacnet.ReadProperty, Invoke: 1, Object: bacnet.Object{Type: bacnet.Device,
		Instance: bacnet.AnyDevice}, Property: 28},
	"priority": {Service: bacnet.WriteProperty, Invoke: 89, Object: bacnet.Object{Type: 2, Instance: 1}, Property: 85,
		Value: []byte{0x44, 0x43, 0x34, 0, 0}, Priority: 8},
	"behind": {Service: bacnet.WriteProperty, Invoke: 7, To: bacnet.Station{Network: 4001, Address: "\x0b"},
		Object: bacnet.Object{Type: bacnet.Device, Instance: 40011}, Property: bacnet.SerialNumber,
		Value: []byte("\x75\x06\x00HALL1")},
	"warm": {Service: bacnet.ReinitializeDevice, Invoke: 2, State: 1, Password: "AbCdEfGh"},
	"mute": {Service: bacnet.DeviceCommunicationControl, Invoke: 5, State: 1, Minutes: 5, Password: "#egbdf!"},
}

// Requests are read back as they were, every prefix of them is refused or understood, and
// the standard's own examples (Annex F) come out byte by byte.
func TestRequests(t *testing.T) {
	for name, want := range map[string]string{
		"priority": "00 05 59 0f 0c 00800001 19 55 3e 44 43340000 3f 49 08", // F.3.8
		"warm":     "00 05 02 14 09 01 1d 09 00 4162436445664768",           // F.4.4
		"mute":     "00 05 05 11 09 05 19 01 2d 08 00 2365676264662 1",      // F.4.1
	} {
		raw := bytesof.Hex(t, strings.ReplaceAll(want, "2 1", "21"))
		if got := requests[name].Frame(); !bytes.HasSuffix(got, raw) {
			t.Errorf("%s: %x, want …%x", name, got, raw)
		}
	}
	for name, r := range requests {
		raw := r.Frame()
		got, err := bacnet.ParseRequest(raw)
		if err != nil || fmt.Sprint(got) != fmt.Sprint(r) {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
		for n := range raw {
			cut := append([]byte{}, raw[:n]...)
			if n > 3 {
				cut[2], cut[3] = byte(n>>8), byte(n)
			}
			_, _ = bacnet.ParseRequest(cut) // it must not panic
		}
	}
}

// What devices answer is understood, with what they refuse in plain words.
func TestReplies(t *testing.T) {
	to := requests["behind"]
	to.Service = bacnet.ReadProperty
	for _, c := range []struct {
		reply bacnet.Reply
		value []byte
		says  string
	}{
		{bacnet.Reply{Kind: bacnet.Done}, nil, ""},
		{bacnet.Reply{Kind: bacnet.WithValue, Value: "Hall"}, value(t, bacnet.TypeText, "Hall"), ""},
		{bacnet.Reply{Kind: bacnet.WithValue, Value: "yes"}, value(t, bacnet.TypeBoolean, "yes"), ""},
		{bacnet.Reply{Kind: bacnet.WithValue, Value: "70000"}, value(t, bacnet.TypeUnsigned, "70000"), ""},
		{bacnet.Reply{Kind: bacnet.WithValue, Value: "-61"}, value(t, bacnet.TypeSigned, "-61"), ""},
		{bacnet.Reply{Kind: bacnet.WithValue, Value: "21.5"}, value(t, bacnet.TypeReal, "21.5"), ""},
		{bacnet.Reply{Kind: bacnet.WithValue, Value: ""}, value(t, bacnet.TypeNull, ""), ""},
		{bacnet.Reply{Kind: bacnet.WithValue, Value: strings.Repeat("x", 300)}, value(t, bacnet.TypeText, strings.Repeat("x", 300)), ""},
		{bacnet.Reply{Kind: bacnet.Failed, Class: 2, Code: 40}, nil, "cannot be written"},
		{bacnet.Reply{Kind: bacnet.Failed, Class: 7, Code: 200}, nil, "class 7, code 200"},
		{bacnet.Reply{Kind: bacnet.Refused, Code: 9}, nil, "reject reason 9"},
		{bacnet.Reply{Kind: bacnet.Aborted, Code: 4}, nil, "abort reason 4"},
	} {
		got, err := bacnet.ParseReply(c.reply.Frame(to, c.value))
		want := c.reply
		want.Invoke, want.From = to.Invoke, to.To
		if err != nil || got != want || !strings.Contains(got.Why(), c.says) {
			t.Errorf("%+v, %v: %q", got, err, got.Why())
		}
	}
	for as, text := range map[string]string{bacnet.TypeBoolean: "perhaps", bacnet.TypeUnsigned: "-1",
		bacnet.TypeSigned: "x", bacnet.TypeReal: "x", bacnet.TypeText: strings.Repeat("x", 500), "blob": ""} {
		if _, err := bacnet.AppendValue(nil, as, text); err == nil {
			t.Errorf("%q is taken as %s", text, as)
		}
	}
}

// An analyser that others wrote understands what goes out.
func TestAnAnalyserUnderstandsRequests(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, want := range map[string][]string{
		"read":     {"readProperty", "description", "device, 4194303"},
		"priority": {"writeProperty", "present-value", "180", "Priority: (Unsigned) 8"},
		"behind":   {"Destination Network Address: 4001", "writeProperty", "HALL1"},
		"warm":     {"reinitializeDevice", "warmstart", "AbCdEfGh"},
		"mute":     {"deviceCommunicationControl", "disable", "#egbdf!"},
	} {
		var dump strings.Builder
		for i, octet := range requests[name].Frame() {
			if i%16 == 0 {
				fmt.Fprintf(&dump, "\n%06x", i)
			}
			fmt.Fprintf(&dump, " %02x", octet)
		}
		hex, pcap := filepath.Join(dir, name+".txt"), filepath.Join(dir, name+".pcap")
		if err := os.WriteFile(hex, []byte(dump.String()+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("text2pcap", "-q", "-u", "47808,47808", hex, pcap).CombinedOutput(); err != nil {
			t.Fatalf("text2pcap: %v\n%s", err, out)
		}
		out, err := exec.Command("tshark", "-r", pcap, "-V", "-O", "bvlc,bacnet,bacapp").CombinedOutput()
		if err != nil || strings.Contains(string(out), "Malformed") {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		for _, w := range want {
			if !strings.Contains(string(out), w) {
				t.Errorf("%s: tshark does not see %q:\n%s", name, w, out)
			}
		}
	}
}

func FuzzParseReply(f *testing.F) {
	for _, r := range requests {
		f.Add(r.Frame())
		f.Add(bacnet.Reply{Kind: bacnet.WithValue}.Frame(r, []byte("\x75\x05\x00Hall")))
		f.Add(bacnet.Reply{Kind: bacnet.Failed, Class: 2, Code: 40}.Frame(r, nil))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if r, err := bacnet.ParseReply(b); err == nil && len(r.Value) > len(b)*3+32 {
			t.Errorf("%d bytes told %d", len(b), len(r.Value))
		}
		_, _ = bacnet.ParseRequest(b)
	})
}
