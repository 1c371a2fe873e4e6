package profile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"redstart/internal/core/fact"
)

// Parts says what a box tells of what hangs behind it, in the table that the act read takes
// as parts.
type Parts struct {
	// Name is the column that holds what the box calls a part.
	Name string `yaml:"name"`
	// Answers are the values of columns that show that a part is there and answers; nil:
	// that the box tells of it shows that.
	Answers map[string]string `yaml:"answers"`
	// Tells are the columns that hold facts of a part, by the fact.
	Tells map[string]string `yaml:"tells"`
}

// Keys of the settings that hold what is on the card of a sensor (LoRa Alliance TR005),
// besides its device EUI, which is the part.
const (
	JoinEUI = "join-eui"
	JoinKey = "key"
)

// TellsParts reports whether the act read takes what hangs behind the box.
func (p *Profile) TellsParts() bool { return p.Parts != nil }

// Hangs reports whether the model has no MAC on the segment and hangs behind another.
func (p *Profile) Hangs() bool { return len(p.Behind) > 0 }

// PartRow is what a box told of one part.
type PartRow struct {
	Name    string
	Answers bool
	State   string            // what it told of whether it answers, in its own words
	Facts   map[string]string // by fact
}

// Rows reads the table that a box told of what hangs behind it.
func (p *Parts) Rows(told string) ([]PartRow, error) {
	rows, err := ParseRows(told)
	if err != nil {
		return nil, err
	}
	var list []PartRow
	for _, row := range rows {
		if row[p.Name] == "" {
			continue
		}
		part := PartRow{Name: row[p.Name], Answers: true, Facts: map[string]string{}}
		var state []string
		for _, column := range slices.Sorted(maps.Keys(p.Answers)) {
			part.Answers = part.Answers && strings.EqualFold(row[column], p.Answers[column])
			state = append(state, column+" "+orNothing(row[column]))
		}
		part.State = strings.Join(state, ", ")
		for f, column := range p.Tells {
			if v := row[column]; v != "" {
				part.Facts[f] = v
			}
		}
		list = append(list, part)
	}
	return list, nil
}

// checkParts checks what is said of parts: a model that hangs behind another says nothing of
// the segment.
func (p *Profile) checkParts() error {
	if p.Hangs() {
		switch {
		case len(p.Acts) > 0 || len(p.Order) > 0 || len(p.Talk) > 0:
			return fmt.Errorf("behind: a model that hangs behind another is set through that one; it has no talk, acts or order of its own")
		case len(p.Recognise) > 0 || len(p.Ports) > 0 || len(p.Ask) > 0 || !p.Factory.Address.None():
			return fmt.Errorf("behind: a model that hangs behind another is not on the segment; it has no recognise, ask, ports or factory address")
		}
		return nil
	}
	takes := slices.ContainsFunc(p.Acts[Read], func(m Move) bool { return slices.Contains(m.Takes(), fact.Parts) })
	switch {
	case p.Parts == nil && takes:
		return fmt.Errorf("the act read takes parts, but nothing under parts says what they mean")
	case p.Parts == nil:
		return nil
	case !takes:
		return fmt.Errorf("parts: the act read does not take them")
	case p.Parts.Name == "":
		return fmt.Errorf("parts: name is missing, the column that tells them apart")
	}
	for f := range p.Parts.Tells {
		if k, known := fact.Of(f); !known || k.By&fact.Acts == 0 {
			return fmt.Errorf("parts: tells: there is no fact %q", f)
		}
	}
	return nil
}
