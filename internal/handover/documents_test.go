package handover_test

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/result"
	"redstart/internal/handover"
)

// quay is a site with what is verified, what is not, and names that mean harm.
func quay() handover.Record {
	at := time.Date(2026, 11, 25, 11, 0, 0, 0, time.UTC)
	check := func(name, expected string, v result.Verdict) result.Check {
		return result.Check{Name: name, Expected: expected, Observed: expected, Verdict: v, By: "read with credential 1", At: at}
	}
	camera := device.Found{MAC: address.MAC{2, 0, 0, 0, 0, 1}}
	camera.Add(device.Sighting{MAC: camera.MAC, Protocol: "onvif", At: at, Facts: map[string]string{fact.Firmware: "3.1", fact.Model: "C20"}})
	return handover.Record{
		Site: plan.Site{Key: "quay", Name: "Heron Quay", Subnets: []plan.Subnet{
			{Name: "cams/1", Prefix: netip.MustParsePrefix("10.0.0.0/22"), Gateway: netip.MustParseAddr("10.0.0.1"), VLAN: 40,
				DNS:      []netip.Addr{netip.MustParseAddr("10.0.0.2"), netip.MustParseAddr("10.0.0.3")},
				KeptFree: []plan.Kept{{Range: address.Range{From: netip.MustParseAddr("10.0.0.200"), To: netip.MustParseAddr("10.0.0.210")}, Reason: "guests"}}},
			{Name: "doors", Prefix: netip.MustParsePrefix("10.1.5.0/24")}}},
		At: at.Add(time.Hour), Signer: ed25519.NewKeyFromSeed([]byte("a seed of thirty-two bytes, here")),
		Runs:  []handover.Run{{ID: 1, Who: "ida", State: "done", Began: at, Ended: at, Set: 1, Of: 1}},
		Steps: []handover.Step{{Run: 1, Tag: "CAM-1", Step: "address", Phase: "done", At: at}},
		Entries: []handover.Entry{
			{Entry: plan.Entry{Tag: "CAM-1", Kind: "camera", Name: "CAM-1", Address: netip.MustParseAddr("10.0.0.5"), Serial: "S1"},
				Domain: "quay.example", State: "verified", Stands: "verified", Device: camera.MAC, CheckedAt: at, Maker: "Ovalis", Model: "C20",
				Found: &camera, Checks: []result.Check{check("address", "10.0.0.5", result.Passed), check("name", "CAM-1", result.Passed),
					check("address held by", camera.MAC.String(), result.Passed), check("serial", "S1", result.Passed)}},
			{Entry: plan.Entry{Tag: "CAM-2", Kind: "camera", Name: "cam-2", Address: netip.MustParseAddr("10.0.3.6"),
				MAC: address.MAC{2, 0, 0, 0, 0, 2}}, Domain: "quay.example", State: "needs attention", Stands: "needs attention",
				// It was verified at another address than is planned now.
				Checks:  []result.Check{check("address", "10.0.3.9", result.Passed), check("name", "cam-2", result.Failed)},
				Differs: []string{"address: 10.0.3.9 was set"}},
			{Entry: plan.Entry{Tag: "=cmd()|x", Name: "evil\n@ IN A 6.6.6.6", Address: netip.MustParseAddr("10.1.5.7"),
				Place: "Gate; } ]\n\"x"}, Domain: "quay.example", State: "planned", Stands: "planned\n@ IN A 6.6.6.6"},
			{Entry: plan.Entry{Tag: "DOOR-1", Name: "door-1", Address: netip.MustParseAddr("10.1.5.8"), MAC: address.MAC{2, 0, 0, 0, 0, 3}},
				Domain: "doors.example", State: "planned", Stands: "planned"},
		},
	}
}

