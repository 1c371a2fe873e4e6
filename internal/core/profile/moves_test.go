package profile_test

import (
	"maps"
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/profiles"
)

// Hashes and forms are those of the standards: the values are test vectors of RFC 4231
// (4.3), RFC 1321 (A.5) and RFC 4648 (10).
func TestMakings(t *testing.T) {
	t.Parallel()
	vars := map[string]string{"key": "Jefe", "data": "what do ya want for nothing?", "password": "abc", "f": "foobar"}
	for _, c := range []struct {
		m    profile.Making
		want string
	}{
		{profile.Making{Of: "{data}", By: []string{"hmac-sha256", "hex"}, Key: "{key}"},
			"5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"},
		{profile.Making{Of: "{password}", By: []string{"md5", "hex", "upper"}}, "900150983CD24FB0D6963F7D28E17F72"},
		{profile.Making{Of: "{f}", By: []string{"base64"}}, "Zm9vYmFy"},
		{profile.Making{Of: "a{f}b"}, "afoobarb"},
	} {
		if got, err := c.m.Worked(vars); err != nil || got != c.want {
			t.Errorf("%+v: %s, %v", c.m, got, err)
		}
	}
	if _, err := (profile.Making{Of: "{nobody}"}).Worked(vars); err == nil {
		t.Error("a variable without a value was worked into another")
	}
}

// moving is a whole profile with one more move in its act name.
func moving(t *testing.T, move string) (*profile.Profile, error) {
	t.Helper()
	doc := strings.Replace(sound, "css #n", `"css #n"`, 1)
	return profiles.Parse([]byte(strings.Replace(doc, "  address: [", "  name: ["+move+"]\n  address: [", 1)))
}

func TestWhatEveryMoveMayHave(t *testing.T) {
	t.Parallel()
	for move, want := range map[string]string{
		`{request: GET /x, if: {nobody: x}}`:                                                                    "{nobody} has no value here",
		`{request: GET /x, within: 3s}`:                                                                         "within belongs to until",
		`{request: GET /x, take: {state: json /s}, until: {state: done}, within: 2h}`:                           "at most an hour",
		`{request: GET /x, until: {state: done}}`:                                                               "does not take state",
		`{request: GET /x, make: [{name: h, of: "{password}", by: [sha256]}]}`:                                  "a hash is no text",
		`{request: GET /x, make: [{name: h, of: "{password}", by: [rot13]}]}`:                                   `"rot13" is none of base64`,
		`{request: GET /x, make: [{name: h, of: "{password}", by: [hmac-md5, hex]}]}`:                           "key belongs to the hmac forms",
		`{request: GET /x, make: [{name: "H h", of: x}]}`:                                                       "small letters",
		`{request: GET /x, make: [{name: h}]}`:                                                                  "of is missing",
		`{request: GET /x, dcp: signal}`:                                                                        "just one of",
		`{wave: hello}`:                                                                                         "just one of dcp, dhcp, request, shell, onvif, restconf, enip, snmp, bacnet; this one has none",
		`{request: GET /x, nonsense: 1}`:                                                                        "nonsense",
		`{request: "GET /{h}", headers: {X-T: "{h}"}, make: [{name: h, of: "{password}", by: [sha256, hex]}]}`:  "",
		`{request: GET /x, take: {state: json /s}, until: {state: done}}, {request: GET /y, if: {state: done}}`: "",
		`{request: GET /x, headers: {Host: x}}`:                                                                 "not yours to set",
		`{request: GET /x, headers: {"a b": x}}`:                                                                "no name of a header",
		`{request: POST /x, xml: "<a/>", text: x}`:                                                              "one of form, json, xml, text and parts",
		`{request: GET /x, take: {name: "xml //["}}`:                                                            "is no path",
		`{request: GET /x, take: {name: "text n=.*"}}`:                                                          "needs one group",
		`{dcp: wave}`:  "dcp must be one of",
		`{dhcp: take}`: "dhcp must be give",
	} {
		_, err := moving(t, move)
		if (want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", move, err, want)
		}
	}
	p, err := moving(t,
		`{request: GET /x, take: {state: json /s}, until: {state: done}, if: {name: lamp}, unless: {user: nobody}}`)
	if err != nil {
		t.Fatal(err)
	}
	m := p.Acts[profile.Name][0]
	for vars, want := range map[[2]string]bool{{"LAMP", "root"}: true, {"lamp", "Nobody"}: false,
		{"other", "root"}: false} {
		if m.Wanted(map[string]string{"name": vars[0], "user": vars[1]}) != want {
			t.Errorf("%v: wanted the other way round", vars)
		}
	}
	if waiting, ok := m.Enough(map[string]string{"state": "busy"}); ok || waiting != `state is "busy" and not "done"` {
		t.Errorf("%q, %t", waiting, ok)
	}
	if _, ok := m.Enough(map[string]string{"state": "Done"}); !ok || m.Within != profile.UsualWithin {
		t.Errorf("%s", m.Within)
	}
}

// What a device says is compared in the plan's words, and it is told in its own.
func TestWords(t *testing.T) {
	t.Parallel()
	doc := strings.Replace(sound, "css #n", `"css #n"`, 1)
	p, err := profiles.Parse([]byte(strings.Replace(doc, "order:", `settings:
  - {key: dhcp, label: DHCP, type: yes-no, words: {yes: "1", no: "0"}}
  - {key: light, label: Light, type: yes-no}
  - {key: port, label: Port, type: number, min: 1, max: 9999}
  - {key: face, label: Face, type: choice, choices: [12 hours, 24 hours], words: {12 hours: "12"}}
  - {key: time, label: Time, type: address}
  - {key: free, label: Free, type: text}
  - {key: code, label: Code, type: secret}
order:`, 1)))
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]string{"cidr": "10.0.0.7/24", "setting.dhcp": "1", "setting.light": "Enabled",
		"setting.port": "0554", "setting.face": "24 HOURS", "setting.time": " 10.0.0.1", "setting.free": "on",
		"setting.none": "x"}
	want := map[string]string{"cidr": "10.0.0.7/24", "address": "10.0.0.7", "mask": "255.255.255.0",
		"setting.dhcp": "yes", "setting.light": "yes", "setting.port": "554",
		"setting.face": "24 hours", "setting.time": "10.0.0.1", "setting.free": "on", "setting.none": "x"}
	if got := p.Heard(told); !maps.Equal(got, want) {
		t.Errorf("heard %v", got)
	}
	spoken := p.Translate(map[string]string{"setting.dhcp": "no", "setting.face": "12 hours", "setting.light": "yes",
		"name": "no"})
	if !maps.Equal(spoken, map[string]string{"setting.dhcp": "0", "setting.face": "12", "setting.light": "yes",
		"name": "no"}) {
		t.Errorf("spoken %v", spoken)
	}
	for name, public := range map[string]bool{"name": true, "setting.free": true, "setting.code": false,
		"password": false, "old-password": false, "token": false, "user": true} {
		if p.Public(name) != public {
			t.Errorf("%s: public is %t", name, !public)
		}
	}
}
