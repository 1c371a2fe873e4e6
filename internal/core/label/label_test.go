package label_test

import (
	"strings"
	"testing"

	"redstart/internal/core/label"
)

func TestLabels(t *testing.T) {
	for text, want := range map[string]string{
		"0a:4f:56:01:02:03":                         "0a:4f:56:01:02:03||",
		"0A-4F-56-01-02-03":                         "0a:4f:56:01:02:03||",
		"0A4F.5601.0203":                            "0a:4f:56:01:02:03||",
		"0a4f56-010203":                             "0a:4f:56:01:02:03||",
		"0A4F56010203":                              "0a:4f:56:01:02:03||",
		"0a 4f 56 01 02 03":                         "0a:4f:56:01:02:03||",
		"MAC: 0A4F56010203 S/N: OV20-000017":        "0a:4f:56:01:02:03|OV20-000017|",
		"SN=OV20-000017;MAC=0a:4f:56:01:02:03":      "0a:4f:56:01:02:03|OV20-000017|",
		"Model:C20,Serial No:OV20-000017":           "|OV20-000017|",
		`{"sn":"OV20-000017","mac":"0a4f56010203"}`: "0a:4f:56:01:02:03|OV20-000017|",
		"https://ovalis.example/r?sn=OV20-000017&mac=0A%3A4F%3A56%3A01%3A02%3A03": "0a:4f:56:01:02:03|OV20-000017|",
		"S/N 123456789012 SN:123456789012":                                        "|123456789012|",
		"OV20-000017":                                                             "||OV20-000017",
		"HALL-CAM-01":                                                             "||HALL-CAM-01",
		"01:00:5e:00:00:01":                                                       "||", // a group address is nobody's
		"":                                                                        "||",
		"two words":                                                               "||",
		// TR005, 3: schema, JoinEUI, DevEUI, profile, owner token, serial, checksum.
		"LW:D0:1122334455667788:02545701FFFE0203:00FF0001:OAABBCC:STW1-000009:CAF2C": "|TW1-000009 02545701FFFE0203|",
		"LW:D0:1122334455667788:025457FFFE010203:00FF0001":                           "02:54:57:01:02:03|025457FFFE010203|",
	} {
		l := label.Parse(text)
		var macs []string
		for _, m := range l.MACs {
			macs = append(macs, m.String())
		}
		if got := strings.Join(macs, " ") + "|" + strings.Join(l.Serials, " ") + "|" + l.Whole; got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
		if l.Empty() != (want == "||") {
			t.Errorf("%s: empty is %v", text, l.Empty())
		}
	}
	d := label.Parse("LW:D0:1122334455667788:025457FFFE010203:00FF0001:OSECRET:SX").LoRaWAN
	if d == nil || d.JoinEUI != "1122334455667788" || d.Vendor != "00FF" || d.Profile != "0001" || d.Token != "SECRET" {
		t.Errorf("%+v", d)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"MAC: 0A4F56010203 S/N: OV20-000017",
		"LW:D0:1122334455667788:025457FFFE010203:00FF0001:SX", "http://a/?%zz", "a=b;c=d"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, m := range label.Parse(s).MACs {
			if m.IsGroup() || m.IsZero() {
				t.Errorf("%q gave %s", s, m)
			}
		}
	})
}
