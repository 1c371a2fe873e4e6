package plan

import (
	"fmt"
	"slices"

	"redstart/internal/core/profile"
)

// PartRow is the row that an entry without a MAC of its own has in a table of the box that it
// hangs behind.
type PartRow struct {
	Setting *profile.Setting // of that box; nil when no table of it holds such entries
	Row     profile.Row
}

// PartRow makes the row of an entry that hangs behind another; ok is false where it hangs
// behind nothing that the plan has, or is not called anything there yet.
func (p Resolver) PartRow(e Entry) (r PartRow, ok bool) {
	at, there := p.byTag[e.Behind]
	if e.Behind == "" || !there || e.Part == "" {
		return r, false
	}
	box := p.Profiles[p.Entries[at].Profile]
	if box == nil {
		return r, true
	}
	for i := range box.Settings {
		if s := &box.Settings[i]; slices.Contains(s.Parts, e.Kind) {
			r.Setting, r.Row = s, p.partRow(s, e)
		}
	}
	return r, true
}

// partRow fills the columns of a table from an entry.
func (p Plan) partRow(s *profile.Setting, e Entry) profile.Row {
	row := profile.Row{}
	for _, c := range s.Columns {
		if c.Takes == "" {
			continue
		}
		if v := p.partOf(e, c.Takes); v != "" {
			row[c.Key] = v
		}
	}
	return row
}

// withParts adds to the rows of a table those of the entries that hang behind a device, but
// for what is not wired yet or not called anything there.
func (p Resolver) withParts(tag string, s profile.Setting, value string) string {
	if len(s.Parts) == 0 {
		return value
	}
	rows, err := profile.ParseRows(value)
	if err != nil {
		return value // it was found before
	}
	for _, e := range p.PartsOf(tag) {
		if slices.Contains(s.Parts, e.Kind) && e.Part != "" && !e.NotWired {
			rows = append(rows, p.partRow(&s, e))
		}
	}
	return profile.RowsText(rows)
}

// Wired reports whether an entry, and all that it hangs behind, is there already.
func (p Resolver) Wired(e Entry) bool {
	for range len(p.Entries) { // a circle ends too
		at, behind := p.byTag[e.Behind]
		if e.NotWired || e.Behind == "" || !behind {
			break
		}
		e = p.Entries[at]
	}
	return !e.NotWired
}

// PartsOf lists the entries that hang behind one.
func (p Resolver) PartsOf(tag string) (list []Entry) {
	for _, i := range p.behind[tag] {
		list = append(list, p.Entries[i])
	}
	return list
}

// part checks an entry that hangs behind another against what that one takes.
func (c *checker) part(e, box Entry) {
	p, of := c.Profiles[e.Profile], c.Profiles[box.Profile]
	if p != nil && p.Hangs() && !slices.Contains(p.Behind, box.Kind) {
		c.find("behind", e.Tag, "behind", fmt.Sprintf("a %s does not hang behind %s", p.Model, article(box.Kind)), nil)
		return
	}
	if e.Part == "" {
		c.find("part-missing", e.Tag, "part", fmt.Sprintf(
			"what %s calls it is not known yet, so it is left out there; read its card or label", box.Tag), nil)
		return
	}
	if of == nil {
		return
	}
	for i := range of.Settings {
		s := &of.Settings[i]
		if !slices.Contains(s.Parts, e.Kind) {
			continue
		}
		row := c.partRow(s, e)
		for _, column := range s.Columns {
			field := column.Takes
			if column.Sealed() && row[column.Key] != "" {
				continue // its value is in the vault
			}
			switch err := column.Check(row[column.Key]); {
			case field == "":
			case row[column.Key] == "" && column.Required && column.Default == "":
				c.find("setting-missing", e.Tag, field, fmt.Sprintf("%s is not given; %s needs it", column.Label, box.Tag),
					nil)
			case err != nil:
				c.find("setting-value", e.Tag, field, fmt.Sprintf("%s: %q %s", column.Label, row[column.Key], err), nil)
			}
		}
		c.written(e, box, s)
	}
}

// written finds a part that a table names by hand as well.
func (c *checker) written(e, box Entry, s *profile.Setting) {
	rows, err := profile.ParseRows(box.Settings[s.Key])
	if err != nil {
		return
	}
	for _, row := range rows {
		if row[s.Columns[0].Key] == e.Part {
			c.find("behind", e.Tag, "part", fmt.Sprintf("%s of %s has a row for %s as well; take one of the two away",
				s.Label, box.Tag, e.Part), nil)
		}
	}
}
