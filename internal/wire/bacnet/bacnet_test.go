package bacnet_test

import (
	"bytes"
	"reflect"
	"testing"

	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/bytesof"
)

// Written out from ASHRAE 135: J.2.10 and J.2.11 (BVLL), 6.2.2 (NPDU), Annex F
// (encoded APDUs), 20.2 (tags).
var examples = map[string]struct {
	broadcast bool
	m         bacnet.Message
}{
	"81 0b 000c 01 20 ffff 00 ff 10 08": {true, bacnet.Message{Kind: bacnet.KindWhoIs, To: bacnet.Everywhere}},
	"81 0b 0007 01 80 00":               {true, bacnet.Message{Kind: bacnet.KindWhoIsRouter}},
	"81 0b 000b 01 80 01 0fa1 0fa2": {true, bacnet.Message{Kind: bacnet.KindIAmRouter,
		Networks: []uint16{4001, 4002}}},
	// Device 40111 at MS/TP address 11 on network 4001.
	"81 0b 0019 01 08 0fa1 01 0b 10 00 c4 02009caf 22 05c4 91 03 22 0309": {true,
		bacnet.Message{Kind: bacnet.KindIAm, From: bacnet.Station{Network: 4001, Address: "\x0b"}, Instance: 40111,
			Vendor: 777}},
	"81 0a 0016 01 24 0fa1 01 0b ff 00 05 09 0c 0c 02009caf 19 46": {false,
		bacnet.Message{Kind: bacnet.KindRead, To: bacnet.Station{Network: 4001, Address: "\x0b"}, Invoke: 9,
			Instance: 40111, Property: bacnet.ModelName}},
	"81 0a 0019 01 08 0fa1 01 0b 30 09 0c 0c 02009caf 19 46 3e 75 03 00 4432 3f": {false,
		bacnet.Message{Kind: bacnet.KindValue, From: bacnet.Station{Network: 4001, Address: "\x0b"}, Invoke: 9,
			Instance: 40111, Property: bacnet.ModelName, Text: "D2"}},
}

func TestMessagesByteByByte(t *testing.T) {
	for text, e := range examples {
		raw := bytesof.Hex(t, text)
		raw[3] = byte(len(raw))
		if got := e.m.Frame(e.broadcast); !bytes.Equal(got, raw) {
			t.Errorf("%s:\ngot  %x\nwant %x", e.m.Kind, got, raw)
		}
		if got, err := bacnet.Parse(raw); err != nil || !reflect.DeepEqual(got, e.m) {
			t.Errorf("%s: %+v, %v", e.m.Kind, got, err)
		}
		for n := range raw {
			cut := append([]byte{}, raw[:n]...)
			if n > 3 {
				cut[3] = byte(n)
			}
			if m, err := bacnet.Parse(cut); err == nil && m.Kind != bacnet.KindWhoIs && m.Kind != bacnet.KindIAmRouter {
				t.Errorf("%d bytes of %s are %+v", n, e.m.Kind, m)
			}
		}
	}
}

func TestOtherSpellings(t *testing.T) {
	forwarded := bytesof.Hex(t, "81 04 000e 0a280814bac0 01 00 10 08")
	if m, err := bacnet.Parse(forwarded); err != nil || m.Kind != bacnet.KindWhoIs {
		t.Errorf("%+v, %v", m, err)
	}
	for want, text := range map[string]string{
		"Tür": "81 0a 0018 01 00 30 09 0c 0c 02000001 19 4d 3e 74 05 54fc72 3f",
		"A":   "81 0a 0017 01 00 30 09 0c 0c 02000001 19 4d 3e 73 04 0041 3f",
	} {
		raw := bytesof.Hex(t, text)
		raw[3] = byte(len(raw))
		if m, err := bacnet.Parse(raw); err != nil || m.Text != want {
			t.Errorf("%q: %+v, %v", want, m, err)
		}
	}
	long := bacnet.Message{Kind: bacnet.KindValue, Property: bacnet.SerialNumber, Text: "BCD2-000001"}
	if m, err := bacnet.Parse(long.Frame(false)); err != nil || m.Text != long.Text || m.Property != 372 {
		t.Errorf("%+v, %v", m, err)
	}
	if s := (bacnet.Station{Network: 7, Address: "\x01\x02"}).String(); s != "7/1.2" {
		t.Error(s)
	}
}

func FuzzParse(f *testing.F) {
	for text := range examples {
		f.Add(bytesof.Hex(f, text))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := bacnet.Parse(b)
		if err == nil && (m.Kind == "" || len(m.Networks) > 256) {
			t.Errorf("%+v", m)
		}
	})
}
