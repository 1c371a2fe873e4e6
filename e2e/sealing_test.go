package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/sim/skerry"
	"redstart/internal/vault"
)

// A secret is sealed by what the entry's profile says in the end, however it came, and what
// stands for a secret opens nothing anywhere but where it was given out.
func TestSecretsOfEntriesAreSealedAndStayWhereTheyAre(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../internal/core/profile/testdata/x-24.yaml")
	if err != nil {
		t.Fatal(err)
	}
	r := start(t, skerry.Options{Devices: 1}, string(doc))
	ctx := patience(t)
	var key, id string
	for _, p := range r.s.Plans.Profiles().Sorted() {
		for _, s := range p.Settings {
			if s.Type == profile.Secret && key == "" {
				key, id = s.Key, p.ID
			}
		}
	}
	const secret, ports = "hush-hush-7", `[{"port":"1","role":"uplink","code":"hush-rows-7"}]`
	edit := func(patches ...plan.Patch) error {
		_, err := r.c.Edit(ctx, api.Edits{Patches: patches}, false)
		return err
	}
	add := func(tag, profile string) plan.Patch {
		return plan.Patch{Set: map[string]string{"tag": tag, "profile": profile, key: secret}}
	}
	if err := edit(add("A-1", id), add("A-2", ""), add("A-3", strings.ToUpper(id)), add("A-4", "no-such"),
		add("A-5", ""), plan.Patch{Tag: "A-5", Set: map[string]string{"profile": id}},
		plan.Patch{Set: map[string]string{"tag": "SW-1", "ports": ports}},
		plan.Patch{Tag: "SW-1", Set: map[string]string{"profile": "x-24"}}); err != nil {
		t.Fatal(err)
	}
	// As a file too, and where something is wrong with it besides.
	if _, err := r.c.Import(ctx, []byte("tag,profile,"+key+"\nB-1,no-such,"+secret+"\n"), api.ImportOptions{}); err != nil {
		t.Fatal(err)
	}
	if err := edit(plan.Patch{Set: map[string]string{"tag": "C-1", key: secret + strings.Repeat("x", 100_000)}}); err == nil ||
		strings.Contains(err.Error(), "hush") {
		t.Errorf("a secret that is too long: %v", err)
	}
	for tag, e := range r.entries() {
		for k, v := range e.Settings {
			if strings.Contains(v, "hush") || (k == key) != strings.HasPrefix(v, vault.Prefix) {
				t.Errorf("%s holds %s %q", tag, k, v)
			}
		}
	}
	files, err := filepath.Glob(filepath.Join(r.dir, "*.db*"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no records in %s: %v", r.dir, err)
	}
	for _, f := range files {
		if content, err := os.ReadFile(f); err != nil || bytes.Contains(content, []byte("hush-")) {
			t.Errorf("%s holds a secret in plain text: %v", f, err)
		}
	}
	// Where the profile that comes later has no secret of that name, it has to be given anew.
	var other string
	for _, p := range r.s.Plans.Profiles().Sorted() {
		if p.Setting(key) == nil {
			other = p.ID
		}
	}
	if err := edit(plan.Patch{Tag: "A-4", Set: map[string]string{"profile": other}}); err == nil ||
		!strings.Contains(err.Error(), "was kept as a secret while the profile was unknown") {
		t.Errorf("a secret where none is: %v", err)
	}
	if err := edit(plan.Patch{Tag: "A-4", Set: map[string]string{"profile": other, key: ""}}); err != nil {
		t.Error(err)
	}
	// What stands for it is taken back where it stands, and nowhere else.
	own := r.entries()["A-1"].Settings[key]
	rows := r.entries()["SW-1"].Settings["ports"]
	if err := edit(plan.Patch{Tag: "A-1", Set: map[string]string{key: own, "place": "Hall"}},
		plan.Patch{Tag: "SW-1", Set: map[string]string{"ports": strings.Replace(rows, `"1"`, `"2"`, 1)}}); err != nil {
		t.Errorf("its own: %v", err)
	}
	for _, p := range []plan.Patch{
		{Tag: "A-2", Set: map[string]string{key: own}},
		{Tag: "A-2", Set: map[string]string{"profile": id, key: "vault:1/kind/camera"}},
		{Set: map[string]string{"tag": "D-1", key: own}},
		{Tag: "SW-1", Set: map[string]string{"ports": strings.Replace(rows, "vault:", "vault:x", 1)}},
	} {
		if err := edit(p); err == nil || !strings.Contains(err.Error(), "stands for a secret that is kept elsewhere") {
			t.Errorf("%+v: %v", p, err)
		}
	}
}

// A profile that calls a setting a secret only later has what was written until then sealed, in
// the plan and wherever else it was kept.
func TestWhatBecomesASecretIsSealed(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../profiles/pellgate-p12.yaml")
	if err != nil {
		t.Fatal(err)
	}
	r := start(t, skerry.Options{Devices: 1, Only: "P12", Seed: 38, Pace: 0.2}, string(doc))
	mac := r.site.Boxes[0].MAC.String()
	r.plan("tag,profile,address,mac,rack\nPWR,pellgate-p12,10.40.9.90," + mac + ",hush-rack-1\n")
	r.find()
	redstart := r.with(t)
	redstart(0, []string{"1 matched"}, "match", "--accept")
	redstart(0, []string{"1 of 1 configured"}, "commission")
	redstart(0, []string{"1 verified"}, "verify")
	redstart(0, nil, "plan", "set", "PWR", "rack=hush-rack-2")
	redstart(0, nil, "plan", "set", "PWR", "rack=hush-rack-1")
	if e := r.entries()["PWR"]; e.Settings["rack"] != "hush-rack-1" {
		t.Fatalf("%+v", e.Settings)
	}
	sealed, _ := r.s.Events.Subscribe("", "")
	defer r.s.Events.Leave(sealed)
	later := strings.Replace(string(doc), "    type: text\n    max: 16\n", "    type: secret\n", 1)
	r.write(filepath.Join("profiles", "own-0.yaml"),
		strings.Replace(later, "        setting.rack: '(?m)^Rack: *(.*)$'\n", "", 1))
	for done := false; !done; {
		select {
		case <-sealed:
			done = strings.HasPrefix(r.entries()["PWR"].Settings["rack"], vault.Prefix)
		case <-patience(t).Done():
			t.Fatalf("it is never sealed: %s", r.log)
		}
	}
	for _, args := range [][]string{{"plan", "show", "PWR", "-o", "json"}, {"plan", "history", "-o", "json"}} {
		if out, _, _ := runIn(map[string]string{"REDSTART_DATA": r.dir}, "", args...); strings.Contains(out, "hush") ||
			out == "" {
			t.Errorf("%v tells it still, or nothing: %s", args, out)
		}
	}
	r.stop() // what waits to be put into the records is in them then
	files, err := filepath.Glob(filepath.Join(r.dir, "*.db*"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no records in %s: %v", r.dir, err)
	}
	for _, f := range files {
		if content, err := os.ReadFile(f); err != nil || bytes.Contains(content, []byte("hush-")) {
			at := bytes.Index(content, []byte("hush-"))
			t.Errorf("%s holds a secret in plain text: %v %q", f, err, content[max(0, at-200):min(len(content), at+60)])
		}
	}
	r.serve(r.site.Attach())
	// It is what the device was given: nothing differs.
	if e := r.entries()["PWR"]; len(e.Differs) > 0 {
		t.Errorf("it differs: %v", e.Differs)
	}
}

// A secret has a form too: one that the device would refuse is refused before, without being
// repeated.
func TestASecretHasAForm(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	for key, bad := range map[string][2]string{"keypad-code": {"12a4", "may hold digits only"},
		"key": {"0011223344556677", "must have 32 to 32 characters, not 16"}} {
		profile := map[string]string{"keypad-code": "tolvern-d4", "key": "tidewell-s3"}[key]
		_, err := r.c.Edit(ctx, api.Edits{Patches: []plan.Patch{{Set: map[string]string{"tag": "A-1", "profile": profile,
			key: bad[0]}}}}, false)
		if err == nil || !strings.Contains(err.Error(), bad[1]) || strings.Contains(err.Error(), bad[0]) {
			t.Errorf("%s: %v", key, err)
		}
	}
}
