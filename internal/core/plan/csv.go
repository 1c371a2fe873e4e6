package plan

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
)

// MaxFile is the largest plan file that is read, in bytes.
const MaxFile = 4 << 20

// MaxEntries is the largest number of rows that is read.
const MaxEntries = 20000

// Columns of a plan file. Their order in the file does not matter; address,
// name, mac and serial may be missing.
var Columns = []string{"tag", "kind", "profile", "place", "address", "name", "mac", "serial"}

var needed = []string{"tag", "profile"}

// ReadCSV reads entries from a CSV file (RFC 4180; comma, semicolon or tab)
// and completes them: "next" or nothing as address takes the next free one of
// the site's subnet, "auto" or nothing as name makes it from the tag. The
// entries that already exist count for uniqueness. The file is taken whole or
// not at all: the error is a problem.Error that lists every cell.
func ReadCSV(file []byte, site Site, existing []Entry, profiles profile.Set) ([]Entry, error) {
	refuse := func(cause, next string) ([]Entry, error) {
		return nil, problem.New(problem.Usage, cause, next).About("plan file")
	}
	if len(file) > MaxFile {
		return refuse(fmt.Sprintf("the file is larger than %d MiB; a plan of 5,000 entries needs less than one", MaxFile>>20), "give the plan's CSV file")
	}
	if !site.Subnet.Prefix.IsValid() {
		return nil, problem.New(problem.Conflict, "the site has no subnet yet, so addresses cannot be planned", "set it with: redstart site set --subnet 10.40.8.0/22 --gateway 10.40.8.1")
	}
	file = bytes.TrimPrefix(file, []byte("\ufeff"))
	if !utf8.Valid(file) || bytes.ContainsRune(file, 0) {
		return refuse("the file is not UTF-8 text", "save it from the spreadsheet as “CSV UTF-8”")
	}
	r := csv.NewReader(bytes.NewReader(file))
	r.Comma = delimiter(file)
	r.FieldsPerRecord = -1
	header, err := r.Read()
	if err != nil {
		return refuse("the file has no header row", "begin it with: "+strings.Join(Columns, ","))
	}
	at, cells := columns(header)
	if len(cells) > 0 {
		return nil, refused(cells)
	}
	rows, cells := records(r, at, len(header))
	entries, more := complete(rows, site, existing, profiles)
	if cells = append(cells, more...); len(cells) > 0 {
		slices.SortStableFunc(cells, func(a, b problem.Cell) int { return a.Row - b.Row })
		return nil, refused(cells)
	}
	if len(entries) == 0 {
		return refuse("the file has a header but no entries", "add one row per device")
	}
	return entries, nil
}

func refused(cells []problem.Cell) error {
	count := fmt.Sprintf("%d mistakes", len(cells))
	if len(cells) == 1 {
		count = "one mistake"
	}
	e := problem.New(problem.Usage, "the plan was refused whole because of "+count+"; nothing was changed", "mend the rows and import the file again")
	e.Subject, e.Cells = "plan file", cells
	return e
}

// delimiter guesses from the header which of the usual dividers is used.
func delimiter(file []byte) rune {
	head, _, _ := bytes.Cut(file, []byte("\n"))
	best, count := ',', bytes.Count(head, []byte(","))
	for _, d := range ";\t" {
		if n := bytes.Count(head, []byte(string(d))); n > count {
			best, count = d, n
		}
	}
	return best
}

// columns maps column names to positions.
func columns(header []string) (map[string]int, []problem.Cell) {
	at := map[string]int{}
	var cells []problem.Cell
	for i, h := range header {
		name := strings.ToLower(strings.TrimSpace(h))
		switch _, twice := at[name]; {
		case !slices.Contains(Columns, name):
			cells = append(cells, problem.Cell{Row: 1, Column: clip(h), Reason: "is not a column of a plan; there are " + strings.Join(Columns, ", ")})
		case twice:
			cells = append(cells, problem.Cell{Row: 1, Column: name, Reason: "the column stands there twice"})
		default:
			at[name] = i
		}
	}
	for _, name := range needed {
		if _, ok := at[name]; !ok {
			cells = append(cells, problem.Cell{Row: 1, Column: name, Reason: "the column is missing"})
		}
	}
	return at, cells
}

