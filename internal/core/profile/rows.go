package profile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Row is one row of a setting of the type rows: values by the key of the column.
type Row map[string]string

// mostRows bounds a table, mostCells what a device may tell of one, in bytes.
const (
	mostRows  = 1024
	mostTable = 1 << 20
)

// columnTypes are the types that columns may have.
var columnTypes = []string{Text, Number, Choice, YesNo, IPv4, Numbers, Mail, Secret, EntryRef, Computed, EntryLogin}

// ParseRows reads the value of a setting of the type rows: a JSON array of objects
// (RFC 8259), whose values are text, numbers or yes and no. The empty value has no rows.
func ParseRows(value string) ([]Row, error) {
	if value == "" {
		return nil, nil
	}
	if len(value) > mostTable {
		return nil, fmt.Errorf("is longer than %d KiB", mostTable>>10)
	}
	d := json.NewDecoder(strings.NewReader(value))
	d.UseNumber()
	var list []map[string]any
	if err := d.Decode(&list); err != nil || d.More() {
		return nil, errors.New(`is no table; write it as JSON: [{"port": "1", …}, …]`)
	}
	if len(list) > mostRows {
		return nil, fmt.Errorf("has %d rows; at most %d are taken", len(list), mostRows)
	}
	rows := make([]Row, len(list))
	for i, object := range list {
		rows[i] = Row{}
		for key, v := range object {
			text, ok := cellText(v)
			if !ok {
				return nil, fmt.Errorf("has in row %d, %s, neither text nor a number nor yes or no", i+1, key)
			}
			if text = strings.TrimSpace(text); text != "" {
				rows[i][key] = text
			}
		}
	}
	return rows, nil
}

func cellText(v any) (string, bool) {
	switch v := v.(type) {
	case nil:
		return "", true
	case string:
		return v, true
	case json.Number:
		return v.String(), true
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v], true
	case []any: // a list of plain values
		var parts []string
		for _, element := range v {
			if _, deeper := element.([]any); deeper {
				return "", false
			}
			text, ok := cellText(element)
			if !ok {
				return "", false
			}
			parts = append(parts, text)
		}
		return strings.Join(parts, ", "), true
	}
	return "", false
}

// RowsText writes rows as ParseRows reads them, the same for the same rows.
func RowsText(rows []Row) string {
	if len(rows) == 0 {
		return ""
	}
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	_ = e.Encode(rows) // maps of text always encode, with their keys in order
	return strings.TrimSpace(out.String())
}

// Column finds a column of a setting of the type rows; nil when it has none of that key.
func (s Setting) Column(key string) *Setting {
	i := slices.IndexFunc(s.Columns, func(c Setting) bool { return c.Key == key })
	if i < 0 {
		return nil
	}
	return &s.Columns[i]
}

// HasSecret reports whether a value of the setting holds something secret.
func (s Setting) HasSecret() bool {
	return s.Sealed() || slices.ContainsFunc(s.Columns, Setting.Sealed)
}

// checkRows says why a table is refused, without looking at other entries.
func (s Setting) checkRows(value string) error {
	rows, err := ParseRows(value)
	if err != nil {
		return err
	}
	seen := map[string]int{}
	for i, row := range rows {
		for _, key := range slices.Sorted(maps.Keys(row)) {
			c := s.Column(key)
			if c == nil {
				return fmt.Errorf("has in row %d a column %q; there are %s", i+1, key, s.columnKeys())
			}
			if err := c.Check(row[key]); err != nil {
				return fmt.Errorf("row %d, %s: %q %w", i+1, key, row[key], err)
			}
		}
		for _, c := range s.Columns {
			if c.Required && row[c.Key] == "" && c.Default == "" {
				return fmt.Errorf("row %d has no %s", i+1, c.Key)
			}
		}
		first := row[s.Columns[0].Key]
		if before, twice := seen[first]; twice {
			return fmt.Errorf("rows %d and %d both have the %s %s", before, i+1, s.Columns[0].Key, first)
		}
		seen[first] = i + 1
	}
	return nil
}

func (s Setting) columnKeys() string {
	var keys []string
	for _, c := range s.Columns {
		keys = append(keys, c.Key)
	}
	return strings.Join(keys, ", ")
}

// checkColumns checks what a profile declares of a table. The first column tells its rows
// apart.
func (p *Profile) checkColumns(s *Setting) error {
	switch {
	case (s.Type == Rows) != (len(s.Columns) > 0):
		return fmt.Errorf("columns belong to the type rows, which needs them")
	case s.Type != Rows:
		return nil
	case s.Default != "" || s.Unique != "" || s.Caution != nil:
		return fmt.Errorf("a table has no default, unique or caution")
	case (len(s.Parts) > 0) != (s.Columns[0].Takes != ""):
		return fmt.Errorf("parts and takes belong together: the first column takes what a part is called")
	}
	seen := map[string]bool{}
	for i := range s.Columns {
		c := &s.Columns[i]
		err := p.checkIn(c, s.Column, nil)
		switch {
		case err != nil:
		case seen[c.Key]:
			err = fmt.Errorf("is declared twice")
		case !slices.Contains(columnTypes, c.Type):
			err = fmt.Errorf("a column is one of %s", strings.Join(columnTypes, ", "))
		case c.Unique != "" || c.Many:
			err = fmt.Errorf("unique and many belong to settings of an entry")
		case i == 0 && (c.Sealed() || c.Derived()):
			err = fmt.Errorf("the first column tells the rows apart, and cannot be %s", c.Type)
		}
		if err != nil {
			return fmt.Errorf("columns, %q: %w", c.Key, err)
		}
		seen[c.Key] = true
	}
	return nil
}

