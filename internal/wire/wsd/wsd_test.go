package wsd_test

import (
	"reflect"
	"strings"
	"testing"

	"redstart/internal/wire/wsd"
)

// In the form of the example of the ONVIF Core Specification, 7.3.
const foreign = `<?xml version="1.0"?><SOAP-ENV:Envelope xmlns:SOAP-ENV="http://www.w3.org/2003/05/soap-envelope" xmlns:wsa="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:wsdd="http://schemas.xmlsoap.org/ws/2005/04/discovery"><SOAP-ENV:Header><wsa:RelatesTo>uuid:1</wsa:RelatesTo></SOAP-ENV:Header><SOAP-ENV:Body><wsdd:ProbeMatches><wsdd:ProbeMatch><wsa:EndpointReference><wsa:Address>urn:uuid:9</wsa:Address></wsa:EndpointReference><wsdd:Types>dn:NetworkVideoTransmitter</wsdd:Types><wsdd:Scopes>onvif://www.onvif.org/name/Gate%20camera
 onvif://www.onvif.org/hardware/C20</wsdd:Scopes><wsdd:XAddrs>http://192.168.77.20/onvif/device_service</wsdd:XAddrs></wsdd:ProbeMatch></wsdd:ProbeMatches></SOAP-ENV:Body></SOAP-ENV:Envelope>`

func TestDiscovery(t *testing.T) {
	if id, ok := wsd.IsProbe(wsd.Probe("7")); !ok || id != "uuid:7" {
		t.Errorf("%q, %v", id, ok)
	}
	got, err := wsd.Parse([]byte(foreign))
	if err != nil || len(got) != 1 || got[0].Scope("name") != "Gate camera" || got[0].Scope("hardware") != "C20" ||
		got[0].Scope("location") != "" || got[0].Endpoint != "urn:uuid:9" {
		t.Errorf("%+v, %v", got, err)
	}
	m := wsd.Match{Endpoint: "urn:uuid:<3>", Types: "dn:X", Scopes: []string{wsd.ScopeOf("name", "a & b")},
		Where: []string{"http://10.0.0.1/"}}
	if got, err := wsd.Parse(m.Answer("uuid:7")); err != nil || !reflect.DeepEqual(got, []wsd.Match{m}) {
		t.Errorf("%+v, %v", got, err)
	}
	if id, ok := wsd.IsProbe(m.Answer("uuid:7")); ok {
		t.Errorf("an answer is the probe %q", id)
	}
	bomb := `<!DOCTYPE a [<!ENTITY b "bbbbbbbbbb">]><e:Envelope xmlns:e="x"><e:Body>&b;</e:Body></e:Envelope>`
	for _, b := range []string{"", "<a>", bomb, strings.Repeat("<a>", 5000)} {
		if m, err := wsd.Parse([]byte(b)); err == nil {
			t.Errorf("%.40q is %+v", b, m)
		}
	}
}

func TestInformation(t *testing.T) {
	i := wsd.Information{Maker: "Ovalis <Optics>", Model: "C20", Firmware: "3.1.4", Serial: "OV20-1"}
	if got, err := wsd.ParseInformation(i.Answer()); err != nil || got != i {
		t.Errorf("%+v, %v", got, err)
	}
	if got, err := wsd.ParseInformation([]byte(foreign)); err == nil {
		t.Errorf("%+v", got)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(foreign))
	f.Add(wsd.Probe("7"))
	f.Add(wsd.Information{Model: "C20"}.Answer())
	f.Fuzz(func(t *testing.T, b []byte) {
		if list, err := wsd.Parse(b); err == nil && (len(list) == 0 || len(list) > 16) {
			t.Errorf("%d matches", len(list))
		}
		_, _ = wsd.ParseInformation(b)
		_, _ = wsd.IsProbe(b)
	})
}
