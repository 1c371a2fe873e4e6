package snmp_test

import (
	"bytes"
	"reflect"
	"testing"

	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/snmp"
)

// Written out from RFC 1901, 3, RFC 3416, 3 and the basic encoding rules: SEQUENCE,
// version 1 (v2c), community, PDU with request-id, two zeros, bindings.
const (
	question = "30 26 02 01 01 04 06 7075626c6963 a0 19 02 01 07 02 01 00 02 01 00 30 0e 30 0c 06 08 2b06010201010500 05 00"
	answer   = "30 2b 02 01 01 04 06 7075626c6963 a2 1e 02 01 07 02 01 00 02 01 00 30 13 30 11 06 08 2b06010201010500 04 05 6861726272"
)

func TestMessagesByteByByte(t *testing.T) {
	got := snmp.Ask(7, snmp.SysName)
	if want := bytesof.Hex(t, question); !bytes.Equal(got, want) {
		t.Errorf("\ngot  %x\nwant %x", got, want)
	}
	m, err := snmp.Parse(bytesof.Hex(t, answer))
	want := snmp.Message{Kind: snmp.KindResponse, ID: 7, Community: "public",
		Values: []snmp.Value{{OID: snmp.SysName, Text: "harbr"}}}
	if err != nil || !reflect.DeepEqual(m, want) {
		t.Errorf("%+v, %v", m, err)
	}
}

func TestAWalk(t *testing.T) {
	ask := snmp.Message{Kind: snmp.KindBulk, ID: 3, Community: "public", Most: 10,
		Values: []snmp.Value{{OID: snmp.TableFdbPort}}}
	b, err := ask.Append()
	if err != nil {
		t.Fatal(err)
	}
	if m, err := snmp.Parse(b); err != nil || m.Kind != snmp.KindBulk || m.Most != 10 ||
		m.Values[0].OID != snmp.TableFdbPort {
		t.Errorf("%+v, %v", m, err)
	}
	reply := snmp.Message{Kind: snmp.KindResponse, ID: 3, Community: "public", Values: []snmp.Value{
		{OID: snmp.TableFdbPort + ".10.79.86.0.0.9", Number: 12}, {OID: snmp.SysObjectID, Text: ".1.3.6.1.4.1.99999.1"},
		{OID: snmp.IfName + ".1", End: true}}}
	if b, err = reply.Append(); err != nil {
		t.Fatal(err)
	}
	if m, err := snmp.Parse(b); err != nil || !reflect.DeepEqual(m, reply) {
		t.Errorf("%+v, %v", m, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(bytesof.Hex(f, question))
	f.Add(bytesof.Hex(f, answer))
	f.Add(bytesof.Hex(f, "30 03 02 01 01"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := snmp.Parse(b); err == nil && m.Kind == "" {
			t.Errorf("%+v", m)
		}
	})
}