// heardRows gives a table that the device told with our names for its columns and our
// words for its values, in the order of the first column. A column that is no one of ours
// is left out; what is no table stays as it is.
func (s Setting) heardRows(told string) string {
	rows, err := ParseRows(told)
	if err != nil {
		return told
	}
	var list []Row
	for _, row := range rows {
		ours := Row{}
		for _, c := range s.Columns {
			name := c.Key
			if c.Told != "" {
				name = c.Told
			}
			if v := row[name]; v != "" {
				ours[c.Key] = c.heard(v)
			}
		}
		list = append(list, ours)
	}
	s.sortRows(list)
	return RowsText(list)
}

func (s Setting) sortRows(rows []Row) {
	first := s.Columns[0]
	slices.SortStableFunc(rows, func(a, b Row) int { return first.compare(a[first.Key], b[first.Key]) })
}

// Same reports whether what a device told is what was planned. Of a table the columns count
// that the device tells at all; secrets are never told.
func (s Setting) Same(planned, told string) bool {
	if s.Type == Rows {
		return s.RowsDiffer(planned, told) == ""
	}
	if s.Type == Listing && told != planned {
		return strings.EqualFold(strings.TrimSpace(told), Digest(planned))
	}
	return planned == told || s.Type == Numbers && s.heard(planned) == told
}

// Digest is how a device tells a listing that it does not tell whole: SHA-256 in
// hexadecimal (FIPS 180-4).
func Digest(listing string) string {
	sum := sha256.Sum256([]byte(listing))
	return hex.EncodeToString(sum[:])
}

// RowsDiffer says in words in what a told table differs from the planned one; "" when in
// nothing.
func (s Setting) RowsDiffer(planned, told string) string {
	want, err := ParseRows(planned)
	got, err2 := ParseRows(told)
	if err != nil || err2 != nil {
		return "what it tells is no table"
	}
	byKey, tells := map[string]Row{}, map[string]bool{}
	key := s.Columns[0].Key
	for _, row := range got {
		byKey[row[key]] = row
		for column := range row {
			tells[column] = true
		}
	}
	var list []string
	for _, row := range want {
		has, there := byKey[row[key]]
		delete(byKey, row[key])
		if !there {
			list = append(list, fmt.Sprintf("%s %s is missing", key, row[key]))
			continue
		}
		for _, c := range s.Columns {
			if c.Sealed() { // the device tells whether it works, if anything
				if tells[c.Key] && row[c.Key] != "" && has[c.Key] != "yes" {
					list = append(list, fmt.Sprintf("%s %s: %s does not work", key, row[key], c.Key))
				}
				continue
			}
			if tells[c.Key] && !c.Same(row[c.Key], has[c.Key]) {
				list = append(list, fmt.Sprintf("%s %s: %s is %s, not %s", key, row[key], c.Key, orNothing(has[c.Key]),
					orNothing(row[c.Key])))
			}
		}
	}
	for _, k := range slices.Sorted(maps.Keys(byKey)) {
		list = append(list, fmt.Sprintf("%s %s is not planned", key, k))
	}
	if len(list) > 3 {
		list = append(list[:3], fmt.Sprintf("and %d more", len(list)-3))
	}
	return strings.Join(list, "; ")
}

func orNothing(v string) string {
	if v == "" {
		return "nothing"
	}
	return v
}

// spokenRow gives the variables of one row: {row.COLUMN} in the words of the device.
func (s Setting) spokenRow(row Row) map[string]string {
	vars := map[string]string{}
	for _, c := range s.Columns {
		v := row[c.Key]
		if word, has := c.Words[v]; has {
			v = word
		}
		vars[rowPrefix+c.Key] = v
	}
	return vars
}

// spokenRows gives a table with the device's names for its columns and words for its values.
func (s Setting) spokenRows(value string) string {
	rows, err := ParseRows(value)
	if err != nil {
		return value
	}
	s.sortRows(rows)
	list := []Row{}
	for _, row := range rows {
		theirs, spoken := Row{}, s.spokenRow(row)
		for _, c := range s.Columns {
			name := c.Key
			if c.Told != "" {
				name = c.Told
			}
			theirs[name] = spoken[rowPrefix+c.Key]
		}
		list = append(list, theirs)
	}
	return RowsText(list)
}

// rowPrefix begins the variables of one row.
const rowPrefix = "row."

// EachRow gives the variables for each time that a move is made: once without rows to go
// by, else once for each row of the table that it names.
func (p *Profile) EachRow(m Move, vars map[string]string) ([]map[string]string, error) {
	if m.Each == "" {
		return []map[string]string{nil}, nil
	}
	s := p.Setting(m.Each)
	rows, err := ParseRows(vars[settingPrefix+m.Each])
	if err != nil || s == nil {
		return nil, fmt.Errorf("%s: %w", m.Each, errors.Join(err, errNoTable))
	}
	s.sortRows(rows)
	list := []map[string]string{}
	var ours []map[string]string
	for _, row := range rows {
		if s.Key == PortsSetting && row[s.Columns[0].Key] == PortNumber(vars[OurPort]) {
			ours = append(ours, s.spokenRow(row))
			continue
		}
		list = append(list, s.spokenRow(row))
	}
	return append(list, ours...), nil
}

// OurPort is the variable that holds the switch's own name for the port that we hang on; it
// is set last, since a mistake there cuts us off.
const OurPort = "our-port"

// PortNumber is the number at the end of a port's name: 24 of port24, of gi1/0/24.
func PortNumber(name string) string {
	begins := strings.LastIndexFunc(name, func(r rune) bool { return r < '0' || r > '9' }) + 1
	return strings.TrimLeft(name[begins:], "0")
}

var errNoTable = errors.New("there is no such table")
