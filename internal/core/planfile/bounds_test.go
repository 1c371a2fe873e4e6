package planfile_test

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
)

// workbook makes one with a sheet, before a change of its parts.
func workbook(t *testing.T, change func(name, content string) string, more ...string) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	for i, v := range []string{"tag", "profile", "address"} {
		if err := f.SetCellStr("Sheet1", fmt.Sprintf("%c1", 'A'+i), v); err != nil {
			t.Fatal(err)
		}
	}
	var whole bytes.Buffer
	if err := f.Write(&whole); err != nil {
		t.Fatal(err)
	}
	in, err := zip.NewReader(bytes.NewReader(whole.Bytes()), int64(whole.Len()))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	add := func(name, content string) {
		p, err := w.Create(name)
		if err == nil {
			_, err = p.Write([]byte(content))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, part := range in.File {
		r, err := part.Open()
		if err != nil {
			t.Fatal(err)
		}
		var content bytes.Buffer
		if _, err := content.ReadFrom(r); err != nil {
			t.Fatal(err)
		}
		add(part.Name, change(part.Name, content.String()))
	}
	for _, name := range more {
		add(name, "x")
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// A small file that unfolds to gigabytes is refused before it does, whatever it is.
func TestFilesThatUnfold(t *testing.T) {
	rows := func(cells, times int, shared bool) string {
		var b strings.Builder
		for r := range times {
			fmt.Fprintf(&b, `<row r="%d">`, r+2)
			for range cells {
				if shared {
					b.WriteString(`<c t="s"><v>0</v></c>`)
				} else {
					b.WriteString(`<c><v>1</v></c>`)
				}
			}
			b.WriteString(`</row>`)
		}
		return b.String()
	}
	sheet := func(more string) func(string, string) string {
		return func(name, content string) string {
			if name == "xl/worksheets/sheet1.xml" {
				return strings.Replace(content, "</sheetData>", more+"</sheetData>", 1)
			}
			return content
		}
	}
	longText := func(name, content string) string {
		if name == "xl/sharedStrings.xml" {
			return strings.Replace(content, "<si>", "<si><t>"+strings.Repeat("x", 15<<20)+"</t></si><si>", 1)
		}
		return sheet(rows(3, 1000, true))(name, content)
	}
	var keys strings.Builder
	for i := range 20000 {
		fmt.Fprintf(&keys, `{"k%d":1},`, i)
	}
	for name, c := range map[string]struct {
		file []byte
		says string
	}{
		"a text of 15 MB in 1,000 rows": {workbook(t, longText), "of text"},
		"rows of 16,000 cells":          {workbook(t, sheet(rows(16000, 20, false))), "more than 2000 cells"},
		"3,000 sheets": {workbook(t, func(name, content string) string {
			if name == "xl/workbook.xml" {
				return strings.Replace(content, "</sheets>", strings.Repeat(`<sheet name="x" sheetId="2" r:id="rId1"/>`, 3000)+"</sheets>", 1)
			}
			return content
		}), "sheets"},
		"a thousand parts":   {workbook(t, func(_, content string) string { return content }, strings.Split(strings.Repeat("xl/x.bin ", 999), " ")[:999]...), "parts"},
		"200,000 columns":    {[]byte("tag" + strings.Repeat(",x", 200000) + "\n" + strings.Repeat("A\n", 3000)), "at most 200"},
		"20,000 keys":        {[]byte("[" + strings.TrimSuffix(keys.String(), ",") + "]"), "different keys"},
		"all cells too long": {[]byte("tag,note\n" + strings.Repeat("A,"+strings.Repeat("x", 1000)+"\n", 4000)), ""},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := planfile.Open(context.Background(), c.file)
		runtime.ReadMemStats(&after)
		if c.says == "" != (err == nil) || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
		if took := (after.TotalAlloc - before.TotalAlloc) >> 20; took > 256 {
			t.Errorf("%s, %d KB: %d MiB were taken", name, len(c.file)>>10, took)
		}
	}
}

// What a device says of itself is run by no spreadsheet that opens an export, and comes back
// as it was.
func TestNoFormulaLeaves(t *testing.T) {
	file, err := planfile.Lines([][]string{{"tag", "serial"}, {"A", `=HYPERLINK("http://x")`}, {"B", "@SUM(1)"}, {"C", "-5"}})
	if err != nil {
		t.Fatal(err)
	}
	if text := string(file); !strings.Contains(text, `"'=HYPERLINK(""http://x"")"`) || !strings.Contains(text, "B,'@SUM(1)") ||
		!strings.Contains(text, "C,-5") {
		t.Errorf("%s", text)
	}
	b, err := planfile.Open(context.Background(), file)
	if err != nil || b.Sheets[0].Rows[0].Cells[1] != `=HYPERLINK("http://x")` || b.Sheets[0].Rows[1].Cells[1] != "@SUM(1)" {
		t.Errorf("%+v, %v", b, err)
	}
}

// The demo's own files are read as ever.
func TestTheDemosFilesFit(t *testing.T) {
	for _, name := range []string{"skerry-point.xlsx", "skerry-point.csv", "skerry-point-mistakes.json"} {
		file, err := os.ReadFile("../../../demo/" + name)
		if err == nil {
			_, err = planfile.Open(context.Background(), file)
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// leaving is a context of somebody who goes after a while: it ends when it was asked so often.
type leaving struct {
	context.Context
	asks int
}

func (l *leaving) Err() error {
	if l.asks--; l.asks < 0 {
		return context.Canceled
	}
	return nil
}

// A file is read only while somebody waits for it, at whatever moment they go.
func TestReadingEndsWithWhoeverAsked(t *testing.T) {
	t.Parallel()
	text := "tag,profile\n"
	for i := range 100 {
		text += fmt.Sprintf("A-%d,\n", i)
	}
	for name, file := range map[string][]byte{"CSV": []byte(text), "JSON": []byte(`[{"tag":"A"}]`),
		"XLSX": workbook(t, func(_, content string) string { return content })} {
		for _, after := range []int{0, 1, 2} {
			if _, err := planfile.Read(&leaving{context.Background(), after}, file, plan.Plan{}, nil,
				planfile.Options{}); !errors.Is(err, context.Canceled) {
				t.Errorf("%s, after %d: %v", name, after, err)
			}
		}
	}
	for after := range 100 { // in the middle of the rows
		if _, err := planfile.Read(&leaving{context.Background(), after}, []byte(text), plan.Plan{}, nil,
			planfile.Options{}); !errors.Is(err, context.Canceled) {
			t.Fatalf("after %d: %v", after, err)
		}
	}
}

// What is told of a file never becomes many times the file.
func TestWhatIsToldOfAFileIsShort(t *testing.T) {
	t.Parallel()
	long := strings.Repeat("x", 30_000)
	file := "tag,place,profile\n" + long + ",,\n"
	for i := range 3000 {
		file += fmt.Sprintf("%s,,none-%d\n", long[:100], i)
	}
	r, err := planfile.Read(context.Background(), []byte(file), plan.Plan{}, nil, planfile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Cells) > 1001 || !strings.Contains(r.Cells[len(r.Cells)-2].Reason, "more mistakes") {
		t.Errorf("%d mistakes are told: %+v", len(r.Cells), r.Cells[len(r.Cells)-2])
	}
	for _, c := range r.Cells {
		if len(c.Value)+len(c.Reason)+len(c.Column) > 1000 {
			t.Errorf("row %d is told with %d characters", c.Row, len(c.Value)+len(c.Reason))
		}
	}
	if n := len(r.Samples[0].Fields["tag"]); n > 400 {
		t.Errorf("a sample of %d characters", n)
	}
}

// Only what is told is shortened: what is read stays whole.
func TestALongValueIsReadWhole(t *testing.T) {
	t.Parallel()
	note := strings.Repeat("Behind the second door. ", 15)
	r, err := planfile.Read(context.Background(), []byte("tag,note\nA-1,"+note+"\n"), plan.Plan{}, nil, planfile.Options{})
	if err != nil || len(r.Patches) != 1 {
		t.Fatalf("%d patches, %v", len(r.Patches), err)
	}
	if r.Patches[0].Set["note"] != strings.TrimSpace(note) || len(r.Samples[0].Fields["note"]) >= len(note)-1 {
		t.Errorf("%d patched, %d told", len(r.Patches[0].Set["note"]), len(r.Samples[0].Fields["note"]))
	}
}
