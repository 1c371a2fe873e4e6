package planfile_test

import (
	"context"
	"os"
	"slices"
	"strings"
	"testing"

	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/profiles"
)

// withSwitch is a plan with a switch whose ports are a table.
func withSwitch(t *testing.T) plan.Plan {
	t.Helper()
	doc, err := os.ReadFile("../profile/testdata/x-24.yaml")
	if err != nil {
		t.Fatal(err)
	}
	q, err := profiles.Parse(doc)
	if err != nil {
		t.Fatal(err)
	}
	p := empty(t)
	p.Profiles[q.ID] = q
	p.Entries = read(t, p, "tag,profile,address,name\nSW-1,x-24,10.1.0.20,sw-1\nSW-2,x-24,10.1.0.21,sw-2\n",
		planfile.Options{}).Entries
	return p
}

const tables = "Tag,Port,Role,Code\nSW-1,1,uplink,abc\nSW-1,2,device,\nSW-2,1,uplink,\n"

// Tables come in a file of their own, and go out again in every format without their
// secrets.
func TestTablesInEveryFormat(t *testing.T) {
	p := withSwitch(t)
	r := read(t, p, tables, planfile.Options{Rows: "ports"})
	if len(r.Cells) > 0 || len(r.Comparison.Changed) != 2 || r.Rows != 3 {
		t.Fatalf("%q %+v", text(r.Cells), r.Comparison)
	}
	if got := r.Entries[0].Settings["ports"]; got != `[{"code":"abc","port":"1","role":"uplink"},{"port":"2","role":"device"}]` {
		t.Fatal(got)
	}
	p.Entries = r.Entries
	csv, err := planfile.TableCSV(p, "ports")
	if err != nil || string(csv) != "tag,port,role\nSW-1,1,uplink\nSW-1,2,device\nSW-2,1,uplink\n" {
		t.Errorf("%q %v", csv, err)
	}
	bare := withSwitch(t)
	for _, format := range []string{planfile.CSV, planfile.JSON, planfile.XLSX} {
		file, err := planfile.Write(p, format)
		if err != nil {
			t.Fatal(err)
		}
		if format != planfile.XLSX && strings.Contains(string(file), "abc") {
			t.Errorf("%s holds a secret:\n%s", format, file)
		}
		r := read(t, bare, string(file), planfile.Options{})
		if len(r.Cells) > 0 ||
			r.Entries[0].Settings["ports"] != `[{"port":"1","role":"uplink"},{"port":"2","role":"device"}]` ||
			r.Entries[1].Settings["ports"] != `[{"port":"1","role":"uplink"}]` {
			t.Errorf("%s: %q %+v", format, text(r.Cells), r.Entries)
		}
	}
}

func TestMistakesInTablesNameRowAndColumn(t *testing.T) {
	p := withSwitch(t)
	for file, want := range map[string]string{
		"tag,port,role\nSW-1,99,uplink\n":           "row 2, column port",
		"tag,port,role\nSW-1,1,north\n":             "row 2, column role",
		"tag,port,hue\nSW-1,1,red\n":                "row 1, column hue",
		"tag,port\nSW-1,1\nSW-1,1\n":                "both have the port 1",
		"tag,port\n,1\n":                            "the row has no tag",
		"port,role\n1,uplink\n":                     "tag",
		"tag,port,role\nSW-1,1,uplink\nSW-9,1,up\n": "row 3, column role",
	} {
		r, err := planfile.Read(context.Background(), []byte(file), p, nil, planfile.Options{Rows: "ports"})
		if err == nil {
			err = r.Refusal()
		}
		if cells := strings.Join(text(r.Cells), "\n"); !strings.Contains(cells, want) &&
			(err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v %q", file, err, cells)
		}
	}
	if _, err := planfile.Read(context.Background(), []byte(tables), p, nil, planfile.Options{Rows: "doors"}); err == nil ||
		!strings.Contains(err.Error(), `no profile has a table "doors"`) {
		t.Error(err)
	}
	r := read(t, p, "tag,port\nSW-7,1\n", planfile.Options{Rows: "ports"})
	if r.Refusal() == nil && slices.ContainsFunc(r.Entries, func(e plan.Entry) bool { return e.Tag == "SW-7" }) {
		t.Errorf("a table made an entry: %+v", r.Entries)
	}
}
