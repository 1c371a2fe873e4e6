package profile_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/profiles"
)

// sound is a small whole profile; tests replace parts of it.
const sound = `redstart: profile/1
id: north-x1
maker: Northlight
model: X1
kind: lamp
recognise:
  - {fact: mac, begins: "02:aa", sure: 60}
  - {fact: model, is: x1, sure: 90}
factory:
  address: 192.168.5.10-192.168.5.19/24
  login: {user: root, password: lamp}
user: root
restart: {takes: 1s, at-most: 5s}
talk:
  web: {scheme: http, auth: basic}
order:
  - {act: password}
  - {act: address, then: restarts}
acts:
  identify: [{request: GET /id, take: {model: json /m}}]
  sign-in: [{request: GET /in, refused: [401]}]
  password: [{request: POST /pw, form: {p: "{password}"}}]
  address: [{request: POST /ip, json: {ip: "{address}"}}]
  read: [{request: GET /all, take: {name: css #n, address: json /ip}}]
`

func TestParseReadsAWholeProfile(t *testing.T) {
	p, err := profiles.Parse([]byte(strings.Replace(sound, "css #n", `"css #n"`, 1)))
	if err != nil {
		t.Fatal(err)
	}
	if p.Port() != 80 || p.TellsWithoutAddress() || !p.NeedsAddress(profile.Identify) {
		t.Errorf("port %d, without address %t", p.Port(), p.TellsWithoutAddress())
	}
	if got := p.Factory.Address.List(); len(got) != 10 || got[9].String() != "192.168.5.19" {
		t.Errorf("factory addresses %v", got)
	}
	text, err := p.Factory.Address.MarshalText()
	if err != nil || string(text) != "192.168.5.10-192.168.5.19/24" {
		t.Errorf("the factory address prints as %s, %v", text, err)
	}
	facts := map[string][]string{"mac": {"02:AA:00:00:00:01"}, "model": {"X1"}}
	if sure, why := p.Sure(func(k string) []string { return facts[k] }); sure != 96 || len(why) != 2 {
		t.Errorf("two signs of 60 and 90 make %d %% by %v, want 96", sure, why)
	}
	if sure, _ := p.Sure(func(string) []string { return nil }); sure != 0 {
		t.Errorf("no facts make %d %%", sure)
	}
}

func TestParseSaysWhatIsWrong(t *testing.T) {
	good := strings.Replace(sound, "css #n", `"css #n"`, 1)
	for _, c := range []struct{ old, new, want string }{
		{"redstart: profile/1", "redstart: profile/9", "profile/1"},
		{"id: north-x1", "id: North X1", "small letters"},
		{"maker: Northlight\n", "", "maker is missing"},
		{"kind: lamp", "kindle: lamp", "kindle"},
		{"sure: 60", "sure: 160", "sign 1"},
		{"fact: mac", "fact: smell", "sign 1"},
		{`begins: "02:aa"`, `begins: "02:aa", is: x`, "sign 1"},
		{"192.168.5.10-192.168.5.19/24", "192.168.5.10", "factory address"},
		{"192.168.5.10-192.168.5.19/24", "10.0.0.1-10.0.9.1/8", "at most 256"},
		{"takes: 1s", "takes: soon", "soon"},
		{"at-most: 5s", "at-most: 0.5s", "at-most"},
		{"at-most: 5s", "at-most: 2h", "hour"},
		{"scheme: http,", "scheme: gopher,", "scheme must be"},
		{"auth: basic", "auth: magic", "auth must be"},
		{"request: GET /id", "request: FETCH /id", "request must be GET"},
		{"take: {model: json /m}", "take: {model: m}", "take model"},
		{`form: {p: "{password}"}`, `form: {p: x}, json: {p: x}`, "not both"},
		{"then: restarts", "then: explodes", "then must be"},
		{"{act: address, then: restarts}", "{act: name}", "name has no moves"},
		{"{act: address, then: restarts}", "{act: password}", "password is named twice"},
		{"  - {act: address, then: restarts}\n", "", "address is missing"},
		{"  identify: [{request: GET /id, take: {model: json /m}}]\n", "", "identify is missing"},
		{"user: root\nrestart", "restart", "user does not name whose"},
		{"  sign-in:", "  dance:", `no act "dance"`},
		{"[{request: GET /in, refused: [401]}]", "[{dcp: wave}]", "dcp must be"},
		{"[{request: GET /in, refused: [401]}]", "[{dcp: signal, request: GET /x}]", "just one of"},
		{`{ip: "{address}"}`, `{ip: "{prefix}"}`, "{prefix} has no value here; there are {user}"},
		{`{ip: "{address}"}`, `{ip: "{address}", mask: "{mask}"}`, "does not take mask back"},
		{`{ip: "{address}"}`, `{ip: "{address}", x: "{setting.x}"}`, "no such setting"},
		{"take: {model: json /m}", "take: {nonsense: json /m}", "nothing uses it"},
		{"take: {model: json /m}", `take: {model: "css input[["}`, "no CSS selector"},
		{"take: {model: json /m}", `take: {model: "css input@"}`, "follows @"},
		{"take: {model: json /m}", "take: {model: json m}", "begins with /"},
		{"take: {model: json /m}", "take: {model: json /m~2}", "RFC 6901"},
		{"take: {model: json /m}", "take: {model: header A:B}", "header's name"},
		{"{takes: 1s, at-most: 5s}", "{takes: 1s, at-most: 5s, shows: [smoke]}",
			"none of silence, uptime, starts, connection"},
		{"{takes: 1s, at-most: 5s}", "{takes: 1s, at-most: 5s, shows: [uptime]}",
			"neither the act read nor identify takes it"},
		{"{takes: 1s, at-most: 5s}", "{takes: 1s, at-most: 5s, shows: [connection], silent: 1s}",
			"does not name silence"},
		{"user: root\n", "user: root\naccounts: {tries: 900}\n", "1 to 100 wrong logins"},
	} {
		doc := strings.Replace(good, c.old, c.new, 1)
		if doc == good {
			t.Fatalf("nothing replaced by %q", c.old)
		}
		_, err := profiles.Parse([]byte(doc))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q for %q: got %v, want something about %q", c.new, c.old, err, c.want)
		}
	}
	if _, err := profiles.Parse(make([]byte, profile.MaxSize+1)); err == nil {
		t.Error("an oversized document was read")
	}
}

