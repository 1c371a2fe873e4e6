package profile_test

import (
	_ "embed"
	"encoding/json"
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/profiles"
)

// switchDoc is a switch whose ports are a table: sent row by row, read back whole.
//
//go:embed testdata/x-24.yaml
var switchDoc string

func switchProfile(t testing.TB) *profile.Profile {
	t.Helper()
	p, err := profiles.Parse([]byte(switchDoc))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestATableIsCheckedByItsColumns(t *testing.T) {
	ports := *switchProfile(t).Setting("ports")
	for value, wrong := range map[string]string{
		"": "", `[]`: "", `[{"port":1,"role":"uplink","tagged":true},{"port":"2"}]`: "",
		`port 1`:                                  "is no table",
		`[{"port":"1"}] x`:                        "is no table",
		`[{"port":"1","role":"north"}]`:           "row 1, role: \"north\" is not one of",
		`[{"port":"25"}]`:                         "row 1, port: \"25\" is outside",
		`[{"port":"1"},{"port":"1"}]`:             "rows 1 and 2 both have the port 1",
		`[{"role":"uplink"}]`:                     "row 1 has no port",
		`[{"port":"1","colour":"red"}]`:           `a column "colour"`,
		`[{"port":[[1]]}]`:                        "neither text nor a number",
		`[{"port":"1","at":"rtsp://x"}]`:          "is computed",
		`[` + strings.Repeat(`{},`, 1024) + `{}]`: "at most 1024",
	} {
		if err := ports.Check(value); (err == nil) != (wrong == "") || err != nil &&
			!strings.Contains(err.Error(), wrong) {
			t.Errorf("%.40s: %v, want %q", value, err, wrong)
		}
	}
}

// A table is sent row by row in the device's words, and compared in ours.
func TestATableIsSentAndHeardByMeaning(t *testing.T) {
	p := switchProfile(t)
	planned := `[{"port":"2","role":"device","code":"s3cret"},{"port":"1","role":"uplink","tagged":"yes"}]`
	rows, err := p.EachRow(p.Acts[profile.Settings][0], map[string]string{"setting.ports": planned})
	if err != nil || len(rows) != 2 || rows[0]["row.port"] != "1" || rows[0]["row.role"] != "1" ||
		rows[1]["row.role"] != "2" || rows[1]["row.code"] != "s3cret" {
		t.Fatalf("%v %v", rows, err)
	}
	if p.Public("row.code") || p.Public("setting.ports") || !p.Public("row.role") {
		t.Error("what is secret of a table is shown")
	}
	ports := p.Setting("ports")
	heard := p.Heard(map[string]string{"setting.ports": `[{"n":1,"role":1,"tagged":"on","speed":100},{"n":2,"role":"2"}]`})["setting.ports"]
	if !ports.Same(planned, heard) {
		t.Errorf("%s: %s", heard, ports.RowsDiffer(planned, heard))
	}
	for told, want := range map[string]string{
		`[{"n":1,"role":2,"tagged":1},{"n":2,"role":2}]`:                    "port 1: role is device, not uplink",
		`[{"n":2,"role":2}]`:                                                "port 1 is missing",
		`[{"n":1,"role":1,"tagged":1},{"n":2,"role":2},{"n":3,"role":"2"}]`: "port 3 is not planned",
		`nonsense`: "no table",
	} {
		if got := ports.RowsDiffer(planned,
			p.Heard(map[string]string{"setting.ports": told})["setting.ports"]); !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", told, got, want)
		}
	}
}

func TestWhatATableMayNotSay(t *testing.T) {
	for old, wrong := range map[string][2]string{
		"type: rows\n    columns:\n      - {key: port": {"type: rows\n    default: x\n    columns:\n      - {key: port",
			"default"},
		"each: ports,":         {"each: port,", "no setting of the type rows"},
		"{row.role}":           {"{row.roles}", "column of the table"},
		"type: number, min: 1": {"type: file, min: 1", "min and max belong to numbers"},
		"{key: tagged, label: Tagged, type: yes-no}": {"{key: tagged, label: Tagged, type: rows}",
			"columns belong to the type rows"},
		"from: \"rtsp://{camera.address}/\"": {"from: \"{camra.address}\"", "needs a setting"},
		", setting.ports: json /ports":       {"", "does not take it back"},
	} {
		if !strings.Contains(switchDoc, old) {
			t.Fatalf("%q is not in the document", old)
		}
		if _, err := profiles.Parse([]byte(strings.Replace(switchDoc, old, wrong[0], 1))); err == nil ||
			!strings.Contains(err.Error(), wrong[1]) {
			t.Errorf("%s: %v, want %q", wrong[0], err, wrong[1])
		}
	}
}

// What a device tells of a table is hostile.
func FuzzRows(f *testing.F) {
	p := switchProfile(f)
	for _, seed := range []string{``, `[]`, `[{"n":1}]`, `[{"n":1,"role":2}]`, `[{"n":[]}]`, `{"n":1}`, `[[`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, told string) {
		heard := p.Heard(map[string]string{"setting.ports": told})["setting.ports"]
		p.Setting("ports").RowsDiffer(`[{"port":"1"}]`, heard)
		rows, err := profile.ParseRows(told)
		if err != nil {
			return
		}
		if text := profile.RowsText(rows); text != "" && !json.Valid([]byte(text)) {
			t.Errorf("%q", text)
		}
		again, err := profile.ParseRows(profile.RowsText(rows))
		if err != nil || profile.RowsText(again) != profile.RowsText(rows) {
			t.Errorf("%q is not what it was: %v", told, err)
		}
	})
}

// The row of the port that we hang on comes last, whatever the switch calls it.
func TestOurPortIsSetLast(t *testing.T) {
	p := &profile.Profile{Settings: []profile.Setting{{Key: profile.PortsSetting, Type: profile.Rows, Columns: []profile.Setting{
		{Key: "port", Type: profile.Number}, {Key: "untagged", Type: profile.Number}}}}}
	for ours, want := range map[string]string{"gi1/0/2": "1 3 10 2", "port10": "1 2 3 10", "port01": "2 3 10 1", "": "1 2 3 10",
		"eth": "1 2 3 10"} {
		rows, err := p.EachRow(profile.Move{Each: profile.PortsSetting}, map[string]string{profile.OurPort: ours,
			"setting." + profile.PortsSetting: `[{"port":"10"},{"port":"2"},{"port":"1"},{"port":"3"}]`})
		var order []string
		for _, row := range rows {
			order = append(order, row["row.port"])
		}
		if got := strings.Join(order, " "); err != nil || got != want {
			t.Errorf("at %q: %s, want %s (%v)", ours, got, want, err)
		}
	}
}