func written(t *testing.T, name string, r handover.Record) []byte {
	t.Helper()
	var out, again bytes.Buffer
	for _, w := range []io.Writer{&out, &again} {
		if err := named(name).Write(w, r); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(out.Bytes(), again.Bytes()) {
		t.Errorf("%s made twice of the same is not the same", name)
	}
	return out.Bytes()
}

// A value counts as verified only where a check showed just what is planned now.
func TestTheRegisterSaysWhatIsVerified(t *testing.T) {
	t.Parallel()
	var doc struct {
		Entries []struct {
			Tag    string
			Values map[string]handover.Value
		}
	}
	if err := json.Unmarshal(written(t, "register-json", quay()), &doc); err != nil {
		t.Fatal(err)
	}
	good := doc.Entries[0].Values
	for _, key := range []string{"address", "name", "mac", "serial", "firmware", "model"} {
		if v := good[key]; !v.Verified || v.At.IsZero() || v.By == "" {
			t.Errorf("%s: %+v", key, v)
		}
	}
	other := doc.Entries[1].Values
	for _, key := range []string{"address", "name", "mac"} {
		if v := other[key]; v.Verified || v.Text == "" {
			t.Errorf("%s: %+v", key, v)
		}
	}
	if v := other["unverified"]; !strings.Contains(v.Text, "name: failed; address: 10.0.3.9 was set") {
		t.Errorf("%+v", v)
	}
	rows, err := csv.NewReader(bytes.NewReader(written(t, "register-csv", quay()))).ReadAll()
	if err != nil || rows[1][len(rows[1])-1] != "model serial mac address name firmware" || rows[3][0] != "'=cmd()|x" {
		t.Errorf("%v %q", err, rows)
	}
	chosen := quay()
	chosen.Columns = []string{"address", "tag"}
	if text := string(written(t, "register-csv", chosen)); !strings.HasPrefix(text, "address,tag,verified\n10.0.0.5,CAM-1,address\n") {
		t.Errorf("%s", text)
	}
}

// The workbook has a sheet for all, for each subnet, for what differs and for every check, each
// with a heading that stays and filters; in the site's language.
func TestTheRegisterAsAWorkbook(t *testing.T) {
	t.Parallel()
	r := quay()
	r.Site.Language = "nb"
	f, err := excelize.OpenReader(bytes.NewReader(written(t, "register", r)))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if got := strings.Join(f.GetSheetList(), ","); got != "Register,cams-1,doors,Avvik,Kontroller" {
		t.Errorf("%s", got)
	}
	for _, name := range f.GetSheetList() {
		if p, err := f.GetPanes(name); err != nil || !p.Freeze || p.YSplit != 1 {
			t.Errorf("%s: %+v %v", name, p, err)
		}
	}
	rows, err := f.GetRows("cams-1")
	if err != nil || len(rows) != 3 || rows[0][0] != "Betegnelse" || !slices.Contains(rows[1], "bekreftet") {
		t.Errorf("%v %q", err, rows)
	}
	if rows, err := f.GetRows("Avvik"); err != nil || len(rows) != 3 {
		t.Errorf("%v %q", err, rows)
	}
}

// tool gives the path of a program that make test installs.
func tool(t *testing.T, name string) string {
	t.Helper()
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin", "/sbin") {
		path := filepath.Join(dir, name)
		if _, err := os.Stat(path); err == nil {
			return path
		}
	}
	t.Fatalf("%s is missing; make test installs it", name)
	return ""
}