func FuzzNearlyRight(f *testing.F) {
	files, err := filepath.Glob("../../../profiles/*.yaml")
	if err != nil || len(files) < 3 {
		f.Fatalf("%d bundled profiles for the corpus: %v", len(files), err)
	}
	var docs [][]string
	for _, file := range files {
		doc, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		docs = append(docs, strings.Split(string(doc), "\n"))
	}
	for i, seed := range []string{"", "[]", "{}", "-1", "99999999999999999999", "~", "{a: [", "'(?m)^(.*'", "{setting.none}", "&a [*a]",
		"10m", "10.0.0.0/33", "yes", "!!binary x", "\x00", "{min: 9, max: 3}", "css #a", "json /x~"} {
		f.Add(uint16(i), uint16(i*7), seed)
	}
	f.Fuzz(func(t *testing.T, which, line uint16, text string) {
		doc := slices.Clone(docs[int(which)%len(docs)])
		at := int(line) % len(doc)
		key, _, has := strings.Cut(doc[at], ": ")
		if !has {
			key = doc[at]
		}
		doc[at] = key + ": " + text
		p, err := profiles.Parse([]byte(strings.Join(doc, "\n")))
		if err != nil {
			if len(err.Error()) > 4096 {
				t.Errorf("a complaint of %d characters", len(err.Error()))
			}
			return
		}
		// What is accepted can be used without looking again.
		p.ReadsBack()
		p.NeedsLine()
		p.Name.FromTag("A-1")
		for _, s := range p.Settings {
			_ = s.Check(text)
		}
		for act, moves := range p.Acts {
			p.NeedsAddress(act)
			for _, m := range moves {
				m.Wanted(map[string]string{})
			}
		}
	})
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sound))
	files, err := filepath.Glob("../../../profiles/*.yaml")
	if err != nil || len(files) < 3 {
		f.Fatalf("%d bundled profiles for the corpus: %v", len(files), err)
	}
	for _, file := range files {
		doc, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(doc)
	}
	f.Fuzz(func(t *testing.T, doc []byte) {
		p, err := profiles.Parse(doc)
		if err == nil && (p.ID == "" || (len(p.Order) == 0) != (len(p.Acts) == 0)) {
			t.Errorf("a profile without id, or with acts but no order, was accepted: %q", doc)
		}
	})
}
