package planfile

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
)

// Options say how a file is taken into a plan.
type Options struct {
	Sheet   string  `json:"sheet"`   // of a workbook; "": the first with a tag column
	Rows    string  `json:"rows"`    // the file holds the tables of this setting, one line for each row
	Mapping Mapping `json:"mapping"` // nil: as proposed
	// Whole says that the file is the whole plan: entries that it does not have are removed.
	Whole bool `json:"whole"`
	// Configured lets the file change entries whose devices are configured already.
	Configured bool `json:"configured"`
}

// Sample is one of the first rows as it was understood.
type Sample struct {
	Row    int               `json:"row"`
	Fields map[string]string `json:"fields"`
}

// Result is what a file would do to a plan.
type Result struct {
	Format     string          `json:"format"`
	Sheet      string          `json:"sheet"`
	Sheets     []string        `json:"sheets"`
	Header     []string        `json:"header"`
	Mapping    Mapping         `json:"mapping"`
	LeftOut    []string        `json:"leftOut"` // columns that are nothing of a plan
	Rows       int             `json:"rows"`
	Encoding   string          `json:"encoding,omitempty"` // of text that is not UTF-8
	Titles     []string        `json:"titles,omitempty"`   // rows above the header
	Samples    []Sample        `json:"samples"`
	Cells      []problem.Cell  `json:"cells"` // what cannot be understood; any of them refuses the file
	Comparison plan.Comparison `json:"comparison"`
	// Untouched are entries that the file would change or remove, but whose devices are configured.
	Untouched []plan.Change  `json:"untouched"`
	Findings  []plan.Finding `json:"findings"` // of the plan as it would be
	RowOf     map[string]int `json:"rowOf"`    // tag to row
	Site      *plan.Site     `json:"site,omitempty"`
	Patches   []plan.Patch   `json:"-"`
	Pairs     []plan.Pair    `json:"-"`
	Entries   []plan.Entry   `json:"-"` // the plan as it would be
	// Asked are addresses that the file has for entries that are left alone.
	Asked map[netip.Addr]bool `json:"-"`

	mistakes int // where not all of them are in Cells
}

const samples = 5

// Read works out what a file does to a plan. It fails only when the file
// cannot be taken apart, or with the context; what cannot be understood in it is in Cells.
func Read(ctx context.Context, file []byte, p plan.Plan, remembered Mapping, o Options) (Result, error) {
	book, err := Open(ctx, file)
	if err != nil {
		return Result{}, err
	}
	sheet, err := pick(book, p.Profiles, o.Sheet)
	if err != nil {
		return Result{}, err
	}
	whole := len(sheet.Rows)
	r := Result{Format: book.Format, Encoding: book.Encoding, Titles: sheet.Titles, Sheet: sheet.Name,
		Header: sheet.Header, Rows: len(sheet.Rows), Samples: []Sample{}, Cells: []problem.Cell{},
		Untouched: []plan.Change{}, Findings: []plan.Finding{}, RowOf: map[string]int{}, Asked: map[netip.Addr]bool{}}
	for _, s := range book.Sheets {
		r.Sheets = append(r.Sheets, s.Name)
	}
	if o.Rows != "" {
		s, is := tableOf(o.Rows, p.Profiles)
		if !is {
			return Result{}, refuse(fmt.Sprintf("no profile has a table %q", o.Rows),
				"give the key of a setting of the type rows")
		}
		if o.Whole {
			return Result{}, refuse("a file of tables is not the whole plan", "import the plan for itself")
		}
		sheet = tableSheet(sheet, s, &r)
		r.Header, r.Rows, o.Mapping = sheet.Header, whole, Mapping{"tag": "tag", s.Key: s.Key}
	}
	if r.Mapping = o.Mapping; r.Mapping == nil {
		r.Mapping = Propose(sheet.Header, p.Profiles, remembered)
		for field, headers := range rivals(sheet.Header, p.Profiles, remembered) {
			r.Cells = append(r.Cells, problem.Cell{Sheet: sheet.Name, Row: sheet.HeaderRow, Column: headers[1],
				Reason: fmt.Sprintf("%q means %s as well; say which of them it is, and leave the other out", headers[0],
					field)})
		}
	}
	r.LeftOut = []string{}
	for _, h := range sheet.Header {
		if r.Mapping[h] == "" {
			r.LeftOut = append(r.LeftOut, h)
		}
	}
	if book.Site != nil {
		r.Site = book.Site
		if r.Site.Key == "" {
			r.Site.Key = p.Site.Key
		}
		if err := r.Site.Check(); err != nil {
			return Result{}, refuse(err.Error(), "mend the site in the file")
		}
		p.Site = *r.Site
	}
	r.understand(ctx, sheet, r.tables(book, sheet, p.Profiles), p, o)
	if err := ctx.Err(); err != nil {
		return Result{}, err
	}
	if r.Entries == nil {
		r.Entries = p.Entries
	}
	after := p
	after.Entries = r.Entries
	r.Comparison = plan.ComparePairs(r.Pairs)
	if r.Pairs == nil { // it is refused; what can be read of it is shown
		r.Comparison = plan.Compare(p.Entries, r.Entries)
	}
	r.Findings = append(r.Findings, after.Check()...)
	if r.Rows == 0 && book.Site == nil && len(r.Cells) == 0 {
		return r, refuse("the file has a header but no entries", "add one row per device")
	}
	slices.SortStableFunc(r.Cells, func(a, b problem.Cell) int { return a.Row - b.Row })
	r.shorten()
	return r, nil
}

