package planfile_test

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/sim/skerry"
	"redstart/profiles"
)

func empty(t testing.TB) plan.Plan {
	t.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	return plan.Plan{Profiles: set, Site: plan.Site{Key: "test", Name: "Test",
		Subnets: []plan.Subnet{{Name: "main", Prefix: netip.MustParsePrefix("10.1.0.0/24"),
			Gateway: netip.MustParseAddr("10.1.0.1")}}}}
}

func read(t testing.TB, p plan.Plan, file string, o planfile.Options) planfile.Result {
	t.Helper()
	r, err := planfile.Read(context.Background(), []byte(file), p, nil, o)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func text(cells []problem.Cell) []string {
	list := []string{}
	for _, c := range cells {
		list = append(list, c.String())
	}
	return list
}

func TestEveryUsualDelimiterAndHeader(t *testing.T) {
	for _, d := range []string{",", ";", "\t"} {
		place := "Hall" + strings.Trim(d, "\t") + " east" // a tab inside a cell is refused
		file := "\ufeff" +
			strings.ReplaceAll("Device Tag|Model|IP Address|Host name|Location|S/N|Rings at|Colour\r\nA-01|tolvern-d1|10.1.0.9||PLACE|T-1|A-02|red\r\n|||||||\r\nA-02|tolvern-m7|next|auto|||\r\n", "|", d)
		file = strings.Replace(file, "PLACE", `"`+place+`"`, 1)
		r := read(t, empty(t), file, planfile.Options{})
		if len(r.Cells) > 0 || len(r.Entries) != 2 {
			t.Fatalf("divided by %q: %q, %+v", d, text(r.Cells), r.Entries)
		}
		a, b := r.Entries[0], r.Entries[1]
		if a.Kind != "intercom" || a.Address.String() != "10.1.0.9" || a.Name != "A-01" || a.Place != place ||
			a.Serial != "T-1" || a.Get("rings-at") != "A-02" || b.Address.String() != "10.1.0.2" || b.Name != "A-02" {
			t.Errorf("divided by %q: %+v %+v", d, a, b)
		}
		if !slices.Equal(r.LeftOut, []string{"Colour"}) || r.Samples[0].Fields["address"] != "10.1.0.9" ||
			r.RowOf["A-02"] != 4 {
			t.Errorf("divided by %q: left out %q, samples %+v, rows %v", d, r.LeftOut, r.Samples, r.RowOf)
		}
	}
}

func TestEveryMistakeHasItsSheetRowAndColumn(t *testing.T) {
	file := `tag,profile,address,mac,not-wired,name
A-01,ovalis-c20,10.1.0.300,,,
A-02,ovalis-c20,next,01:00:5e:00:00:01,,
A-01,ovalis-c20,next,,,
,ovalis-c20,next,,,
A-05,ovalis-c20,next,,perhaps,
A-06,ovalis-c20,next,,,,too,many
A-07,ovalis-c99,next,,,
`
	want := []string{
		`row 2, column address, "10.1.0.300": is not an IPv4 address`,
		`row 3, column mac, "01:00:5e:00:00:01": is not a MAC`, `row 4, column tag, "A-01": is in row 2 already`,
		`row 5, column tag: the entry has no tag`, `row 6, column not-wired, "perhaps": is neither`,
		`row 7: the row has 8 fields, the header 6`,
	}
	compare := func(r planfile.Result, prefix string) {
		t.Helper()
		got := text(r.Cells)
		for i, w := range want {
			if i >= len(got) || !strings.HasPrefix(got[i], prefix+w) {
				t.Fatalf("mistake %d should be %q, all: %q", i+1, prefix+w, got)
			}
		}
		if len(got) != len(want) || r.Refusal() == nil {
			t.Errorf("%d mistakes, want %d: %q", len(got), len(want), got)
		}
		// What is readable is checked as well, so that one look shows everything.
		if !slices.ContainsFunc(r.Findings, func(f plan.Finding) bool {
			return f.Code == "profile-missing" && f.Tag == "A-07"
		}) {
			t.Errorf("%+v", r.Findings)
		}
	}
	compare(read(t, empty(t), file, planfile.Options{}), "")
	// The same in a workbook, on a second sheet.
	f := excelize.NewFile()
	if _, err := f.NewSheet("Devices"); err != nil {
		t.Fatal(err)
	}
	for i, line := range strings.Split(strings.TrimSpace(file), "\n") {
		row := []any{}
		for _, v := range strings.Split(line, ",") {
			row = append(row, v)
		}
		if err := f.SetSheetRow("Devices", fmt.Sprintf("A%d", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	book, err := f.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	r := read(t, empty(t), book.String(), planfile.Options{})
	if r.Sheet != "Devices" {
		t.Errorf("took the sheet %q", r.Sheet)
	}
	compare(r, "sheet Devices, ")
}

func TestFilesThatAreNoPlanAreRefused(t *testing.T) {
	for name, c := range map[string]struct{ file, want string }{
		"empty":         {"", "no header"},
		"header only":   {"tag,profile\n", "no entries"},
		"no tag":        {"colour\nred\n", "no column holds the tag"},
		"two tags":      {"designation,asset tag,profile\nA,B,ovalis-c20\n", "means tag as well"},
		"two spellings": {"tag,profile,position,location\nA,ovalis-c20,1,2\n", "means place as well"},
		"too large":     {"tag,profile\n" + strings.Repeat("x", planfile.MaxFile), "larger than 4 MiB"},
		"too many":      {"tag,profile\n" + strings.Repeat("A,ovalis-c20\n", plan.MaxEntries+1), "at most"},
		"quotes":        {"tag,profile,place\nA,ovalis-c20,\"open\nB,ovalis-c20,x\n", "quotes do not pair"},
		"a picture":     {"\x89PNG\r\n\x1a\n\x00\x00", "no text that can be read"},
		"a wide sheet":  {strings.Repeat("x,", 300) + "\n1\n", "columns"},
		"a broken zip":  {"PK\x03\x04 and nothing more", "workbook cannot be read"},
		"broken json":   {"{\"entries\": [\n{]", "in line 2"},
		"other json":    {`{"things": []}`, "cannot be understood"},
		"nested json":   {`[{"tag": "A", "place": {"x": 1}}]`, "neither text"},
		"a wrong site":  {`{"site": {"name": "x", "key": "x", "subnets": [{"name": "a", "prefix": "10.0.0.1/24"}]}, "entries": []}`, "host bits"},
		"unknown sheet": {"tag\nA\n", ""},
	} {
		o := planfile.Options{}
		if name == "unknown sheet" {
			o.Sheet, c.want = "Elsewhere", "no sheet"
		}
		r, err := planfile.Read(context.Background(), []byte(c.file), empty(t), nil, o)
		got := strings.Join(text(r.Cells[max(0, len(r.Cells)-1):]), " ")
		if err != nil {
			got += err.Error()
		}
		if !strings.Contains(got, c.want) || got == "" {
			t.Errorf("%s: %s; want something about %q", name, got, c.want)
		}
	}
}

func TestANewerRevision(t *testing.T) {
	p := empty(t)
	p.Entries = read(t, p,
		"tag,profile,place,address\nA-1,ovalis-c20,Hall,10.1.0.5\nA-2,ovalis-c20,Hall,10.1.0.6\nA-3,ovalis-c20,Hall,10.1.0.7\nA-4,ovalis-c20,Hall,10.1.0.8\n", planfile.Options{}).Entries
	p.Known.Locked = map[string]bool{"A-2": true, "A-4": true}
	file := "tag,profile,place,address,name\nA-1,ovalis-c20,Yard,next,auto\nA-2,ovalis-c20,Yard,,\nA-5,ovalis-c20,Yard,,\n"
	words := func(r planfile.Result) string {
		c := r.Comparison
		var list []string
		for _, e := range c.Added {
			list = append(list, "+"+e.Tag)
		}
		for _, x := range c.Changed {
			list = append(list, x.Tag+" "+x.String())
		}
		for _, e := range c.Removed {
			list = append(list, "-"+e.Tag)
		}
		for _, x := range r.Untouched {
			list = append(list, "("+x.Tag+")")
		}
		return strings.Join(list, ", ")
	}
	for _, c := range []struct {
		o    planfile.Options
		want string
	}{
		// Addresses and names that the file leaves to be made stay as they are. Where a
		// device is, and what else only people read, may change though it is configured.
		{planfile.Options{}, "+A-5, A-1 place changed from Hall to Yard, A-2 place changed from Hall to Yard"},
		{planfile.Options{Whole: true},
			"+A-5, A-1 place changed from Hall to Yard, A-2 place changed from Hall to Yard, -A-3, (A-4)"},
		{planfile.Options{Whole: true, Configured: true},
			"+A-5, A-1 place changed from Hall to Yard, A-2 place changed from Hall to Yard, -A-3, -A-4"},
	} {
		if got := words(read(t, p, file, c.o)); got != c.want {
			t.Errorf("%+v: %s\nwant %s", c.o, got, c.want)
		}
	}
}

func TestColumnsAreRememberedAndChosen(t *testing.T) {
	p := empty(t)
	header := []string{"Ref", "Type", "Model", "Net addr", "Room"}
	m := planfile.Propose(header, p.Profiles, planfile.Mapping{"Net addr": "address", "Room": "place", "Type": "",
		"Ref": "no such field"})
	if fmt.Sprint(m) != fmt.Sprint(planfile.Mapping{"Ref": "", "Type": "", "Model": "profile", "Net addr": "address",
		"Room": "place"}) {
		t.Errorf("%v", m)
	}
	file := "Ref,Model,Net addr\nA-1,ovalis-c20,10.1.0.9\n"
	r := read(t, p, file, planfile.Options{Mapping: planfile.Mapping{"Ref": "tag", "Model": "profile",
		"Net addr": "address"}})
	if len(r.Cells) > 0 || r.Entries[0].Get("address") != "10.1.0.9" {
		t.Errorf("%q %+v", text(r.Cells), r.Entries)
	}
	for want, m := range map[string]planfile.Mapping{"as \"Ref\" is": {"Ref": "tag", "Model": "tag"},
		"no field": {"Ref": "colour"}, "say which": {}} {
		if r := read(t, p, file, planfile.Options{Mapping: m}); r.Refusal() == nil ||
			!strings.Contains(strings.Join(text(r.Cells), " "), want) {
			t.Errorf("%v: %q", m, text(r.Cells))
		}
	}
}

// What is written is read back as it was, in every format.
func TestExportsAreReadBack(t *testing.T) {
	site := skerry.Start(skerry.Options{Pace: 0.01})
	defer site.Close()
	p := empty(t)
	p.Site = skerry.Data()
	p.Entries = read(t, p, string(site.WholePlan()), planfile.Options{}).Entries
	p.Entries[0].Settings = map[string]string{"management-vlan": "40"}
	for _, e := range p.Entries {
		delete(e.Settings, "keypad-code") // no file holds a secret
	}
	for _, format := range []string{planfile.CSV, planfile.XLSX, planfile.JSON} {
		content, err := planfile.Write(p, format)
		if err != nil {
			t.Fatal(err)
		}
		fresh := p
		fresh.Entries = nil
		r := read(t, fresh, string(content), planfile.Options{})
		if len(r.Cells) > 0 || !plan.Compare(p.Entries, r.Entries).Empty() {
			t.Errorf("%s: %q, %+v", format, text(r.Cells), plan.Compare(p.Entries, r.Entries).Changed)
		}
		if (r.Site != nil) != (format == planfile.JSON) {
			t.Errorf("%s: site %v", format, r.Site)
		}
	}
	if _, err := planfile.Write(p, "pdf"); err == nil {
		t.Error("a plan as PDF")
	}
}

func TestTheTemplateHasDropDowns(t *testing.T) {
	p := empty(t)
	content, err := planfile.Template(p)
	if err != nil {
		t.Fatal(err)
	}
	f, err := excelize.OpenReader(strings.NewReader(string(content)))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	rows, err := f.GetRows("Plan")
	if err != nil || len(rows) != 1 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	validations, err := f.GetDataValidations("Plan")
	if err != nil {
		t.Fatal(err)
	}
	lists := map[string][]string{}
	for _, v := range validations {
		column := strings.TrimRight(strings.Split(v.Sqref, ":")[0], "0123456789")
		n, err := excelize.ColumnNameToNumber(column)
		if err != nil {
			t.Fatal(err)
		}
		if v.Type != "list" {
			continue
		}
		ref := strings.NewReplacer("$", "", "<formula1>", "", "</formula1>", "").Replace(v.Formula1)
		_, span, _ := strings.Cut(ref, "!")
		from, to, _ := strings.Cut(span, ":")
		col := strings.TrimRight(from, "0123456789")
		var last int
		fmt.Sscanf(strings.TrimPrefix(to, col), "%d", &last)
		for i := 1; i <= last; i++ {
			value, err := f.GetCellValue("Lists", fmt.Sprintf("%s%d", col, i))
			if err != nil {
				t.Fatal(err)
			}
			lists[rows[0][n-1]] = append(lists[rows[0][n-1]], value)
		}
	}
	if !slices.Contains(lists["profile"], "ovalis-c20") || !slices.Contains(lists["kind"], "camera") ||
		!slices.Equal(lists["subnet"], []string{"main"}) ||
		!slices.Contains(lists["radio-region"], "Japan") || !slices.Equal(lists["local-joining"], []string{"yes", "no"}) {
		t.Errorf("%v", lists)
	}
	// The same as a spreadsheet would read it, without the library that wrote it.
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		t.Fatal(err)
	}
	part, err := archive.Open("xl/worksheets/sheet1.xml")
	if err != nil {
		t.Fatal(err)
	}
	var sheet struct {
		Validations []struct {
			Type    string `xml:"type,attr"`
			Sqref   string `xml:"sqref,attr"`
			Formula string `xml:"formula1"`
		} `xml:"dataValidations>dataValidation"`
	}
	if err := xml.NewDecoder(part).Decode(&sheet); err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, v := range sheet.Validations {
		if v.Type == "list" && strings.HasPrefix(v.Formula, "Lists!$") && strings.HasSuffix(v.Sqref, "2001") {
			found++
		}
	}
	if found != len(lists) {
		t.Errorf("%d drop-downs in the file itself, want %d: %+v", found, len(lists), sheet.Validations)
	}
	if slices.Contains(rows[0], "join-secret") {
		t.Error("a workbook is no place for secrets")
	}
}

// A small file that unfolds to a huge one is refused in moments.
func TestAZipBombIsRefused(t *testing.T) {
	small, err := excelize.NewFile().WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	parts, err := zip.NewReader(bytes.NewReader(small.Bytes()), int64(small.Len()))
	if err != nil {
		t.Fatal(err)
	}
	var book bytes.Buffer
	bomb := zip.NewWriter(&book)
	bomb.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return flate.NewWriter(w, flate.BestSpeed)
	})
	for _, part := range parts.File {
		in, err := part.Open()
		if err != nil {
			t.Fatal(err)
		}
		out, err := bomb.Create(part.Name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.Copy(out, in); err != nil {
			t.Fatal(err)
		}
		if strings.HasPrefix(part.Name, "xl/worksheets/") {
			if _, err := out.Write(bytes.Repeat([]byte(" "), 70<<20)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := bomb.Close(); err != nil {
		t.Fatal(err)
	}
	if book.Len() > planfile.MaxFile {
		t.Fatalf("%d bytes are refused for their size alone", book.Len())
	}
	if _, err := planfile.Open(context.Background(), book.Bytes()); err == nil || !strings.Contains(err.Error(), "cannot be read") {
		t.Errorf("70 MB of a sheet in %d bytes: %v", book.Len(), err)
	}
}

// Lists come as spreadsheets save them: with titles, a line that names the divider,
// or in other encodings than ours; the preview says which.
func TestHowListsAreSaved(t *testing.T) {
	utf16 := func(s string) string {
		out := "\xff\xfe"
		for _, r := range s {
			out += string([]byte{byte(r), byte(r >> 8)})
		}
		return out
	}
	for name, c := range map[string]struct{ file, encoding, place string }{
		"plain":             {"tag,profile,place\nA,ovalis-c20,Tårn\n", "", "Tårn"},
		"Windows-1252":      {"tag;profile;place\nA;ovalis-c20;T\xe5rn \x96 2\n", "Windows-1252", "Tårn – 2"},
		"UTF-16":            {utf16("tag\tprofile\tplace\nA\tovalis-c20\tTårn\n"), "UTF-16", "Tårn"},
		"UTF-16, no mark":   {utf16("tag\tprofile\tplace\nA\tovalis-c20\tTårn\n")[2:], "UTF-16", "Tårn"},
		"the divider named": {"sep=;\ntag;profile;place\nA;ovalis-c20;Tårn, north\n", "", "Tårn, north"},
		"titles": {"Skerry Point\n\nIssued for construction, rev C\ntag,profile,place\nA,ovalis-c20,Tårn\n",
			"", "Tårn"},
		"wide titles": {"Skerry Point,,\ntag,profile,place\nA,ovalis-c20,Tårn\n", "", "Tårn"},
	} {
		r, err := planfile.Read(context.Background(), []byte(c.file), empty(t), nil, planfile.Options{})
		if err != nil || r.Refusal() != nil || len(r.Entries) != 1 || r.Entries[0].Place != c.place ||
			r.Encoding != c.encoding {
			t.Errorf("%s: %v, %v, %+v, encoding %q", name, err, r.Refusal(), r.Entries, r.Encoding)
		}
	}
	r, err := planfile.Read(context.Background(), []byte("sep=;\nSkerry Point;;\ntag;profile;address\nA;ovalis-c20;nonsense\n"), empty(t),
		nil, planfile.Options{})
	if err != nil || len(r.Cells) != 1 || r.Cells[0].Row != 4 || len(r.Titles) != 1 {
		t.Errorf("a mistake below titles: %v, %+v", err, r.Cells)
	}
}

// What a workbook does not hold is never taken for empty.
func TestFormulasAndMergedCells(t *testing.T) {
	f := excelize.NewFile()
	defer f.Close()
	for at, v := range map[string]any{"A1": "Skerry Point", "A2": "tag", "B2": "profile", "C2": "place", "A3": "A",
		"B3": "ovalis-c20", "C3": "Hall", "A4": "B", "B4": "ovalis-c20", "A5": "C", "B5": "ovalis-c20"} {
		if err := f.SetCellValue("Sheet1", at, v); err != nil {
			t.Fatal(err)
		}
	}
	for _, err := range []error{f.SetCellFormula("Sheet1", "C5", "C3&B3"), f.MergeCell("Sheet1", "C3", "C4"),
		f.MergeCell("Sheet1", "A1", "C1")} {
		if err != nil {
			t.Fatal(err)
		}
	}
	book, err := f.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	r, err := planfile.Read(context.Background(), book.Bytes(), empty(t), nil, planfile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	got := strings.Join(text(r.Cells), "\n")
	if len(r.Cells) != 2 || !strings.Contains(got, "row 3, column place: the cells C3 to C4 are merged") ||
		!strings.Contains(got, "row 5, column place, \"=C3&B3\": is a formula whose result is not in the file") {
		t.Errorf("%s", got)
	}
}

// The next free address is none that the file has for an entry that is left alone.
func TestNextLeavesWhatIsSpokenFor(t *testing.T) {
	p := empty(t)
	p.Entries = read(t, p, "tag,profile,address\nA-1,ovalis-c20,10.1.0.5\n", planfile.Options{}).Entries
	p.Known.Locked = map[string]bool{"A-1": true}
	r := read(t, p, "tag,profile,address\nA-1,ovalis-c20,10.1.0.2\nA-2,ovalis-c20,next\nA-3,ovalis-c20,10.1.0.3\n",
		planfile.Options{})
	for _, e := range r.Entries {
		if e.Tag == "A-2" && (e.Address.String() == "10.1.0.2" || e.Address.String() == "10.1.0.3" ||
			e.Address.String() == "10.1.0.5") {
			t.Errorf("next gave %s", e.Address)
		}
	}
	if _, err := p.Generate([]plan.Quantity{{Profile: "ovalis-c20", Count: 4, Pattern: "B-{n}",
		Address: "10.1.0.20-10.1.0.22"}}); err == nil || !strings.Contains(err.Error(),
		"no free address is left in 10.1.0.20-10.1.0.22") {
		t.Errorf("four entries in three addresses: %v", err)
	}
	if _, err := p.Generate([]plan.Quantity{{Profile: "ovalis-c20", Count: 2, Pattern: "B-{n}",
		Address: "10.1.0.20-10.1.0.20"}}); err == nil {
		t.Error("a range of one address was left")
	}
}

// A site in a file counts for its entries, and keeps the key it goes into.
func TestASiteInTheFile(t *testing.T) {
	p := empty(t)
	r := read(t, p,
		`{"site": {"key": "", "name": "Other", "subnets": [{"name": "b", "prefix": "10.9.0.0/24", "gateway": "10.9.0.1"}]}, "entries": [{"tag": "A", "profile": "ovalis-c20", "after": ["B", "C"], "not-wired": true, "stream-port": 1554}]}`, planfile.Options{})
	e := r.Entries[0]
	if r.Site.Key != "test" || e.Address.String() != "10.9.0.2" || !slices.Equal(e.After, []string{"B", "C"}) ||
		!e.NotWired || e.Get("stream-port") != "1554" {
		t.Errorf("%+v %+v", r.Site, e)
	}
	alone := read(t, p, `{"site": {"key": "x", "name": "Other"}, "entries": []}`, planfile.Options{})
	if alone.Refusal() != nil || alone.Rows != 0 || alone.Site.Name != "Other" {
		t.Errorf("a file that holds the site alone: %+v", alone)
	}
}

// The file with planted mistakes gives exactly its list.
func TestThePlantedMistakes(t *testing.T) {
	file, err := os.ReadFile("../../../demo/skerry-point-mistakes.json")
	if err != nil {
		t.Fatal(err)
	}
	list, err := os.ReadFile("../../../demo/skerry-point-mistakes.txt")
	if err != nil {
		t.Fatal(err)
	}
	p := empty(t)
	p.Known.Files = map[string]string{}
	r := read(t, p, string(file), planfile.Options{})
	seen := map[string]bool{}
	var got []string
	for _, c := range r.Cells {
		got = append(got, c.String())
	}
	for _, f := range r.Findings {
		seen[f.Code] = true
		got = append(got, strings.Join(strings.Fields(fmt.Sprintf("%s %s %s%s %s", f.Level, f.Code, f.Tag, f.Profile,
			f.Field)), " "))
	}
	want := strings.Split(strings.TrimSpace(string(list)), "\n")
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || got[i] != want[i] {
			t.Fatalf("line %d differs; all that was found:\n%s", i+1, strings.Join(got, "\n"))
		}
	}
	// These need more than a file: the segment, and a password in the vault.
	seen["address-living"], seen["policy-refused"], seen["mac-other"], seen["serial-other"] = true, true, true, true
	// And this one is left of an entry whose profile changes.
	seen["setting-unknown"] = true
	seen["not-set-yet"] = true // every bundled model can be set
	docs, err := os.ReadFile("../../../docs/checks.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, rule := range plan.Rules {
		if !seen[rule.Code] {
			t.Errorf("no mistake of the kind %s is planted", rule.Code)
		}
		if !strings.Contains(string(docs), "`"+rule.Code+"` | "+string(rule.Level)) {
			t.Errorf("docs/checks.md does not list %s as %s", rule.Code, rule.Level)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("tag,kind,profile,place,address,name,mac,serial\nA-1,camera,ovalis-c20,Hall,next,auto,,\n"))
	f.Add([]byte("\ufefftag;profile;address\nA;ovalis-c20;10.1.0.300\n"))
	f.Add([]byte("tag,profile\n\"A\nB,\"\"\n"))
	f.Add([]byte(`{"site":{"name":"x","key":"x","zone":"","subnets":[]},"entries":[{"tag":"A","profile":"ovalis-c20","after":["A","B"],"not-wired":true,"room":7}]}`))
	p := empty(f)
	if book, err := planfile.Template(p); err == nil {
		f.Add(book)
	}
	f.Fuzz(func(t *testing.T, file []byte) {
		r, err := planfile.Read(context.Background(), file, p, nil, planfile.Options{})
		if err != nil {
			return
		}
		if r.Refusal() == nil && len(r.Entries) == 0 && r.Site == nil {
			t.Fatal("an accepted file has no entries")
		}
		if _, err := json.Marshal(r); err != nil {
			t.Fatal(err)
		}
	})
}

// BenchmarkImport reads 5,000 rows.
func BenchmarkImport(b *testing.B) {
	p := empty(b)
	p.Site.Subnets[0].Prefix = netip.MustParsePrefix("10.0.0.0/16")
	var file strings.Builder
	file.WriteString("tag,profile,place,address,name,stream-port\n")
	for i := range 5000 {
		fmt.Fprintf(&file, "CAM-%04d,ovalis-c20,Hall,next,auto,%d\n", i, i+1)
	}
	for b.Loop() {
		if r, err := planfile.Read(context.Background(), []byte(file.String()), p, nil, planfile.Options{}); err != nil ||
			len(r.Entries) != 5000 {
			b.Fatal(err)
		}
	}
}

// One cell of a right plan is something else: it is taken as it is, or refused by its row.
func FuzzNearlyRight(f *testing.F) {
	file, err := os.ReadFile("../../../demo/skerry-point.csv")
	if err != nil {
		f.Fatal(err)
	}
	lines, err := csv.NewReader(bytes.NewReader(file)).ReadAll()
	if err != nil {
		f.Fatal(err)
	}
	lines = lines[:min(len(lines), 16)]
	p := empty(f)
	for i, seed := range []string{"", "x", "next", "10.40.8.0", "10.40.8.300", "=1+1", "vault:1/kind/camera", "[{\"port\":1}]", "-1",
		"HALL-CAM-01", "HALL-CAM-01 HALL-CAM-01", "yes", "\x1b[1m", "1e9", "ff:ff:ff:ff:ff:ff", "01:00:5e:00:00:01"} {
		for column := i % 13; column < len(lines[0]); column += 13 {
			f.Add(uint16(i+1), uint16(column), seed)
		}
	}
	f.Fuzz(func(t *testing.T, row, column uint16, text string) {
		changed := slices.Clone(lines)
		r, c := 1+int(row)%(len(lines)-1), int(column)%len(lines[0])
		changed[r] = slices.Clone(lines[r])
		changed[r][c] = text
		content, err := planfile.Lines(changed)
		if err != nil {
			return
		}
		got, err := planfile.Read(context.Background(), content, p, nil, planfile.Options{})
		if err != nil {
			return
		}
		for _, cell := range got.Cells {
			if cell.Row < 0 || cell.Row > len(lines) || cell.Reason == "" {
				t.Errorf("%q in row %d, %s: %+v", text, r+1, lines[0][c], cell)
			}
		}
		if got.Refusal() == nil && len(got.Entries) != len(lines)-1 {
			t.Errorf("%q in row %d, %s: %d entries, and nothing is said", text, r+1, lines[0][c], len(got.Entries))
		}
	})
}
