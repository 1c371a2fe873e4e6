package planfile

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
)

// Write gives the plan as a file that Read understands. Secrets are left out.
func Write(p plan.Plan, format string) ([]byte, error) {
	p.Entries = withoutSecrets(p)
	columns := plan.Columns(p.Entries, p.Profiles)
	columns = slices.DeleteFunc(columns, func(key string) bool { return isSecret(key, p.Profiles) })
	switch format {
	case CSV:
		lines := [][]string{columns}
		for _, e := range p.Entries {
			lines = append(lines, cells(e, columns))
		}
		return Lines(lines)
	case JSON:
		return writeJSON(p, columns)
	case XLSX:
		columns = slices.DeleteFunc(columns, func(key string) bool {
			_, table := tableOf(key, p.Profiles)
			return table
		})
		return writeXLSX(p, columns, false)
	}
	return nil, refuse(fmt.Sprintf("there is no format %q", format), "choose csv, xlsx or json")
}

// Lines writes lines as CSV (RFC 4180), with no cell in them that a spreadsheet would run: a
// device may say what it likes of itself. It is the one way in which CSV is written here.
func Lines(lines [][]string) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	for _, line := range lines {
		safe := make([]string, len(line))
		for i, text := range line {
			safe[i] = value.Cell(text)
		}
		if err := w.Write(safe); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return out.Bytes(), w.Error()
}

// Template gives an empty workbook with a column for every field and setting,
// and drop-downs where the choices are known.
func Template(p plan.Plan) ([]byte, error) {
	columns := slices.DeleteFunc(Targets(p.Profiles), func(key string) bool { return isSecret(key, p.Profiles) })
	p.Entries = nil
	return writeXLSX(p, columns, true)
}

func isSecret(key string, profiles profile.Set) bool {
	s, ok := settingOf(key, profiles)
	return ok && s.Type == profile.Secret
}

// settingOf finds a setting that any profile declares under a key.
func settingOf(key string, profiles profile.Set) (profile.Setting, bool) {
	for _, p := range profiles.Sorted() {
		if s := p.Setting(key); s != nil {
			return *s, true
		}
	}
	return profile.Setting{}, false
}

func cells(e plan.Entry, columns []string) []string {
	list := make([]string, len(columns))
	for i, key := range columns {
		list[i] = e.Get(key)
	}
	return list
}

func writeJSON(p plan.Plan, columns []string) ([]byte, error) {
	site := p.Site
	// A given password is in the vault; what stands for it means nothing elsewhere.
	site.Policies = slices.DeleteFunc(slices.Clone(site.Policies), func(c plan.Policy) bool {
		return c.Mode == plan.Given
	})
	entries := make([]map[string]any, len(p.Entries))
	for i, e := range p.Entries {
		entries[i] = map[string]any{}
		for _, key := range columns {
			v := e.Get(key)
			if v == "" {
				continue
			}
			entries[i][key] = v
			if s, ok := settingOf(key, p.Profiles); ok && s.Type == profile.Rows && s.Check(v) == nil {
				entries[i][key] = json.RawMessage(v)
			}
		}
	}
	return json.MarshalIndent(struct {
		Site    plan.Site        `json:"site"`
		Entries []map[string]any `json:"entries"`
	}{site, entries}, "", "  ")
}

const (
	planSheet    = "Plan"
	listsSheet   = "Lists"
	templateRows = 2000 // rows of the template that have drop-downs
)

func writeXLSX(p plan.Plan, columns []string, template bool) ([]byte, error) {
	b := &workbook{f: excelize.NewFile(), rows: len(p.Entries)}
	defer b.f.Close()
	if template {
		b.rows = templateRows
	}
	b.do(b.f.SetSheetName("Sheet1", planSheet))
	w, err := b.f.NewStreamWriter(planSheet)
	if err != nil {
		return nil, err
	}
	style, err := b.f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true},
		Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"ECEAE5"}}})
	b.do(err)
	header := make([]any, len(columns))
	for i, key := range columns {
		header[i] = excelize.Cell{StyleID: style, Value: key}
		b.do(w.SetColWidth(i+1, i+1, width(key)))
	}
	b.do(w.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}))
	b.do(w.SetRow("A1", header))
	for i, e := range p.Entries {
		row := make([]any, len(columns))
		for j, text := range cells(e, columns) {
			row[j] = text
		}
		b.do(w.SetRow(fmt.Sprintf("A%d", i+2), row))
	}
	// What belongs to the sheet besides its rows must be there before it is flushed.
	b.dropDowns(p, columns)
	b.do(w.Flush())
	for _, s := range tablesOf(p) {
		_, err := b.f.NewSheet(s.Key)
		b.do(err)
		for i, line := range tableLines(p, s) {
			b.do(b.f.SetSheetRow(s.Key, fmt.Sprintf("A%d", i+1), &line))
		}
	}
	if b.err != nil {
		return nil, b.err
	}
	var out bytes.Buffer
	if err := b.f.Write(&out); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func width(key string) float64 {
	switch key {
	case "tag", "profile", "name", "place", "address", "mac":
		return 18
	case "description", "note", "after":
		return 28
	}
	return 12
}

// workbook remembers the first error, so that writing reads as a list.
type workbook struct {
	f     *excelize.File
	rows  int
	lists int
	err   error
}

func (b *workbook) do(err error) {
	if b.err == nil {
		b.err = err
	}
}

// dropDowns gives columns whose choices are known a list to choose from, and
// every column its help.
func (b *workbook) dropDowns(p plan.Plan, columns []string) {
	_, err := b.f.NewSheet(listsSheet)
	b.do(err)
	b.do(b.f.SetSheetVisible(listsSheet, false))
	var subnets []string
	for _, n := range p.Site.Subnets {
		subnets = append(subnets, n.Name)
	}
	var profiles []string
	for _, q := range p.Profiles.Sorted() {
		profiles = append(profiles, q.ID)
	}
	known := map[string][]string{"kind": plan.Kinds(p.Profiles), "profile": profiles, "subnet": subnets,
		"not-wired": {"yes"}}
	for i, key := range columns {
		help, choices := "", known[key]
		for _, f := range plan.Fields {
			if f.Key == key {
				help = f.Label + ": " + f.Help
			}
		}
		if s, ok := settingOf(key, p.Profiles); ok {
			help = strings.TrimSpace(s.Label + ": " + s.Help)
			switch s.Type {
			case profile.Choice:
				choices = s.Choices
			case profile.YesNo:
				choices = []string{"yes", "no"}
			}
		}
		b.column(i+1, help, choices)
	}
}

func (b *workbook) column(n int, help string, choices []string) {
	letter, err := excelize.ColumnNumberToName(n)
	b.do(err)
	v := excelize.NewDataValidation(true)
	v.SetSqref(fmt.Sprintf("%s2:%s%d", letter, letter, max(b.rows, 1)+1))
	if len(choices) > 0 {
		b.lists++
		list, err := excelize.ColumnNumberToName(b.lists)
		b.do(err)
		for i, c := range choices {
			b.do(b.f.SetCellStr(listsSheet, fmt.Sprintf("%s%d", list, i+1), c))
		}
		v.SetSqrefDropList(fmt.Sprintf("%s!$%s$1:$%s$%d", listsSheet, list, list, len(choices)))
		// The list helps; Redstart itself says what is wrong, in its own words.
		v.ShowErrorMessage = false
	}
	if r := []rune(help); len(r) > 200 {
		help = string(r[:200])
	}
	if help != "" {
		v.SetInput("", help)
	}
	if len(choices) > 0 || help != "" {
		b.do(b.f.AddDataValidation(planSheet, v))
	}
}
