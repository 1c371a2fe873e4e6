package fs24

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/lan/segment"
	"redstart/internal/sim/box"
)

// unplugged is a switch without power, whose server is asked directly.
func unplugged(t *testing.T) (*box.Box, *httptest.Server) {
	t.Helper()
	mac := address.MAC{6, 0x46, 0x32, 1, 2, 3}
	factory := Factory
	factory.Address = netip.MustParsePrefix("192.168.99.3/24")
	b := box.New(box.Spec{MAC: mac, Serial: "FN24-000001", Factory: factory}, Model, (&segment.Segment{}).Attach(mac, 16))
	b.Change(func(s *box.Settings) { *s = factory })
	server := httptest.NewServer(handler(b))
	t.Cleanup(server.Close)
	return b, server
}

func ask(t *testing.T, server *httptest.Server, method, path, body string, header ...string) (int, http.Header, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, server.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	request.SetBasicAuth(User, "FN24-000001")
	request.Header.Set("Content-Type", yangJSON)
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	response, err := server.Client().Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, response.Header, string(text)
}

// The server does what RFC 8040 asks of one.
func TestRESTCONF(t *testing.T) {
	_, server := unplugged(t)
	const data = "/restconf/data/"
	for _, c := range []struct {
		method, path, body, accept string
		status                     int
		holds                      string
	}{
		{"GET", "/.well-known/host-meta", "", "", 200, `rel="restconf" href="/restconf"`},
		{"GET", "/restconf/", "", "", 200, `"yang-library-version":"2019-01-04"`},
		{"GET", data + "ietf-system:system", "", "", 200, `"hostname":""`},
		{"GET", data + "ietf-system:system", "", "application/yang-data+xml", 406, ""},
		{"GET", data + "ietf-system:system?odd=1", "", "", 400, `"error-tag":"invalid-value"`},
		{"HEAD", data + "ietf-system:system", "", "", 200, ""},
		{"GET", data + "ietf-system:nothing", "", "", 404, `"error-path"`},
		{"DELETE", data + "ietf-system:system", "", "", 405, `"operation-not-supported"`},
		{"PATCH", data + "ietf-system:system", `{"ietf-system:system":{"hostname":"core-1"}}`, "", 204, ""},
		{"PATCH", data + "ietf-system:system", `{"ietf-system:system":{"hostname":"Core 1"}}`, "", 400, `"invalid-value"`},
		{"PATCH", data + "ietf-system:system", `{"ietf-system:system":{"colour":"red"}}`, "", 400, `"unknown-element"`},
		{"PATCH", data + "ietf-system:system", `{"x":{}}`, "", 400, `"malformed-message"`},
		{"PATCH", data + "ietf-system:system-state", `{"ietf-system:system-state":{}}`, "", 405, ""},
		{"PATCH", data + "fennmark-switch:ports/port=3",
			`{"fennmark-switch:port":[{"number":3,"hangs":"one-device","untagged":"410","tagged":[],"on":true}]}`, "", 400, "wrong type"},
		{"PATCH", data + "fennmark-switch:ports/port=3",
			`{"fennmark-switch:port":[{"number":4,"hangs":"one-device","untagged":410,"tagged":[],"on":true}]}`, "", 400, "the number is the port"},
		{"PATCH", data + "fennmark-switch:ports/port=3",
			`{"fennmark-switch:port":[{"number":3,"hangs":"switch","untagged":410,"tagged":[408],"on":true}]}`, "", 204, ""},
		{"PATCH", data + "fennmark-switch:management", `{"fennmark-switch:management":{"vlan":408,"ports":[3]}}`, "", 400,
			"leads to another switch"},
		{"POST", "/restconf/operations/ietf-system:set-current-datetime",
			`{"ietf-system:input":{"current-datetime":"2026-11-26T10:00:00Z"}}`, "", 204, ""},
		{"POST", "/restconf/operations/ietf-system:nothing", "", "", 404, `"operation-not-supported"`},
	} {
		header := []string{}
		if c.accept != "" {
			header = []string{"Accept", c.accept}
		}
		status, _, text := ask(t, server, c.method, c.path, c.body, header...)
		if status != c.status || !strings.Contains(text, c.holds) {
			t.Errorf("%s %s %s: %d %s", c.method, c.path, c.body, status, text)
		}
	}
}

// A write that rests on an older state is refused, and changes nothing; a wrong login is told
// by its status alone.
func TestEntityTags(t *testing.T) {
	b, server := unplugged(t)
	const path = "/restconf/data/fennmark-switch:redundancy"
	_, header, _ := ask(t, server, "GET", path, "")
	old := header.Get("ETag")
	ring := func(role string) string { return `{"fennmark-switch:redundancy":{"ring":"` + role + `"}}` }
	status, header, _ := ask(t, server, "PATCH", path, ring("client"), "If-Match", old)
	if status != 204 || header.Get("ETag") == old || old == "" {
		t.Errorf("%d, %s after %s", status, header.Get("ETag"), old)
	}
	if status, _, _ := ask(t, server, "PATCH", path, ring("manager"), "If-Match", old); status != 412 || ownOf(b).Ring != "client" {
		t.Errorf("%d, it is %s", status, ownOf(b).Ring)
	}
	if status, header, _ := ask(t, server, "GET", path, "", "Authorization", "Basic eDp5"); status != 401 ||
		!strings.HasPrefix(header.Get("WWW-Authenticate"), "Basic ") {
		t.Errorf("a wrong login: %d", status)
	}
}

// Managed at other ports only, or with our port off, it hears nothing of us.
func TestItGoesDeaf(t *testing.T) {
	b, server := unplugged(t)
	if deaf(b) {
		t.Fatal("it is deaf as from the factory")
	}
	ask(t, server, "PATCH", "/restconf/data/fennmark-switch:management", `{"fennmark-switch:management":{"vlan":408,"ports":[23,24]}}`)
	if deaf(b) {
		t.Error("it is managed at our port, and deaf")
	}
	ask(t, server, "PATCH", "/restconf/data/fennmark-switch:management", `{"fennmark-switch:management":{"vlan":408,"ports":[23]}}`)
	if !deaf(b) {
		t.Error("it is managed elsewhere, and hears us")
	}
	ask(t, server, "PATCH", "/restconf/data/fennmark-switch:management", `{"fennmark-switch:management":{"vlan":408,"ports":[]}}`)
	ask(t, server, "PATCH", "/restconf/data/fennmark-switch:ports/port=24",
		`{"fennmark-switch:port":[{"number":24,"hangs":"nothing","untagged":1,"tagged":[],"on":false}]}`)
	if !deaf(b) {
		t.Error("our port is off, and it hears us")
	}
}