// What other programs are to read, they read; nobody's name is a line of its own in it.
func TestOtherProgramsReadIt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := func(program string, args ...string) {
		t.Helper()
		if out, err := exec.CommandContext(t.Context(), tool(t, program), args...).CombinedOutput(); err != nil {
			t.Errorf("%s %v: %v\n%s", program, args, err, out)
		}
	}
	keep := func(name string, content []byte) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	archive := written(t, "zones", quay())
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range z.File {
		in, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		content, err := io.ReadAll(in)
		if err != nil {
			t.Fatal(err)
		}
		origin := strings.TrimSuffix(f.Name, ".zone")
		names = append(names, origin)
		run("named-checkzone", "-k", "fail", origin, keep(f.Name, content))
		if strings.Contains(string(content), "\n@ IN A 6.6.6.6") {
			t.Errorf("%s: somebody's name is a record:\n%s", origin, content)
		}
	}
	if got := strings.Join(names, " "); got != "0.10.in-addr.arpa 5.1.10.in-addr.arpa doors.example quay.example" {
		t.Errorf("zones %s", got)
	}
	run("dnsmasq", "--test", "--conf-file="+keep("dnsmasq.conf", written(t, "reservations-dnsmasq", quay())))
	run("kea-dhcp4", "-t", keep("kea.json", written(t, "reservations-kea", quay())))
	for _, name := range []string{"inventory", "targets"} {
		if !json.Valid(written(t, name, quay())) {
			t.Errorf("%s is no JSON", name)
		}
	}
	// The inventory has no key that its schema does not have.
	var described struct {
		Properties struct {
			Devices struct {
				Items struct {
					Required   []string
					Properties map[string]any
				}
			}
		}
	}
	var told struct{ Devices []map[string]any }
	if err := errors.Join(json.Unmarshal(written(t, "inventory-schema", quay()), &described),
		json.Unmarshal(written(t, "inventory", quay()), &told)); err != nil {
		t.Fatal(err)
	}
	item := described.Properties.Devices.Items
	for _, d := range told.Devices {
		for key := range d {
			if item.Properties[key] == nil {
				t.Errorf("the schema does not describe %q", key)
			}
		}
		for _, key := range item.Required {
			if d[key] == nil {
				t.Errorf("%v has no %q", d["tag"], key)
			}
		}
	}
	rows, err := csv.NewReader(bytes.NewReader(written(t, "addresses", quay()))).ReadAll()
	if err != nil || len(rows) != 7 || rows[2][2] != "10.0.0.210" {
		t.Errorf("%v %q", err, rows)
	}
}