type record struct {
	row    int
	values map[string]string
}

func records(r *csv.Reader, at map[string]int, width int) ([]record, []problem.Cell) {
	var rows []record
	var cells []problem.Cell
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, cells
		}
		if bad := (*csv.ParseError)(nil); errors.As(err, &bad) {
			// After a quoting error the reader's rows no longer line up with the file's.
			return rows, append(cells, problem.Cell{Row: bad.StartLine, Reason: "the quotes do not pair up; the rows below were not read"})
		}
		row, _ := r.FieldPos(0)
		if len(rows) == MaxEntries {
			return rows, append(cells, problem.Cell{Row: row, Reason: fmt.Sprintf("a plan has at most %d entries", MaxEntries)})
		}
		if strings.TrimSpace(strings.Join(fields, "")) == "" {
			continue
		}
		if len(fields) != width {
			cells = append(cells, problem.Cell{Row: row, Reason: fmt.Sprintf("the row has %d fields, the header %d", len(fields), width)})
			continue
		}
		values := map[string]string{}
		for name, i := range at {
			values[name] = strings.TrimSpace(fields[i])
		}
		rows = append(rows, record{row, values})
	}
}

// complete turns rows into entries. Addresses that were written are taken
// before any "next" is given out, wherever they stand in the file.
func complete(rows []record, site Site, existing []Entry, profiles profile.Set) ([]Entry, []problem.Cell) {
	var cells []problem.Cell
	complain := func(row int, column, value, reason string) {
		cells = append(cells, problem.Cell{Row: row, Column: column, Value: clip(value), Reason: reason})
	}
	entries := make([]Entry, len(rows))
	broken := map[int]map[string]bool{} // fields already complained about
	taken := map[netip.Addr]bool{}
	first := map[string]string{}
	for _, e := range existing {
		taken[e.Address] = true
		for _, u := range e.unique() {
			first[u.field+"\x00"+strings.ToLower(u.value)] = e.Tag + " in the plan"
		}
	}
	for i, rec := range rows {
		v := rec.values
		broken[i] = map[string]bool{}
		e := Entry{Tag: v["tag"], Kind: strings.ToLower(v["kind"]), Profile: v["profile"], Place: v["place"], Name: v["name"], Serial: v["serial"]}
		if p := profiles[e.Profile]; p != nil {
			if e.Kind == "" {
				e.Kind = p.Kind
			}
			if e.Name == "" || strings.EqualFold(e.Name, "auto") {
				e.Name = p.Name.FromTag(e.Tag)
			}
		} else {
			broken[i]["name"] = true // only the profile can tell
		}
		var err error
		if e.MAC, err = address.ParseMAC(v["mac"]); err != nil {
			complain(rec.row, "mac", v["mac"], "is not a MAC address of one device; write six pairs of hexadecimal digits")
		}
		if a := v["address"]; a != "" && !strings.EqualFold(a, "next") {
			if e.Address, err = address.ParseIPv4(a); err != nil {
				complain(rec.row, "address", a, "is not an IPv4 address: four numbers from 0 to 255 divided by dots")
				broken[i]["address"] = true
			}
			taken[e.Address] = true
		}
		entries[i] = e
	}
	for i := range entries {
		e, row := &entries[i], rows[i].row
		if !e.Address.IsValid() && !broken[i]["address"] {
			if e.Address = site.Subnet.nextFree(taken, profiles); !e.Address.IsValid() {
				complain(row, "address", "next", fmt.Sprintf("no free address is left in %s", site.Subnet.Prefix))
				broken[i]["address"] = true
			}
			taken[e.Address] = true
		}
		for _, c := range checkEntry(site, *e, profiles) {
			if !broken[i][c.field] {
				complain(row, c.field, rows[i].values[c.field], c.reason)
			}
		}
		for _, u := range e.unique() {
			key := u.field + "\x00" + strings.ToLower(u.value)
			if u.value == "" {
				continue
			}
			if other, used := first[key]; used {
				complain(row, u.field, u.value, "is already used by "+other)
				continue
			}
			first[key] = fmt.Sprintf("row %d", row)
		}
	}
	return entries, cells
}

// clip shortens a hostile value before it is repeated in a complaint.
func clip(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return s
}
