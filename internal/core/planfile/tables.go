package planfile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
)

// A table of an entry (a setting of the type rows) has one line for each of its rows, with
// the entry's tag in the first column: in CSV it is a file of its own, in XLSX a sheet of
// its own that is named as the setting.

// tableOf finds the setting of the type rows that a name stands for.
func tableOf(name string, profiles profile.Set) (profile.Setting, bool) {
	for _, p := range profiles.Sorted() {
		for _, s := range p.Settings {
			if s.Type == profile.Rows && (strings.EqualFold(s.Key, name) || strings.EqualFold(s.Label, name)) {
				return s, true
			}
		}
	}
	return profile.Setting{}, false
}

// readTable reads the lines of a sheet as rows of a setting, by the tag of their entry.
func readTable(sheet Sheet, s profile.Setting, complain func(row int, column, value, reason string)) map[string]string {
	tag := -1
	columns := map[int]string{}
	for i, h := range sheet.Header {
		switch c := plain(h); {
		case c == "tag" || slices.Contains(spellings["tag"], c):
			tag = i
		default:
			at := slices.IndexFunc(s.Columns, func(o profile.Setting) bool {
				return plain(o.Key) == c || plain(o.Label) == c
			})
			if at >= 0 {
				columns[i] = s.Columns[at].Key
			} else {
				complain(sheet.HeaderRow, h, "", fmt.Sprintf("is no column of %s; there are tag, %s", s.Label,
					strings.Join(keysOf(s), ", ")))
			}
		}
	}
	if tag < 0 {
		complain(sheet.HeaderRow, "tag", "", "the column with the entry's tag is missing")
		return nil
	}
	rows, first, wrong := map[string][]profile.Row{}, map[string]int{}, map[string]bool{}
	for _, line := range sheet.Rows {
		of := strings.TrimSpace(line.Cells[tag])
		if of == "" {
			complain(line.Number, sheet.Header[tag], "", "the row has no tag")
			continue
		}
		row := profile.Row{}
		for i, key := range columns {
			v := strings.TrimSpace(line.Cells[i])
			if err := s.Column(key).Check(v); err != nil {
				complain(line.Number, sheet.Header[i], v, err.Error())
				wrong[of] = true
			} else if v != "" {
				row[key] = v
			}
		}
		if first[of] == 0 {
			first[of] = line.Number
		}
		rows[of] = append(rows[of], row)
	}
	tables := map[string]string{}
	for of, list := range rows {
		tables[of] = profile.RowsText(list)
		if err := s.Check(tables[of]); err != nil && !wrong[of] {
			complain(first[of], s.Key, of, err.Error())
		}
	}
	return tables
}

func keysOf(s profile.Setting) (keys []string) {
	for _, c := range s.Columns {
		keys = append(keys, c.Key)
	}
	return keys
}

// tables reads what the other sheets of a workbook have, by tag and setting.
func (r *Result) tables(b Book, main Sheet, profiles profile.Set) map[string]map[string]string {
	all := map[string]map[string]string{}
	for _, sheet := range b.Sheets {
		s, is := tableOf(sheet.Name, profiles)
		if !is || sheet.Name == "" || sheet.Name == main.Name {
			continue
		}
		r.addTable(sheet, s, all)
	}
	return all
}

func (r *Result) addTable(sheet Sheet, s profile.Setting, all map[string]map[string]string) {
	complain := func(row int, column, value, reason string) {
		r.Cells = append(r.Cells, problem.Cell{Sheet: sheet.Name, Row: row, Column: column, Value: value,
			Reason: reason})
	}
	for _, broken := range sheet.Broken {
		broken.Sheet = sheet.Name
		r.Cells = append(r.Cells, broken)
	}
	for tag, text := range readTable(sheet, s, complain) {
		if all[tag] == nil {
			all[tag] = map[string]string{}
		}
		all[tag][s.Key] = text
	}
}

// tableSheet makes a sheet of tables, whose tags each count for one row only.
func tableSheet(sheet Sheet, s profile.Setting, r *Result) Sheet {
	all := map[string]map[string]string{}
	r.addTable(sheet, s, all)
	out := Sheet{Name: sheet.Name, Header: []string{"tag", s.Key}, HeaderRow: sheet.HeaderRow}
	seen := map[string]bool{}
	tag := slices.IndexFunc(sheet.Header, func(h string) bool {
		return plain(h) == "tag" || slices.Contains(spellings["tag"], plain(h))
	})
	for _, line := range sheet.Rows {
		if tag < 0 || seen[line.Cells[tag]] {
			continue
		}
		seen[line.Cells[tag]] = true
		of := strings.TrimSpace(line.Cells[tag])
		out.Rows = append(out.Rows, Row{line.Number, []string{of, all[of][s.Key]}})
	}
	return out
}

// TableCSV writes the tables of a setting as a file of its own. Secrets are left out.
func TableCSV(p plan.Plan, key string) ([]byte, error) {
	s, is := tableOf(key, p.Profiles)
	if !is {
		return nil, refuse(fmt.Sprintf("no profile has a table %q", key), "")
	}
	return Lines(tableLines(p, s))
}

// tableLines are the lines of a table with their header, without secrets.
func tableLines(p plan.Plan, s profile.Setting) [][]string {
	tables, used := map[string][]profile.Row{}, map[string]bool{s.Columns[0].Key: true}
	for _, e := range p.Entries {
		rows, err := profile.ParseRows(e.Settings[s.Key])
		if err != nil {
			continue // it is among the findings of the plan
		}
		tables[e.Tag] = rows
		for _, row := range rows {
			for key := range row {
				used[key] = true
			}
		}
	}
	header := []string{"tag"}
	for _, c := range s.Columns {
		if used[c.Key] && c.Type != profile.Secret && c.Type != profile.Computed {
			header = append(header, c.Key)
		}
	}
	lines := [][]string{header}
	for _, e := range p.Entries {
		for _, row := range tables[e.Tag] {
			line := []string{e.Tag}
			for _, key := range header[1:] {
				line = append(line, row[key])
			}
			lines = append(lines, line)
		}
	}
	return lines
}

// tablesOf lists the settings of the type rows that entries of the plan have.
func tablesOf(p plan.Plan) (list []profile.Setting) {
	for _, id := range p.Profiles.Sorted() {
		for _, s := range id.Settings {
			if s.Type == profile.Rows && !slices.ContainsFunc(list, func(o profile.Setting) bool {
				return o.Key == s.Key
			}) &&
				slices.ContainsFunc(p.Entries, func(e plan.Entry) bool { return e.Settings[s.Key] != "" }) {
				list = append(list, s)
			}
		}
	}
	return list
}

// withoutSecrets gives the entries with the secret columns of their tables left out.
func withoutSecrets(p plan.Plan) []plan.Entry {
	entries := slices.Clone(p.Entries)
	for i, e := range entries {
		q := p.Profiles[e.Profile]
		if q == nil {
			continue
		}
		for _, s := range q.Settings {
			rows, err := profile.ParseRows(e.Settings[s.Key])
			if s.Type != profile.Rows || !s.HasSecret() || err != nil || len(rows) == 0 {
				continue
			}
			for _, row := range rows {
				for _, c := range s.Columns {
					if c.Type == profile.Secret {
						delete(row, c.Key)
					}
				}
			}
			entries[i].Settings = maps.Clone(entries[i].Settings)
			entries[i].Settings[s.Key] = profile.RowsText(rows)
		}
	}
	return entries
}