// The report is read by another program: every part is there, in both languages, with a page
// number on each page; what was not verified has its reason.
func TestTheReport(t *testing.T) {
	t.Parallel()
	for language, parts := range map[string][]string{
		"en": {"Handover report", "Summary", "1 verified, 3 not verified", "Subnets", "cams/1 10.0.0.0/22", "Register", "* 10.0.3.6",
			"Not verified, and why", "address: 10.0.3.9 was set", "Findings, and what was done", "the name is taken", "the address is used twice", "12:00, ines: address", "Checks per device",
			"read with credential 1", "Who did what", "run 1: 2 of 4 devices set"},
		"nb": {"Overleveringsrapport", "Sammendrag", "krever tilsyn", "Hvem gjorde hva"},
	} {
		r := quay()
		r.Site.Language = language
		r.Findings = []handover.Finding{{Level: "warning", Of: "CAM-2", Text: "the name is taken", Since: r.At},
			{Level: "stops", Of: "CAM-1", Text: "the address is used twice", Since: r.At, Gone: r.At, By: "ines: address planned anew"}}
		r.Acts = []handover.Act{{At: r.At, Who: "ines", What: "run 1: 2 of 4 devices set"}}
		path := filepath.Join(t.TempDir(), "report.pdf")
		if err := os.WriteFile(path, written(t, "report", r), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.CommandContext(t.Context(), "pdftotext", "-layout", path, "-").Output()
		if err != nil {
			t.Fatal(err)
		}
		text := strings.Join(strings.Fields(string(out)), " ")
		for _, part := range parts {
			if !strings.Contains(text, part) {
				t.Errorf("%s: there is no %q in\n%s", language, part, out)
			}
		}
		pages := strings.Split(strings.TrimRight(string(out), "\f"), "\f")
		for i, page := range pages {
			if !strings.HasSuffix(strings.Join(strings.Fields(page), ""), fmt.Sprintf("UTC%d/%d", i+1, len(pages))) {
				t.Errorf("page %d of %d has no number: %s", i+1, len(pages), page)
			}
		}
	}
}

// Five hundred devices with their checks and the journal of two runs are a whole package within
// moments, and no more memory than a few times the file.
func BenchmarkPackage(b *testing.B) {
	r := quay()
	one := r.Entries[0]
	for len(one.Checks) < 25 {
		one.Checks = append(one.Checks, one.Checks...)
	}
	r.Entries = nil
	for i := range 500 {
		e := one
		e.Tag = fmt.Sprintf("CAM-%d", i)
		r.Entries = append(r.Entries, e)
		for n := range 40 {
			r.Steps = append(r.Steps, handover.Step{Run: 1, Tag: e.Tag, MAC: e.Device.String(), Step: fmt.Sprint("step ", n), Phase: "done",
				Detail: "at 10.40.8.20 after 0.4 s", At: r.At})
		}
		r.Plan.Entries = append(r.Plan.Entries, e.Entry)
	}
	b.ReportAllocs()
	for b.Loop() {
		if err := named("package").Write(io.Discard, r); err != nil {
			b.Fatal(err)
		}
	}
}

// No text breaks a document: signs that its font does not have, of any plane, stand as a
// question mark.
func TestAnyTextIsDrawn(t *testing.T) {
	t.Parallel()
	r := quay()
	odd := "Kai 🚢 ١٢٣ \u202eabc\ufeff \x00\x1b 漢字 \U0010fffd " + strings.Repeat("w", 3000)
	for i := range r.Entries {
		r.Entries[i].Place, r.Entries[i].Tag, r.Entries[i].Stands = odd, odd[:20]+r.Entries[i].Tag, odd
		r.Entries[i].Area, r.Entries[i].Kind = odd, odd
		for n := range r.Entries[i].Checks {
			r.Entries[i].Checks[n].Observed, r.Entries[i].Checks[n].Name = odd, odd
		}
	}
	r.Site.Name, r.Site.Notes = odd, odd
	r.Site.Subnets[0].Name, r.Site.Subnets[1].Name = odd, "REGISTER"
	r.Acts = []handover.Act{{Who: odd, What: odd}}
	for _, d := range handover.All {
		if err := d.Write(io.Discard, r); err != nil {
			t.Errorf("%s: %v", d.Name, err)
		}
	}
	l, err := handover.LayOut(r, handover.LabelSheet{Width: 70, Height: 37, Fields: []string{"place", "tag"}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(l.PDF(io.Discard), l.SVG(io.Discard)); err != nil {
		t.Error(err)
	}
}

// packed gives a package and its contents page.
func packed(t *testing.T, r handover.Record) (*zip.Reader, []byte) {
	t.Helper()
	archive := written(t, "package", r)
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		t.Fatal(err)
	}
	in, err := z.Open("index.html")
	if err != nil {
		t.Fatal(err)
	}
	page, err := io.ReadAll(in)
	if err != nil {
		t.Fatal(err)
	}
	return z, page
}

// What is empty is not called verified.
func TestAnEmptySiteIsNotCalledVerified(t *testing.T) {
	t.Parallel()
	r := quay()
	r.Entries = nil
	if _, page := packed(t, r); strings.Contains(string(page), "everything") || !strings.Contains(string(page), "nothing that is wired") {
		t.Errorf("%s", page)
	}
}

// The package has every document, and a contents page that needs nothing else and says what is
// missing; nobody's name is markup in it.
func TestThePackage(t *testing.T) {
	t.Parallel()
	r := quay()
	r.Entries[2].Place = "<script>alert(1)</script>"
	z, page := packed(t, r)
	for _, want := range []string{"<strong>1 of 4</strong>", "CAM-2", "name: failed", "&lt;script&gt;"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the contents page does not say %q:\n%s", want, page)
		}
	}
	if strings.Contains(string(page), "<script>") || strings.Contains(string(page), "http://") || strings.Contains(string(page), "https://") {
		t.Errorf("it needs a network, or runs something:\n%s", page)
	}
	for _, d := range handover.All {
		if d.Name != "package" && !strings.Contains(string(page), `href="`+d.File+`"`) {
			t.Errorf("%s is not in the contents", d.File)
		}
		if d.Name == "package" {
			continue
		}
		f, err := z.Open(d.File)
		if err != nil {
			t.Fatal(err)
		}
		content, err := io.ReadAll(f)
		// The record of a package has the sums of the other documents too.
		if err != nil || d.Name != "record" && !bytes.Equal(content, written(t, d.Name, r)) {
			t.Errorf("%s: %d bytes, %v", d.File, len(content), err)
		}
	}
}

// Every word of every document is there in the other language: what a Norwegian site gets holds
// none of the English headings.
func TestDocumentsSpeakTheLanguageOfTheSite(t *testing.T) {
	t.Parallel()
	r := quay()
	r.Site.Language = "nb-NO"
	_, page := packed(t, r)
	for _, word := range []string{"Documents", "What is missing", "Register of all", "entries were", "needs attention", "Passwords"} {
		if strings.Contains(string(page), word) {
			t.Errorf("%q is English:\n%s", word, page)
		}
	}
	for _, d := range handover.All {
		if d.Name != "package" && !strings.Contains(string(page), d.File) {
			t.Errorf("%s is missing", d.File)
		}
	}
}

// LibreOffice, which shares nothing with the library that wrote it, reads the workbook: every
// sheet, every row, and no formula.
func TestAnotherProgramReadsTheWorkbook(t *testing.T) {
	t.Parallel()
	office, dir := tool(t, "soffice"), t.TempDir()
	r := quay()
	path := filepath.Join(dir, "register.xlsx")
	if err := os.WriteFile(path, written(t, "register", r), 0o600); err != nil {
		t.Fatal(err)
	}
	// Filter options of its CSV: comma, quotes, UTF-8, ..., and -1 for every sheet.
	out, err := exec.CommandContext(t.Context(), office, "-env:UserInstallation=file://"+dir+"/profile", "--headless", "--convert-to",
		"csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true,false,true,false,-1", "--outdir", dir, path).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	sheets, err := filepath.Glob(filepath.Join(dir, "register-*.csv"))
	if err != nil || len(sheets) != 5 {
		t.Fatalf("%v, %v\n%s", sheets, err, out)
	}
	// Each sheet of this small site is one page, which lies.
	if out, err := exec.CommandContext(t.Context(), office, "-env:UserInstallation=file://"+dir+"/profile", "--headless", "--convert-to", "pdf",
		"--outdir", dir, path).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	info, err := exec.CommandContext(t.Context(), "pdfinfo", filepath.Join(dir, "register.pdf")).Output()
	if err != nil || !strings.Contains(string(info), "Page size:       841.89 x 595") || !strings.Contains(string(info), fmt.Sprintf("Pages:           %d\n", len(sheets))) {
		t.Errorf("%v\n%s", err, info)
	}
	read := func(sheet string) [][]string {
		t.Helper()
		content, err := os.ReadFile(filepath.Join(dir, "register-"+sheet+".csv"))
		if err != nil {
			t.Fatal(err)
		}
		rows, err := csv.NewReader(bytes.NewReader(content)).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		return rows
	}
	rows := read("Register")
	if len(rows) != len(r.Entries)+1 || rows[0][0] != "Tag" || rows[1][0] != "CAM-1" || !slices.Contains(rows[1], "02:00:00:00:00:01") ||
		rows[3][0] != "=cmd()|x" && rows[3][0] != "'=cmd()|x" {
		t.Errorf("%q", rows)
	}
	if rows := read("Checks"); len(rows) != 7 {
		t.Errorf("%q", rows)
	}
}
