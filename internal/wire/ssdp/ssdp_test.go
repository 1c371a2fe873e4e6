package ssdp_test

import (
	"testing"

	"redstart/internal/wire/ssdp"
)

// The examples of the UPnP Device Architecture 2.0, 1.2.2 and 1.3.3, filled in.
const (
	notify = "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age=1800\r\nLOCATION: http://10.40.8.30/about.xml\r\nNT: upnp:rootdevice\r\nNTS: ssdp:byebye\r\nSERVER: unix/5.1 UPnP/2.0 R16/1.0\r\nUSN: uuid:1::upnp:rootdevice\r\n\r\n"
	answer = "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=1800\r\nEXT:\r\nLOCATION: http://10.40.8.30/about.xml\r\nSERVER: unix/5.1 UPnP/2.0 R16/1.0\r\nST: upnp:rootdevice\r\nUSN: uuid:1::upnp:rootdevice\r\n\r\n"
)

func TestMessages(t *testing.T) {
	want := ssdp.Message{Server: "unix/5.1 UPnP/2.0 R16/1.0", Unique: "uuid:1::upnp:rootdevice",
		Location: "http://10.40.8.30/about.xml"}
	if string(want.Answer()) != answer {
		t.Errorf("%q", want.Answer())
	}
	if got, err := ssdp.Parse([]byte(answer)); err != nil || got != want {
		t.Errorf("%+v, %v", got, err)
	}
	want.Leaving = true
	if got, err := ssdp.Parse([]byte(notify)); err != nil || got != want {
		t.Errorf("%+v, %v", got, err)
	}
	if !ssdp.IsSearch(ssdp.Search()) || ssdp.IsSearch([]byte(notify)) {
		t.Error("a search and an announcement are mixed up")
	}
	for _, b := range []string{"", "HTTP/1.1 404 Not Found\r\nUSN: x\r\n\r\n", "HTTP/1.1 200 OK\r\n\r\n",
		string(ssdp.Search())} {
		if m, err := ssdp.Parse([]byte(b)); err == nil {
			t.Errorf("%q is %+v", b, m)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(notify))
	f.Add([]byte(answer))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := ssdp.Parse(b); err == nil && m.Unique == "" {
			t.Error(m)
		}
	})
}