// What is told of a file, which may hold one long text a thousand times.
const (
	mostTold    = 1000 // mistakes
	longestTold = 300  // characters of a cell
)

// shorten keeps what is told of a file from becoming larger than the file.
func (r *Result) shorten() {
	if more := len(r.Cells) - mostTold; more > 0 {
		r.mistakes = len(r.Cells)
		last := r.Cells[len(r.Cells)-1] // where reading ended, it says why
		r.Cells = append(r.Cells[:mostTold-1:mostTold-1],
			problem.Cell{Reason: fmt.Sprintf("there are %d more mistakes, up to this:", more)}, last)
	}
	for i := range r.Cells {
		c := &r.Cells[i]
		c.Column, c.Value, c.Reason = short(c.Column), short(c.Value), short(c.Reason)
	}
	for i, s := range r.Samples { // what is told of them; what they are stays whole
		told := make(map[string]string, len(s.Fields))
		for field, text := range s.Fields {
			told[field] = short(text)
		}
		r.Samples[i].Fields = told
	}
}

func short(text string) string {
	if utf8.RuneCountInString(text) <= longestTold {
		return text
	}
	return string([]rune(text)[:longestTold]) + " …"
}

// Refusal is the error that lists what cannot be understood; nil when all can.
func (r Result) Refusal() error {
	if len(r.Cells) == 0 {
		return nil
	}
	count := fmt.Sprintf("%d mistakes", max(len(r.Cells), r.mistakes))
	if len(r.Cells) == 1 {
		count = "one mistake"
	}
	e := problem.New(problem.Usage, "the plan was refused whole because of "+count+"; nothing was changed",
		"mend the rows and import the file again")
	e.Subject, e.Cells = "plan file", r.Cells
	return e
}

// pick chooses the sheet that holds the plan.
func pick(b Book, profiles profile.Set, name string) (Sheet, error) {
	var names []string
	for _, s := range b.Sheets {
		if s.Name == name && name != "" {
			return s, nil
		}
		names = append(names, s.Name)
	}
	if name != "" {
		return Sheet{}, refuse(fmt.Sprintf("there is no sheet %q; there are %s", name, strings.Join(names, ", ")), "")
	}
	for _, s := range b.Sheets {
		for _, field := range Propose(s.Header, profiles, nil) {
			if field == "tag" {
				return s, nil
			}
		}
	}
	return b.Sheets[0], nil
}

func (r *Result) understand(ctx context.Context, sheet Sheet, tables map[string]map[string]string, p plan.Plan, o Options) {
	complain := func(row int, column, value, reason string) {
		r.Cells = append(r.Cells, problem.Cell{Sheet: sheet.Name, Row: row, Column: column, Value: value,
			Reason: reason})
	}
	for _, b := range sheet.Broken {
		b.Sheet = sheet.Name
		r.Cells = append(r.Cells, b)
	}
	columns, headerRow := r.columns(sheet, p.Profiles, complain)
	if columns == nil {
		return
	}
	there := map[string]plan.Entry{}
	for _, e := range p.Entries {
		there[e.Tag] = e
	}
	seen := map[string]int{}
	var rows []int // of each patch
	for _, row := range sheet.Rows {
		if ctx.Err() != nil {
			return // nobody waits for it
		}
		set := map[string]string{}
		for field, i := range columns {
			set[field] = strings.TrimSpace(row.Cells[i])
		}
		if len(r.Samples) < samples {
			r.Samples = append(r.Samples, Sample{row.Number, set})
		}
		tag := set["tag"]
		if tag == "" {
			complain(row.Number, headerRow["tag"], "", "the entry has no tag")
			continue
		}
		if first, twice := seen[tag]; twice {
			complain(row.Number, headerRow["tag"], tag, fmt.Sprintf("is in row %d already", first))
			continue
		}
		seen[tag] = row.Number
		maps.Copy(set, tables[tag])
		delete(tables, tag)
		r.RowOf[tag] = row.Number
		patch := plan.Patch{Set: set}
		if o.Rows != "" && there[tag].Tag == "" {
			complain(row.Number, headerRow["tag"], tag, "is no entry of the plan; a table makes none")
			continue
		}
		if old, exists := there[tag]; exists {
			if patch = revise(old, set); !r.allowed(old, patch, p, o) {
				if at, err := netip.ParseAddr(set["address"]); err == nil {
					r.Asked[at] = true // the file wants it, though not now
				}
				continue
			}
		}
		r.Patches = append(r.Patches, patch)
		rows = append(rows, row.Number)
	}
	for _, tag := range slices.Sorted(maps.Keys(tables)) { // whose entries the plan has already
		old, exists := there[tag]
		if !exists {
			complain(0, "tag", tag, "has rows in a sheet of its own, but is no entry of the plan")
		} else if patch := revise(old, tables[tag]); r.allowed(old, patch, p, o) {
			seen[tag] = -1
			r.Patches = append(r.Patches, patch)
			rows = append(rows, 0)
		}
	}
	if o.Whole {
		for _, e := range p.Entries {
			if patch := (plan.Patch{Tag: e.Tag, Remove: true}); seen[e.Tag] == 0 && r.allowed(e, patch, p, o) {
				r.Patches = append(r.Patches, patch)
				rows = append(rows, 0)
			}
		}
	}
	p.Known.Asked = r.Asked
	entries, pairs, complaints := p.Apply(r.Patches)
	for _, c := range complaints {
		row := 0
		if c.Patch < len(rows) {
			row = rows[c.Patch]
		}
		complain(row, cmp.Or(headerRow[c.Field], c.Field), c.Value, c.Reason)
	}
	if complaints != nil {
		// What is readable is still checked, so that one look shows everything.
		bad := map[int]map[string]bool{}
		for _, c := range complaints {
			if bad[c.Patch] == nil {
				bad[c.Patch] = map[string]bool{}
			}
			bad[c.Patch][c.Field] = true
		}
		entries = r.readable(p, bad)
	}
	r.Entries, r.Pairs = entries, pairs
}

// readable applies the patches without the fields that cannot be understood.
func (r *Result) readable(p plan.Plan, bad map[int]map[string]bool) []plan.Entry {
	var rest []plan.Patch
	for i, patch := range r.Patches {
		set := map[string]string{}
		for field, value := range patch.Set {
			if !bad[i][field] {
				set[field] = value
			}
		}
		if !bad[i]["tag"] {
			rest = append(rest, plan.Patch{Tag: patch.Tag, Set: set, Remove: patch.Remove})
		}
	}
	entries, _, _ := p.Apply(rest)
	return entries
}

// columns gives the position of each field and the header it has in the file.
func (r *Result) columns(sheet Sheet, profiles profile.Set, complain func(int, string, string, string)) (map[string]int,
	map[string]string) {
	first := sheet.HeaderRow
	if r.Format == JSON {
		first = 0
	}
	at, name := map[string]int{}, map[string]string{}
	for i, h := range sheet.Header {
		field := r.Mapping[h]
		if field == "" {
			continue
		}
		if !IsTarget(field, profiles) {
			complain(first, h, "", fmt.Sprintf("there is no field or setting %q to map it to", field))
			return nil, nil
		}
		if other, twice := name[field]; twice {
			complain(first, h, "", fmt.Sprintf("is mapped to %s, as %q is", field, other))
			return nil, nil
		}
		at[field], name[field] = i, h
	}
	if len(sheet.Rows) > 0 && name["tag"] == "" {
		complain(first, "tag", "", "no column holds the tag; say which does")
		return nil, nil
	}
	return at, name
}

// revise makes the patch of an entry that is in the plan already: what the
// file leaves to be made stays as it is.
func revise(old plan.Entry, set map[string]string) plan.Patch {
	patch := plan.Patch{Tag: old.Tag, Set: map[string]string{}}
	for field, value := range set {
		made := field == "address" && (value == "" || strings.EqualFold(value, plan.Next)) && old.Address.IsValid() ||
			field == "name" && (value == "" || strings.EqualFold(value, plan.Auto)) && old.Name != "" ||
			field == "kind" && value == ""
		if !made && value != old.Get(field) {
			patch.Set[field] = value
		}
	}
	return patch
}

// allowed reports whether a patch may be applied: entries whose devices are
// configured are not touched unless that is asked for.
func (r *Result) allowed(old plan.Entry, patch plan.Patch, p plan.Plan, o Options) bool {
	if !patch.Remove && len(patch.Set) == 0 {
		return false
	}
	if o.Configured || !p.Known.Locked[old.Tag] || !patch.Remove && plan.OnlyDocuments(patch.Set) {
		return true
	}
	if patch.Remove {
		r.Untouched = append(r.Untouched, plan.Change{Tag: old.Tag, Field: "tag", Before: old.Tag})
		return false
	}
	one := p
	one.Entries = []plan.Entry{old}
	if after, _, complaints := one.Apply([]plan.Patch{patch}); complaints == nil {
		r.Untouched = append(r.Untouched, plan.Differences(old, after[0])...)
	}
	return false
}
